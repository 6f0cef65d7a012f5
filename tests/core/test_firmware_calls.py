"""What a developer may call while the thermostat runs, and whatever comes in: held, refused, and over when it is over."""

from __future__ import annotations

import ctypes
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.design.model import Design
from calor.design.trial import Trial
from calor.firmware import folder
from calor.firmware.run import host
from calor.firmware.sources import generate
from calor.firmware.sources.form import PLAIN, Form
from calor.law import pid
from calor.law.pid import Pid
from calor.sense import knob
from tests.conftest import made

LINEAR = 'kind = "linear"'
PROGRAM = 'kind = "program"\nsegments = [ { to_celsius = 60, ramp_s = 100, soak_s = 50 }, { to_celsius = 30, ramp_s = 60, soak_s = 0 }, { to_celsius = 80 , soak_s = 1000 } ]'
FORMS = [PLAIN, Form(fixed=True)]


def printed(
    design: Design,
    body: str,
    place: Path,
    form: Form = PLAIN,
    flags: tuple[str, ...] = host.SANITIZER_FLAGS,
    before: str = "",
) -> list[str]:
    """What a program prints that calls the C of a design; in it F(x) is a number of the form, P(x) prints one."""
    sources = generate.generate(design, "t", form)
    sources.put(place)
    fixed = form.fixed
    kind, one, plain = ("q16", "Q16(x)", "(double)(x) / 65536.0") if fixed else ("float", "((float)(x))", "(double)(x)")
    (place / "main.c").write_text(
        f'#include "{sources.header}"\n#include <stdio.h>\n#include <math.h>\ntypedef {kind} num;\n#define F(x) {one}\n#define P(x) printf("%.6g\\n", {plain})\n'
        f"{before}int main(void) {{\n    t_state s; t_record r; (void)r;\n    t_init(&s, &t_defaults);\n{body}\n    return 0;\n}}\n"
    )
    loose = ["-std=c99", "-ffp-contract=off", "-O1", *flags, "-o", str(place / "main")]
    host.built([*host.compiler(), *loose, host.whole(place, *sources.built, "main.c"), "-lm"])
    done = subprocess.run([place / "main"], capture_output=True, text=True, check=False, timeout=120)
    assert done.returncode == 0, done.stderr[:800]
    return done.stdout.split()


@pytest.mark.parametrize("form", FORMS)
def test_what_is_set_is_held_or_refused(form: Form, tmp_path: Path) -> None:
    design = made(
        law='kind = "pid"\nmanual_mode = true\ngain_per_celsius = 0.1',
        drive=LINEAR,
        setpoint="celsius = 50\nhigh_limit_celsius = 90",
        guard="manual_at_fault = true\nprobe_fault_output = 0.2",
    )
    said = printed(design, """
    printf("%d %d %d %d ", t_set_manual(&s, F(60)), t_set_manual(&s, F(-0.5)), t_set_manual(&s, F(0.7)), t_set_setpoint(&s, F(91)));
    printf("%d %d\\n", t_set_setpoint(&s, F(-300)), t_set_setpoint(&s, F(45)));
    P(t_step(&s, F(20), F(1)));
    P(t_step(&s, F(-32768), F(1)));  /* a fault: by hand, as the design allows */
    t_set_automatic(&s);
    P(t_step(&s, F(-32768), F(1)));
    P(t_step(&s, F(44), F(1)));
    t_set_off(&s, true); P(t_step(&s, F(20), F(1)));
    t_set_off(&s, false); P(t_step(&s, F(44), F(1)));
    t_record_of(&s, &r); P(r.measured_celsius); P(r.setpoint_celsius); printf("%d %d %u\\n", r.off, r.cut_out, (unsigned)r.fault);
    """, tmp_path, form)  # fmt: skip
    assert said[:6] == ["0", "0", "1", "0", "0", "1"]
    assert [float(word) for word in said[6:14]] == pytest.approx([0.7, 0.7, 0.2, 0.1, 0.0, 0.1, 44.0, 45.0], abs=1e-3)
    assert said[14:] == ["0", "0", "0"]


