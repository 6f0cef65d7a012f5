"""The front of a device said a second time, from what its header promises: two lines, three keys, its pages. What the C
shows and does at every press is compared with it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from calor.design.model import Design
from calor.firmware.check.in_single import Single
from calor.firmware.sources.form import Form
from calor.firmware.sources.outward import ALARM_WORDS
from calor.firmware.sources.parameters import Parameter, orders_of, parameters_of
from calor.loop import answer_row

REST_MS, LONG_MS, OFF_MS, FIRST_MS, AGAIN_MS, IDLE_MS, TURN_MS, SAID_MS = 20, 1500, 4500, 500, 120, 20_000, 1500, 1500
MODES, FAULTS = ("auto", "hand", "off", "loop"), ("", "open", "shorted", "range", "too fast", "reversed", "stuck")
UNITS = {"temperature": "{}", "difference": "{}", "gain_per_celsius": "/{}", "celsius_per_s": "{}/s", "duration": "s"}


@dataclass
class Thermostat:
    """What the front is told of its thermostat."""

    measured_celsius: float = 0.0
    setpoint_celsius: float = 0.0
    demand: float = 0.0
    second_demand: float = 0.0
    fault: int = 0
    cut_out: bool = False
    alarms: int = 0
    tuning: bool = False
    off: bool = False
    hand: float | None = None


@dataclass
class FrontModel:
    """The front as it is to be. `can_release` says whether the reading is back where nothing trips."""

    design: Design
    form: Form
    thermostat: Thermostat = field(default_factory=Thermostat)
    can_release: bool = False

    def __post_init__(self) -> None:
        law: Any = self.design.law
        self.parameters: tuple[Parameter, ...] = parameters_of(self.design, self.form)
        self.values = [self._number(one.value) for one in self.parameters]
        self.orders = orders_of(self.parameters, self.design)
        self.tunes = getattr(law, "autotune", None) is not None
        self.both = law.action == "heat_cool"
        guard = self.design.guard
        self.latching = sum(1 << k for k, alarm in enumerate(guard.alarms) if alarm.latch)
        self.pages = ["home", *(one.key for one in self.parameters), "mode", "output by hand"]
        self.pages += [*(["tune"] if self.tunes else []), "unit", "code"]
        self.unit, self.code = 0, 0
        self.restarted()

    def restarted(self) -> None:
        """As after a loss of power: what is set, the unit, the code and off are kept, nothing is pressed."""
        self.starts = self.stops = False
        self.thermostat.hand = None
        self.keys_at_rest = (False, False, False)
        self.resting = [0, 0, 0]
        self.held_ms = self.set_ms = self.next_ms = self.moves = self.idle_ms = self.shown_ms = self.said_ms = 0
        self.said, self.page, self.edited = "", "home", 0
        self.edits = self.is_open = self.used_up = self.went_home = self.is_asked = False

    # ---- numbers as they are shown

    def _number(self, value: float) -> float:
        """A value as the firmware has it."""
        return round(value * 65_536) / 65_536 if self.form.fixed else float(Single(value))

    def _face(self, page: str) -> tuple[str, int]:
        if page == "output by hand":
            return "fraction", 0
        if page in self.pages[1 : len(self.parameters) + 1]:
            one = self.parameters[self.pages.index(page) - 1]
            return one.quantity, one.decimals
        return "number", 0

    def _scale(self, quantity: str) -> tuple[int, int]:
        if self.unit and quantity in ("temperature", "difference", "celsius_per_s"):
            return 9, 5
        if self.unit and quantity == "gain_per_celsius":
            return 5, 9
        return (100 if quantity == "fraction" else 1), 1

    def _parts(self, face: tuple[str, int], value: float) -> int:
        """A value in whole numbers of the last decimal, rounded away from 0 in the middle."""
        quantity, decimals = face
        over, under = self._scale(quantity)
        one: int = 10**decimals
        shift = 32 if self.unit and quantity == "temperature" else 0
        if self.form.fixed:
            product = round(value * 65_536) * over * one
            wide = (abs(product) // under) * (1 if product >= 0 else -1) + shift * 65_536 * one
            return -((32_768 - wide) // 65_536) if wide < 0 else (wide + 32_768) // 65_536
        exact: Any = (Single(value) * Single(over) / Single(under) + Single(shift)) * Single(one)
        return int(exact + Single(-0.5 if exact < 0 else 0.5))

    def _value(self, face: tuple[str, int], parts: int) -> float:
        quantity, decimals = face
        over, under = self._scale(quantity)
        one: int = 10**decimals
        parts -= 32 * one if self.unit and quantity == "temperature" else 0
        if self.form.fixed:
            return round(parts * 65_536 * under / (over * one)) / 65_536
        return float(Single(parts) * Single(under) / Single(over * one))

    @staticmethod
    def _text(parts: int, decimals: int) -> str:
        digits = f"{abs(parts):0{decimals + 1}d}"
        whole = digits if not decimals else f"{digits[:-decimals]}.{digits[-decimals:]}"
        return f"{'-' if parts < 0 else ''}{whole}"

    # ---- what is on a page

    @property
    def locked(self) -> bool:
        """Whether the code is asked for."""
        return self.code != 0 and not self.is_open

    @property
    def mode(self) -> int:
        """Automatic, by hand, off."""
        return 2 if self.thermostat.off else 0 if self.thermostat.hand is None else 1

    def _present(self, page: str) -> int:
        own = self.thermostat
        if page in self.pages[1 : len(self.parameters) + 1]:
            place = self.pages.index(page) - 1
            value = own.setpoint_celsius if self.parameters[place].key == "setpoint_celsius" else self.values[place]
            return self._parts(self._face(page), value)
        output = own.demand - own.second_demand if self.both else own.demand
        output = output if own.hand is None else own.hand
        return {
            "mode": self.mode, "output by hand": self._parts(("fraction", 0), output), "tune": int(own.tuning),
            "unit": self.unit, "code": self.code if self.is_open else 0,
        }.get(page, 0)  # fmt: skip

    def _bounds(self, page: str) -> tuple[int, int]:
        if page in self.pages[1 : len(self.parameters) + 1]:
            one = self.parameters[self.pages.index(page) - 1]
            return self._parts(self._face(page), one.low), self._parts(self._face(page), one.high)
        return {"mode": (0, 2), "output by hand": (-100 if self.both else 0, 100), "code": (0, 9999)}.get(page, (0, 1))

    def _say(self, word: str) -> None:
        self.said, self.said_ms = word, SAID_MS

    def _go_home(self) -> None:
        self.page, self.edits, self.is_asked = "home", False, False

    def _move(self, step: int) -> None:
        self.said_ms = 0
        if self.page == "home":
            if not any(one.key == "setpoint_celsius" for one in self.parameters):
                return
            self.page = self.pages[1]
        if self.locked and self.page != "code":
            self._say("locked")
            return
        if not self.edits:
            self.edits, self.edited = True, self._present(self.page)
        self.is_asked = False
        low, high = self._bounds(self.page)
        self.edited = min(max(self.edited + step, low), high)

    def _take_over(self) -> None:
        own, page = self.thermostat, self.page
        self.edits = False
        if page == "code" and self.locked:
            self.is_open = self.edited == self.code
            if not self.is_open:
                self._say("wrong")
        elif page == "release":
            self._let_go()
        elif self.edited == self._present(page) and page != "output by hand":
            return
        elif page == "mode":
            self._switch(self.edited == 2)
            if self.edited == 1:
                own.hand = own.demand - own.second_demand if self.both else own.demand
            elif self.edited == 0:
                own.hand = None
        elif page == "output by hand":
            own.hand = self._value(("fraction", 0), self.edited)
        elif page == "tune":
            if not self.edited:
                self.stops = True
            elif self.mode == 0:
                self.starts = True
            else:
                self._say("refused")
        elif page == "unit":
            self.unit = self.edited & 1
        elif page == "code":
            self.code, self.is_open = self.edited, False
        else:
            self._take_value(self.pages.index(page) - 1)

    def _take_value(self, place: int) -> None:
        one = self.parameters[place]
        value = self._value(self._face(self.page), self.edited)
        value = min(max(value, self._number(one.low)), self._number(one.high))
        if one.key == "setpoint_celsius":
            self.thermostat.setpoint_celsius = value
            return
        after = [*self.values[:place], value, *self.values[place + 1 :]]
        if any(after[order.low] > after[order.high] for order in self.orders):
            self._say("refused")
        else:
            self.values = after

    def _let_go(self) -> None:
        if not self.edited:
            return
        if not self.can_release:
            self._say("refused")
        elif not self.is_asked:
            self.is_asked = self.edits = True
            self._say("again?")
        else:
            self.thermostat.cut_out, self.thermostat.alarms = False, self.thermostat.alarms & ~self.latching
            self._go_home()

    def _switch(self, off: bool) -> None:
        self.thermostat.off = off
        if off:
            self.thermostat.demand = self.thermostat.second_demand = 0.0

    # ---- keys

    def keys(self, contacts: tuple[bool, bool, bool], passed_ms: int) -> None:
        """Contacts (up, down, set) as they are for a while."""
        before = self.keys_at_rest
        now = []
        for k in range(3):
            self.resting[k] = 0 if contacts[k] == before[k] else min(self.resting[k] + passed_ms, REST_MS)
            now.append(contacts[k] if self.resting[k] >= REST_MS else before[k])
        up, down, set_key = now
        self.keys_at_rest = (up, down, set_key)
        self.set_ms = self.set_ms + passed_ms if set_key else 0
        self.went_home = set_key and self.went_home
        if self.set_ms >= LONG_MS and (up or down or (self.went_home and self.set_ms >= OFF_MS)):
            self._switch(True)
            self.used_up = True
        self.shown_ms += passed_ms
        self.said_ms = max(self.said_ms - passed_ms, 0)
        if self.keys_at_rest != before:
            if before[2] and not any(now) and not self.used_up:
                self._press_set()
            self.held_ms = self.next_ms = self.moves = 0
            self.used_up = any(before) and any(now)
        else:
            self.held_ms += passed_ms
        if not any(now):
            self.idle_ms += passed_ms
            if self.idle_ms >= IDLE_MS:
                self._go_home()
                self.is_open = False
            return
        self.idle_ms = 0
        if set_key and not up and not down and not self.used_up and self.held_ms >= LONG_MS:
            self.used_up = True
            self._hold_set()
        if up != down and not set_key and not self.used_up and self.held_ms >= self.next_ms:
            size = 1 if self.moves < 10 else 10 if self.moves < 30 else 100
            self._move(size if up else -size)
            self.moves += 1
            self.next_ms = self.held_ms + (FIRST_MS if self.moves == 1 else AGAIN_MS)

    def _press_set(self) -> None:
        own = self.thermostat
        self.said_ms = 0
        if self.edits:
            self._take_over()
        elif self.page == "home" and (own.cut_out or own.alarms & self.latching):
            self.page = "release"
        else:
            place = 0 if self.page == "release" else self.pages.index(self.page)
            self.page = self.pages[(place + 1) % len(self.pages)]

    def _hold_set(self) -> None:
        if self.page != "home":
            self._go_home()
            self.went_home = True
        elif not self.thermostat.off:
            self._switch(True)
        elif self.locked:
            self._say("locked")
        else:
            self._switch(False)

    # ---- lines

    def lines(self) -> tuple[str, str]:
        """The two lines as they are to be shown, spaces at their ends with them."""
        width = self.form.panel
        top, bottom = self._home() if self.page == "home" else self._page()
        if self.said_ms > 0:
            bottom = self.said
        return top.ljust(width), bottom.ljust(width)

    def _matters(self) -> list[str]:
        own = self.thermostat
        found = [*(["tuning"] if own.tuning else []), *(["cut-out"] if own.cut_out else [])]
        for k, alarm in enumerate(self.design.guard.alarms):
            if own.alarms >> k & 1:
                found.append(("alarm " if self.form.panel >= 16 else "") + ALARM_WORDS[alarm.kind])
        return found

    def _home(self) -> tuple[str, str]:
        own, wide, letter = self.thermostat, self.form.panel >= 16, "F" if self.unit else "C"
        degrees = ("temperature", 1)
        if own.fault:
            top = "probe fault" if wide else "probe"
        else:
            top = f"{self._text(self._parts(degrees, own.measured_celsius), 1):>6} {letter}"
            if wide:
                share = self._present("output by hand") if self.both else self._parts(("fraction", 0), own.demand)
                top += f"{self._text(share, 0).rjust(self.form.panel - 2 - len(top))} %"
        setpoint = f"{self._text(self._parts(degrees, own.setpoint_celsius), 1):>6} {letter}"
        if wide:
            setpoint += MODES[self.mode].rjust(self.form.panel - len(setpoint))
        turns = [setpoint, *self._matters()]
        turns += [MODES[self.mode]] if not wide and self.mode else []
        turns += [FAULTS[own.fault]] if own.fault else []
        return top, turns[self.shown_ms // TURN_MS % len(turns)]

    def _page(self) -> tuple[str, str]:
        width, page = self.form.panel, self.page
        quantity, decimals = self._face(page)
        unit = "%" if quantity == "fraction" else UNITS.get(quantity, "").format("F" if self.unit else "C")
        names = {one.key: one.short for one in self.parameters} | {"output by hand": "output"}
        name = names.get(page, page)
        top = name + unit.rjust(width - len(name)) if width >= 16 and unit else name
        number = self.edited if self.edits else self._present(page)
        word = {
            "mode": MODES[number] if page == "mode" else "", "unit": "F" if number == 1 else "C",
            "tune": ("off", "on")[number & 1], "release": ("no", "yes")[number & 1],
        }.get(page, self._text(number, decimals))  # fmt: skip
        if page == "code" and self.locked and not self.edits:
            word = "locked"
        return top, (">" if self.edits else " ") + word.rjust(width - 1)


def thermostat_of(own: Thermostat, row: Any, told: dict[str, float], both: bool) -> None:
    """Take over what a control step has made of it."""
    flags = int(row[answer_row.FLAGS])
    own.measured_celsius, own.setpoint_celsius = float(row[answer_row.MEASURED]), float(row[answer_row.SETPOINT])
    demands = np.asarray(answer_row.demands(row[np.newaxis]))[0]
    own.demand, own.second_demand = float(demands[0]), float(demands[1]) if both else 0.0
    own.cut_out, own.alarms = bool(flags & answer_row.CUT_OUT_FLAG), int(row[answer_row.ALARMS])
    own.fault = (flags // answer_row.FIRST_FAULT_FLAG).bit_length() if flags & answer_row.PROBE_FAULT_FLAG else 0
    own.tuning = told.get("tuning") == 1.0
