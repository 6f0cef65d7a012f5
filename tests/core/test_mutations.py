"""Slips put into the templates one at a time: the check of a design's C has to notice each, on every design it is in.

What is mutated is the C alone; the reference stays. A slip that changes nothing in a design (a threshold that no code of
its converter meets) is tried on designs whose readings meet it exactly.
"""

from __future__ import annotations

import os
import pickle
import re
from collections.abc import Callable, Iterator
from functools import cache
from typing import Any, NamedTuple

import pytest

from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.files import save_atomically
from calor.firmware.check import every_branch, reference
from calor.firmware.check.agreement import first_difference
from calor.firmware.run import host
from calor.firmware.sources import templating
from calor.firmware.sources.form import PLAIN, Form, form_of
from calor.firmware.sources.generate import generate
from calor.firmware.sources.outward import by_hand
from calor.sense.knob import Button, Knob
from tests.conftest import made


class Slip(NamedTuple):
    """In which template what becomes what; `exact` where only a reading that meets a threshold exactly tells; `same`:
    designs in which it comes to the same, as they set that part to nothing; in which form of the C, and of which designs
    `only`."""

    template: str
    what: str
    becomes: str
    exact: bool = False
    same: tuple[str, ...] = ()
    form: Form = PLAIN
    only: tuple[str, ...] = ()


