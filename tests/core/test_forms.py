"""Fixed point and tables: what is stated holds, nothing overflows or is undefined, and chips give the same bits."""

from __future__ import annotations

import json
import re
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calor import loop
from calor.cli import invoke
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.design.ranges import working_range
from calor.design.trial import Trial
from calor.errors import FirmwareError
from calor.firmware import folder
from calor.firmware.check import agreement
from calor.firmware.controller.seat import seated
from calor.firmware.run import chip, host
from calor.firmware.run.exchange import answers_from, inputs
from calor.firmware.sources import code_table, fixed_point, generate
from calor.firmware.sources.form import PLAIN, Form, form_of
from calor.loop import answer_row
from calor.sense import registry, sweep
from tests.conftest import PROBES, made
from tests.core.test_firmware_folder import WORST, parts
from tests.core.test_firmware_outputs import CASES, design_of

PID = 'kind = "pid"\ngain_per_celsius = 0.08\nintegral_time_s = 600\nderivative_time_s = 4\nperiod_s = 0.5'
FIXED = Form(True, True)


def every_code(design: Design, count: int = 3000) -> Any:
    top = 2 ** getattr(getattr(design.probe, "adc", None), "bits", 12)
    readings = np.concatenate((np.linspace(0, top - 1, count).round(), np.random.default_rng(4).integers(0, top, 400)))
    if registry.gives_code(design.probe):
        readings -= 2048.0
    return inputs(design, readings / 40.0 if design.probe.kind == "ideal" else readings, np.full(len(readings), 20.0))


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("float f(float a, int k) { return a * 2.0f + (float)k; }", "q16 f(q16 a, int k) { return q_add(q_mul(a, Q16(2.0)), q_from(k)); }"),
        ("float f(float a) { a -= 0.5f; return -a < 1.0e-3f ? a : -3.5f; }", "q16 f(q16 a) { a = q_sub(a, Q16(0.5)); return q_sub(0, a) < Q16(1.0e-3) ? a : Q16(-3.5); }"),
        ("uint32_t f(float a, uint32_t k) { return (uint32_t)(a / 4.0f) + k * 2u; }", "uint32_t f(q16 a, uint32_t k) { return (uint32_t)q_whole(q_div(a, Q16(4.0))) + k * 2u; }"),
        ("float f(uint32_t n, float dt) { return (float)n * dt; }", "q16 f(uint32_t n, q16 dt) { return q_times(n, dt); }"),
        ("bool f(float a, bool b) { /* a b */ return (a > 1.0f && b) || !b; }", "bool f(q16 a, bool b) { /* a b */ return (a > Q16(1.0) && b) || !b; }"),
        ("float f(const float *x) { float s = 0.0f; for (int k = 0; k < 3; k++) { s += x[k]; } return s; }", "q16 f(const q16 *x) { q16 s = Q16(0.0); for (int k = 0; k < 3; k++) { s = q_add(s, x[k]); } return s; }"),
        ("uint32_t f(uint32_t a) { a |= 1u << 2; return a & ~4u; }", "uint32_t f(uint32_t a) { a |= 1u << 2; return a & ~4u; }"),
        ("static const float T[2] = { -1.5f, 2.0f };", "static const q16 T[2] = { Q16(-1.5), Q16(2.0) };"),
    ],
)  # fmt: skip
def test_c_is_written_again_in_fixed_point(text: str, expected: str) -> None:
    assert fixed_point.in_fixed_point({"a.c": text})["a.c"] == expected


def test_a_whole_number_beside_a_fixed_one_is_refused() -> None:
    with pytest.raises(ValueError, match="a whole number and a fixed-point one"):
        fixed_point.in_fixed_point({"a.c": "float f(float a, int k) { return a + k; }"})


