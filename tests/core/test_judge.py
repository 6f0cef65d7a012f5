"""Metrics on curves whose figures are known, verdicts, and advice that keeps its word."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.design.trial import Limits, Trial
from calor.drive.pwm import Pwm
from calor.drive.registry import KINDS
from calor.judge.advice import advise
from calor.judge.card import Advice, changed
from calor.judge.linear import load_response
from calor.judge.metrics import measure
from calor.judge.verdict import LIMIT_NAMES, judge
from calor.law.fan_curve import FanCurve
from calor.load import registry as loads
from calor.loop.trace import Disturbance, Trace
from tests.conftest import made


def curve(measured: np.ndarray, setpoint: float | np.ndarray = 50.0, dt: float = 1.0, **more: object) -> Trace:
    """A run with a given measured column."""
    rows = len(measured)
    none = np.full(rows, np.nan)
    values = {"delivered": np.zeros(rows), "flags": np.zeros(rows), "span_s": rows * dt} | more
    return Trace(
        np.arange(rows) * dt,
        measured,
        none,
        none,
        measured,
        np.broadcast_to(np.asarray(setpoint, float), rows),
        none,
        **values,
    )  # type: ignore[arg-type]


def test_first_order_rise() -> None:
    """1 − e^(−t/τ): rise τ·ln 9, in band at τ·ln(ΔT/b), IAE ΔT·τ (closed forms)."""
    t = np.arange(0, 4000, 0.1)
    found = measure(curve(50 - 30 * np.exp(-t / 300), dt=0.1), 0.5)
    assert found.rise_time_s == pytest.approx(300 * np.log(9), abs=0.2)
    assert found.time_to_band_s == pytest.approx(300 * np.log(60), abs=0.2)
    assert found.iae_celsius_s == pytest.approx(30 * 300, rel=1e-3)
    assert (found.overshoot_celsius, found.recovery_s) == (0.0, ())
    assert found.in_band_fraction == pytest.approx(1 - 300 * np.log(60) / 4000, abs=1e-3)


def test_settled_oscillation() -> None:
    t = np.arange(0, 3600.0)
    found = measure(curve(50.3 + 2 * np.sin(2 * np.pi * t / 120)), 0.5)
    assert found.settled_ripple_celsius == pytest.approx(4, abs=0.01)
    assert found.mean_error_celsius == pytest.approx(0.3, abs=1e-6)
    assert found.overshoot_celsius == pytest.approx(2.3, abs=0.01)
    assert found.time_to_band_s is None


@pytest.mark.parametrize(("cools", "start", "expected"), [(False, 20, 3.0), (True, 80, 4.0), (False, 80, 4.0)])
def test_overshoot_follows_the_approach(cools: bool, start: float, expected: float) -> None:
    measured = np.concatenate((np.linspace(start, 50, 50), [53.0, 46.0], np.full(50, 50.0)))
    assert measure(curve(measured, cools=cools), 0.5).overshoot_celsius == pytest.approx(expected)


def test_setpoint_step_is_a_new_approach() -> None:
    measured = np.concatenate((np.full(50, 50.0), np.linspace(50, 60, 20), [61.0], np.full(50, 60.0)))
    setpoint = np.where(np.arange(len(measured)) < 50, 50.0, 60.0)
    assert measure(curve(measured, setpoint), 0.5).overshoot_celsius == pytest.approx(1.0)


def test_recovery_is_counted_from_the_end_and_must_last() -> None:
    measured = np.full(1000, 50.0)
    measured[300:420] = 45.0
    measured[450:470] = 51.0
    measured[700:] = 49.0
    events = (Disturbance(300, 400, "door"), Disturbance(600, 610, "door"), Disturbance(650, 650, "step"))
    found = measure(curve(measured, disturbances=events), 0.5)
    assert found.recovery_s == (70.0, 0.0, None)
    assert found.time_to_band_s == 0.0


def test_switchings_energy_and_share() -> None:
    design = made(
        law='kind = "manual"\noutput = 0.25', drive='kind = "time_proportional"\nwindow_s = 20',
        load='kind = "lump"\nheater_watt = 200',
    )  # fmt: skip
    found = measure(loop.run(design, Trial(span_s=3600)), 0.5)
    assert found.switchings_per_hour == 359 and found.on_fraction == pytest.approx(0.25)
    assert found.energy_wh == pytest.approx(50.0)
    linear = measure(loop.run(made(law='kind = "pid"', drive='kind = "linear"'), Trial(span_s=600)), 0.5)
    assert linear.switchings_per_hour == 0 and linear.energy_wh is None


def test_a_run_without_readings_or_setpoint() -> None:
    found = measure(curve(np.full(10, np.nan), np.nan), 0.5)
    assert found.peak_celsius is None and found.overshoot_celsius is None and found.settled_ripple_celsius is None


def test_limits_judge_at_their_edge() -> None:
    measured = np.concatenate((np.linspace(20, 50, 31), [50.5], np.full(100, 50.0)))
    trace = curve(measured, disturbances=(Disturbance(100, 100, "x"),))
    for limit, passes in ((0.5, True), (0.49, False)):
        verdict = judge(trace, Limits(overshoot_celsius=limit))
        assert [(item.name, item.value, item.passes) for item in verdict.limits] == [("overshoot_celsius", 0.5, passes)]
        assert verdict.passes is passes
    assert judge(trace, Limits()).limits == () and judge(trace, Limits()).passes
    every = {name: 1.0 if name == "in_band_fraction" else 1e3 for name in LIMIT_NAMES if name != "energy_wh"}
    assert [item.name for item in judge(trace, Limits(**every)).limits] == list(every)
    never = judge(curve(np.full(50, 20.0)), Limits(in_band_within_s=1e6)).limits[0]
    assert never.value is None and not never.passes


def cards(design: Design, number: int = 0) -> list[Advice]:
    trial = design.trial[number]
    trace = loop.run(design, trial)
    return advise(design, trial, trace, judge(trace, design.limits))


def card(design: Design, word: str) -> Advice | None:
    return next((card for card in cards(design) if word in card.title), None)


def test_advice_on_power_keeps_its_word(cabinet: Design) -> None:
    """The demo misses its recovery; the proposal is simulated again and meets it, as the card says."""
    found = card(cabinet, "Recovery misses")
    assert found is not None and found.proposal is not None
    again = judge(loop.run(found.proposal, found.proposal.trial[0]), found.proposal.limits)
    assert again.passes and not judge(loop.run(cabinet, cabinet.trial[0]), cabinet.limits).passes


def test_advice_on_what_cannot_be_reached(cabinet: Design) -> None:
    weak = changed(cabinet, "load", heater_watt=15.0)
    found = card(weak, "cannot reach")
    assert found is not None and found.proposal is not None
    assert found.proposal.load.heater_watt >= 1.1 * (37.5 - 21.0) * 1.0
    assert card(cabinet, "cannot reach") is None


def test_advice_on_ripple_from_dead_time(cabinet: Design) -> None:
    law = {"kind": "on_off", "hysteresis_celsius": 1.0, "period_s": 0.5}
    hunting = Design.model_validate({**dict(cabinet), "law": law})
    found = card(hunting, "ripple comes from delay")
    assert found is not None and found.proposal is not None
    before, after = (measure(loop.run(d, d.trial[0]), 0.5).settled_ripple_celsius for d in (hunting, found.proposal))
    assert before is not None and after is not None and after < 0.3 * before
    still = made(law='kind = "on_off"\nhysteresis_celsius = 4', load='kind = "first_order"\ndead_time_s = 0')
    assert card(still, "ripple") is None


def test_advice_on_a_gain_that_oscillates(cabinet: Design) -> None:
    hot = changed(cabinet, "law", gain_per_celsius=1.2)
    found = card(hot, "oscillate")
    assert found is not None and found.proposal is not None and found.proposal.law.gain_per_celsius < 0.6
    assert card(cabinet, "oscillate") is None


def test_advice_on_contacts(cabinet: Design, hut: Design) -> None:
    assert card(cabinet, "Good for an SSR, not for a relay") is not None
    relay = changed(cabinet, "drive", switch="relay")
    found = card(relay, "relay wears out")
    assert found is not None and "cycles an hour" in found.text
    assert card(hut, "wears out") is None


def test_advice_on_a_tripped_cut_out(cabinet: Design) -> None:
    low = changed(cabinet, "guard", cut_out_celsius=37.6)
    found = cards(low)[0]
    assert "tripped and latched" in found.title and "37.6 °C" in found.text


def test_every_demo_trial_is_judged_and_advised(cabinet: Design, hut: Design) -> None:
    for design in (cabinet, hut):
        for number in range(len(design.trial)):
            for found in cards(design, number):
                assert found.title.endswith(".") and found.why.endswith(".") and "nan" not in found.text
                assert bool(found.try_label) == (found.proposal is not None)


def test_advice_names_only_what_it_tried(hut: Design) -> None:
    """Where there is neither a gain nor a heater to make stronger, none is said to have been tried."""
    law = FanCurve(start_celsius=35.0, full_celsius=45.0, hysteresis_celsius=4.0)
    design = Design.model_validate({**{k: getattr(hut, k) for k in Design.model_fields}, "law": law, "drive": Pwm()})
    trial = design.trial[0]
    trace = loop.run(design, trial)
    cards = advise(design, trial, trace, judge(trace, design.limits))
    missed = [card for card in cards if "misses" in card.title]
    assert (
        missed
        and "power" not in missed[0].text
        and "gain" not in missed[0].text
        and "Look at the law" in missed[0].text
    )


FAN = 'kind = "lump"\nheater_watt = 0\nalways_watt = 60\nheat_capacity_j_per_k = 3000\nloss_w_per_k = 1.2\nfan_w_per_k = 4'
STAGED = (
    'kind = "stages"\nstages = [ { on_offset_celsius = -0.5, share = 0.6 }, { on_offset_celsius = -4, share = 0.4 } ]'
)
SLOW = 'kind = "lump"\nheater_watt = 100\nheat_capacity_j_per_k = 400\nloss_w_per_k = 2'


@pytest.mark.parametrize(
    ("blocks", "title", "says"),
    [
        ({"setpoint": "celsius = 45", "law": 'kind = "on_off"\naction = "cool"\nhysteresis_celsius = 0.2', "load": FAN}, "The fan hunts", "times an hour"),
        ({"law": 'kind = "on_off"\nhysteresis_celsius = 0', "load": SLOW}, "share one threshold", "on and off at 50.00"),
        ({"setpoint": "celsius = 45", "law": 'kind = "fan_curve"\nhysteresis_celsius = 0\nstart_celsius = 40', "load": FAN}, "share one threshold", "noise alone"),
        ({"law": 'kind = "pid"', "drive": 'kind = "time_proportional"\nwindow_s = 60', "load": SLOW}, "window is too long", "more than a tenth"),
        ({"law": 'kind = "fan_curve"\nfloor = 0.1\nstart_celsius = 40', "load": FAN, "drive": 'kind = "linear"'}, "may not start", "10 %"),
        ({"law": 'kind = "fan_curve"\nfloor = 0.25\nstart_celsius = 40', "load": FAN, "drive": 'kind = "pwm"\nidle_output = 0.4'}, "below what the fan", "40 %"),
        ({"law": STAGED, "load": SLOW}, "stage never drops", "Stage 1 is on"),
        ({"setpoint": "celsius = 90", "law": STAGED, "load": SLOW}, "No stage ever", "All are on"),
        ({"setpoint": "celsius = 25", "law": STAGED, "load": SLOW, "trial": "start_celsius = 24.6"}, "never used", "Stage 2 is not needed"),
        ({"law": 'kind = "pid"\ngain_sets = [ { at_celsius = 120, gain_per_celsius = 0.1 } ]', "load": SLOW}, "far from where", "70 °C"),
        ({"law": 'kind = "timer"\non_s = 3\noff_s = 3\nperiod_s = 0.5', "load": SLOW}, "does not hit", "either way move it from"),
    ],
)  # fmt: skip
def test_advice_on_the_set_up(blocks: dict[str, str], title: str, says: str) -> None:
    """Each is given where it fits; what it proposes is another design that runs; the cabinet needs none of them."""
    design = made(**blocks)
    found = card(design, title)
    assert found is not None and says in found.text and found.why.endswith("."), cards(design)
    if found.proposal is not None:
        assert found.try_label and found.proposal != design
        assert card(found.proposal, title) is None


def test_good_designs_get_no_advice_on_their_set_up() -> None:
    titles = ("mirror", "hunts", "window is too long", "floor", "far from where")
    for demo in DEMOS:
        design = read(demo.design).design
        assert not [found.title for found in cards(design) if any(title in found.title for title in titles)], demo.title


@pytest.mark.parametrize("kind", ["chamber", "liquid", "thermoelectric"])
def test_networks_are_linear_as_they_run(kind: str) -> None:
    """A small step of the output around the working point moves the settled run as the response at 0 says."""
    action = "cool" if kind == "thermoelectric" else "heat"
    load = f'kind = "{kind}"\n' + (
        "heater_watt = 60" if kind == "chamber" else "mass_kg = 0.2\nloss_w_per_k = 4" if kind == "liquid" else ""
    )
    base = made(
        setpoint="celsius = 5" if action == "cool" else "celsius = 45",
        law=f'kind = "pid"\naction = "{action}"',
        drive='kind = "linear"',
        load=load,
    )
    levels = np.linspace(0, 1, 4001)
    away = np.array([loads.settled_celsius(base.load, float(u), 20.0) for u in levels]) - base.setpoint.celsius
    at = int(np.argmin(np.abs(away)))
    slope = (away[at + 20] - away[at - 20]) / (levels[at + 20] - levels[at - 20])
    gain = load_response(base, np.array([1e-6]))[0].real
    assert gain == pytest.approx(slope, rel=0.06)


@pytest.mark.parametrize(
    "events",
    [
        [{"kind": "door", "at_s": 3000, "for_s": 60, "extra_loss_w_per_k": 20}, {"kind": "door", "at_s": 3000, "for_s": 60, "extra_loss_w_per_k": 5}],
        [{"kind": "heat_added", "at_s": 3000, "for_s": 60, "watt": -40}, {"kind": "door", "at_s": 3060, "for_s": 60, "extra_loss_w_per_k": 20}],
        [{"kind": "ambient_step", "at_s": 3000, "celsius": 10}, {"kind": "door", "at_s": 3000, "for_s": 120, "extra_loss_w_per_k": 20}],
        [{"kind": "setpoint_step", "at_s": 3000, "celsius": 52}, {"kind": "door", "at_s": 3030, "for_s": 60, "extra_loss_w_per_k": 20}],
        [{"kind": "setpoint_step", "at_s": 2900, "for_s": 100, "celsius": 52}, {"kind": "door", "at_s": 3000, "for_s": 60, "extra_loss_w_per_k": 20}],
    ],
    ids=["begin together", "touch", "one stays, one lasts", "after a setpoint's step", "as a setpoint's step ends"],
)  # fmt: skip
def test_recovery_is_found_whatever_their_order(events: list[dict[str, Any]]) -> None:
    """Counted from the end of the last of those that belong together; the same in either order of the file."""
    design = made(
        law='kind = "pid"\ngain_per_celsius = 0.3\nintegral_time_s = 120\nperiod_s = 1', drive='kind = "linear"', limits="recovery_s = 600",
        load='kind = "lump"\nheater_watt = 100\nheat_capacity_j_per_k = 400\nloss_w_per_k = 1',
    )  # fmt: skip
    found = []
    for order in (events, events[::-1]):
        trace = loop.run(design, Trial.model_validate({"span_s": 7200, "start_celsius": 50, "events": order}))
        verdict = judge(trace, design.limits)
        found.append(verdict.metrics.recovery_s)
        ends_s = max(one.recovers_from_s for one in trace.disturbances)
        away = np.abs(trace.measured_celsius - trace.setpoint_celsius) > design.limits.band_celsius
        after_s = float(trace.time_s[np.flatnonzero(away)[-1] + 1]) - ends_s
        # the last one is back when the reading is in band for good, counted by hand
        assert verdict.metrics.recovery_s[-1] == pytest.approx(after_s, abs=1.0) and 0 < after_s < 600
        assert None not in verdict.metrics.recovery_s and verdict.passes
    assert found[0] == found[1]


def test_a_disturbance_never_recovered_from_stays_so() -> None:
    """One that the next does not interrupt, and that is not back before the end."""
    design = made(load='kind = "first_order"\nrise_celsius = 32', limits="recovery_s = 60")
    cold = {"kind": "ambient_step", "at_s": 4000, "celsius": -20}
    trace = loop.run(design, Trial.model_validate({"span_s": 9000, "start_celsius": 50, "events": [cold]}))
    assert judge(trace, design.limits).metrics.recovery_s == (None,)


def test_a_second_fan_uses_energy_by_its_own_drive() -> None:
    """A fan that is slowed follows the cube of its speed; one behind a relay is at full or stands (fan laws)."""
    fans = read(DEMOS[2].design).design
    for first, second in (("relay", "pwm"), ("pwm", "relay"), ("pwm", "pwm")):
        blocks = {"drive": KINDS[first][0](), "second_drive": KINDS[second][0]()}
        design = fans.model_copy(update=blocks)
        trace = loop.run(design, design.trial[2])
        one, other = (output.delivered for output in trace.outputs)
        load: Any = design.load
        power = load.fan_watt * (one if first == "relay" else one**3) + load.second_fan_watt * (
            other if second == "relay" else other**3
        )
        assert trace.power_watt is not None and np.allclose(trace.power_watt, power) and (other > 0).any()


def test_the_relay_of_a_fans_supply_is_counted_and_wears() -> None:
    """Once on and once off each time the fan is not asked for: in figures, limits, wear."""
    fan = 'kind = "fan_curve"\nperiod_s = 1\nstart_celsius = 30\nfull_celsius = 31\nhysteresis_celsius = 0\nfloor = 0.6'
    load = 'kind = "first_order"\nrise_celsius = -40\ntime_constant_s = 60\nambient_celsius = 40'
    counts = {}
    for switched in ("true", "false"):
        design = made(
            setpoint="celsius = 30", law=fan, load=load, limits="switchings_per_hour = 20",
            drive=f'kind = "pwm"\nidle_output = 0.2\nsupply_switch = {switched}\ncontact_life_cycles = 1000',
        )  # fmt: skip
        trial = Trial(span_s=3600.0)
        trace = loop.run(design, trial)
        verdict = judge(trace, design.limits)
        counts[switched] = verdict.metrics.switchings_per_hour
        on = np.concatenate(([False], trace.demand > 0.0))
        assert counts[switched] == (np.count_nonzero(on[1:] != on[:-1]) if switched == "true" else 0)
        cards = [card.title for card in advise(design, trial, trace, verdict)]
        assert ("The relay of the fan's supply wears out soon." in cards) == (switched == "true")
        assert verdict.passes == (switched == "false")
    assert counts["true"] > 20