SLIPS = (
    # drives
    Slip("drive_time_proportional.j2", "window_at < state->{{ o }}window_pulse", "window_at <= state->{{ o }}window_pulse + tick"),
    Slip("drive_time_proportional.j2", "= tick / 2u", "= tick"),
    Slip("drive_time_proportional.j2", "state->probe_fault || state->cut_out || state->off != 0u;\n", "false;\n", same=("foam_cutter",)),
    Slip("drive_time_proportional.j2", "state->{{ o }}window_at -= state->{{ o }}window_length;", "state->{{ o }}window_at = 0u;", same=("hatching_cabinet", "film_bath", "wax_melter")),
    Slip("drive_time_proportional.j2", "half_cycle_s + 0.5f)", "half_cycle_s)"),
    Slip("drive_time_proportional.j2", "window_demand = state->{{ o }}demand", "window_demand = 0.0f", same=("foam_cutter",)),
    Slip("drive_relay.j2", "demand > 0.5f", "demand > 0.0f"),
    Slip("drive_relay.j2", "state->off != 0u ? 0.0f", "state->off != 0u ? 1000000.0f"),
    Slip("drive_relay.j2", "        state->{{ o }}relay_held_s = 0.0f;", "        state->{{ o }}relay_held_s = 1000000.0f;", same=("radio_hut",)),
    Slip("drive_pwm.j2", "+ 0.5f)", "+ 0.0f)"),
    Slip("drive_time_proportional.j2", "state->probe_fault || state->cut_out || state->off != 0u;\n", "state->cut_out || state->off != 0u;\n", same=("foam_cutter",)),
    Slip("drive_time_proportional.j2", "state->probe_fault || state->cut_out || state->off != 0u;\n", "state->probe_fault || state->cut_out;\n", same=("foam_cutter",)),
    Slip("drive_time_proportional.j2", "state->probe_fault || state->cut_out || state->off != 0u;\n", "state->probe_fault || state->off != 0u;\n", same=("foam_cutter",)),
    Slip("drive_time_proportional.j2", "if (!state->{{ o }}window_begun && pulse < window)", "if (false)", same=("wax_melter", "foam_cutter", "timer")),
    Slip("drive_time_proportional.j2", "} else if (settings->{{ o }}window_s - on_s < settings->{{ o }}min_pulse_s) {", "} else if (settings->{{ o }}window_s < settings->{{ o }}min_pulse_s) {"),
    Slip("drive_relay.j2", "state->probe_fault || state->cut_out || state->off != 0u ? 0.0f", "state->cut_out || state->off != 0u ? 0.0f", same=("radio_hut", "radio_hut_fans", "stages")),
    Slip("drive_relay.j2", "state->probe_fault || state->cut_out || state->off != 0u ? 0.0f", "state->probe_fault || state->off != 0u ? 0.0f", same=("radio_hut",)),
    Slip("drive_pwm.j2", "demand > 0.0f;", "demand >= 0.0f;"),
    Slip("pin.j2", "return !on;", "return on;"),
    Slip("drive.c.j2", "asked->guarded = state->probe_fault || state->cut_out || state->off != 0u;", "asked->guarded = state->probe_fault || state->cut_out;", same=("radio_hut", "foam_cutter")),
    Slip("drive.c.j2", "    pins->cut_out = asked->guarded;\n", "    (void)asked->guarded;\n", same=("radio_hut", "foam_cutter")),
    # laws
    Slip("law_pid.j2", "float growth = {{ gain }} * error * {{ rate }};", "float growth = {{ gain }} * error * {{ rate }} * 1.001f;"),
    Slip("law_pid.j2", "(lag_s + dt_s);", "(lag_s + 1.01f * dt_s);", same=("dew_heater", "camera_cooler", "night")),
    Slip("law_pid.j2", "(wanted < demand && growth < 0.0f)", "(wanted < demand && growth > 0.0f)"),
    Slip("law_pid.j2", "    state->integral_rest = (grown - state->integral) - added;", "    state->integral_rest = 0.0f;"),
    Slip("law_pid.j2", "state->has_before = false;\n{% if keeps_output", "{% if keeps_output", same=("camera_cooler",)),
    Slip("law_pid.j2", "share > 0.5f", "share >= 0.5f", exact=True),
    Slip("autotune.j2", "0.25f * period_s || apart > 0.5f", "0.25f * period_s || apart > 5.0f"),
    Slip("autotune.j2", "k < {{ root_steps }}u", "k < 2u"),
    Slip("autotune.j2", "longer = 2.0f * state->tune_high_s", "longer = 2.01f * state->tune_high_s"),
    Slip("autotune.j2", 'state->integral += {{ "back * 1024.0f"', 'state->integral -= {{ "back * 1024.0f"'),
    Slip("autotune.j2", "    state->has_tuned = false; /* what is put in holds */", ""),
    Slip("autotune.j2", "        state->tune_high_s = state->tune_cycle_s;", "        state->tune_high_s = state->tune_passed_s;"),
    Slip("autotune.j2", "state->tune_asked == 2u || state->by_hand", "state->tune_asked == 2u"),
    Slip("autotune.j2", "    state->tune_asked = 0u; /* nothing begins", "    /* nothing begins"),
    Slip("law_predictive.j2", "state->model_rest = (model - state->model) - added;", "state->model_rest = 0.0f;"),
    Slip("law_predictive.j2", "since_s = since_s - settings->cell_s;", "since_s = 0.0f;"),
    Slip("law_predictive.j2", "- 0.5f * dt_s && since_s", "&& since_s"),
    Slip("law_predictive.j2", "    follow(state, output < 0.0f ?", "    if (output > 2.0f) follow(state, output < 0.0f ?"),
    Slip("law_predictive.j2", "share > {{ fine | f }}", "share > 9.0f * {{ fine | f }}"),
    Slip("law_on_off.j2", 'celsius {{ ">" if cools else "<" }} {{ threshold', 'celsius {{ ">=" if cools else "<=" }} {{ threshold', exact=True),
    Slip("law_on_off.j2", "law_held_s < (state", "law_held_s <= (state", exact=True),
    Slip("law_on_off.j2", "law_held_s < settings->min_off_s", "law_held_s < 0.0f * settings->min_off_s", same=("both",)),
    Slip("law_stages.j2", "            state->since_start_s = 0.0f;", "            (void)stage;"),
    Slip("law_stages.j2", "are_on = are_on || state->stage_on[output];", "are_on = true;"),
    Slip("law_fan_curve.j2", "kick_left_s -= dt_s;\n        wanted", "kick_left_s -= 2.0f * dt_s;\n        wanted"),
    Slip("law_fan_curve.j2", "const bool ran = state->law_on;", "const bool ran = true;", same=("radio_hut_fans", "fan")),
    Slip("law_timer.j2", "{{ now }} < on ?", "{{ now }} < on + 600000 ?"),
    Slip("law_timer.j2", "cycle * (now_us / cycle)", "cycle * (now_us / cycle) - 500000"),
    # guards and alarms
    Slip("guard.c.j2", '{{ "<" if design.law.action == "cool" else ">" }} state->settings->cut_out_celsius', '{{ "<" if design.law.action == "cool" else ">" }} 2.0f * state->settings->cut_out_celsius + 9.0f'),
    Slip("guard.c.j2", "        /* an alarm that trips puts the output off, and latches */\n        state->cut_out = true;", ""),
    Slip("guard.c.j2", "state->measured_celsius < state->settings->cut_out_low_celsius", "state->measured_celsius <= state->settings->cut_out_low_celsius", exact=True),
    Slip("alarms.j2", ">= delay_s - 0.001f * dt_s)", "> delay_s + 0.001f * dt_s)"),
    Slip("alarms.j2", "if (!standby || !holds) {", "if (standby || !standby || !holds) {", same=("radio_hut", "radio_hut_fans")),
    Slip("alarms.j2", "setpoint_moved > 2.0f *", "setpoint_moved > 200000.0f + 2.0f *"),
    Slip("alarms.j2", "if (celsius < lowest[0]) {", "if (celsius > lowest[0]) {"),
    Slip("alarms.j2", "(latch || holds)", "((latch && !latch) || holds)", same=tuple(demo.design.stem for demo in DEMOS)),
    Slip("thermostat.c.j2", "const bool off = state->off != 0u || state->cut_out", "const bool off = state->cut_out"),
    Slip("thermostat.c.j2", "    state->cut_out = false;\n{% if latch_mask %}", "    (void)state;\n{% if latch_mask %}", same=("radio_hut", "radio_hut_fans", "camera_cooler", "foam_cutter")),
    Slip("alarms.j2", "moved >= {{ alarm.celsius | f }}", "moved >= 0.8f * {{ alarm.celsius | f }}", same=("predictive", "bare fan", "timer")),
    Slip("alarms.j2", '{{ "celsius - " ~ began if alarm.side > 0.0', '{{ "celsius - " ~ began if alarm.side < 0.0', same=("timer",)),
    Slip("alarms.j2", "            state->alarm[{{ k }}].began_celsius = celsius;", "            (void)celsius;"),
    Slip("thermostat.c.j2", "    state->off = 0u;\n    state->cut_out", "    state->cut_out"),
    Slip("thermostat.c.j2", "    state->off = 0u;\n    state->cut_out = false;\n", "    state->off = 0u;\n"),
    Slip("thermostat.c.j2", "    state->by_hand = false;\n    state->hand_output = 0.0f;\n", "    state->hand_output = 0.0f;\n"),
    Slip("thermostat.c.j2", "        {{ prefix }}_override(state, off ? 0.0f : settings->probe_fault_output, step_s);", "        {{ prefix }}_override(state, settings->probe_fault_output, step_s);", same=("hatching_cabinet", "film_bath", "wax_melter", "camera_cooler", "foam_cutter")),
    Slip("alarms.j2", "    state->alarms = 0u;\n", ""),
    # setpoint, knob, button, probe
    Slip("setpoint.j2", "celsius > settings->high_limit_celsius", "celsius > settings->high_limit_celsius + 1.0f", same=("wax_melter",)),
    Slip("setpoint.c.j2", "!= celsius) {\n        return false;", "!= celsius && celsius < -400.0f) {\n        return false;"),
    Slip("setpoint.j2", "clock >= day_begins", "clock >= day_begins + 3000000"),
    Slip("setpoint.j2", "* (float)passed / (float)ramp", "* (float)passed / (float)(ramp + 1000)"),
    Slip("setpoint.j2", "celsius / ({{ magnus_c_celsius | f }} + celsius)", "celsius / ({{ magnus_c_celsius | f }} + 1.01f * celsius)"),
    Slip("setpoint.c.j2", "seconds_after_midnight <= 86400.0f", "seconds_after_midnight <= 40000.0f"),
    Slip("setpoint.c.j2", "state->program_begun_celsius = state->setpoint_celsius;", "state->program_begun_celsius = 0.0f;"),
    Slip("setpoint.c.j2", "state->program_segment = segment;", "state->program_segment = 0u;"),
    Slip("setpoint.c.j2", "    state->program_begun = false;\n    state->program_over = false;\n}", "    state->program_over = false;\n}"),
    Slip("law_pid.j2", 'state->integral += {{ "(was - will)', 'state->integral -= {{ "(was - will)'),
    Slip("law_pid.j2", "* (old->setpoint_weight * aim - y)", "* (settings->setpoint_weight * aim - y)"),
    Slip("drive.c.j2", "asked->guarded = state->probe_fault || state->cut_out", "asked->guarded = state->cut_out", same=("foam_cutter", "radio_hut", "radio_hut_fans", "stages")),
    Slip("drive.c.j2", "pins->{{ output.prefix }}demand = asked->{{ output.prefix }}demand;", "pins->{{ output.prefix }}demand = asked->demand;", same=("hatching_cabinet", "film_bath", "wax_melter", "foam_cutter", "radio_hut", "timer", "sets")),
    Slip("knob.c.j2", "apart > {{ knob.hysteresis_counts }}u", "apart >= {{ knob.hysteresis_counts }}u"),
    Slip("knob.c.j2", "(float)counts - {{ knob.low_counts | f }}", "(float)counts"),
    Slip("knob.c.j2", "button->still_s >= {{", "button->still_s > 3.0f * {{"),
    Slip("probe.j2", "const float most = settings->fastest_celsius_per_s * state->since_passed_s;", "const float most = settings->fastest_celsius_per_s;"),
    Slip("probe.j2", "state->same_s >= settings->stuck_s", "state->same_s > settings->stuck_s + 1.0f"),
    Slip("probe_filter_exponential.j2", "settings->filter_s + dt_s", "settings->filter_s"),
)  # fmt: skip

