"""The proof: a closed case, runs that are the same by their number, every fault on every demo, what is kept and said."""

from __future__ import annotations

import json
import math
import re
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from junitparser import JUnitXml
from scipy import stats

from calor.cli import invoke
from calor.demo import DEMOS
from calor.design import writing
from calor.design.cautions import cautions
from calor.design.edit import of_kind, with_kind, with_values
from calor.design.file import read
from calor.design.model import Design
from calor.errors import DesignError
from calor.loop.simulate import Stopped
from calor.proof import export, kept
from calor.proof.export import junit
from calor.proof.fault_table import CONTROL, CUT, GUARDED, OFF, OPEN_END, fault_table
from calor.proof.outcome import Outcome, safe_limits
from calor.proof.plan import CORNER, DRAWN, FAULT, Case, Plan
from calor.proof.running import made as run_case
from calor.proof.statistics import rank_correlation, share_of
from calor.proof.summary import matrix, passed_of, report, weights
from calor.proof.work import Progress, Work
from tests.conftest import PROBES, made


def closed(proof: str) -> Design:
    """Full output on K = 50 °C from 20 °C, so long that it has settled: it reads 20 + 50·(1 + x)."""
    return made(
        law='kind = "manual"\noutput = 1.0\nperiod_s = 1.0',
        drive='kind = "linear"',
        load='kind = "first_order"\nrise_celsius = 50.0\ntime_constant_s = 10.0\ndead_time_s = 0.0\nambient_celsius = 20.0',
        limits="peak_celsius = 75.0",
        trial='name = "Hot"\nspan_s = 200',
        proof=proof,
    )


EXACT = (
    "ambient_celsius = { within = 0.0 }\nmains_voltage_fraction = { within = 0.0 }\nclock_fraction = { within = 0.0 }\n"
)


def proved(design: Design, runs: int, threads: int = 2, **what: bool) -> Progress:
    progress = Progress(Plan(design))
    Work().run(progress, progress.plan.chosen(runs, **what), threads=threads)
    return progress


@pytest.mark.parametrize(
    ("distribution", "share"),
    # 75 °C is crossed from x = 0.1 on, which is half way up to 0.2
    [("uniform", 0.75), ("triangular", 1.0 - 0.5 * 0.5**2), ("normal", stats.norm.cdf(1.5))],
)
def test_share_and_interval_of_a_closed_case(distribution: str, share: float) -> None:
    design = closed(
        EXACT + f'load = [{{ key = "rise_celsius", within = 0.2, distribution = "{distribution}" }},'
        ' { key = "time_constant_s", within = 0.0 }]'
    )
    progress = proved(design, 1000, faults=False)
    found = passed_of(progress, 0)
    assert found.runs == 1000 and found.share == pytest.approx(share, abs=0.004)
    assert found.low < share < found.high
    # as another library has it
    exact = stats.binomtest(found.passed, found.runs).proportion_ci(0.95, method="exact")
    assert (found.low, found.high) == pytest.approx((exact.low, exact.high), abs=1e-9)
    only = weights(progress, 0)
    assert [one.name for one in only] == ["load.rise_celsius"] and only[0].correlation == pytest.approx(1.0)
    worst = matrix(progress)[-1].cells[0]
    drawn = [number for number in progress.outcomes if number > len(progress.plan.fixed)]
    assert worst.number == max(drawn, key=lambda number: progress.outcomes[number].highest_celsius)


def test_the_statistics_against_another_library() -> None:
    chance = np.random.default_rng(4)
    for count in (3, 10, 200):
        a, b = chance.normal(size=count), chance.integers(0, 4, count).astype(float)
        b[0] = b[1] + 1.0
        assert rank_correlation(a.tolist(), b.tolist()) == pytest.approx(stats.spearmanr(a, b).statistic)
    assert math.isnan(rank_correlation([1.0, 1.0, 1.0], [1.0, 2.0, 3.0]))
    assert rank_correlation([1, 2, 3], [0.0, 1.0, math.inf]) == pytest.approx(1.0)
    for passed, runs in ((0, 20), (20, 20), (7, 20)):
        exact = stats.binomtest(passed, runs).proportion_ci(0.95, method="exact")
        found = share_of(passed, runs)
        assert (found.low, found.high) == pytest.approx((exact.low, exact.high), abs=1e-9)


