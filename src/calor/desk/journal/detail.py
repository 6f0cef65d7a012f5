"""What is known of the chosen run: its note, tags and pin, figures, or two side by side with what their designs differ
in."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from calor.desk.journal.run_list import FIGURES, shown_figure
from calor.desk.widgets.fields import emptied, label, scrolling
from calor.desk.widgets.keys import timer
from calor.journal.entry import MOST_NOTE, Kept, tags_of
from calor.journal.find import Compared, figure
from calor.units import TemperatureUnit

WIDTH_PX, NOTE_PX, WRITE_AFTER_MS, MOST_CHANGES = 306, 84, 600, 60


class Detail(QFrame):
    """Shows and edits what is written about a run."""

    note_written = pyqtSignal(int, str)
    tags_written = pyqtSignal(int, tuple)
    pin_toggled = pyqtSignal(int, bool)
    loop_asked = pyqtSignal()
    remove_asked = pyqtSignal()
    export_asked = pyqtSignal()
    report_asked = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("verdict")
        self.setFixedWidth(WIDTH_PX)
        self._number, self._note = 0, ""
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 0, 0, 0)
        column.setSpacing(6)
        self.title, self.about = label("", "heading"), label("", "quiet")
        for one in (self.title, self.about):
            one.setWordWrap(True)
            column.addWidget(one)
        self.note, self.tags, self.pin = QPlainTextEdit(), QLineEdit(), QCheckBox("Pinned: it is not removed")
        self.note.setPlaceholderText("Note: what worked, what was seen, what to try next.")
        self.note.setAccessibleName("Note")
        self.note.setFixedHeight(NOTE_PX)
        self.note.setTabChangesFocus(True)
        self.tags.setPlaceholderText("Tags, with commas between")
        self.tags.setAccessibleName("Tags")
        self._typed = timer(self, WRITE_AFTER_MS, self.write, once=True)
        self.note.textChanged.connect(self._note_typed)
        self.tags.editingFinished.connect(self._tags_typed)
        self.pin.clicked.connect(lambda on: self.pin_toggled.emit(self._number, on))
        for widget in (self.note, self.tags, self.pin):
            column.addWidget(widget)
        scroll, self._lines = scrolling(3, 8)
        column.addWidget(scroll, 1)
        self.loop, self.remove = QPushButton("To the Loop room"), QPushButton("Remove")
        self.export, self.report = QPushButton("Export…"), QPushButton("Report…")
        self.loop.setProperty("role", "main")
        column.addWidget(self.loop)
        row = QHBoxLayout()
        for button, asked in (
            (self.loop, self.loop_asked), (self.report, self.report_asked), (self.export, self.export_asked),
            (self.remove, self.remove_asked),
        ):  # fmt: skip
            button.clicked.connect(asked)
            if button is not self.loop:
                row.addWidget(button)
        column.addLayout(row)

    def tab_order(self) -> list[QWidget]:
        """What the Tab key reaches, in its order."""
        return [self.note, self.tags, self.pin, self.loop, self.report, self.export, self.remove]

    def _note_typed(self) -> None:
        if self._number:
            self._typed.start()

    def write(self) -> None:
        """Write the note down now."""
        if self._typed.isActive():
            self._typed.stop()
        if self._number and self.note.document() is not None and self.note.toPlainText() != self._note:
            self._note = self.note.toPlainText()[:MOST_NOTE]
            self.note_written.emit(self._number, self._note)

    def _tags_typed(self) -> None:
        if self._number and self.tags.isModified():
            self.tags.setModified(False)
            self.tags_written.emit(self._number, tags_of(self.tags.text()))

    def show_runs(
        self, picked: list[Kept], compared: Compared | None, differences: tuple[str, ...], trouble: str,
        unit: TemperatureUnit,
    ) -> None:  # fmt: skip
        """Show the one run that is chosen, or the first two side by side."""
        first = picked[0] if picked else None
        if first is None or first.number != self._number:
            self.write()
        single = len(picked) == 1
        for widget in (self.note, self.tags, self.pin, self.loop, self.report):
            widget.setVisible(single)
        for widget in (self.export, self.remove):
            widget.setVisible(bool(picked))
        emptied(self._lines)
        self.title.setVisible(first is not None)
        if first is None:
            self._number = 0
            self.title.setText("")
            self.about.setText("Choose a run; with Ctrl a second one, to compare them.")
            return
        if single:
            self._show_one(first, differences, trouble, unit)
        elif compared is not None:
            self._number = 0
            self._show_two(compared, unit)
        else:
            self._number = 0
            self.title.setText(f"{len(picked)} runs")
            self.about.setText("Choose two of them to compare them.")
        self._lines.addStretch(1)

    def _show_one(self, entry: Kept, differences: tuple[str, ...], trouble: str, unit: TemperatureUnit) -> None:
        self.title.setText(f"Run {entry.number}: {entry.design}")
        who = "" if entry.controller == "python" else f", decided by {entry.controller}"
        made = entry.made[:16].replace("T", " ")
        self.about.setText(f"{entry.trial}\n{entry.kind}{who}, kept {made} UTC by Calor {entry.version}")
        if entry.number != self._number:
            self._number, self._note = 0, entry.note
            self.note.setPlainText(entry.note)
            self._number = entry.number
        if not self.tags.hasFocus():
            self.tags.setText(", ".join(entry.tags))
        self.pin.setChecked(entry.pinned)
        if trouble:
            self._say(trouble, "problem")
        if differences:
            self._say("Run again, some figures are others than when it was kept:", "problem")
            for line in differences:
                self._say(line, "quiet")
        grid = self._grid()
        judged = {name: (limit, keeps) for name, limit, _, keeps in entry.limits}
        by_metric = _limit_of_metric()
        for row, key in enumerate(_keys(entry)):
            limit = judged.get(by_metric.get(key, ""))
            mark = "" if limit is None else "✓" if limit[1] else "✕"
            role = "" if limit is None else "passed" if limit[1] else "failed"
            value = shown_figure(key, figure(entry, key), unit)
            self._cells(grid, row, (FIGURES.get(key, key), ""), (value, role), (mark, role))

    def _show_two(self, found: Compared, unit: TemperatureUnit) -> None:
        one, other = found.first, found.second
        self.title.setText(f"Run {one.number} and run {other.number}")
        self.about.setText(f"{one.design}: {one.trial}\n{other.design}: {other.trial}")
        grid = self._grid()
        self._cells(grid, 0, ("", ""), (f"run {one.number}", "quiet"), (f"run {other.number}", "quiet"))
        for row, (key, first, second) in enumerate(found.figures, 1):
            self._cells(
                grid, row, (FIGURES.get(key, key), ""), (shown_figure(key, first, unit), ""),
                (shown_figure(key, second, unit), ""),
            )  # fmt: skip
        self._say("")
        self._say("In what the designs differ, older → newer", "heading")
        for line in found.in_words(unit)[:MOST_CHANGES]:
            self._say(line)
        if not found.changes:
            self._say("In nothing.", "quiet")
        elif len(found.changes) > MOST_CHANGES:
            self._say(f"and {len(found.changes) - MOST_CHANGES} more", "quiet")

    def _grid(self) -> QGridLayout:
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 2, 0, 2)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(3)
        grid.setColumnStretch(0, 1)
        self._lines.addWidget(holder)
        return grid

    @staticmethod
    def _cells(grid: QGridLayout, row: int, *cells: tuple[str, str]) -> None:
        for column, (text, role) in enumerate(cells):
            one = label(text, role)
            if column:
                one.setAlignment(Qt.AlignmentFlag.AlignRight)
            grid.addWidget(one, row, column)

    def _say(self, text: str, role: str = "") -> Any:
        line = label(text, role)
        line.setWordWrap(True)
        self._lines.addWidget(line)
        return line


def _keys(entry: Kept) -> list[str]:
    """A run's figures, those that have a name first and in its order."""
    return [key for key in FIGURES if key in entry.metrics] + [key for key in entry.metrics if key not in FIGURES]


def _limit_of_metric() -> dict[str, str]:
    from calor.design.trial import limited

    return {rule.metric: name for name, rule in limited().items()}