FIXED, TABLE, CONSTANT = Form(fixed=True), Form(table=True), Form(constant=True)
LED, CABINET, BATH = Form(link=True), ("hatching_cabinet",), ("film_bath",)
SLIPS += (
    # fixed point: its arithmetic, and what is written for it alone
    *(
        Slip(template, what, becomes, form=FIXED, only=only)
        for template, what, becomes, only in (
            ("q16.h.j2", "const uint32_t low = (uint32_t)wide + 0x8000u;", "const uint32_t low = (uint32_t)wide;", CABINET),
            ("q16.h.j2", "(a < 0) != (b < 0));\n#endif", "a < 0);\n#endif", CABINET),
            ("q16.h.j2", "return a - b;", "return a - b + 1;", CABINET),
            ("q16.h.j2", "for (uint8_t bit = 0u; bit < 16u; bit++) {", "for (uint8_t bit = 0u; bit < 15u; bit++) {", CABINET),
            ("q16.h.j2", "(uint64_t)(uint32_t)share * whole + 32768u) >> 16", "(uint64_t)(uint32_t)share * whole + 32768u) >> 15", ("dew_heater",)),
            ("q16.h.j2", "(int64_t)counts * per_65536 / 65536", "(int64_t)counts * per_65536 / 65535", ("wax_melter",)),
            ("q16.h.j2", "return q_held(count * 65536 / parts);\n    }\n    /*", "return q_held(count * 65535 / parts);\n    }\n    /*", BATH),
            ("q16.h.j2", "return a > 0 ? (uint32_t)a : 0u;", "return a > 0 ? (uint32_t)a / 2u : 0u;", CABINET),
            ("law_pid.j2", "    state->integral += growth * dt_s;", "    state->integral += 2.0f * growth * dt_s;", CABINET),
            ("law_pid.j2", "    state->integral += growth * dt_s;", "    state->integral -= growth * dt_s;", CABINET),
            ("law_pid.j2", "asked * 1024.0f - wanted * 1024.0f", "asked * 1024.0f - wanted * 512.0f", ("tunes",)),
            ("law_pid.j2", ".gain_per_celsius = {{ (law.pid.direction *", ".gain_per_celsius = {{ (-law.pid.direction *", CABINET),
            ("law_predictive.j2", "state->model += share * (demand", "state->model += share * (0.9f * demand", ("predictive",)),
            ("law_timer.j2", "cycle * (float)(int32_t)(now_s / cycle);", "cycle;", ("timer",)),
            ("setpoint.j2", "* (passed / ramp);", "* (passed / ramp) * 0.99f;", ("program",)),
            ("guard.c.j2", '{{ "<" if design.law.action == "cool" else ">" }} state->settings->cut_out_celsius', '{{ ">" if design.law.action == "cool" else "<" }} state->settings->cut_out_celsius', CABINET),
            ("drive_pwm.j2", "return q_counts(state->{{ o }}demand,", "return 2u * q_counts(state->{{ o }}demand,", ("dew_heater",)),
            ("probe_thermocouple.j2", "- settings->offset_millivolt", "+ settings->offset_millivolt + 0.001f", ("wax_melter",)),
            ("drive_relay.j2", "demand > 0.5f", "demand >= 0.5f", ("both",)),
            ("passing.j2", "{{ total }} += {{ dt }};", "{{ total }} += {{ dt }} + {{ dt }};", ("both",)),
        )
    ),
    # by a table; settings compiled in; with something to the outside, a hand on every law
    Slip("probe_table.j2", "- low) * rest", "- low / 2) * rest", form=TABLE, only=CABINET),
    Slip("probe_table.j2", "const {{ whole }} low = {{ entry }}(ENTRIES[at]);", "const {{ whole }} low = {{ entry }}(ENTRIES[at + 1u]);", form=TABLE, only=CABINET),
    Slip("probe_table.j2", "*celsius = (float)sum", "*celsius = 1.001f * (float)sum", form=TABLE, only=CABINET),
    Slip("law_pid.j2", "float growth = {{ gain }} * error * {{ rate }};", "float growth = {{ gain }} * error * {{ rate }} * 2.0f;", form=CONSTANT, only=CABINET),
    Slip("guard.c.j2", '{{ "<" if design.law.action == "cool" else ">" }} state->settings->cut_out_celsius', "< state->settings->cut_out_celsius", form=CONSTANT, only=CABINET),
    Slip("thermostat.c.j2", "    } else if (state->by_hand) {\n", "    } else if (state->by_hand && state->off == 9u) {\n", form=LED, only=("radio_hut", "foam_cutter")),
    Slip("law.c.j2", "output >= {{ hand_low | f }} && output <= 1.0f", "output >= {{ hand_low | f }} && output <= 1000.0f", form=LED, only=("stages", "both")),
    Slip("thermostat.c.j2", "        {{ prefix }}_override(state, state->hand_output, step_s);", "        {{ prefix }}_override(state, 0.5f * state->hand_output, step_s);", form=LED, only=("stages",)),
)  # fmt: skip

