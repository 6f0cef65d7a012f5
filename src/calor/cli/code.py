"""`calor code`: the C99 sources of a thermostat, and whether they agree on the host and on emulated chips."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from calor.errors import CalorError


def write(file: Path, out: Path, prefix: str) -> list[Path]:
    """Write the sources of a design into a folder. Raises CalorError."""
    from calor.cli.common import open_design
    from calor.firmware import folder

    return folder.write(open_design(file), out, prefix)


def check(file: Path, target: str, clock_hz: float | None) -> dict[str, Any]:
    """Build, run and compare; of one target where one is named. Raises CalorError."""
    from calor.cli.common import open_design
    from calor.firmware import agreement, chip

    if target and target not in ("host", *chip.TARGETS):
        names = ", ".join(("host", *chip.TARGETS))
        raise CalorError(f"calor code: --target: must be one of {names} (received {target!r})")
    if clock_hz is not None and not clock_hz > 0.0:
        raise CalorError(f"calor code: --clock-hz: must be above 0 (received {clock_hz:g})")
    chosen = None if not target else tuple(name for name in (target,) if name != "host")
    return agreement.check(open_design(file), chosen, clock_hz)


def print_text(data: dict[str, Any]) -> None:
    """The figures as text."""
    from rich.console import Console

    from calor.judge.text import simple_table

    console = Console(highlight=False, soft_wrap=True)
    console.print(f"{data['design']}: {', '.join(data['trials'])}")
    table = simple_table("target", "bits", "steps", "flash", "RAM", "stack", "mean", "worst", "of a step")

    def shown(value: Any, unit: str = "") -> str:
        return "–" if value is None else f"{value:.0f}{unit}"

    for row in data["targets"]:
        share = row.get("period_share_estimate")
        table.add_row(
            row["target"], "equal" if row["bit_equal"] else "[bold]differ[/bold]", str(row["steps"]),
            shown(row["flash_bytes"], " B"), shown(row["ram_bytes"], " B"), shown(row["stack_bytes"], " B"),
            shown(row["instructions_mean"]), shown(row["instructions_worst"]),
            "" if share is None else f"{share * 100.0:.2g} %",
        )  # fmt: skip
    console.print(table)
    for row in data["targets"]:
        if row["first_difference"]:
            one = row["first_difference"]
            console.print(
                f"{row['target']}: first at step {one['step']} of {one['trial']} ({one['time_s']:g} s, reading"
                f" {one['reading']:g}): {one['rows'][0]} against {one['rows'][1]}"
            )
    reference = data["reference"]
    console.print(
        f"against the simulation, in double precision: demand within {reference['demand']:.2g}, reading within"
        f" {reference['measured_celsius']:.2g} °C, {reference['other_decisions_fraction'] * 100.0:.2g} % others"
    )
    if any("period_share_estimate" in row for row in data["targets"]):
        console.print("“of a step” is an estimate: one instruction a clock, of the worst step; cycles are not modelled")
    if "skipped" in data:
        console.print(data["skipped"])
