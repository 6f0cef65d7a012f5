"""The generated C: builds without a warning, is clean under the sanitizers, and decides as the Python does."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calor import loop
from calor.compiled import compiler
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import FirmwareError
from calor.firmware.run import host
from calor.firmware.sources import generate
from calor.law import registry as laws
from calor.loop import Flag
from calor.loop.trace import Trace
from calor.sense import reading, registry, sweep
from tests.conftest import made

STEPS = 5000
THERMISTOR = 'kind = "thermistor"\nnoise_celsius = 0.3'
HIGH_SIDE = THERMISTOR + '\nplaced = "high_side"\nadc = { bits = 10, divider_volt = 3.0, divide_by = "2^n-1" }'
SSR = 'kind = "time_proportional"\nwindow_s = 4'
PID = 'kind = "pid"\ngain_per_celsius = 0.08\nintegral_time_s = 60\nderivative_time_s = 4\nperiod_s = 0.5'
LOAD = 'kind = "first_order"\nrise_celsius = 60\ntime_constant_s = 120\ndead_time_s = 5'
CASES: dict[str, dict[str, str]] = {
    "pid": {"law": PID, "drive": SSR},
    "pid cooling, weighted, led back": {
        "law": PID + '\naction = "cool"\nsetpoint_weight = 0.3\nanti_windup = "back_calculate"\noutput_high = 0.8', "drive": SSR,
    },
    "pid, biased, slewed, ramped, integrating near": {
        "law": PID + "\nbias = 0.1\nslew_per_s = 0.02\nramp_celsius_per_s = 0.05\nintegral_band_celsius = 3", "drive": SSR,
    },
    "p only, linear": {"law": 'kind = "pid"\nperiod_s = 0.5\nanti_windup = "none"', "drive": 'kind = "linear"'},
    "pid, relay with pulses": {"law": PID, "drive": 'kind = "time_proportional"\nwindow_s = 10\nswitch = "relay"\nmin_pulse_s = 2'},
    "on/off": {"law": 'kind = "on_off"\nperiod_s = 0.5\nmin_on_s = 20\nmin_off_s = 15'},
    "on/off pair, cooling, held relay": {
        "law": 'kind = "on_off"\naction = "cool"\nperiod_s = 0.5\nstart_celsius = 52\nstop_celsius = 49',
        "drive": 'kind = "relay"\nmin_on_s = 10\nmin_off_s = 6',
    },
    "fan curve": {"law": 'kind = "fan_curve"\nperiod_s = 0.5\nstart_celsius = 48\nfull_celsius = 53\nfloor = 0.25', "drive": SSR},
    "fan curve, points, kick, slew": {
        "law": 'kind = "fan_curve"\nperiod_s = 0.5\npoints = [[45, 0], [48, 0.3], [50, 0.5], [52, 1]]\nkick_s = 2\nslew_per_s = 0.05\nhysteresis_celsius = 1',
        "drive": 'kind = "linear"',
    },
    "heating curve": {"law": 'kind = "fan_curve"\naction = "heat"\nperiod_s = 0.5\nstart_celsius = 51\nfull_celsius = 46\nkick_s = 1.2', "drive": SSR},
    "fan curve on a timer's PWM": {
        "law": 'kind = "fan_curve"\nperiod_s = 0.5\nstart_celsius = 48\nfull_celsius = 53\nfloor = 0.25', "drive": 'kind = "pwm"\ntimer_bits = 8\nfrequency_hz = 100',
    },
    "timer": {"law": 'kind = "timer"\nperiod_s = 0.5\non_s = 1.7\noff_s = 5', "drive": 'kind = "relay"'},
    "timer, cold start": {"law": 'kind = "timer"\npattern = "cold_start_then_repeat"\nperiod_s = 0.5\nfirst_s = 120\noutput = 0.6', "drive": SSR},
    "timer, wait": {"law": 'kind = "timer"\npattern = "wait_then_run"\nperiod_s = 0.5\nfirst_s = 333.3', "drive": SSR},
    "timer, stop": {"law": 'kind = "timer"\npattern = "run_then_stop"\nperiod_s = 0.5\nfirst_s = 777.7', "drive": SSR},
    "manual": {"law": 'kind = "manual"\noutput = 0.37\nperiod_s = 0.5', "drive": SSR},
    "cut-out": {"law": PID, "drive": SSR, "guard": "cut_out_celsius = 51.5\nprobe_fault_output = 0.4"},
}  # fmt: skip


def a_run(design: Design) -> Trace:
    """5 000 control steps with noise, and with the probe open and shorted in between."""
    faults = [
        {"kind": "probe_open", "at_s": 400, "for_s": 30}, {"kind": "probe_short", "at_s": 900, "for_s": 45},
        {"kind": "probe_open", "at_s": 2000, "for_s": 1},
    ]  # fmt: skip
    return loop.run(design, Trial.model_validate({"span_s": STEPS * 0.5, "seed": 8, "events": faults}))


@pytest.mark.parametrize(
    "probe", [THERMISTOR, HIGH_SIDE, 'kind = "ideal"\nnoise_celsius = 0.3'], ids=["low", "high", "ideal"]
)
@pytest.mark.parametrize("case", CASES)
def test_c_decides_as_python(case: str, probe: str) -> None:
    design = made(**{"load": LOAD, **CASES[case], "probe": probe})
    trace = a_run(design)
    ideal = design.probe.kind == "ideal"
    readings = trace.measured_celsius if ideal else trace.counts
    answer = host.run(design, readings)
    ok = np.isfinite(trace.measured_celsius)
    assert trace.steps == STEPS and 100 < np.count_nonzero(~ok) < 200
    assert np.abs(answer.measured_celsius - trace.measured_celsius)[ok].max() < 2e-4
    # float against double: a law with two thresholds may fall on either side of one by a rounding, never by more
    apart = np.abs(answer.demand - trace.demand)
    assert apart.max() < 2e-3 if design.law.kind != "on_off" else np.count_nonzero(apart > 1e-6) == 0
    assert (answer.flags == trace.flags).all()
    if design.probe.kind == "thermistor":
        assert {int(flags) & (Flag.PROBE_OPEN | Flag.PROBE_SHORT) for flags in trace.flags} == {
            0,
            Flag.PROBE_OPEN,
            Flag.PROBE_SHORT,
        }
    if design.drive.kind == "pwm":
        assert np.abs(answer.on_ticks - np.round(trace.delivered * generate.pwm.timing(design.drive).top)).max() <= 1
    elif design.drive.kind != "linear":
        ticks = round(0.5 / generate.tick_s(design))
        assert np.abs(answer.on_ticks / ticks - trace.delivered).max() <= 1.001 / ticks
        assert answer.on_ticks.sum() / ticks / STEPS == pytest.approx(trace.delivered.mean(), abs=2e-3)
    if case == "cut-out":
        assert (answer.flags & Flag.CUT_OUT).any()


@pytest.mark.parametrize("case", ["pid", "on/off pair, cooling, held relay", "pid, relay with pulses", "cut-out"])
def test_c_is_clean_under_the_sanitizers(case: str) -> None:
    design = made(**{"load": LOAD, "probe": THERMISTOR, **CASES[case]})
    codes = np.concatenate((np.arange(4096.0), a_run(design).counts[:500], [2.0**32 - 1]))
    clean = host.run(design, codes, host.SANITIZER_FLAGS)
    assert len(clean.demand) == len(codes) and np.isfinite(clean.demand).all()
    assert clean.demand.min() >= 0.0 and clean.demand.max() <= 1.0
    assert (clean.demand == host.run(design, codes).demand).all()


@pytest.mark.parametrize("case", CASES)
def test_sources_are_what_they_promise(case: str, tmp_path: Path) -> None:
    design = made(**{"load": LOAD, "probe": THERMISTOR, **CASES[case]}).model_copy(update={"name": "9th Öven, */ test"})
    written = generate.write(design, tmp_path / "new" / "folder")
    names = {path.name.removeprefix("design_9th_oven_test_") for path in written}
    assert {"thermostat.h", "thermostat.c", "law.h", "law.c", "state.h"} < names
    text = "".join(path.read_text() for path in written)
    assert "0BSD" in text and "double" not in text and not re.search(r"\b(malloc|calloc|free)\b", text)
    code = re.sub(r"/\*.*?\*/", "", text, flags=re.DOTALL)
    literals = re.findall(r"(?<![\w.])\d+\.\d*(?:e[+-]?\d+)?\w?|(?<![\w.])\d+e[+-]?\d+\w?", code)
    assert literals and all(literal.endswith("f") for literal in literals)
    assert "degrees Celsius" in text and re.search(r"licensed person", text)
    # each on its own, and no data that can change
    for source in (path for path in written if path.suffix == ".c"):
        object_file = tmp_path / f"{source.stem}.o"
        subprocess.run([*host.compiler(), *host.STRICT_FLAGS, "-c", str(source), "-o", str(object_file)], check=True)
        symbols = subprocess.run(["nm", str(object_file)], capture_output=True, text=True, check=True).stdout.split()
        assert not set(symbols) & {"B", "b", "D", "d", "C"}


def test_c_that_misbehaves_is_reported(cabinet: Design, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    blocked = tmp_path / "file"
    blocked.write_text("")
    with pytest.raises(FirmwareError, match=r"cannot be written .*choose another place"):
        generate.write(cabinet, blocked / "inside")
    codes = np.linspace(100.0, 4000.0, 400).round()
    own = host.run(cabinet, codes)
    monkeypatch.setenv("PATH", str(tmp_path))
    # without a compiler of the machine's own the packaged one gives the same bits
    assert host.compiler()[1:4] == ["-m", "ziglang", "cc"]
    packaged = host.run(cabinet, codes)
    assert (own.measured_celsius == packaged.measured_celsius).all() and (own.demand == packaged.demand).all()
    monkeypatch.setattr(compiler.importlib.util, "find_spec", lambda _: None)
    with pytest.raises(FirmwareError, match="no C compiler"):
        host.run(cabinet, np.zeros(1))


@settings(max_examples=12, deadline=None, derandomize=True)
@given(
    gain=st.floats(0, 3), ti=st.sampled_from([0.0, 8.0, 300.0]), td=st.sampled_from([0.0, 3.0, 40.0]), n=st.floats(1, 30),
    weight=st.floats(0, 1), limits=st.tuples(st.floats(0, 0.4), st.floats(0.5, 1)), action=st.sampled_from(["heat", "cool"]),
    anti_windup=st.sampled_from(["clamp", "back_calculate", "none"]), window=st.sampled_from([1.0, 2.5, 30.0]),
    mains=st.sampled_from([50, 60]), beta=st.floats(2500, 4800), series=st.floats(1000, 60_000), bits=st.integers(8, 16),
    cut_out=st.one_of(st.none(), st.floats(40, 70)), seed=st.integers(0, 999),
)  # fmt: skip
def test_any_pid_in_c_is_the_same_law(
    gain: float, ti: float, td: float, n: float, weight: float, limits: tuple[float, float], action: str, anti_windup: str,
    window: float, mains: int, beta: float, series: float, bits: int, cut_out: float | None, seed: int,
) -> None:  # fmt: skip
    """Random settings on random walks of the reading, faults among them: the same demand, decision by decision."""
    base = made(load=LOAD, drive=SSR, probe=THERMISTOR)
    law = {
        "kind": "pid", "action": action, "period_s": 0.5, "gain_per_celsius": gain, "integral_time_s": ti, "derivative_time_s": td,
        "derivative_filter": n, "setpoint_weight": weight, "output_low": limits[0], "output_high": limits[1], "anti_windup": anti_windup,
    }  # fmt: skip
    probe = {"kind": "thermistor", "beta_kelvin": beta, "series_ohm": series, "adc": {"bits": bits}}
    drive = {"kind": "time_proportional", "window_s": window, "mains_hz": mains}
    design = Design.model_validate(
        {**dict(base), "law": law, "probe": probe, "drive": drive, "guard": {"cut_out_celsius": cut_out}}
    )
    chance = np.random.default_rng(seed)
    plain = registry.numbers(design.probe)
    memory = reading.new_memory(plain)
    celsius = 50 + np.cumsum(chance.normal(0, 0.2, 800))
    counts = sweep.counts_over(plain, celsius)
    counts[chance.integers(0, 800, 20)] = plain.firmware.adc.codes - 1
    numbers, state = laws.numbers(design.law, design.guard), laws.start()
    demand = []
    for back, fault in zip(*sweep.steps(plain, memory, counts, 0.5), strict=True):
        state, decided = laws.step(numbers, state, laws.inputs(50.0, back, fault != 0), 0.5)
        demand.append(decided.first)
    answer = host.run(design, counts)
    # a float carries 24 bits: the largest part of the sum sets how far the two may be apart
    parts = gain * (1 + td * min(n / max(td, 1e-9), 2.0)) * 20 + (gain * 20 * 400 / ti if ti else 0)
    assert np.abs(answer.demand - demand).max() < 1e-4 + 2e-5 * parts