GUARD = """cut_out_celsius = 75
probe_fault_output = 0.75
alarms = [ { kind = "high", celsius = 66, hysteresis_celsius = 2, delay_s = 3, trips = true, latch = true },
  { kind = "deviation_low", celsius = 4, delay_s = 2, standby = true }, { kind = "low", celsius = 20, delay_s = 5, latch = true },
  { kind = "rate_of_rise", celsius = 8, delay_s = 24 }, { kind = "loop_break", celsius = 2, delay_s = 30 } ]"""
IDEAL = 'kind = "ideal"\nchecks = { fastest_celsius_per_s = 9, stuck_s = 60 }\nfilter = { kind = "exponential", time_constant_s = 2 }'
EXACT = 'kind = "digital"\ncelsius_per_code = 0.25'
SETS = "gain_sets = [ { at_celsius = 45, gain_per_celsius = 0.1, integral_time_s = 40, derivative_time_s = 2 }, { at_celsius = 55, gain_per_celsius = 0.3, integral_time_s = 90 } ]"
ODD: dict[str, dict[str, Any]] = {
    "sets": {"law": f'kind = "pid"\nslew_per_s = 0.2\n{SETS}', "setpoint": "celsius = 50\nhigh_limit_celsius = 70\nlow_limit_celsius = 30", "probe": EXACT, "drive": 'kind = "time_proportional"\nwindow_s = 7\nmin_pulse_s = 1\nswitch = "relay"\nactive_low = true'},
    "both": {"law": 'kind = "on_off"\naction = "heat_cool"\nmin_off_s = 5\nmin_on_s = 3', "guard": GUARD.replace("0.75", "-0.3") + "\ncut_out_low_celsius = 12", "probe": EXACT, "drive": 'kind = "relay"\nmin_on_s = 8\nmin_off_s = 6'},
    "tunes": {"law": 'kind = "pid"\nintegral_time_s = 60\nderivative_time_s = 3\nsetpoint_weight = 0.5\nmanual_mode = true\nautotune = { hysteresis_celsius = 0.5, timeout_s = 200, rule = "ultimate_pid", limit_celsius = 70 }', "probe": EXACT},
    "predictive": {"law": 'kind = "predictive"\naction = "heat_cool"\nrise_celsius = 40\ntime_constant_s = 30\ndead_time_s = 21\nclosed_loop_s = 70', "guard": GUARD.replace("0.75", "-0.3"), "probe": EXACT},
    "stages": {"law": 'kind = "stages"\nstage_delay_s = 4\nmin_off_s = 3\nrotation = "each_start"', "drive": 'kind = "relay"\nmin_on_s = 8', "probe": EXACT},
    "fan": {"law": 'kind = "fan_curve"\nkick_s = 3\nslew_per_s = 0.05\nsecond_on_celsius = 48', "drive": 'kind = "pwm"\nsupply_switch = true', "probe": IDEAL, "guard": GUARD.replace("75\n", "14\n")},
    "bare fan": {"law": 'kind = "fan_curve"\nslew_per_s = 0.05', "probe": EXACT, "guard": GUARD.replace("75\n", "14\n")},
    "timer": {"law": 'kind = "timer"\non_s = 7\noff_s = 5\nperiod_s = 0.5', "drive": 'kind = "time_proportional"\nwindow_s = 3\nswitch = "ssr_random"', "setpoint": 'kind = "follow"\nsignal = "dew_point"'},
    "night": {"law": 'kind = "pid"\nintegral_time_s = 60\nmanual_mode = true', "setpoint": 'kind = "day_night"\nday_celsius = 55\nnight_celsius = 45', "probe": IDEAL},
    "program": {"law": 'kind = "pid"\nintegral_time_s = 60\nderivative_time_s = 4', "setpoint": 'kind = "program"\nsegments = [ { to_celsius = 60, ramp_s = 40, soak_s = 9 }, { to_celsius = 40, rate_celsius_per_min = 60, soak_s = 5 } ]\ntimes = 0', "probe": EXACT},
}  # fmt: skip


