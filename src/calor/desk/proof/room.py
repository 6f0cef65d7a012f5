"""The Proof room: what passes once, tried over single faults and tolerances."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calor.desk.room import Command, Page, Room
from calor.desk.state.desk import Desk

if TYPE_CHECKING:
    from calor.desk.proof.work import ProofWork


class ProofRoom(Room):
    """Runs go on when the room is left."""

    name, title, purpose = "proof", "Proof", "pass / fail"
    has_ribbon, has_bench = False, False

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._work: ProofWork | None = None

    @property
    def work(self) -> ProofWork:
        """What is going on, and what came of it."""
        if self._work is None:
            from calor.desk.proof.work import ProofWork

            self._work = ProofWork(self.desk)
            self._work.changed.connect(self.work_changed)
        return self._work

    def build(self) -> Page:
        from calor.desk.proof.page import ProofPage

        return ProofPage(self.desk, self.work)

    @property
    def at_work(self) -> bool:
        return self._work is not None and self._work.is_busy

    def commands(self) -> list[Command]:
        return [
            Command("Prove the design", "", self._prove, "", lambda: not self.at_work),
            Command("Stop proving", "", self._stop, "", lambda: self.at_work),
        ]

    def _prove(self) -> None:
        self.desk.view.choose_room(self.name)
        self.work.begin()

    def _stop(self) -> None:
        self.work.stop()

    def escape(self) -> bool:
        if self.at_work and self.desk.view.room == self.name:
            self.work.stop()
            return True
        return False

    def close_down(self) -> None:
        if self._work is not None:
            self._work.close()
