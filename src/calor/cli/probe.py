"""`calor probe`: points, error budget, lookup table, fit of a thermistor, two probes compared, calibration, C."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from calor.cli.common import numbers, open_design, print_json
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.design.model import Design
    from calor.sense.table import Table

POINTS_WANTED = "a CSV of points with the columns temperature_celsius and resistance_ohm"


def at_points(design: Design, celsius: list[float], counts: list[float]) -> dict[str, Any]:
    """The probe at temperatures or counts, and its error budget at the first of them."""
    from calor.sense.points import at_celsius, at_counts, report

    points = [at_celsius(design.probe, value) for value in celsius]
    points += [at_counts(design.probe, int(value)) for value in counts]
    return report(design.probe, points)


def fitted(path: Path) -> dict[str, Any]:
    """Steinhart–Hart, beta and the three-parameter curve of a thermistor's points. Raises CalorError."""
    from calor.sense import steinhart_hart
    from calor.sense.point_file import number_in, read_rows

    rows = read_rows(path, ("temperature_celsius", "resistance_ohm"), POINTS_WANTED)
    celsius = np.array([number_in(path, row, "temperature_celsius") for row in rows])
    ohm = np.array([number_in(path, row, "resistance_ohm") for row in rows])
    try:
        found = steinhart_hart.fit(celsius, ohm)
    except ValueError as error:
        raise CalorError(f"{path}: {error}") from None
    three = found.three_parameters
    inverse_kelvin = np.array([_inverse_kelvin(found.coefficients, r) for r in found.ohm])
    residual_celsius = 1.0 / inverse_kelvin - steinhart_hart.KELVIN_AT_0_CELSIUS - found.celsius
    return {
        "A": found.coefficients.a,
        "B": found.coefficients.b,
        "C": found.coefficients.c,
        "beta_kelvin": found.beta_kelvin,
        "r25_ohm": found.r25_ohm,
        "worst_residual_fraction": float(np.abs(found.fitted_ohm / found.ohm - 1.0).max()),
        "residuals": [
            {
                "celsius": float(at),
                "ohm": float(given),
                "fitted_ohm": float(curve),
                "residual_ohm": float(curve - given),
                "residual_fraction": float(curve / given - 1.0),
                "residual_celsius": float(away),
            }
            for at, given, curve, away in zip(found.celsius, found.ohm, found.fitted_ohm, residual_celsius, strict=True)
        ],
        "three_parameter": None
        if three is None
        else {
            "b1_ohm": three[0],
            "b2_celsius": three[1],
            "b3_celsius": three[2],
            "residual_sum_of_squares_ohm2": found.three_parameters_rss,
        },
    }


def _inverse_kelvin(found: Any, ohm: float) -> float:
    log = math.log(ohm)
    return float(found.a + found.b * log + found.c * log**3)


def table_of(
    design: Design, within_celsius: float, low_celsius: float | None, high_celsius: float | None, number: str
) -> Table:
    """The smallest table within an error between two temperatures. Raises CalorError."""
    from calor.sense import table

    if number not in table.BYTES:
        raise CalorError(f"calor probe: --number: must be integer or float (received {number!r})")
    if low_celsius is None or high_celsius is None:
        raise CalorError("calor probe: --table: needs its range, for example --table 0.1 --from 20 --to 50")
    kind: table.Number = "integer" if number == "integer" else "float"
    return table.smallest(design.probe, within_celsius, low_celsius, high_celsius, kind)


def table_report(found: Table) -> dict[str, Any]:
    """A table as JSON has it."""
    whole = found.number == "integer"
    return {
        "entries": found.entries,
        "number": found.number,
        "flash_bytes": found.flash_bytes,
        "first_counts": found.first_counts,
        "last_counts": found.last_counts,
        "counts_per_entry": (found.last_counts - found.first_counts) / (found.entries - 1),
        "celsius_per_step": found.celsius_per_step,
        "worst_error_celsius": found.worst_celsius,
        "worst_at_celsius": found.worst_at_celsius,
        "values": [int(value) if whole else float(value) for value in found.stored],
    }


