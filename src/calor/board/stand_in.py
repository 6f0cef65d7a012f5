"""A stand-in for a board: the generated firmware of a design on a pseudo-terminal, heating the simulated load.

The firmware runs on the host or on an emulated chip, reads counts from the load as it is simulated, in real time or
faster, and the line speaks the protocol. Faults are thrown at it while it runs.
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
from collections.abc import Callable
from contextlib import ExitStack
from typing import Any, cast

import numpy as np
import numpy.typing as npt

from calor import __version__, loop
from calor.board.protocol import Greeting, Range, checked, greeting_line, number, row_line, row_of, unchecked
from calor.design.event import FALLEN, POWER, SWITCH_FAULT, WIRED
from calor.design.model import Design
from calor.design.switch_events import STUCK_OFF, STUCK_ON
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.firmware.controller.seat import seats
from calor.firmware.run.chip import found_targets
from calor.law.pid import Pid
from calor.loop import answer_row
from calor.loop import seat as at
from calor.loop.conditions import Conditions, timeline
from calor.loop.seat import Seat, call_address
from calor.sense.mounting import OPEN, SHORT, STUCK, WHOLE

LONGEST_STEPS = 4_000_000
IN_LOOP_S = 3.0
"""So long after the last step that it was asked for, it is taken to be in the loop still."""
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
        self._setpoint, self._hand, self._asks_tune, self._restarts = math.nan, math.nan, False, False
        self._is_stopped, self._mains_lost = False, False
        self._stepped_at = -math.inf
        self._fresh: Callable[[], Seat]
        self.control = loop.new_control()
        self._feed = b""
        self._row: dict[str, float] = {}
        self.trouble: CalorError | None = None
        self._thread = threading.Thread(target=self._run, name="stand-in", daemon=True)

    def start(self) -> None:
        """Let it run."""
        self._began = time.monotonic()
        self._thread.start()

    @property
    def is_running(self) -> bool:
        """Whether it goes on."""
        return self._thread.is_alive()

    @property
    def demand(self) -> float:
        """What the firmware asked of its first output last."""
        return self._row.get("demand", math.nan)

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
            with seats(self._design, self._chip) as fresh, ExitStack() as inner, fresh(self.control) as seat:
                self._fresh = lambda: cast("Seat", inner.enter_context(fresh(self.control)))
                assert seat is not None  # there is one for every name but the built-in law's
                self._firmware = seat
                step = ctypes.CFUNCTYPE(None, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)(self._step)
                own = seat._replace(address=ctypes.cast(step, ctypes.c_void_p).value or 0)
                self._say(greeting_line(self.greeting()))
                with contextlib.suppress(loop.Stopped):
                    loop.run(self._design, self._trial, self.control, own, conditions=self._conditions)
        except CalorError as error:
            self.trouble = error

    def _step(self, state: Any, given: Any, row: Any) -> None:
        """One control step: what was asked of it, the firmware's own step, its line, and the time it takes."""
        del state, given, row
        seat: Seat = self._firmware
        if self.control[0]:
            return
        if not math.isnan(self._setpoint):
            seat.given[at.PUT_IN] = self._setpoint
        if not math.isnan(self._hand) and self._has_manual:
            seat.given[at.BY_HAND] = self._hand
        seat.given[at.TUNE] = 1.0 if self._asks_tune else 0.0
        seat.given[at.RESTART] = 1.0 if self._restarts else seat.given[at.RESTART]
        self._asks_tune = self._restarts = False
        if self._mains_lost or self._is_in_loop():
            seat.row[:] = 0.0
        else:
            call_address(seat.address, seat.state_address, seat.given, seat.row)
            self._put_by_hand(seat.row)
            self._say(row_line(self._told(seat)))
        self.steps += 1
        self._rest(self._began + self.steps * self._design.law.period_s / self._faster)

    def _put_by_hand(self, row: npt.NDArray[np.float32]) -> None:
        """Outputs off, or as set by hand where the law itself has no manual mode."""
        for output in range(len(self._design.outputs)):
            if self._is_stopped:
                row[answer_row.demand_at(output)] = 0.0
            elif not math.isnan(self._hand) and not self._has_manual:
                row[answer_row.demand_at(output)] = self._hand if output == 0 else 0.0

    def _told(self, seat: Seat) -> dict[str, float]:
        """A control step as the board tells it."""
        self._row = {
            "time_s": self.steps * float(self._design.law.period_s), "counts": float(seat.given[at.COUNTS]),
            **self._decided(seat),
        }  # fmt: skip
        return self._row

    def _decided(self, seat: Seat) -> dict[str, float]:
        """What the firmware read and decided in a step."""
        said = {
            "measured_celsius": float(seat.row[answer_row.MEASURED]),
            "setpoint_celsius": float(seat.row[answer_row.SETPOINT]),
        }  # fmt: skip
        if int(seat.row[answer_row.FLAGS]) % 2:
            said["measured_celsius"] = math.nan
        for output in range(len(self._design.outputs)):
            key = "demand" if output == 0 else f"demand_{output + 1}"
            said[key] = float(seat.row[answer_row.demand_at(output)])
        said["flags"] = float(int(seat.row[answer_row.FLAGS]))
        said["alarms"] = float(int(seat.row[answer_row.ALARMS]))
        return said

    @property
    def _has_manual(self) -> bool:
        law = self._design.law
        return isinstance(law, Pid) and law.manual_mode

    # ---- the line

    def greeting(self) -> Greeting:
        """What it says of itself."""
        setpoint = self._design.setpoint
        low = -273.15 if setpoint.low_limit_celsius is None else setpoint.low_limit_celsius
        high = 3000.0 if setpoint.high_limit_celsius is None else setpoint.high_limit_celsius
        can = {} if setpoint.locked else {"setpoint_celsius": Range(low, high)}
        return Greeting(self._design.name, __version__, float(self._design.law.period_s), can, self._checks)

    def _say(self, text: str) -> None:
        """Write a line; one that nobody reads is let go, as a board's is."""
        line = checked(text) if self._checks else text
        with contextlib.suppress(BlockingIOError, OSError):
            os.write(self._master, f"{line}\n".encode())

    def _rest(self, until: float) -> None:
        """Answer commands until an instant."""
        while not self.control[0]:
            left = until - time.monotonic()
            ready, _, _ = select.select([self._master], [], [], min(max(left, 0.0), 0.05))
            if ready:
                self._listen()
            if left <= 0.0:
                return

    def _listen(self) -> None:
        with contextlib.suppress(BlockingIOError, OSError):
            self._feed += os.read(self._master, 4096)
        *lines, self._feed = self._feed.split(b"\n")
        self._feed = self._feed[-4096:]
        for raw in lines:
            text, is_right = unchecked(raw.decode("utf-8", "replace").strip())
            if text and not self._mains_lost:
                answer = "err checksum" if is_right is False else self._answer(text)
                if answer:  # a greeting answers for itself
                    self._say(answer)

    def _answer(self, text: str) -> str:
        """Do what a command says; the answer."""
        word, *rest = text.split()
        actions: dict[str, Callable[[list[str]], str]] = {
            "hello": self._hello, "get": self._get, "set": self._set, "hand": self._by_hand, "auto": self._auto,
            "tune": self._tune, "stop": self._stop, "step": self._step_on,
        }  # fmt: skip
        if word not in actions:
            return f"err {word[:20]} is no command; one of {' '.join(actions)}"
        verdict, _, said = actions[word](rest).partition(" ")
        return f"{verdict} {word} {said}" if verdict else ""

    def _is_in_loop(self) -> bool:
        """Whether it is asked step by step at the moment, on inputs that it is given."""
        return time.monotonic() - self._stepped_at < IN_LOOP_S

    def _step_on(self, rest: list[str]) -> str:
        """One control step of the firmware on inputs that are given."""
        asked = row_of(" ".join(rest))
        if asked is None or "counts" not in asked.values:
            return "err takes counts=… and what else there is"
        if not self._is_in_loop():
            self._inner = self._fresh()
        self._stepped_at = time.monotonic()
        seat, values = self._inner, asked.values
        for place, key in ((at.COUNTS, "counts"), (at.OTHER, "other"), (at.BY_HAND, "hand"), (at.PUT_IN, "setpoint")):
            seat.given[place] = values.get(key, math.nan)
        seat.given[at.RESTART], seat.given[at.TUNE] = values.get("restart", 0.0), values.get("tune", 0.0)
        call_address(seat.address, seat.state_address, seat.given, seat.row)
        said = {"n": values.get("n", 0.0), **self._decided(seat), "status": float(seat.row[answer_row.STATUS])}
        return "ok " + " ".join(f"{key}={value:.9g}" for key, value in said.items())

    def _hello(self, rest: list[str]) -> str:
        del rest
        self._say(greeting_line(self.greeting()))
        return ""

    def _get(self, rest: list[str]) -> str:
        del rest
        mode = "stopped" if self._is_stopped else "auto" if math.isnan(self._hand) else "hand"
        return f"ok mode={mode} {row_line(self._row)}"

    def _set(self, rest: list[str]) -> str:
        can = self.greeting().can
        if len(rest) != 2 or rest[0] not in can:
            return f"err takes KEY VALUE; KEY one of {' '.join(can) or 'none'}"
        value, bounds = number(rest[1]), can[rest[0]]
        if value is None or not bounds.low <= value <= bounds.high:
            return f"err {rest[0]} takes {bounds.low:g} to {bounds.high:g}"
        self._setpoint = value
        return f"ok {rest[0]}={value:g}"

    def _by_hand(self, rest: list[str]) -> str:
        low = -1.0 if self._design.law.action == "heat_cool" and self._has_manual else 0.0
        value = number(rest[0]) if len(rest) == 1 else None
        if value is None or not low <= value <= 1.0:
            return f"err takes {low:g} to 1"
        self._hand, self._is_stopped = value, False
        return f"ok {value:g}"

    def _auto(self, rest: list[str]) -> str:
        del rest
        self._hand, self._is_stopped = math.nan, False
        return "ok"

    def _tune(self, rest: list[str]) -> str:
        del rest
        law = self._design.law
        if not (isinstance(law, Pid) and law.autotune is not None):
            return "err this firmware cannot tune itself"
        self._asks_tune = True
        return "ok"

    def _stop(self, rest: list[str]) -> str:
        del rest
        self._is_stopped = True
        return "ok outputs off"

    # ---- faults

    def throw(self, name: str) -> None:
        """Let something fail, "reset" it, or put all right again ("none"). Raises CalorError for an unknown word."""
        values = self._conditions.values
        if name == "reset":
            self._restarts = True
            self._setpoint, self._hand, self._is_stopped = math.nan, math.nan, False
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