@cache
def pool() -> dict[str, Design]:
    designs = {demo.design.stem: read(demo.design).design for demo in DEMOS}
    for name, blocks in ODD.items():
        design = made(**{"guard": GUARD, "drive": 'kind = "linear"', **blocks})
        if name in ("sets", "night"):
            design = design.model_copy(update={"knob": Knob(), "button": Button()})
        designs[name] = design
    return designs


def as_made(name: str, form: Form) -> Any:
    design = pool()[name]
    form = form_of(design.probe, *form)
    return generate(by_hand(design, form), form=form)


@cache
def templates_of(name: str, form: Form = PLAIN) -> set[str]:
    """The templates that a design's C is made of: a slip in another one changes nothing of it."""
    read_template, seen = templating._template, set()
    with pytest.MonkeyPatch.context() as patch:
        templating._environment.cache_clear()
        patch.setattr(
            templating._environment().loader, "load_func",
            lambda part: (seen.add(part.partition("#")[0]), read_template(part))[1],
        )  # fmt: skip
        as_made(name, form)
    templating._environment.cache_clear()
    return seen


Truth = Callable[..., tuple[Any, Any, dict[str, str]]]


@pytest.fixture(scope="module")
def truth(tmp_path_factory: pytest.TempPathFactory) -> Truth:
    """A design's inputs, its reference, and its C as it is; worked out once for all the workers of a session."""
    place = tmp_path_factory.getbasetemp()
    shared = place.parent if os.environ.get("PYTEST_XDIST_WORKER") else place

    @cache
    def of(name: str, form: Form = PLAIN) -> tuple[Any, Any, dict[str, str]]:
        design, there = pool()[name], shared / f"truth of {name} {form.words} {form.link}"
        form = form_of(design.probe, *form)
        design = by_hand(design, form)
        made_for = every_branch.made_inputs(design, form)
        if there.exists():
            rows = pickle.loads(there.read_bytes())
        else:
            rows = reference.rows(design, made_for.given, made_for.readings, counts_ticks=True, form=form)
            save_atomically(there, pickle.dumps(rows))
        return made_for, rows, generate(design, form=form).files

    return of


