"""The notice over the room: what went wrong, or what was done, with a way to take it away."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QWidget

from calor.desk.widgets.fields import label, set_role

MARGIN_PX, WIDEST_PX = 12, 760


class Notice(QFrame):
    """One line over the foot of the room: what went wrong, or what was done, with a way to take it away. It lies over
    the page, so that nothing moves from under the hand."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("notice")
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 5, 12, 5)
        row.setSpacing(8)
        self.text = label("")
        self.text.setWordWrap(True)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.action, self.drop = QPushButton(), QPushButton("Dismiss")
        row.addWidget(self.text, 1)
        row.addWidget(self.action)
        row.addWidget(self.drop)
        self.action.clicked.connect(lambda: self._clicked(0))
        self.drop.clicked.connect(lambda: self._clicked(1))
        self._acts: list[Any] = []
        self._left_px = 0
        self.hide()

    def say(
        self, kind: str, text: str, action: str = "", act: Any = None, drop: str = "Dismiss", dropped: Any = None
    ) -> None:
        """Show a line; of many the first, and how many more there are."""
        lines = text.strip().splitlines() or [""]
        more = f"  (and {len(lines) - 1} more; calor check lists them all)" if len(lines) > 1 else ""
        self.text.setText(lines[0] + more)
        set_role(self, "kind", kind)
        self.action.setVisible(bool(action))
        self.action.setText(action)
        self.drop.setText(drop)
        self._acts = [act, dropped]
        self.show()
        self.settle()
        self.raise_()

    def lie_over(self, page: QWidget, left_px: int) -> None:
        """Lie over the foot of a page, to the right of what is `left_px` wide."""
        self.setParent(page)
        self._left_px = left_px
        page.installEventFilter(self)
        self.hide()

    def settle(self) -> None:
        """Take the place at the foot of the page, as high as the text needs."""
        page = self.parentWidget()
        if page is None or self.isHidden():
            return
        width = min(page.width() - self._left_px - 2 * MARGIN_PX, WIDEST_PX)
        height = self.heightForWidth(width) if self.hasHeightForWidth() else self.sizeHint().height()
        self.setGeometry(self._left_px + MARGIN_PX, page.height() - height - MARGIN_PX, width, height)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Resize:
            self.settle()
        return super().eventFilter(watched, event)

    def _clicked(self, number: int) -> None:
        self.hide()
        act = self._acts[number] if self._acts else None
        if act is not None:
            act()
