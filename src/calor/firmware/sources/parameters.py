"""What of a design can be set on the device while it runs: over its line and on its front, each inside its range.

A parameter has the key and the unit of the design file, and says which settings of the C it puts. Limits and cut-outs
are none: what keeps the device safe is changed in the design and built anew.
"""

from __future__ import annotations

import zlib
from typing import Any, NamedTuple

from calor.design.model import Design
from calor.firmware.sources.fixed_point import LARGEST
from calor.firmware.sources.form import Form
from calor.law import on_off
from calor.law.fan_curve import FanCurve
from calor.law.manual import Manual
from calor.law.on_off import OnOff
from calor.law.pid import Pid
from calor.law.predictive import Predictive
from calor.law.setpoint import DayNight, Follow, Hold
from calor.law.stages import Stages
from calor.law.timer import Timer
from calor.settings import bounds_of, quantity_of

SLOWEST_PER_S = 1e-4
LOWEST_CELSIUS, HIGHEST_CELSIUS = -200.0, 3000.0
DECIMALS = {
    "temperature": 1, "difference": 1, "gain_per_celsius": 3, "duration": 0, "fraction": 0, "number": 2,
    "celsius_per_s": 3,
}  # fmt: skip
"""Decimals on the front of the device; a fraction stands there in per cent."""


class Put(NamedTuple):
    """A setting of the C that a parameter puts: factor · value + offset."""

    field: str
    factor: float
    offset: float


class Parameter(NamedTuple):
    """One parameter: its key, where it stands in the design file, its name on the front of the device (8 characters),
    its quantity and range, what it is in the design, and what of the C it puts. An inverse one is a time whose rate
    the C has; 0 switches it off."""

    key: str
    section: str
    field: str
    short: str
    quantity: str
    low: float
    high: float
    value: float
    puts: tuple[Put, ...]
    is_inverse: bool = False

    @property
    def decimals(self) -> int:
        """Decimals on the front of the device."""
        return DECIMALS[self.quantity]


class Order(NamedTuple):
    """Two parameters, by their places, of which the first must not be above the second."""

    low: int
    high: int


_SHORT = {
    "gain_per_celsius": "gain", "integral_time_s": "Ti", "derivative_time_s": "Td", "derivative_filter": "filter",
    "setpoint_weight": "weight", "output_low": "out min", "output_high": "out max", "bias": "bias",
    "integral_band_celsius": "int band", "slew_per_s": "slew", "ramp_celsius_per_s": "ramp",
    "cool_integral_time_s": "cool Ti", "cool_derivative_time_s": "cool Td", "hysteresis_celsius": "hyst",
    "start_celsius": "on at", "stop_celsius": "off at", "min_on_s": "min on", "min_off_s": "min off",
    "stage_delay_s": "delay", "on_s": "on time", "off_s": "off time", "first_s": "first", "output": "output",
    "celsius": "setpoint", "full_celsius": "full at", "floor": "floor",
    "day_celsius": "day", "night_celsius": "night", "offset_celsius": "offset",
}  # fmt: skip


def parameters_of(design: Design, form: Form) -> tuple[Parameter, ...]:
    """What can be set of a design's C in a form, the setpoint first; with settings compiled in only the setpoint."""
    found = _of_setpoint(design)
    if form.constant:
        found = [one for one in found if one.key == "setpoint_celsius"]
    else:
        found += _of_law(design)
    if form.fixed:
        found = [_held(one) for one in found if abs(one.value) <= LARGEST]
    return tuple(found)


def orders_of(parameters: tuple[Parameter, ...], design: Design) -> tuple[Order, ...]:
    """Which parameters must stay in order."""
    places = {one.key: place for place, one in enumerate(parameters)}
    pairs = [("output_low", "output_high")]
    switching, curve = ("start_celsius", "stop_celsius"), ("full_celsius", "start_celsius")
    pairs += [switching, curve] if design.law.action == "heat" else [switching[::-1], curve[::-1]]
    return tuple(Order(places[low], places[high]) for low, high in pairs if low in places and high in places)


