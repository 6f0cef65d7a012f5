"""Opening, saving and offering back: the desk's dealings with files."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, QThread, pyqtSignal
from PyQt6.QtWidgets import QApplication, QFileDialog, QMessageBox, QWidget

from calor.demo import DEMOS, STARTER
from calor.design.model import Design
from calor.desk.state.model import Model
from calor.errors import CalorError, FirmwareError
from calor.firmware.sources.form import PLAIN, Form

DESIGN_FILTER = "Designs (*.toml);;All files (*)"
LOG_FILTER = "Logs (*.csv *.txt *.log *.tsv);;All files (*)"


class _LogReader(QThread):
    """Reads a log beside the window, which stays alive meanwhile."""

    done = pyqtSignal(object, str, str)

    def __init__(self, path: Path, parent: QObject) -> None:
        super().__init__(parent)
        self.path = path

    def run(self) -> None:
        from calor.log.read import read_with_layout

        try:
            trace, layout = read_with_layout(self.path)
        except CalorError as error:
            self.done.emit(None, "", str(error))
        except Exception as error:  # whatever a strange file provokes, the window says it in a line
            self.done.emit(
                None, "", f"{self.path}: cannot be read ({type(error).__name__}: {error}); export it as plain CSV"
            )
        else:
            self.done.emit(trace, str(layout), "")


class _CodeWriter(QThread):
    """Builds, measures and writes the folder of a design's C beside the window, which stays alive meanwhile."""

    done = pyqtSignal(list, str)

    def __init__(self, design: Design, folder: Path, form: Form, parent: QObject) -> None:
        super().__init__(parent)
        self.design, self.folder, self.form = design, folder, form

    def run(self) -> None:
        from calor.firmware import folder as folders

        try:
            written = folders.write(self.design, self.folder, form=self.form)
        except CalorError as error:
            self.done.emit([], str(error))
        except Exception as error:  # whatever a tool chain does, the window says it in a line
            self.done.emit([], f"the C could not be written ({type(error).__name__}: {error})")
        else:
            self.done.emit(written, "")


