"""Ctrl+K: any command, setting, trial or design by a few letters of its name."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from calor.desk.room import Entry
from calor.desk.widgets.fields import label


def matches(query: str, entry: Entry) -> int | None:
    """How well an entry fits a query, lower is better; None where a word of the query is not in it."""
    text = f"{entry.name} {entry.what}".lower()
    words = query.lower().split()
    if not all(word in text for word in words):
        return None
    starts = sum(any(part.startswith(word) for part in entry.name.lower().split()) for word in words)
    return len(words) - starts


class Search(QDialog):
    """A line and a list: type, choose with the arrow keys, Return."""

    def __init__(self, parent: QWidget, entries: list[Entry]) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self._entries = entries
        self.setObjectName("search")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFixedWidth(520)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 10, 10, 10)
        column.setSpacing(6)
        self.line = QLineEdit()
        self.line.setPlaceholderText("Find a command, a setting, a trial or a design")
        self.line.textChanged.connect(self._filter)
        self.line.installEventFilter(self)
        self.list = QListWidget()
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.itemClicked.connect(lambda _: self._act())
        self.none = label("Nothing of that name. Try fewer letters.", "quiet")
        for widget in (self.line, self.list, self.none):
            column.addWidget(widget)
        self._filter("")
        window = parent.window() or parent
        self.move(
            window.mapToGlobal(window.rect().center()).x() - 260, window.mapToGlobal(window.rect().topLeft()).y() + 90
        )

    def _filter(self, query: str) -> None:
        ranked = [(rank, k) for k, entry in enumerate(self._entries) if (rank := matches(query, entry)) is not None]
        self.list.clear()
        for _, number in sorted(ranked)[:60]:
            entry = self._entries[number]
            item = QListWidgetItem(f"{entry.name}   ·   {entry.what}")
            item.setData(Qt.ItemDataRole.UserRole, number)
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        self.list.setFixedHeight(4 + 25 * min(max(self.list.count(), 1), 12))
        self.list.setVisible(bool(ranked))
        self.adjustSize()
        self.none.setVisible(not ranked)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is None:
            return False
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 8, Qt.Key.Key_PageUp: -8}.get(
                Qt.Key(event.key())
            )
            if step is not None:
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._act()
                return True
        return super().eventFilter(watched, event)

    def _act(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            entry = self._entries[item.data(Qt.ItemDataRole.UserRole)]
            self.accept()
            entry.act()