def layout_of(parameters: tuple[Parameter, ...], form: Form) -> int:
    """A number of 32 bits by which kept settings of another form, of other parameters or of other ranges are told from
    these. Defaults are not in it: what was not set by hand is taken from the firmware."""
    words = ["q16" if form.fixed else "float", "constant" if form.constant else "", "panel" if form.panel else ""]
    words += [f"{one.key} {one.low!r} {one.high!r}" for one in parameters]
    return zlib.crc32(";".join(words).encode())


def _of_setpoint(design: Design) -> list[Parameter]:
    setpoint = design.setpoint
    if isinstance(setpoint, Hold):
        if setpoint.locked:
            return []
        low = LOWEST_CELSIUS if setpoint.low_limit_celsius is None else setpoint.low_limit_celsius
        high = HIGHEST_CELSIUS if setpoint.high_limit_celsius is None else setpoint.high_limit_celsius
        own = _plain(design, "setpoint", "celsius", "setpoint_celsius")
        return [own._replace(key="setpoint_celsius", low=low, high=high)]
    if isinstance(setpoint, DayNight):
        fields = (("day_celsius", "setpoint_celsius"), ("night_celsius", "night_celsius"))
        both = [_plain(design, "setpoint", field, c_field) for field, c_field in fields]
        return [one._replace(low=LOWEST_CELSIUS, high=HIGHEST_CELSIUS) for one in both]
    if isinstance(setpoint, Follow):
        return [_plain(design, "setpoint", "offset_celsius")]
    return []


def _of_law(design: Design) -> list[Parameter]:
    law = design.law
    if isinstance(law, Pid):
        return _of_pid(design, law)
    if isinstance(law, OnOff):
        return _of_on_off(design, law)
    if isinstance(law, Stages):
        fields = ["stage_delay_s"] if law.stage_delay_s > 0.0 else []
        return [_plain(design, "law", field) for field in (*fields, "min_on_s", "min_off_s")]
    if isinstance(law, Timer):
        repeats = law.pattern in ("repeat", "cold_start_then_repeat")
        fields = ["on_s", "off_s"] if repeats else []
        fields += [] if law.pattern == "repeat" else ["first_s"]
        return [_plain(design, "law", field) for field in (*fields, "output")]
    if isinstance(law, Manual):
        return [_plain(design, "law", "output", "manual_output")]
    if isinstance(law, FanCurve) and not law.points:
        return _of_fan_curve(design, law)
    if isinstance(law, Predictive) and law.action != "heat_cool":
        return [_plain(design, "law", field) for field in ("output_low", "output_high")]
    return []


def _of_pid(design: Design, law: Pid) -> list[Parameter]:
    found = []
    if not law.gain_sets and law.cool_gain_per_celsius is None:
        sign = -1.0 if law.action == "cool" else 1.0
        gain = _plain(design, "law", "gain_per_celsius")
        found += [gain._replace(puts=(Put("gain_per_celsius", sign, 0.0),))]
    if not law.gain_sets:
        # cooling without times of its own has heating's: both change with one
        apart = law.cool_integral_time_s is not None or law.cool_derivative_time_s is not None
        found += [
            _times(design, "integral_time_s", "integral_rate_per_s", apart, "cool_integral_time_s", "cool_rate_per_s"),
            _times(
                design, "derivative_time_s", "derivative_time_s", apart, "cool_derivative_time_s",
                "cool_derivative_time_s",
            ),
        ]  # fmt: skip
        if law.cool_integral_time_s is not None:
            cool = _plain(design, "law", "cool_integral_time_s", "cool_rate_per_s")
            found.append(cool._replace(is_inverse=True))
        if law.cool_derivative_time_s is not None:
            found.append(_plain(design, "law", "cool_derivative_time_s"))
    fields = ["derivative_filter", "setpoint_weight"]
    fields += [] if law.action == "heat_cool" else ["output_low", "output_high"]
    fields += [name for name in ("bias", "integral_band_celsius") if getattr(law, name)]
    found += [_plain(design, "law", field) for field in fields]
    # 0 is none of either, and is another C
    limits = [name for name in ("slew_per_s", "ramp_celsius_per_s") if getattr(law, name)]
    return found + [_plain(design, "law", field)._replace(low=SLOWEST_PER_S) for field in limits]


