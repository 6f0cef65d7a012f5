"""A device is talked to as a person, a program and a loss of power would: every command of its line, every value that
can be set, the loop that is led over the line, and what it keeps. What it does is compared with the reference, and with
what the line's document says.
"""

from __future__ import annotations

import binascii
import math
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.design.ranges import working_range
from calor.firmware.check import reference
from calor.firmware.check.readings import scale
from calor.firmware.check.stretches import Stretch
from calor.firmware.run.c_numbers import needs_other
from calor.firmware.run.device import BLANK, Device
from calor.firmware.run.exchange import inputs
from calor.firmware.sources.form import Form
from calor.firmware.sources.outward import IN_LOOP_S, RELEASE_S
from calor.firmware.sources.parameters import Parameter, parameters_of
from calor.loop import answer_row, seat

STEPS = 120
MOST_PROBLEMS = 20
LINE_OFF, LOOP_OFF = 4, 8
"""Who has it off, as the answer to `get` says."""


class Talk:
    """A device that is talked to, how many commands it was given, and what was wrong."""

    def __init__(self, design: Design, form: Form, own: Device) -> None:
        self.design, self.form, self.own = design, form, own
        self.commands = 0
        self.problems: list[str] = []
        codes, celsius = scale(design)
        self.stretch = stretch = Stretch(design, codes, celsius)
        aim, turns = design.setpoint.celsius, np.arange(STEPS)
        # about the setpoint, slowly and then further: where a law decides, and not at its limits
        places = aim + np.where(turns < STEPS // 2, 0.8, 4.0) * np.sin(turns / 7.0)
        self.readings = np.array([stretch.reading_at(float(place)) for place in places])
        self.cold = stretch.end(0.02)
        self.other = float(np.mean(working_range(design)))
        self.parameters = parameters_of(design, form)

    def expect(self, holds: bool, what: str) -> None:
        """What is to hold; else it is a problem."""
        if not holds and len(self.problems) < MOST_PROBLEMS:
            self.problems.append(what)

    def ask(self, command: str) -> str:
        """What it answers to a command, without its checksum, which has to be right."""
        self.commands += 1
        line = self.own.feed(f"{command}\n".encode()).decode("latin-1")
        text, mark, tail = line.rstrip("\n").rpartition(" *")
        self.expect(bool(mark) and tail == f"{crc(text):04X}" and line.endswith("\n"), f"the end of {line!r}")
        return text

    def says(self, command: str, answer: str) -> None:
        """What the answer to a command is to begin with."""
        text = self.ask(command)
        self.expect(text.startswith(answer), f"{command!r} answered {text!r}, not {answer!r}")

    def step(self, reading: float) -> tuple[npt.NDArray[np.float32], dict[str, float]]:
        """A control step: the thermostat's row, and the numbers of the line that it sends."""
        given = np.full(len(seat.GIVEN), np.nan, np.float32)
        given[[seat.COUNTS, seat.OTHER, seat.RESTART, seat.TUNE]] = reading, self.other, 0.0, 0.0
        stepped = self.own.step(given)
        return stepped.row, numbers_in(stepped.line.decode("latin-1").rpartition(" *")[0])

    def expected(self, design: Design | None = None) -> npt.NDArray[np.float32]:
        """The reference's rows on these readings."""
        return _expected(design or self.design, self.form, self.readings.tobytes(), self.other)

    def compare(self, told: dict[str, float], row: npt.NDArray[np.float32], where: str) -> None:
        """What a line tells of a step against the reference's row."""
        fault = bool(int(row[answer_row.FLAGS]) & answer_row.PROBE_FAULT_FLAG)
        wanted = {
            "measured_celsius": math.nan if fault else float(row[answer_row.MEASURED]),
            "setpoint_celsius": float(row[answer_row.SETPOINT]),
            "flags": float(row[answer_row.FLAGS]),
            "alarms": float(row[answer_row.ALARMS]),
        }
        for output in range(len(self.design.outputs)):
            wanted["demand" if output == 0 else f"demand_{output + 1}"] = float(row[answer_row.demand_at(output)])
        for key, value in wanted.items():
            said = told.get(key, math.inf)
            alike = (math.isnan(said) and math.isnan(value)) or (
                abs(said - value) <= 1e-5 + 1e-6 * abs(value)
                if self.form.fixed
                else np.float32(said) == np.float32(value)
            )
            self.expect(alike, f"{where}: {key}={said:g}, not {value:g}")


@lru_cache(maxsize=32)
def _expected(design: Design, form: Form, readings: bytes, other: float) -> npt.NDArray[np.float32]:
    """The reference's rows; the same are asked for again on each target."""
    own = np.frombuffer(readings)
    rows = reference.rows(design, inputs(design, own, np.full(STEPS, other)), own, form=form)
    assert rows is not None
    return rows


def crc(text: str) -> int:
    """CRC-16/CCITT-FALSE of a line's text. Source: ITU-T V.41; of "123456789" it is 0x29B1."""
    return binascii.crc_hqx(text.encode("latin-1"), 0xFFFF)


def numbers_in(text: str) -> dict[str, float]:
    """The key=number words of a line."""
    found = {}
    for word in text.split():
        key, sign, value = word.partition("=")
        try:
            found[key] = float(value) if sign else math.nan
        except ValueError:
            continue
    return found


def line_talked(talk: Talk) -> None:
    """The whole of a line: greeting, rows, checksums, settings, modes, the loop, what is kept."""
    expected = talk.expected()
    _greeting(talk)
    _rows(talk, expected)
    _checksums(talk)
    _modes(talk)
    _loop(talk, expected)
    if "cut_out_celsius" in talk.design.guard.model_fields_set:
        _release(talk)
    for one in talk.parameters:
        _set(talk, one)
    _keeping(talk)


def _greeting(talk: Talk) -> None:
    text = talk.ask("hello")
    for word in (f"step_s={talk.design.law.period_s:g}", "check=crc16", "keeps=1"):
        talk.expect(word in text.split(), f"the greeting lacks {word}: {text!r}")
    if talk.form.panel:
        talk.expect(f"panel={talk.form.panel}" in text.split(), "the greeting lacks its front")
    can = [word for word in text.split() if word.startswith("can=")]
    ranges = [one.split(":") for one in can[0].removeprefix("can=").split(",") if one] if can else []
    talk.expect([one[0] for one in ranges] == [one.key for one in talk.parameters], f"what can be set: {can}")
    for said, one in zip(ranges, talk.parameters, strict=False):
        near = all(
            abs(float(a) - b) <= 1e-6 * abs(b) + 1e-4 for a, b in zip(said[1:], (one.low, one.high), strict=True)
        )
        talk.expect(near, f"the range of {one.key}: {said}")
    talk.expect(talk.own.greeting().decode("latin-1").rpartition(" *")[0] == text, "hello is not the greeting")


def _rows(talk: Talk, expected: npt.NDArray[np.float32]) -> None:
    talk.own.begin()
    period_s = talk.design.law.period_s
    for k, reading in enumerate(talk.readings):
        _, told = talk.step(float(reading))
        talk.compare(told, expected[k], f"row {k}")
        talk.expect(
            abs(told.get("time_s", -1.0) - k * period_s) < 1e-5 * (k + 1), f"row {k}: time_s={told.get('time_s')}"
        )
        near = abs(told.get("counts", math.inf) - reading) <= (1.0 if talk.form.fixed else 0.01)
        talk.expect(near, f"row {k}: counts={told.get('counts')}, not {reading:g}")


def _checksums(talk: Talk) -> None:
    """A right checksum is taken, a wrong one changes nothing; so does a line that is too long, or no command."""
    for command, answer in (
        (f"get *{crc('get'):04X}", "ok get"), (f"get *{crc('get'):04x}", "ok get"),
        *((f"stop *{wrong}", "err checksum") for wrong in ("0123", "4567", "89AB", "CDEF", "89ab", "cdef")),
        (f"stop *{crc('stop') ^ 1:04X}", "err checksum"), (f"stop *{crc('stop') ^ 0x8000:04X}", "err checksum"),
        (f"stop {'x' * 300}", "err the line is too long"), ("stopp", "err stopp"), ("sto", "err sto"), ("?", "err"),
        ("\tget\r", "ok get"), ("get get", "err get takes"), ("set", "err set takes KEY VALUE"),
        ("hand", "err hand takes"), ("hand 1.5", "err hand takes"), ("hand nan", "err hand takes"),
        ("step", "err step takes"), ("step counts=x", "err step takes"), ("undo", "err undo takes front off"),
    ):  # fmt: skip
        talk.says(command, answer)
        talk.expect("mode=auto" in talk.ask("get").split(), f"after {command[:30]!r} it is not automatic any more")
    talk.expect(talk.own.feed(b"\n") == b"" and talk.own.feed(b"  \r\n") == b"", "an empty line is answered")


def _state(talk: Talk, mode: str, off: int, what: str) -> dict[str, float]:
    """Mode and who has it off, as `get` tells; where it is off the demand is 0 at once."""
    text = talk.ask("get")
    told = numbers_in(text)
    talk.expect(f"mode={mode}" in text.split() and told.get("off") == off, f"{what}: {text!r}")
    if off:
        talk.expect(all(value == 0.0 for key, value in told.items() if key.startswith("demand")), f"{what}: {text!r}")
    return told


def _modes(talk: Talk) -> None:
    """By hand, given back, off at once, self-tuning where it can."""
    talk.own.begin()
    talk.step(talk.cold)
    law: Any = talk.design.law
    high = min(1.0, getattr(law, "output_high", 1.0))
    share = round(0.8 * high, 3)
    talk.says(f"hand {share:g}", "ok hand ")
    for _ in range(3):
        row, told = talk.step(talk.cold)
    _state(talk, "hand", 0, "by hand")
    if law.kind == "pid" and not getattr(law, "slew_per_s", 0.0):
        talk.expect(abs(told.get("demand", -1.0) - share) < 1e-3 or row[answer_row.FLAGS] > 0, f"by hand: {told}")
    talk.says("tune", "err tune")
    talk.says("stop", "ok stop outputs off")
    _state(talk, "stopped", LINE_OFF, "after stop")
    row, _ = talk.step(talk.cold)
    talk.expect(not answer_row.demands(row[np.newaxis]).any(), "outputs are on after stop")
    talk.says("hand 0", "ok hand 0")
    _state(talk, "hand", 0, "hand after stop")
    talk.says("stop", "ok stop")
    talk.says("auto", "ok auto")
    _state(talk, "auto", 0, "auto after stop")
    tunes = getattr(law, "autotune", None) is not None
    talk.says("tune", "ok tune" if tunes else "err tune")
    _, told = talk.step(float(talk.readings[0]))
    talk.expect(not tunes or told.get("tuning") == 1.0, f"self-tuning does not begin: {told}")
    talk.own.begin()


def _loop(talk: Talk, expected: npt.NDArray[np.float32]) -> None:
    """Led over the line it decides as the reference; its own outputs are off meanwhile, and only so long."""
    talk.own.begin()
    talk.step(talk.cold)
    other = needs_other(talk.design)
    for k, reading in enumerate(talk.readings):
        again = " restart=1" if k == 0 else ""
        counts = f"{reading:.9g}"
        command = f"step counts={counts}{f' other={talk.other:.9g}' if other else ''} hand=nan n={k}{again}"
        text = talk.ask(command)
        talk.expect(text.startswith("ok step"), f"{command!r}: {text!r}")
        told = numbers_in(text)
        talk.compare(told, expected[k], f"in the loop, step {k}")
        talk.expect(
            told.get("n") == k and told.get("status") == float(expected[k, answer_row.STATUS]), f"step {k}: {text!r}"
        )
        if k == 0:
            _state(talk, "loop", LOOP_OFF, "as the loop begins")
        if k % 10 == 0:
            row, line = talk.step(talk.cold)
            talk.expect(not line and not answer_row.demands(row[np.newaxis]).any(), "in the loop its own outputs go on")
            _state(talk, "loop", LOOP_OFF, "in the loop")
    for command in ("restart=1 n=5", "n=0"):
        text = talk.ask(f"step counts={talk.readings[0]:.9g}{f' other={talk.other:.9g}' if other else ''} {command}")
        talk.compare(numbers_in(text), expected[0], f"begun again in the loop by {command}")
    talk.says("step counts=nan n=0 hand=0.2", "ok step")
    steps = max(2, math.ceil(IN_LOOP_S / talk.design.law.period_s))
    lines = [bool(talk.step(talk.cold)[1]) for _ in range(steps)]
    talk.expect(
        lines == [False] * (steps - 1) + [True],
        f"it leaves the loop after {lines.index(True) if any(lines) else 'no'} steps",
    )
    _state(talk, "auto", 0, "after the loop")
    talk.says("step counts=1 n=0", "ok step")
    talk.says("auto", "ok auto")
    _state(talk, "auto", 0, "auto in the loop")


def _release(talk: Talk) -> None:
    """A latched cut-out: asked for twice, the reading back, within its time."""
    talk.own.begin()
    cut_out, cools = float(talk.design.guard.cut_out_celsius or 0.0), talk.design.law.action == "cool"
    beyond = talk.stretch.reading_at(cut_out + (-3.0 if cools else 3.0))
    row, _ = talk.step(beyond)
    if not int(row[answer_row.FLAGS]) & answer_row.CUT_OUT_FLAG:
        return  # its probe reads no such temperature
    talk.says("release", "err release")
    row, _ = talk.step(float(talk.readings[0]))
    if int(row[answer_row.FLAGS]) & answer_row.PROBE_FAULT_FLAG:
        return  # it moves slower than this
    talk.says("release", "ok release once more")
    for _ in range(max(2, math.ceil(RELEASE_S / talk.design.law.period_s))):
        row, _ = talk.step(float(talk.readings[0]))
    talk.expect(bool(int(row[answer_row.FLAGS]) & answer_row.CUT_OUT_FLAG), "one release lets go of the cut-out")
    talk.says("release", "ok release once more")
    talk.says("release", "ok release let go")
    row, _ = talk.step(float(talk.readings[0]))
    talk.expect(not int(row[answer_row.FLAGS]) & answer_row.CUT_OUT_FLAG, "the cut-out is not let go of")


def _inner(one: Parameter) -> list[float]:
    """Values inside its range that are another than its own, a step to either side of it."""
    step = max(0.25 * abs(one.value), 0.25)
    found = [one.value + step, one.value - step, 0.5 * (one.value + min(one.high, one.value + step))]
    return [float(np.float32(round(value, 3))) for value in found if one.low <= value <= one.high]


def _set(talk: Talk, one: Parameter) -> None:
    """Inside its range it is taken, told, kept, and does what a design with it would do; outside nothing changes."""
    talk.own.put_memory(BLANK)
    talk.own.begin()
    talk.step(talk.cold)
    near = 2e-3 if talk.form.fixed else 1e-6

    def told() -> float:
        return numbers_in(talk.ask(f"get {one.key}")).get(one.key, math.inf)

    talk.expect(abs(told() - one.value) <= near * abs(one.value) + 5e-5, f"{one.key} is {told():g}, not {one.value:g}")
    before = told()
    beyond = (one.high + max(1.0, abs(one.high)), one.low - max(1.0, abs(one.low)), "nan", "x", "")
    for wrong, why in (*((value, f"{one.key} takes ") for value in beyond), ("1 2", "takes KEY VALUE")):
        talk.says(f"set {one.key} {wrong}", f"err set {why}")
        talk.expect(told() == before, f"{one.key} was changed by {wrong!r}")
    for value in _inner(one):
        answer = talk.ask(f"set {one.key} {value:.9g}")
        if answer.startswith("ok set"):
            break
        talk.expect(answer.endswith("would pass the one that bounds it"), f"{one.key} {value:g}: {answer!r}")
    else:
        return  # what bounds it leaves nothing beside it
    talk.expect(abs(told() - value) <= near * abs(value) + 5e-5, f"{one.key} was set to {value:g} and is {told():g}")
    talk.says("keep", "ok keep kept")
    talk.own.begin()
    talk.expect(abs(told() - value) <= near * abs(value) + 5e-5, f"{one.key} was kept as {value:g} and is {told():g}")
    section = getattr(talk.design, one.section)
    changed = talk.design.model_copy(update={one.section: section.model_copy(update={one.field: value})})
    rows = talk.expected(changed)
    got = np.array([talk.step(float(reading))[0] for reading in talk.readings])
    apart = np.abs(answer_row.demands(got) - answer_row.demands(rows)).max(axis=1)
    # settings are worked out from what was put in by roundings of their own
    far = apart > (0.03 if talk.form.fixed else 5e-3)
    talk.expect(int(far.sum()) <= 3, f"{one.key}={value:g}: demands {apart.max():.2g} from those of such a design")


def _keeping(talk: Talk) -> None:
    """Whenever the power goes while settings are kept, the old ones or the new ones are there; nothing twice."""
    if not talk.parameters:
        return
    one = talk.parameters[0]
    choices = [value for value in (*_inner(one), one.value) if one.low <= value <= one.high][:2]
    if len(choices) < 2:
        return
    talk.own.put_memory(BLANK)
    talk.own.begin()

    def told() -> float:
        return numbers_in(talk.ask(f"get {one.key}")).get(one.key, math.inf)

    talk.ask(f"set {one.key} {choices[0]:.9g}")
    talk.says("keep", "ok keep kept")
    memory = talk.own.memory()
    talk.says("keep", "ok keep kept")
    talk.expect(talk.own.memory() == memory, "what is there already is written again")
    old, size = told(), len(memory.rstrip(b"\xff"))
    for cut in range(size + 1):
        talk.own.put_memory(memory)
        talk.own.begin()
        talk.ask(f"set {one.key} {choices[1]:.9g}")
        new = told()
        talk.own.cut_power_after(cut)
        done = talk.ask("keep").startswith("ok")
        talk.own.begin()
        found = told()
        talk.expect(found in (old, new) and (found == new or not done), f"the power goes at byte {cut}: {found:g}")
    for at in range(size):
        talk.own.put_memory(memory[:at] + bytes([memory[at] ^ 4]) + memory[at + 1 :])
        talk.own.begin()
        talk.expect(abs(told() - one.value) <= 1e-3 * abs(one.value) + 1e-4, f"damaged at byte {at} it is taken")
    talk.own.put_memory(BLANK)
    talk.own.begin()


def talked(design: Design, form: Form, own: Device) -> Talk:
    """The line of a device of a design in this form, talked to: what was asked, and what was wrong."""
    talk = Talk(design, form, own)
    line_talked(talk)
    return talk
