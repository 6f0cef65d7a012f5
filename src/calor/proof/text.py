"""A proof as text for a terminal."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from calor.proof.outcome import TITLES, shown
from calor.proof.plan import CORNER, DRAWN, FAULT
from calor.terminal import BOLD, PlainConsole, simple_table
from calor.units import format_duration

MOST_ROWS = 12
STRONGEST = "Strongest rank correlations (Spearman) of a tolerance with a limit's figure:"
PASSED = {True: "pass", False: "FAIL", None: "not judged"}
NOTHING_TOLD = "No tolerance stands out by its rank correlation: with more draws one may."


def print_proof(data: dict[str, Any], file: str) -> None:
    """The proof: what fails, the table of single faults, the share that passes, what matters, how to run one again."""
    console = PlainConsole()
    decided_by = "" if data["with"] == "python" else f", decided by {data['with']}"
    unjudged = data["runs"] - data["judged"]
    console.print(
        f"{data['design']}: {data['runs']} runs{decided_by}, {data['passed']} pass"
        + (f"; in {unjudged} nothing is judged, as no limit is set" if unjudged else "")
    )
    for one in data["not_used"]:
        console.print(f"  {one['text']}")
    _print_cells(console, data)
    if data["faults"]:
        _print_faults(console, data)
    for one in data["drawn"]:
        _print_drawn(console, one)
    failing = [row for row in data["matrix"] if row["pass"] is False]
    if failing:
        console.print(f"\nRun one again: calor run {file} --proof-run {failing[0]['number']}")
    if data["faults"]:
        console.print(f"\n{data['caution']}")
    console.print({True: "PASS", False: "FAIL", None: "nothing is judged: no limit is set"}[data["pass"]])


def print_proof_run(data: dict[str, Any]) -> None:
    """What a single run of a proof is, and the limits by which it passes or fails."""
    console, run = PlainConsole(), data["proof_run"]
    at = f", at {format_duration(run['at_s'])}" if run["at_s"] else ""
    console.print(f"proof run {run['number']}, seed {run['seed']}: {run['title']}{at}")
    table = simple_table("judged by", "figure", "limit", "margin", "")
    for one in run["limits"]:
        mark = "pass" if one["pass"] else Text("FAIL", style=BOLD)
        figures = (shown(one["name"], one["value"]), shown(one["name"], one["limit"]))
        table.add_row(TITLES[one["name"]], *figures, f"{one['margin'] * 100.0:+.0f} %", mark)
    console.print(table)


def _title(row: dict[str, Any]) -> str:
    at = f", at {format_duration(row['at_s'])}" if row["kind"] == FAULT and row["at_s"] else ""
    many = f", {row['passed']} of {row['runs']} pass" if row["kind"] in (CORNER, DRAWN) else ""
    return f"{row['title']}{at}{many}"


def _print_cells(console: PlainConsole, data: dict[str, Any]) -> None:
    """Every row of the matrix, with what it misses, or what is nearest to its limit."""
    trial = ""
    table = simple_table("row", "run", "nearest limit", "figure", "limit", "")
    for row in data["matrix"]:
        if row["trial"] != trial:
            trial = row["trial"]
            table.add_row(Text(trial, style=BOLD))
        own = [one for one in row["limits"] if row["kind"] != FAULT or one["name"].startswith("safe.")]
        mark = Text("FAIL", style=BOLD) if row["pass"] is False else PASSED[row["pass"]]
        if not own:
            table.add_row(f"  {_title(row)}", str(row["number"]), row.get("failed", "no limit"), "", "", mark)
            continue
        worst = min(own, key=lambda one: one["margin"])
        table.add_row(
            f"  {_title(row)}", str(worst["number"]), TITLES[worst["name"]], shown(worst["name"], worst["value"]),
            shown(worst["name"], worst["limit"]), mark,
        )  # fmt: skip
    console.print(table)


def _print_faults(console: PlainConsole, data: dict[str, Any]) -> None:
    console.print("\nSingle faults, each where it is worst")
    for row in data["faults"]:
        mark = PASSED[row["pass"]]
        at = f" at {format_duration(row['at_s'])}" if row["at_s"] else ""
        highest = "beyond all bounds"
        if row["highest_celsius"] == row["highest_celsius"]:
            highest = f"up to {shown('safe.highest_celsius', row['highest_celsius'])}"
        console.print(f"  {row['title']}{at}, {row['trial']}: {mark}, {highest}")
        console.print(f"    does: {row['does']}; {row['ended_text']}")
        if row["missing"]:
            console.print(f"    missing: {row['missing']}")
    for row in data["not_tried"]:
        console.print(f"  {row['title']}: not tried: {row['why']}")


def _print_drawn(console: PlainConsole, one: dict[str, Any]) -> None:
    if not one["runs"]:
        console.print(f"\n{one['trial']}, all tolerances drawn: nothing is judged, as no limit is set")
        return
    console.print(
        f"\n{one['trial']}, all tolerances drawn: {one['passed']} of {one['runs']} pass, {one['share'] * 100.0:.1f} %"
        f" (95 % interval {one['share_low_95'] * 100.0:.1f} to {one['share_high_95'] * 100.0:.1f} %)"
    )
    table = simple_table("limit", "worst", "limit", "margin", "run")
    for cell in one["worst"]:
        table.add_row(
            TITLES[cell["name"]], shown(cell["name"], cell["value"]), shown(cell["name"], cell["limit"]),
            f"{cell['margin'] * 100.0:+.0f} %", str(cell["number"]),
        )  # fmt: skip
    console.print(table)
    strongest = [row for row in one["matters"] if row["beyond_chance"]][:MOST_ROWS]
    console.print(
        "Strongest rank correlations (Spearman) of a tolerance with a limit's figure:" if strongest else NOTHING_TOLD
    )
    if strongest:
        table = simple_table("tolerance", "correlation", "with")
        for row in strongest:
            table.add_row(row["title"], f"{row['rank_correlation']:+.2f}", TITLES[row["limit"]])
        console.print(table)