def test_nothing_that_comes_in_stays(tmp_path: Path) -> None:
    """NaN, infinities and nonsense in reading, time, signal and humidity: a fault while it lasts, and over after it."""
    law = 'kind = "pid"\ngain_per_celsius = 0.05\nintegral_time_s = 100\nderivative_time_s = 5\nslew_per_s = 0.5'
    design = made(law=law, drive='kind = "time_proportional"\nwindow_s = 2', probe='kind = "ideal"\nfilter = { kind = "exponential", time_constant_s = 3 }',
                  setpoint='kind = "follow"\nsignal = "dew_point"\nwithout_signal_celsius = 30')  # fmt: skip
    said = printed(design, """
    const num bad[] = { (num)NAN, (num)INFINITY, -(num)INFINITY, F(1e30), F(-1e30) };
    for (int k = 0; k < 5; k++) {
        s.signal_celsius = F(10); s.has_signal = true;
        (void)t_step(&s, bad[k], F(1)); printf("%d%d ", s.probe_fault, s.signal_fault);
        (void)t_step(&s, F(12), bad[k]); (void)t_switch(&s, bad[k]); printf("%d", s.probe_fault);
        s.signal_celsius = bad[k]; (void)t_step(&s, F(12), F(1)); printf("%d ", s.signal_fault); P(s.setpoint_celsius);
        s.signal_celsius = t_dew_point(F(20), bad[k]); (void)t_step(&s, F(12), F(1)); printf("%d ", s.signal_fault);
        s.signal_celsius = t_dew_point(F(20), F(0.6)); (void)t_step(&s, F(12), F(1)); printf("%d ", s.signal_fault); P(s.setpoint_celsius);
    }
    printf("%d\\n", s.demand >= 0.0f && s.demand <= 1.0f && s.integral == s.integral && s.measured_celsius == s.measured_celsius);
    """, tmp_path)  # fmt: skip
    for turn in range(5):
        assert said[6 * turn : 6 * turn + 5] == ["10", "01", "30", "1", "0"], turn
        assert float(said[6 * turn + 5]) == pytest.approx(12.0 + 3.0, abs=0.01)  # WMO guide: 20 °C at 60 %
    assert said[-1] == "1"


