"""The generated line and what it sets: numbers as text, answers to anything, settings without a bump and kept through
any loss of power, alike on the host and on every chip, in float and in fixed point."""

from __future__ import annotations

import ctypes
import random
import struct
import subprocess
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calor import loop
from calor.board.protocol import Greeting, answer_of, greeting_of, row_of, unchecked
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.firmware import folder
from calor.firmware.controller.seat import seated
from calor.firmware.run import host
from calor.firmware.run.device import WHOLE, Device, device
from calor.firmware.run.device_code import device_code
from calor.firmware.sources.form import Form, form_of
from calor.firmware.sources.generate import generate
from calor.firmware.sources.outward import by_hand
from calor.firmware.sources.parameters import parameters_of
from calor.law.autotune import Autotune
from calor.loop import answer_row
from calor.loop.seat import GIVEN
from tests.conftest import PROBES, made
from tests.core.test_firmware_outputs import CASES, design_of

MEASURED, DEMAND, FLAGS = answer_row.MEASURED, answer_row.DEMANDS_FROM, answer_row.FLAGS
DESIGNS = {demo.design.stem: read(demo.design).design for demo in DEMOS}
FIXED = Form(fixed=True, table=True, link=True, panel=8)
CONSTANT = Form(constant=True, link=True, panel=16)
CHIPS = ("cortex-m0plus", "cortex-m4f", "rv32imc")


def given_row(counts: float, other: float = 21.0) -> np.ndarray[Any, np.dtype[np.float32]]:
    """What a run gives for a step: counts, and the second temperature; nothing by hand."""
    row = np.full(len(GIVEN), np.nan, np.float32)
    row[0], row[1], row[4:] = counts, other, 0.0
    return row


def said(own: Device, command: str) -> str:
    """What a device answers to a command, its checksum right."""
    text, is_right = unchecked(own.feed(f"{command}\n".encode()).decode().rstrip("\n"))
    assert is_right is True, text
    return text


# ---- numbers


