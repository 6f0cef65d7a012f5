"""`calor probe`: points, error budget, lookup table, fit of a thermistor, two probes compared, calibration, C."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from calor.cli.common import AS_JSON, numbers, open_design, print_json
from calor.cli.exit_codes import PASS
from calor.cli.outputs import FORCE
from calor.cli.probe_text import print_text
from calor.errors import CalorError, unwritable

if TYPE_CHECKING:
    from calor.design.model import Design
    from calor.sense.table import Table

POINTS_WANTED = "a CSV of points with the columns temperature_celsius and resistance_ohm"
HELP = "The probe: at temperatures or counts with its error budget; a table; a fit; two probes."
OPTIONS = {"table": "--table", "range": "--from and --to", "temperature": "--celsius", "counts": "--counts"}
"""What the core calls what is given, as options."""


def command(
    file: Path = typer.Argument(None, metavar="[FILE]", help="Design file (TOML)."),
    celsius: list[str] = typer.Option([], "--celsius", metavar="T…", help="Temperatures, °C."),
    counts: list[str] = typer.Option([], "--counts", metavar="N…", help="Codes of the converter."),
    table: float = typer.Option(None, "--table", metavar="°C", help="The smallest table within this error."),
    low: float = typer.Option(None, "--from", metavar="°C", help="Where the table begins."),
    high: float = typer.Option(None, "--to", metavar="°C", help="Where the table ends."),
    number: str = typer.Option("integer", "--number", metavar="KIND", help="Entries: integer or float."),
    fit: Path = typer.Option(None, "--fit", metavar="POINTS.csv", help="A thermistor's curve from points."),
    compare: Path = typer.Option(None, "--compare", metavar="LOG.csv", help="Two probes of one thing in a log."),
    calibrate: Path = typer.Option(None, "--calibrate", metavar="POINTS.csv", help="Take these points into FILE."),
    formula: bool = typer.Option(False, "--formula", help="The scaling as arithmetic."),
    out: Path = typer.Option(None, "--out", metavar="DIR", help="Write the scaling (or the table) as C99."),
    force: bool = FORCE,
    as_json: bool = AS_JSON,
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
            "calor probe",
            "give either --celsius T… or --counts N…, or one of --table, --fit, --compare, --calibrate, "
            "--formula, --out, for example calor probe FILE --celsius 0 37.5 100",
            " ".join(wanted) or "none",
        )
    data: dict[str, Any] = {}
    if fit is not None:
        data = fitted(fit)
    elif compare is not None:
        data = compared(compare)
    elif file is None:
        raise CalorError(f"calor probe: {wanted[0]}", f"needs a design, for example calor probe FILE {wanted[0]} …")
    elif calibrate is not None:
        return _calibrate(calibrate, file, as_json)
    else:
        design = open_design(file)
        if celsius or counts:
            data = at_points(design, numbers("--celsius", celsius, False), numbers("--counts", counts, True))
        elif table is not None:
            lookup_table = table_of(design, table, low, high, number)
            data = {"table": table_report(lookup_table)}
            if out is not None:
                from calor.firmware.sources.scaling import lookup

                data |= _written(lookup(design, lookup_table), out, force)
        elif formula:
            from calor.sense.describe import formula as lines_of

            data = {"formula": lines_of(design.probe)}
        elif out is not None:
            from calor.firmware.sources.scaling import scaling

            data = _written(scaling(design), out, force)
    if as_json:
        print_json(data)
    else:
        print_text(data)
        for name in data.get("files", []):
            print(f"wrote {name}")
    return PASS


def at_points(design: Design, celsius: list[float], counts: list[float]) -> dict[str, Any]:
    """The probe at temperatures or counts, and its error budget at the setpoint."""
    from calor.sense.points import at_celsius, at_counts, report

    points = [at_celsius(design.probe, value) for value in celsius]
    points += [at_counts(design.probe, int(value)) for value in counts]
    return report(design.probe, points, float(design.setpoint.celsius))


def fitted(path: Path) -> dict[str, Any]:
    """Steinhart–Hart, beta and the three-parameter curve of a thermistor's points. Raises CalorError."""
    import numpy as np

    from calor.sense import steinhart_hart
    from calor.sense.point_file import number_in, read_rows

    rows = read_rows(path, ("temperature_celsius", "resistance_ohm"), POINTS_WANTED)
    celsius = np.array([number_in(path, row, "temperature_celsius") for row in rows])
    ohm = np.array([number_in(path, row, "resistance_ohm") for row in rows])
    try:
        fit_result = steinhart_hart.fit(celsius, ohm)
    except ValueError as error:
        raise CalorError(path, error) from None
    three = fit_result.three_parameters
    inverse_kelvin = np.array([_inverse_kelvin(fit_result.coefficients, r) for r in fit_result.ohm])
    residual_celsius = 1.0 / inverse_kelvin - steinhart_hart.KELVIN_AT_0_CELSIUS - fit_result.celsius
    return {
        "A": fit_result.coefficients.a,
        "B": fit_result.coefficients.b,
        "C": fit_result.coefficients.c,
        "beta_kelvin": fit_result.beta_kelvin,
        "r25_ohm": fit_result.r25_ohm,
        "worst_residual_fraction": float(np.abs(fit_result.fitted_ohm / fit_result.ohm - 1.0).max()),
        "residuals": [
            {
                "celsius": float(at),
                "ohm": float(given),
                "fitted_ohm": float(curve),
                "residual_ohm": float(curve - given),
                "residual_fraction": float(curve / given - 1.0),
                "residual_celsius": float(away),
            }
            for at, given, curve, away in zip(
                fit_result.celsius, fit_result.ohm, fit_result.fitted_ohm, residual_celsius, strict=True
            )
        ],
        "three_parameter": None
        if three is None
        else {
            "b1_ohm": three[0],
            "b2_celsius": three[1],
            "b3_celsius": three[2],
            "residual_sum_of_squares_ohm2": fit_result.three_parameters_rss,
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
        raise CalorError("calor probe: --number", "must be integer or float", f"{number!r}")
    if low_celsius is None or high_celsius is None:
        raise CalorError("calor probe: --table", "needs its range, for example --table 0.1 --from 20 --to 50")
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
    from calor.design.writing import write
    from calor.sense.point_file import calibration_points

    read = file.read(design_path)
    design = file.with_calibration(read.design, calibration_points(path))
    return write(design, read.text, design_path.parent)


def calibration_report(design: Design) -> dict[str, Any]:
    """The correction in use, and each point before and after it."""
    import numpy as np

    from calor.sense.calibration import kind_of
    from calor.sense.residuals import residuals_of

    probe = design.probe
    left = residuals_of(probe, np.array([design.setpoint.celsius]))[0]
    return {
        "calibration_points": len(probe.calibration),
        "correction": kind_of(probe.correction, len(probe.calibration)),
        "calibration_residuals": [row._asdict() for row in left],
    }


def _written(sources: Any, folder: Path, force: bool) -> dict[str, Any]:
    from calor.firmware.sources.written import write_files

    return {"files": [str(path) for path in write_files(sources, folder, force)]}


def _calibrate(points: Path, file: Path, as_json: bool) -> int:
    from calor.files import save_atomically

    text = calibrated(points, file)
    try:
        save_atomically(file, text)
    except OSError as error:
        raise unwritable(CalorError, file, error) from None
    data = {"file": str(file)} | calibration_report(open_design(file))
    if as_json:
        print_json(data)
    else:
        print(f"{file}: calibrated by {data['calibration_points']} points of {points}")
        print_text(data)
    return PASS
