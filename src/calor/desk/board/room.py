"""The Board room: the thermostat itself on the line."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calor.desk.room import Command, Page
from calor.desk.state.desk import Desk
from calor.desk.widgets.places import BACK, choice, over_the_window
from calor.desk.work_room import WorkRoom

if TYPE_CHECKING:
    from calor.desk.board.work import BoardWork

OFF, AS_IT_IS = "Output off", "Leave it as it is"


class BoardRoom(WorkRoom["BoardWork"]):
    """What is on the line stays there when the room is left."""

    name, title, purpose = "board", "Board", "live link"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._leaves_output = False
        self.urgent = Command("Output off", "", self._off, "", self._is_open)

    def make_work(self) -> BoardWork:
        from calor.desk.board.work import BoardWork

        return BoardWork(self.desk)

    def build(self) -> Page:
        from calor.desk.board.page import BoardPage

        return BoardPage(self.desk, self.work)

    def commands(self) -> list[Command]:
        return [
            Command("Start the stand-in", "", self._stand_in, "", lambda: not self.at_work),
            Command("Output off", "", self._off, "", self._is_open),
            Command("Run the trial with the board", "", self._run_in_loop, "", self._is_open),
        ]

    def _is_open(self) -> bool:
        return self._work is not None and self._work.is_open

    def _stand_in(self) -> None:
        self.desk.view.choose_room(self.name)
        self.work.start_stand_in()

    def _run_in_loop(self) -> None:
        self.work.run_in_loop()

    def _off(self) -> None:
        self.work.off()

    def escape(self) -> bool:
        if self._is_open() and self.desk.view.room == self.name:
            self.work.off()
            return True
        return False

    def may_close(self) -> bool:
        work = self._work
        if work is None or work.link is None or work.stand_in is not None:
            return True
        text = f"The board on {work.link.port} is on the line. What is to become of its output?"
        chosen = choice(over_the_window(), "Output of the board", text, (OFF, AS_IT_IS), OFF)
        self._leaves_output = chosen == AS_IT_IS
        return chosen != BACK

    def close_down(self) -> None:
        if self._work is not None:
            self._work.close(self._leaves_output)
