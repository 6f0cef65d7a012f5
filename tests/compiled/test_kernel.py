"""The compiled loop is the uncompiled one to the bit, and is never an old one: its key is all that it is made from."""

from __future__ import annotations

import ctypes
import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import calor
from calor import loop
from calor.compiled import build, compiler, freed_memory, library
from calor.compiled.annotations import Annotations
from calor.compiled.compiler import compilers
from calor.compiled.entries import ENTRIES
from calor.compiled.layout import Layout
from calor.compiled.problem import TranslationError
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.loop import kernel, simulate
from calor.loop.trace import Trace
from calor.sense import registry as probes
from tests.compiled import steps
from tests.conftest import QUICK, made
from tests.random_designs import drawn

COLUMNS = (
    "true_celsius", "probe_celsius", "counts", "measured_celsius", "setpoint_celsius", "flags", "demand", "delivered",
    "switch_s", "switch_level",
)  # fmt: skip
DEMO_TRIALS = [
    pytest.param(
        demo.design, number, marks=pytest.mark.long if trial.span_s > 40_000.0 and design.law.period_s <= 1.0 else ()
    )
    for demo in DEMOS
    for design in [read(demo.design).design]
    for number, trial in enumerate(design.trial)
]


@pytest.fixture
def uncompiled(monkeypatch: pytest.MonkeyPatch) -> Any:
    """A run by the steps as they are."""

    def run(design: Design, number: int = 0) -> Trace:
        with monkeypatch.context() as patch:
            patch.setattr(kernel.run, "_native", library.uncompiled(kernel.run))
            return loop.run(design, design.trial[number])

    return run


def assert_same(ours: Trace, reference: Trace) -> None:
    for name in COLUMNS:
        assert np.array_equal(getattr(ours, name), getattr(reference, name), equal_nan=True), name
    for own, other in zip(ours.outputs, reference.outputs, strict=True):
        for name in ("demand", "delivered", "switch_s", "switch_level"):
            assert np.array_equal(getattr(own, name), getattr(other, name)), name
    assert str(ours.events) == str(reference.events)


@pytest.mark.parametrize(("path", "number"), DEMO_TRIALS, ids=lambda value: getattr(value, "stem", value))
def test_every_demo_trial_is_the_same_uncompiled(path: Path, number: int, uncompiled: Any) -> None:
    design = read(path).design
    assert_same(loop.run(design, design.trial[number]), uncompiled(design, number))


def test_two_hundred_random_designs_are_the_same_uncompiled(uncompiled: Any) -> None:
    kinds = set()
    for seed in range(200):
        design = drawn(seed)
        kinds |= {getattr(design, block).kind for block in ("law", "drive", "load", "probe", "setpoint")}
        assert_same(loop.run(design, design.trial[0]), uncompiled(design))
    assert len(kinds) >= 28, kinds  # every law but one of code, drive, load, probe and setpoint


@pytest.mark.skipif(len(compilers()) < 2, reason="one compiler only")
def test_the_packaged_compiler_makes_the_same_loop(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    built = build.build(tmp_path, "key", compilers()[1])
    native = library.call_of(ctypes.CDLL(str(built.path)), Annotations(), kernel.run)
    for seed in range(20):
        design = drawn(seed)
        ours = loop.run(design, design.trial[0])
        with monkeypatch.context() as patch:
            patch.setattr(kernel.run, "_native", native)
            assert_same(ours, loop.run(design, design.trial[0]))


def test_everything_the_c_is_made_from_is_in_the_key() -> None:
    from calor.compiled.unit import Unit

    build.c_text()
    unit = Unit()
    for entry in ENTRIES.values():
        if entry.python.__module__.startswith("calor."):
            unit.export(entry)
    named = {Path(str(sys.modules[module].__file__)) for module in unit.modules if module.startswith("calor")}
    assert named <= set(build.sources()) and len(named) > 30


PROBE = """
import sys
from calor import loop
from calor.compiled import kernel, listen
from calor.demo import DEMOS
from calor.design.file import read
listen(lambda line: print(line, file=sys.stderr))
design = read(DEMOS[0].design).design
trace = loop.run(design, design.trial[0].model_copy(update={"span_s": 600.0}))
print(kernel().how, repr(float(trace.true_celsius[-1])), trace.steps)
"""


class Elsewhere:
    """A copy of the sources, or the sources themselves, run in a process of its own with caches of its own."""

    def __init__(self, root: Path, cache: Path) -> None:
        self.root, self.cache = root, cache
        self.environment = {**os.environ, "PYTHONPATH": str(root), "XDG_CACHE_HOME": str(cache), "CALOR_KERNEL": ""}

    def start(self) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, "-c", PROBE],
            env=self.environment,
            text=True,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )

    def run(self) -> tuple[list[str], str]:
        """(what is printed, what is said)."""
        process = self.start()
        out, said = process.communicate()
        assert process.returncode == 0, said
        return out.split(), said

    @property
    def folder(self) -> Path:
        return self.cache / "calor" / "loop"

    def libraries(self) -> list[Path]:
        return sorted(self.folder.glob("kernel-*.so"))


