"""The generated C of every probe: equal to the Python over every code, its checks, filters, table, knob and button."""

from __future__ import annotations

import ctypes
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor.design.model import Design
from calor.firmware.run import exchange, host
from calor.firmware.sources import generate, scaling
from calor.firmware.sources.templating import Sources
from calor.sense import knob, reading, registry, sweep, table
from calor.sense.points import code_range
from tests.conftest import PROBES, made, probe_of

POINTS = [{"true_celsius": 0.0, "reading_celsius": 0.4}, {"true_celsius": 30.0, "reading_celsius": 30.2},
          {"true_celsius": 60.0, "reading_celsius": 59.7}]  # fmt: skip
FILTERS: dict[str, dict[str, Any]] = {
    "mean": {"kind": "mean", "readings": 5}, "median": {"kind": "median", "readings": 5},
    "exponential": {"kind": "exponential", "time_constant_s": 3.0},
}  # fmt: skip
CHECKS = {
    "low_celsius": 5.0,
    "high_celsius": 300.0,
    "fastest_celsius_per_s": 20.0,
    "stuck_s": 1.5,
    "reversed_celsius": 20.0,
}


def design_of(probe: Any) -> Design:
    return made(law='kind = "manual"\nperiod_s = 0.5', drive='kind = "linear"').model_copy(update={"probe": probe})


def python(probe: Any, given: np.ndarray[Any, Any]) -> tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]]:
    """(measured °C, faults) of the reference on codes, one after the other."""
    plain = registry.numbers(probe)
    return sweep.steps(plain, reading.new_memory(plain), given, 0.5)


def assert_same(probe: Any, given: np.ndarray[Any, Any], flags: tuple[str, ...] = ("-O2",)) -> np.ndarray[Any, Any]:
    """C and Python agree on codes: faults to the one, temperatures as far as a float carries. Returns the faults."""
    measured, faults = python(probe, given)
    answer = host.run(design_of(probe), given, flags)
    shown = answer.flags >> 4
    found = np.where(shown > 0, np.log2(np.maximum(shown, 1)).astype(int) + 1, 0)
    differ = np.flatnonzero(found != faults)
    # at the very end of a scale a float may fall on its other side
    assert len(differ) <= 1 and all(k in (differ[0], differ[-1]) for k in differ), (
        differ,
        found[differ],
        faults[differ],
    )
    both = (faults == 0) & (found == 0)
    assert both.sum() > 0.2 * len(given) or probe.checks.low_celsius is not None
    away = np.abs(answer.measured_celsius - measured)[both]
    assert away.max(initial=0.0) < tolerance(probe), measured[both][int(np.argmax(away))]
    return faults


def tolerance(probe: Any) -> float:
    """°C: 32-bit floats carry 24 bits; near -270 °C a microvolt is a degree."""
    return 4e-3 if probe.kind == "thermocouple" else 3e-4


@pytest.mark.parametrize("name", PROBES)
def test_every_code(name: str) -> None:
    probe = probe_of(name)
    low, high = code_range(registry.numbers(probe))
    codes = np.arange(low, high + 1, dtype=float)
    if not registry.has_converter(probe):
        codes = np.append(codes, np.nan)  # a sensor that does not answer
    faults = assert_same(probe, codes)
    assert faults[-1] != 0


@pytest.mark.parametrize("name", ["thermistor", "thermistor, points", "rtd", "thermocouple K", "chip", "digital"])
@pytest.mark.parametrize("filter_", FILTERS)
def test_filters_checks_and_calibration(name: str, filter_: str) -> None:
    probe = probe_of(name, filter=FILTERS[filter_], checks=CHECKS, calibration=POINTS)
    plain = registry.numbers(probe)
    chance = np.random.default_rng(11)
    celsius = 40.0 + np.cumsum(chance.normal(0.0, 0.8, 3000))
    celsius[500:520], celsius[700], celsius[900:903], celsius[1200:1210] = celsius[500], 4.0, 150.0, 1.0
    counts = sweep.counts_over(plain, celsius)
    counts[1500:1503] = np.nan if not registry.has_converter(probe) else code_range(plain)[1]
    faults = assert_same(probe, counts)
    # below the cold junction a thermocouple is wired backwards before it is out of range
    assert {0, 1, 4, 6, 5 if "thermocouple" in name or name == "chip" else 3} <= set(faults)
    assert_same(probe, counts[:1600], host.SANITIZER_FLAGS)


def test_oversampled_counts_are_sums() -> None:
    probe = probe_of("thermistor", adc={"bits": 10, "oversampling": 16, "noise_counts": 1.0})
    assert_same(probe, np.arange(1024 * 16) / 16.0)
    assert "sum of 16 conversions" in generate.generate(design_of(probe)).files["untitled_thermostat.h"]


