"""The link to a board that speaks lines: a thread that reads its port, survives what a line may do, and sends commands.

A port that goes away is opened again as soon as it is back; what had arrived is on disk. Times are the board's where it
sends any, and how far its clock is from this machine's is told.
"""

from __future__ import annotations

import contextlib
import os
import termios
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import serial
from serial.tools import list_ports

from calor.board.feed import Feed
from calor.board.heard import GONE, Heard
from calor.board.protocol import Answer, Greeting, Item, Row, checked, is_for
from calor.errors import CalorError

USUAL_BAUD = 115_200
BAUDS = (1200, 2400, 4800, 9600, 19_200, 38_400, 57_600, 115_200, 230_400, 460_800, 921_600)
READ_S, AGAIN_S, ANSWER_S = 0.05, 0.5, 2.0


FRAMINGS = ("8N1", "8E1", "8O1", "8N2", "7E1", "7O1")
USUAL_FRAMING = FRAMINGS[0]
"""Bits, parity (none, even, odd) and stop bits."""


class Port(NamedTuple):
    """A serial port of this machine, and what it is."""

    name: str
    what: str


def ports() -> list[Port]:
    """The serial ports there are."""
    return [Port(str(one.device), str(one.description or "serial port")) for one in list_ports.comports()]


def opened(port: str, baud: int, framing: str) -> serial.Serial:
    """A port, open. Raises CalorError where that cannot be."""
    try:
        bits, parity, stop = int(framing[0]), framing[1], int(framing[2])
        own = serial.Serial(port, baud, bits, parity, stop, timeout=READ_S, write_timeout=ANSWER_S)
        own.reset_input_buffer()  # what came before anyone listened has no time
    except (OSError, ValueError, termios.error) as error:
        rule = f"cannot be opened ({_reason(error)})"
        if isinstance(error, termios.error | ValueError):
            rule = f"cannot be set to {baud} bits/s, {framing} ({_reason(error)})"
        raise CalorError(port, rule, "", "calor link --list shows the ports") from None
    return own


def _reason(error: Exception) -> str:
    """What the system says is the matter: the library puts it into several forms."""
    number = getattr(error, "errno", None) or next(iter(error.args), None)
    return os.strerror(number) if isinstance(number, int) else str(error)


class Link(Heard):
    """An open link of lines."""

    def __init__(
        self, port: str, baud: int = USUAL_BAUD, out: Path | None = None,
        told: Callable[[Item | str], None] = lambda item: None, framing: str = USUAL_FRAMING,
    ) -> None:  # fmt: skip
        """Open the port. Raises CalorError where that cannot be."""
        super().__init__(port, out, told)
        self.baud, self.framing = baud, framing
        self.feed = Feed()
        self._answers: list[Answer] = []
        self._answered = threading.Condition()
        self._asking = threading.Lock()
        self._serial = opened(port, baud, framing)
        self._follow(self._read)
        with contextlib.suppress(CalorError):
            self.send("hello")

    @property
    def garbage(self) -> int:
        """How many lines were nothing."""
        return self.feed.garbage

    @property
    def last_garbage(self) -> str:
        return self.feed.last_garbage

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
        if isinstance(item, Row):
            self._row(item)
            return
        if isinstance(item, Greeting):
            self.greeting = item
        else:
            with self._answered:
                self._answers.append(item)
                self._answered.notify_all()
        self._told(item)

    def _lost(self) -> None:
        """The port has gone away: try until it is back, or the link is closed."""
        self.losses += 1
        self.feed.begin_afresh()
        with contextlib.suppress(OSError):
            self._serial.close()
        self._say(GONE)
        while not self._ended.wait(AGAIN_S):
            with contextlib.suppress(CalorError):
                self._serial = opened(self.port, self.baud, self.framing)
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

    def at_once(self, command: str) -> None:
        with contextlib.suppress(CalorError):
            self.send(command)

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

    def close(self) -> None:
        """End the link; what was recorded is on disk."""
        self._end(2.0 * ANSWER_S)
        with contextlib.suppress(OSError):
            self._serial.close()