@pytest.fixture
def copy(tmp_path: Path) -> Elsewhere:
    root = tmp_path / "source"
    shutil.copytree(Path(calor.__file__).parent, root / "calor", ignore=shutil.ignore_patterns("__pycache__"))
    options = root / "calor" / "compiled" / "build.py"
    assert QUICK[0] in options.read_text()
    options.write_text(options.read_text().replace(*QUICK))
    return Elsewhere(root, tmp_path / "cache")


def test_an_old_loop_never_runs(copy: Elsewhere) -> None:
    """A block's file is changed in a copy: another loop is built, and the first one is found again for the first text."""
    (how, first, _), said = copy.run()
    assert how == "built" and "compiling the loop" in said
    assert copy.run()[0] == ["kept", first, "1200"] and len(copy.libraries()) == 1
    chamber = copy.root / "calor" / "load" / "chamber.py"
    text = chamber.read_text()
    times = chamber.stat().st_atime_ns, chamber.stat().st_mtime_ns
    loss = "(to_air - to_contents - lost) / load.air_j_per_k,"
    assert text.count(loss) == 1
    chamber.write_text(text.replace(loss, loss.replace("- lost", "+ lost")))
    os.utime(chamber, ns=times)  # the same size and the same time: nothing but the content tells them apart
    (how, other, _), _ = copy.run()
    assert how == "built" and abs(float(other) - float(first)) > 0.1 and len(copy.libraries()) == 2
    chamber.write_text(text)
    assert copy.run()[0][:2] == ["kept", first]
    chamber.write_text(text + "\n# a word more\n")  # other sources, the same C: the library is there already
    before = {path: path.stat().st_ino for path in copy.libraries()}
    assert copy.run()[0] == ["built", first, "1200"]
    assert before == {path: path.stat().st_ino for path in copy.libraries()}
    assert copy.run()[0][0] == "kept"


def test_several_processes_build_at_once(tmp_path: Path) -> None:
    elsewhere = Elsewhere(Path(calor.__file__).parent.parent, tmp_path)
    processes = [elsewhere.start() for _ in range(3)]
    answers = [(process.communicate()[0].split(), process.returncode) for process in processes]
    assert {code for _, code in answers} == {0} and len({tuple(words[1:]) for words, _ in answers}) == 1
    assert len(elsewhere.libraries()) == 1 and not list(elsewhere.folder.glob("tmp*"))