def compared(path: Path) -> dict[str, Any]:
    """Two probes of one thing in a log. Raises LogError."""
    from calor.log.two_probes import compare_log

    return compare_log(path)


def calibrated(path: Path, design_path: Path) -> str:
    """The design file's text with the calibration points of a CSV in place of its own. Raises CalorError."""
    from calor.design import file
    from calor.sense.point_file import calibration_points

    read = file.read(design_path)
    design = file.with_calibration(read.design, calibration_points(path))
    return file.write(design, read.text, design_path.parent)


def calibration_report(design: Design) -> dict[str, Any]:
    """The correction in use, and each point before and after it."""
    from calor.sense.calibration import kind_of
    from calor.sense.residuals import residuals_of

    probe = design.probe
    left = residuals_of(probe, np.array([design.setpoint.celsius]))[0]
    return {
        "calibration_points": len(probe.calibration),
        "correction": kind_of(probe.correction, len(probe.calibration)),
        "calibration_residuals": [row._asdict() for row in left],
    }


def print_text(data: dict[str, Any]) -> None:
    """Any of the reports as text."""
    from rich.console import Console

    from calor.judge.text import simple_table

    console = Console(highlight=False, soft_wrap=True)
    if "points" in data:
        _print_points(console, data)
    if "formula" in data:
        console.print("counts to °C in the firmware:")
        for line in data["formula"]:
            console.print(f"  {line}", markup=False)
    if "table" in data:
        found = data["table"]
        console.print(
            f"table: {found['entries']} entries ({found['number']}), {found['flash_bytes']} bytes, codes"
            f" {found['first_counts']} to {found['last_counts']}, within {found['worst_error_celsius']:.3g} °C of the"
            f" formula, worst at {found['worst_at_celsius']:.4g} °C"
        )
        console.print("  " + " ".join(f"{value:g}" for value in found["values"]))
    if "calibration_residuals" in data:
        table = simple_table("reading °C", "off by °C", f"left after {data['correction'].replace('_', ' and ')}")
        for row in data["calibration_residuals"]:
            table.add_row(*(f"{row[key]:.3f}" for key in ("reading_celsius", "before_celsius", "after_celsius")))
        console.print(table)
    if "residuals" in data:
        _print_fit(console, data)
    if "offset_celsius" in data:
        table = simple_table("two probes", "")
        for key, value in data.items():
            shown = "–" if value is None else value if isinstance(value, str | bool) else f"{value:.5g}"
            table.add_row(key, str(shown))
        console.print(table)


def _print_points(console: Any, data: dict[str, Any]) -> None:
    from calor.judge.text import simple_table

    units = {
        "celsius": ("°C", "{:.3f}"), "ohm": ("Ω", "{:.6g}"), "millivolt": ("mV", "{:.4f}"),
        "measured_millivolt": ("mV measured", "{:.4f}"), "microampere": ("µA", "{:.4f}"), "volt": ("V", "{:.5f}"),
        "counts": ("counts", "{:g}"), "celsius_back": ("°C back", "{:.3f}"),
        "celsius_per_count": ("°C per count", "{:.4f}"),
    }  # fmt: skip
    keys = [key for key in units if any(key in point for point in data["points"])]
    table = simple_table(*(units[key][0] for key in keys))
    for point in data["points"]:
        table.add_row(*("–" if point.get(key) is None else units[key][1].format(point[key]) for key in keys))
    console.print(table)
    if data["budget"]:
        budget = simple_table(f"how wrong at {data['budget_at_celsius']:g} °C", "°C")
        for part in data["budget"]:
            budget.add_row(part["cause"], f"{part['celsius']:.4f}")
        budget.add_row("worst case, all added", f"{data['worst_case_celsius']:.4f}")
        budget.add_row("root-sum-square", f"{data['rss_celsius']:.4f}")
        console.print(budget)
    if data["finer"]:
        finer = simple_table("what would change a count", "°C per count")
        for change in data["finer"]:
            finer.add_row(change["change"], f"{change['celsius_per_count']:.4g}")
        console.print(finer)