LEAF = st.sampled_from(["a", "b", "c", "0.75f", "1.5f", "(float)k"])
EXPRESSION = st.recursive(
    LEAF,
    lambda part: st.one_of(
        st.tuples(part, st.sampled_from("+-*"), part).map(lambda three: "({} {} {})".format(*three)),
        part.map(lambda one: f"(-{one})"),
        st.tuples(part, part, part).map(lambda three: "({0} < {1} ? {2} : {1})".format(*three)),
    ),
    max_leaves=6,
)


@settings(max_examples=3, deadline=None, derandomize=True)
@given(expressions=st.lists(EXPRESSION, min_size=12, max_size=20))
def test_any_expression_keeps_its_value(expressions: list[str], tmp_path_factory: pytest.TempPathFactory) -> None:
    """Random expressions, computed in float and in fixed point by the C itself."""
    place = tmp_path_factory.mktemp("expressions")
    functions = [
        f"float f{n}(float a, float b, float c, int k) {{ return {text}; }}" for n, text in enumerate(expressions)
    ]
    (place / "plain.c").write_text("\n".join(functions) + "\n")
    fixed = fixed_point.in_fixed_point({"fixed.c": "\n".join(functions).replace("float f", "float g")})["fixed.c"]
    header = generate.generate(made(), form=Form(True, False)).files["untitled_q16.h"]
    (place / "q16.h").write_text(header)
    (place / "fixed.c").write_text('#include "q16.h"\n' + fixed + "\n")
    count = len(expressions)
    declared = "".join(f"float f{n}(float, float, float, int); q16 g{n}(q16, q16, q16, int);\n" for n in range(count))
    calls = "".join(
        f'printf("%.9g %.9g\\n", (double)f{n}(x, y, z, k), g{n}(q(x), q(y), q(z), k) / 65536.0);\n'
        for n in range(count)
    )
    (place / "main.c").write_text(
        '#include "q16.h"\n#include <stdio.h>\n' + declared + "static q16 q(float x) { return (q16)(x * 65536.0f); }\n"
        "int main(void) { for (int n = 0; n < 9; n++) { const float x = 0.25f * (float)(n - 4), y = 1.0f - 0.125f * (float)n,"
        " z = 0.5f * (float)(n % 3); const int k = n % 3 - 1;\n" + calls + "} return 0; }\n"
    )  # fmt: skip
    subprocess.run(
        [
            *host.compiler(),
            "-w",
            *(str(place / f"{name}.c") for name in ("plain", "fixed", "main")),
            "-o",
            str(place / "both"),
        ],
        check=True,
    )
    rows = np.array([line.split() for line in subprocess.check_output([place / "both"], text=True).splitlines()], float)
    # a comparison of two that are equal but for a rounding may fall on either side: few do
    assert np.mean(np.abs(rows[:, 0] - rows[:, 1]) < 2e-3) > 0.97 and len(rows) == 9 * count


