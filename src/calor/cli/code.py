"""`calor code`: the C99 sources of a thermostat, and whether they agree on the host and on emulated chips."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from calor.errors import CalorError


def write(file: Path, out: Path, prefix: str, fixed: bool, table: bool) -> dict[str, Any]:
    """Write the sources of a design into a folder: what was written, and what is stated of it. Raises CalorError."""
    from calor.cli.common import open_design
    from calor.firmware import folder
    from calor.firmware.form import form_of

    design = open_design(file)
    form = form_of(design.probe, fixed, table)
    made = folder.made(design, prefix, form)
    return {"files": [str(path) for path in made.write(out)], **made.stated()}


def check(file: Path, target: str, clock_hz: float | None, fixed: bool, table: bool) -> dict[str, Any]:
    """Build, run and compare; of one target where one is named. Raises CalorError."""
    from calor.cli.common import open_design
    from calor.firmware import agreement, chip
    from calor.firmware.form import form_of

    if target and target not in ("host", *chip.found_targets()):
        names = ", ".join(("host", *chip.found_targets()))
        raise CalorError(f"calor code: --target: must be one of {names} (received {target!r})")
    if clock_hz is not None and not clock_hz > 0.0:
        raise CalorError(f"calor code: --clock-hz: must be above 0 (received {clock_hz:g})")
    chosen = None if not target else tuple(name for name in (target,) if name != "host")
    design = open_design(file)
    return agreement.check(design, chosen, clock_hz, form=form_of(design.probe, fixed, table))


EQUAL = {True: "equal", False: "[bold]differ[/bold]", None: "not run"}


def print_stated(data: dict[str, Any]) -> None:
    """What was written and what is stated of it, as text."""
    for path in data["files"]:
        print(f"wrote {path} ({Path(path).read_text().count(chr(10))} lines)")
    if "table" in data:
        table = data["table"]
        print(
            f"table: {table['entries']} entries, {table['flash_bytes']} bytes, within {table['worst_celsius']:.2g} °C"
            f" from {table['low_celsius']:.4g} to {table['high_celsius']:.4g} °C"
        )
    if "difference_from_float" in data:
        apart = data["difference_from_float"]
        print(
            f"from float with the formula: reading within {apart['reading_celsius']:.2g} °C, temperature of the loop"
            f" within {apart['temperature_celsius']:.2g} °C ({apart['temperature_rms_celsius']:.2g} rms), mean demand"
            f" within {apart['mean_demand'] * 100.0:.2g} %"
        )
    if "bounds" in data:
        worst = max(data["bounds"], key=lambda item: max(abs(item["low"]), abs(item["high"])))
        most = max(abs(worst["low"]), abs(worst["high"]))
        print(
            f"nothing overflows: of {len(data['bounds'])} quantities the largest, {worst['name']}, stays"
            f" below {most:.6g} of 32768"
        )


def print_text(data: dict[str, Any]) -> None:
    """The figures as text."""
    from rich.console import Console

    from calor.judge.text import simple_table

    console = Console(highlight=False, soft_wrap=True)
    console.print(f"{data['design']}: {', '.join(data['trials'])}")
    form = data["form"]
    if form["fixed"] or form["table"]:
        console.print(f"in {'fixed point' if form['fixed'] else 'float'}{', by a table' if form['table'] else ''}")
    table = simple_table("target", "bits", "steps", "flash", "RAM", "stack", "mean", "worst", "of a step")

    def shown(value: Any, unit: str = "") -> str:
        return "–" if value is None else f"{value:.0f}{unit}"

    for row in (*data["targets"], *data["built_only"]):
        share = row.get("period_share_estimate")
        table.add_row(
            row["target"], EQUAL[row["bit_equal"]], str(row["steps"]),
            shown(row["flash_bytes"], " B"), shown(row["ram_bytes"], " B"), shown(row["stack_bytes"], " B"),
            shown(row["instructions_mean"]), shown(row["instructions_worst"]),
            "" if share is None else f"{share * 100.0:.2g} %",
        )  # fmt: skip
    console.print(table)
    for row in data["targets"]:
        if row["first_difference"]:
            one = row["first_difference"]
            console.print(
                f"{one['between']}: they differ first at step {one['step']} of {one['trial']} ({one['time_s']:g} s,"
                f" reading {one['reading']:g}): {one['rows'][0]} and {one['rows'][1]}"
            )
    reference = data["reference"]
    if reference["bit_equal"]:
        console.print(f"reference in single precision: equal to the bit over {reference['steps']} steps")
    if form["fixed"] or form["table"]:
        console.print(
            f"against the simulation, in double precision and by the formula: reading within"
            f" {reference['measured_celsius']:.2g} °C; --out states what that does to the loop"
        )
        _print_notes(console, data)
        return
    console.print(
        f"against the simulation, in double precision: demand within {reference['demand']:.2g}, reading within"
        f" {reference['measured_celsius']:.2g} °C, {reference['other_decisions_fraction'] * 100.0:.2g} % others"
    )
    _print_notes(console, data)


def _print_notes(console: Any, data: dict[str, Any]) -> None:
    if any("period_share_estimate" in row for row in data["targets"]):
        console.print("“of a step” is an estimate: one instruction a clock, of the worst step; cycles are not modelled")
    if "skipped" in data:
        console.print(data["skipped"])
