"""One picture of a run: temperature with setpoint and band, output, and events, over one time axis; SVG or PNG."""

from __future__ import annotations

import io
import math
import threading
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from calor.errors import CalorError, unwritable
from calor.files import save_atomically
from calor.loop.envelope import envelope, output_on, share_on
from calor.loop.trace import Trace
from calor.units import TemperatureUnit, celsius_to, difference_to

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

PAPER, INK, GREY, RULE = "#FFFFFF", "#23262B", "#6B675C", "#D8D2C2"
MEASURED, SETPOINT, HEAT, COOL, BAND = "#3B3F8F", "#B8860B", "#C4512D", "#2E6F9E", "#7A8B99"
BARS = 200
"""The output is shown as its mean over so many parts of the span: fewer than windows, which would beat with them."""
PIXELS, WIDTH_INCH, HEIGHT_INCH, DOTS = 1400, 9.6, 4.3, 150
PLACES = {"left": 0.075, "right": 0.985, "bottom": 0.1, "top": 0.975, "hspace": 0.08}
KINDS = (".svg", ".png")
MOST_EVENTS = 12
_ONE_AT_A_TIME = threading.Lock()
"""What a picture is drawn with is one setting for all threads."""


class Cloud:
    """The band that many runs lie in, to be drawn behind one: times (s), lowest and highest reading (°C)."""

    def __init__(self, time_s: Any, low_celsius: Any, high_celsius: Any, words: str) -> None:
        self.time_s, self.low_celsius, self.high_celsius, self.words = time_s, low_celsius, high_celsius, words


def picture(trace: Trace, band_celsius: float, unit: TemperatureUnit = "°C", cloud: Cloud | None = None) -> Figure:
    """A run as a figure, temperatures in `unit`; `cloud` is the band of many runs behind it."""
    from matplotlib.figure import Figure as NewFigure

    # places of its own: a layout that measures every text takes as long as the drawing
    figure = NewFigure(figsize=(WIDTH_INCH, HEIGHT_INCH), facecolor=PAPER)
    lanes: Any = figure.subplots(2, 1, sharex=True, height_ratios=[3, 1], gridspec_kw=PLACES)
    scale, word = _time_scale(trace.span_s)
    _temperature(lanes[0], trace, band_celsius, unit, scale, cloud)
    _output(lanes[1], trace, scale)
    for lane in lanes:
        lane.set_xlim(0.0, trace.span_s / scale)
        lane.tick_params(colors=GREY, labelsize=8, length=3, color=RULE)
        lane.grid(visible=True, color=RULE, linewidth=0.5)
        for side in lane.spines.values():
            side.set_color(RULE)
    lanes[1].set_xlabel(f"time, {word}", color=GREY, fontsize=8)
    return figure


def _time_scale(span_s: float) -> tuple[float, str]:
    """Seconds in the unit of the time axis, and what it is called."""
    for seconds, word in ((86_400.0 * 3, "d"), (3600.0 * 3, "h"), (180.0, "min")):
        if span_s > seconds:
            return {"d": 86_400.0, "h": 3600.0, "min": 60.0}[word], word
    return 1.0, "s"


def _temperature(
    lane: Axes, trace: Trace, band_celsius: float, unit: TemperatureUnit, scale: float, cloud: Cloud | None
) -> None:
    if cloud is not None:
        known = np.isfinite(cloud.low_celsius) & np.isfinite(cloud.high_celsius)
        low, high = (celsius_to(unit, one[known]) for one in (cloud.low_celsius, cloud.high_celsius))
        lane.fill_between(cloud.time_s[known] / scale, low, high, color=BAND, alpha=0.3, linewidth=0, label=cloud.words)
    time_s, celsius = envelope(trace.time_s, trace.setpoint_celsius, 0.0, trace.span_s, PIXELS)
    if np.isfinite(celsius).any():
        aim = celsius_to(unit, celsius)
        width = difference_to(unit, band_celsius)
        lane.fill_between(time_s / scale, aim - width, aim + width, color=SETPOINT, alpha=0.16, linewidth=0)
        lane.plot(
            time_s / scale, aim, color=SETPOINT, linewidth=1.0, linestyle=(0, (5, 3)), label="setpoint, with its band"
        )
    time_s, celsius = envelope(*trace.line, 0.0, trace.span_s, PIXELS)
    lane.plot(time_s / scale, celsius_to(unit, celsius), color=MEASURED, linewidth=1.2, label="measured")
    shown = [event for event in trace.events if 0.0 <= event.at_s <= trace.span_s][:MOST_EVENTS]
    for number, event in enumerate(shown, 1):
        lane.axvline(event.at_s / scale, color=GREY, linewidth=0.6, linestyle=":")
        lane.annotate(
            str(number), (event.at_s / scale, 1.0), xycoords=("data", "axes fraction"), fontsize=7, color=GREY,
            xytext=(2, -9), textcoords="offset points",
        )  # fmt: skip
    lane.set_ylabel(unit, color=GREY, fontsize=8)
    lane.legend(loc="best", fontsize=7, frameon=False, labelcolor=INK)