def test_a_run_is_the_same_by_its_number(cabinet: Design) -> None:
    """In any order, on any number of threads, alone and among others, near and far ahead."""
    short = cabinet.model_copy(
        update={"trial": tuple(one.model_copy(update={"span_s": 600.0}) for one in cabinet.trial)}
    )
    first, second = proved(short, 9, threads=1), proved(short, 9, threads=4)
    assert repr(first.outcomes) == repr(second.outcomes)
    np.testing.assert_array_equal(first.bands[0].high_celsius, second.bands[0].high_celsius)
    for number in (1, 5, len(first.plan.fixed), len(first.plan.fixed) + 1, max(first.outcomes)):
        plan = Plan(short)
        assert repr(run_case(plan, plan.case(number)).outcome) == repr(first.outcomes[number])
    far = len(first.plan.fixed) + 3 * 5000 + 1
    ahead, plan = Plan(short), Plan(short)
    for number in range(len(plan.fixed) + 1, far, 3):
        plan.case(number)
    assert ahead.case(far).values == pytest.approx(plan.case(far).values, abs=1e-15)
    assert Plan(short, 2).case(far).values != plan.case(far).values


def test_each_tolerance_is_put_where_it_belongs(cabinet: Design) -> None:
    """At its ends each moves its own part and nothing else; drawn, each stays inside its interval."""
    plan = Plan(cabinet)
    names = [one.name for one in plan.tolerances]
    assert {"ambient", "mains_voltage", "window", "clock", "probe.beta", "load.loss_w_per_k"} <= set(names)
    from calor.proof.running import ready

    moved = {}
    for case in plan.fixed:
        if case.kind == CORNER and case.trial == 0:
            what = ready(plan, case)
            changed = [
                key
                for key, off in (
                    ("load", what.design.load != cabinet.load), ("window", what.design.drive != cabinet.drive),
                    ("probe", what.deviation.probe is not None), ("ambient", what.deviation.ambient_celsius != 0.0),
                    ("mains_voltage", what.deviation.voltage_share != 1.0), ("clock", what.deviation.clock_share != 0.0),
                )
                if off
            ]  # fmt: skip
            moved[case.name] = changed
    for name, changed in moved.items():
        part = name.split(":")[0].split(".")[0]
        assert changed == (["window", "clock"] if part == "clock" else [part]), name
    for place in range(64):
        values = plan.case(len(plan.fixed) + 1 + 3 * place).values
        assert all(one.low <= value <= one.high for one, value in zip(plan.tolerances, values, strict=True))


def test_a_clock_that_is_off_and_what_it_does() -> None:
    """A controller that is fast by a tenth decides every 0.909 s, and its half-hour timer is over in 1636 s."""
    from calor import loop
    from calor.loop.deviation import Deviation

    design = made(
        law='kind = "timer"\npattern = "run_then_stop"\nfirst_s = 1800\nperiod_s = 1.0', drive='kind = "linear"'
    )
    trial = design.trial[0].model_copy(update={"span_s": 3000.0})
    for share in (-0.1, 0.0, 0.1):
        trace = loop.run(design, trial, deviation=Deviation(clock_share=share))
        assert trace.time_s[1] == pytest.approx(1.0 / (1.0 + share))
        assert trace.switch_s[-1] == pytest.approx(1800.0 / (1.0 + share), abs=1.5)


