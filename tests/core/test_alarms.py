"""Each kind of alarm by a table of cases, in Python and in C."""

from __future__ import annotations

import math

import numpy as np
import pytest

from calor import loop
from calor.design.trial import Trial
from calor.firmware.run import host
from calor.law import alarm as alarms
from calor.law.alarm import Alarm
from calor.law.outputs import one
from calor.loop.found_events import alarm_rows
from tests.conftest import made

NAN = math.nan


@pytest.mark.parametrize(
    ("alarm", "readings", "expected"),
    [
        ({"kind": "high", "celsius": 60}, [59, 60, 60.1, 61, 59.9, 61], "..##.#"),
        ({"kind": "high", "celsius": 60, "hysteresis_celsius": 2}, [61, 59, 58.1, 58, 57.9, 59], "###..."),
        ({"kind": "high", "celsius": 60, "delay_s": 2}, [61, 61, 61, 61, 59, 61, 61], "..##..."),
        ({"kind": "high", "celsius": 60, "latch": True}, [61, 20, 20, 61], "####"),
        ({"kind": "low", "celsius": 40}, [30, 41, 39, 40], "#.#."),
        ({"kind": "low", "celsius": 40, "standby": True}, [30, 39, 41, 39, 45], "...#."),
        ({"kind": "low", "celsius": 40, "hysteresis_celsius": 3}, [39, 42, 43.1, 42], "##.."),
        ({"kind": "deviation_high", "celsius": 5}, [54, 56, 55], ".#."),
        (
            {"kind": "deviation_low", "celsius": 5, "standby": True, "delay_s": 1},
            [20, 30, 48, 44, 44, 44, 46],
            "....##.",
        ),
        ({"kind": "in_band", "celsius": 2}, [47, 48.5, 51.9, 52, 50], ".##.#"),
        ({"kind": "out_of_band", "celsius": 2, "hysteresis_celsius": 1}, [50, 53, 51.5, 51, 47], ".##.#"),
        ({"kind": "probe_fault", "celsius": 0}, [50, NAN, NAN, 50], ".##."),
        (
            {"kind": "probe_fault", "celsius": 0, "delay_s": 2, "latch": True},
            [NAN, NAN, 50, NAN, NAN, NAN, 50],
            ".....##",
        ),
        ({"kind": "rate_of_rise", "celsius": 3, "delay_s": 2}, [20, 21, 22, 26, 27, 27, 27, 27], "...##..."),
        ({"kind": "rate_of_rise", "celsius": 5, "delay_s": 60}, [20 + 0.1 * k for k in range(60)], "." * 50 + "#" * 10),
        ({"kind": "rate_of_rise", "celsius": 5, "delay_s": 40}, [20 + 0.1 * k for k in range(60)], "." * 60),
        (
            {"kind": "rate_of_rise", "celsius": 2, "delay_s": 2, "hysteresis_celsius": 1},
            [20, 22, 22.5, 23, 23.4, 24],
            ".###..",
        ),
        ({"kind": "high", "celsius": 60}, [61, NAN, NAN, 61, 20], "####."),  # holds still while the probe is at fault
    ],
)
def test_alarm_kinds(alarm: dict[str, object], readings: list[float], expected: str) -> None:
    plain = alarms.numbers(Alarm.model_validate(alarm), alarms.Acting(1.0, 1, 0.99, 0.99), 1.0)
    memory = np.zeros(alarms.MEMORY_SIZE)
    raised = [
        alarms.step(plain, memory, False, 50.0, reading, math.isnan(reading), one(0.0), 1.0) for reading in readings
    ]
    assert "".join(".#"[int(r)] for r in raised) == expected


def test_loop_break_is_full_demand_without_movement() -> None:
    alarm = '{ kind = "loop_break", celsius = 1.0, delay_s = 120 }'
    whole = made(
        law='kind = "pid"\ngain_per_celsius = 0.2',
        drive='kind = "linear"',
        load='kind = "lump"\nheater_watt = 200',
        guard=f"alarms = [ {alarm} ]",
    )
    trace = loop.run(whole, Trial(span_s=900))
    assert not [e for e in trace.events if e.kind == "alarm"] and trace.demand.max() == 1.0
    broken = Trial.model_validate(
        {"span_s": 900, "events": [{"kind": "power_step", "at_s": 60, "power_fraction": 0.0}]}
    )
    raised = [e for e in loop.run(whole, broken).events if e.kind == "alarm"]
    assert len(raised) == 1 and 150 <= raised[0].at_s <= 260 and "loop break" in raised[0].text


EVERY = """alarms = [
  { kind = "high", celsius = 52, hysteresis_celsius = 0.5, delay_s = 4 }, { kind = "low", celsius = 40, standby = true },
  { kind = "deviation_high", celsius = 1, latch = true }, { kind = "deviation_low", celsius = 1, delay_s = 10, standby = true },
  { kind = "in_band", celsius = 0.5 }, { kind = "out_of_band", celsius = 2, hysteresis_celsius = 0.3 },
  { kind = "probe_fault", celsius = 0, delay_s = 3 }, { kind = "loop_break", celsius = 2, delay_s = 20, latch = true },
  { kind = "loop_break", celsius = 5, delay_s = 15 },
]"""


@pytest.mark.parametrize("action", ["heat", "cool"])
@pytest.mark.parametrize("probe", ['kind = "thermistor"\nnoise_celsius = 0.1', 'kind = "ideal"\nnoise_celsius = 0.1'])
def test_alarms_in_c(probe: str, action: str) -> None:
    rise = 60 if action == "heat" else -30
    design = made(
        law=f'kind = "pid"\naction = "{action}"\ngain_per_celsius = 0.2\nintegral_time_s = 60\nperiod_s = 0.5', drive='kind = "linear"',
        load=f'kind = "first_order"\nrise_celsius = {rise}\ntime_constant_s = 120\ndead_time_s = 8\nambient_celsius = {20 if action == "heat" else 65}',
        probe=probe, guard=EVERY,
    )  # fmt: skip
    events = [
        {"kind": "probe_open", "at_s": 500, "for_s": 30}, {"kind": "power_step", "at_s": 800, "for_s": 60, "power_fraction": 0.2},
        {"kind": "ambient_step", "at_s": 1200, "for_s": 200, "celsius": 45},
    ]  # fmt: skip
    trace = loop.run(design, Trial.model_validate({"span_s": 2000, "events": events, "seed": 3}))
    readings = trace.measured_celsius if design.probe.kind == "ideal" else trace.counts
    answer = host.run(design, readings)
    assert host.run(design, readings[:1500], host.SANITIZER_FLAGS).alarms.tolist() == answer.alarms[:1500].tolist()
    for number, alarm in enumerate(design.guard.alarms):
        rows = alarm_rows(alarm, design, trace)
        in_c = (answer.alarms >> number) & 1 > 0
        # a reading that is a rounding from a threshold may fall on either side of it
        assert np.count_nonzero(rows != in_c) <= 3, alarm
        assert rows.any() or alarm.kind in ("loop_break", "deviation_high", "low"), alarm
