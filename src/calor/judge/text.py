"""Reports as text for a terminal."""

from __future__ import annotations

import contextlib
import sys
import threading
from collections.abc import Iterator
from typing import Any

import numpy as np
import numpy.typing as npt
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn
from rich.table import Table

from calor.judge.verdict import LIMIT_TITLES, figure_text
from calor.loop.simulate import new_control
from calor.units import format_duration

LONG_RUN_STEPS = 3_000_000


def simple_table(*headings: str) -> Table:
    """A table without lines, its figures to the right."""
    table = Table(box=None, pad_edge=False, header_style="dim")
    for number, heading in enumerate(headings):
        table.add_column(heading, justify="left" if number == 0 else "right")
    return table


def print_report(data: dict[str, Any]) -> None:
    """The verdict of a run."""
    console = Console(highlight=False, soft_wrap=True)
    own = "" if data.get("with", "python") == "python" else f", decided by {data['with']}"
    console.print(f"{data['design']}: {data['trial']}, {format_duration(data['span_s'])}, {data['steps']} steps{own}")
    table = simple_table("limit", "figure", "limit", "")
    for item in data["limits"]:
        name = item["name"]
        mark = "pass" if item["pass"] else "[bold]FAIL[/bold]"
        table.add_row(LIMIT_TITLES[name], figure_text(name, item["value"]), figure_text(name, item["limit"]), mark)
    if data["limits"]:
        console.print(table)
    metrics = simple_table("metric", "")
    for key, value in data["metrics"].items():
        shown = ", ".join("never" if v is None else f"{v:.6g}" for v in value) if isinstance(value, list) else value
        metrics.add_row(key, "–" if shown in (None, "") else shown if isinstance(shown, str) else f"{shown:.6g}")
    console.print(metrics)
    for event in data["events"]:
        console.print(f"{format_duration(event['at_s']):>8}  {event['text']}")
    console.print("verdict: pass" if data["pass"] else "verdict: FAIL")


def print_gains(gains: dict[str, dict[str, float] | None]) -> None:
    """Gains in each dialect."""
    table = simple_table("dialect", "", "")
    for dialect, numbers in gains.items():
        if numbers is None:
            table.add_row(dialect, "not possible", "integral time below 4 derivative times")
        for key, value in (numbers or {}).items():
            table.add_row(dialect, key, f"{value:.6g}")
    Console(highlight=False).print(table)


def print_replay(data: dict[str, Any]) -> None:
    """A replay beside its record."""
    console = Console(highlight=False, soft_wrap=True)
    console.print(f"{data['design']} on {data['log']}: {data['rows']} rows, {format_duration(data['span_s'])}")
    console.print(f"read as: {data['read_as']}", markup=False)
    for gap in data["gaps"]:
        console.print(f"{format_duration(gap['at_s']):>8}  no record for {format_duration(gap['for_s'])}")
    table = simple_table("", "on share", "switchings per hour")
    for name in ("recorded", "replayed"):
        figures = data[name]
        if figures is not None:
            share = "–" if figures["on_fraction"] is None else f"{figures['on_fraction'] * 100:.1f} %"
            table.add_row(name, share, f"{figures['switchings_per_hour']:.1f}")
    console.print(table)
    if data["agreement_fraction"] is not None:
        console.print(f"same output for {data['agreement_fraction'] * 100:.1f} % of the record")


@contextlib.contextmanager
def watched(steps: int) -> Iterator[npt.NDArray[np.int64]]:
    """A pair for loop.run; at a terminal a long run shows how far it is."""
    control = new_control()
    if steps < LONG_RUN_STEPS or not sys.stderr.isatty():
        yield control
        return
    ended = threading.Event()
    columns = (TextColumn("simulating"), BarColumn(), TimeRemainingColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as progress:
        task = progress.add_task("", total=steps)

        def watch() -> None:
            while not ended.wait(0.1):
                progress.update(task, completed=int(control[1]))

        watcher = threading.Thread(target=watch)
        watcher.start()
        try:
            yield control
        finally:
            ended.set()
            watcher.join()
