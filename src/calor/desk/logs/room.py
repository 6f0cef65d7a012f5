"""The Logs room: recorded runs, measured, compared, and made into a load."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QFileDialog

from calor.demo import RECORDS
from calor.desk.logs import READ_AGAIN
from calor.desk.room import Command, Entry, Page, Room
from calor.desk.state.desk import Desk
from calor.desk.widgets.places import over_the_window

if TYPE_CHECKING:
    from calor.desk.logs.shelf import Shelf

LOG_FILTER = "Logs (*.csv *.txt *.log *.tsv);;All files (*)"


class LogsRoom(Room):
    """Its shelf, with all that reads and fits, is made when the room is first used."""

    name, title, purpose = "logs", "Logs", "measure"
    has_ribbon, has_bench = False, False

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._shelf: Shelf | None = None

    @property
    def shelf(self) -> Shelf:
        """The records that are open."""
        if self._shelf is None:
            from calor.desk.logs.shelf import Shelf

            self._shelf = Shelf(self.desk)
            self._shelf.worker.changed.connect(self.work_changed)
        return self._shelf

    def build(self) -> Page:
        from calor.desk.logs.page import LogsPage

        page = LogsPage(self.desk, self.shelf)
        page.records.open_asked.connect(self.ask)
        page.records.join_asked.connect(self._ask_to_join)
        page.fit.use_asked.connect(self._use)
        page.fit.trial_asked.connect(self._as_trial)
        page.fit.overlay_asked.connect(self._overlay)
        return page

    @property
    def at_work(self) -> bool:
        return self._shelf is not None and self._shelf.worker.progress() is not None

    def commands(self) -> list[Command]:
        def chosen() -> bool:
            return self._shelf is not None and self._shelf.chosen is not None

        def fitted() -> bool:
            return self._shelf is not None and self._shelf.chosen is not None and self._shelf.chosen.fit is not None

        def overlaid() -> bool:
            return self.desk.runs.recorded_from is not None

        return [
            Command("Measure a log…", "Ctrl+Shift+L", self.ask, "log"),
            Command("Measure the overlaid log", "", self.take_overlaid, "log", overlaid),
            Command(READ_AGAIN, "", self._read_again, "", chosen),
            Command("Fit a load to the record", "Ctrl+Shift+F", self._fit, "", chosen),
            Command("Use the fitted load", "", self._use, "", fitted),
            Command("Add the record as a trial", "", self._as_trial, "", fitted),
        ]

    def entries(self) -> list[Entry]:
        return [Entry(record.title, "made-up record", partial(self._open, *record.paths)) for record in RECORDS]

    def ask(self) -> None:
        """Choose logs and open them."""
        window = over_the_window()
        names, _ = QFileDialog.getOpenFileNames(window, "Measure recorded runs", str(Path.home()), LOG_FILTER)
        self._open(*(Path(name) for name in names))

    def _ask_to_join(self) -> None:
        window = over_the_window()
        names, _ = QFileDialog.getOpenFileNames(window, "More files of the same run", str(Path.home()), LOG_FILTER)
        if names:
            self.shelf.join(*(Path(name) for name in names))

    def _open(self, *paths: Path) -> None:
        for path in paths:
            self.shelf.open(path)
        if paths:
            self.desk.view.choose_room(self.name)

    def take_overlaid(self) -> None:
        """Open the log that lies over the Loop room's run."""
        if self.desk.runs.recorded_from is not None:
            self._open(self.desk.runs.recorded_from)

    def takes(self, path: Path) -> bool:
        if self.desk.view.room != self.name:
            return False
        self.shelf.open(path)
        return True

    # ---- a fit, and what is done with it

    def _read_again(self) -> None:
        self.shelf.read_again()

    def _fit(self) -> None:
        self.shelf.fit()

    def _use(self) -> None:
        from calor.desk.logs.use import use_load

        use_load(self.desk, self.shelf)

    def _as_trial(self) -> None:
        from calor.desk.logs.use import add_trial

        add_trial(self.desk, self.shelf)

    def _overlay(self) -> None:
        from calor.desk.logs.use import beside_law

        if beside_law(self.desk, self.shelf):
            self.desk.view.ask("Go to the run")

    def escape(self) -> bool:
        if self.desk.view.room == self.name and self.is_built and self.page.strip.calipers:  # type: ignore[attr-defined]
            self.page.strip.set_calipers(False)  # type: ignore[attr-defined]
            return True
        return False

    def close_down(self) -> None:
        if self._shelf is not None:
            self._shelf.close()
