"""The Code room: the C of the design, controller code of your own, what it costs, and whether all agree."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calor.desk.code.export import CodeExport
from calor.desk.room import Command, Page, Room, Unsaved
from calor.desk.state.desk import Desk

if TYPE_CHECKING:
    from calor.desk.code.page import CodePage


class CodeRoom(Room):
    """Firmware: sources, build, check, export."""

    name, title, purpose = "code", "Code", "firmware"
    reads_code = True

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.export = CodeExport(desk)
        self._code_page: CodePage | None = None

    def build(self) -> Page:
        from calor.desk.code.page import CodePage

        page = self._code_page = CodePage(self.desk)
        page.panel.save.clicked.connect(self._ask_export)
        page.panel.busy_changed.connect(self.work_changed)
        return page

    def _ask_export(self) -> None:
        if self._code_page is None:
            self.export.ask()
        else:
            self.export.ask(self._code_page.form, self._code_page.panel.port.currentData())

    @property
    def at_work(self) -> bool:
        return self._code_page is not None and self._code_page.panel.is_busy

    def commands(self) -> list[Command]:
        return [Command("Export the C…", "Ctrl+E", self._ask_export, "log")]

    def unsaved(self) -> list[Unsaved]:
        files = self._code_page.unsaved() if self._code_page is not None else []
        return [Unsaved(item.path.name, item.save) for item in files]

    def close_down(self) -> None:
        self.export.close()
        if self._code_page is not None:
            self._code_page.close_down()
