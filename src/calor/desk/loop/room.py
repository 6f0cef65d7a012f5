"""The Loop room: design the loop and see what it does."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from calor.desk.loop.log_overlay import LogOverlay
from calor.desk.room import Command, Page, Room
from calor.desk.state.desk import Desk

if TYPE_CHECKING:
    from calor.desk.loop.verdict import VerdictPanel
    from calor.desk.strip.strip import Strip


class LoopRoom(Room):
    """Ribbon, bench, strip, verdict; a recorded run may be laid over."""

    name, title, purpose = "loop", "Loop", "design"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.overlay = LogOverlay(desk)

    def build(self) -> Page:
        from calor.desk.loop.page import LoopPage

        return LoopPage(self.desk)

    @property
    def strip(self) -> Strip:
        """The run over one time axis."""
        strip: Strip = self.page.strip  # type: ignore[attr-defined]
        return strip

    @property
    def verdict(self) -> VerdictPanel:
        """The figures and the advice."""
        verdict: VerdictPanel = self.page.verdict  # type: ignore[attr-defined]
        return verdict

    def commands(self) -> list[Command]:
        runs, view = self.desk.runs, self.desk.view
        return [
            Command("Overlay a log…", "Ctrl+L", self.overlay.ask, "log"),
            Command("Overlay the demo's log", "", self.overlay.take_demo, "log"),
            Command("Remove the log", "", lambda: runs.set_recorded(None), "log", lambda: runs.recorded is not None),
            Command("Pin this run", "Ctrl+P", runs.pin),
            Command("Unpin", "", runs.unpin),
            Command("Edit the trial", "Ctrl+T", lambda: view.choose_bench("trial")),
            Command("Calipers", "", lambda: self.strip.set_calipers(not self.strip.calipers)),
            Command("Whole run", "", self._restore),
            Command("Go to the run", "", lambda: view.choose_room(self.name)),
        ]

    def _restore(self) -> None:
        self.strip.restore()

    def takes(self, path: Path) -> bool:
        self.overlay.take(path)
        return True

    def escape(self) -> bool:
        if self.desk.view.room == self.name and self.is_built and self.strip.calipers:
            self.strip.set_calipers(False)
            return True
        return False

    def close_down(self) -> None:
        self.overlay.close()
