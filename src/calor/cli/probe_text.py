"""What `calor probe` says, as text."""

from __future__ import annotations

from typing import Any


def print_text(data: dict[str, Any]) -> None:
    """Any of the reports as text."""

    from calor.terminal import PlainConsole, simple_table

    console = PlainConsole()
    if "points" in data:
        _print_points(console, data)
    if "formula" in data:
        console.print("counts to °C in the firmware:")
        for line in data["formula"]:
            console.print(f"  {line}")
    if "table" in data:
        lookup = data["table"]
        console.print(
            f"table: {lookup['entries']} entries ({lookup['number']}), {lookup['flash_bytes']} bytes, codes"
            f" {lookup['first_counts']} to {lookup['last_counts']}, within {lookup['worst_error_celsius']:.3g} °C of"
            f" the formula, worst at {lookup['worst_at_celsius']:.4g} °C"
        )
        console.print("  " + " ".join(f"{value:g}" for value in lookup["values"]))
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
    from calor.terminal import simple_table

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
        budget = simple_table(f"error budget at {data['budget_at_celsius']:g} °C", "°C")
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
    from calor.terminal import simple_table

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