ENDS = {
    "hatching_cabinet": {
        GUARDED: "probe_open probe_short",
        OPEN_END: "probe_stuck! probe_fallen! switch_stuck_on! switch_inverted! firmware_hung!",
        CONTROL: "probe_slow mains_lost setpoint_high setpoint_low", OFF: "switch_stuck_off",
    },
    "radio_hut": {
        GUARDED: "probe_open probe_short",
        OPEN_END: "probe_stuck! probe_fallen! switch_inverted! switch_stuck_on firmware_hung", OFF: "switch_stuck_off!",
        CONTROL: "probe_slow switch_bouncing mains_lost setpoint_high setpoint_low",
    },
    "radio_hut_fans": {
        GUARDED: "probe_open probe_short",
        OPEN_END: "probe_stuck probe_fallen! switch_stuck_on switch_stuck_on_2 switch_inverted switch_inverted_2 firmware_hung",
        OFF: "switch_stuck_off switch_stuck_off_2",
        CONTROL: "probe_slow switch_bouncing_2 mains_lost! setpoint_high setpoint_low",
    },
    "film_bath": {
        GUARDED: "probe_open probe_short",
        OPEN_END: "probe_stuck! probe_fallen! switch_stuck_on! switch_inverted! firmware_hung!",
        CONTROL: "probe_slow mains_lost setpoint_high setpoint_low", OFF: "switch_stuck_off",
    },
    # 9 W on glass in the open never get it hot
    "dew_heater": {
        GUARDED: "probe_open probe_short", OPEN_END: "probe_stuck probe_fallen switch_stuck_on switch_inverted firmware_hung",
        CONTROL: "probe_slow mains_lost setpoint_high setpoint_low", OFF: "switch_stuck_off",
    },
    # a thermocouple whose wires touch reads its cold junction, which no check tells
    "wax_melter": {
        GUARDED: "probe_open firmware_hung",
        OPEN_END: "probe_short! probe_stuck! probe_reversed! probe_fallen! switch_stuck_on! switch_inverted!",
        CONTROL: "probe_slow supply_high supply_low mains_lost setpoint_high", OFF: "switch_stuck_off",
    },
    "camera_cooler": {
        GUARDED: "probe_open probe_short", OPEN_END: "probe_stuck probe_fallen switch_stuck_on switch_inverted firmware_hung",
        CONTROL: "probe_slow mains_lost setpoint_high setpoint_low", OFF: "switch_stuck_off",
    },
    "foam_cutter": {
        OPEN_END: "switch_stuck_on! switch_inverted! firmware_hung!", OFF: "switch_stuck_off", CONTROL: "mains_lost!",
    },
}  # fmt: skip
"""How each fault ends in each demo, and with a mark where it goes beyond what is safe."""


@pytest.mark.parametrize("demo", DEMOS, ids=lambda demo: demo.design.stem)
def test_every_fault_on_every_demo(demo: Any) -> None:
    design = read(demo.design).design
    progress = proved(design, 1, tolerances=False)
    plan = progress.plan
    rows = {row.fault.name: row for row in fault_table(progress)}
    assert {fault.name for fault in plan.faults} == set(rows)
    tried = sum(case.kind == FAULT for case in plan.fixed)
    from_the_start = sum(fault.from_the_start for fault in plan.faults)
    assert tried == len(design.trial) * (2 * (len(plan.faults) - from_the_start) + from_the_start)
    found = {name: (row.way, "" if row.passes else "!") for name, row in rows.items()}
    ends = ENDS[demo.design.stem]
    assert found == {
        word.rstrip("!"): (way, word[len(word.rstrip("!")) :]) for way, words in ends.items() for word in words.split()
    }
    for row in rows.values():
        assert row.answer and row.ended and "safe" not in (row.answer + row.ended).replace("proof.safe", "")
        if row.way == OPEN_END:
            assert "needs" in row.missing.lower(), row
    stuck = rows["switch_stuck_on"]
    assert "cannot open a switch" in stuck.missing and ("independent" in stuck.missing or design.law.action == "cool")


def test_an_independent_part_ends_what_the_controller_cannot(cabinet: Design) -> None:
    """The same run up to the instant, and none of the power after it."""
    proof = cabinet.proof.model_copy(update={"independent_cut_out_celsius": 45.0})
    guarded = cabinet.model_copy(update={"proof": proof, "trial": cabinet.trial[:1]})
    bare = Plan(cabinet.model_copy(update={"trial": cabinet.trial[:1]}))
    plan = Plan(guarded)
    number = next(case.number for case in plan.fixed if case.name == "switch_stuck_on")
    open_end, ended = run_case(bare, bare.case(number)), run_case(plan, plan.case(number))
    assert open_end.trace is not None and ended.trace is not None and ended.outcome.cut_out_s is not None
    row = int(np.searchsorted(ended.trace.time_s, ended.outcome.cut_out_s))
    np.testing.assert_array_equal(open_end.trace.true_celsius[: row + 1], ended.trace.true_celsius[: row + 1])
    assert not ended.trace.delivered[row + 1 :].any()
    assert open_end.outcome.highest_celsius > 60.0 and 45.0 < ended.outcome.highest_celsius < 50.0
    progress = Progress(plan)
    progress.take(plan.case(number), ended)
    assert fault_table(progress)[0].way == CUT and "rests on the independent part" in fault_table(progress)[0].missing