class Files(QObject):
    """What the file menu does."""

    def __init__(self, model: Model, window: QWidget) -> None:
        super().__init__(window)
        self._model, self._window = model, window
        self._reader: _LogReader | None = None
        self._writer: _CodeWriter | None = None

    def may_go_on(self) -> bool:
        """Ask about unsaved changes; False where the user wants to stay."""
        return not self._model.edited or self.may_leave(self._model.design.name, self.save)

    def may_leave(self, name: str, save_it: Callable[[], bool]) -> bool:
        """Ask about the unsaved changes of something; False where the user wants to stay."""
        box = QMessageBox(self._window)
        box.setWindowTitle("Unsaved changes")
        box.setText(f"{name} has changes that are not saved.")
        save = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Do not save", QMessageBox.ButtonRole.DestructiveRole)
        stay = box.addButton("Go back", QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(save)
        box.setEscapeButton(stay)
        box.exec()
        if box.clickedButton() is save:
            return save_it()
        return box.clickedButton() is drop

    def new(self) -> None:
        """Start from the starter design."""
        if self.may_go_on():
            self._model.open_text(STARTER.read_text(encoding="utf-8"), "starter design")

    def ask_open(self) -> None:
        """Choose a design and open it."""
        if self.may_go_on():
            start = str(self._model.path.parent) if self._model.path else str(Path.home())
            name, _ = QFileDialog.getOpenFileName(self._window, "Open a design", start, DESIGN_FILTER)
            if name:
                self._model.open(Path(name))

    def open(self, path: Path) -> None:
        """Open a design, after asking about unsaved changes."""
        if self.may_go_on():
            self._model.open(path)

    def open_demo(self, number: int) -> None:
        """Open a shipped design as one that has no file yet, so that it is never written over."""
        if self.may_go_on():
            demo = DEMOS[number]
            self._model.open_text(demo.design.read_text(encoding="utf-8"), str(demo.design.name), demo.design.parent)

    def save(self) -> bool:
        """Save where the design came from, or ask where."""
        return self._model.save(self._model.path) if self._model.path else self.save_as()

    def save_as(self) -> bool:
        """Ask where to save, and save there."""
        from calor.firmware.sources.templating import c_name

        start = self._model.path or Path.home() / f"{c_name(self._model.design.name)}.toml"
        name, _ = QFileDialog.getSaveFileName(self._window, "Save the design as", str(start), DESIGN_FILTER)
        if not name:
            return False
        path = Path(name)
        return self._model.save(path if path.suffix else path.with_suffix(".toml"))

    def ask_log(self) -> None:
        """Choose a log and overlay it."""
        name, _ = QFileDialog.getOpenFileName(self._window, "Overlay a recorded run", str(Path.home()), LOG_FILTER)
        if name:
            self.overlay(Path(name))

    def take(self, path: Path) -> None:
        """A dropped file: a design is opened, anything else is read as a log."""
        if path.suffix.lower() == ".toml":
            self.open(path)
        else:
            self.overlay(path)

    def overlay(self, path: Path) -> None:
        """Read a log and overlay it; the window stays alive meanwhile."""
        if self._reader is not None and self._reader.isRunning():
            self._model.noticed.emit("note", f"still reading {self._reader.path.name}")
            return
        self._model.noticed.emit("note", f"reading {path.name} …")
        self._reader = _LogReader(path, self)
        self._reader.done.connect(self._overlaid)
        self._reader.start()

    def _overlaid(self, trace: Any, layout: str, problem: str) -> None:
        if trace is None:
            self._model.noticed.emit("error", problem)
            return
        self._model.set_log(trace)
        self._model.noticed.emit("note", f"{trace.name} read as: {layout}.")

    def overlay_demo(self) -> None:
        """Overlay the recorded run of the open demo, or of the first one."""
        name = self._model.design.name
        log = next((demo.log for demo in DEMOS if demo.title == name), DEMOS[0].log)
        if log is None:
            self._model.noticed.emit("note", f"{name} comes without a recorded run; overlay one of your own by Ctrl+L.")
        else:
            self.overlay(log)

    def ask_code(self, form: Form = PLAIN) -> None:
        """Choose a folder and write the C99 sources into it."""
        start = str(self._model.path.parent) if self._model.path else str(Path.home())
        folder = QFileDialog.getExistingDirectory(self._window, "Folder for the C sources", start)
        if folder:
            self.write_code(Path(folder), form)

    def write_code(self, folder: Path, form: Form = PLAIN) -> None:
        """Write the C99 sources into `folder`; what is stated of a form is measured first, which takes some seconds."""
        if self._writer is not None and self._writer.isRunning():
            self._model.noticed.emit("note", f"still writing into {self._writer.folder}")
            return
        self._model.noticed.emit("note", f"building, measuring and writing into {folder} …")
        self._writer = _CodeWriter(self._model.design, folder, form, self)
        self._writer.done.connect(self._code_written)
        self._writer.start()

    def _code_written(self, written: list[Path], problem: str) -> None:
        if problem or self._writer is None:
            self._model.noticed.emit("error", problem)
            return
        folder = self._writer.folder
        sources = sum(path.suffix == ".c" for path in written)
        self._model.noticed.emit(
            "note", f"Wrote {len(written)} files into {folder}: {sources} sources, their headers and a README. They are"
            " yours (0BSD)."
        )  # fmt: skip

    def ask_scaling(self) -> None:
        """Choose a folder and write the probe's scaling into it."""
        start = str(self._model.path.parent) if self._model.path else str(Path.home())
        folder = QFileDialog.getExistingDirectory(self._window, "Folder for the scaling's C", start)
        if folder:
            self.write_scaling(Path(folder))

    def write_scaling(self, folder: Path) -> None:
        """Write the probe's scaling as C99 into `folder`, and the table that its room shows where there is one."""
        from calor.firmware.sources.scaling import lookup, scaling
        from calor.firmware.sources.templating import write_files

        try:
            written = write_files(scaling(self._model.design), folder)
            survey = self._model.survey
            if survey is not None and survey.lookup is not None:
                written += write_files(lookup(self._model.design, survey.lookup), folder)
        except FirmwareError as error:
            self._model.noticed.emit("error", str(error))
            return
        self._model.noticed.emit(
            "note", f"Wrote {', '.join(p.name for p in written)} into {folder}. They are yours (0BSD)."
        )

    def copy_formula(self) -> None:
        """Put the arithmetic from counts to °C onto the clipboard."""
        from calor.sense.describe import formula

        clipboard = QApplication.clipboard()
        if clipboard is not None:
            lines = formula(self._model.design.probe)
            clipboard.setText("\n".join(lines))
            self._model.noticed.emit("note", f"Copied {len(lines)} lines: {lines[-1]}")

    def ask_calibration(self) -> None:
        """Choose a CSV of calibration points and take them."""
        name, _ = QFileDialog.getOpenFileName(self._window, "Calibration points", str(Path.home()), LOG_FILTER)
        if name:
            self.take_calibration(Path(name))

    def take_calibration(self, path: Path) -> None:
        """Take the calibration points of a CSV in place of the probe's own."""
        from calor.sense.point_file import calibration_points

        try:
            points = calibration_points(path)
        except CalorError as error:
            self._model.noticed.emit("error", str(error))
            return
        self._model.end_merging()
        problem = self._model.set_values("probe", {"calibration": tuple(point.model_dump() for point in points)})
        if problem is not None:
            self._model.noticed.emit("error", f"{path}: {problem.rule}")
            return
        self._model.noticed.emit("note", f"Took {len(points)} calibration points of {path.name}.")

    def ask_compare(self) -> None:
        """Choose a log with two probes of one thing, and say how they differ."""
        name, _ = QFileDialog.getOpenFileName(self._window, "A log with two probes", str(Path.home()), LOG_FILTER)
        if name:
            self.compare_probes(Path(name))

    def compare_probes(self, path: Path) -> None:
        """Say how the second probe of a log differs from the first."""
        from calor.log.two_probes import compare_log, in_words

        try:
            found = compare_log(path)
        except CalorError as error:
            self._model.noticed.emit("error", str(error))
            return
        self._model.noticed.emit("note", in_words(found, self._model.unit))

    def close(self) -> None:
        """Wait for a log that is still being read, and for C that is still being written."""
        for thread in (self._reader, self._writer):
            if thread is not None:
                thread.wait()