def library(sources: Sources, folder: Path) -> ctypes.CDLL:
    """Sources built by the strict flags, as a library."""
    for name, text in sources.files.items():
        (folder / name).write_text(text)
    target = folder / f"{sources.prefix}.so"
    command = [
        *host.compiler(),
        *host.STRICT_FLAGS,
        "-O2",
        "-shared",
        "-fPIC",
        "-o",
        str(target),
        *(str(folder / name) for name in sources.built),
    ]
    subprocess.run(command, check=True, capture_output=True)
    return ctypes.CDLL(str(target))


@pytest.mark.parametrize("name", PROBES)
def test_the_scaling_alone(name: str, tmp_path: Path) -> None:
    """The probe's two files build on their own and read as the thermostat does."""
    probe = probe_of(name, filter={"kind": "median", "readings": 3})
    sources = scaling.scaling(design_of(probe))
    built = library(sources, tmp_path)
    read = getattr(built, f"{sources.prefix}_read")
    read.restype = ctypes.c_float
    state = ctypes.create_string_buffer(256)
    getattr(built, f"{sources.prefix}_init")(
        state, ctypes.byref(ctypes.c_char.in_dll(built, f"{sources.prefix}_defaults"))
    )
    plain = registry.numbers(probe)
    counts = sweep.counts_over(plain, np.linspace(55.0, 75.0, 50))
    measured, faults = python(probe, counts)
    found = [read(state, ctypes.c_uint32(int(word)), ctypes.c_float(0.5)) for word in exchange.as_given(probe, counts)]
    assert (faults == 0).all() and np.abs(np.array(found) - measured).max() < tolerance(probe)


@pytest.mark.parametrize("number", ["integer", "float"])
@pytest.mark.parametrize(
    ("name", "low", "high"), [("thermistor", -10, 90), ("rtd, ratiometric", -60, 700), ("thermocouple T", 0, 190)]
)
def test_the_table_in_c(name: str, low: float, high: float, number: Any, tmp_path: Path) -> None:
    found = table.smallest(probe_of(name), 0.4, low, high, number)
    built = library(scaling.lookup(design_of(probe_of(name)), found), tmp_path)
    codes = np.arange(found.first_counts, found.last_counts + 1)
    expected = table.looked_up(
        found.stored, found.first_counts, found.last_counts, codes.astype(float), number, found.celsius_per_step
    )
    value: Any = ctypes.c_int32() if number == "integer" else ctypes.c_float()
    look_up = built.untitled_table_steps if number == "integer" else built.untitled_table_celsius
    look_up.restype = ctypes.c_bool
    got = []
    for code in codes:
        assert look_up(ctypes.c_uint32(int(code)), ctypes.byref(value))
        got.append(value.value * (found.celsius_per_step if number == "integer" else 1.0))
    assert np.abs(np.array(got) - expected).max() < (1e-9 if number == "integer" else 1e-3)
    assert not look_up(ctypes.c_uint32(found.last_counts + 1), ctypes.byref(value))
    assert found.first_counts == 0 or not look_up(ctypes.c_uint32(found.first_counts - 1), ctypes.byref(value))


class Button(ctypes.Structure):
    _fields_ = (("pressed", ctypes.c_bool), ("last", ctypes.c_bool), ("still_s", ctypes.c_float), ("on", ctypes.c_bool))


@pytest.mark.parametrize(("low", "high", "step"), [(20.0, 40.0, 0.5), (60.0, 5.0, 0.0), (0.0, 10.0, 0.3)])
def test_knob_and_button_in_c(low: float, high: float, step: float, tmp_path: Path) -> None:
    own = knob.Knob(low_celsius=low, high_celsius=high, step_celsius=step)
    button = knob.Button(debounce_s=0.025, starts_on=True)
    design = design_of(probe_of("thermistor")).model_copy(update={"knob": own, "button": button})
    built = library(generate.generate(design), tmp_path)
    built.untitled_knob_celsius.restype = ctypes.c_float
    plain = knob.knob_numbers(own)
    got = np.array([built.untitled_knob_celsius(ctypes.c_uint32(code)) for code in range(1024)])
    want = np.array([knob.setpoint_of(plain, float(code)) for code in range(1024)])
    # a float may round the other way where a code lies in the very middle between two steps
    assert np.count_nonzero(np.abs(got - want) > 1e-4) <= (2 if step else 0)
    state, there = knob.button_start(button), Button()
    built.untitled_button_init(ctypes.byref(there))
    step_c = built.untitled_button_step
    step_c.restype = ctypes.c_bool
    chance = np.random.default_rng(3)
    for _ in range(3000):
        level = bool(chance.random() < 0.5) if chance.random() < 0.2 else state.last
        state = knob.button_step(button.debounce_s, state, level, 0.01)
        assert step_c(ctypes.byref(there), ctypes.c_bool(level), ctypes.c_float(0.01)) == state.on
