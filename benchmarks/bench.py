"""Speeds side by side, as ratios in one run: loop, window, start, command line. `make bench` runs it."""

from __future__ import annotations

import ctypes
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import peer_python
from board import board_table, live_table
from firmware_sizes import size_table
from proof_and_journal import journal_table, proof_table
from rich.console import Console
from rich.table import Table
from tuning import tuning_table

from calor import loop
from calor.demo import DEMOS
from calor.design.file import parse, read
from calor.design.model import Design
from calor.design.trial import Trial
from calor.firmware.run.host import compiler

HERE = Path(__file__).parent
CONSOLE = Console(highlight=False)


def best_s(work: Callable[[], object], times: int) -> float:
    """The shortest of some runs: what the machine can do when nothing else wants it."""
    taken = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        taken.append(time.perf_counter() - began)
    return min(taken)


def side_by_side(*works: tuple[Callable[[], object], int]) -> list[float]:
    """The shortest of some runs of each work, s, all of them taken in turns."""
    best = [float("inf")] * len(works)
    for turn in range(max(times for _, times in works)):
        for number, (work, times) in enumerate(works):
            if turn < times:
                best[number] = min(best[number], best_s(work, 1))
    return best


def c_loop(design: Design, trial: Trial, folder: Path) -> tuple[Callable[[], object], np.ndarray]:
    """The loop in C as something to call, and the column of measured temperatures it fills."""
    library = folder / "loop.so"
    subprocess.run(
        [*compiler(), "-O2", "-shared", "-fPIC", "-o", str(library), str(HERE / "loop.c"), "-lm"], check=True
    )
    run = ctypes.CDLL(str(library)).run
    steps = loop.steps_of(design, trial)

    def pointer(column: np.ndarray) -> object:
        return column.ctypes.data_as(ctypes.POINTER(ctypes.c_double))

    law, event = design.law, trial.events[0]
    gains = np.array([law.gain_per_celsius, law.integral_time_s, law.derivative_time_s])
    door = np.array([event.at_s, event.at_s + event.for_s])
    columns = [np.empty(steps) for _ in range(8)]
    edges = [np.empty(2 * steps) for _ in range(2)]
    # noise is drawn once for all runs of a trial, as the kernel's caller does
    noise = np.random.default_rng(trial.seed).standard_normal(steps) * design.probe.noise_celsius

    def call() -> None:
        fresh = [np.empty(steps) for _ in range(8)]
        run(steps, ctypes.c_double(law.period_s), *(pointer(c) for c in (noise, gains, door, *fresh, *edges)))
        columns[:] = fresh

    call()
    return call, columns[3]


def kernel_table() -> None:
    """Calor's kernel against simple-pid with plain Python, and against C at -O2."""
    design = read(DEMOS[0].design).design
    table = Table(
        "steps", "Calor ms", "C -O2 ms", "Calor / C", "simple-pid and Python ms", "Python / Calor", title="The loop"
    )
    with tempfile.TemporaryDirectory() as place:
        for steps, most, least in ((14_400, 1.6, 60), (72_000, 1.4, 90)):
            trial = design.trial[0].model_copy(update={"span_s": steps * design.law.period_s})
            trace = loop.run(design, trial)
            in_c, measured = c_loop(design, trial, Path(place))
            apart = float(np.abs(measured - trace.measured_celsius).max())
            if apart > 1e-6:
                raise SystemExit(f"the C loop is not the same loop: {apart:g} °C apart")
            noise = list(np.zeros(steps))
            event = trial.events[0]
            # one after the other, many times: the machine's own speed changes from second to second
            ours, theirs, python = side_by_side(
                (lambda trial=trial: loop.run(design, trial), 25),
                (in_c, 25),
                (
                    lambda steps=steps, noise=noise, event=event: peer_python.run(
                        design, steps, noise, (event.at_s, event.at_s + event.for_s)
                    ),
                    3,
                ),
            )
            table.add_row(
                f"{steps}", f"{ours * 1e3:.2f}", f"{theirs * 1e3:.2f}", f"{ours / theirs:.2f} (goal ≤ {most})",
                f"{python * 1e3:.0f}",
                f"{python / ours:.0f} (goal ≥ {least})",
            )  # fmt: skip
    CONSOLE.print(table)