def _print_fit(console: Any, data: dict[str, Any]) -> None:
    from calor.judge.text import simple_table

    head = simple_table("Steinhart–Hart, R in Ω", "")
    for key in ("A", "B", "C"):
        head.add_row(key, f"{data[key]:.10g}")
    head.add_row("beta, K", f"{data['beta_kelvin']:.6g}")
    head.add_row("R at 25 °C, Ω", f"{data['r25_ohm']:.6g}")
    console.print(head)
    table = simple_table("°C", "Ω", "fitted Ω", "off by Ω", "off by %", "off by °C")
    for row in data["residuals"]:
        table.add_row(
            f"{row['celsius']:g}", f"{row['ohm']:g}", f"{row['fitted_ohm']:.6g}", f"{row['residual_ohm']:.3g}",
            f"{row['residual_fraction'] * 100.0:.4f}", f"{row['residual_celsius']:.4f}",
        )  # fmt: skip
    console.print(table)
    three = data["three_parameter"]
    if three:
        console.print(
            f"R = b1·exp(b2/(t + b3)): b1 {three['b1_ohm']:.10g} Ω, b2 {three['b2_celsius']:.10g} °C,"
            f" b3 {three['b3_celsius']:.10g} °C, residual sum of squares"
            f" {three['residual_sum_of_squares_ohm2']:.10g} Ω²"
        )


def command(
    file: Path | None,
    celsius: list[str],
    counts: list[str],
    table: float | None,
    low: float | None,
    high: float | None,
    number: str,
    fit: Path | None,
    compare: Path | None,
    calibrate: Path | None,
    formula: bool,
    out: Path | None,
    as_json: bool,
) -> int:
    """`calor probe`: one thing asked for at a time; a FILE goes with all but --fit and --compare."""
    asked = {
        "--celsius": bool(celsius), "--counts": bool(counts), "--table": table is not None, "--fit": fit is not None,
        "--compare": compare is not None, "--calibrate": calibrate is not None, "--formula": formula,
        "--out": out is not None and table is None,
    }  # fmt: skip
    wanted = [option for option, given in asked.items() if given]
    if len(wanted) != 1:
        raise CalorError(
            "calor probe: give either --celsius T… or --counts N…, or one of --table, --fit, --compare, --calibrate,"
            f" --formula, --out (received {' '.join(wanted) or 'none'}),"
            " for example calor probe FILE --celsius 0 37.5 100"
        )
    data: dict[str, Any] = {}
    if fit is not None:
        data = fitted(fit)
    elif compare is not None:
        data = compared(compare)
    elif file is None:
        raise CalorError(f"calor probe: {wanted[0]}: needs a design, for example calor probe FILE {wanted[0]} …")
    elif calibrate is not None:
        return _calibrate(calibrate, file, as_json)
    else:
        design = open_design(file)
        if celsius or counts:
            data = at_points(design, numbers("--celsius", celsius, False), numbers("--counts", counts, True))
        elif table is not None:
            found = table_of(design, table, low, high, number)
            data = {"table": table_report(found)}
            if out is not None:
                from calor.firmware.scaling import lookup

                data |= _written(lookup(design, found), out)
        elif formula:
            from calor.sense.describe import formula as lines_of

            data = {"formula": lines_of(design.probe)}
        elif out is not None:
            from calor.firmware.scaling import scaling

            data = _written(scaling(design), out)
    if as_json:
        print_json(data)
    else:
        print_text(data)
        for name in data.get("files", []):
            print(f"wrote {name}")
    return 0


def _written(sources: Any, folder: Path) -> dict[str, Any]:
    from calor.firmware.templating import write_files

    return {"files": [str(path) for path in write_files(sources, folder)]}


def _calibrate(points: Path, file: Path, as_json: bool) -> int:
    from calor.design.file import save_atomically

    text = calibrated(points, file)
    try:
        save_atomically(file, text)
    except OSError as error:
        raise CalorError(f"{file}: cannot be written ({error.strerror or error}); choose another place") from None
    data = {"file": str(file)} | calibration_report(open_design(file))
    if as_json:
        print_json(data)
    else:
        print(f"{file}: calibrated by {data['calibration_points']} points of {points}")
        print_text(data)
    return 0
