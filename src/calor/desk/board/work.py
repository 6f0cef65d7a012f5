"""What the Board room has on the line: a link, perhaps a stand-in of its own, and what has come so far."""

from __future__ import annotations

import datetime
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import platformdirs
from PyQt6.QtCore import QObject, pyqtSignal

from calor.board.link import USUAL_BAUD, Link
from calor.board.live import LiveRows
from calor.board.protocol import Answer, Greeting, Row
from calor.board.stand_in import StandIn
from calor.desk.state.desk import Desk
from calor.errors import CalorError

FASTER = 20.0


def records_folder() -> Path:
    """Where what arrives is recorded."""
    return Path(platformdirs.user_data_dir("calor")) / "links"


class BoardWork(QObject):
    """One link at a time. What arrives is kept by the link's own thread, and looked at when the room is drawn."""

    changed = pyqtSignal()
    """Connected or not, what is the matter, what was answered."""
    _came = pyqtSignal(object)
    _answered = pyqtSignal(str, object, str)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.link: Link | None = None
        self.stand_in: StandIn | None = None
        self.rows = LiveRows()
        self.record: Path | None = None
        self.said = ""
        self._lock = threading.Lock()
        self._came.connect(self._show)
        self._answered.connect(self._show_answer)

    @property
    def is_open(self) -> bool:
        """Whether a port is open, or waited for."""
        return self.link is not None

    @property
    def is_busy(self) -> bool:
        """Whether the room is at work: as long as its port is open."""
        return self.is_open

    def baud_of(self, port: str) -> int:
        """The speed that was chosen for a port last."""
        chosen = self._desk.remembered.get("bauds", {})
        value = chosen.get(port, USUAL_BAUD) if isinstance(chosen, dict) else USUAL_BAUD
        return value if isinstance(value, int) else USUAL_BAUD

    def connect_to(self, port: str, baud: int) -> None:
        """Open a port and record what comes from it."""
        self.disconnect_from()
        stamp = datetime.datetime.now().astimezone().strftime("%Y-%m-%d_%H-%M-%S")
        self.record = records_folder() / f"board_{stamp}.csv"
        self.rows = LiveRows()
        try:
            self.record.parent.mkdir(parents=True, exist_ok=True)
            self.link = Link(port, baud, self.record, self._took)
        except (CalorError, OSError) as error:
            self.said = str(error)
        else:
            self.said = f"Open: {port}"
            bauds = self._desk.remembered.get("bauds", {})
            self._desk.remembered.put("bauds", {**(bauds if isinstance(bauds, dict) else {}), port: baud})
        self.changed.emit()

    def start_stand_in(self) -> None:
        """Start the firmware of the open design on a pseudo-terminal, and connect to it."""
        self.close()
        try:
            self.stand_in = StandIn(self._desk.document.design, faster=FASTER, trial=self._desk.document.trial)
        except CalorError as error:
            self.said = str(error)
            self.changed.emit()
            return
        self.stand_in.start()
        self.connect_to(self.stand_in.port, USUAL_BAUD)

    def disconnect_from(self, leaves_output: bool = False) -> None:
        """Close the port; outputs are switched off first, unless they are to be left as they are."""
        if self.link is not None:
            link, self.link = self.link, None
            answer = None if leaves_output else link.off()
            link.close()
            is_off = answer is not None and answer.ok
            self.said = "Closed; outputs off." if is_off else "Closed; the output is as it was."
        self.changed.emit()

    def close(self, leaves_output: bool = False) -> None:
        """End all that is on the line."""
        self.disconnect_from(leaves_output)
        if self.stand_in is not None:
            self.stand_in.close()
            self.stand_in = None

    # ---- what comes, in the link's thread

    def _took(self, item: object) -> None:
        if isinstance(item, Row):
            link = self.link
            with self._lock:
                self.rows.add(item.values, 0.0 if link is None else time.monotonic() - link.began)
        else:
            self._came.emit(item)

    def _show(self, item: object) -> None:
        if isinstance(item, Greeting):
            self.said = f"{item.name}, version {item.version}, step {item.step_s:g} s"
        elif isinstance(item, str):
            self.said = item[:1].upper() + item[1:]
        self.changed.emit()

    def looked_at(self) -> Any:
        """The rows so far as a run; None where there are none yet."""
        with self._lock:
            return self.rows.trace("on the line")

    def latest(self) -> dict[str, float]:
        """The last row."""
        link = self.link
        return {} if link is None or link.last is None else link.last.values

    # ---- what is sent

    def send(self, command: str) -> None:
        """Send a command; what is answered is said."""
        link = self.link
        if link is None:
            return
        self._asking(link, command, lambda: link.ask(command))

    def off(self) -> None:
        """Outputs off, whatever else is on."""
        link = self.link
        if link is not None:
            self._asking(link, "stop", link.off)

    def _asking(self, link: Link, command: str, ask: Callable[[], Answer | None]) -> None:
        def work() -> None:
            try:
                answer = ask()
            except CalorError as error:
                self._answered.emit(command, None, str(error))
            else:
                self._answered.emit(command, answer, "")

        del link
        threading.Thread(target=work, name="asking", daemon=True).start()

    def _show_answer(self, command: str, answer: Answer | None, trouble: str) -> None:
        if answer is not None:
            self.said = f"{'Done' if answer.ok else 'Refused'}: {answer.text}"
        else:
            self.said = trouble or "The board did not answer: switch it off by hand."
        if answer is None or not answer.ok:
            self._desk.say("error", f"{command}: {self.said}")
        self.changed.emit()

    def mark(self, text: str) -> None:
        """Write down that something happened now."""
        with self._lock:
            self.rows.mark(text)
        self.changed.emit()
