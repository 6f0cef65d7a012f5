"""`calor fit`: a load from recorded runs."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from calor.cli import recording as of
from calor.cli.common import AS_JSON, open_design, print_json
from calor.cli.exit_codes import FAIL, PASS
from calor.cli.outputs import FORCE, is_nothing_of_ours, is_run, may_write
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.identify.outcome import Fit

HELP = "A load from a recorded run: exit 0 fitted and told, 1 fitted but some number is not told, 2 bad input."
ORDERS = ("integrating", "1", "2", "auto")


def command(
    logs: list[Path] = typer.Argument(..., metavar="LOG.csv …", help="Recorded runs of one load, fitted together."),
    order: str = typer.Option("auto", "--order", metavar="|".join(ORDERS), help="Which model."),
    ambient: str = typer.Option("auto", "--ambient", metavar="T|fit|start", help="Ambient in °C, or where from."),
    probe_lag: float = typer.Option(None, "--probe-lag", metavar="S", help="Time constant of the probe, s."),
    leave_out: list[str] = typer.Option([], "--leave-out", metavar="FROM:TO", help="Stretches to leave out, s."),
    keep_back: float = typer.Option(0.25, "--keep-back", metavar="FRACTION", help="Last part that is to be predicted."),
    load: Path = typer.Option(None, "--load", metavar="DESIGN", help="Fit this design's own load."),
    free: list[str] = typer.Option([], "--free", metavar="KEY", help="Keys of its [load] that are free."),
    out: Path = typer.Option(None, "--out", metavar="DESIGN", help="Write a design: this load, the record as trial."),
    time: str = of.TIME, temperature: str = of.TEMPERATURE, output: str = of.OUTPUT, setpoint: str = of.SETPOINT,
    ambient_column: str = of.AMBIENT, time_unit: str = of.TIME_UNIT, output_scale: float = of.OUTPUT_SCALE,
    unit: str = of.UNIT, every: float = of.EVERY, join: list[Path] = of.JOIN, keep: list[str] = of.KEEP,
    forget: bool = of.FORGET, force: bool = FORCE, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    from calor.cli.progress import shown_share
    from calor.identify import report
    from calor.identify.fit import Asked, fit_order, fit_own_load
    from calor.identify.observed import observe
    from calor.identify.task import Probe

    if order not in ORDERS:
        raise CalorError("calor fit: --order", f"takes {', '.join(ORDERS)}", repr(order))
    if not 0.0 <= keep_back < 1.0:
        raise CalorError("calor fit: --keep-back", "takes a share from 0 to below 1", f"{keep_back:g}")
    if probe_lag is not None and not 0.0 <= probe_lag < 1e6:
        raise CalorError("calor fit: --probe-lag", "takes a time in s, 0 or more", f"{probe_lag:g}")
    if free and load is None:
        raise CalorError(
            "calor fit: --free", "names keys of a design's load", " ".join(free), "give it by --load DESIGN"
        )
    if out is not None and out.suffix.lower() != ".toml":
        raise CalorError("calor fit: --out", "writes a design, and takes the name of a .toml file", str(out))
    if out is not None:
        may_write("calor fit: --out", out, (*logs, *join, *(() if force else (load,))), force, is_nothing_of_ours)
        record_csv = report.record_csv(out)
        may_write(f"calor fit: --out writes {record_csv.name} too, and it", record_csv, (*logs, *join), force, is_run)
    around = _ambient(ambient)
    given = of.corrections(time, temperature, output, setpoint, ambient_column, time_unit, output_scale, unit, every)
    design = open_design(load) if load is not None else None
    left_out = tuple(_stretch(text) for text in leave_out)
    known = around if isinstance(around, float) else None
    observed = []
    for log in logs:
        record = of.open_record(log, given, join if log is logs[0] else [], keep, forget)
        column = record.ambient_celsius if around == "auto" else None
        observed.append(observe(record.trace, column, left_out, known))
    probe = report.probe_of(design) if design is not None else Probe()
    probe = probe if probe_lag is None else probe._replace(lag_s=probe_lag)
    watch: Callable[[float], None]
    with shown_share("fitting") as watch:
        asked = Asked(around, probe, keep_back, watch=watch)
        if design is None:
            fit = fit_order(tuple(observed), order, asked)
        else:
            from dataclasses import replace

            keys = tuple(free) or report.default_free(design.load)
            humidity = design.trial[0].humidity
            asked = replace(asked, weights=report.weights_of(design))
            fit = fit_own_load(tuple(observed), design.load, keys, asked, humidity)
    if out is not None:
        text = load.read_text(encoding="utf-8") if load is not None else ""
        report.write_design(fit, out, design, text, logs[0].name)
    of.keep_corrections(logs[0], given, forget)
    if as_json:
        print_json(report.data(fit))
    else:
        _print(fit)
    return PASS if fit.is_told else FAIL


def _ambient(text: str) -> str | float:
    if text in ("auto", "fit", "start"):
        return text
    with contextlib.suppress(ValueError):
        celsius = float(text)
        if -273.15 <= celsius <= 3000.0:
            return celsius
    raise CalorError("calor fit: --ambient", "takes a temperature in °C, fit, or start", repr(text))


def _stretch(text: str) -> tuple[float, float]:
    begin, _, end = text.partition(":")
    with contextlib.suppress(ValueError):
        stretch = (float(begin), float(end))
        if stretch[0] < stretch[1]:
            return stretch
    raise CalorError("calor fit: --leave-out", "takes begin and end in s, such as 4980:5400", repr(text))


def _print(fit: Fit) -> None:
    from calor.identify import told
    from calor.terminal import PlainConsole, simple_table

    table = simple_table("  parameter", "fitted", "95 % from", "to", "")
    kind: Any = fit.load.kind
    print(f"{str(kind).replace('_', ' ').capitalize()}{f' ({fit.why})' if fit.why else ''}")
    for number in fit.numbers:
        unit = told.unit_of(number.key)
        mark = "" if number.is_told else "not told"
        table.add_row(f"  {number.key}", told.in_words(number), f"{number.low:.5g}", f"{number.high:.5g} {unit}", mark)
    if all(number.key != "ambient_celsius" for number in fit.numbers) and fit.load.kind != "integrating":
        table.add_row("  ambient_celsius", f"{fit.load.ambient_celsius:.4g} °C", "", "", fit.ambient_words)
    PlainConsole().print(table)
    if fit.only:
        print(f"  told: {fit.only}")
    print(
        f"  residual {fit.residual_rms_celsius:.3g} °C rms, {told.correlation_in_words(fit.residual_autocorrelation)};"
        f" largest {fit.largest_celsius:+.3g} °C at {fit.largest_at_s:.0f} s"
    )
    if fit.kept_back_rms_celsius is not None:
        print(f"  the part kept back is predicted within {fit.kept_back_rms_celsius:.3g} °C rms")
    print(f"  {fit.rows} rows in {fit.stretches} stretch{'es' * (fit.stretches != 1)}")
    for warning in fit.warnings:
        print(f"  note: {warning}")
