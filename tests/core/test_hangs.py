"""What happens between two control steps, and the first decision after power-up: hangs, lost mains, minimum times."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.design.trial import Trial
from calor.firmware.check import agreement
from calor.firmware.run import host
from calor.loop.trace import Flag
from calor.proof.plan import Plan
from calor.proof.running import made as run_case
from calor.proof.running import ready, while_on
from tests.conftest import made

PID = 'kind = "pid"\ngain_per_celsius = 0.1\nintegral_time_s = 100\nperiod_s = 1'
WINDOW = 'kind = "time_proportional"\nwindow_s = 2\nswitch = "ssr_random"'
LOAD = 'kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 300'


def level_at(trace: Any, time_s: float) -> float:
    """What the first output gives at an instant, by its changes."""
    before = np.flatnonzero(trace.switch_s <= time_s)
    return float(trace.switch_level[before[-1]]) if len(before) else 0.0


def ran(design: Any, span_s: float, *events: dict[str, Any]) -> Any:
    return loop.run(design, Trial.model_validate({"span_s": span_s, "events": list(events)}))


@pytest.mark.parametrize(
    ("law", "drive"),
    [
        (PID, WINDOW), (PID.replace("period_s = 1", "period_s = 2.5"), WINDOW), (PID, 'kind = "linear"'),
        ('kind = "on_off"\nperiod_s = 5', 'kind = "relay"'), (PID, 'kind = "time_proportional"\nwindow_s = 7\nswitch = "relay"'),
    ],
    ids=["windows", "windows, slow steps", "linear", "relay", "long windows"],
)  # fmt: skip
def test_a_hang_is_put_where_an_output_is_on(law: str, drive: str) -> None:
    """Within a pulse, at that very instant: the output stays on to the end, far above what the run without it reaches."""
    design = made(law=law, drive=drive, load=LOAD, trial="span_s = 3000")
    plan = Plan(design)
    case = next(one for one in plan.fixed if one.name == "firmware_hung")
    case = while_on(plan, case, lambda control: __import__("contextlib").nullcontext(), loop.new_control())
    trace = run_case(plan, case).trace
    assert trace is not None and level_at(trace, case.at_s) > 0.0
    assert trace.switch_s[-1] <= case.at_s and trace.switch_level[-1] > 0.0  # nothing changes any more
    healthy = loop.run(*ready(plan, case._replace(fault=None))[:2])
    if drive != 'kind = "linear"':
        assert trace.true_celsius.max() > healthy.true_celsius.max() + 30.0
        assert not run_case(plan, case).outcome.passes


def test_a_hang_acts_at_its_instant() -> None:
    """Between two steps too, and within a pulse that would have ended before the next one."""
    design = made(law='kind = "manual"\noutput = 0.5\nperiod_s = 10', drive=WINDOW, load=LOAD)
    for at_s, level in ((105.5, 1.0), (104.5, 0.0), (105.0 + 1e-3, 1.0), (111.0, 0.0)):
        trace = ran(design, 300.0, {"kind": "stalled", "at_s": at_s})
        assert trace.switch_s[-1] <= at_s + 1e-9 and level_at(trace, 250.0) == level, at_s


def test_windows_missed_in_a_hang_are_skipped() -> None:
    """A hang that ends goes on in the window that is on by then: no output of more than all, no flood of switchings."""
    design = made(law='kind = "manual"\noutput = 0.5\nperiod_s = 1', drive=WINDOW, load=LOAD)
    plain = ran(design, 3600.0)
    trace = ran(design, 3600.0, {"kind": "stalled", "at_s": 601.4, "for_s": 600})
    assert trace.delivered.max() <= 1.0 + 1e-9 and (np.diff(trace.switch_s) > 0.0).all()
    assert len(trace.switch_s) == pytest.approx(len(plain.switch_s) * 5 / 6, abs=4)
    # on for the 600 s of the hang, half of the rest
    assert trace.delivered.sum() == pytest.approx(0.5 * 3000 + 600, abs=4)
    after = trace.time_s > 1210
    assert np.array_equal(trace.delivered[after], plain.delivered[after])


@pytest.mark.parametrize("between", [{"at_s": 100.2, "for_s": 0.5}, {"at_s": 99.0, "for_s": 5.0}])
def test_mains_lost_between_two_steps_restarts_the_controller(between: dict[str, Any]) -> None:
    """The integral is gone, the outputs are off until the next decision, and the C is started again at the same step."""
    design = made(law=PID, drive='kind = "linear"', load=LOAD, trial="span_s = 200")
    plain = ran(design, 200.0)
    event = {"kind": "mains_lost", **between}
    trial = Trial.model_validate({"span_s": 200.0, "events": [event]})
    trace = loop.run(design, trial)
    first = int(np.ceil(between["at_s"] + between["for_s"]))
    assert trace.demand[first] < plain.demand[first] - 0.05 or plain.demand[first] == 1.0
    assert level_at(trace, first - 0.01) == 0.0
    record = agreement.recorded(design, trial)
    assert record.trace.time_s[record.rows[record.given["restart"] == 1]].tolist() == [first]
    assert agreement.reference_difference(design, record, host.rows(design, record.given))["demand"] < 1e-3


MINIMUM = "min_off_s = 180\nperiod_s = 60"


@pytest.mark.parametrize(
    "law", [f'kind = "on_off"\n{MINIMUM}', f'kind = "stages"\n{MINIMUM}\nstages = [ {{ on_offset_celsius = 1 }} ]']
)
@pytest.mark.parametrize(
    ("events", "on_s"),
    [
        ([], 180), ([{"kind": "mains_lost", "at_s": 600, "for_s": 120}], 900),
        ([{"kind": "mains_lost", "at_s": 610, "for_s": 20}], 840),
        ([{"kind": "stalled", "at_s": 600, "for_s": 600}], 660 + 180),
    ],
    ids=["power-up", "mains return", "mains lost between two steps", "watchdog"],
)  # fmt: skip
def test_a_minimum_off_time_is_not_one_step_early(law: str, events: list[dict[str, Any]], on_s: float) -> None:
    """After power-up, after the mains returns, after the watchdog; in the C too."""
    design = made(
        law=law, drive='kind = "relay"', load='kind = "first_order"\nrise_celsius = 40', guard="watchdog_s = 30"
    )
    trial = Trial.model_validate({"span_s": 1800.0, "events": events})
    trace = loop.run(design, trial)
    begun = max((event["at_s"] for event in events), default=0.0)
    assert float(trace.time_s[(trace.time_s > begun) & (trace.demand > 0.5) & (trace.flags == 0)][0]) == on_s
    record = agreement.recorded(design, trial)
    rows = host.rows(design, record.given)
    assert agreement.reference_difference(design, record, rows)["demand"] == 0.0
    assert (record.trace.flags[record.rows].astype(int) & Flag.STALLED == 0).all()


@pytest.mark.parametrize("min_on_s", [0, 30, 200])
def test_heating_and_cooling_are_never_both_on(min_on_s: int) -> None:
    """What has to stay on is waited for; the C decides alike."""
    law = f'kind = "on_off"\naction = "heat_cool"\ndead_zone_celsius = 0.2\nhysteresis_celsius = 0.2\nmin_on_s = {min_on_s}\nperiod_s = 1'
    design = made(
        law=law,
        drive='kind = "relay"',
        load='kind = "first_order"\nrise_celsius = 80\nsecond_rise_celsius = -80\ntime_constant_s = 60',
        setpoint="celsius = 22",
    )
    swings = [
        {"kind": "ambient_step", "at_s": 100 * k, "for_s": 50, "celsius": 20 + 15 * (-1) ** k} for k in range(1, 12)
    ]
    trial = Trial.model_validate({"span_s": 1500.0, "events": swings})
    trace = loop.run(design, trial)
    heating, cooling = trace.outputs
    assert heating.demand.max() == cooling.demand.max() == 1.0
    assert not ((heating.demand > 0) & (cooling.demand > 0)).any()
    record = agreement.recorded(design, trial)
    assert agreement.reference_difference(design, record, host.rows(design, record.given))["demand"] == 0.0