@pytest.fixture(scope="module", params=["float", "fixed"])
def numbers(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> tuple[bool, Any]:
    """The C of text and numbers as a library."""
    place, is_fixed = tmp_path_factory.mktemp("text"), request.param == "fixed"
    sources = generate(DESIGNS["hatching_cabinet"], "x", FIXED if is_fixed else WHOLE)
    sources.put(place)
    number = "int32_t" if is_fixed else "float"
    (place / "around.c").write_text(
        f'#include "x_text.h"\nuint32_t put(uint32_t bits, char *at);\nint get(const char *at, uint32_t n, uint32_t *bits);'
        f"\nuint32_t put(uint32_t bits, char *at)\n{{\n    union {{ uint32_t bits; {number} x; }} u = {{ bits }};\n"
        "    x_text text;\n    x_text_begin(&text, at, 40u);\n    x_put_number(&text, u.x);\n    return text.length;\n}\n"
        f"int get(const char *at, uint32_t n, uint32_t *bits)\n{{\n    union {{ {number} x; uint32_t bits; }} u = {{ 0 }};\n"
        "    const bool is = x_number_of(at, n, &u.x);\n    *bits = u.bits;\n    return is ? 1 : 0;\n}\n"
    )
    library = place / "text.so"
    host.built([
        *host.compiler(), "-shared", "-fPIC", *host.STRICT_FLAGS, str(place / "around.c"), str(place / "x_text.c"),
        "-o", str(library),
    ])  # fmt: skip
    return is_fixed, ctypes.CDLL(str(library))


def put(library: Any, bits: int) -> str:
    room = ctypes.create_string_buffer(40)
    count = library.put(ctypes.c_uint32(bits), room)
    return room.raw[:count].decode()


def got(library: Any, text: str) -> int | None:
    bits = ctypes.c_uint32()
    return bits.value if library.get(text.encode(), len(text), ctypes.byref(bits)) else None


@settings(max_examples=1500)
@given(bits=st.integers(0, 2**32 - 1))
def test_numbers_read_back(numbers: tuple[bool, Any], bits: int) -> None:
    """Every number of the size of anything here is written so that it reads back to the bit."""
    is_fixed, library = numbers
    text = put(library, bits)
    value = struct.unpack("<f", struct.pack("<I", bits))[0]
    if is_fixed:
        signed = bits - (1 << 32) if bits >> 31 else bits
        if signed != -(1 << 31):  # which is no number
            assert abs(Fraction(text) - Fraction(signed, 65_536)) < Fraction(1, 131_072)
            assert got(library, text) == bits
    elif value != value:
        assert text == "nan" and np.isnan(struct.unpack("<f", struct.pack("<I", got(library, text) or 0))[0])
    elif abs(value) >= 4294967040.0:
        assert text in ("inf", "-inf")
    elif abs(value) > 1e-9:
        assert got(library, text) == bits
    else:
        assert abs(float(text) - value) <= 1e-16


@settings(max_examples=1000)
@given(
    text=st.one_of(
        st.from_regex(r"[-+]?[0-9]{0,12}\.?[0-9]{0,14}([eE][-+]?[0-9]{1,2})?", fullmatch=True),
        st.floats(-1e9, 1e9, width=32).map(repr), st.text("0123456789+-.eE nax", max_size=12),
        st.from_regex(r"[0-9]e-?[0-9]{4,8}", fullmatch=True),
    )
)  # fmt: skip
def test_numbers_are_read_to_the_nearest(numbers: tuple[bool, Any], text: str) -> None:
    """As a decimal number is rounded to the nearest one, a tie to the even one (IEEE 754-2019, 4.3.1); the rest is none."""
    is_fixed, library = numbers
    bits = got(library, text)
    if len(text.lower().partition("e")[2].lstrip("+-0")) > 4:
        assert bits is None, text  # more than anybody means; Python would be at it for a year
        return
    try:
        exact = Fraction(text) if " " not in text and "_" not in text else None
    except ValueError:
        exact = None
    if text == "nan":
        return
    if exact is None:
        assert bits is None, text
    elif is_fixed:
        if bits is not None:
            signed = bits - (1 << 32) if bits >> 31 else bits
            assert abs(exact * 65_536 - signed) <= Fraction(1, 2) + Fraction(1, 10**4)
        elif text.strip("+-").replace(".", "").isdigit():
            assert abs(exact) >= 32_767, text
    elif bits is not None:
        near = struct.unpack("<f", struct.pack("<I", bits))[0]
        beside = [np.nextafter(np.float32(near), np.float32(way)) for way in (-np.inf, np.inf)]
        digits = text.lower().partition("e")[0].strip("+-").replace(".", "").lstrip("0")
        if len(digits) <= 17 and (exact * 10**17).denominator == 1:  # so many are looked at
            apart = abs(exact - Fraction(near))
            assert all(apart <= abs(exact - Fraction(float(one))) for one in beside if np.isfinite(one)), text
    else:
        assert abs(exact) >= 10**16 or len(text) > 12 or "e" in text.lower(), text


# ---- commands


@pytest.mark.parametrize("form", [WHOLE, FIXED, CONSTANT], ids=["float", "fixed", "constant"])
@pytest.mark.parametrize("name", DESIGNS)
def test_everything_it_says_can_be_set_can(name: str, form: Form) -> None:
    """Greeting, limits, values there and back; what is outside, or no number, or no key, is refused and changes nothing."""
    design = DESIGNS[name]
    if design.probe.kind in ("ideal", "digital") or design.probe.kind == "thermocouple":
        form = form._replace(table=False)
    expected = parameters_of(design, form)
    with device(design, form=form) as own:
        greeting = greeting_of(unchecked(own.greeting().decode().rstrip("\n"))[0])
        assert isinstance(greeting, Greeting) and greeting.checked and greeting.panel == form.panel and greeting.keeps
        assert list(greeting.can) == [one.key for one in expected] and greeting.step_s == design.law.period_s
        for one in expected:
            own_value = row_of(said(own, f"get {one.key}").removeprefix("ok get "))
            assert own_value is not None
            assert own_value.values[one.key] == pytest.approx(one.value, rel=2e-3 if form.fixed else 1e-6, abs=2e-5)
            span = min(one.high, one.value + 10.0) - max(one.low, one.value - 10.0)
            inner = max(one.low, one.value - 10.0) + 0.4 * span
            answer = said(own, f"set {one.key} {inner:.6g}")
            if "bounds it" not in answer:
                kept = row_of(answer.removeprefix("ok set "))
                assert kept is not None
                assert kept.values[one.key] == pytest.approx(inner, rel=2e-3 if form.fixed else 1e-5, abs=1e-4)
            before = said(own, f"get {one.key}")
            for wrong in (
                f"{one.high * 1.5 + 1:.6g}",
                f"{one.low - abs(one.low) - 1:.6g}",
                "nan",
                "x",
                "",
                "1 2",
                "1e99",
            ):
                assert said(own, f"set {one.key} {wrong}").startswith("err set")
            assert said(own, f"get {one.key}") == before
        assert said(own, "set fan 1").startswith("err set takes KEY VALUE")
        assert said(own, "get fan").startswith("err get")


LAWS = {
    "manual": 'kind = "manual"\noutput = 0.4',
    "a fan that heats": 'kind = "fan_curve"\naction = "heat"\nstart_celsius = 40\nfull_celsius = 25\nfloor = 0.25\nslew_per_s = 0.1',
    "a fan from nothing": 'kind = "fan_curve"\naction = "cool"\nstart_celsius = 30\nfull_celsius = 45\nfloor = 0',
    "a pair": 'kind = "on_off"\nstart_celsius = 48\nstop_celsius = 52\nmin_on_s = 9',
    "above": 'kind = "on_off"\nhysteresis_celsius = 3\nplaced = "above"',
}  # fmt: skip


def named(name: str) -> Design:
    if name in LAWS:
        return made(law=LAWS[name], drive='kind = "linear"')
    return made(probe=PROBES[name]) if name in PROBES else design_of(name)


@pytest.mark.parametrize("name", [*PROBES, *CASES, *LAWS])
def test_every_file_compiles_by_itself(name: str, tmp_path: Path) -> None:
    """As a project compiles it: what is run here is compiled as one file, in which one part could lean on another."""
    design = named(name)
    form = form_of(design.probe, *(WHOLE, FIXED._replace(table=False))[len(name) % 2])
    sources = generate(by_hand(design, form), form=form)
    sources.put(tmp_path)
    files = [str(tmp_path / one) for one in sources.built]
    assert len(files) >= 7
    subprocess.run([*host.compiler(), *host.STRICT_FLAGS, "-fsyntax-only", *files], check=True)


@pytest.mark.parametrize("name", [*PROBES, *CASES, *LAWS])
def test_every_probe_and_law_has_its_line(name: str) -> None:
    """Builds without a warning, in float and in one of the other forms; steps, and tells what can be set as the design
    has it."""
    design = named(name)
    others = (FIXED._replace(table=False), CONSTANT, CONSTANT._replace(fixed=True, panel=0))
    for asked in (WHOLE, others[len(name) % 3]):
        form = form_of(design.probe, *asked)
        with device(design, form=form) as own:
            for counts in (900.0, 1500.0, 0.0):
                row = row_of(unchecked(own.step(given_row(counts)).line.decode().strip())[0])
                assert row is not None
                assert row.values["counts"] == pytest.approx(counts, abs=0.01 if not form.fixed else 1.0)
            for one in parameters_of(design, form):
                told = said(own, f"get {one.key}").partition("=")[2]
                assert float(told) == pytest.approx(one.value, rel=2e-3 if form.fixed else 1e-6, abs=2e-4), one.key
                assert said(own, f"set {one.key} {told}").startswith("ok"), one.key


@pytest.mark.parametrize("name", ['"; evil(); "', "??/", "a\\", "Größe=7, 50 % *", " ", "x" * 200, "%n%s"])
def test_any_name_is_a_word_in_the_greeting(name: str, cabinet: Design) -> None:
    with device(cabinet.model_copy(update={"name": name})) as own:
        greeting = greeting_of(unchecked(own.greeting().decode().rstrip("\n"))[0])
        assert greeting is not None and greeting.keeps and len(greeting.can) == 8, own.greeting()


def test_a_hand_on_every_law() -> None:
    """By hand, given back, off, for every law; a design that heats and cools takes both signs."""
    for design in DESIGNS.values():
        first = loop.run(design, design.trial[0].model_copy(update={"span_s": 10.0, "events": ()}))
        counts = float(first.measured_celsius[0] if design.probe.kind == "ideal" else first.counts[0])
        with device(design) as own:
            own.step(given_row(counts))
            both = design.law.action == "heat_cool"
            assert said(own, "hand -0.5").startswith("ok" if both else "err")
            assert said(own, "hand 1") == "ok hand 1"
            for _ in range(400):
                row = own.step(given_row(counts)).row
            high = row[DEMAND]
            assert int(row[FLAGS]) == 0 and high > 0.3, design.name
            assert "mode=hand" in said(own, "get")
            assert said(own, "stop") == "ok stop outputs off" and "mode=stopped" in said(own, "get")
            assert own.step(given_row(counts)).row[DEMAND] == 0.0
            assert said(own, "auto") == "ok auto" and "mode=auto" in said(own, "get")
            assert said(own, "tune").startswith(
                "ok" if getattr(design.law, "autotune", None) else "err tune this firmware"
            )


def test_in_the_loop_it_drives_nothing(cabinet: Design) -> None:
    """While it is asked step by step its own outputs are off, and nothing is told of them; afterwards it is as it was."""
    with device(cabinet) as own:
        assert own.step(given_row(1700.0)).row[DEMAND] > 0.9
        assert "demand=1" in said(own, "step counts=1700 n=0") and said(own, "step counts=x").startswith("err step")
        stepped = own.step(given_row(1700.0))
        assert stepped.row[DEMAND] == 0.0 and stepped.line == b""
        for _ in range(6):  # three seconds: nobody asks any longer
            last = own.step(given_row(1700.0))
        assert last.row[DEMAND] > 0.9 and b"demand=1" in last.line
        said(own, "step counts=1700 n=0")
        said(own, "stop")
        assert b"demand=0 " in own.step(given_row(1700.0)).line
        said(own, "step counts=1700 n=0")
        said(own, "auto")
        assert own.step(given_row(1700.0)).row[DEMAND] > 0.9


def settle(own: Device, counts: float, steps: int = 400) -> float:
    for _ in range(steps):
        row = own.step(given_row(counts)).row
    return float(row[DEMAND])


def test_no_bump(cabinet: Design) -> None:
    """A gain, a time or a weight that is changed while the output is free leaves it where it is."""
    counts = 1514.0  # 37.5 °C of the cabinet's probe
    with device(cabinet) as own:
        said(own, "set setpoint_celsius 38")
        settle(own, counts, 200)
        for command in ("gain_per_celsius 0.4", "setpoint_weight 0.3", "integral_time_s 300", "derivative_time_s 0"):
            before = settle(own, counts, 1)
            assert said(own, f"set {command}").startswith("ok")
            after = settle(own, counts, 1)
            assert 0.05 < before < 0.95 and abs(after - before) < 0.002, command


@pytest.mark.parametrize("name", ["pid both ways, dead zone, two drives", "pid both ways, overlap, PWM"])
@pytest.mark.parametrize("output", [0.3, -0.3], ids=["heating", "cooling"])
def test_no_bump_where_it_heats_and_cools(name: str, output: float) -> None:
    """Given back from a hand, and with other gains, weights and times: the output goes on from where it is."""
    design = design_of(name)
    with device(design) as own:
        near = design.setpoint.celsius - 0.3
        counts = min(range(100, 4000), key=lambda code: abs(own.step(given_row(code)).row[MEASURED] - near))
        own.begin()
        said(own, f"hand {output}")
        settle(own, counts, 50)
        said(own, "auto")
        for command in ("gain_per_celsius 0.05", "integral_time_s 300", "setpoint_weight 0.3", "derivative_time_s 5"):
            assert said(own, f"set {command}").startswith("ok")
            row = own.step(given_row(counts)).row
            assert row[DEMAND] - row[answer_row.demand_at(1)] == pytest.approx(output, abs=0.005), command


@pytest.mark.parametrize("back", [False, True])
def test_what_is_set_is_what_a_design_would_have(cabinet: Design, back: bool) -> None:
    """Set over the line before the first step, it does to the bit what the firmware of such a design does."""
    law = cabinet.law.model_copy(
        update={"anti_windup": "back_calculate" if back else "clamp", "integral_time_s": 512.0}
    )
    own_design = cabinet.model_copy(update={"law": law})
    other = law.model_copy(update={"gain_per_celsius": 0.375, "integral_time_s": 256.0, "derivative_time_s": 16.0})
    trial = cabinet.trial[0].model_copy(update={"span_s": 900.0})
    changed = own_design.model_copy(update={"law": other})
    with seated(changed, "host") as seat:
        expected = loop.run(changed, trial, seat=seat)
    with device(own_design) as own:
        for key in ("gain_per_celsius 0.375", "integral_time_s 256", "derivative_time_s 16"):
            assert said(own, f"set {key}").startswith("ok")
        for k in range(expected.steps):
            demand = own.step(given_row(expected.counts[k])).row[DEMAND]
            assert demand == pytest.approx(expected.demand[k], abs=1e-6 if back else 0.0), k


def test_tuned_gains_are_told_and_stay(cabinet: Design) -> None:
    """What self-tuning found is what `get` tells; another setting leaves it in force."""
    tuning = Autotune(amplitude=0.4, hysteresis_celsius=0.05)
    design = cabinet.model_copy(update={"law": cabinet.law.model_copy(update={"autotune": tuning})})
    with device(design) as own:
        assert said(own, "hand 0.5").startswith("ok") and said(own, "tune").startswith("err tune not while")
        assert said(own, "auto").startswith("ok")
        # a load of first order: the reading follows what it gives, 37.5 °C at code 1514 and 39 codes a degree
        celsius = 37.5
        slow = [celsius] * 40
        for step in range(40_000):
            if step == 8000:
                assert said(own, "tune") == "ok tune"
            row = own.step(given_row(round(1514.0 - 39.0 * (slow[0] - 37.5))))
            celsius += 0.5 * ((21.0 + 40.0 * float(row.row[DEMAND])) - celsius) / 300.0
            slow = [*slow[1:], celsius]
            if b"tuning=2" in row.line:
                break
        assert b"tuning=2" in row.line, row.line
        gain = row_of(said(own, "get gain_per_celsius").removeprefix("ok get "))
        assert gain is not None and gain.values["gain_per_celsius"] != pytest.approx(
            cabinet.law.gain_per_celsius, rel=0.01
        )
        assert said(own, "set output_high 0.9").startswith("ok")
        assert row_of(said(own, "get gain_per_celsius").removeprefix("ok get ")) == gain


# ---- kept


@pytest.mark.parametrize("form", [WHOLE, FIXED], ids=["float", "fixed"])
def test_five_hundred_power_cuts(cabinet: Design, form: Form) -> None:
    """Whenever the power goes while settings are kept, the old ones or the new ones are there afterwards, never neither."""
    dice = random.Random(5)
    kept, seen = "0.22", {"old": 0, "new": 0}
    with device(cabinet, form=form) as own:
        assert said(own, "keep") == "ok keep kept"
        whole = len(bytes(own.memory()).rstrip(b"\xff"))
        for k in range(500):
            new = f"{0.25 + k / 1024:.8g}"
            assert said(own, f"set gain_per_celsius {new}").startswith("ok")
            cut = dice.randrange(whole + 8)
            own.cut_power_after(cut)
            is_told = said(own, "keep").startswith("ok")
            own.begin()
            found = said(own, "get gain_per_celsius").partition("=")[2]
            near = {"old": float(kept), "new": float(new)}
            which = min(near, key=lambda name: abs(near[name] - float(found)))
            assert float(found) == pytest.approx(near[which], abs=2e-5 if form.fixed else 1e-7), (k, cut)
            assert which == "new" or not is_told, "what is said to be kept is"
            seen[which] += 1
            kept = found
        assert min(seen.values()) > 50, seen


def test_what_is_kept_is_of_its_version(cabinet: Design) -> None:
    """Damaged memory, blank memory and that of another firmware count as none; nothing is written twice."""
    other = cabinet.model_copy(update={"law": cabinet.law.model_copy(update={"bias": 0.1})})
    with device(cabinet) as own, device(other) as another:
        said(own, "set gain_per_celsius 0.5")
        said(own, "keep")
        memory = own.memory()
        said(own, "keep")
        assert own.memory() == memory, "what is there already is not written again"
        another.put_memory(memory)
        another.begin()
        assert said(another, "get gain_per_celsius") == "ok get gain_per_celsius=0.22"
        for at in range(len(memory.rstrip(b"\xff"))):
            own.put_memory(memory[:at] + bytes([memory[at] ^ 1]) + memory[at + 1 :])
            own.begin()
            assert said(own, "get gain_per_celsius") == "ok get gain_per_celsius=0.22", at
        own.put_memory(memory)
        own.begin()
        assert said(own, "get gain_per_celsius") == "ok get gain_per_celsius=0.5"


# ---- anything whatever, and everywhere

_MAIN = """
#include <stdio.h>
#include <string.h>
int main(void)
{{
    static uint32_t given[1024];
    static uint32_t answer[2048];
    static unsigned char head[4];
    memset(device_memory, 0xFF, sizeof device_memory);
    harness_device_begin();
    while (fread(head, 4, 1, stdin) == 1) {{
        const unsigned count = head[1] | ((unsigned)head[2] << 8);
        memset(given, 0, sizeof given);
        memset(answer, 0, sizeof answer);
        given[0] = count;
        if (fread(given + 1, 1, count, stdin) != count) {{
            return 1;
        }}
        if (head[0] == 0) {{
            harness_device_feed(given, answer);
            fwrite(answer + 1, 1, answer[0], stdout);
        }} else if (head[0] == 1) {{
            harness_device_step((const float *)(const void *)(given + 1), answer);
            fwrite((const char *)(answer + 1 + {width}), 1, answer[0], stdout);
        }} else if (head[0] == 2) {{
            harness_device_keys(given + 1);
        }} else {{
            harness_device_begin();
        }}
    }}
    return 0;
}}
"""
WORDS = [
    "hello", "get", "set", "hand", "auto", "tune", "stop", "keep", "step", "front", "up", "down", "counts=", "n=0",
    "counts=nan", "other=nan", "hand=0.5", "restart=1", "tune=1", "setpoint=37.5", "-1", "0.5", "1e30", "nan", "inf", "*",
    "*0000", "", " ", "=", "\t", "\0", "\xff", "0" * 30, "x" * 250, "1e-400", "99999999999999999999",
]  # fmt: skip


def fuzz(dice: random.Random, keys: list[str], count: int) -> bytes:
    """Lines, steps, keys and restarts at random, as the program reads them."""
    stream = b""
    for _ in range(count):
        kind = dice.choices((0, 1, 2, 3), (6, 3, 4, 0.2))[0]
        if kind == 0:
            words = dice.choices(WORDS + keys, k=dice.randrange(6))
            body = " ".join(words).encode("latin-1")
            if dice.random() < 0.2:
                body = bytes(dice.randrange(256) for _ in range(dice.randrange(40)))
            body = body[:400] + (b"\n" if dice.random() < 0.9 else b"")
        elif kind == 1:
            reading = dice.choice((float("nan"), 0.0, 1514.0, 4095.0, -300.0, 1e9, dice.uniform(0.0, 4095.0)))
            body = given_row(reading, dice.choice((float("nan"), 21.0, -1e6))).tobytes()
        elif kind == 2:
            body = struct.pack("<II", dice.randrange(8), dice.choice((0, 5, 10, 20, 600, 70_000)))
        else:
            body = b""
        stream += struct.pack("<BHB", kind, len(body), 0) + body
    return stream


@pytest.mark.parametrize("form", [WHOLE, FIXED, CONSTANT], ids=["float", "fixed", "constant"])
@pytest.mark.parametrize("name", DESIGNS)
def test_anything_whatever_comes_over_the_line(name: str, form: Form, tmp_path: Path) -> None:
    """Clean under the sanitizers; every answer whole and checked; limits hold whatever was sent or pressed."""
    design = DESIGNS[name]
    if design.probe.kind in ("ideal", "digital", "thermocouple"):
        form = form._replace(table=False)
    own = by_hand(design, form)
    sources = generate(own, form=form)
    sources.put(tmp_path)
    code = device_code(own, sources, False) + _MAIN.format(width=answer_row.width(len(own.outputs)))
    (tmp_path / "device.c").write_text(code)
    program = tmp_path / "device"
    host.built([
        *host.compiler(), *host.STRICT_FLAGS, *host.SANITIZER_FLAGS, "-O0",
        host.whole(tmp_path, *sources.built, "device.c"), "-o", str(program),
    ])  # fmt: skip
    expected = parameters_of(design, form)
    stream = fuzz(random.Random(len(name)), [one.key for one in expected], 6000)
    ran = subprocess.run([program], input=stream, capture_output=True, check=False)
    assert ran.returncode == 0, ran.stderr.decode(errors="replace")[:2000]
    lines = ran.stdout.split(b"\n")
    assert len(lines) > 2000 and lines[-1] == b""
    setpoint = next((one for one in expected if one.key == "setpoint_celsius"), None)
    for line in lines[:-1]:
        text, is_right = unchecked(line.decode("latin-1"))
        assert is_right is True, line
        assert answer_of(text) or greeting_of(text) or row_of(text), text
        row = row_of(text)
        if row is not None and setpoint is not None:
            assert setpoint.low - 1e-3 <= row.values["setpoint_celsius"] <= setpoint.high + 1e-3


@pytest.mark.long
@pytest.mark.parametrize("chip", CHIPS)
@pytest.mark.parametrize("form", [WHOLE, FIXED], ids=["float", "fixed"])
def test_the_same_on_every_chip(chip: str, form: Form, cabinet: Design) -> None:
    """The same lines, letter by letter, as on the host: rows, answers, the front, what is kept."""
    pytest.importorskip("unicorn")
    heard: list[list[bytes]] = []
    for name in ("host", chip):
        with device(cabinet, name, form=form) as own:
            dice, lines = random.Random(3), [own.greeting()]
            for k in range(60):
                lines.append(own.step(given_row(dice.choice((0.0, 1514.0, dice.randrange(4096))))).line)
                own.keys(dice.random() < 0.3, dice.random() < 0.3, dice.random() < 0.5, 25)
                one = dice.choice(parameters_of(cabinet, form))
                commands = (
                    f"set {one.key} {one.low + dice.random() * min(50.0, one.high - one.low):.7g}", f"get {one.key}",
                    f"step counts={dice.randrange(4096)} other=21.0625 hand=nan setpoint=37.25 restart=0 tune=0 n={k}",
                    "front", "keep", dice.choice(("auto", "stop", f"hand {dice.random():.5f}")),
                )  # fmt: skip
                lines += [own.feed(f"{command}\n".encode()) for command in commands]
            heard.append([*lines, own.memory()])
    assert heard[0] == heard[1]


def test_the_folder_with_line_and_front(cabinet: Design, tmp_path: Path) -> None:
    """Its example and its test build without a warning, and the test passes; the README says what can be set."""
    made = folder.made(cabinet, form=WHOLE, with_sizes=True)
    made.write(tmp_path)
    names = set(made.sources.files)
    for concern in ("text", "parameters", "link", "panel"):
        assert {f"hatching_cabinet_{concern}.c", f"hatching_cabinet_{concern}.h"} <= names
    readme = (tmp_path / "README.md").read_text()
    assert "| `integral_time_s` | Ti | 0 | 1000000 |" in readme and "hatching_cabinet_link_feed" in readme
    assert "| cortex-m0plus |" in readme and "with its line and its front, built for size" in readme
    for part in ("example/hatching_cabinet_example.c", "test/hatching_cabinet_test.c"):
        program = tmp_path / Path(part).stem
        host.built([
            *host.compiler(), *host.STRICT_FLAGS, "-O2", str(tmp_path / part), *(str(tmp_path / one) for one in made.sources.built if "/" not in one), "-o", str(program),
        ])  # fmt: skip
    ran = subprocess.run([tmp_path / "hatching_cabinet_test"], capture_output=True, text=True, check=True)
    assert "equal over" in ran.stdout


def test_a_folder_written_anew_keeps_no_line_that_it_has_no_more(cabinet: Design, tmp_path: Path) -> None:
    """What was written of this thermostat before goes with what it belongs to; what somebody changed, or is another's, stays."""
    other = cabinet.model_copy(update={"name": "Hatching cabinet link"})
    folder.write(other, tmp_path, prefix="hatching_cabinet_link", form=WHOLE)
    folder.write(cabinet, tmp_path, form=WHOLE)
    (tmp_path / "hatching_cabinet_panel.c").write_text("/* mine now */\n")
    folder.write(cabinet, tmp_path)
    left = {path.name for path in tmp_path.glob("hatching_cabinet_*")}
    assert not {"hatching_cabinet_link.c", "hatching_cabinet_link.h", "hatching_cabinet_text.c"} & left
    assert {"hatching_cabinet_panel.c", "hatching_cabinet_link_link.c", "hatching_cabinet_law.c"} <= left
