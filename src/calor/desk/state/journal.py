"""The journal behind the desk: opened when it is first needed; runs kept, changed, taken out, and opened again."""

from __future__ import annotations

import contextlib
import threading
from pathlib import Path
from typing import TYPE_CHECKING, Any

import platformdirs
from PyQt6.QtCore import QObject, pyqtSignal

from calor.desk.state.document import Document
from calor.desk.state.runs import Runs
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.design.model import Design
    from calor.design.trial import Trial
    from calor.journal.entry import Kept
    from calor.journal.keeping import Opened
    from calor.journal.store import Journal
    from calor.loop.trace import Trace


def opened_folder() -> Path:
    """Where the files of kept runs are put while they are looked at."""
    return Path(platformdirs.user_state_dir("calor")) / "journal"


class KeptRuns(QObject):
    """The kept runs; every change is written at once."""

    changed = pyqtSignal()
    """Runs were kept, changed or taken out."""
    run_opened = pyqtSignal(int)
    """A run that was asked for is there, or could not be opened: its number."""
    _ready = pyqtSignal(int, object, str)

    def __init__(self, document: Document, runs: Runs) -> None:
        super().__init__()
        self._document, self._runs = document, runs
        self._book: Journal | None = None
        self.rows: list[Kept] = []
        self.opened: dict[int, Opened] = {}
        self.troubles: dict[int, str] = {}
        self._asked: set[int] = set()
        self._ready.connect(self._take)

    def book(self) -> Journal:
        """The journal. Raises CalorError where it cannot be opened."""
        if self._book is None:
            from calor.journal.store import Journal

            self._book = Journal()
            self.read()
        return self._book

    @property
    def said(self) -> list[str]:
        """What was mended as it was opened."""
        return self.book().said

    def read(self) -> None:
        """Look at what is kept now; others may have written, too."""
        self.rows = self.book().rows()
        self.changed.emit()

    def close(self) -> None:
        """Close the file."""
        if self._book is not None:
            self._book.close()
            self._book = None

    # ---- keeping

    def keep_run(self) -> int:
        """Keep the current run; its number. Raises CalorError where there is none, or it cannot be kept."""
        from calor.journal import keeping

        outcome = self._runs.current
        if outcome is None:
            raise CalorError("", "there is no run to keep")
        request = outcome.request
        text = self._document.text() if request.design == self._document.design else ""
        entry, parts = keeping.simulated(request.design, request.trial, outcome.trace, request.controller, text=text)
        return self._keep(entry, parts)

    def keep_record(self, path: Path) -> int:
        """Keep a recorded run, judged by the open design's limits; its number. Raises CalorError."""
        from calor.journal import keeping
        from calor.log.read import read_record

        return self._keep(*keeping.recorded(path, read_record(path), self._document.design))

    def _keep(self, entry: Kept, parts: dict[str, bytes]) -> int:
        number = self.book().keep(entry, parts)
        self.read()
        return number

    def write(self, number: int, **values: Any) -> None:
        """Change a run's note, tags or pin. Raises CalorError."""
        self.book().write(number, **values)
        self.read()

    def remove(self, numbers: list[int]) -> None:
        """Take runs out for good. Raises CalorError."""
        self.book().remove(numbers)
        for number in numbers:
            self.opened.pop(number, None)
        self.read()

    def export(self, entries: list[Kept], out: Path) -> int:
        """Write runs to a folder or a zip; how many. Raises CalorError."""
        from calor.journal import exchange

        return exchange.export(self.book(), entries, out)

    def take_in(self, path: Path) -> tuple[int, int]:
        """Take runs in: how many are new, how many were there. Raises CalorError."""
        from calor.journal import exchange

        answer = exchange.take_in(self.book(), path)
        self.read()
        return answer

    # ---- opening

    def design_text(self, number: int) -> str:
        """The text of a run's design; empty where it has none."""
        from calor.journal import keeping

        return keeping.design_of(self.book().parts(number))

    def folder_of(self, entry: Kept) -> Path:
        """Where the files of a run are put."""
        return opened_folder() / entry.uid

    def put(self, entry: Kept) -> Path:
        """Put a run's files where they can be read; the folder. Raises CalorError."""
        from calor.journal import keeping

        folder = self.folder_of(entry)
        try:
            keeping.put(self.book().parts(entry.number), folder)
        except (OSError, ValueError) as error:
            raise CalorError(folder, f"cannot be written ({error})") from None
        return folder

    def open(self, entry: Kept) -> None:
        """Have a run made again, or its record read; `run_opened` when it is there."""
        if entry.number in self.opened or entry.number in self._asked:
            return
        self._asked.add(entry.number)
        parts, folder = self.book().parts(entry.number), self.folder_of(entry)
        threading.Thread(target=self._open, args=(entry, parts, folder), name="kept run", daemon=True).start()

    def _open(self, entry: Kept, parts: dict[str, bytes], folder: Path) -> None:
        from calor import loop
        from calor.firmware.controller.seat import seated
        from calor.journal import keeping

        def run(design: Design, trial: Trial, controller: str) -> Trace:
            with seated(design, controller) as seat:
                return loop.run(design, trial, None, seat)

        with contextlib.suppress(RuntimeError):  # at the very end the receiver may be gone
            try:
                one = keeping.opened(entry, parts, folder, run)
            except CalorError as error:
                self._ready.emit(entry.number, None, str(error))
            else:
                self._ready.emit(entry.number, one, "")

    def _take(self, number: int, one: Opened | None, said: str) -> None:
        self._asked.discard(number)
        if one is not None:
            self.opened[number] = one
            self.troubles.pop(number, None)
        else:
            self.troubles[number] = said
        self.run_opened.emit(number)