@pytest.mark.parametrize("demo", DEMOS, ids=lambda demo: demo.design.stem)
def test_every_demo_in_fixed_point(demo: Any, tmp_path: Path) -> None:
    """Builds without a warning, proves itself, has no float in it, is clean under the sanitizers whatever comes."""
    design = read(demo.design).design
    whole = folder.made(design, "own", form_of(design.probe, True, False), with_sizes=True)
    whole.write(tmp_path)
    own = [str(tmp_path / name) for name in parts(tmp_path, "own")]
    for name in ("test", "example"):
        command = [
            *host.compiler(),
            *host.STRICT_FLAGS,
            *own,
            str(tmp_path / name / f"own_{name}.c"),
            "-o",
            str(tmp_path / f"{name}.out"),
        ]
        subprocess.run(command, check=True)
    answer = subprocess.run([tmp_path / "test.out"], capture_output=True, text=True, check=False)
    assert answer.stdout == "equal over 400 steps\n"
    code = re.sub(r"/\*.*?\*/", "", "".join(Path(path).read_text() for path in own), flags=re.DOTALL)
    assert not re.search(r"\b(float|double|malloc)\b|\d\.\d*f\b", code) and "q_" in code
    stated = whole.stated()
    assert all(abs(item[end]) <= 32_767 for item in stated["bounds"] for end in ("low", "high"))
    assert stated["difference_from_float"]["reading_celsius"] < 0.03
    readme = (tmp_path / "README.md").read_text()
    assert "## Nothing overflows" in readme and "| cortex-m0plus | " in readme
    # on a trial that nothing was measured on it stays within what is stated of its readings
    trial = design.trial[0].model_copy(update={"seed": 99, "span_s": min(design.trial[0].span_s, 3600.0)})
    codes = agreement.recorded(design, trial).given
    both = [host.rows(design, codes, form=one) for one in (PLAIN, whole.sources.form)]
    known = (both[0][:, 2] == 0) & (both[1][:, 2] == 0)
    within = max(stated.get("table", {}).get("worst_celsius", 0.0), stated["difference_from_float"]["reading_celsius"])
    assert np.abs(both[0][known, 0] - both[1][known, 0]).max() <= within + 2e-3
    switches = [output for output in generate.outputs_of(design) if output.switches and output.timing is None]
    calls = [f"(void)own_{o.prefix}switch(&state, STEPS_S[turn++ % 6u]);" for o in switches]
    calls += [f"if (!good(state.{o.prefix}demand)) {{ return 2; }}" for o in generate.outputs_of(design)]
    text = WORST.format(
        before_first="", after_each="\n            ".join(calls), factor=1,
        reading="float" if design.probe.kind == "ideal" else "uint32_t", period=f"{float(design.law.period_s)!r}f",
    )  # fmt: skip
    # a year is beyond Q16.16: its end stands for it
    text = text.replace("31536000.0f", "32767.0f")
    worst = fixed_point.in_fixed_point({"worst.c": text}, whole.sources.files)["worst.c"]
    (tmp_path / "worst.c").write_text(worst)
    flags = [*host.STRICT_FLAGS, "-O2", *host.SANITIZER_FLAGS, "-Wno-conversion", "-Wno-sign-compare"]
    subprocess.run(
        [*host.compiler(), *flags, *own, str(tmp_path / "worst.c"), "-o", str(tmp_path / "worst")], check=True
    )
    answer = subprocess.run([tmp_path / "worst"], capture_output=True, text=True, check=False, timeout=120)
    assert (answer.returncode, answer.stdout) == (0, "good\n"), answer.stderr[:600]


@pytest.mark.parametrize("case", CASES)
def test_fixed_point_of_every_law_and_setpoint(case: str) -> None:
    """Step by step near the float with the same table; the same bits without optimisation and under the sanitizers."""
    design = design_of(case)
    if design.setpoint.kind == "day_night":
        with pytest.raises(FirmwareError, match="fixed point: time of day, s may reach 86400"):
            folder.made(design, form=FIXED)
        return
    codes = every_code(design)
    fixed = host.rows(design, codes, form=FIXED)
    assert (fixed == host.rows(design, codes, ("-O0", *host.SANITIZER_FLAGS), FIXED)).all()
    tabled = host.rows(design, codes, form=Form(False, True))
    assert np.abs(fixed[:, 0] - tabled[:, 0]).max() < 2e-4 and (fixed[:, 2] == tabled[:, 2]).mean() > 0.99
    apart = np.abs(answer_row.demands(fixed) - answer_row.demands(tabled)).max(axis=1)
    assert (apart < 0.02).mean() > 0.97, apart.max()


