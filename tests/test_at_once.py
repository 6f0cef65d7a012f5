"""Several rooms at work at once: what threads share is guarded, and nothing of one's work shows in another's."""

from __future__ import annotations

import os
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.design.file import read
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.files import save_atomically
from calor.firmware.check import agreement
from calor.judge.verdict import judge
from calor.log.read import read as read_log
from calor.loop import simulate
from calor.mistakes import details_file, in_words
from calor.proof.plan import Plan
from calor.proof.work import Progress, Work
from calor.report.plot import write
from calor.tune.known import known_by
from calor.tune.table import present
from calor.tune.verdict_map import verdict_map
from tests.conftest import made
from tests.desk.test_proof_room import short_cabinet


@pytest.fixture
def impatient() -> Iterator[None]:
    """Threads that take turns as often as they can."""
    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    yield
    sys.setswitchinterval(before)


def at_once(*acts: Callable[[], Any]) -> None:
    """Run all in threads of their own until each has ended; raise what the first of them raised."""
    raised: list[BaseException] = []

    def work(act: Callable[[], Any]) -> None:
        try:
            act()
        except BaseException as error:
            raised.append(error)

    threads = [threading.Thread(target=work, args=(act,)) for act in acts]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if raised:
        raise raised[0]


def test_what_threads_share_is_guarded(impatient: None, tmp_path: Path) -> None:
    """Runs that begin and end beside others; files that are written; warnings that are let by."""

    def be_on(count: int) -> None:
        for _ in range(count):
            with simulate._on(loop.new_control()), simulate._on(loop.new_control()):
                simulate.stop_every_run()

    at_once(*[lambda: be_on(400)] * 8)
    assert simulate.stop_every_run() == 0
    log, place = tmp_path / "log.csv", tmp_path / "files"
    place.mkdir()
    log.write_text("time,T\n" + "".join(f"2026-01-05 10:{k // 60:02}:{k % 60:02},2{k}.5\n" for k in range(90)))
    straight = read_log(log).measured_celsius

    def read_often() -> None:
        for _ in range(10):
            assert np.array_equal(read_log(log).measured_celsius, straight)

    umask = os.umask(0o027)
    try:
        at_once(*[lambda name=name: [save_atomically(place / f"{name}{k}", "x") for k in range(40)] for name in "abcd"])
        assert {path.stat().st_mode & 0o777 for path in place.iterdir()} == {0o640}
        at_once(*[read_often] * 4)
    finally:
        assert os.umask(umask) == 0o027


def everything(folder: Path, is_over: Callable[[], bool]) -> list[Callable[[], Any]]:
    """What the rooms do, each again and again until it is over, once at least."""
    design = read(short_cabinet(folder)).design
    small = made(law='kind = "pid"', trial="span_s = 300")
    known = known_by(design)
    middle = present(design)
    assert middle is not None
    straight = judge(loop.run(design, design.trial[0]), design.limits)

    def simulated() -> None:
        assert judge(loop.run(design, design.trial[0]), design.limits).metrics == straight.metrics

    def stopped() -> None:
        control = loop.new_control()
        control[0] = 1
        with pytest.raises(loop.Stopped):
            loop.run(design, Trial(span_s=7200.0), control)

    def proved() -> None:
        progress = Progress(Plan(design))
        Work().run(progress, progress.plan.chosen(2, True, False))
        assert len(progress.outcomes) > 10

    def mapped() -> None:
        assert verdict_map(design, design.trial[0], known.process, middle) is not None

    def checked() -> None:
        assert agreement.check(small, ())["pass"]

    def pictured() -> None:
        for name in ("a.svg", "b.png"):
            write(loop.run(small, small.trial[0]), 0.5, folder / f"{threading.get_ident()}{name}")

    def again(act: Callable[[], Any]) -> Callable[[], Any]:
        def work() -> None:
            act()
            while not is_over():
                act()

        return work

    return [again(act) for act in (simulated, simulated, stopped, proved, mapped, checked, checked, pictured, pictured)]


def test_everything_at_once(impatient: None, tmp_path: Path) -> None:
    at_once(*everything(tmp_path, lambda: True))
    assert simulate.stop_every_run() == 0


@pytest.mark.long
def test_everything_at_once_for_a_minute(impatient: None, tmp_path: Path) -> None:
    end = time.monotonic() + 60.0
    at_once(*everything(tmp_path, lambda: time.monotonic() > end))
    assert simulate.stop_every_run() == 0


def test_draws_are_the_same_whoever_asks_meanwhile(impatient: None, tmp_path: Path) -> None:
    """Runs of one plan, opened by several threads at once, are those of their numbers."""
    design = read(short_cabinet(tmp_path)).design
    alone, shared = Plan(design), Plan(design)
    numbers = list(range(len(alone.fixed) + 1, len(alone.fixed) + 1200, 7))
    straight = {number: alone.case(number).values for number in numbers}
    seen: list[bool] = []

    def look(order: list[int]) -> None:
        seen.extend(shared.case(number).values == straight[number] for number in order)

    at_once(*[lambda step=step: look(numbers[::step]) for step in (1, -1, 3, -2)])
    assert len(seen) > len(numbers) and all(seen)


def test_a_mistake_is_said_without_an_exceptions_name() -> None:
    """Its details go to a file."""
    for error, says in (
        (CalorError("law.gain", "must be above 0", "-1"), "law.gain: must be above 0 (received -1)"),
        (MemoryError(), "not enough memory"), (FileNotFoundError(2, "No such file", "x.csv"), "x.csv: No such file"),
        (IndexError("pop index out of range"), f"details: {details_file()}"),
    ):  # fmt: skip
        try:
            raise error
        except Exception as caught:
            said = in_words(caught)
        assert says in said and "Error" not in said and "\n" not in said
    assert "pop index out of range" in details_file().read_text()
    sources = Path(loop.__file__).parent.parent
    named = [
        path.name
        for path in sources.rglob("*.py")
        if "type(error).__name__" in path.read_text(encoding="utf-8") and path.name != "__init__.py"
    ]
    assert named == []


def test_rooms_at_work_at_once(desk: Any, qtbot: Any, tmp_path: Path) -> None:
    """In one window: proof, map of gains, check of the C and the stand-in on the line, while a gain is changed."""
    window = desk(short_cabinet(tmp_path))
    rooms = {name: window.room(name) for name in ("tune", "proof", "code", "board")}
    window._choose_room("tune")
    tune, proof = rooms["tune"].work, rooms["proof"].work
    qtbot.waitUntil(lambda: not tune.is_busy, timeout=120_000)
    page = rooms["tune"].page
    page.pictures.buttons["map"].click()
    window._choose_room("board")
    rooms["board"].page.connection.stand_in.click()
    window._choose_room("code")
    panel = rooms["code"].page.panel
    panel.run_check.click()
    window._choose_room("proof")
    rooms["proof"].page.panel.button.click()
    assert all(room.at_work for room in rooms.values())
    qtbot.waitUntil(lambda: not any(rooms[name].at_work for name in ("tune", "proof", "code")), timeout=300_000)
    qtbot.waitUntil(lambda: rooms["board"].work.rows.count > 5, timeout=60_000)
    assert (tune.trouble, proof.trouble, panel.verdict.text()) == ("", "", "agrees")
    assert tune.map is not None and np.isfinite(rooms["board"].work.latest()["measured_celsius"])
    assert not details_file().exists()
