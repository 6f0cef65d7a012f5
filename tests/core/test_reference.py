"""The reference in single precision and the generated C: the same bits, for every kind of probe, law and setpoint."""

from __future__ import annotations

import json
import math
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pytest

from calor.cli import invoke
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.design.trial import Trial
from calor.firmware.check import agreement, every_branch, reference
from calor.firmware.check.agreement import Recorded
from calor.firmware.run import host
from calor.firmware.run.exchange import inputs
from calor.loop import answer_row
from tests.conftest import PROBES, made
from tests.core.test_firmware_outputs import BY_HAND, CASES, WEATHER, design_of

PID = 'kind = "pid"\ngain_per_celsius = 0.08\nintegral_time_s = 60\nderivative_time_s = 4\nperiod_s = 0.5\n'
SETTINGS: dict[str, dict[str, str]] = {
    "led back, weighted, banded, slewed, ramped": {
        "law": PID + 'anti_windup = "back_calculate"\nsetpoint_weight = 0.3\nintegral_band_celsius = 8\nslew_per_s = 0.1\nramp_celsius_per_s = 0.05',
        "probe": 'kind = "thermistor"\nnoise_celsius = 0.1\nfilter = { kind = "exponential", time_constant_s = 3 }\nadc = { bits = 10, oversampling = 16, noise_counts = 0.6 }',
    },
    "gain sets, led back": {
        "law": PID + 'anti_windup = "back_calculate"\ngains_by = "interpolated"\n'
        "gain_sets = [ { at_celsius = 40, gain_per_celsius = 0.02, integral_time_s = 90 }, { at_celsius = 55, gain_per_celsius = 0.1, integral_time_s = 40, derivative_time_s = 3 } ]",
        "probe": 'kind = "thermistor"\nnoise_celsius = 0.1\nfilter = { kind = "mean", readings = 7 }\ncalibration = [ { true_celsius = 0, reading_celsius = 0.4 }, { true_celsius = 60, reading_celsius = 59.1 } ]',
    },
    "on/off, checked": {
        "law": 'kind = "on_off"\nperiod_s = 0.5\nmin_on_s = 3.3',
        "probe": 'kind = "thermistor"\nnoise_celsius = 0.3\nfilter = { kind = "median", readings = 5 }\n'
        "checks = { fastest_celsius_per_s = 1.1, stuck_s = 2.5, low_celsius = 2, high_celsius = 90 }",
    },
    "a fan that heats": {"law": 'kind = "fan_curve"\naction = "heat"\nperiod_s = 0.5\nstart_celsius = 52\nfull_celsius = 43\nkick_s = 2\nslew_per_s = 0.2'},
    "timer": {"law": 'kind = "timer"\nperiod_s = 0.3\npattern = "cold_start_then_repeat"\nfirst_s = 17.7\non_s = 1.7\noff_s = 5'},
}  # fmt: skip
GUARD = 'cut_out_celsius = 66\nalarms = [ { kind = "out_of_band", celsius = 4, hysteresis_celsius = 0.7, delay_s = 3.1 }, { kind = "rate_of_rise", celsius = 1, delay_s = 7 } ]'


def assert_same_bits(design: Design, record: Recorded) -> None:
    """The C on the host against the reference, every step of a record."""
    expected = reference.rows(design, record.given, record.readings)
    assert expected is not None and len(expected) == len(record.given) > 1000
    own = agreement.without_ticks(host.rows(design, record.given))
    assert agreement.first_difference(record, own, expected, "host, reference") is None
    # it is no comparison of nothing: in single precision it is near the simulation, and not the same
    assert 0.0 < agreement.reference_difference(design, record, expected)["measured_celsius"] < 2e-3


@pytest.mark.parametrize("case", [*CASES, *SETTINGS])
def test_laws_setpoints_and_guards(case: str) -> None:
    if case in CASES:
        design, events = design_of(case), CASES[case].get("events", WEATHER)
    else:
        probe = 'kind = "thermistor"\nnoise_celsius = 0.2'
        design, events = made(**{"probe": probe, "guard": GUARD, **SETTINGS[case]}), WEATHER
    trial = Trial.model_validate({"span_s": 1800, "seed": 5, "events": events, **CASES.get(case, {}).get("trial", {})})
    assert_same_bits(design, agreement.recorded(design, trial))


