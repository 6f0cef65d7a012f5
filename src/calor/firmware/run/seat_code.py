"""The C of a seat in a run: what a run gives, as floats, and what it is answered."""

from __future__ import annotations

from typing import Any

from calor.design.model import Design
from calor.firmware.run.adapter import adapter_code
from calor.firmware.run.c_numbers import Numbers, setpoint_is_put_in
from calor.firmware.run.exchange import (
    TUNES,
)
from calor.firmware.sources.templating import Sources
from calor.loop import seat
from calor.sense.digital import NO_ANSWER, Digital
from calor.sense.registry import gives_code, numbers
from calor.sense.thermocouple import Thermocouple

_COUNTS, _PUT_IN = f"given[{seat.COUNTS}]", f"given[{seat.PUT_IN}]"
_SEAT = """\
{adapter}
static void calor_sit({prefix}_state *state, const float *given, float *row)
{{
    calor_input own;
    own.reading = {reading};
    own.other_celsius = given[{seat.OTHER}];
    own.hand_output = given[{seat.BY_HAND}];
    own.restart = given[{seat.RESTART}] > 0.0f ? 1u : 0u;
    own.dt_s = {period};
    own.put_in_celsius = CALOR_NONE;
    own.clock_s = CALOR_NONE;
    own.humidity = CALOR_NONE;
    own.asked = CALOR_NONE;
    own.knob = 0u;
    own.calls = given[{seat.TUNE}] > 0.0f ? {TUNES}u : 0u;
{put_in}
    calor_decide(state, &own);
    calor_report(state, row, false);
}}
"""


def seat_code(design: Design, sources: Sources) -> str:
    """The C that takes what a run gives, as floats, and answers in a row."""
    return _SEAT.format(
        seat=seat, adapter=adapter_code(design, sources), prefix=sources.prefix, reading=reading_code(design),
        put_in=_setpoint_code(design, sources), period=f"{float(design.law.period_s)!r}f", TUNES=TUNES,
    )  # fmt: skip


def reading_code(design: Design) -> str:
    """C of the reading from a run's counts: as they are, as a sum of conversions, or as a sensor's word."""
    probe: Any = design.probe
    if probe.kind == "ideal":
        return _COUNTS
    if isinstance(probe, Digital | Thermocouple) and gives_code(probe):
        bits = probe.bits if isinstance(probe, Digital) else probe.converter_bits
        nothing = probe.fault_mask or NO_ANSWER
        mask = (1 << bits) - 1
        word = f"((uint32_t)(int32_t){_COUNTS} & {mask}u) << {probe.word_shift}"
        return f"{_COUNTS} != {_COUNTS} ? {nothing}u : {word}"
    oversampling = numbers(probe).firmware.adc.oversampling
    return f"{_COUNTS} != {_COUNTS} ? 0u : (uint32_t)({_COUNTS} * {float(oversampling)!r}f + 0.5f)"


def _setpoint_code(design: Design, sources: Sources) -> str:
    """C that puts a setpoint in from outside, where the design has one that can be."""
    if not setpoint_is_put_in(design):
        return "    /* the setpoint is the design's own */"
    own, prefix = Numbers(sources.form.fixed).own(_PUT_IN), sources.prefix
    chosen = f"{_PUT_IN} != {_PUT_IN} ? {prefix}_defaults.setpoint_celsius : {own}"
    return f"    (void){prefix}_set_setpoint(state, {chosen});"