@pytest.mark.parametrize("probe", PROBES)
def test_each_probe_in_each_form(probe: str) -> None:
    design = made(law=PID, drive='kind = "linear"', probe=PROBES[probe])
    codes = every_code(design)
    form = form_of(design.probe, True, False)
    plain, own = host.rows(design, codes), host.rows(design, codes, form=form)
    both = (plain[:, 2] == 0) & (own[:, 2] == 0)
    away = np.abs(plain[both, 0] - own[both, 0])
    assert (plain[:, 2] == own[:, 2]).mean() > 0.985
    if not form.table:
        assert away[np.abs(plain[both, 0]) < 300.0].max() < 0.12
        return
    table = code_table.code_table(design)
    inside = (plain[both, 0] >= table.low_celsius) & (plain[both, 0] <= table.high_celsius)
    assert away[inside].max(initial=0.0) <= table.worst_celsius + 2e-3
    assert away.max() <= table.worst_anywhere_celsius + 0.1
    assert table.worst_celsius <= 0.02 or table.shift == 0 or len(table.entries) > 500


@pytest.mark.long
def test_chips_give_the_hosts_bits_in_fixed_point() -> None:
    design = made(law=PID, drive='kind = "time_proportional"\nwindow_s = 4', probe='kind = "thermistor"')
    codes = every_code(design, 1200)
    own = host.rows(design, codes, form=FIXED)
    cost = {}
    for target in chip.TARGETS.values():
        answered = chip.run(design, target, codes, counted=80, form=FIXED)
        assert (agreement.plain_rows(own, 80).view(np.uint32) == answered.rows.view(np.uint32)).all(), target.name
        cost[target.name] = float(answered.instructions.mean())
    # what fixed point is for: less work where there is no floating point unit
    in_float = chip.run(design, chip.TARGETS["cortex-m0plus"], codes, counted=80).instructions.mean()
    assert cost["cortex-m0plus"] < 0.8 * in_float


@settings(max_examples=10, deadline=None, derandomize=True)
@given(
    gain=st.floats(0.01, 2), ti=st.sampled_from([0.0, 30.0, 300.0, 2000.0]), td=st.sampled_from([0.0, 3.0, 20.0]),
    weight=st.floats(0, 1), anti_windup=st.sampled_from(["clamp", "back_calculate", "none"]), seed=st.integers(0, 99),
)  # fmt: skip
def test_any_pid_holds_the_temperature_alike(
    gain: float, ti: float, td: float, weight: float, anti_windup: str, seed: int
) -> None:
    """The loop under the fixed-point C against the loop under the float, on a trial of its own noise."""
    law = (
        f'kind = "pid"\nperiod_s = 0.5\ngain_per_celsius = {gain}\nintegral_time_s = {ti}\n'
        f'derivative_time_s = {td}\nsetpoint_weight = {weight}\nanti_windup = "{anti_windup}"'
    )
    design = made(law=law, drive='kind = "linear"', probe='kind = "thermistor"\nnoise_celsius = 0.02')
    trial = design.trial[0].model_copy(update={"seed": seed, "span_s": 1200.0})
    traces = []
    for form in (PLAIN, FIXED):
        with seated(design, "host", form) as seat:
            traces.append(loop.run(design, trial, seat=seat))
    apart = np.abs(traces[0].true_celsius - traces[1].true_celsius)
    assert 0.0 < apart.max() < 0.25 and np.sqrt(np.mean(apart[-800:] ** 2)) < 0.08


@pytest.mark.parametrize(
    ("blocks", "says"),
    [
        ({"law": PID.replace("0.08", "900")}, r"fixed point: .* may reach [\d.e+]+, beyond the ±32767 of Q16.16"),
        ({"law": PID + "\nslew_per_s = 0.0001"}, "slew_per_s is 0.0001 and would be rounded to 0.000106812"),
        ({"drive": 'kind = "time_proportional"\nwindow_s = 900'}, "half-cycles in a window of the output may"),
        ({"law": 'kind = "on_off"\nmin_on_s = 40000'}, "min_on_s is 40000, beyond"),
    ],
)
def test_what_does_not_fit_is_refused(blocks: dict[str, str], says: str) -> None:
    with pytest.raises(FirmwareError, match=says):
        folder.made(made(**{"probe": 'kind = "thermistor"', **blocks}), form=FIXED)