@pytest.mark.parametrize("form", FORMS)
def test_a_trip_and_latched_alarms_are_released(form: Form, tmp_path: Path) -> None:
    guard = 'cut_out_celsius = 70\nalarms = [ { kind = "high", celsius = 60, latch = true }, { kind = "low", celsius = 10 }, { kind = "high", celsius = 65, trips = true, latch = true } ]'
    said = printed(made(law='kind = "manual"\noutput = 0.5', drive=LINEAR, guard=guard), """
    for (int k = 0; k < 2; k++) {
        (void)t_step(&s, F(75), F(1)); (void)t_step(&s, F(50), F(1)); printf("%d %lu ", s.cut_out, (unsigned long)s.alarms);
        t_release(&s); P(t_step(&s, F(50), F(1))); printf("%lu ", (unsigned long)s.alarms);
    }
    (void)t_step(&s, F(66), F(1)); t_release(&s); P(t_step(&s, F(66), F(1)));
    printf("%lu %lu", (unsigned long)s.alarms, (unsigned long)(T_ALARM_HIGH_1 | T_ALARM_HIGH_2));
    """, tmp_path, form)  # fmt: skip
    assert said == ["1", "5", "0.5", "0"] * 2 + ["0", "5", "5"]  # what still holds trips again


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize(
    ("drive", "pin"),
    [('kind = "time_proportional"\nwindow_s = 600\nswitch = "ssr_random"', "t_switch(&s, F(0.01))"), ('kind = "relay"\nmin_on_s = 400', "t_switch(&s, F(0.01))"),
     ('kind = "pwm"', "t_pwm_counts(&s)"), (LINEAR, "s.demand")],
)  # fmt: skip
def test_from_the_cause_to_the_pin_no_time_passes(drive: str, pin: str, form: Form, tmp_path: Path) -> None:
    """A cut-out, an alarm that trips, a probe fault and switching off: the very next call of the pin is off."""
    guard = 'cut_out_celsius = 72\nalarms = [ { kind = "high", celsius = 60, trips = true } ]'
    for number, (cause, back) in enumerate(
        (
            ("t_step(&s, F(75), F(1))", "t_release(&s);"),
            ("t_step(&s, F(65), F(1))", "t_release(&s);"),
            ("t_step(&s, F(-32768), F(1))", ""),
            ("t_set_off(&s, true); (void)t_step(&s, F(20), F(1))", "t_set_off(&s, false);"),
        )
    ):
        place = tmp_path / str(number)
        place.mkdir()
        said = printed(made(law='kind = "manual"\noutput = 1.0', drive=drive, guard=guard), f"""
    for (int k = 0; k < 5; k++) {{ (void)t_step(&s, F(20), F(1)); printf("%d", {pin} > 0); }}
    (void)({cause}); printf("%d", {pin} > 0);
    {back} (void)t_step(&s, F(20), F(1)); printf("%d\\n", s.demand == F(1));
    """.replace("(void)(t_set_off(&s, true); (void)t_step(&s, F(20), F(1)))", "t_set_off(&s, true); (void)t_step(&s, F(20), F(1))"), place, form)  # fmt: skip
        assert said == ["1111101"], cause


@pytest.mark.parametrize("form", FORMS)
def test_a_program_is_led(form: Form, tmp_path: Path) -> None:
    said = printed(made(law='kind = "pid"', drive=LINEAR, setpoint=PROGRAM), """
    for (int k = 0; k < 51; k++) { (void)t_step(&s, F(20), F(1)); }
    P(s.setpoint_celsius); printf("%d\\n", t_program_skip(&s));
    for (int k = 0; k < 31; k++) { (void)t_step(&s, F(20), F(1)); }
    P(s.setpoint_celsius);
    printf("%d %d %d\\n", t_program_resume(&s, 3u, F(0)), t_program_resume(&s, 0u, F(-1)), t_program_resume(&s, 1u, F(15)));
    (void)t_step(&s, F(20), F(1)); P(s.setpoint_celsius);
    printf("%d ", t_program_skip(&s)); printf("%d\\n", t_program_skip(&s));
    t_program_start(&s); (void)t_step(&s, F(22), F(1)); P(s.setpoint_celsius);
    """, tmp_path, form)  # fmt: skip
    values = [float(word) for word in said]
    # half way up (20 to 60), on from there (40 to 30), resumed a quarter down (60 to 30), from the beginning
    assert values == pytest.approx([40.0, 1, 35.0, 0, 0, 1, 52.5, 1, 0, 22.0], abs=0.01)


