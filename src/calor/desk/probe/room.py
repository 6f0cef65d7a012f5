"""The probe's room: its bench opened wide. It is entered from the bench, and closed there."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QApplication, QFileDialog

from calor.desk.probe.survey import ProbeSurvey
from calor.desk.room import Command, Page, Room
from calor.desk.state.desk import Desk
from calor.desk.widgets.places import may_mix, over_the_window
from calor.errors import CalorError, StrangersError

POINTS_FILTER = "Tables (*.csv *.txt *.log *.tsv);;All files (*)"


class ProbeRoom(Room):
    """Curves, error budget, calibration, table and filter of the probe."""

    name, title, purpose = "probe", "Probe", "scale and check"
    on_rail, under = False, "loop"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.survey = ProbeSurvey(desk)
        self._comes_back = False
        """Whether it was left for another block's bench, and opens again with the probe's."""
        desk.view.room_chosen.connect(lambda name: self.survey.set_open(name == self.name))
        desk.view.bench_chosen.connect(self._bench_chosen)

    def build(self) -> Page:
        from calor.desk.probe.page import ProbePage

        page = ProbePage(self.desk, self.survey)
        page.save.clicked.connect(self.ask_scaling)
        page.copy.clicked.connect(self.copy_formula)
        page.calibration.load.clicked.connect(self.ask_calibration)
        return page

    def entered(self) -> None:
        self._comes_back = False
        if self.desk.view.bench != "probe":
            self.desk.view.choose_bench("probe")

    def _bench_chosen(self, block: str, key: str) -> None:
        del key
        view = self.desk.view
        if block != "probe" and view.room == self.name:
            view.go_back()
            self._comes_back = True
        elif block == "probe" and self._comes_back:
            view.choose_room(self.name)

    def _toggle(self) -> None:
        if self.desk.view.room == self.name:
            self.desk.view.go_back()
        else:
            self.desk.view.choose_room(self.name)

    def escape(self) -> bool:
        if self.desk.view.room == self.name:
            self.desk.view.go_back()
            return True
        return False

    def commands(self) -> list[Command]:
        return [
            Command("Probe, opened wide", "Ctrl+B", self._toggle),
            Command("Export the probe's scaling…", "", self.ask_scaling),
            Command("Copy the probe's formula", "", self.copy_formula),
            Command("Import calibration points…", "", self.ask_calibration),
            Command("Compare two probes in a log…", "", self.ask_compare),
        ]

    # ---- the scaling

    def ask_scaling(self) -> None:
        """Choose a folder and write the probe's scaling into it."""
        path = self.desk.document.path
        start = str(path.parent) if path else str(Path.home())
        folder = QFileDialog.getExistingDirectory(over_the_window(), "Folder for the scaling's C", start)
        if folder:
            self.write_scaling(Path(folder))

    def write_scaling(self, folder: Path, force: bool = False) -> None:
        """Write the probe's scaling as C99 into `folder`, and the table that the room shows where there is one."""
        from calor.firmware.sources.scaling import lookup, scaling
        from calor.firmware.sources.written import write_files

        design, latest = self.desk.document.design, self.survey.latest
        try:
            written = write_files(scaling(design), folder, force)
            if latest is not None and latest.lookup is not None:
                written += write_files(lookup(design, latest.lookup), folder, force)
        except StrangersError as error:
            if may_mix(over_the_window(), folder, error.names):
                self.write_scaling(folder, force=True)
            return
        except CalorError as error:
            self.desk.say("error", str(error))
            return
        self.desk.say("note", f"Wrote {', '.join(p.name for p in written)} into {folder}. They are yours (0BSD).")

    def copy_formula(self) -> None:
        """Put the arithmetic from counts to °C onto the clipboard."""
        from calor.sense.describe import formula

        clipboard = QApplication.clipboard()
        if clipboard is not None:
            lines = formula(self.desk.document.design.probe)
            clipboard.setText("\n".join(lines))
            self.desk.say("note", f"Copied {len(lines)} lines: {lines[-1]}")

    # ---- calibration, comparison

    def ask_calibration(self) -> None:
        """Choose a CSV of calibration points and take them."""
        window = over_the_window()
        name, _ = QFileDialog.getOpenFileName(window, "Calibration points", str(Path.home()), POINTS_FILTER)
        if name:
            self.take_calibration(Path(name))

    def take_calibration(self, path: Path) -> None:
        """Take the calibration points of a CSV in place of the probe's own."""
        from calor.sense.point_file import calibration_points

        try:
            points = calibration_points(path)
        except CalorError as error:
            self.desk.say("error", str(error))
            return
        document = self.desk.document
        document.end_merging()
        problem = document.set_values("probe", {"calibration": tuple(point.model_dump() for point in points)})
        if problem is not None:
            self.desk.say("error", f"{path}: {problem.rule}")
            return
        self.desk.say("note", f"Took {len(points)} calibration points of {path.name}.")

    def ask_compare(self) -> None:
        """Choose a log with two probes of one thing, and say how they differ."""
        window = over_the_window()
        name, _ = QFileDialog.getOpenFileName(window, "A log with two probes", str(Path.home()), POINTS_FILTER)
        if name:
            self.compare_probes(Path(name))

    def compare_probes(self, path: Path) -> None:
        """Say how the second probe of a log differs from the first."""
        from calor.log.two_probes import compare_log, in_words

        try:
            comparison = compare_log(path)
        except CalorError as error:
            self.desk.say("error", str(error))
            return
        self.desk.say("note", in_words(comparison, self.desk.view.unit))