def many_runs_table() -> None:
    """A thousand runs of the two-hour trial, each judged, by two threads: what a search or a proof asks for."""
    from calor.judge.verdict import judge

    design = read(DEMOS[0].design).design
    gains = iter(np.linspace(0.05, 0.4, 1000))
    lock = threading.Lock()

    def work() -> None:
        while True:
            with lock:
                gain = next(gains, None)
            if gain is None:
                return
            law = design.law.model_copy(update={"gain_per_celsius": float(gain)})
            own = design.model_copy(update={"law": law})
            judge(loop.run(own, own.trial[0]), own.limits)

    threads = [threading.Thread(target=work) for _ in range(2)]
    began = time.perf_counter()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    table = Table("what", "s", "goal", title="Many runs")
    table.add_row("1 000 runs of 2 h, judged, two threads", f"{time.perf_counter() - began:.1f}", "≤ 10")
    CONSOLE.print(table)


def command_table() -> None:
    """What the command line takes of the processor, warm."""
    import resource

    file = str(DEMOS[0].design)
    table = Table("command", "CPU s", "goal", title="The command line, least of 5")
    for words, goal in (
        (["check", file], 0.5), (["convert", "--gain", "0.2", "--ti", "100"], 0.5), (["run", file], 1.0),
    ):  # fmt: skip
        taken = []
        for _ in range(5):
            before = resource.getrusage(resource.RUSAGE_CHILDREN)
            command = [sys.executable, "-c", "from calor.cli import main; main()", *words]
            subprocess.run(command, capture_output=True, check=False)
            after = resource.getrusage(resource.RUSAGE_CHILDREN)
            taken.append(after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime)
        table.add_row(f"calor {words[0]}", f"{min(taken):.2f}", f"≤ {goal}")
    CONSOLE.print(table)


def fit_table() -> None:
    """A load from a record of 10 000 rows, warm; and a record of a million rows opened."""
    from calor.identify.fit import Asked, fit_order, fit_own_load
    from calor.identify.observed import observe
    from calor.identify.report import probe_of
    from calor.log.read import read_record
    from calor.loop.trace import Trace

    table = Table("what", "s", "goal", title="Records, 10 000 rows")

    def record_of(text: str, span_s: float, every: int) -> tuple[Design, Trace]:
        design = parse(text)
        run = loop.run(design, design.trial[0].model_copy(update={"span_s": span_s}))
        rows = slice(None, None, every)
        empty = np.full(len(run.time_s[rows]), np.nan)
        output = (run.delivered[rows] > 0.5).astype(float)
        return design, Trace(
            run.time_s[rows], empty, empty, empty, np.round(run.measured_celsius[rows], 2), empty, empty, output,
            0.0 * output, span_s=span_s, name="bench", recorded_output=output,
        )  # fmt: skip

    black = 'kind = "second_order"\ntime_constant_s = 600\nsecond_time_constant_s = 60\ndead_time_s = 10'
    _, swings = record_of(ON_OFF.format(load=black), 20_000.0, 2)
    chamber = 'kind = "chamber"'
    own, warm = record_of(ON_OFF.format(load=chamber), 50_000.0, 5)
    observed = observe(swings)
    for name, goal, work in (
        ("first order", 1.0, lambda: fit_order((observed,), "1", Asked())),
        ("second order", 4.0, lambda: fit_order((observed,), "2", Asked())),
        ("three keys of the own load", 3.0, lambda: fit_own_load(
            (observe(warm),), own.load.model_copy(update={"loss_w_per_k": 1.0, "contents_j_per_k": 2500.0}),  # type: ignore[attr-defined]
            ("loss_w_per_k", "contents_j_per_k", "air_j_per_k"), Asked(probe=probe_of(own)), 0.6)),
    ):  # fmt: skip
        work()
        table.add_row(name, f"{best_s(work, 2):.2f}", f"≤ {goal}")
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "long.csv"
        k = np.arange(1_000_000)
        celsius = 37.0 + np.sin(k / 500.0)
        rows = (f"{t:.1f},{c:.2f},{o}" for t, c, o in zip(k * 0.5, celsius, k % 2, strict=True))
        path.write_text("time_s,temp_c,heater\n" + "\n".join(rows), encoding="utf-8")
        table.add_row("1 000 000 rows opened, findings and all", f"{best_s(lambda: read_record(path), 2):.2f}", "")
    CONSOLE.print(table)