def test_a_hang_that_matters_comes_while_the_output_is_on(cabinet: Design) -> None:
    plan = Plan(cabinet)
    case = next(case for case in plan.fixed if case.name == "firmware_hung")
    outcome = run_case(plan, case).outcome
    assert case.at_s <= outcome.at_s < case.at_s + 60.0 and outcome.highest_celsius > 60.0
    watched = cabinet.model_copy(update={"guard": cabinet.guard.model_copy(update={"watchdog_s": 2.0})})
    plan = Plan(watched)
    made_again = run_case(plan, plan.case(case.number))
    assert made_again.outcome.passes and made_again.outcome.highest_celsius < 40.0
    progress = Progress(plan)
    progress.take(plan.case(case.number), made_again)
    (row,) = fault_table(progress)
    assert row.way == GUARDED and "by the watchdog after 2.0 s" in row.ended and row.missing == ""


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("runs = 0", "proof.runs: must be a whole number from 1"),
        ("probe = { within = 1, low = -1, high = 1 }", "either within or low and high"),
        ("probe = { low = 1 }", "needs both low and high"),
        ("ambient_celsius = { low = 3, high = 1 }", "must not be above high"),
        ('load = [{ key = "rise_celcius", within = 0.1 }]', "'rise_celcius', which is no number of this load"),
        ('load = [{ key = "rise_celsius" }, { key = "rise_celsius" }]', "two entries for rise_celsius"),
        ('load = [{ key = "rise_celsius", within = 1.0 }]', "leaves nothing"),
        ("mains_voltage_fraction = { within = 1 }", "leaves no mains"),
        ("clock_fraction = { within = 0.95 }", "keep it above -0.9"),
        ('leave_out = ["probe_opened"]', "probe_opened"),
        ("early_fault_fraction = 0.9", "must not be above late_fault_fraction"),
        ("safe = { lowest_celsius = 50, highest_celsius = 40 }", "must be below highest_celsius"),
        ('probe = { within = 1, distribution = "flat" }', "distribution"),
        ("faults = true", "unknown key"),
    ],
)
def test_what_cannot_be_is_said(text: str, says: str) -> None:
    with pytest.raises(DesignError) as raised:
        closed(text)
    assert says in str(raised.value)


def short_cabinet(folder: Path) -> Path:
    text = DEMOS[0].design.read_text(encoding="utf-8")
    place = folder / "cabinet.toml"
    place.write_text(
        text.replace("span_s = 7200", "span_s = 1200").replace("span_s = 10800", "span_s = 1200"), encoding="utf-8"
    )
    return place


def answer(capsys: pytest.CaptureFixture[str], *arguments: str) -> tuple[int, Any, str]:
    code = invoke(list(arguments))
    said = capsys.readouterr()
    return code, json.loads(said.out) if said.out.startswith("{") else said.out, said.err


