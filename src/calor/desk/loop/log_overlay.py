"""A recorded run laid over the simulated one: chosen, read beside the window, shown."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, QThread, pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from calor.demo import DEMOS
from calor.desk.state.desk import Desk
from calor.desk.widgets.places import over_the_window
from calor.errors import CalorError
from calor.loop.trace import Trace
from calor.mistakes import in_words

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
            self.done.emit(None, "", f"{self.path}: cannot be read: {in_words(error)}; export it as plain CSV")
        else:
            self.done.emit(trace, str(layout), "")


class LogOverlay(QObject):
    """Takes a recorded run into the desk."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._reader: _LogReader | None = None

    def ask(self) -> None:
        """Choose a log and overlay it."""
        window = over_the_window()
        name, _ = QFileDialog.getOpenFileName(window, "Overlay a recorded run", str(Path.home()), LOG_FILTER)
        if name:
            self.take(Path(name))

    def take(self, path: Path) -> None:
        """Read a log and overlay it; the window stays alive meanwhile."""
        if self._reader is not None and self._reader.isRunning():
            self._desk.say("note", f"still reading {self._reader.path.name}")
            return
        self._desk.say("note", f"reading {path.name} …")
        self._reader = _LogReader(path, self)
        self._reader.done.connect(self._read)
        self._reader.start()

    def _read(self, trace: Trace | None, layout: str, problem: str) -> None:
        path = self._reader.path if self._reader is not None else None
        if trace is None:
            self._desk.say("error", problem)
            return
        self._desk.runs.set_recorded(trace, path)
        self._desk.say("note", f"{trace.name} read as: {layout}.", command="Measure the overlaid log")

    def take_demo(self) -> None:
        """Overlay the recorded run of the open demo, or of the first one."""
        name = self._desk.document.design.name
        log = next((demo.log for demo in DEMOS if demo.title == name), DEMOS[0].log)
        if log is None:
            self._desk.say("note", f"{name} comes without a recorded run; overlay one of your own by Ctrl+L.")
        else:
            self.take(log)

    def close(self) -> None:
        """Wait for a log that is still being read."""
        if self._reader is not None:
            self._reader.wait()
