"""The Tune room's page: what is tuned on the left, the rules in the middle over what they do, the chosen row right."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QProgressBar, QPushButton, QVBoxLayout, QWidget

from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.tune.map_view import MapView
from calor.desk.tune.rules_table import RulesTable
from calor.desk.tune.side import SidePanel
from calor.desk.tune.work import BY_HAND, TuneWork
from calor.desk.widgets import theme as look
from calor.desk.widgets.chart import Chart, padded
from calor.desk.widgets.fields import Segments, label
from calor.desk.widgets.painting import Curve
from calor.tune.table import PRESENT, Candidate
from calor.units import celsius_to, difference_to, format_difference, format_duration, format_temperature

PICTURES = {"curve": "On the trial", "map": "Map"}
METHODS = {"model": "Model", "step": "Step", "relay": "Relay"}
ABOUT = {
    "model": "The load linear around its working point, as the simulation knows it. No test is made.",
    "step": "From rest the output is put to another and left. A model is fitted to the reading.",
    "relay": "The output is switched about what holds the setpoint. Swing and period tell how much gain it stands.",
}
LEFT_PX, PICTURES_PX = 250, 216
MOST_POINTS = 1500


class TunePage(Page):
    """Asks for a look, a test or a search, and shows what came of it."""

    def __init__(self, desk: Desk, work: TuneWork) -> None:
        super().__init__()
        self.setObjectName("centre")
        self._desk, self._work, self._theme = desk, work, look.LIGHT
        self._row: Candidate | None = None
        self.methods = Segments(METHODS, "Method")
        self.limit, self.find_button = QLineEdit(), QPushButton()
        self.table, self.side = RulesTable(), SidePanel(desk, work)
        self.test_chart = Chart("", most_ticks=(4, 4))
        self.curve = Chart("", most_ticks=(8, 5))
        self.pictures, self.picture = Segments(PICTURES, "Picture"), "curve"
        self.pictures.setFixedWidth(PICTURES_PX)
        self.draw_map, self.map, self.map_bar = QPushButton("Draw the map"), MapView(), QProgressBar()
        self.map_bar.setRange(0, 100)
        self.map_bar.setTextVisible(False)
        self._lay_out()
        self.methods.chosen.connect(lambda method: work.want(method, work.limit_celsius))
        self.limit.editingFinished.connect(self._limit_typed)
        self.find_button.clicked.connect(self._find_or_stop)
        self.table.chosen.connect(self._chosen)
        self.pictures.chosen.connect(self._choose_picture)
        self.draw_map.clicked.connect(self._map_or_stop)
        self.map.picked.connect(self._picked)
        self.side.try_asked.connect(work.try_out)
        self.side.keep_asked.connect(work.keep)
        self.side.sheet_asked.connect(self._ask_sheet)
        work.changed.connect(self.show_work)
        desk.view.unit_changed.connect(self.show_work)
        self._shown: Any = None
        self.show_work()

    def _lay_out(self) -> None:
        across = QHBoxLayout(self)
        across.setContentsMargins(14, 10, 14, 10)
        across.setSpacing(16)
        left_side = QWidget()
        left_side.setFixedWidth(LEFT_PX)
        left = QVBoxLayout(left_side)
        left.setContentsMargins(0, 0, 0, 0)
        left.setSpacing(5)
        self.working, self.about, self.plan = label(""), label("", "quiet"), label("")
        self.model, self.told, self.problem = label(""), label("", "quiet"), label("", "problem")
        for text in (self.working, self.about, self.plan, self.model, self.told, self.problem):
            text.setWordWrap(True)
        self.bar = QProgressBar()
        self.bar.setRange(0, 100)
        self.bar.setTextVisible(False)
        line = QHBoxLayout()
        self.limit.setFixedWidth(60)
        self.limit.setAccessibleName("How far the test may swing")
        self.limit_unit = label("", "quiet")
        self.limit_label = label("May swing by", "quiet")
        for widget in (self.limit_label, self.limit, self.limit_unit):
            line.addWidget(widget)
        line.addStretch(1)
        self.find_button.setProperty("role", "main")
        upper: tuple[QWidget, ...] = (label("What is tuned", "heading"), self.working, self.methods, self.about)
        for part in upper:
            left.addWidget(part)
        left.addLayout(line)
        lower: tuple[QWidget, ...] = (self.plan, self.find_button, self.bar, self.problem, self.model, self.told)
        for below in lower:
            left.addWidget(below)
        left.addWidget(self.test_chart, 1)
        left.addStretch(0)
        across.addWidget(left_side)
        middle = QVBoxLayout()
        middle.setSpacing(5)
        self.heading, self.empty = label("Gains side by side", "heading"), label("", "quiet")
        self.empty.setWordWrap(True)
        middle.addWidget(self.heading)
        middle.addWidget(self.empty)
        middle.addWidget(self.table)
        switch = QHBoxLayout()
        switch.addWidget(self.pictures)
        switch.addWidget(self.draw_map)
        switch.addWidget(self.map_bar, 1)
        switch.addStretch(0)
        middle.addLayout(switch)
        middle.addWidget(self.curve, 1)
        middle.addWidget(self.map, 1)
        middle.addStretch(0)
        across.addLayout(middle, 1)
        across.addWidget(self.side)

    def tab_order(self) -> list[QWidget]:
        return [
            *self.methods.buttons.values(), self.limit, self.find_button, self.table,
            *self.pictures.buttons.values(), self.draw_map, self.side.try_button,
            self.side.keep_button, self.side.sheet, self.side.bound, self.side.search,
        ]  # fmt: skip

    def focus(self) -> None:
        self.table.setFocus()

    def set_theme(self, theme: look.Theme) -> None:
        self._theme = theme
        for painted in (self.test_chart, self.curve, self.table, self.map, self.side):
            painted.set_theme(theme)
        self._draw()

    def _limit_typed(self) -> None:
        text, per = self.limit.text().strip().replace(",", "."), difference_to(self._desk.view.unit, 1.0)
        if not text:
            self._work.want(self._work.method, None)
            return
        try:
            value = float(text) / per
        except ValueError:
            value = math.nan
        if 0.0 < value <= 1000.0:
            self._work.want(self._work.method, value)
        else:
            self._desk.say(
                "error", f"May swing by: takes a number above 0 (typed {text!r}), or nothing for four bands."
            )

    def _find_or_stop(self) -> None:
        if self._work.doing == "finding gains":
            self._work.stop()
        else:
            self._work.find()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.show_work()

    def show_work(self) -> None:
        """Show what is known, what is on, and what was found."""
        if not self.isVisible():
            return
        work, unit, design = self._work, self._desk.view.unit, self._desk.document.design
        finding = work.doing == "finding gains"
        self.methods.show_choice(work.method)
        self.about.setText(ABOUT[work.method])
        tests = work.method != "model"
        for widget in (self.limit, self.limit_unit, self.limit_label):
            widget.setVisible(tests)
        self.limit_unit.setText(unit)
        self.limit.setPlaceholderText(f"{4.0 * design.limits.band_celsius * difference_to(unit, 1.0):.3g}")
        self.plan.setVisible(tests)
        self.plan.setText(self._planned())
        word = {"model": "Find gains", "step": "Make the step test", "relay": "Make the relay test"}[work.method]
        self.find_button.setText("Stop" if finding else word)
        self.find_button.setEnabled(finding or not work.is_busy)
        self.bar.setVisible(finding)
        self.bar.setValue(round(100.0 * work.share))
        trouble = work.trouble or (work.plan_trouble if tests else "")
        self.problem.setText(trouble[:1].upper() + trouble[1:] + ("" if trouble.endswith(".") or not trouble else "."))
        self.problem.setVisible(bool(trouble))
        self._show_known()
        shown = (work.found, work.search_found, work.by_hand, unit)
        if shown != self._shown:
            self._shown = shown
            self.table.show_rows(work.rows, unit, "" if work.found is None else work.found.trial.name)
        stale = work.found is not None and not work.is_of_design
        text = ""
        if work.found is None:
            text = (
                "Looking at the load …" if finding else "Press the button on the left: every rule is run on the trial."
            )
        elif stale:
            text = "Found for the design or trial as it was before the last change."
        elif any(not row.in_range for row in work.found.rows):
            text = "* outside the range of dead time over time constant that the rule was made for"
        self.empty.setText(text)
        self.empty.setVisible(bool(text))
        self.table.setVisible(work.found is not None)
        self._show_pictures()

    def _ask_sheet(self, row: Candidate) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Panel controller's settings", "settings.html", "Pages (*.html)")
        if name:
            self._work.write_sheet(row, Path(name))

    # ---- the two pictures under the table

    def _choose_picture(self, name: str) -> None:
        self.picture = name
        if name == "map" and self._work.map is None and not self._work.is_busy and self._row is not None:
            self._work.draw_map(self._row)
        self._show_pictures()

    def _map_or_stop(self) -> None:
        if self._work.doing == "mapping":
            self._work.stop()
        elif self._row is not None:
            self._work.draw_map(self._row)

    def _picked(self, gain_per_celsius: float, integral_time_s: float) -> None:
        if self._row is not None:
            self.table.name = BY_HAND
            self._work.pick(self._row, gain_per_celsius, integral_time_s)

    def _show_pictures(self) -> None:
        work, there, mapping = self._work, self._work.found is not None, self._work.doing == "mapping"
        self.pictures.show_choice(self.picture)
        self.pictures.setVisible(there)
        self.curve.setVisible(there and self.picture == "curve")
        for widget in (self.map, self.draw_map):
            widget.setVisible(there and self.picture == "map")
        self.map_bar.setVisible(mapping and self.picture == "map")
        self.map_bar.setValue(round(100.0 * work.share))
        self.draw_map.setText("Stop" if mapping else "Draw about this row")
        self.draw_map.setEnabled(mapping or not work.is_busy)
        gains = None if self._row is None else self._row.setting.gains
        chosen = None if gains is None else (gains.gain_per_celsius, gains.integral_time_s)
        self.map.show_map(work.map, self._desk.view.unit, work.ms_bound, chosen)

    def _planned(self) -> str:
        work, plan, unit = self._work, self._work.plan, self._desk.view.unit
        if work.method == "model":
            return ""
        if plan is None and not work.plan_trouble:
            work.look_ahead()
            plan = work.plan
        if plan is None:
            return ""
        return (
            f"Between {plan.output_low * 100.0:.0f} and {plan.output_high * 100.0:.0f} % of output: about"
            f" {format_duration(plan.expected_s)}, swing {format_difference(unit, plan.expected_swing_celsius)}."
        )

    def _show_known(self) -> None:
        found, unit = self._work.found, self._desk.view.unit
        if found is None:
            celsius = self._desk.document.design.setpoint.celsius
            self.working.setText(f"At {format_temperature(unit, celsius)}.")
            self.model.setText("")
            self.told.setText("")
            self.test_chart.hide()
            return
        known, at = found.known, found.known.process.at
        self.working.setText(
            f"At {format_temperature(unit, at.celsius)}, held by {at.output * 100.0:.0f} % of output, in"
            f" {format_temperature(unit, at.ambient_celsius)}."
        )
        model = known.model
        if model is None:
            self.model.setText("The waveform is not that of first order, so that only the limit is told.")
        elif model.kind == "integrating":
            rate = model.rate_celsius_per_s * difference_to(unit, 1.0)
            self.model.setText(f"Integrating: {rate:.3g} {unit}/s at full output, dead time {model.dead_time_s:.3g} s.")
        else:
            self.model.setText(
                f"Rise {format_difference(unit, model.rise_celsius)}, time constant"
                f" {format_duration(model.time_constant_s)}, dead time {model.dead_time_s:.3g} s."
            )
        self.told.setText(self._said())
        self._draw_test()

    def _said(self) -> str:
        found = self._work.found
        assert found is not None
        test, parts = found.known.experiment, []
        unit = self._desk.view.unit
        if test.took_s is not None and test.swing_celsius is not None:
            parts.append(
                f"The test took {format_duration(test.took_s)} and swung {format_difference(unit, test.swing_celsius)}."
            )
        if test.ultimate_gain_per_celsius is not None and test.ultimate_period_s is not None:
            gain = 100.0 * test.ultimate_gain_per_celsius / difference_to(unit, 1.0)
            parts.append(f"It just oscillates at {gain:.3g} %/{unit}, every {test.ultimate_period_s:.3g} s.")
        if test.gain_error_share is not None:
            way = "below" if test.gain_error_share < 0.0 else "above"
            parts.append(
                f"That gain, by the describing function, is {abs(test.gain_error_share) * 100.0:.0f} % {way} the"
                " true one."
            )
        return " ".join(parts)

    def _draw_test(self) -> None:
        found = self._work.found
        trace = None if found is None else found.known.experiment.trace
        self.test_chart.plot.curves.clear()
        self.test_chart.setVisible(found is not None and (trace is not None or found.fit is not None))
        if found is not None and trace is None and found.fit is not None:
            self._draw_fit(*found.fit)
        if trace is None:
            return
        unit, every = self._desk.view.unit, max(1, trace.steps // MOST_POINTS)
        minutes, shown = trace.time_s[::every] / 60.0, celsius_to(unit, trace.measured_celsius[::every])
        self.test_chart.set_title(f"The test: {unit} over min")
        self.test_chart.draw("reading", minutes, shown, self._theme.measured, 1.4)
        self.test_chart.show_range((0.0, float(minutes[-1])), padded(shown))

    def _draw_fit(self, time_s: Any, process: Any, model: Any) -> None:
        """The model over the step that it was fitted to."""
        unit, per = self._desk.view.unit, difference_to(self._desk.view.unit, 1.0)
        self.test_chart.set_title(f"A small step, {unit} over min; the model dashed")
        self.test_chart.draw("load", time_s / 60.0, process * per, self._theme.pinned, 2.4)
        self.test_chart.plot.curves["model"] = Curve(time_s / 60.0, model * per, self._theme.measured, 1.4, True)
        self.test_chart.show_range((0.0, float(time_s[-1]) / 60.0), padded(process * per))

    def _chosen(self, row: Candidate | None) -> None:
        self._row = row
        self.side.show_row(row)
        self._draw()
        self._show_pictures()

    def _draw(self) -> None:
        """The chosen row over the present gains, on the trial."""
        found, row, unit, t = self._work.found, self._row, self._desk.view.unit, self._theme
        if found is None or row is None:
            return
        present = next((one for one in found.rows if one.name == PRESENT), None)
        self.curve.plot.curves.clear()
        lows, last_s = [], 0.0
        for name, one, colour in (("present", present, t.pinned), ("chosen", row, t.measured)):
            if one is None or (name == "present" and one.name == row.name):
                continue
            at = one.trials.index(found.trial.name) if found.trial.name in one.trials else 0
            trace = one.traces[at]
            every = max(1, trace.steps // MOST_POINTS)
            shown = celsius_to(unit, trace.measured_celsius[::every])
            minutes = trace.time_s[::every] / 60.0
            self.curve.draw(name, minutes, shown, colour, 1.0 if name == "present" else 1.5)
            if name == "chosen":
                goal = celsius_to(unit, trace.setpoint_celsius[::every])
                self.curve.plot.curves["setpoint"] = Curve(minutes, goal, t.setpoint, 1.0, True)
            lows.append(shown)
            last_s = max(last_s, float(trace.time_s[-1]))
        beside = "" if present is None or present.name == row.name else "; the present gains in grey"
        self.curve.set_title(f"{row.title} on “{found.trial.name}”: {unit} over min{beside}")
        self.curve.show_range((0.0, last_s / 60.0), padded(np.concatenate(lows)))