def test_other_gains_do_not_bump_the_output(tmp_path: Path) -> None:
    """In C as in the reference: from the step of the change on the demand moves by the new growth only."""
    settings = {"kind": "pid", "gain_per_celsius": 0.04, "integral_time_s": 300.0, "setpoint_weight": 0.4}
    design = made(
        law="\n".join(f'{k} = "{v}"' if k == "kind" else f"{k} = {v}" for k, v in settings.items()), drive=LINEAR
    )
    said = printed(design, """
    t_settings other = t_defaults;
    for (int k = 0; k < 60; k++) { (void)t_step(&s, F(40 + 0.01 * k), F(1)); }
    P(s.demand);
    other.gain_per_celsius = F(0.15); other.setpoint_weight = F(0.9); t_change_settings(&s, &other);
    P(t_step(&s, F(40.59), F(1))); P(t_step(&s, F(40.59), F(1)));
    """, tmp_path)  # fmt: skip
    before, first, second = (float(word) for word in said)
    growth = 0.15 * (50.0 - 40.59) / 300.0
    assert (
        0.1 < before < 0.9
        and first == pytest.approx(before + 0.04 * 9.41 / 300.0, abs=1e-4)
        and second == pytest.approx(first + growth, abs=1e-5)
    )
    law, new = (
        pid.numbers(Pid.model_validate(settings)),
        pid.numbers(Pid.model_validate({**settings, "gain_per_celsius": 0.15, "setpoint_weight": 0.9})),
    )
    state, memory = pid.start(), np.zeros(pid.MEMORY_SIZE)
    for k in range(60):
        state, demand = pid.step(law, state, memory, 50.0, 40.0 + 0.01 * k, np.nan, 1.0)
    assert demand == pytest.approx(before, abs=1e-5)
    _, after = pid.step(
        new, pid.with_other_gains(law, new, state, memory, 50.0, demand), memory, 50.0, 40.59, np.nan, 1.0
    )
    assert after == pytest.approx(first, abs=1e-5)


def test_time_as_it_is_measured(tmp_path: Path) -> None:
    """Ticks of 10 ± 1 ms, an hour long: the pulses of a one-second window, its duty, and the clock of five days."""
    drive = 'kind = "time_proportional"\nwindow_s = 1\nswitch = "ssr_random"'
    night = 'kind = "day_night"\nday_celsius = 60\nnight_celsius = 40\nday_begins_s = 25200\nnight_begins_s = 79200'
    said = printed(made(law='kind = "manual"\noutput = 0.4', drive=drive, setpoint=night), """
    unsigned long pulses = 0, seed = 7; double on = 0, passed = 0; bool was = false;
    while (passed < 3600.0) {
        seed = (seed * 1103515245ul + 12345ul) & 0x7FFFFFFFul;
        const float dt = 0.009f + 0.002f * (float)(seed >> 8) / 8388608.0f;
        s.demand = F(0.4);
        const bool now = t_switch(&s, dt);
        pulses += now && !was; was = now; on += now ? (double)dt : 0.0; passed += (double)dt;
    }
    printf("%lu %.4f\\n", pulses, on / passed);
    t_init(&s, &t_defaults);
    double clock = 0; long changes = 0; double worst = 0; t_set_clock(&s, F(0)); (void)t_step(&s, F(20), F(0.1)); clock = 0.1;
    while (clock < 5 * 86400.0) {
        const num was_at = s.setpoint_celsius;
        const float dt = clock < 3 * 86400.0 ? 0.1f : 0.75f;
        (void)t_step(&s, F(20), dt);
        if (s.setpoint_celsius != was_at) {
            const double at = fmod(clock, 86400.0), off = s.setpoint_celsius > 50 ? at - 25200.0 : at - 79200.0;
            worst = fabs(off) > worst ? fabs(off) : worst; changes++;
        }
        clock += dt == 0.1f ? 0.1 : 0.75;
    }
    printf("%ld %.3f %d %d\\n", changes, worst, t_set_clock(&s, F(3e12)), t_set_clock(&s, (num)NAN));
    """, tmp_path, flags=("-O2",))  # fmt: skip
    assert abs(int(said[0]) - 3600) <= 1 and float(said[1]) == pytest.approx(0.4, abs=1e-3)
    assert said[2] == "10" and float(said[3]) < 0.76 and said[4:] == ["0", "0"]