def _of_fan_curve(design: Design, law: FanCurve) -> list[Parameter]:
    """Its two ends, what it gives at the first, and how fast it follows; a table of points has none of them."""
    side = law.hysteresis_celsius if law.action == "cool" else -law.hysteresis_celsius
    begins = (Put("start_celsius", 1.0, 0.0), Put("stop_celsius", 1.0, -side), Put("curve_celsius[0]", 1.0, 0.0))
    start = _plain(design, "law", "start_celsius")._replace(short="start", puts=begins)
    full = _plain(design, "law", "full_celsius", "curve_celsius[1]")
    both = [one._replace(low=LOWEST_CELSIUS, high=HIGHEST_CELSIUS) for one in (start, full)]
    # 0 is another C: where it starts is then worked out from the second point
    floor = [_plain(design, "law", "floor", "curve_output[0]")._replace(low=0.01)] if law.floor >= 0.01 else []
    slew = [_plain(design, "law", "slew_per_s")._replace(low=SLOWEST_PER_S)] if law.slew_per_s > 0.0 else []
    return [*both, *floor, *slew]


def _times(design: Design, field: str, c_field: str, apart: bool, cool: str, cool_c_field: str) -> Parameter:
    """Integral or derivative time, cooling's with it where it has none of its own."""
    own = _plain(design, "law", field, c_field)
    follows = apart and getattr(design.law, cool) is None
    puts = (*own.puts, Put(cool_c_field, 1.0, 0.0)) if follows else own.puts
    return own._replace(puts=puts, is_inverse=field == "integral_time_s")


def _of_on_off(design: Design, law: OnOff) -> list[Parameter]:
    times = [_plain(design, "law", field) for field in ("min_on_s", "min_off_s")]
    if law.start_celsius is not None:
        pair = (("start_celsius", "on_celsius"), ("stop_celsius", "off_celsius"))
        both = [_plain(design, "law", field, c_field) for field, c_field in pair]
        return [one._replace(low=LOWEST_CELSIUS, high=HIGHEST_CELSIUS) for one in both] + times
    none = on_off.numbers(law.model_copy(update={"hysteresis_celsius": 0.0}))
    unit = on_off.numbers(law.model_copy(update={"hysteresis_celsius": 1.0}))
    puts = tuple(
        Put(name, getattr(unit, name) - getattr(none, name), getattr(none, name))
        for name in ("on_celsius", "off_celsius")
    )
    own = _plain(design, "law", "hysteresis_celsius")
    spread = on_off.DEFAULT_HYSTERESIS_CELSIUS if law.hysteresis_celsius is None else law.hysteresis_celsius
    return [own._replace(puts=puts, value=spread), *times]


def _plain(design: Design, section: str, field: str, c_field: str = "") -> Parameter:
    """A parameter that is a setting of the C as it is."""
    settings: Any = getattr(design, section)
    info = type(settings).model_fields[field]
    low, high, _ = bounds_of(info)
    value = getattr(settings, field)
    quantity = quantity_of(info)
    put = Put(c_field or field, 1.0, 0.0)
    number = 0.0 if value is None else float(value)
    return Parameter(field, section, field, _SHORT[field], quantity, low, high, number, (put,))


def _held(one: Parameter) -> Parameter:
    """As fixed point can have it."""
    return one._replace(low=max(one.low, -LARGEST), high=min(one.high, LARGEST))
