"""The probe's room: its bench opened wide, with its curves, error budget, calibration, table and filter."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic.fields import FieldInfo
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from calor.desk.probe.calibration_panel import CalibrationPanel
from calor.desk.probe.survey import ProbeSurvey
from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.widgets import theme as look
from calor.desk.widgets.bars import Bars
from calor.desk.widgets.chart import Chart, padded
from calor.desk.widgets.fields import ChoiceField, Field, label
from calor.desk.widgets.numbers import NumberField
from calor.sense.registry import has_converter
from calor.sense.survey import Survey, read_out
from calor.settings import difference, temperature
from calor.units import celsius_to, difference_to, format_difference, format_duration

_FIELDS: dict[str, FieldInfo] = {
    "low": temperature(20.0, "Lowest", "Where the working range begins; the table covers it."),
    "high": temperature(50.0, "Highest", "Where the working range ends."),
    "within": difference(0.1, "Error", "How far the table may be from the formula.", 0.0005, 50.0),
}
for _field in _FIELDS.values():
    _field.annotation = float
LOW_PX = 560
_NUMBER = FieldInfo(
    annotation=Literal["integer", "float"], default="integer", title="Entries", description="As they lie in flash.",
    json_schema_extra={"words": {"integer": "int16", "float": "float"}},
)  # fmt: skip


def _panel(title: str, *buttons: QPushButton) -> tuple[QWidget, QVBoxLayout]:
    widget = QWidget()
    column = QVBoxLayout(widget)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(2)
    head = QHBoxLayout()
    head.addWidget(label(title, "heading"))
    head.addStretch(1)
    for button in buttons:
        head.addWidget(button)
    column.addLayout(head)
    return widget, column


class ProbePage(Page):
    """Everything about the probe at once."""

    def __init__(self, desk: Desk, survey: ProbeSurvey) -> None:
        super().__init__()
        self.setObjectName("centre")
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self._desk, self._survey = desk, survey
        self._theme = look.LIGHT
        self.first, self.second, self.finer = label("", "heading"), label(""), label("", "quiet")
        for line in (self.first, self.second, self.finer):
            line.setWordWrap(True)
        self.save, self.copy = QPushButton("Export the scaling…"), QPushButton("Copy the formula")
        self.save.setToolTip("The scaling alone as C99: formula, checks, filter, and the table as integers or floats.")
        self.copy.setToolTip("The arithmetic from counts to °C, onto the clipboard.")
        for button in (self.save, self.copy):
            button.setProperty("role", "link")
        self.transfer = Chart("", most_ticks=(8, 4))
        self.resolution = Chart("", most_ticks=(8, 3))
        self.bars = Bars()
        self.calibration = CalibrationPanel(desk, survey)
        self.sizes = Chart("", logarithmic=True)
        self.filter = Chart("", most_ticks=(4, 4))
        self.table_line, self.filter_line = label("", "quiet"), label("", "quiet")
        for line in (self.table_line, self.filter_line):
            line.setWordWrap(True)
        self.fields: dict[str, Field] = {key: NumberField(key, field) for key, field in _FIELDS.items()}
        self.fields["number"] = ChoiceField("number", _NUMBER)
        self._lay_out()
        for key, field in self.fields.items():
            field.edited.connect(lambda value, key=key: self._scope_edited(key, value))
        survey.changed.connect(self.show_model)
        desk.document.opened.connect(self.show_model)
        desk.document.changed.connect(self._design_changed)
        self._bars_said = ""
        self.bars.pointed.connect(lambda said: self.bars_title.setText(said or self._bars_said))
        self.show_model()

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 8, 14, 10)
        column.setSpacing(4)
        for line in (self.first, self.second, self.finer):
            column.addWidget(line)
        column.addSpacing(4)
        upper = QHBoxLayout()
        upper.setSpacing(16)
        curve, curve_column = _panel("Transfer curve", self.copy, self.save)
        self.no_curve = label("An ideal probe has no counts. Choose another kind to see its curve.", "quiet")
        curve_column.addWidget(self.no_curve)
        curve_column.addWidget(self.transfer, 5000)
        curve_column.addWidget(self.resolution, 3000)
        curve_column.addStretch(1)
        budget, budget_column = _panel("Error budget")
        self.bars_title = label("", "quiet")
        budget_column.addWidget(self.bars_title)
        budget_column.addWidget(self.bars, 1)
        upper.addWidget(curve, 9)
        upper.addWidget(budget, 11)
        lower = QHBoxLayout()
        lower.setSpacing(14)
        table, table_column = _panel("Lookup table")
        scope = QGridLayout()
        scope.setHorizontalSpacing(6)
        scope.setVerticalSpacing(3)
        for number, key in enumerate(("low", "high", "within", "number")):
            field = self.fields[key]
            field.grid.setColumnMinimumWidth(0, 48)
            if isinstance(field, NumberField):
                field.entry.setFixedWidth(52)
            scope.addWidget(field, number // 2, number % 2)
        self.scope_fields = QWidget()
        self.scope_fields.setLayout(scope)
        scope.setContentsMargins(0, 0, 0, 0)
        table_column.addWidget(self.scope_fields)
        table_column.addWidget(self.table_line)
        table_column.addWidget(self.sizes, 1000)
        table_column.addStretch(1)
        filter_, filter_column = _panel("Filter")
        filter_column.addWidget(self.filter_line)
        filter_column.addWidget(self.filter, 1)
        lower.addWidget(self.calibration, 11)
        lower.addWidget(table, 8)
        lower.addWidget(filter_, 6)
        self.body = QWidget()
        inside = QVBoxLayout(self.body)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(6)
        inside.addLayout(upper, 11)
        inside.addLayout(lower, 10)
        column.addWidget(self.body, 1000)
        column.addStretch(1)

    def resizeEvent(self, event: Any) -> None:
        super().resizeEvent(event)
        self._show_what_fits()

    def _show_what_fits(self) -> None:
        """In a low window the transfer curve is worth more than its resolution, which the pointer tells as well."""
        low = self.height() < LOW_PX
        self.resolution.setVisible(not low and not self.no_curve.isVisibleTo(self))
        self.finer.setVisible(not low and bool(self.finer.text()))

    def tab_order(self) -> list[QWidget]:
        panel = self.calibration
        inside = [panel.add, panel.remove, panel.load, panel.table]
        boxes: list[QWidget] = [field.entry for field in self.fields.values() if isinstance(field, NumberField)]
        number = self.fields["number"]
        boxes += [number.box] if isinstance(number, ChoiceField) else []
        return [self.copy, self.save, *inside, *boxes]

    def set_theme(self, theme: look.Theme) -> None:
        self._theme = theme
        self.bars.theme = theme
        for chart in (self.transfer, self.resolution, self.sizes, self.filter):
            chart.set_theme(theme)
        self.calibration.set_theme(theme)
        self.show_model()

    def _design_changed(self) -> None:
        if self._survey.is_open:
            self.calibration.show_model()
            self._show_scope()

    def _scope_edited(self, key: str, value: Any) -> None:
        names = {"low": "low_celsius", "high": "high_celsius", "within": "within_celsius", "number": "number"}
        problem = self._survey.set_scope(self._survey.scope()._replace(**{names[key]: value}))
        if problem:
            self.fields[key].reject(problem)

    def _show_scope(self) -> None:
        scope, unit = self._survey.scope(), self._desk.view.unit
        shown = {
            "low": scope.low_celsius,
            "high": scope.high_celsius,
            "within": scope.within_celsius,
            "number": scope.number,
        }
        for key, field in self.fields.items():
            field.show_value(float(f"{shown[key]:.6g}") if key != "number" else shown[key], unit)

    def show_model(self) -> None:
        """Show the survey as it is, or that it is being made."""
        self._show_scope()
        survey, unit = self._survey.latest, self._desk.view.unit
        self.body.setVisible(survey is not None)
        if survey is None:
            self.first.setText("Working out the probe …")
            self.second.setText("The first time after an installation this takes some seconds.")
            self.finer.hide()
            return
        self.first.setText(survey.answer[0])
        self.second.setText(survey.answer[1])
        self.finer.setText(survey.finer)
        self._show_transfer(survey, unit)
        self._show_budget(survey, unit)
        self._show_table(survey, unit)
        self._show_filter(survey)
        self.calibration.show_model()

    def _show_transfer(self, survey: Survey, unit: Any) -> None:
        t, scope = self._theme, survey.scope
        ideal = not np.isfinite(survey.counts).any() and self._desk.document.design.probe.kind == "ideal"
        self.no_curve.setVisible(ideal)
        self.transfer.setVisible(not ideal)
        self._show_what_fits()
        x = celsius_to(unit, survey.celsius)
        fine = difference_to(unit, survey.per_count_celsius)
        low, high, at = (celsius_to(unit, v) for v in (scope.low_celsius, scope.high_celsius, scope.setpoint_celsius))
        self.transfer.set_title(f"counts over {unit}: range shaded, setpoint dashed")
        self.resolution.set_title(f"{unit} per count over {unit}")
        self.transfer.draw("counts", x, survey.counts, t.measured)
        self.resolution.draw("fine", x, fine, t.heat)
        inside = (survey.celsius >= scope.low_celsius) & (survey.celsius <= scope.high_celsius)
        most = np.nanmax(fine[inside], initial=0.0) * 3.0
        visible = fine[fine <= most] if most > 0.0 else fine
        for chart, values in ((self.transfer, survey.counts), (self.resolution, np.append(visible, 0.0))):
            chart.shade(low, high)
            chart.mark(x=at)
            chart.show_range((float(x[0]), float(x[-1])), padded(values, 0.06))
            chart.read_with(
                lambda value: read_out(survey, (value - float(celsius_to(unit, 0.0))) / difference_to(unit, 1.0), unit)
            )

    def _show_budget(self, survey: Survey, unit: Any) -> None:
        bars = self.bars
        bars.unit = unit
        bars.places = [float(celsius_to(unit, value)) for value in survey.bars_celsius]
        bars.parts = [(name, difference_to(unit, most)) for name, most in survey.bars]
        bars.total = np.sum([heights for _, heights in bars.parts], axis=0) if bars.parts else np.empty(0)
        figures = survey.at_setpoint
        bars.here = {} if figures is None else {p.cause: difference_to(unit, p.celsius) for p in figures.contributions}
        bars.footer = []
        if figures is not None:
            bars.footer = [
                ("all added: at worst", format_difference(unit, figures.worst_case_celsius, 3)),
                ("root-sum-square", format_difference(unit, figures.rss_celsius, 3)),
            ]
        at = celsius_to(unit, survey.scope.setpoint_celsius)
        self._bars_said = f"{unit} over {unit}; listed: at the setpoint, {at:.4g} {unit}".replace("-", "−")
        self.bars_title.setText(self._bars_said)
        bars.empty = "Nothing is set that would make this probe read wrong."
        bars.update()

    def _show_table(self, survey: Survey, unit: Any) -> None:
        t, lookup = self._theme, survey.lookup
        within = difference_to(unit, survey.scope.within_celsius)
        if lookup is not None:
            self.table_line.setText(
                f"{lookup.entries} entries, {lookup.flash_bytes} bytes, are within"
                f" {difference_to(unit, lookup.worst_celsius):.3g} {unit}."
            )
        else:
            self.table_line.setText(survey.lookup_note)
        entries = np.array([size for size, _ in survey.sizes], float)
        errors = np.array([difference_to(unit, error) for _, error in survey.sizes])
        self.sizes.setVisible(len(entries) > 0)
        self.scope_fields.setVisible(has_converter(self._desk.document.design.probe))
        if not len(entries):
            return
        self.sizes.set_title(f"worst error {unit} over entries; dashed: {within:.3g} {unit}")
        self.sizes.draw("errors", entries, errors, t.measured)
        self.sizes.mark_points("sizes", entries, errors, t.measured)
        self.sizes.mark(y=within)
        low, high = min(errors.min(), within), max(errors.max(), within)
        self.sizes.show_range((1.8, float(entries[-1]) * 1.15), (low / 1.6, high * 1.6))
        size = {"integer": 2, "float": 4}[survey.scope.number]

        def read(value: float) -> str:
            number = int(np.argmin(np.abs(np.log(entries) - np.log(max(value, 1e-9)))))
            count = int(entries[number])
            return f"{count} entries, {count * size} bytes: {errors[number]:.3g} {unit}"

        self.sizes.read_with(read)

    def _show_filter(self, survey: Survey) -> None:
        t = self._theme
        self.filter_line.setText(survey.filter_note)
        times = np.repeat(survey.filter_s, 2)[1:]
        shares = np.repeat(survey.filter_share, 2)[:-1] * 100.0
        begin = np.array([-0.1 * survey.filter_s[-1], 0.0])
        self.filter.set_title("% come through over s")
        self.filter.draw("response", np.concatenate((begin, times)), np.concatenate(([0.0, 0.0], shares)), t.measured)
        self.filter.show_range((float(begin[0]), float(times[-1])), (-5.0, 108.0))

        def read(value: float) -> str:
            row = int(np.searchsorted(survey.filter_s, value, side="right")) - 1
            share = survey.filter_share[min(row, len(survey.filter_share) - 1)] * 100.0 if row >= 0 else 0.0
            return f"{format_duration(value)} after a step: {share:.1f} %"

        self.filter.read_with(read)