@pytest.mark.parametrize(
    ("window_s", "tick_s", "demand"), [(0.051, 0.01, 0.24), (0.5, 0.02, 0.333), (0.1, 0.01, 0.07), (0.35, 0.1, 0.9)]
)
def test_a_coarse_tick_gives_what_is_asked_on_the_mean(
    window_s: float, tick_s: float, demand: float, tmp_path: Path
) -> None:
    drive = f'kind = "time_proportional"\nwindow_s = {window_s}\nswitch = "ssr_random"'
    for number, form in enumerate(FORMS):
        place = tmp_path / str(number)
        place.mkdir()
        body = f'long on = 0; s.demand = F({demand});\nfor (long k = 0; k < 100000; k++) {{ on += t_switch(&s, F({tick_s})); }}\nprintf("%ld\\n", on);'
        assert int(printed(made(law='kind = "manual"', drive=drive), body, place, form)[0]) / 1e5 == pytest.approx(
            demand, abs=2e-3
        )


def test_a_small_growth_is_not_lost(tmp_path: Path) -> None:
    """dt 0.01 s, Ti 5000 s, gain 0.02 and 0.7 °C of error: in plain floats the integral stands still."""
    design = made(law='kind = "pid"\ngain_per_celsius = 0.02\nintegral_time_s = 5000\nperiod_s = 0.01', drive=LINEAR)
    said = printed(
        design,
        "for (long k = 0; k < 2000000; k++) { (void)t_step(&s, F(49.3), F(0.01)); }\nP(s.demand);",
        tmp_path,
        flags=("-O2",),
    )
    assert float(said[0]) == pytest.approx(0.02 * 0.7 * (1.0 + 20_000.0 / 5000.0), rel=1e-4)


@pytest.mark.parametrize("many", [17, 24])
def test_every_alarm_has_its_bit(many: int, tmp_path: Path) -> None:
    alarms = ", ".join(
        f'{{ kind = "high", celsius = {60 + k}, trips = {"true" if k == many - 1 else "false"} }}' for k in range(many)
    )
    design = made(law='kind = "manual"\noutput = 1.0', drive=LINEAR, guard=f"alarms = [ {alarms} ]")
    said = printed(
        design,
        'P(t_step(&s, F(59), F(1))); P(t_step(&s, F(90), F(1))); printf("%lu\\n", (unsigned long)s.alarms);',
        tmp_path,
    )
    assert said == ["1", "0", str(2**many - 1)]
    text = "".join(generate.generate(design, "t").files.values())
    assert "1u <<" not in text and "(uint32_t)1 <<" in text  # where an int has 16 bits, 1u << 16 would be 0


class Knob(ctypes.Structure):
    _fields_ = (("counts", ctypes.c_uint32), ("has_counts", ctypes.c_bool))


@pytest.mark.parametrize("hysteresis", [0, 2, 7])
def test_a_knob_that_trembles_leaves_the_setpoint_alone(hysteresis: int, tmp_path: Path) -> None:
    own = knob.Knob(hysteresis_counts=hysteresis)
    design = made(law='kind = "pid"').model_copy(update={"knob": own})
    sources = generate.generate(design, "t")
    sources.put(tmp_path)
    host.built(
        [
            *host.compiler(),
            *host.STRICT_FLAGS,
            "-shared",
            "-fPIC",
            str(tmp_path / "t_knob.c"),
            "-o",
            str(tmp_path / "k.so"),
        ]
    )
    built, there, state, plain = (
        ctypes.CDLL(str(tmp_path / "k.so")),
        Knob(),
        knob.KnobState(0, False),
        knob.knob_numbers(own),
    )
    built.t_knob_step.restype = ctypes.c_float
    built.t_knob_init(ctypes.byref(there))
    chance = np.random.default_rng(5)
    at, setpoints = 512, set()
    for turn in range(3000):
        at = int(np.clip(at + chance.integers(-1, 2) + (chance.integers(-60, 61) if turn % 40 == 39 else 0), 0, 1023))
        state, celsius = knob.knob_step(plain, state, at)
        assert built.t_knob_step(ctypes.byref(there), ctypes.c_uint32(at)) == pytest.approx(celsius, abs=1e-4)
        setpoints.add(celsius)
    still = {
        knob.knob_step(plain, knob.KnobState(512, True), 512 + away)[1] for away in range(-hysteresis, hysteresis + 1)
    }
    assert len(still) == 1
    ends = {code: knob.knob_step(plain, knob.KnobState(abs(code - 2), True), code)[1] for code in (0, 1023)}
    assert ends == {0: 20.0, 1023: 40.0}  # taken at once, so that they are reached


