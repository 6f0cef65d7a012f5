"""The link to a board: a thread that reads its port, survives what a line may do, and sends commands.

A port that goes away is opened again as soon as it is back; what had arrived is on disk. Times are the board's where it
sends any, and how far its clock is from this machine's is told.
"""

from __future__ import annotations

import contextlib
import termios
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import numpy as np
import serial
from serial.tools import list_ports

from calor.board.feed import Feed, Item
from calor.board.protocol import Answer, Greeting, Row, checked, is_for
from calor.board.recorder import Recorder
from calor.errors import CalorError

USUAL_BAUD = 115_200
BAUDS = (1200, 2400, 4800, 9600, 19_200, 38_400, 57_600, 115_200, 230_400, 460_800, 921_600)
READ_S, AGAIN_S, ANSWER_S = 0.05, 0.5, 2.0
TIME_KEYS = ("time_s", "time", "t")
LEAST_DRIFT_S = 10.0
MOST_PAIRS = 20_000


class Port(NamedTuple):
    """A serial port of this machine, and what it is."""

    name: str
    what: str


def ports() -> list[Port]:
    """The serial ports there are."""
    return [Port(str(one.device), str(one.description or "serial port")) for one in list_ports.comports()]


class Link:
    """An open link. `told` is called for each thing that comes, in the link's own thread, and for each change of
    `state`: "open", or what is the matter."""

    def __init__(
        self, port: str, baud: int = USUAL_BAUD, out: Path | None = None,
        told: Callable[[Item | str], None] = lambda item: None,
    ) -> None:  # fmt: skip
        """Open the port. Raises CalorError where that cannot be."""
        self.port, self.baud, self._told = port, baud, told
        self.feed = Feed()
        self.greeting: Greeting | None = None
        self.last: Row | None = None
        self.rows, self.losses = 0, 0
        self.state = "open"
        self.trouble: CalorError | None = None
        self._recorder = None if out is None else Recorder(out)
        self.began = time.monotonic()
        self._pairs: list[tuple[float, float]] = []
        self._answers: list[Answer] = []
        self._answered = threading.Condition()
        self._asking = threading.Lock()
        self._ended = threading.Event()
        self._serial = self._opened()
        self._thread = threading.Thread(target=self._read, name="link", daemon=True)
        self._thread.start()
        with contextlib.suppress(CalorError):
            self.send("hello")

    def _opened(self) -> serial.Serial:
        try:
            port = serial.Serial(self.port, self.baud, timeout=READ_S, write_timeout=ANSWER_S)
            port.reset_input_buffer()  # what came before anyone listened has no time
        except (OSError, ValueError, termios.error) as error:
            said = str(getattr(error, "strerror", "") or error)
            raise CalorError(self.port, f"cannot be opened ({said})", "", "calor link --list shows the ports") from None
        return port

    # ---- reading

    def _read(self) -> None:
        while not self._ended.is_set():
            try:
                data = self._serial.read(max(1, self._serial.in_waiting))
            except (OSError, TypeError, termios.error):  # pulled: a port says so in several ways
                self._lost()
                continue
            try:
                for item in self.feed.take(data) if data else ():
                    self._take(item)
            except CalorError as error:  # the record cannot be written: that ends the link, and is said
                self.trouble = error
                self._say(str(error))
                return

    def _take(self, item: Item) -> None:
        now_s = time.monotonic() - self.began
        if isinstance(item, Row):
            self.rows += 1
            self.last = item
            own = next((item.values[key] for key in TIME_KEYS if key in item.values), None)
            if own is not None:
                if self._pairs and own < self._pairs[-1][0]:
                    self._pairs.clear()  # the board began afresh
                if len(self._pairs) < MOST_PAIRS:
                    self._pairs.append((own, now_s))
                else:
                    self._pairs[-1] = (own, now_s)
            if self._recorder is not None:
                values = item.values if own is not None else {"time_s": now_s, **item.values}
                self._recorder.add(values, now_s)
        elif isinstance(item, Greeting):
            self.greeting = item
        else:
            with self._answered:
                self._answers.append(item)
                self._answered.notify_all()
        self._told(item)

    def _say(self, state: str) -> None:
        self.state = state
        self._told(state)

    def _lost(self) -> None:
        """The port has gone away: try until it is back, or the link is closed."""
        self.losses += 1
        self.feed.begin_afresh()
        with contextlib.suppress(OSError):
            self._serial.close()
        self._say("the port is gone; it is opened again when it is back")
        while not self._ended.wait(AGAIN_S):
            with contextlib.suppress(CalorError):
                self._serial = self._opened()
                self._say("open")
                with contextlib.suppress(OSError, CalorError):
                    self.send("hello")
                return

    # ---- sending

    def send(self, command: str) -> None:
        """Send a command, and wait for nothing. Raises CalorError where the port is gone."""
        line = checked(command) if self.feed.checks else command
        try:
            self._serial.write(f"{line}\n".encode())
        except (OSError, TypeError, termios.error) as error:
            raise CalorError(self.port, "nothing can be sent", str(error), "plug it in again") from None

    def ask(self, command: str, wait_s: float | None = None) -> Answer:
        """Send a command, and wait for its answer. Raises CalorError where none comes."""
        wait_s = ANSWER_S if wait_s is None else wait_s
        with self._asking:
            with self._answered:
                self._answers.clear()
            self.send(command)
            end = time.monotonic() + wait_s
            with self._answered:
                while True:
                    for answer in self._answers:
                        if is_for(answer, command):
                            return answer
                    self._answers.clear()
                    left = end - time.monotonic()
                    if left <= 0.0 or not self._answered.wait(left):
                        raise CalorError(self.port, f"{command!r} was not answered in {wait_s:g} s")

    def off(self) -> Answer | None:
        """Outputs off, whatever else is on: sent at once, and again; None where nothing answers."""
        for _ in range(3):
            with contextlib.suppress(CalorError):
                return self.ask("stop", ANSWER_S / 3.0)
        return None

    def close(self) -> None:
        """End the link; what was recorded is on disk."""
        self._ended.set()
        self._thread.join(2.0 * ANSWER_S)
        with contextlib.suppress(OSError):
            self._serial.close()
        if self._recorder is not None:
            self._recorder.close()

    @property
    def drift_ppm(self) -> float | None:
        """By how much the board's clock is faster than this machine's, parts in a million; None where it is too soon to
        tell, or it sends no time."""
        pairs = self._pairs[:]
        if len(pairs) < 10 or pairs[-1][1] - pairs[0][1] < LEAST_DRIFT_S:
            return None
        own, ours = np.array(pairs).T
        return float((np.polyfit(ours - ours[0], own - own[0], 1)[0] - 1.0) * 1e6)
