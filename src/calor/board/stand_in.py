"""A stand-in for a board: the generated firmware of a design on a pseudo-terminal, heating the simulated load.

The firmware runs on the host or on an emulated chip, reads counts from the load as it is simulated, in real time or
faster, and speaks its own line: nothing here answers for it. Faults are thrown at it while it runs.
"""

from __future__ import annotations

import contextlib
import ctypes
import math
import os
import select
import threading
import time
import tty
from typing import Any

from calor import loop
from calor.board.protocol import unchecked
from calor.design.event import FALLEN, POWER, SWITCH_FAULT, WIRED
from calor.design.model import Design
from calor.design.switch_events import STUCK_OFF, STUCK_ON
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.firmware.run.chip import found_targets
from calor.firmware.run.device import Device, device
from calor.loop import answer_row
from calor.loop.conditions import Conditions, timeline
from calor.loop.seat import Seat, seat_of
from calor.sense.mounting import OPEN, SHORT, STUCK, WHOLE

LONGEST_STEPS = 4_000_000
KEYS_EVERY_S = 0.01
"""How often the contacts of its keys are looked at."""
FAULTS: dict[str, tuple[int, float]] = {
    "probe_open": (WIRED, OPEN), "probe_short": (WIRED, SHORT), "probe_stuck": (WIRED, STUCK),
    "probe_fallen": (FALLEN, 1.0), "switch_stuck_on": (SWITCH_FAULT, STUCK_ON),
    "switch_stuck_off": (SWITCH_FAULT, STUCK_OFF), "mains_lost": (POWER, 0.0),
}  # fmt: skip
"""Faults that can be thrown at it: the condition that each puts, and to what. "reset" and "none" are words, too."""
USUAL = {WIRED: float(WHOLE), FALLEN: 0.0, SWITCH_FAULT: 0.0, POWER: 1.0}


class StandIn:
    """A running stand-in; `port` is the name of its pseudo-terminal."""

    def __init__(
        self, design: Design, chip: str = "host", faster: float = 1.0, checks: bool = True, trial: Trial | None = None
    ) -> None:
        """Begin at the start of a trial. Raises FirmwareError where the firmware cannot be built."""
        self._design, self._chip, self._faster, self._checks = design, chip, faster, checks
        if chip not in ("host", *found_targets()):
            names = ", ".join(("host", *found_targets()))
            raise CalorError("stand-in", f"runs on one of {names}", repr(chip))
        first = trial or design.trial[0]
        span_s = LONGEST_STEPS * design.law.period_s
        self._trial = first.model_copy(update={"span_s": span_s, "events": ()})
        self._conditions: Conditions = timeline(design, self._trial)
        self._master, slave = os.openpty()
        tty.setraw(slave)
        self.port = os.ttyname(slave)
        # the far end is held open, so that nothing is lost when a link closes and another opens
        self._slave = slave
        os.set_blocking(self._master, False)
        self.steps = 0
        self._restarts, self._mains_lost = False, False
        self.control = loop.new_control()
        self._arrived = b""
        self._demand = math.nan
        self.trouble: CalorError | None = None
        self._thread = threading.Thread(target=self._run, name="stand-in", daemon=True)

    def start(self) -> None:
        """Let it run."""
        self._thread.start()

    @property
    def is_running(self) -> bool:
        """Whether it goes on."""
        return self._thread.is_alive()

    @property
    def demand(self) -> float:
        """What the firmware asked of its first output last."""
        return self._demand

    def wait(self, seconds: float) -> None:
        """Wait until it ends, or for so long."""
        self._thread.join(seconds)

    def close(self) -> None:
        """End it: the plug is pulled."""
        self.control[0] = 1
        self._thread.join(10.0)
        for end in (self._master, self._slave):
            with contextlib.suppress(OSError):
                os.close(end)

    # ---- the loop

    def _run(self) -> None:
        try:
            with device(self._design, self._chip) as self._device:
                self._began = self._looked_at_keys = time.monotonic()
                self._say(self._device.greeting())
                step = ctypes.CFUNCTYPE(None, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)(self._step)
                self._seat: Seat = seat_of(ctypes.cast(step, ctypes.c_void_p).value or 0, 0)
                with contextlib.suppress(loop.Stopped):
                    loop.run(self._design, self._trial, self.control, self._seat, conditions=self._conditions)
        except CalorError as error:
            self.trouble = error

    def _step(self, state: Any, given: Any, row: Any) -> None:
        """One control step: the firmware's own step, its line, and the time it takes."""
        del state, given, row
        if self.control[0]:
            return
        try:
            self._decide(self._device)
        except CalorError as error:  # the run cannot be left from here: it is said when it has ended
            self.trouble = error
            self.control[0] = 1
        self.steps += 1
        self._rest(self._began + self.steps * self._design.law.period_s / self._faster)

    def _decide(self, own: Device) -> None:
        if self._restarts:
            own.begin()
            self._restarts = False
            self._say(own.greeting())
        if self._mains_lost:
            self._seat.row[:] = 0.0
            return
        stepped = own.step(self._seat.given)
        self._seat.row[: len(stepped.row)] = stepped.row
        self._demand = float(stepped.row[answer_row.demand_at(0)])
        self._say(stepped.line)

    # ---- the line

    def _say(self, lines: bytes) -> None:
        """Write what the firmware says; what nobody reads is let go, as a board's is."""
        if not self._checks:
            lines = b"".join(
                unchecked(line.decode())[0].replace("check=crc16", "check=none").encode() + b"\n"
                for line in lines.splitlines()
            )
        with contextlib.suppress(BlockingIOError, OSError):
            os.write(self._master, lines)

    def _rest(self, until: float) -> None:
        """Let the line and the keys have the time until an instant."""
        while not self.control[0]:
            now = time.monotonic()
            left = until - now
            passed = now - self._looked_at_keys
            if passed >= KEYS_EVERY_S and not self._mains_lost:
                self._looked_at_keys = now
                self._device.keys(False, False, False, round(passed * 1e3))
            ready, _, _ = select.select([self._master], [], [], min(max(left, 0.0), KEYS_EVERY_S))
            if ready:
                self._listen()
            if left <= 0.0:
                return

    def _listen(self) -> None:
        with contextlib.suppress(BlockingIOError, OSError):
            self._arrived += os.read(self._master, 4096)
        *lines, self._arrived = self._arrived.split(b"\n")
        self._arrived = self._arrived[-4096:]
        for line in lines:
            if not self._mains_lost:
                self._say(self._device.feed(line + b"\n"))

    # ---- faults

    def throw(self, name: str) -> None:
        """Let something fail, "reset" it, or put all right again ("none"). Raises CalorError for an unknown word."""
        values = self._conditions.values
        if name == "reset":
            self._restarts = True
        elif name == "none":
            for column, value in USUAL.items():
                values[:, column] = value
            if self._mains_lost:
                self.throw("reset")
            self._mains_lost = False
        elif name in FAULTS:
            column, value = FAULTS[name]
            values[:, column] = value
            self._mains_lost = self._mains_lost or name == "mains_lost"
        else:
            raise CalorError("fault", f"is one of {', '.join(FAULTS)}, reset, none", repr(name))