@pytest.mark.parametrize("probe", PROBES)
def test_every_probe_over_its_codes(probe: str) -> None:
    """Codes from one end of the converter to the other and at random, with fresh starts in between."""
    design = made(law=PID, drive='kind = "linear"', probe=PROBES[probe], guard=GUARD)
    top = 2 ** getattr(getattr(design.probe, "adc", None), "bits", 12)
    readings: npt.NDArray[np.float64] = np.concatenate(
        (np.linspace(0, top - 1, 1200).round(), np.random.default_rng(3).integers(0, top, 400))
    )
    if design.probe.kind == "ideal":
        readings = readings / 40.0
    if reference.probes.gives_code(design.probe):
        readings -= 2048.0
    readings[700] = np.nan if design.probe.kind in ("ideal", "digital") else readings[700]
    restart = np.arange(len(readings)) % 977 == 0
    given: Any = inputs(design, readings, restart=restart)
    expected = reference.rows(design, given, readings)
    own = agreement.without_ticks(host.rows(design, given))
    assert expected is not None
    differ = np.flatnonzero(((own + 0.0).view(np.uint32) != (expected + 0.0).view(np.uint32)).any(axis=1))
    assert not len(differ), (differ[0], given[differ[0]], own[differ[0]], expected[differ[0]])


def test_one_that_differs_is_told_and_one_that_is_stopped_ends() -> None:
    """The reference of other gains: the first step that differs, with its input, and both states."""
    design, other = made(law=PID), made(law=PID.replace("0.08", "0.080001"))
    record = agreement.recorded(design, Trial.model_validate({"span_s": 900, "events": BY_HAND[:0]}))
    expected = reference.rows(other, record.given, record.readings)
    assert expected is not None
    found = agreement.first_difference(record, host.rows(design, record.given), expected, "host, reference")
    assert found is not None and found["between"] == "host, reference" and found["step"] >= 0
    assert found["rows"][0] != found["rows"][1] and math.isfinite(found["reading"])
    assert reference.rows(design, record.given, record.readings, lambda: False) is None


def test_the_logarithm_is_as_good_as_the_librarys() -> None:
    """Against NumPy's in double precision (reference library), over what a divider can give."""
    x = np.geomspace(1e-4, 1e4, 3001).astype(np.float32)
    own = np.array([reference.natural_log(value) for value in x])
    assert own.dtype == np.float32 and np.abs(own - np.log(x.astype(np.float64))).max() < 1.2e-6


ON_A_THRESHOLD = """format = 1
name = "own"
[setpoint]
kind = "hold"
celsius = 40.1
[law]
kind = "on_off"
hysteresis_celsius = 0.2
period_s = 1
[drive]
kind = "relay"
[load]
kind = "lump"
heater_watt = 60
[probe]
kind = "digital"
celsius_per_code = 0.1
[limits]
[[trial]]
span_s = 3000
"""


def test_a_reading_on_a_threshold_is_no_fault(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """40.0 °C is 400 codes of 0.1: in double precision it is not below 40.1 - 0.1, in single precision it is on either
    side. The check passes and says so, and the exported test passes."""
    file = tmp_path / "own.toml"
    file.write_text(ON_A_THRESHOLD)
    out = tmp_path / "out"
    assert invoke(["code", str(file), "--check", "--target", "host", "--out", str(out), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert data["pass"] and data["fails"] == [] and data["reference"]["bit_equal"]
    assert data["reference"]["other_decisions_fraction"] > 0.0  # it is one
    sources = [str(path) for path in out.glob("own_*.c")]
    program = tmp_path / "test.out"
    host.built([*host.compiler(), *host.STRICT_FLAGS, str(out / "test" / "own_test.c"), *sources, "-o", str(program)])
    assert subprocess.run([program], capture_output=True, text=True, check=False).stdout == "equal over 400 steps\n"


@pytest.mark.parametrize("demo", DEMOS, ids=lambda demo: demo.design.stem)
def test_the_exported_steps_are_of_every_kind(demo: Any) -> None:
    """Its 400 steps are no warm-up: demands of all sizes, faults, trips, alarms, releases, off; few of them alike."""
    design = read(demo.design).design
    record = every_branch.short_inputs(design, 400)
    rows = reference.rows(design, record.given, record.readings)
    assert rows is not None and len(rows) == 400
    demand = rows[:, answer_row.demand_at(0)]
    assert max(np.mean(demand == value) for value in np.unique(demand)) < 0.85
    assert record.given["restart"].sum() > 5 and len(np.unique(record.given["reading"])) > 25
    flags = rows[:, answer_row.FLAGS].astype(int)
    assert (flags & answer_row.PROBE_FAULT_FLAG).any()
    assert (flags & answer_row.CUT_OUT_FLAG).any() == any(
        (design.guard.cut_out_celsius is not None, *(alarm.trips for alarm in design.guard.alarms))
    )
    assert (rows[:, answer_row.STATUS].astype(int) & answer_row.OFF_BIT).any()
    # a loop break needs full demand for longer than a filtered reading leaves it there
    watched = [k for k, alarm in enumerate(design.guard.alarms) if alarm.kind != "loop_break"]
    assert all((rows[:, answer_row.ALARMS].astype(int) >> k & 1).any() for k in watched)
