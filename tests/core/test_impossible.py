"""Loads that cannot be: colder than anything, or faster than any step; each is said, and none hangs or lies."""

from __future__ import annotations

import math
import threading

import pytest

from calor import loop
from calor.design.trial import Trial
from calor.errors import CalorError, DesignError
from calor.load import registry as loads
from calor.loop import simulate
from tests.conftest import made

FULL = 'kind = "manual"\noutput = 1\nperiod_s = 1'


@pytest.mark.parametrize(
    "load",
    [
        'kind = "lump"\nheater_watt = -1e6', 'kind = "lump"\nheater_watt = -1e6\nloss_w_per_k = 0', 'kind = "lump"\nalways_watt = -1e5',
        'kind = "lump"\nheater_watt = -1e6\nradiating_m2 = 1e-3', 'kind = "chamber"\nheater_watt = -1e6', 'kind = "chamber"\nsecond_watt = -1e6\nalways_watt = -1e6',
        'kind = "first_order"\nrise_celsius = -3000', 'kind = "second_order"\nrise_celsius = -3000', 'kind = "integrating"\nrate_celsius_per_s = -50',
        'kind = "liquid"\nheater_watt = -1e6',
    ],
)  # fmt: skip
def test_nothing_is_colder_than_absolute_zero(load: str) -> None:
    design = made(load=load, law=FULL, drive='kind = "linear"')
    with pytest.raises(CalorError, match=r"load: goes below absolute zero \d+ s into trial 'Trial'.*; lower its power"):
        loop.run(design, Trial(span_s=600))


def test_what_stays_above_it_runs(tmp_path: object) -> None:
    """A cooler that ends above absolute zero is none of these; what is hotter than anything is."""
    design = made(load='kind = "first_order"\nrise_celsius = -290', law=FULL, drive='kind = "linear"')
    assert loop.run(design, Trial(span_s=60_000)).true_celsius[-1] == pytest.approx(-270.0, abs=0.1)
    design = made(
        load='kind = "lump"\nheater_watt = 1e6\nheat_capacity_j_per_k = 0.01\nloss_w_per_k = 0',
        law=FULL,
        drive='kind = "linear"',
    )
    with pytest.raises(CalorError, match=r"load: goes above 1e\+07 °C 1 s into trial"):
        loop.run(design, Trial(span_s=600))


@pytest.mark.parametrize(
    ("load", "span_s"),
    [
        ('kind = "lump"\nheat_capacity_j_per_k = 0.01\nradiating_m2 = 1e4', 600), ('kind = "lump"\nheat_capacity_j_per_k = 0.01\nradiating_m2 = 1\nfan_w_per_k = 1e3', 1e6),
        ('kind = "liquid"\nelement_j_per_k = 0.01\nelement_to_liquid_w_per_k = 1e6', 600), ('kind = "chamber"\nfan_w_per_k = 2\nair_j_per_k = 0.08', 5e6),
    ],
)  # fmt: skip
def test_a_load_too_fast_to_follow_is_said_at_check(load: str, span_s: float) -> None:
    with pytest.raises(DesignError, match=r"(needs .* steps of its load.*, more than|settles in .* below)"):
        made(load=load, law=FULL, drive='kind = "linear"', trial=f"span_s = {span_s}")


def test_a_load_that_is_solved_exactly_may_be_as_fast_as_it_likes() -> None:
    """1e8 time constants a second: at once where its balance is, by dT = P/G."""
    load = 'kind = "lump"\nheat_capacity_j_per_k = 0.01\nloss_w_per_k = 1e6\nheater_watt = 1e6'
    design = made(load=load, law=FULL, drive='kind = "linear"')
    assert loads.fastest_s(design.load) == pytest.approx(1e-8) and loads.inner_steps(design.load, 1.0) == 20
    assert loop.run(design, Trial(span_s=600)).true_celsius[2:] == pytest.approx(21.0)
    assert loads.inner_steps(made(load='kind = "integrating"').load, 1.0) == 1 and math.isinf(
        loads.fastest_s(made(load='kind = "integrating"').load)
    )


def test_windows_too_short_for_a_trial_are_said() -> None:
    with pytest.raises(DesignError, match=r"has 5e\+07 windows of its drive, more than 10,000,000"):
        made(drive='kind = "time_proportional"\nwindow_s = 0.02', trial="span_s = 1e6", law='kind = "pid"')


def test_a_stiff_run_is_stopped_at_once() -> None:
    """Of some 1e9 steps of its load: it looks whether it is to stop after a few of them."""
    load = 'kind = "liquid"\nelement_j_per_k = 0.01\nelement_to_liquid_w_per_k = 100'
    design = made(load=load, law='kind = "on_off"\nperiod_s = 5', trial="span_s = 9000")
    control = loop.new_control()
    stopper = threading.Thread(target=lambda: (wait_for_run(control), control.__setitem__(0, 1)))
    stopper.start()
    with pytest.raises(loop.Stopped):
        loop.run(design, Trial(span_s=9000), control)
    stopper.join()
    assert control[1] < 1000


def wait_for_run(control: object) -> None:
    while not any(one is control for one in simulate._running):
        pass