def _output(lane: Axes, trace: Trace, scale: float) -> None:
    edges = np.linspace(0.0, trace.span_s, BARS + 1)
    if trace.outputs:
        for number, output in enumerate(trace.outputs):
            share = output_on(output, trace, 0.0, trace.span_s, BARS)
            color = (HEAT, COOL, SETPOINT, MEASURED)[number % 4]
            style = ("-", "--", ":", "-.")[number % 4]
            lane.stairs(100.0 * share, edges / scale, color=color, linewidth=0.8, linestyle=style, label=output.name)
    elif np.isfinite(trace.delivered).any():
        share = share_on(trace, 0.0, trace.span_s, BARS)
        color = COOL if trace.cools else HEAT
        lane.stairs(100.0 * share, edges / scale, color=color, fill=True, alpha=0.45, label="given, mean")
    demand_s, demand = envelope(trace.time_s, trace.demand, 0.0, trace.span_s, PIXELS)
    if np.isfinite(demand).any():
        lane.plot(demand_s / scale, 100.0 * demand, color=INK, linewidth=0.6, alpha=0.8, label="demand")
    lane.legend(loc="upper right", fontsize=7, frameon=False, labelcolor=INK, ncols=3)
    lane.set_ylabel("output, %", color=GREY, fontsize=8)
    high = 100.0 if not np.isfinite(trace.delivered).any() else max(100.0, 100.0 * float(np.nanmax(trace.delivered)))
    low = 0.0 if not np.isfinite(demand).any() else min(0.0, 100.0 * math.floor(float(np.nanmin(demand))))
    lane.set_ylim(low - 4.0, high * 1.35)


def event_lines(trace: Trace, unit: TemperatureUnit = "°C") -> list[tuple[int, float, str]]:
    """The events that are numbered in the picture: number, when (s), words."""
    shown = [event for event in trace.events if 0.0 <= event.at_s <= trace.span_s][:MOST_EVENTS]
    return [(number, event.at_s, event.text_in(unit)) for number, event in enumerate(shown, 1)]


def svg(figure: Figure) -> str:
    """A figure as SVG, the same for the same figure; texts are texts."""
    import matplotlib as mpl

    out = io.BytesIO()
    with _ONE_AT_A_TIME, mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": "calor", "font.family": "sans-serif"}):
        figure.savefig(out, format="svg", metadata={"Date": None, "Creator": "Calor"})
    text = out.getvalue().decode("utf-8")
    return text[text.index("<svg") :]


def not_a_picture(out: Path) -> CalorError:
    """The error for a name that does not end as a picture's."""
    return CalorError(out, "is the name of no picture that can be written", "", "let it end in .svg or .png")


def write(trace: Trace, band_celsius: float, out: Path, unit: TemperatureUnit = "°C") -> None:
    """Write the picture of a run, SVG or PNG as the name ends. Raises CalorError."""
    if out.suffix.lower() not in KINDS:
        raise not_a_picture(out)
    figure = picture(trace, band_celsius, unit)
    if out.suffix.lower() == ".svg":
        content: str | bytes = '<?xml version="1.0" encoding="UTF-8"?>\n' + svg(figure)
    else:
        stream = io.BytesIO()
        with _ONE_AT_A_TIME:
            figure.savefig(stream, format="png", dpi=DOTS, metadata={"Software": "Calor"})
        content = stream.getvalue()
    try:
        save_atomically(out, content)
    except OSError as error:
        raise unwritable(CalorError, out, error) from None
