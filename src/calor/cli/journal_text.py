"""Kept runs as text for a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from calor.journal.entry import Kept
    from calor.journal.find import Compared

NOTE_SIGNS = 40


def shown(entry: Kept, key: str) -> str:
    """A figure of a run, or what all runs have; empty where it has none."""
    from calor.journal.find import PLAIN_KEYS, figure

    if key in PLAIN_KEYS:
        return str(getattr(entry, key))
    value = figure(entry, key)
    return "" if value is None else f"{value:.6g}"


def print_list(entries: list[Kept], sort: str) -> None:
    """A line for each run, with the figure by which they are sorted; a star where it is pinned."""
    from calor.terminal import PlainConsole, simple_table

    table = simple_table("run", "kept (UTC)", "design", "trial", "verdict", "note", "tags", *([sort] if sort else []))
    for column in table.columns[1:]:
        column.justify = "left"
    for entry in entries:
        line = (entry.note.splitlines() or [""])[0]
        more = [shown(entry, sort)] if sort else []
        table.add_row(
            f"{entry.number}{'*' if entry.pinned else ''}", entry.made[:16].replace("T", " "), entry.design,
            entry.trial, entry.verdict, line[:NOTE_SIGNS], ", ".join(entry.tags), *more,
        )  # fmt: skip
    PlainConsole().print(table)


def print_run(entry: Kept, data: dict[str, Any], version: str) -> None:
    """A run: its limits, its figures, and what came of running it again."""
    from calor.judge.verdict import LIMIT_TITLES, figure_text
    from calor.terminal import PlainConsole, simple_table

    console = PlainConsole()
    console.print(f"Run {entry.number}: {entry.design}, {entry.trial}, {entry.verdict}")
    console.print(f"kept {entry.made} by {entry.version}")
    if entry.note:
        console.print(entry.note)
    if entry.tags:
        console.print("tags: " + ", ".join(entry.tags))
    table = simple_table("limit", "figure", "limit", "")
    for name, limit, value, keeps in entry.limits:
        if name in LIMIT_TITLES:
            mark = "pass" if keeps else "FAIL"
            table.add_row(LIMIT_TITLES[name], figure_text(name, value), figure_text(name, limit), mark)
    if entry.limits:
        console.print(table)
    table = simple_table("figure", "")
    for key in entry.metrics:
        table.add_row(key, shown(entry, key) or "none")
    console.print(table)
    if data["run_again"]:
        lines = data["differences"]
        console.print(f"Run again by {version}: " + ("as it was" if not lines else "it differs: " + "; ".join(lines)))


def print_compared(found: Compared, both_have_designs: bool) -> None:
    """Two runs side by side, and in what their designs differ."""
    from calor.terminal import PlainConsole, simple_table

    console = PlainConsole()
    for entry in (found.first, found.second):
        console.print(f"Run {entry.number}: {entry.design}, {entry.trial}, {entry.verdict}, kept {entry.made}")
    table = simple_table("figure", f"run {found.first.number}", f"run {found.second.number}", "difference")
    for name, before, after in found.figures:
        apart = "" if before is None or after is None else f"{after - before:+.4g}"
        table.add_row(name, *("never" if value is None else f"{value:.6g}" for value in (before, after)), apart)
    console.print(table)
    if not both_have_designs:
        console.print("One of them has no design to compare.")
        return
    console.print("The designs are alike." if not found.changes else "The designs differ:")
    for change in found.changes:
        console.print(f"  {change}")