FUZZED: dict[str, dict[str, Any]] = {
    "pid": {"law": 'kind = "pid"\naction = "heat_cool"\nintegral_time_s = 50\nderivative_time_s = 3\nslew_per_s = 0.1\nmanual_mode = true', "drive": 'kind = "time_proportional"\nwindow_s = 3', "setpoint": "celsius = 50", "probe": 'kind = "ideal"\nfilter = { kind = "mean", readings = 4 }'},
    "stages": {"law": 'kind = "stages"\nmin_off_s = 4\nstage_delay_s = 3\nrotation = "each_start"', "drive": 'kind = "relay"\nmin_on_s = 9', "setpoint": PROGRAM + "\nhold_back_celsius = 5"},
    "fan": {"law": 'kind = "fan_curve"\nfollows = "difference"\nkick_s = 2\nslew_per_s = 0.1\nsecond_on_celsius = 9', "drive": 'kind = "pwm"', "setpoint": 'kind = "day_night"'},
    "timer": {"law": 'kind = "timer"', "drive": 'kind = "time_proportional"\nwindow_s = 1', "setpoint": 'kind = "follow"\nsignal = "dew_point"'},
    "on/off": {"law": 'kind = "on_off"\nmin_off_s = 4', "drive": 'kind = "relay"', "probe": 'kind = "thermistor"\nchecks = { fastest_celsius_per_s = 5, stuck_s = 60 }'},
}  # fmt: skip
WATCHED = 'cut_out_celsius = 3000\nprobe_fault_output = 0.5\nalarms = [ { kind = "rate_of_rise", celsius = 5, delay_s = 9 }, { kind = "loop_break", celsius = 5, delay_s = 9, latch = true }, { kind = "deviation_high", celsius = 5, delay_s = 2, standby = true } ]'


@pytest.mark.parametrize(
    # a time of day, a dew point and a formula of a probe do not go into fixed point
    ("name", "form"), [*((name, PLAIN) for name in FUZZED), *((name, FORMS[1]) for name in ("pid", "stages"))],
)  # fmt: skip
def test_any_call_with_any_bits(name: str, form: Form, tmp_path: Path) -> None:
    """Every public function in any order with any bits, under the sanitizers: shares stay shares, and it recovers."""
    design = made(guard=WATCHED, **FUZZED[name])
    calls = ["(void)t_step(&s, READING, NUM);", "t_set_off(&s, BIT);", "t_release(&s);", "t_record_of(&s, &r);"]
    outputs = generate.outputs_of(design)
    calls += [f"(void)t_{o.prefix}switch(&s, NUM);" for o in outputs if o.switches and not o.timing]
    calls += [f"(void)t_{o.prefix}pwm_counts(&s);" for o in outputs if o.timing]
    kind = design.setpoint.kind
    calls += {"hold": ["(void)t_set_setpoint(&s, NUM);"], "day_night": ["(void)t_set_clock(&s, NUM);"],
              "program": ["(void)t_program_skip(&s);", "(void)t_program_resume(&s, BITS % 5u, NUM);", "if (BIT) { t_program_start(&s); }"],
              "follow": ["s.signal_celsius = BIT ? NUM : t_dew_point(NUM, NUM); s.has_signal = BIT;"]}[kind]  # fmt: skip
    if "manual_mode" in FUZZED[name]["law"]:
        calls += ["(void)t_set_manual(&s, NUM);", "t_set_automatic(&s);"]
    if "difference" in FUZZED[name]["law"]:
        calls.append("s.other_celsius = NUM;")
    good = " && ".join(f"s.{o.prefix}demand >= F(0) && s.{o.prefix}demand <= F(1)" for o in outputs)
    cases = "\n".join(f"            case {k}: {call} break;" for k, call in enumerate(calls))
    body = f"""
    unsigned long long seed = 88172645463325252ull;
    #define NEXT (seed ^= seed << 13, seed ^= seed >> 7, seed ^= seed << 17)
    #define BITS ((uint32_t)(NEXT >> 16))
    #define BIT ((BITS & 1u) != 0u)
    #define NUM number(BITS, BITS)
    #define READING {"NUM" if design.probe.kind == "ideal" else "(BITS % 9000u)"}
    for (long k = 0; k < 400000; k++) {{
        switch (BITS % {len(calls)}u) {{
{cases}
            default: break;
        }}
        if (!({good})) {{ printf("bad\\n"); return 1; }}
    }}
    printf("good\\n");"""
    number = """static num number(uint32_t bits, uint32_t which)
{
    union { uint32_t bits; num number; } any = { bits };
    switch (which % 4u) { case 0: return any.number; case 1: return F(0.5); case 2: return F(60); default: return F(1); }
}
"""
    assert printed(design, body, tmp_path, form, before=number) == ["good"]