def blocked_table(app: object, window: object) -> None:
    """How long the window's thread does nothing else, at most, while it edits, saves and changes what it shows."""
    from PyQt6.QtCore import QCoreApplication, QEvent

    desk = window.desk  # type: ignore[attr-defined]
    table = Table("window's thread, longest at a stretch", "ms", "goal", title="Blocked")

    def longest_s(act: Callable[[], object], goes_on: Callable[[], bool]) -> float:
        began = time.perf_counter()
        act()
        longest = time.perf_counter() - began
        while goes_on():
            began = time.perf_counter()
            # as the application's own loop: what was taken out goes, then what waits is done
            QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
            app.processEvents()  # type: ignore[attr-defined]
            longest = max(longest, time.perf_counter() - began)
            time.sleep(0.001)
        return longest

    def for_s(seconds: float) -> Callable[[], bool]:
        end = time.perf_counter() + seconds
        return lambda: time.perf_counter() < end

    def entered(name: str) -> Callable[[], object]:
        return lambda: desk.view.choose_room(name)

    ahead = window.ahead  # type: ignore[attr-defined]
    took = longest_s(lambda: ahead.begin(lambda: True), lambda: not ahead.is_done)
    table.add_row("rooms got ready beside it", f"{took * 1e3:.0f}", "≤ 50")
    rooms = [room.name for room in window.rooms if room.name != "loop"]  # type: ignore[attr-defined]
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "bench.toml"
        deeds: list[tuple[str, Callable[[], object]]] = [
            ("an edit", lambda: desk.document.set_value("law", "gain_per_celsius", 0.31)),
            ("saving", lambda: desk.document.save(path)),
            ("another unit", lambda: desk.view.set_unit("°F")),
            ("another bench", lambda: desk.view.choose_bench("load")),
            ("another law", lambda: desk.document.set_kind("law", "on_off")),
        ]
        for name in rooms:
            deeds += [(f"the room {name}, first", entered(name)), ("", entered("loop"))]
        for name in rooms:
            deeds += [(f"{name} again", entered(name)), ("", entered("loop"))]
        deeds.append(("another theme, all rooms built", window.toggle_theme))  # type: ignore[attr-defined]
        for name, deed in deeds:
            took = longest_s(deed, for_s(1.0))
            table.add_row(name or "    and back", f"{took * 1e3:.0f}", "≤ 50")
    CONSOLE.print(table)


def firmware_table() -> None:
    """The generated C in the law's seat against the built-in law, and steps on an emulated chip."""
    from calor.firmware.check import agreement
    from calor.firmware.controller.seat import seated
    from calor.firmware.run import chip

    design = read(DEMOS[0].design).design
    trial = design.trial[0].model_copy(update={"span_s": 36_000.0})
    table = Table("what", "ms", "ratio", title="The firmware")
    with seated(design, "host") as seat:
        ours, on_host = side_by_side(
            (lambda: loop.run(design, trial), 20), (lambda: loop.run(design, trial, seat=seat), 20)
        )
    table.add_row("72 000 steps, built-in law", f"{ours * 1e3:.1f}", "1")
    table.add_row("the same, generated C on the host", f"{on_host * 1e3:.1f}", f"{on_host / ours:.2f} (goal ≤ 1.1)")
    if chip.available():
        record = agreement.recorded(design, design.trial[0].model_copy(update={"span_s": 10_000.0}))
        target = chip.TARGETS["cortex-m0plus"]
        chip.run(design, target, record.given[:10])  # the compiler's own runtime is built once
        spent = best_s(lambda: chip.run(design, target, record.given), 1)
        table.add_row(f"{len(record.given)} steps on {target.name}", f"{spent * 1e3:.0f}", "(goal ≤ 6000 ms)")
    CONSOLE.print(table)


