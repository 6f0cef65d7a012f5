"""The Proof room: what passes once, tried over single faults and tolerances."""

from __future__ import annotations

from typing import TYPE_CHECKING

from calor.desk.room import Command, Page
from calor.desk.work_room import WorkRoom

if TYPE_CHECKING:
    from calor.desk.proof.work import ProofWork


class ProofRoom(WorkRoom["ProofWork"]):
    """Runs go on when the room is left."""

    name, title, purpose = "proof", "Proof", "pass / fail"

    def make_work(self) -> ProofWork:
        from calor.desk.proof.work import ProofWork

        return ProofWork(self.desk)

    def build(self) -> Page:
        from calor.desk.proof.page import ProofPage

        return ProofPage(self.desk, self.work)

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