@pytest.fixture
def put_in(monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[[Slip], None]]:
    yield from putting_in(monkeypatch)


def putting_in(monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[[Slip], None]]:
    """What puts a slip into its template; afterwards the template is as it was."""
    slips, read_template = list[Slip](), templating._template

    def forget() -> None:
        kept = templating._environment().cache
        assert kept is not None
        for key in list(kept):
            if any(key[1].partition("#")[0] == slip.template for slip in slips):
                del kept[key]

    def put(slip: Slip) -> None:
        whole = read_template(slip.template)
        assert whole is not None and slip.what in whole, "the template no longer says this: put the slip where it does"

        def slipped(name: str) -> str | None:
            file, _, block = name.partition("#")
            if file != slip.template:
                return read_template(name)
            text = whole.replace(slip.what, slip.becomes)
            if not block:
                return text
            inside = re.search(templating._BLOCK % block, text, re.DOTALL)
            return inside[1] if inside else ""

        monkeypatch.setattr(templating._environment().loader, "load_func", slipped)
        slips.append(slip)
        forget()

    yield put
    forget()


@pytest.mark.parametrize(
    "form", [PLAIN, FIXED, Form(link=True), Form(True, False, True, True)], ids=lambda form: form.words
)
@pytest.mark.parametrize("name", [*(demo.design.stem for demo in DEMOS), *ODD])
def test_the_c_as_it_is_agrees(name: str, form: Form, truth: Truth) -> None:
    made_for, rows, _ = truth(name, form)
    form = form_of(pool()[name].probe, *form)
    own = host.rows(by_hand(pool()[name], form), made_for.given, form=form)
    assert first_difference(made_for, own, rows, "host, reference") is None


@pytest.mark.parametrize("slip", SLIPS, ids=lambda slip: f"{slip.template}: {slip.becomes[:40]!r}")
def test_a_slip_is_noticed(slip: Slip, truth: Truth, put_in: Callable[[Slip], None]) -> None:
    concerned = {
        name: design for name, design in pool().items()
        if (not slip.only or name in slip.only) and slip.template in templates_of(name, slip.form)
        and name not in slip.same and not (slip.exact and name not in ODD)
    }  # fmt: skip
    plain = {name: truth(name, slip.form) for name in concerned}
    put_in(slip)
    met = 0
    for name, design in concerned.items():
        made_for, rows, files = plain[name]
        if as_made(name, slip.form).files == files:
            continue
        met += 1
        form = form_of(design.probe, *slip.form)
        own = host.rows(by_hand(design, form), made_for.given, ("-O0",), form)
        assert first_difference(made_for, own, rows, "host, reference"), f"not noticed in {name}"
    assert met, "no design has it"