def window_table() -> None:
    """From a changed gain to the repainted window, and how many runs a drag asks for and gets."""
    from PyQt6.QtCore import QEvent, QEventLoop, QObject

    from calor.desk.app import make_application
    from calor.desk.rooms import import_pages
    from calor.desk.state.desk import Desk
    from calor.desk.state.places import Remembered
    from calor.desk.state.simulator import Simulator
    from calor.desk.window.window import Window

    class Painted(QObject):
        """Notes when the first lane was painted."""

        at = 0.0

        def eventFilter(self, watched: QObject, event: QEvent) -> bool:
            if event.type() == QEvent.Type.Paint:
                self.at = time.perf_counter()
            return super().eventFilter(watched, event)

    app = make_application()
    window = Window(Desk(Simulator(), Remembered()))
    window.resize(1280, 800)
    window.show()
    window.files.open_demo(0)
    desk = window.desk
    desk.document.set_value("trial", "span_s", 36_000.0)
    done: list[float] = []
    desk.runs.changed.connect(lambda: done.append(time.perf_counter()))
    painted = Painted()
    window.room("loop").strip.demand.installEventFilter(painted)

    def settle(number: int, limit_s: float = 60.0) -> None:
        end = time.perf_counter() + limit_s
        while time.perf_counter() < end:
            # waits as the application does, and leaves the processor to the run
            app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
            result = desk.runs.current
            if result is not None and result.request.number >= number and painted.at > done[-1]:
                return
        raise SystemExit("the window did not answer")

    settle(desk.runs.requests)
    idle_end = time.perf_counter() + 2.0
    while time.perf_counter() < idle_end:
        app.processEvents()
    taken = []
    for k in range(60):
        began = time.perf_counter()
        desk.document.set_value("law", "gain_per_celsius", 0.15 + 0.002 * k)
        settle(desk.runs.requests)
        taken.append((painted.at - began) * 1e3)
    taken.sort()
    table = Table(
        "changed gain to repainted window", "ms", "goal", title=f"72 000 steps, {app.platformName()}, 1280×800"
    )
    table.add_row("median", f"{statistics.median(taken):.0f}", "≤ 33")
    table.add_row("95th percentile", f"{taken[int(0.95 * len(taken)) - 1]:.0f}", "≤ 60")
    done.clear()
    asked, began = 0, time.perf_counter()
    while time.perf_counter() - began < 2.0:
        desk.document.set_value("law", "gain_per_celsius", 0.15 + 0.0001 * asked)
        asked += 1
        # a hand moves the pointer about 100 times a second
        time.sleep(0.01)
        app.processEvents()
    last = time.perf_counter()
    settle(desk.runs.requests)
    table.add_row(
        f"dragged 2 s: {asked} changes, {len(done)} drawn; the last one after",
        f"{(painted.at - last) * 1e3:.0f}",
        "no queue",
    )
    CONSOLE.print(table)
    import_pages()  # as the application has done by then
    blocked_table(app, window)
    desk.document.undo_stack.setClean()
    window.close()


ON_OFF = """[setpoint]
celsius = 50
[law]
kind = "on_off"
hysteresis_celsius = 2
[drive]
kind = "relay"
[load]
{load}
[probe]
kind = "ideal"
time_constant_s = 10
"""
START = """
import sys, time
began = float(sys.argv[1])
import gc
gc.disable()
from calor.desk.app import make_application
app = make_application()
from calor.desk.state.desk import Desk
from calor.desk.state.places import Remembered
from calor.desk.state.simulator import Simulator
from calor.desk.window.window import Window
imported = time.time()
window = Window(Desk(Simulator(), Remembered()))
window.resize(1280, 800)
sys.setswitchinterval(0.0002)
window.show()
app.processEvents()
up = time.time()
window.open_first(None, True)
while window.desk.runs.current is None:
    app.processEvents()
    time.sleep(0.002)
app.processEvents()
print(imported - began, up - began, time.time() - began)
window.close()
"""


def start_table() -> None:
    """From the start of the process to the window and to the first painted run."""
    table = Table("start", "imports s", "window s", "first painted run s", "goal", title="Start to the first run")
    with tempfile.TemporaryDirectory() as place:
        own = {"XDG_CONFIG_HOME": place, "XDG_STATE_HOME": place}
        empty = {"XDG_CACHE_HOME": f"{place}/cache"}
        for name, cache, times in (("the loop built", {}, 5), ("the loop to build", empty, 1)):
            rows = []
            for _ in range(times):
                command = [sys.executable, "-c", START, repr(time.time())]
                result = subprocess.run(
                    command, capture_output=True, text=True, check=True, env={**os.environ, **own, **cache}
                )
                rows.append([float(word) for word in result.stdout.split()])
            best = min(rows, key=lambda row: row[2])
            goal = "≤ 1.4" if name == "the loop built" else "≤ 6"
            table.add_row(name, *(f"{value:.2f}" for value in best), goal)
    CONSOLE.print(table)


if __name__ == "__main__":
    # as the desk does at its start
    sys.setswitchinterval(0.0002)
    os.environ.setdefault("QT_QPA_PLATFORM", "xcb" if os.environ.get("DISPLAY") else "offscreen")
    kernel_table()
    many_runs_table()
    firmware_table()
    CONSOLE.print(size_table())
    CONSOLE.print(tuning_table())
    CONSOLE.print(proof_table())
    CONSOLE.print(journal_table())
    CONSOLE.print(board_table())
    CONSOLE.print(live_table())
    command_table()
    start_table()
    fit_table()
    with tempfile.TemporaryDirectory() as config:
        os.environ |= {"XDG_CONFIG_HOME": config, "XDG_STATE_HOME": config}
        window_table()
