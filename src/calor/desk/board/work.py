"""What the Board room has on the line: a link, perhaps a stand-in of its own, what has come so far, and what the board
says of itself."""

from __future__ import annotations

import datetime
import threading
import time
from pathlib import Path
from typing import Any

import platformdirs
from PyQt6.QtCore import QObject, pyqtSignal

from calor.board.heard import Heard
from calor.board.link import USUAL_BAUD, USUAL_FRAMING, Link
from calor.board.live import LiveRows
from calor.board.modbus import ModbusLink
from calor.board.modbus_map import ModbusMap, read_map
from calor.board.protocol import Greeting, Row, row_of
from calor.board.stand_in import StandIn
from calor.desk.board.asking import Asked, Asking
from calor.desk.board.looped import LoopedRun
from calor.desk.state.desk import Desk
from calor.errors import CalorError

FASTER = 20.0
LINES = "lines"
"""What a port speaks where it is no controller with a map."""


def records_folder() -> Path:
    """Where what arrives is recorded."""
    return Path(platformdirs.user_data_dir("calor")) / "links"


class BoardWork(QObject):
    """One link at a time. What arrives is kept by the link's own thread, and looked at when the room is drawn."""

    changed = pyqtSignal()
    """Connected or not, what is the matter, what was answered."""
    values_changed = pyqtSignal()
    """What can be set has another value on the board, or its front shows something else."""
    _came = pyqtSignal(object)
    _answered = pyqtSignal(object)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.link: Heard | None = None
        self.stand_in: StandIn | None = None
        self.rows = LiveRows()
        self.record: Path | None = None
        self.said, self.is_trouble = "", False
        self.values: dict[str, float] = {}
        """What can be set, as it is on the board."""
        self.front: tuple[str, str] | None = None
        self.looped = LoopedRun(desk)
        self._held: tuple[str, ...] = ()
        self._asking: Asking | None = None
        self._next_value = 0
        self._lock = threading.Lock()
        self._came.connect(self._show)
        self._answered.connect(self._show_answer)
        self.looped.changed.connect(self._looped)

    @property
    def is_open(self) -> bool:
        """Whether a port is open, or waited for."""
        return self.link is not None

    @property
    def is_heard(self) -> bool:
        """Whether its port is there."""
        return self.link is not None and self.link.state == "open"

    @property
    def is_busy(self) -> bool:
        """Whether the room is at work: as long as its port is open, or a run with the board goes on."""
        return self.is_open or self.looped.is_running

    @property
    def greeting(self) -> Greeting | None:
        """What the board says of itself."""
        return None if self.link is None else self.link.greeting

    # ---- connecting

    def chosen_for(self, port: str) -> tuple[int, str, str]:
        """(speed, framing, what it speaks) as they were chosen for a port last."""
        every = self._desk.remembered.get("ports", {})
        kept = every.get(port, ()) if isinstance(every, dict) else ()
        if isinstance(kept, list) and len(kept) == 3 and isinstance(kept[0], int):
            return kept[0], str(kept[1]), str(kept[2])
        return USUAL_BAUD, USUAL_FRAMING, LINES

    def connect_to(self, port: str, baud: int, framing: str = USUAL_FRAMING, speaks: str = LINES) -> None:
        """Open a port and record what comes from it; `speaks` is LINES, or the map of a controller."""
        self.looped.forget()
        self._connect(port, baud, framing, speaks)

    def _connect(self, port: str, baud: int, framing: str, speaks: str) -> None:
        self.disconnect_from()
        stamp = datetime.datetime.now().astimezone().strftime("%Y-%m-%d_%H-%M-%S")
        self.record = records_folder() / f"board_{stamp}.csv"
        self.rows, self.values, self.front = LiveRows(), {}, None
        try:
            own_map = None if speaks == LINES else read_map(speaks)
            self.record.parent.mkdir(parents=True, exist_ok=True)
            self.link = self._opened(port, baud, framing, own_map, self.record)
        except (CalorError, OSError) as error:
            self._tell(str(error), True)
        else:
            self._asking = Asking(self.link, self._answered.emit)
            self._tell(f"Open: {port}")
            every = self._desk.remembered.get("ports", {})
            kept = {**(every if isinstance(every, dict) else {}), port: [baud, framing, speaks]}
            self._desk.remembered.put("ports", kept)
        self.changed.emit()

    def _opened(self, port: str, baud: int, framing: str, own_map: ModbusMap | None, record: Path) -> Heard:
        if own_map is None:
            return Link(port, baud, record, self._took, framing)
        return ModbusLink(port, own_map, baud, record, self._took, framing)

    def start_stand_in(self) -> None:
        """Start the firmware of the open design on a pseudo-terminal, and connect to it."""
        self.close()
        try:
            self.stand_in = StandIn(self._desk.document.design, faster=FASTER, trial=self._desk.document.trial)
        except CalorError as error:
            self._tell(str(error), True)
            self.changed.emit()
            return
        self.stand_in.start()
        self.connect_to(self.stand_in.port, USUAL_BAUD)

    def disconnect_from(self, leaves_output: bool = False) -> None:
        """Close the port; outputs are switched off first, unless they are to be left as they are."""
        if self.link is not None:
            link, self.link = self.link, None
            answer = None if leaves_output else link.off()
            if self._asking is not None:
                self._asking.end()
                self._asking = None
            link.close()
            is_off = answer is not None and answer.ok
            if leaves_output or is_off:
                self._tell("Closed; outputs off." if is_off else "Closed; the output is as it was.")
            else:
                self._tell("Closed. The board did not answer: switch its output off by hand.", True)
        self.changed.emit()

    def close(self, leaves_output: bool = False) -> None:
        """End all that is on the line."""
        self.looped.stop()
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
            self._tell(f"{item.name}, version {item.version}, step {item.step_s:g} s")
            if self._asking is not None:
                self._asking.look([f"get {key}" for key in item.can])
        elif isinstance(item, str):
            self._tell(item[:1].upper() + item[1:], item != "open")
        self.changed.emit()

    def _tell(self, text: str, is_trouble: bool = False) -> None:
        self.said, self.is_trouble = text, is_trouble

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
        if self._asking is not None:
            self._asking.do(command)

    def set_value(self, key: str, value: float) -> None:
        """Put what can be set to a value on the board."""
        self.send(f"set {key} {value:.9g}")

    def off(self) -> None:
        """Outputs off, whatever else is on: past all that still waits for an answer."""
        link = self.link
        if link is not None:
            threading.Thread(
                target=lambda: self._answered.emit(Asked("stop", link.off(), "", True)), name="off", daemon=True
            ).start()

    def hold(self, keys: tuple[str, ...]) -> None:
        """Hold keys of the board's front down, and no others."""
        self._held = keys
        if self._asking is not None:
            self._asking.press(" ".join(("front", *keys)))

    def look(self) -> None:
        """Look at the front, and at one more of what can be set: for whoever calls it a few times a second."""
        greeting = self.greeting
        if self._asking is None or greeting is None or self._asking.is_behind:
            return
        commands = [" ".join(("front", *self._held))] if greeting.panel else []
        keys = list(greeting.can)
        if keys:
            self._next_value = (self._next_value + 1) % len(keys)
            commands.append(f"get {keys[self._next_value]}")
        self._asking.look(commands)

    def _show_answer(self, asked: Asked) -> None:
        text = "" if asked.answer is None else asked.answer.text
        if asked.answer is not None and asked.answer.ok and text.startswith(("get ", "set ")):
            row = row_of(text[4:])
            if row is not None and set(row.values) <= set(self.greeting.can if self.greeting else ()):
                self.values |= row.values
                self.values_changed.emit()
        if text.startswith("front") and asked.answer is not None and asked.answer.ok:
            width = self.greeting.panel if self.greeting is not None else 0
            top, _, bottom = text[len("front ") :].partition("|")
            front = (top.ljust(width), bottom.ljust(width))
            if front != self.front:
                self.front = front
                self.values_changed.emit()
        if not asked.is_told:
            return
        if asked.answer is not None:
            self._tell(f"{'Done' if asked.answer.ok else 'Refused'}: {text}", not asked.answer.ok)
        else:
            self._tell(asked.trouble or "The board did not answer: switch it off by hand.", True)
        if self.is_trouble:
            self._desk.say("error", f"{asked.command}: {self.said}")
        self.changed.emit()

    def mark(self, text: str) -> None:
        """Write down that something happened now."""
        with self._lock:
            self.rows.mark(text)
        if self.link is not None:
            self.link.mark(text)
        self.changed.emit()

    def record_or_not(self) -> None:
        """Stop recording what comes, or go on with it."""
        if self.link is not None:
            self.link.records = not self.link.records
            self.changed.emit()

    # ---- in the loop

    def run_in_loop(self) -> None:
        """Run the trial with what is on the line in the seat of the law; the port is its own meanwhile."""
        link = self.link
        if not isinstance(link, Link):
            self._desk.say("error", "In the loop a board has to be asked step by step, which only lines can.")
            return
        self.disconnect_from()
        self.looped.start(link.port, link.baud, link.framing)
        self.changed.emit()

    def _looped(self) -> None:
        """It is over: the link is there again."""
        if not self.looped.is_running and self.link is None and self.looped.port:
            again, self.looped.port = self.looped.port, ""
            self._connect(again, self.looped.baud, self.looped.framing, LINES)
            self._tell(self.looped.said, self.looped.result is None)
        self.changed.emit()
