"""The folder of a design's C: chosen, then built, measured and written beside the window."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, QThread, pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from calor.design.model import Design
from calor.desk.state.desk import Desk
from calor.desk.widgets.places import may_mix, over_the_window
from calor.errors import CalorError, StrangersError
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.ports import Port
from calor.mistakes import in_words


class _CodeWriter(QThread):
    """Builds, measures and writes the folder of a design's C beside the window, which stays alive meanwhile."""

    done = pyqtSignal(list, str)

    def __init__(
        self, design: Design, folder: Path, form: Form, port: Port | None, force: bool, parent: QObject
    ) -> None:
        super().__init__(parent)
        self.design, self.folder, self.form, self.port, self.force = design, folder, form, port, force
        self.strangers: list[str] = []

    def run(self) -> None:
        from calor.firmware import folder as folders

        try:
            written = folders.made(self.design, form=self.form, port=self.port).write(self.folder, self.force)
        except StrangersError as error:
            self.strangers = error.names
            self.done.emit([], str(error))
        except CalorError as error:
            self.done.emit([], str(error))
        except Exception as error:  # whatever a tool chain does, the window says it in a line
            self.done.emit([], f"the C could not be written: {in_words(error)}")
        else:
            self.done.emit(written, "")


class CodeExport(QObject):
    """Exports the C of the open design."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._writer: _CodeWriter | None = None

    def ask(self, form: Form = PLAIN, port: Port | None = None) -> None:
        """Choose a folder and write the C99 sources into it, with the whole program for a bare chip where one is
        named."""
        path = self._desk.document.path
        start = str(path.parent) if path else str(Path.home())
        folder = QFileDialog.getExistingDirectory(over_the_window(), "Folder for the C sources", start)
        if folder:
            self.write(Path(folder), form, port)

    def write(self, folder: Path, form: Form = PLAIN, port: Port | None = None, force: bool = False) -> None:
        """Write the C99 sources into `folder`; what is stated of a form is measured first, which takes some seconds.

        A folder that holds what Calor did not write is asked about, unless that was said with `force`.
        """
        if self._writer is not None and self._writer.isRunning():
            self._desk.say("note", f"still writing into {self._writer.folder}")
            return
        self._desk.say("note", f"building, measuring and writing into {folder} …")
        self._writer = _CodeWriter(self._desk.document.design, folder, form, port, force, self)
        self._writer.done.connect(self._written)
        self._writer.start()

    def _written(self, written: list[Path], problem: str) -> None:
        writer = self._writer
        if writer is not None:
            writer.wait()  # it has said its last, and ends
        if writer is not None and writer.strangers:
            self._desk.say("note", f"Nothing was written into {writer.folder}.")
            if may_mix(over_the_window(), writer.folder, writer.strangers):
                self.write(writer.folder, writer.form, writer.port, force=True)
            return
        if problem or self._writer is None:
            self._desk.say("error", problem)
            return
        sources = sum(path.suffix == ".c" for path in written)
        self._desk.say(
            "note",
            f"Wrote {len(written)} files into {self._writer.folder}: {sources} sources, their headers and a README."
            " They are yours (0BSD).",
        )

    def close(self) -> None:
        """Wait for C that is still being written."""
        if self._writer is not None:
            self._writer.wait()
