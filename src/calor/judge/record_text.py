"""The figures of a record as titles and values, in a unit."""

from __future__ import annotations

from calor.judge.record import Figures
from calor.log.cycles import Spread
from calor.units import (
    TemperatureUnit,
    difference_to,
    format_difference,
    format_duration,
    format_temperature,
)


def lines(figures: Figures, unit: TemperatureUnit = "°C") -> list[tuple[str, str]]:
    """(title, value) of each figure that the record has, in the order of the questions that are asked of a record."""
    return [*_whole(figures, unit), *_step(figures, unit), *_cycles(figures, unit), *_parts(figures, unit)]


def _whole(figures: Figures, unit: TemperatureUnit) -> list[tuple[str, str]]:
    metrics = figures.metrics
    found = [
        ("Stretch", f"{format_duration(figures.from_s)} to {format_duration(figures.to_s)}, {figures.rows} rows"),
        ("Mean", format_temperature(unit, figures.mean_celsius, 2)),
    ]
    if metrics.lowest_celsius is not None and metrics.peak_celsius is not None:
        found.append(("Lowest", format_temperature(unit, metrics.lowest_celsius, 2)))
        found.append(("Highest", format_temperature(unit, metrics.peak_celsius, 2)))
    if figures.mean_ambient_celsius is not None:
        found.append(("Ambient, mean", format_temperature(unit, figures.mean_ambient_celsius, 1)))
    for title, difference in (
        ("Overshoot", metrics.overshoot_celsius), ("Ripple, settled", metrics.settled_ripple_celsius),
        ("Mean error, settled", metrics.mean_error_celsius),
    ):  # fmt: skip
        if difference is not None:
            found.append((title, format_difference(unit, difference, 2)))
    for title, seconds in (("In band after", metrics.time_to_band_s), ("Rise 10 to 90 %", metrics.rise_time_s)):
        if seconds is not None:
            found.append((title, format_duration(seconds)))
    if metrics.in_band_fraction is not None:
        found.append(("In band, share", f"{100.0 * metrics.in_band_fraction:.1f} %"))
    if figures.drift_celsius_per_h is not None:
        found.append(("Drift, settled", f"{_plain(difference_to(unit, figures.drift_celsius_per_h))} {unit}/h"))
    if metrics.on_fraction is not None:
        found.append(("Output, mean", f"{100.0 * metrics.on_fraction:.1f} %"))
        found.append(("Switchings per hour", f"{metrics.switchings_per_hour:.3g}"))
    return found


def _plain(value: float) -> str:
    """A signed figure of two digits, without an exponent."""
    return f"{float(f'{value:.2g}'):+.6g}".replace("-", "−")


def _step(figures: Figures, unit: TemperatureUnit) -> list[tuple[str, str]]:
    step = figures.step
    if step is None:
        return []
    change = "" if step.output_change is None else f", output {100.0 * step.output_change:+.3g} %"
    found = [("Step", f"at {format_duration(step.at_s)}{change}")]
    if step.dead_time_s is not None:
        found.append(("Dead time", format_duration(step.dead_time_s)))
    slope = difference_to(unit, step.greatest_slope_celsius_per_s) * 60.0
    found.append(("Greatest slope", f"{slope:.3g} {unit}/min at {format_duration(step.greatest_slope_at_s)}"))
    if step.t28_s is not None and step.t63_s is not None:
        found.append(("28.3 and 63.2 %", f"{format_duration(step.t28_s)} and {format_duration(step.t63_s)}"))
    if step.time_constant_s is not None and step.model_dead_time_s is not None:
        rise = "" if step.rise_celsius is None else f"rise {format_difference(unit, step.rise_celsius, 1)}, "
        found.append(
            (
                "Two-point model",
                f"{rise}τ {format_duration(step.time_constant_s)}, dead time {format_duration(step.model_dead_time_s)}",
            )
        )
    elif step.to_celsius is None:
        found.append(("Two-point model", "ends before it has settled"))
    return found


def _cycles(figures: Figures, unit: TemperatureUnit) -> list[tuple[str, str]]:
    cycles = figures.cycles
    if cycles is None:
        return []

    def times(spread: Spread) -> str:
        return f"{format_duration(spread.mean)} ± {format_duration(spread.spread)}"

    swing = cycles.swing_celsius
    found = [
        ("Cycles", f"{cycles.period_s.cycles}"),
        ("Period", times(cycles.period_s)),
        ("Swing", f"{format_difference(unit, swing.mean, 2)} ± {format_difference(unit, swing.spread, 2)}"),
    ]
    for title, spread in (("On", cycles.on_s), ("Off", cycles.off_s)):
        if spread is not None:
            found.append((title, times(spread)))
    return found


def _parts(figures: Figures, unit: TemperatureUnit) -> list[tuple[str, str]]:
    found = []
    for title, part in (("Day 06–22", figures.day), ("Night 22–06", figures.night)):
        if part is not None:
            found.append((f"{title}, mean", format_temperature(unit, part.mean_celsius, 1)))
            found.append((f"{title}, highest", format_temperature(unit, part.highest_celsius, 1)))
            if part.on_fraction is not None:
                found.append((f"{title}, output", f"{100.0 * part.on_fraction:.0f} %"))
    return found