@pytest.mark.parametrize("form", FORMS)
def test_of_a_knob_and_the_line_the_last_one_that_moved_wins(form: Form, tmp_path: Path) -> None:
    """As the example reads the knob: at rest, with noise of a code, it leaves what was set otherwise."""
    limits = "low_celsius = 20\nhigh_celsius = 60\nlow_counts = 3\nhigh_counts = 1020\nbits = 10\nhysteresis_counts = 4"
    design = made(knob=limits)
    example = folder.folder_files(design, "t", form).files["example/t_example.c"]
    turned = example[example.index("turned_celsius =") :]
    assert turned.index("if (knob.has_moved)") < turned.index("t_set_setpoint(&thermostat, turned_celsius)")
    steps: list[tuple[int | None, float]] = [
        (512, 0), (513, 0), (None, 55), (511, 0), (513, 0), (700, 0), (None, 22), (702, 0), (1020, 0), (1023, 0), (None, 30), (1021, 0),
    ]  # fmt: skip
    body = "t_knob knob; t_knob_init(&knob); num turned;\n" + "".join(
        f"(void)t_set_setpoint(&s, F({set_to}.0)); P(s.setpoint_celsius);\n" if counts is None else
        f"turned = t_knob_step(&knob, {counts}u); if (knob.has_moved) {{ (void)t_set_setpoint(&s, turned); }} P(s.setpoint_celsius);\n"
        for counts, set_to in steps
    )  # fmt: skip
    told = [float(line) for line in printed(design, body, tmp_path, form)]
    at = [40.0, 47.5]  # of 512 and 700, in its steps of half a degree
    expected = [at[0], at[0], 55.0, 55.0, 55.0, at[1], 22.0, 22.0, 60.0, 60.0, 30.0, 30.0]
    assert told == pytest.approx(expected, abs=0.02)


def test_in_a_trial_too() -> None:
    """Whichever stands first in the file: what was set last holds."""
    design = made(knob="low_celsius = 20\nhigh_celsius = 60")
    knob, line = (
        {"kind": "knob_turned", "at_s": 100, "to_fraction": 0.5},
        {"kind": "setpoint_step", "at_s": 200, "celsius": 55},
    )
    for events in ([knob, line], [line, knob]):
        trace = loop.run(design, Trial.model_validate({"span_s": 400, "events": events}))
        assert trace.setpoint_celsius[[10, 150, 350]].tolist() == pytest.approx([50.0, 40.0, 55.0], abs=0.1)
