"""`calor code`: the C99 sources of a thermostat, and whether they agree on the host and on emulated chips."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from calor.cli.common import AS_JSON, DESIGN_FILE, open_design, print_json
from calor.cli.exit_codes import FAIL, PASS
from calor.cli.outputs import FORCE
from calor.cli.progress import shown_parts
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.design.model import Design
    from calor.firmware.sources.form import Form
    from calor.firmware.sources.ports import Port

HELP = "Write the C99 sources of the thermostat, or check them on the host and on emulated chips."
OPTIONS = {"table": "--table", "fixed point": "--fixed", "prefix": "--prefix", "port": "--port"}
"""What the core calls what is given, as options."""


def command(
    file: Path = DESIGN_FILE,
    out: Path = typer.Option(None, "--out", metavar="DIR", help="Folder for the sources."),
    prefix: str = typer.Option("", "--prefix", metavar="NAME", help="What every name begins with."),
    fixed: bool = typer.Option(False, "--fixed", help="Q16.16 fixed point in place of float."),
    table: bool = typer.Option(False, "--table", help="Look the probe up in place of its formula."),
    constant: bool = typer.Option(False, "--constant", help="Compile the settings in; none is changed while it runs."),
    link: bool = typer.Option(False, "--link", help="Its serial line too: link.c, parameters, kept settings."),
    panel: bool = typer.Option(False, "--panel", help="Its front too: two lines of figures, three keys."),
    panel_width: int = typer.Option(16, "--panel-width", metavar="16|8", help="Letters in its lines."),
    port: str = typer.Option("", "--port", metavar="avr|m0plus", help="A whole program for a bare chip too."),
    with_sizes: bool = typer.Option(False, "--sizes", help="With --out: build for chips; sizes in the README."),
    check: bool = typer.Option(False, "--check", help="Build, run all trials' inputs, compare; exit 1 if not."),
    target: str = typer.Option("", "--target", metavar="NAME", help="With --check: only this chip, or host."),
    clock_hz: float = typer.Option(None, "--clock-hz", help="With --check: for the share of a control step."),
    force: bool = FORCE,
    as_json: bool = AS_JSON,
) -> int:
    if out is None and not check:
        raise CalorError("calor code", "give --out DIR for the sources, or --check to build and compare them")
    from calor.firmware import folder
    from calor.firmware.sources import ports
    from calor.firmware.sources.form import PANEL_WIDTHS, form_of

    if panel_width not in PANEL_WIDTHS:
        raise CalorError("calor code: --panel-width", "takes 16 or 8", f"{panel_width}")
    data: dict[str, Any] = {}
    own_port = ports.port_of(port)
    design = open_design(file)
    form = form_of(design.probe, fixed, table, constant, link, panel_width if panel else 0)
    if out is not None:
        with shown_parts("code") as goes_on:
            goes_on("generated; built for chips" if with_sizes or check else "generated")
            written = folder.made(design, prefix, form, with_sizes or check, own_port)
        data |= {"files": [str(path) for path in written.write(out, force)], **written.stated()}
    if check:
        data |= checked(design, target, clock_hz, form)
        if own_port is not None:
            data |= checked_port(design, prefix, form, own_port, data)
    if as_json:
        print_json(data)
    else:
        if out is not None:
            print_stated(data)
        if check:
            print_text(data, target)
    unrun = next((row for row in data.get("targets", ()) if row["target"] == target and row["bit_equal"] is None), None)
    if unrun is not None:
        raise CalorError("calor code: --target", f"{target} did not run: {unrun['note']}")
    return PASS if data.get("pass", True) else FAIL


def checked(design: Design, target: str, clock_hz: float | None, form: Form) -> dict[str, Any]:
    """Build, run and compare; of one target where one is named. Raises CalorError."""
    from calor.firmware.check import agreement

    if target and target not in agreement.target_names():
        raise CalorError("calor code: --target", f"must be one of {', '.join(agreement.target_names())}", f"{target!r}")
    if clock_hz is not None and not clock_hz > 0.0:
        raise CalorError("calor code: --clock-hz", "must be above 0", f"{clock_hz:g}")
    chosen = None if not target else tuple(name for name in (target,) if name != "host")
    with shown_parts("check") as goes_on:
        return agreement.check(design, chosen, clock_hz, goes_on, form=form)


def checked_port(design: Design, prefix: str, form: Form, port: Port, checked: dict[str, Any]) -> dict[str, Any]:
    """The program of a port, built and run beside the load, and what that adds to what was `checked`."""
    from calor.firmware import folder
    from calor.firmware.check import ported

    with shown_parts("check") as goes_on:
        goes_on(f"the program for {port.words} beside the load")
        data = ported.data(design, folder.made(design, prefix, form, port=port).sources, port)
    fails = [*checked["fails"], *(f"program for {port.name}: {one}" for one in data["problems"])]
    return {"port": data, "fails": fails, "pass": checked["pass"] and not data["problems"]}


EQUAL = {True: "equal", False: "differ", None: "not run"}


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


def print_text(data: dict[str, Any], target: str = "") -> None:
    """The figures as text, but for why the target that was named did not run."""

    from calor.terminal import PlainConsole, simple_table

    console = PlainConsole()
    console.print(f"{data['design']}: {', '.join(data['trials'])}")
    form = data["form"]
    if any(form.values()):
        console.print(
            f"in {'fixed point' if form['fixed'] else 'float'}{', by a table' if form['table'] else ''}"
            f"{', settings compiled in' if form['constant'] else ''}{', with its line' if form.get('link') else ''}"
            f"{', with its front' if form.get('panel') else ''}"
        )
    every = (*data["targets"], *data["built_only"])
    ticks = ["tick"] if any("cycles" in row for row in every) else []
    table = simple_table("target", "bits", "steps", "flash", "RAM", "stack", "mean", "worst", *ticks, "of a step")

    def shown(value: Any, unit: str = "") -> str:
        return "–" if value is None else f"{value:.0f}{unit}"

    for row in every:
        share, cycles = row.get("period_share_estimate"), row.get("cycles")
        table.add_row(
            row["target"], EQUAL[row["bit_equal"]], str(row["steps"] + row["branch_steps"]),
            shown(row["flash_bytes"], " B"), shown(row["ram_bytes"], " B"), shown(row["stack_bytes"], " B"),
            shown(cycles["step_mean"] if cycles else row["instructions_mean"]),
            shown(cycles["step_worst"] if cycles else row["instructions_worst"]),
            *(f"{cycles['tick_mean']}–{cycles['tick_worst']}" if cycles else "" for _ in ticks),
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
    for one in data["fails"]:
        console.print(f"fails: {one}")
    _print_reference(console, data)
    _print_notes(console, data, target)


def _print_reference(console: Any, data: dict[str, Any]) -> None:
    """What the C was compared with, and how far both are from what they stand for."""
    reference, form = data["reference"], data["form"]
    if reference["bit_equal"]:
        numbers = "Q16.16" if form["fixed"] else "single precision"
        console.print(
            f"reference in {numbers}: bit-identical over {reference['steps']} steps of the trials, and with its"
            f" pins over {reference['branch_steps']} made for every branch"
        )
    for one in data.get("conversations", ()):
        right = "all as it should be" if not one["problems"] else f"{len(one['problems'])} wrong"
        console.print(f"line and front on {one['target']}: {one['commands']} commands, keys and power cuts, {right}")
    if "port" in data:
        _print_port(console, data["port"])
    if "coverage" in data:
        _print_coverage(console, data["coverage"])
    if "difference_from_float" in data:
        apart, bound = data["difference_from_float"], data["bound"]
        shares = [
            f"{name} within {apart[key] * 100.0:.2g} % (bound {bound[key] * 100.0:g} %)"
            for name, key in (("mean demand", "mean_demand"), ("switchings", "switchings_fraction"))
        ]
        console.print(
            f"from float with the formula: reading within {apart['reading_celsius']:.2g} °C or"
            f" {apart['reading_counts']:.2g} counts (bound {bound['reading_celsius']:g} °C or"
            f" {bound['reading_counts']:g} count), {', '.join(shares)}"
        )
        return
    console.print(
        f"against the simulation, in double precision: demand within {reference['demand']:.2g}, reading within"
        f" {reference['measured_celsius']:.2g} °C, {reference['other_decisions_fraction'] * 100.0:.2g} % others"
    )
    if not reference["agrees"]:
        console.print("others: readings a rounding from a threshold fall on either side of it")


def _print_port(console: Any, port: dict[str, Any]) -> None:
    """What the program of a port takes, and what it did beside the load."""
    name = f"program for {port['name']}"
    if "flash_bytes" in port:
        console.print(
            f"{name} ({port['part']}): {port['flash_bytes']} of {port['flash_of_bytes']} bytes of flash,"
            f" {port['ram_bytes']} of {port['ram_of_bytes']} of RAM, the stack apart"
        )
    if port["run_s"]:
        simulated = port.get("simulated_end_celsius")
        console.print(
            f"{name}: {port['run_s']:g} s beside the load from {port['start_celsius']:.4g} to"
            f" {port['end_celsius']:.4g} °C" + ("" if simulated is None else f", in the simulation {simulated:.4g} °C")
        )
    for key in ("warning", "note"):
        if key in port:
            console.print(f"{name}: {port[key]}")


def _print_coverage(console: Any, coverage: dict[str, Any]) -> None:
    """How many branches of the C were taken, and the lines of those that never were."""
    never = coverage["never"]
    console.print(
        f"branches of the C taken: {coverage['taken']} of {coverage['branches']}"
        + ("; never reached:" if never else ", all of them"),
    )
    for one in never:
        console.print(f"  {one['file']}:{one['line']}: {one['text']}")


def _print_notes(console: Any, data: dict[str, Any], target: str) -> None:
    if any("cycles" in row for row in data["targets"]):
        console.print(
            "mean, worst: instructions of a control step; of an AVR clock cycles, and of a tick of its switch"
        )
    if any("period_share_estimate" in row for row in data["targets"]):
        console.print("“of a step” is an estimate: one instruction a clock, of the worst step; cycles are not modelled")
    for row in (*data["targets"], *data["built_only"]):
        if "note" in row and row["target"] != target:
            console.print(f"{row['target']}: {row['note']}")
    if "skipped" in data and not any(row.get("note") == data["skipped"] for row in data["targets"]):
        console.print(data["skipped"])
