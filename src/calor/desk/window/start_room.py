"""The start page as a room: what can be opened, in place of a design."""

from __future__ import annotations

from calor.desk.room import Command, Page, Room
from calor.desk.state.desk import Desk
from calor.desk.window.files import Files


class StartRoom(Room):
    """Shipped designs, and the last ones opened."""

    name, title, purpose = "start", "Start", "choose a design"
    on_rail, has_ribbon, has_bench, shows_design = False, False, False, False

    def __init__(self, desk: Desk, files: Files) -> None:
        super().__init__(desk)
        self._files = files

    def build(self) -> Page:
        from calor.desk.window.start_page import StartPage

        page = StartPage(self.desk, self._files)
        page.back.clicked.connect(self.desk.view.go_back)
        return page

    def entered(self) -> None:
        self.page.show_model()  # type: ignore[attr-defined]

    def _toggle(self) -> None:
        if self.desk.view.room == self.name:
            self.desk.view.go_back()
        else:
            self.desk.view.choose_room(self.name)

    def commands(self) -> list[Command]:
        return [Command("Start page", "Ctrl+H", self._toggle, "start")]

    def escape(self) -> bool:
        if self.desk.view.room == self.name:
            self.desk.view.go_back()
            return True
        return False
