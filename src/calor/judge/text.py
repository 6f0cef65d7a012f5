"""Reports as text for a terminal."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from calor.judge.verdict import LIMIT_TITLES, figure_text
from calor.terminal import BOLD, PlainConsole, simple_table
from calor.units import format_duration


def print_report(data: dict[str, Any]) -> None:
    """The verdict of a run."""
    console = PlainConsole()
    decided_by = "" if data.get("with", "python") == "python" else f", decided by {data['with']}"
    console.print(
        f"{data['design']}: {data['trial']}, {format_duration(data['span_s'])}, {data['steps']} steps{decided_by}"
    )
    table = simple_table("limit", "figure", "limit", "")
    for item in data["limits"]:
        name = item["name"]
        mark = "pass" if item["pass"] else Text("FAIL", style=BOLD)
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
    console.print({
        True: "verdict: pass", False: "verdict: FAIL", None: "verdict: nothing is judged, as no limit is set",
    }[data["pass"]])  # fmt: skip


def print_replay(data: dict[str, Any]) -> None:
    """A replay beside its record."""
    console = PlainConsole()
    console.print(f"{data['design']} on {data['log']}: {data['rows']} rows, {format_duration(data['span_s'])}")
    console.print(f"read as: {data['read_as']}")
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
