"""A complete program for a bare chip: the loop of the example, with the registers of a board below it.

Two chips: an 8-bit AVR by the device headers of its compiler, and a Cortex-M0+ whose peripherals are made up and stand
in one header, to be replaced by the real ones'. Sources of what the registers do: the data sheets' descriptions (from
memory), ARMv6-M Architecture Reference Manual for the core's own timer and interrupts (from memory).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

from calor.design.model import Design
from calor.drive.pwm import PRESCALERS
from calor.errors import FirmwareError
from calor.firmware.sources import made_up_chip
from calor.firmware.sources.form import Form
from calor.firmware.sources.templating import render
from calor.sense.registry import has_converter

if TYPE_CHECKING:
    from calor.firmware.sources.generate import OutputCode

MOST_EXTRA_BITS = 3
"""Bits that averaging adds to a converter: each takes four times as many conversions."""
MOST_READING_SHARE = 0.5
"""Of a control step, for the conversions of a reading."""
LINEAR_TOP = 1_000
"""Steps of an output that follows its demand, as a pulse width behind a filter."""
WRONG_HZ = 0.2
"""So far from the wanted frequency, as a share of it, a pulse width is refused."""
LONGEST_TICK_US = 100_000
LEAST_SUPPLY_VOLT = 3.8
"""An AVR at 16 MHz needs so much (the data sheet's line from 10 MHz at 2.7 V to 20 MHz at 4.5 V, from memory): a lower
reference is not its supply."""
LETTERS_THAT_WAIT = 64
STEP_S, WATCHDOG_OVER_BUSY = 0.02, 2.0
"""A control step takes less on either chip; the watchdog waits so many times a step, its reading and a tick."""


class AvrPins(NamedTuple):
    """The ports that the pins of a part are on; of the switched outputs the first bit, of the pulse widths each."""

    inputs: str
    outputs: str
    first_output: int
    pwm: str
    pwm_bits: tuple[int, int]


class AvrPart(NamedTuple):
    """A part as its compiler calls it, with its memories and pins."""

    name: str
    flash_bytes: int
    ram_bytes: int
    pins: AvrPins

    @property
    def macro(self) -> str:
        """What the compiler defines for it."""
        return f"__AVR_{self.name.replace('atmega', 'ATmega').replace('p', 'P')}__"


_28_PINS, _40_PINS = AvrPins("C", "D", 4, "B", (1, 2)), AvrPins("A", "B", 0, "D", (5, 4))
AVR_PARTS = (
    AvrPart("atmega328p", 32_768, 2_048, _28_PINS),
    AvrPart("atmega644p", 65_536, 4_096, _40_PINS),
    AvrPart("atmega1284p", 131_072, 16_384, _40_PINS),
)


class Port(NamedTuple):
    """A chip that a whole program is written for; `stack_bytes` without and with line and front."""

    name: str
    words: str
    short: str
    clock_hz: int
    adc_bits: int
    conversion_s: float
    prescalers: tuple[int, ...]
    pwm_channels: int
    watchdogs_ms: tuple[int, ...]
    baud: int
    stack_bytes: tuple[int, int]
    files: Mapping[str, str]


PORTS = {
    port.name: port
    for port in (
        # 13 cycles of a converter's clock of 125 kHz; timer 1 has two channels
        Port(
            "avr", "an 8-bit AVR", "AVR", 16_000_000, 10, 104e-6, PRESCALERS, 2,
            (15, 30, 60, 120, 250, 500, 1000, 2000, 4000, 8000), 38_400, (384, 640),
            {"{prefix}_board.c": "board_avr.c.j2", "Makefile": "makefile_avr.j2"},
        ),
        Port(
            "m0plus", "a Cortex-M0+", "Cortex-M0+", made_up_chip.CLOCK_HZ, made_up_chip.ADC_BITS, 1e-6,
            tuple(range(1, 65_537)), made_up_chip.PWM_CHANNELS, tuple(range(1, 60_001)), 115_200, (768, 1024),
            {
                "{prefix}_board.c": "board_m0plus.c.j2", "chip.h": "chip.h.j2", "start.c": "start.c.j2",
                "memory.c": "memory.c.j2", "chip.ld": "chip.ld.j2", "Makefile": "makefile_m0plus.j2",
            },
        ),
    )
}  # fmt: skip


class Channel(NamedTuple):
    """A channel of a timer that makes pulses as wide as an output is asked for."""

    output: str
    number: int
    prescaler: int
    top: int
    frequency_hz: float


class Reading(NamedTuple):
    """How a code of so many bits comes from the chip's converter: conversions that are added up, then a shift."""

    conversions: int
    shift_right: int
    shift_left: int


def port_of(name: str) -> Port | None:
    """A port by its name, None for an empty one. Raises FirmwareError where there is none of that name."""
    if name and name not in PORTS:
        raise FirmwareError("port", f"must be one of {', '.join(PORTS)}", f"{name!r}")
    return PORTS[name] if name else None


def usual_part(form: Form) -> AvrPart:
    """The AVR that a program is built for unless another is asked for: line and front nearly fill the first."""
    return AVR_PARTS[1 if form.link and form.panel else 0]


def reading_of(bits: int, port: Port) -> Reading | None:
    """How a code of so many bits is read; None where the chip's converter has too few."""
    extra = bits - port.adc_bits
    if extra > MOST_EXTRA_BITS:
        return None
    return Reading(4 ** max(extra, 0), abs(extra), 0)


def context(design: Design, around: dict[str, Any], port: Port) -> dict[str, Any]:
    """What the templates of a port say of a design, beside what those around the thermostat do.

    Raises FirmwareError where the chip cannot do it.
    """
    outputs: tuple[OutputCode, ...] = around["outputs"]
    period_s = float(design.law.period_s)
    adc: Any = getattr(design.probe, "adc", None) if has_converter(design.probe) else None
    reading = None if adc is None else reading_of(adc.bits, port)
    readings = 1 if adc is None else int(adc.oversampling)
    conversions = 0 if reading is None else reading.conversions * readings
    reading_s = conversions * port.conversion_s
    if reading_s > MOST_READING_SHARE * period_s:
        of = f"a control step of {period_s:g} s on {port.words}"
        rule = f"{conversions} conversions for a reading take {reading_s:.2g} s of {of}"
        raise FirmwareError("probe.adc.oversampling", rule, f"{readings}", "take fewer, or fewer bits")
    channels = _channels(outputs, port)
    base_us = max(1, round(1000.0 * around["base_ms"]))
    tick_parts = math.ceil(base_us / LONGEST_TICK_US)
    busy_s = STEP_S + reading_s + base_us / tick_parts * 1e-6
    return {
        "port": {
            "name": port.name,
            "words": port.words,
            "clock_hz": port.clock_hz,
            "baud": port.baud,
            "adc_bits": port.adc_bits,
            "reads_probe": reading is not None,
            "why_not": _why_not(design, port),
            "linear_top": _linear_top(outputs),
        },
        "reading_by": reading,
        "readings": readings,
        "reading_ms": 1000.0 * reading_s,
        "adc": adc,
        "knob_by": None if design.knob is None else _knob_by(design.knob.bits, port),
        "channels": channels,
        "channel_of": {one.output: one for one in channels},
        "sensor_channel": made_up_chip.SENSOR_CHANNEL,
        "knob_channel": made_up_chip.KNOB_CHANNEL,
        "avcc": adc is not None and adc.reference_volt >= LEAST_SUPPLY_VOLT,
        "pins": [one for one in outputs if one.switches and one.timing is None],
        "stack_bytes": port.stack_bytes[around["form"].is_outward],
        "letters_that_wait": LETTERS_THAT_WAIT,
        "kept_bytes": made_up_chip.whole_pages(around.get("copy_bytes", 0)),
        "base_us": base_us,
        "tick_us": base_us // tick_parts,
        "tick_parts": tick_parts,
        **_watchdog(design, period_s, busy_s, port),
        "avr_parts": AVR_PARTS,
        "avr_part": usual_part(around["form"]),
        "chip": made_up_chip,
    }


def files(prefix: str, port: Port, own: dict[str, Any]) -> dict[str, str]:
    """The files of a port beside its main, by name in the folder; `own` is the context of all of them."""
    every = {"{prefix}_board.h": "board.h.j2", **port.files}
    return {f"{port.name}/{name.format(prefix=prefix)}": render(template, own) for name, template in every.items()}


def _why_not(design: Design, port: Port) -> str:
    """Why the chip's own converter does not read the probe, to stand after "the sensor"."""
    if not has_converter(design.probe):
        return ""
    return (
        f" by a converter of its own: {design.probe.adc.bits} bits are more than this chip's {port.adc_bits} and the"
        f" {MOST_EXTRA_BITS} of averaging"
    )


def _knob_by(bits: int, port: Port) -> Reading:
    """A knob is read once, whatever its bits."""
    return Reading(1, max(port.adc_bits - bits, 0), max(bits - port.adc_bits, 0))


def _linear_top(outputs: tuple[OutputCode, ...]) -> int:
    """The steps of an output that follows its demand: those of the timer, where it makes pulse widths as well."""
    return next((output.timing.top for output in outputs if output.timing is not None), LINEAR_TOP)


def _channels(outputs: tuple[OutputCode, ...], port: Port) -> tuple[Channel, ...]:
    """The timer's channels, for pulse widths and for outputs that follow their demand."""
    found: list[Channel] = []
    for output in outputs:
        timing = output.timing
        if timing is None and output.switches:
            continue
        top = timing.top if timing else _linear_top(outputs)
        wanted_hz = timing.frequency_hz if timing else port.clock_hz / top
        prescaler = min(port.prescalers, key=lambda one: abs(math.log(port.clock_hz / (one * top * wanted_hz))))
        made_hz = port.clock_hz / (prescaler * top)
        if abs(made_hz / wanted_hz - 1.0) > WRONG_HZ:
            rule = f"{top} steps come to {made_hz:.4g} Hz on {port.words}, not {wanted_hz:.4g}"
            raise FirmwareError("drive.timer_clock_hz", rule, "", f"set timer_clock_hz to {port.clock_hz}")
        found.append(Channel(output.prefix, len(found), prescaler, top, made_hz))
    if len(found) > port.pwm_channels:
        rule = f"{len(found)} outputs by pulse width are more than the {port.pwm_channels} channels of {port.words}"
        raise FirmwareError("drive", rule, "", "switch one by a window")
    if port.name == "avr" and len({(one.prescaler, one.top) for one in found}) > 1:
        rule = "both pulse widths of an AVR are made by one timer"
        raise FirmwareError("second_drive", rule, "", "give both one frequency, and the timer one clock and width")
    return tuple(found)


def _watchdog(design: Design, period_s: float, busy_s: float, port: Port) -> dict[str, Any]:
    """The watchdog's time, ms, and whether it is fed while a step is waited for, because a step is longer; never less
    than a step is busy for."""
    wanted_ms = 1000.0 * (design.guard.watchdog_s or max(2.0, 2.0 * period_s))
    least_ms = 1000.0 * WATCHDOG_OVER_BUSY * busy_s
    enough = [one for one in port.watchdogs_ms if one >= least_ms] or [port.watchdogs_ms[-1]]
    chosen = max((one for one in enough if one <= wanted_ms), default=enough[0])
    return {"watchdog_ms": chosen, "feeds_in_waiting": chosen < 1500.0 * period_s}
