"""The chosen row: its verdict, how far it is from trouble, Try and Keep; and the search."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QProgressBar, QPushButton, QVBoxLayout, QWidget

from calor.compiled import Column
from calor.desk.state.desk import Desk
from calor.desk.tune.work import TuneWork
from calor.desk.widgets import theme as look
from calor.desk.widgets.chart import Chart
from calor.desk.widgets.fields import Segments, emptied, label, set_role
from calor.judge.verdict import LIMIT_TITLES, figure_text
from calor.tune.margins import loop_response
from calor.tune.process import Complex
from calor.tune.spread import line_of
from calor.tune.table import PRESENT, Candidate
from calor.units import TemperatureUnit, format_difference, format_gain

WIDTH_PX = 256
REACH = 2.0
"""How far Nyquist's picture goes from the origin."""
MOST_POINTS, SQUARE_PX = 400, 250
LARGEST_SHOWN, LOWEST_PHASE_DEG = 100.0, -400.0
"""How far from 1 the size, and how far down the phase is shown in Bode's picture."""


class SidePanel(QWidget):
    """What the chosen row does, and what can be done with it."""

    try_asked, keep_asked, sheet_asked = pyqtSignal(object), pyqtSignal(object), pyqtSignal(object)

    def __init__(self, desk: Desk, work: TuneWork) -> None:
        super().__init__()
        self._desk, self._work = desk, work
        self._theme = look.LIGHT
        self.row: Candidate | None = None
        self.setFixedWidth(WIDTH_PX)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.title, self.source = label("", "heading"), label("", "quiet")
        self.source.setWordWrap(True)
        column.addWidget(self.title)
        column.addWidget(self.source)
        self.gains = label("")
        self.gains.setWordWrap(True)
        column.addWidget(self.gains)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(2)
        self._grid.setColumnStretch(0, 1)
        column.addLayout(self._grid)
        act = QHBoxLayout()
        self.try_button, self.keep_button, self.sheet = (QPushButton(text) for text in ("Try", "Keep", "Sheet…"))
        self.sheet.setToolTip("Writes the design with these gains as a panel controller's settings, a page to print.")
        self.sheet.clicked.connect(lambda: self.sheet_asked.emit(self.row))
        self.try_button.setToolTip("Shows these gains as a ghost in the Loop room; nothing is changed yet.")
        self.keep_button.setToolTip("Puts these gains into the design; Ctrl+Z takes them back.")
        self.keep_button.setProperty("role", "main")
        self.try_button.clicked.connect(lambda: self.try_asked.emit(self.row))
        self.keep_button.clicked.connect(lambda: self.keep_asked.emit(self.row))
        for button in (self.try_button, self.keep_button, self.sheet):
            act.addWidget(button)
        column.addLayout(act)
        self.margins = label("", "quiet")
        self.margins.setWordWrap(True)
        column.addWidget(self.margins)
        self.spread = label("", "quiet")
        self.spread.setWordWrap(True)
        column.addWidget(self.spread)
        self.nyquist = Chart("Open loop, imaginary over real", most_ticks=(5, 5))
        self.nyquist.setFixedHeight(SQUARE_PX)
        self.responses, self.response = (
            Segments({"nyquist": "Nyquist", "bode": "Bode"}, "Picture of the loop"),
            "nyquist",
        )
        self.responses.chosen.connect(self._choose_response)
        self.bode_size = Chart("Size of the open loop over rad/s", logarithmic=True)
        self.bode_phase = Chart("Phase in ° over rad/s", logarithmic=(True, False), most_ticks=(5, 4))
        for chart in (self.bode_size, self.bode_phase):
            chart.setFixedHeight(SQUARE_PX // 2)
            chart.plot.doubles = False
        column.addWidget(self.responses)
        for chart in (self.nyquist, self.bode_size, self.bode_phase):
            column.addWidget(chart)
        column.addWidget(label("Search", "heading"))
        self.explain = label("", "quiet")
        self.explain.setWordWrap(True)
        column.addWidget(self.explain)
        line = QHBoxLayout()
        self.bound, self.search = QLineEdit(f"{work.ms_bound:g}"), QPushButton("Search")
        self.bound.setFixedWidth(52)
        self.bound.setAccessibleName("Greatest Ms")
        line.addWidget(label("Ms at most", "quiet"))
        line.addWidget(self.bound)
        line.addStretch(1)
        line.addWidget(self.search)
        column.addLayout(line)
        self.bar = QProgressBar()
        self.bar.setRange(0, 100)
        self.bar.setTextVisible(False)
        column.addWidget(self.bar)
        column.addStretch(1)
        self.bound.editingFinished.connect(self._bound_typed)
        self.search.clicked.connect(self._search_or_stop)
        work.changed.connect(self.show_work)
        desk.view.unit_changed.connect(lambda: self.show_row(self.row))
        self.show_work()
        self.show_row(None)

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        for chart in (self.nyquist, self.bode_size, self.bode_phase):
            chart.set_theme(theme)
        self.show_row(self.row)

    def _bound_typed(self) -> None:
        try:
            value = float(self.bound.text().replace(",", "."))
        except ValueError:
            value = math.nan
        if 1.1 <= value <= 10.0:
            self._work.ms_bound = value
        else:
            self._desk.say("error", f"Greatest Ms: takes a number from 1.1 to 10 (typed {self.bound.text()!r}).")
        self.bound.setText(f"{self._work.ms_bound:g}")

    def _search_or_stop(self) -> None:
        if self._work.doing == "searching":
            self._work.stop()
        else:
            self._work.search()

    def show_work(self) -> None:
        """Show how far a search is, and what it found so far."""
        work, searching = self._work, self._work.doing == "searching"
        self.search.setText("Stop" if searching else "Search")
        self.search.setEnabled(searching or (work.may_search and not work.is_busy))
        self.bound.setEnabled(not searching)
        self.bar.setVisible(searching)
        self.bar.setValue(round(100.0 * work.share))
        many = len(self._desk.document.design.trial)
        text = (
            f"Least error on all {many} trials, inside their limits." if many > 1 else "Least error, inside the limits."
        )
        if searching and work.best is not None:
            gains = work.best.gains
            text = (
                f"Best so far: gain {100.0 * gains.gain_per_celsius:.3g} %/°C, integral {gains.integral_time_s:.3g} s,"
                f" derivative {gains.derivative_time_s:.3g} s."
            )
        elif work.search_found is not None:
            found = work.search_found
            text = f"{found.evaluations} settings run on {len(found.row.trials)} trials; the row is in the table."
        self.explain.setText(text)

    def show_row(self, row: Candidate | None) -> None:
        """Show one row of the table; None: there is none."""
        self.row, unit = row, self._desk.view.unit
        emptied(self._grid)
        for widget in (self.try_button, self.keep_button):
            widget.setEnabled(row is not None and row.name != PRESENT)
        self.sheet.setEnabled(row is not None)
        self._show_charts()
        if row is None:
            self.title.setText("No gains yet")
            self.source.setText("A row of the table is explained here.")
            self.gains.setText("")
            self.margins.setText("")
            self.spread.setText("")
            return
        self.title.setText(row.title)
        self.source.setText("; ".join(part for part in (row.source, row.note) if part))
        self.gains.setText(_gains_text(row, unit))
        at = 0
        for name, verdict in zip(row.trials, row.verdicts, strict=True):
            if len(row.trials) > 1:
                self._grid.addWidget(label(name, "quiet"), at, 0, 1, 3)
                at += 1
            for item in verdict.limits:
                mark = label("✓" if item.passes else "✕")
                set_role(mark, "role", "passed" if item.passes else "failed")
                if len(row.trials) > 1 and item.passes:
                    continue
                self._grid.addWidget(label(LIMIT_TITLES[item.name]), at, 0)
                self._grid.addWidget(label(figure_text(item.name, item.value, unit)), at, 1)
                self._grid.addWidget(mark, at, 2)
                at += 1
            if len(row.trials) > 1 and verdict.passes:
                self._grid.addWidget(label("passes", "passed"), at, 0, 1, 3)
                at += 1
        others = self._work.found.spreads.get(row.name, []) if self._work.found is not None else []
        self.spread.setText(line_of(others))
        self.spread.setVisible(bool(others))
        self._show_margins(row)

    def _choose_response(self, name: str) -> None:
        self.response = name
        self._show_charts()

    def _show_charts(self) -> None:
        there = self.row is not None and self.row.margins is not None
        self.responses.setVisible(there)
        self.responses.show_choice(self.response)
        self.nyquist.setVisible(there and self.response == "nyquist")
        for chart in (self.bode_size, self.bode_phase):
            chart.setVisible(there and self.response == "bode")

    def _show_margins(self, row: Candidate) -> None:
        margins, found = row.margins, self._work.found
        if margins is None or found is None:
            self.margins.setText("")
            return
        if not margins.is_stable:
            self.margins.setText("Around the working point this loop is not stable: it swings ever further.")
        else:
            gain = "any" if math.isinf(margins.gain_margin) else f"{margins.gain_margin:.2g} times"
            phase = "" if math.isinf(margins.phase_margin_deg) else f" Phase margin {margins.phase_margin_deg:.0f}°."
            delay = "" if math.isinf(margins.delay_margin_s) else f" {margins.delay_margin_s:.3g} s more delay."
            self.margins.setText(
                f"It stands {gain} the gain,{delay.lower() or ' any delay'}{phase} Ms {margins.ms:.2f}.".replace(
                    "..", "."
                )
            )
        omega, loop = loop_response(found.known.process, row.setting.law or row.setting.gains)
        turn = np.linspace(0.0, 2.0 * math.pi, 181)
        t = self._theme
        near = np.flatnonzero(np.abs(loop) < 20.0)
        near = near[:: max(1, len(near) // MOST_POINTS)]
        self.nyquist.draw("loop", np.real(loop[near]), np.imag(loop[near]), t.measured, 1.8)
        radius = 1.0 / self._work.ms_bound
        self.nyquist.draw("bound", -1.0 + radius * np.cos(turn), radius * np.sin(turn), t.setpoint, 1.0)
        self.nyquist.mark_points("critical", [-1.0], [0.0], t.failed)
        self.nyquist.show_range((-REACH, 0.5 * REACH), (-REACH, 0.5 * REACH))
        self._draw_bode(omega, loop)
        self.nyquist.set_title(f"Open loop, imaginary over real; circle: Ms {self._work.ms_bound:g}")

    def _draw_bode(self, omega: Column, loop: Complex) -> None:
        """Size and phase about where the size is 1 and the phase −180°."""
        t, size = self._theme, np.abs(loop)
        phase = np.degrees(np.unwrap(np.angle(loop)))
        phase -= 360.0 * round((phase[0] + 90.0) / 360.0)
        shown = (size < LARGEST_SHOWN) & (size > 1.0 / LARGEST_SHOWN) & (phase > LOWEST_PHASE_DEG)
        if shown.sum() < 2:
            shown = np.ones(len(size), np.bool_)
        kept = np.flatnonzero(shown)[:: max(1, int(shown.sum()) // MOST_POINTS)]
        span = (float(omega[kept[0]]), float(omega[kept[-1]]))
        self.bode_size.draw("loop", omega[kept], size[kept], t.measured, 1.8)
        self.bode_size.show_range(span, (float(size[kept].min()), float(size[kept].max())))
        self.bode_size.mark(None, 1.0)
        self.bode_phase.draw("loop", omega[kept], phase[kept], t.measured, 1.8)
        self.bode_phase.show_range(span, (min(float(phase[kept].min()), -190.0), max(float(phase[kept].max()), -60.0)))
        crossings = np.flatnonzero((size[:-1] >= 1.0) & (size[1:] < 1.0))
        self.bode_phase.mark(float(omega[crossings[-1]]) if len(crossings) else None, -180.0)


def _gains_text(row: Candidate, unit: TemperatureUnit) -> str:
    """The gains of a row, or what its law follows, in a line."""
    law, gains = row.setting.law, row.setting.gains
    if law is not None:
        return (
            f"Rise {format_difference(unit, law.rise_celsius)}, time constant {law.time_constant_s:g} s, dead time"
            f" {law.dead_time_s:g} s, closed loop {law.closed_loop_s:g} s"
        )
    integral = f"Ti {gains.integral_time_s:.4g} s" if gains.integral_time_s else "no integral"
    derivative = f" · Td {gains.derivative_time_s:.3g} s" if gains.derivative_time_s else ""
    return f"{format_gain(gains.gain_per_celsius, unit)} · {integral}{derivative}"