def test_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    cabinet = str(DEMOS[0].design)
    assert invoke(["code", cabinet, "--out", str(tmp_path), "--fixed", "--table", "--prefix", "oven", "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert str(tmp_path / "oven_q16.h") in data["files"] and data["table"]["entries"] > 10
    assert 0.0 < data["difference_from_float"]["reading_celsius"] <= data["table"]["worst_celsius"] + 1e-3
    assert {"name", "low", "high"} == set(data["bounds"][0])
    assert invoke(["code", cabinet, "--out", str(tmp_path / "b"), "--table"]) == 0
    assert "table: " in capsys.readouterr().out and not (tmp_path / "b" / "hatching_cabinet_q16.h").exists()
    assert invoke(["code", cabinet, "--check", "--fixed", "--target", "cortex-m0plus", "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert data["form"] == {"fixed": True, "table": True, "constant": False} and all(
        row["bit_equal"] for row in data["targets"]
    )
    for demo, says in ((7, "needs no table"), (5, "cold junction moves")):
        assert invoke(["code", str(DEMOS[demo].design), "--out", str(tmp_path / "c"), "--table"]) == 2
        assert says in capsys.readouterr().err and not (tmp_path / "c").exists()


@pytest.mark.parametrize("form", [FIXED, PLAIN])
def test_the_widest_sums_read_right(form: Form) -> None:
    """24 bits, 256 conversions added up, over 1300 °C: every code is read, and what is beyond a cut-out trips it."""
    probe = 'kind = "analog_voltage"\nvolt_per_celsius = 0.0025\nvolt_at_0_celsius = 0.1\nadc = { bits = 24, oversampling = 256 }'
    design = made(probe=probe, guard="cut_out_celsius = 90", law='kind = "pid"')
    codes = np.linspace(0.0, 2.0**24 - 1.0, 2001).round()
    truth = sweep.celsius_over(registry.numbers(design.probe), codes)
    answers = answers_from(host.rows(design, inputs(design, codes, restart=np.ones(len(codes), np.bool_)), form=form))
    read = np.isfinite(truth) & (answers.flags & 1 == 0)
    assert read.sum() > 1900 and np.abs(answers.measured_celsius - truth)[read].max() < 3e-4
    assert (((answers.flags & 2) > 0) == (answers.measured_celsius > 90.0))[read].all()


def test_the_working_range_is_all_that_a_design_may_meet() -> None:
    base = made(setpoint="celsius = 50", load='kind = "lump"\nambient_celsius = -12', law='kind = "pid"')
    trial = Trial.model_validate({"start_celsius": 3, "events": [{"kind": "setpoint_step", "at_s": 1, "celsius": 140}]})
    design = Design.model_validate({**dict(base), "trial": [trial], "knob": {"low_celsius": -30, "high_celsius": 20}})
    assert working_range(design) == (-35.0, 145.0)


def test_a_resolution_that_costs_too_much_is_said(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """dt 0.01 s, Ti 5000 s, gain 0.02: growth below half of 1/65536 is none, so e = Ti/(gain·dt·1024·131072) = 0.186 °C."""
    text = """format = 1
name = "slow"
[setpoint]
celsius = 50
[law]
kind = "pid"
gain_per_celsius = 0.02
integral_time_s = 5000
period_s = {period}
[drive]
kind = "linear"
[load]
kind = "lump"
[probe]
kind = "ideal"
[limits]
ripple_celsius = 1
"""
    path = tmp_path / "slow.toml"
    for period, said in (("0.01", True), ("1.0", False)):
        path.write_text(text.replace("{period}", period))
        assert invoke(["check", str(path)]) == 0
        out = capsys.readouterr().out
        assert ("within 0.19 °C of the setpoint" in out) == said and "nothing wrong" in out
        assert invoke(["check", str(path), "--json"]) == 0
        assert bool(json.loads(capsys.readouterr().out)["warnings"]) == said
