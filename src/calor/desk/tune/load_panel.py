"""What is tuned: the working point, which test is made and what it would take, and the model that was found."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QProgressBar, QPushButton, QVBoxLayout, QWidget

from calor.desk.state.desk import Desk
from calor.desk.tune.work import TuneWork
from calor.desk.widgets import theme as look
from calor.desk.widgets.chart import Chart, padded
from calor.desk.widgets.fields import Segments, label
from calor.desk.widgets.painting import Curve
from calor.units import celsius_to, difference_to, format_difference, format_duration, format_temperature

METHODS = {"model": "Model", "step": "Step", "relay": "Relay", "record": "Record"}
ABOUT = {
    "model": "The load linear around its working point, as the simulation knows it. No test is made.",
    "step": "From rest the output is put to another and left. A model is fitted to the reading.",
    "relay": "The output is switched about what holds the setpoint. Swing and period tell how much gain it stands.",
    "record": "A model is fitted to a recorded run; settled cycles of a relay or an on/off law tell the limit.",
}
LOG_FILTER = "Logs (*.csv *.txt *.log *.tsv);;All files (*)"
WIDTH_PX = 236
MOST_POINTS = 1500


class LoadPanel(QWidget):
    """Asks for a look or a test, and shows what it told of the load."""

    def __init__(self, desk: Desk, work: TuneWork) -> None:
        super().__init__()
        self._desk, self._work, self._theme = desk, work, look.LIGHT
        self.setFixedWidth(WIDTH_PX)
        self.methods = Segments(METHODS, "Method")
        self.limit, self.find_button = QLineEdit(), QPushButton()
        self.test_chart = Chart("", most_ticks=(4, 4))
        self._lay_out()
        self.methods.chosen.connect(lambda method: work.want(method, work.limit_celsius))
        self.limit.editingFinished.connect(self._limit_typed)
        self.find_button.clicked.connect(self._find_or_stop)

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
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
            column.addWidget(part)
        column.addLayout(line)
        lower: tuple[QWidget, ...] = (self.plan, self.find_button, self.bar, self.problem, self.model, self.told)
        for below in lower:
            column.addWidget(below)
        column.addWidget(self.test_chart, 1)
        column.addStretch(0)

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        self.test_chart.set_theme(theme)
        self._draw_test()

    def show_work(self) -> None:
        """Show which test is chosen, what is on, and what was found."""
        work, unit, design = self._work, self._desk.view.unit, self._desk.document.design
        finding = work.doing == "finding gains"
        self.methods.show_choice(work.method)
        self.about.setText(ABOUT[work.method])
        tests = work.method in ("step", "relay")
        for widget in (self.limit, self.limit_unit, self.limit_label):
            widget.setVisible(tests)
        self.limit_unit.setText(unit)
        self.limit.setPlaceholderText(f"{4.0 * design.limits.band_celsius * difference_to(unit, 1.0):.3g}")
        self.plan.setVisible(tests)
        self.plan.setText(self._planned())
        word = {
            "model": "Find gains",
            "step": "Make the step test",
            "relay": "Make the relay test",
            "record": "Open a record…",
        }[work.method]
        self.find_button.setText("Stop" if finding else word)
        self.find_button.setEnabled(finding or not work.is_busy)
        self.bar.setVisible(finding)
        self.bar.setValue(round(100.0 * work.share))
        trouble = work.trouble or (work.plan_trouble if tests else "")
        self.problem.setText(trouble[:1].upper() + trouble[1:] + ("" if trouble.endswith(".") or not trouble else "."))
        self.problem.setVisible(bool(trouble))
        self._show_known()

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
        elif self._work.method == "record":
            name, _ = QFileDialog.getOpenFileName(self, "Tune from a recorded run", str(Path.home()), LOG_FILTER)
            if name:
                self._work.find_from(Path(name))
        else:
            self._work.find()

    def _planned(self) -> str:
        work, plan, unit = self._work, self._work.plan, self._desk.view.unit
        if work.method not in ("step", "relay"):
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
        if not math.isfinite(at.celsius):
            self.working.setText(f"As recorded in {'a log' if self._work.log is None else self._work.log.name}.")
        else:
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
        if test.cycles is not None and test.swing_celsius is not None:
            swing = format_difference(unit, test.swing_celsius)
            parts.append(f"It ends with {test.cycles} settled cycles that swing {swing}.")
        elif test.took_s is not None and test.swing_celsius is not None and test.method != "record":
            parts.append(
                f"The test took {format_duration(test.took_s)} and swung {format_difference(unit, test.swing_celsius)}."
            )
        if test.ultimate_gain_per_celsius is not None and test.ultimate_period_s is not None:
            gain = 100.0 * test.ultimate_gain_per_celsius / difference_to(unit, 1.0)
            parts.append(f"It just oscillates at {gain:.3g} %/{unit}, every {test.ultimate_period_s:.3g} s.")
        if test.model_gain_per_celsius is not None:
            gain = 100.0 * test.model_gain_per_celsius / difference_to(unit, 1.0)
            parts.append(f"By the model it would be at {gain:.3g} %/{unit}.")
        if test.note:
            parts.append(f"{test.note[:1].upper()}{test.note[1:]}.")
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
        if found is None or trace is None:
            return
        unit, every = self._desk.view.unit, max(1, trace.steps // MOST_POINTS)
        minutes, shown = trace.time_s[::every] / 60.0, celsius_to(unit, trace.measured_celsius[::every])
        what = "record" if found.known.experiment.method == "record" else "test"
        self.test_chart.set_title(f"The {what}: {unit} over min")
        self.test_chart.draw("reading", minutes, shown, self._theme.measured, 1.4)
        self.test_chart.show_range((0.0, float(minutes[-1])), padded(shown))

    def _draw_fit(self, time_s: Any, process: Any, model: Any) -> None:
        """The model over the step that it was fitted to."""
        unit, per = self._desk.view.unit, difference_to(self._desk.view.unit, 1.0)
        self.test_chart.set_title(f"A small step, {unit} over min; the model dashed")
        self.test_chart.draw("load", time_s / 60.0, process * per, self._theme.pinned, 2.4)
        self.test_chart.plot.curves["model"] = Curve(time_s / 60.0, model * per, self._theme.measured, 1.4, True)
        self.test_chart.show_range((0.0, float(time_s[-1]) / 60.0), padded(process * per))
