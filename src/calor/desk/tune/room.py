"""The Tune room: a test on the simulated load, every rule's gains side by side, and a search that beats them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calor.desk.room import Command, Page
from calor.desk.work_room import WorkRoom

if TYPE_CHECKING:
    from calor.desk.tune.work import TuneWork


class TuneRoom(WorkRoom["TuneWork"]):
    """What is found out and searched for is made when the room is first used, and goes on when it is left."""

    name, title, purpose = "tune", "Tune", "find gains"

    def make_work(self) -> TuneWork:
        from calor.desk.tune.work import TuneWork

        return TuneWork(self.desk)

    def build(self) -> Page:
        from calor.desk.tune.page import TunePage

        return TunePage(self.desk, self.work)

    def entered(self) -> None:
        # the first look costs a second or two, and is what the room is for
        self.work.first_look()

    def commands(self) -> list[Command]:
        return [
            Command("Find gains", "", self._find, "", lambda: not self.at_work),
            Command("Search for gains", "", self._search, "", self._may_search),
        ]

    def _find(self) -> None:
        self.desk.view.choose_room(self.name)
        self.work.find()

    def _search(self) -> None:
        self.work.search()

    def _may_search(self) -> bool:
        return self._work is not None and self._work.may_search and not self.at_work

    def escape(self) -> bool:
        if self.at_work:
            self.work.stop()
            return True
        return False