@pytest.fixture
def small(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Any:
    """Finds or builds a loop that is small, in a folder of its own: what is tested is what is on disk."""
    text = build.translated([steps.all_of_them])
    monkeypatch.setattr(build, "c_text", lambda: text)
    monkeypatch.setattr(library, "cache_folder", lambda: tmp_path / "loop")
    return library._made


def test_damaged_caches_are_set_aside_and_said(small: Any, tmp_path: Path) -> None:
    folder = tmp_path / "loop"
    assert small().how == "built"
    (note,) = folder.glob("*.json")
    for damage in ("cut short", "other bytes", "no note", "missing"):
        (path,) = folder.glob("*.so")
        fresh = path.with_suffix(".new")  # the first one is in this process: it is replaced, not written over
        if damage == "cut short":
            fresh.write_bytes(path.read_bytes()[:9000])
            fresh.replace(path)
        elif damage == "other bytes":
            fresh.write_bytes(b"\x7fELF" + bytes(5000))
            fresh.replace(path)
        elif damage == "no note":
            note.write_text("{")
        else:
            path.unlink()
        found = small()
        said = " ".join(found.said)
        assert found.how == "built" and ("set aside" in said or "missing" in said), (damage, said)
        again = small()
        assert again.how == "kept" and not again.said
    assert list(folder.glob("*.damaged"))


def test_a_library_that_the_machine_refuses_is_built_again(
    small: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whole, and no library here all the same: made where the C library was newer, say."""
    assert small().how == "built"
    refused: list[str] = []
    real = ctypes.CDLL

    def load(name: str) -> Any:
        if not refused:
            refused.append(name)
            raise OSError("version `GLIBC_9.9' not found")
        return real(name)

    monkeypatch.setattr(library.ctypes, "CDLL", load)
    found = small()
    assert found.how == "built" and "cannot be loaded" in found.said[0] and "set aside" in found.said[1], found.said
    assert small().how == "kept"


def test_a_cache_that_cannot_be_written_is_said(small: Any, tmp_path: Path) -> None:
    (tmp_path / "loop").write_text("a file where a folder should be")
    found = small()
    assert found.how == "built" and "cannot be written" in found.said[0] and "XDG_CACHE_HOME" in found.said[0]


def test_without_any_compiler_the_steps_run_as_they_are(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, uncompiled: Any
) -> None:
    monkeypatch.setattr(compiler, "compilers", lambda: ())
    monkeypatch.setattr(library, "cache_folder", lambda: tmp_path)
    monkeypatch.setattr(build, "SHIPPED", tmp_path / "none")
    found = library._made()
    assert found.how == "uncompiled" and "apt-get install gcc" in found.said[0]
    with pytest.raises(CalorError, match="a compiled loop is needed"):
        found.address("calor_count")
    design = made(load='kind = "lump"')
    with monkeypatch.context() as patch:
        patch.setattr(kernel.run, "_native", found.callable_of(kernel.run))
        assert loop.run(design, design.trial[0]).steps > 0
    # what divides by zero goes on in C; in Python it is one line that says what would do
    with pytest.raises(CalorError, match=r"uncompiled, this cannot be computed .*apt-get"):
        library.uncompiled(build.Entry(lambda: 1 / 0))()
    # a compiler that fails is said, and the next one is asked
    broken = tmp_path / "cc"
    broken.write_text("#!/bin/sh\necho 'kernel.c:1: error: no'\nexit 1\n")
    broken.chmod(0o755)
    monkeypatch.setattr(compiler, "compilers", lambda: (compiler.Compiler((str(broken),), "broken"),))
    failing = library._made()
    assert failing.how == "uncompiled" and any("error: no" in line for line in failing.said)

    def outside() -> str:
        raise TranslationError("step.py:3", "no word of the subset")

    monkeypatch.setattr(build, "c_text", outside)
    assert any("cannot be translated: step.py:3" in line for line in library._made().said)


def test_a_window_does_not_wait_for_a_compiler(monkeypatch: pytest.MonkeyPatch) -> None:
    """Until another thread has the loop, what its thread calls runs uncompiled."""
    from calor.sense import registry, sweep

    probe = registry.numbers(made(probe='kind = "thermistor"').probe)
    there = sweep.counts_over(probe, [25.0, 37.5])
    asked: list[str] = []
    with monkeypatch.context() as patch:
        patch.setattr(library, "_KERNEL", [])
        patch.setattr(library, "_ELSEWHERE", {__import__("threading").get_ident()})
        patch.setattr(library, "_made", lambda: asked.append("built"))
        patch.setattr(sweep.fill_counts, "_native", None)
        assert (sweep.counts_over(probe, [25.0, 37.5]) == there).all() and not asked
    assert (sweep.counts_over(probe, [25.0, 37.5]) == there).all()


def test_old_libraries_are_forgotten(tmp_path: Path) -> None:
    for number in range(build.KEPT + 3):
        path = tmp_path / f"kernel-{number}.so"
        path.write_bytes(b"")
        os.utime(path, (time.time() - number, time.time() - number))
        (tmp_path / f"key{number}.json").write_text(json.dumps({"library": path.name}))
    build._forget_old(tmp_path)
    assert len(list(tmp_path.glob("*.so"))) == build.KEPT == len(list(tmp_path.glob("*.json")))
    assert not (tmp_path / f"kernel-{build.KEPT}.so").exists()


def test_freed_memory_is_kept_where_the_c_library_can(monkeypatch: pytest.MonkeyPatch) -> None:
    """And is left alone where the user has set it, or where there is no such thing."""
    for name in [name for name in os.environ if name.startswith("MALLOC_")]:
        monkeypatch.delenv(name)
    asked: list[tuple[int, int]] = []
    there = type("Library", (), {"mallopt": staticmethod(lambda what, value: asked.append((what, value)) or 1)})
    monkeypatch.setattr(freed_memory.ctypes, "CDLL", lambda _: there)
    assert freed_memory.keep_freed_memory() and asked == [(-1, 64 << 20), (-3, 16 << 20)]
    monkeypatch.setattr(freed_memory.ctypes, "CDLL", lambda _: object())
    assert not freed_memory.keep_freed_memory()
    monkeypatch.setattr(freed_memory.ctypes, "CDLL", lambda _: there)
    monkeypatch.setenv("MALLOC_TRIM_THRESHOLD_", "1")
    assert not freed_memory.keep_freed_memory() and len(asked) == 2


EVENTS = [
    {"kind": "mains_lost", "at_s": 61.3, "for_s": 7.2},
    {"kind": "mains_voltage", "at_s": 90.1, "for_s": 33.3, "voltage_fraction": 0.9},
    {"kind": "output_bouncing", "at_s": 130.7, "for_s": 20.2},
    {"kind": "stalled", "at_s": 171.9, "for_s": 30.0},
    {"kind": "manual", "at_s": 220.4, "for_s": 15.0, "output": 0.37},
    {"kind": "probe_open", "at_s": 260.2, "for_s": 11.1},
    {"kind": "output_inverted", "at_s": 300.3, "for_s": 20.0},
]


@pytest.mark.parametrize("law", ['kind = "pid"\nperiod_s = 0.7', 'kind = "pid"\naction = "heat_cool"\nperiod_s = 0.7'])
def test_a_drive_that_holds_its_level_gives_what_it_gives_when_asked_at_each_step(
    law: str, uncompiled: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    design = made(
        law=law, drive='kind = "time_proportional"\nwindow_s = 11.3', load='kind = "chamber"\nsecond_watt = -20',
        probe='kind = "thermistor"\nnoise_celsius = 0.05', guard="watchdog_s = 4", setpoint="celsius = 31",
    )  # fmt: skip
    trial = Trial.model_validate({"span_s": 400.0, "start_celsius": 30.0, "events": EVENTS})
    design = design.model_copy(update={"trial": (trial,)})
    ours = loop.run(design, design.trial[0])
    asked = []
    step = kernel.drives.step
    with monkeypatch.context() as patch:
        # what a relay remembers, which these drives leave at 0: nothing then holds
        patch.setattr(kernel.drives, "HOLDS_UNTIL_S", 0)
        patch.setattr(kernel.drives, "step", lambda *given: (asked.append(given[4]), step(*given))[1])
        reference = uncompiled(design)
    assert len(asked) > ours.steps and len(ours.switch_s) > 40
    for name in COLUMNS:
        # a share of a step is a quotient there, and the level itself here
        assert getattr(ours, name) == pytest.approx(getattr(reference, name), rel=1e-12, abs=1e-12, nan_ok=True), name


def test_what_an_entry_is_given_is_packed_anew_where_any_part_is_another() -> None:
    kinds = Annotations().hints(kernel.run.python)
    packing = Layout(kinds["blocks"])
    for seed in range(40):
        design = drawn(seed)
        blocks = simulate._blocks(design, probes.numbers(design.probe), 0.0)
        assert packing(blocks) == packing(blocks) == Layout(kinds["blocks"])(blocks)
        gain_less = blocks._replace(law=blocks.law._replace(pid=blocks.law.pid._replace(bias=0.125)))
        assert packing(gain_less) == Layout(kinds["blocks"])(gain_less) != packing(blocks)
