"""The Loop room's page: the strip, and the verdict beside it."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from calor.desk.loop.verdict import VerdictPanel
from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.strip.strip import Strip
from calor.desk.widgets import theme as look


class LoopPage(Page):
    """The run and what is said of it."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("page")
        self.strip, self.verdict = Strip(desk), VerdictPanel(desk)
        across = QHBoxLayout(self)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(self.strip, 1)
        across.addWidget(self.verdict)

    def set_theme(self, theme: look.Theme) -> None:
        self.strip.set_theme(theme)

    def tab_order(self) -> list[QWidget]:
        return [self.strip.caliper_button, self.strip.whole_button, self.strip]

    def focus(self) -> None:
        self.strip.setFocus(Qt.FocusReason.OtherFocusReason)