def test_the_command_and_what_it_keeps(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    design, junit, csv = short_cabinet(tmp_path), tmp_path / "out.xml", tmp_path / "out.csv"
    code, data, _ = answer(
        capsys, "prove", str(design), "--runs", "5", "--seed", "7", "--junit", str(junit), "--csv", str(csv), "--json"
    )
    assert code == 1 and data["pass"] is False and data["seed"] == 7
    place = kept.place_of(design)
    assert place.is_file()
    # read back, and by the schema
    document = JUnitXml.fromfile(str(junit))
    cells = sum(
        len([one for one in row["limits"] if row["kind"] != "fault" or one["name"].startswith("safe.")])
        for row in data["matrix"]
    )
    failed = sum(
        not one["pass"]
        for row in data["matrix"]
        for one in row["limits"]
        if row["kind"] != "fault" or one["name"].startswith("safe.")
    )
    assert document.tests == cells + 3 * len(data["not_tried"]) and document.failures == failed > 0
    xmlschema = pytest.importorskip("xmlschema")
    xmlschema.XMLSchema(str(Path(__file__).parents[1] / "reference" / "junit.xsd")).validate(str(junit))
    lines = csv.read_text(encoding="utf-8").splitlines()
    assert len(lines) == 1 + data["runs"] and lines[0].startswith("proof_run,trial,kind,name,at_s,pass")
    # each run again by its number alone: the seed is the kept result's
    for row in (data["matrix"][4], data["matrix"][-1]):
        for cell in row["limits"]:
            _, again, _ = answer(capsys, "run", str(design), "--proof-run", str(cell["number"]), "--json")
            same = [one for one in again["proof_run"]["limits"] if one["name"] == cell["name"]]
            assert all(one["value"] == cell["value"] for one in same), (row, cell)
            assert again["proof_run"]["seed"] == 7
    _, text, _ = answer(capsys, "run", str(design), "--proof-run", "4")
    assert "proof run 4, seed 7: Probe open, at" in text and "Highest temperature" in text
    # gone on with, where nothing changed; run again where the design did
    _, more, said = answer(capsys, "prove", str(design), "--runs", "6", "--seed", "7", "--json")
    assert f"{data['runs']} runs are there already" in said and more["runs"] == data["runs"] + 3
    _, less, _ = answer(capsys, "prove", str(design), "--runs", "5", "--seed", "7", "--json")
    assert less == data
    design.write_text(design.read_text(encoding="utf-8").replace("gain_per_celsius = 0.22", "gain_per_celsius = 0.21"))
    _, other, said = answer(capsys, "prove", str(design), "--runs", "5", "--faults", "--json")
    assert "of another design, controller or program" in said
    assert other["drawn"] == [] and {row["kind"] for row in other["matrix"]} == {"designed", "fault"}
    _, text, _ = answer(capsys, "prove", str(design), "--tolerances", "--runs", "3")
    assert "Single faults" not in text and "rank correlation" in text and "FAIL" in text


def test_a_result_that_is_not_ours_or_damaged(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    design = short_cabinet(tmp_path)
    place = kept.place_of(design)
    place.write_text("my own notes")
    code, _, said = answer(capsys, "prove", str(design), "--faults", "--runs", "1", "--json")
    assert code == 1 and "is not kept" in said and place.read_text() == "my own notes"
    place.unlink()
    answer(capsys, "prove", str(design), "--faults", "--runs", "1", "--json")
    whole = place.read_text()
    data = json.loads(whole)
    data["outcomes"][3] = [1]
    for damaged in (whole[: len(whole) // 2], json.dumps(data)):
        place.write_text(damaged)
        code, _, said = answer(capsys, "prove", str(design), "--faults", "--runs", "1", "--json")
        assert code == 1 and place.read_text() == whole
    assert "is damaged" in said


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["--runs", "0"], "--runs: takes a whole number from 1"),
        (["--seed", "-1"], "--seed: takes a whole number from 0"),
        (["--with", "nobody"], "--with: must be one of"),
        (["--junit", "{design}"], "is a file that is read here"),
        (["--csv", "{kept}"], "is a file that is read here"),
    ],
)
def test_bad_orders(arguments: list[str], says: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    design = short_cabinet(tmp_path)
    kept.place_of(design).write_text('{"calor_proof": 1}')
    words = [word.format(design=design, kept=kept.place_of(design)) for word in arguments]
    code, _, said = answer(capsys, "prove", str(design), *words)
    assert code == 2 and says in said and len(said.strip().splitlines()) == 1


def test_the_numbers_of_runs_that_cannot_be(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    design = str(short_cabinet(tmp_path))
    for words, says in (
        (["--proof-run", "0"], "is numbered from 1"), (["--seed", "2"], "goes with --proof-run"),
        (["--proof-run", "1", "--trial", "x"], "goes without --trial"),
    ):  # fmt: skip
        code, _, said = answer(capsys, "run", design, *words)
        assert code == 2 and says in said


def test_stopped_and_gone_on_with(cabinet: Design) -> None:
    plan = Plan(cabinet)
    progress, work = Progress(plan), Work()
    enough = threading.Event()

    def told(case: Case, outcome: Outcome) -> None:
        del outcome
        if case.number >= 10:
            enough.set()
            work.stop()

    with pytest.raises(Stopped):
        work.run(progress, plan.chosen(50), told=told)
    assert enough.is_set() and 10 <= len(progress.outcomes) < 100
    some = dict(progress.outcomes)
    Work().run(progress, plan.chosen(1))
    assert len(progress.outcomes) == plan.count(1)
    assert all(progress.outcomes[number] is outcome for number, outcome in some.items())


def test_stopped_from_outside_while_a_run_is_on(cabinet: Design) -> None:
    long = cabinet.model_copy(update={"trial": (cabinet.trial[0].model_copy(update={"span_s": 2e6}),)})
    plan, work = Plan(long), Work()
    ended: list[bool] = []

    def act() -> None:
        try:
            work.run(Progress(plan), plan.chosen(1))
        except Stopped:
            ended.append(True)

    worker = threading.Thread(target=act)
    worker.start()
    while not work._on:
        time.sleep(0.01)
    work.stop()
    worker.join(60.0)
    assert ended == [True]


def test_the_generated_c_in_the_seat(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """The C on the host comes to what the built-in law does, run by run, whatever its parts are like."""
    design = short_cabinet(tmp_path)
    _, built_in, _ = answer(capsys, "prove", str(design), "--runs", "3", "--json")
    code, host, _ = answer(capsys, "prove", str(design), "--runs", "3", "--with", "host", "--json")
    assert code == 1 and host["with"] == "host"
    for ours, theirs in zip(built_in["matrix"], host["matrix"], strict=True):
        if ours["title"] == "Probe code stuck":
            continue  # at which code it sticks hangs on the last bit
        assert (ours["title"], ours["pass"]) == (theirs["title"], theirs["pass"])
        for one, other in zip(ours["limits"], theirs["limits"], strict=True):
            if one["value"] is not None and other["value"] is not None:
                assert other["value"] == pytest.approx(one["value"], rel=0.1, abs=0.2), ours["title"]


def test_a_load_that_boils_away_is_a_run_that_failed() -> None:
    """Without loss, stuck on: what no load can be is a failed run, not an end of the proof."""
    design = made(
        load='kind = "integrating"\nrate_celsius_per_s = 100.0\nambient_celsius = 20.0',
        law='kind = "on_off"\nperiod_s = 1.0', trial='span_s = 3e5', limits="peak_celsius = 3000.0",
    )  # fmt: skip
    progress = proved(design, 1, tolerances=False)
    failed = [outcome for outcome in progress.outcomes.values() if outcome.failed]
    assert failed and not any(outcome.passes for outcome in failed)
    assert "where nothing can be" in failed[0].failed
    data = report(progress)
    told = {row["number"]: row.get("failed", "") for row in data["matrix"]}
    assert data["pass"] is False and all(told[outcome.number] == outcome.failed for outcome in failed)
    assert any("where nothing can be" in row["does"] and not row["pass"] for row in data["faults"])
    document = JUnitXml.fromstring(export.junit(progress))
    assert document.errors == len(failed) == sum(bool(row.failed) for row in matrix(progress))
    assert DRAWN not in {row.kind for row in matrix(progress)}


def test_a_demos_proof_is_kept_with_the_users_data(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Nothing is written where Calor is installed, whatever is asked for."""
    demo = DEMOS[7].design
    before = {path: path.stat().st_mtime_ns for path in demo.parent.iterdir() if path.is_file()}
    assert invoke(["prove", str(demo), "--faults"]) in (0, 1)
    place = kept.place_of(demo)
    assert place.is_file() and not place.is_relative_to(demo.parent.parent)
    assert "are there already" in (invoke(["prove", str(demo), "--faults"]), capsys.readouterr().err)[1]
    for words in (
        ["run", str(demo), "--csv", str(demo.parent / "run.csv")], ["new", str(demo.parent / "mine.toml")],
        ["sheet", str(demo), "--html", str(demo.parent / "sheet.html")],
        ["report", str(demo), "--out", str(demo.parent / "r.html")],
        ["code", str(demo), "--out", str(demo.parent / "c")],
    ):  # fmt: skip
        assert invoke(words) == 2 and "ships with Calor" in capsys.readouterr().err, words
    assert {path: path.stat().st_mtime_ns for path in demo.parent.iterdir() if path.is_file()} == before
    assert not (demo.parent / "c").exists()
    assert kept.place_of(None, "Egg box №2").name == "egg_box_2.proof.json"
    assert kept.place_of(tmp_path / "a.toml") == tmp_path / "a.proof.json"


COOLS = 'kind = "on_off"\naction = "cool"\nperiod_s = 5'
HEATS_UP = 'kind = "first_order"\nrise_celsius = {rise}\ntime_constant_s = 200\nambient_celsius = 60'


def test_cooling_is_proved_against_heat() -> None:
    """A fan that stops at an open probe lets it become far too hot: that fails, and running at full passes."""
    fan = 'kind = "fan_curve"\nperiod_s = 1\nstart_celsius = 28\nfull_celsius = 34'
    for output, passes in ((0.0, False), (1.0, True)):
        design = made(
            setpoint="celsius = 30", law=fan, drive='kind = "pwm"', load=HEATS_UP.format(rise=-40), probe=PROBES["thermistor"],
            guard=f"probe_fault_output = {output}", trial="span_s = 3600\nstart_celsius = 30",
        )  # fmt: skip
        rows = {row.fault.name: row for row in fault_table(proved(design, 0, tolerances=False))}
        assert rows["probe_open"].passes is passes
    assert rows["switch_stuck_off"].passes is False and rows["switch_stuck_off"].highest_celsius > 55


@pytest.mark.parametrize(
    ("blocks", "limits"),
    [
        ({"law": COOLS}, {"highest_celsius": 60, "lowest_celsius": 40}),
        ({"law": COOLS, "guard": 'alarms = [ { kind = "high", celsius = 70 } ]'}, {"highest_celsius": 75, "lowest_celsius": 40}),
        ({}, {"highest_celsius": 60}),
        ({"setpoint": "celsius = 50\nlow_limit_celsius = 20\nhigh_limit_celsius = 70"}, {"highest_celsius": 80, "lowest_celsius": 10}),
        ({"guard": 'cut_out_celsius = 66\nalarms = [ { kind = "low", celsius = 45 } ]'}, {"highest_celsius": 71, "lowest_celsius": 40}),
        ({"law": 'kind = "on_off"\naction = "heat_cool"', "guard": "cut_out_low_celsius = 30"}, {"highest_celsius": 60, "lowest_celsius": 25}),
        ({"law": COOLS, "proof": "[proof.safe]\nlowest_celsius = 12"}, {"highest_celsius": 60, "lowest_celsius": 12}),
        ({"law": COOLS, "proof": "[proof.safe]\nhighest_celsius = 99"}, {"highest_celsius": 99}),
    ],
)  # fmt: skip
def test_safe_limits_follow_what_must_not_be(blocks: dict[str, str], limits: dict[str, float]) -> None:
    """Too hot always; too cold where it cools or does both, and where a design that heats says how cold it may be."""
    assert safe_limits(made(**blocks)) == limits


def test_a_limit_that_the_healthy_run_breaks_is_said_and_not_used() -> None:
    """A trial that starts at 24 °C breaks "lowest 25"; one that is driven to 60 °C "highest 55"."""
    safe = "[proof.safe]\nlowest_celsius = 25\nhighest_celsius = 55\nenergy_wh = 0.001"
    design = made(
        setpoint="celsius = 50", law='kind = "pid"\nintegral_time_s = 60', drive='kind = "linear"', proof=safe,
        load='kind = "lump"\nheater_watt = 50', trial='name = "cold"\nspan_s = 1800\nstart_celsius = 24\n[[trial]]\nname = "warm"\nspan_s = 1800\nstart_celsius = 50',
    )  # fmt: skip
    progress = proved(design, 0, tolerances=False)
    data = report(progress)
    assert {(one["trial"], one["name"]) for one in data["not_used"]} >= {
        ("cold", "safe.lowest_celsius"), ("cold", "safe.energy_wh"), ("warm", "safe.energy_wh")
    }  # fmt: skip
    assert all("as designed it comes to" in one["text"] for one in data["not_used"])
    for row in data["matrix"]:
        names = {one["name"] for one in row["limits"] if one["name"].startswith("safe.")}
        assert ("safe.lowest_celsius" in names) == (row["kind"] == "fault" and row["trial"] == "warm"), row["title"]


def test_without_limits_nothing_is_judged(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Never a pass: a reversed thermocouple at full output for two hours, without a limit."""
    place = tmp_path / "bare.toml"
    place.write_text(
        '[setpoint]\ncelsius = 50\n[law]\nkind = "on_off"\n[drive]\nkind = "relay"\n[load]\nkind = "first_order"\n'
        '[probe]\nkind = "thermocouple"\n[[trial]]\nspan_s = 7200\nevents = [ { kind = "probe_reversed", at_s = 0 } ]\n'
    )
    assert invoke(["run", str(place), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["pass"] is None
    assert invoke(["run", str(place)]) == 0 and "nothing is judged" in capsys.readouterr().out
    assert invoke(["prove", str(place), "--runs", "3", "--json", "--junit", str(tmp_path / "j.xml")]) in (0, 1)
    data = json.loads(capsys.readouterr().out)
    designed = [row for row in data["matrix"] if row["kind"] != "fault"]
    assert designed and all(row["pass"] is None and row["judged"] == row["passed"] == 0 for row in designed)
    assert data["judged"] == sum(row["judged"] for row in data["matrix"]) < data["runs"]
    assert "nothing is judged" in (tmp_path / "j.xml").read_text()
    design = read(place).design
    alone = proved(design.model_copy(update={"proof": design.proof.model_copy(update={"runs": 1})}), 1, faults=False)
    assert report(alone)["pass"] is None
    assert invoke(["tune", str(place)]) == 0 and "not judged" in capsys.readouterr().out


def test_junit_names_hold_no_times(tmp_path: Path) -> None:
    """A name is the same from one version of a design to the next, whenever a fault comes."""
    design = read(DEMOS[0].design).design
    names = []
    for early in (0.1, 0.15):
        own = design.model_copy(update={"proof": design.proof.model_copy(update={"early_fault_fraction": early})})
        text = junit(proved(own, 0, tolerances=False))
        names.append(re.findall(r'<testcase name="([^"]*)"', text))
    assert names[0] == names[1] and not [name for name in names[0] if re.search(r"\d+:\d\d| \d+ (s|min)\b", name)]
    assert any(name.startswith("Probe open, early: ") for name in names[0]) and len(set(names[0])) * 3 == len(names[0])


def test_a_fan_is_asked_what_it_does_at_a_fault(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Chosen for a new design it runs at full; an old file runs as it did, with a note; other cooling laws are asked."""
    old = made(law='kind = "fan_curve"\nperiod_s = 1', drive='kind = "pwm"')
    assert old.guard.probe_fault_output == 0.0 and "the fan stops" in cautions(old)[0]
    for guard, asked in (("probe_fault_output = 0", 0), ("watchdog_s = 1", 1)):
        assert len(cautions(made(law=COOLS, guard=guard))) == asked
    assert cautions(made()) == []
    place = tmp_path / "fan.toml"
    place.write_text(writing.write(old))
    assert invoke(["check", str(place)]) == 0 and "guard.probe_fault_output is not set" in capsys.readouterr().out
    assert invoke(["check", str(place), "--json"]) == 0 and len(json.loads(capsys.readouterr().out)["warnings"]) == 1
    cools = made(law=COOLS)
    fan = with_kind(cools, "law", of_kind(cools.law, "law", "fan_curve", None, 50.0), 0)
    assert fan.guard.probe_fault_output == 1.0 and cautions(fan) == []
    assert "probe_fault_output = 1.0" in writing.write(fan)
    told = with_values(old.guard, {"watchdog_s": 2.0})
    assert "probe_fault_output" not in told.model_fields_set
    answered = fan.model_copy(update={"guard": with_values(old.guard, {"probe_fault_output": 0.0})})
    assert "probe_fault_output = 0.0" in writing.write(answered)  # the answer is kept, though it is the usual one
