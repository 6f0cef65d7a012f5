"""The one state behind the window: open design, runs, view, what is remembered. Widgets subscribe and call it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from PyQt6.QtCore import QObject, pyqtSignal

from calor.compiled.library import COMPILING
from calor.desk.state.document import Document
from calor.desk.state.journal import KeptRuns
from calor.desk.state.places import Remembered
from calor.desk.state.runs import Runs
from calor.desk.state.simulator import Failure, Simulator
from calor.desk.state.view import View

Kind = Literal["error", "note"]
About = Literal["", "run", "consent"]


@dataclass(frozen=True)
class Note:
    """A line for the whole window: what went wrong, or what was done. `about` says what takes it away again."""

    kind: Kind
    text: str
    about: About = ""
    command: str = ""
    """A command that is offered beside it."""


class Desk(QObject):
    """What the window shows. `document`, `runs` and `view` each say what has changed in them."""

    noticed = pyqtSignal(object)
    """A Note."""

    def __init__(self, simulator: Simulator, remembered: Remembered) -> None:
        super().__init__()
        self.simulator, self.remembered = simulator, remembered
        self.view = View(remembered)
        self.document = Document(remembered)
        self.runs = Runs(self.document, self.view, simulator)
        self.kept = KeptRuns(self.document, self.runs)
        self.document.failed.connect(lambda text: self.say("error", text))
        simulator.failed.connect(self._failed)
        simulator.told.connect(self._told)

    def say(self, kind: Kind, text: str, about: About = "", command: str = "") -> None:
        """Have the window say a line, and offer a command beside it."""
        self.noticed.emit(Note(kind, text, about, command))

    def _failed(self, failure: Failure) -> None:
        about: About = "consent" if failure.asks_consent else "run" if failure.about == "run" else ""
        self.say("error", failure.text, about)

    def _told(self, text: str) -> None:
        """Something about the compiled loop; that it is being compiled is said in the strip."""
        if text != COMPILING:
            self.say("note", f"{text[0].upper()}{text[1:]}")

    def close(self) -> None:
        """The desk closes in good order."""
        self.document.close()
        self.simulator.close()
