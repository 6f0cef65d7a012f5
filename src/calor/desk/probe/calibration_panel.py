"""Calibration in the probe's room: the points as a table that is typed into, and what is left of them as a chart."""

from __future__ import annotations

import datetime
import math
from typing import Any

import numpy as np
from PyQt6.QtCore import QSignalBlocker, Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from calor.desk.probe.survey import ProbeSurvey
from calor.desk.state.desk import Desk
from calor.desk.widgets import theme as look
from calor.desk.widgets.chart import Chart, padded
from calor.desk.widgets.fields import as_tip, label
from calor.sense import calibration
from calor.units import celsius_to, difference_to, to_celsius

COLUMNS = ("true_celsius", "reading_celsius", "left", "date", "against")
MOST_CHARS, MOST_ROWS = 80, 5
HEAD_PX, ROW_PX, CHART_PX = 26, 22, 74


class CalibrationPanel(QWidget):
    """Points of the probe beside another thermometer."""

    def __init__(self, desk: Desk, survey: ProbeSurvey) -> None:
        super().__init__()
        self._desk, self._survey = desk, survey
        self._theme = look.LIGHT
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        head = QHBoxLayout()
        head.addWidget(label("Calibration", "heading"))
        self.line = label("", "quiet")
        head.addStretch(1)
        self.add, self.remove, self.load = QPushButton("Add"), QPushButton("Remove"), QPushButton("Import…")
        for button, tip in (
            (self.add, "Add a comparison with another thermometer."),
            (self.remove, "Take the chosen comparison out."),
            (self.load, "Points from a CSV with true_celsius and reading_celsius."),
        ):
            button.setProperty("role", "link")
            button.setToolTip(tip)
            head.addWidget(button)
        column.addLayout(head)
        column.addWidget(self.line)
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setAccessibleName("Calibration points")
        self.table.verticalHeader().hide()  # type: ignore[union-attr]
        self.table.verticalHeader().setDefaultSectionSize(22)  # type: ignore[union-attr]
        header = self.table.horizontalHeader()
        if header is not None:
            # a figure is never cut; a thermometer's name takes what is left
            header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            header.setSectionResizeMode(len(COLUMNS) - 1, QHeaderView.ResizeMode.Stretch)
            header.setMinimumSectionSize(30)
            header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
            header.setHighlightSections(False)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.table.setTabKeyNavigation(False)
        self.table.setWordWrap(False)
        self.none = label("", "quiet")
        self.none.setWordWrap(True)
        self.none.setAlignment(Qt.AlignmentFlag.AlignTop)
        column.addWidget(self.none)
        column.addWidget(self.table)
        self.problem = label("", "problem")
        self.problem.setWordWrap(True)
        self.problem.hide()
        column.addWidget(self.problem)
        self.chart = Chart("", most_ticks=(6, 4))
        column.addWidget(self.chart, 1)
        column.addStretch(0)
        self.table.cellChanged.connect(self._typed)
        self.add.clicked.connect(self._add)
        self.remove.clicked.connect(self._remove)
        self.show_model()

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        self.chart.set_theme(theme)

    def show_model(self) -> None:
        """Show the points of the design."""
        desk, unit = self._desk, self._desk.view.unit
        points = desk.document.design.probe.calibration
        kind = calibration.kind_of(desk.document.design.probe.correction, len(points))
        self.line.setText(calibration.line(kind, len(points)))
        self.remove.setEnabled(bool(points))
        survey = self._survey.latest
        self._share_room()
        with QSignalBlocker(self.table):
            self.table.setHorizontalHeaderLabels([f"true {unit}", f"read {unit}", f"left {unit}", "date", "against"])
            self.table.setRowCount(len(points))
            for row, point in enumerate(points):
                left = math.nan
                if survey is not None and len(survey.residuals) == len(points):
                    left = difference_to(unit, survey.residuals[row].after_celsius)
                texts = (
                    f"{celsius_to(unit, point.true_celsius):.6g}", f"{celsius_to(unit, point.reading_celsius):.6g}",
                    f"{left:+.3f}".replace("-", "−").replace("−0.000", "0.000") if math.isfinite(left) else "–",
                    point.date.isoformat() if point.date else "", point.against,
                )  # fmt: skip
                for number, text in enumerate(texts):
                    item = QTableWidgetItem(text)
                    if number < 3:
                        item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                    if COLUMNS[number] == "left":
                        item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
                    if COLUMNS[number] == "against":  # the column may be too narrow for a thermometer's name
                        item.setToolTip(as_tip(f"{point.against or 'not said'}, ± {point.uncertainty_celsius:g} °C"))
                    self.table.setItem(row, number, item)
        self._draw()

    def resizeEvent(self, event: Any) -> None:
        super().resizeEvent(event)
        self._share_room()

    def _share_room(self) -> None:
        """The table as high as its rows, and the chart what is left, where that is enough to be read."""
        points = len(self._desk.document.design.probe.calibration)
        room = self.height() - 60
        rows = min(max(points, 2), MOST_ROWS)
        drawn = room - (HEAD_PX + ROW_PX * rows) >= CHART_PX
        if not drawn:
            rows = max(min(rows, (room - HEAD_PX) // ROW_PX), 2)
        self.table.setFixedHeight(HEAD_PX + ROW_PX * rows)
        self.chart.setVisible(drawn and points > 0)

    def _draw(self) -> None:
        desk, unit, t = self._desk, self._desk.view.unit, self._theme
        survey = self._survey.latest
        self.table.setVisible(bool(desk.document.design.probe.calibration))
        self._share_room()
        sea, high = (f"{celsius_to(unit, calibration.boiling_celsius(metres)):.1f}" for metres in (0.0, 1500.0))
        self.none.setText(
            "Not calibrated. Compare with another thermometer and add what both say: in ice water"
            f" ({celsius_to(unit, 0.0):.4g} {unit}), in boiling water ({sea} {unit} at sea level, {high} at 1500 m)."
        )
        self.none.setVisible(not desk.document.design.probe.calibration)
        self.line.setVisible(bool(desk.document.design.probe.calibration))
        self.chart.set_title(f"error {unit} over reading {unit}: □ read, ● corrected, — correction")
        if survey is None or not survey.residuals:
            for name in ("before", "after"):
                self.chart.mark_points(name, [], [], t.measured)
            self.chart.draw("correction", [], [], t.measured)
            self.chart.read_with(None)
            scope = self._survey.scope()
            ends = celsius_to(unit, scope.low_celsius), celsius_to(unit, scope.high_celsius)
            self.chart.show_range(ends, (-0.5, 0.5))
            return
        at = np.array([celsius_to(unit, r.reading_celsius) for r in survey.residuals])
        before = np.array([difference_to(unit, r.before_celsius) for r in survey.residuals])
        after = np.array([difference_to(unit, r.after_celsius) for r in survey.residuals])
        x, y = celsius_to(unit, survey.celsius), -difference_to(unit, survey.correction_celsius)
        self.chart.draw("correction", x, y, t.measured, 1.4)
        self.chart.mark_points("before", at, before, t.heat, "s")
        self.chart.mark_points("after", at, after, t.passed, "o")
        self.chart.mark(y=0.0)
        span = padded(at, 0.3, 5.0)
        inside = (x >= span[0]) & (x <= span[1])
        self.chart.show_range(span, padded(np.concatenate((before, after, y[inside])), 0.2, 0.05))
        self.chart.read_with(
            lambda value: f"at {value:.2f} {unit} the correction takes away {float(np.interp(value, x, y)):.3f} {unit}"
        )

    def _put(self, points: list[dict[str, Any]], text: str) -> bool:
        problem = self._desk.document.set_values("probe", {"calibration": tuple(points)}, text)
        self.problem.setText("" if problem is None else f"{problem.rule}.")
        self.problem.setVisible(problem is not None)
        if problem is not None:
            self.show_model()
        return problem is None

    def _points(self) -> list[dict[str, Any]]:
        return [point.model_dump() for point in self._desk.document.design.probe.calibration]

    def _add(self) -> None:
        self._desk.document.end_merging()
        points = self._points()
        at = self._desk.document.design.setpoint.celsius
        while any(abs(point["reading_celsius"] - at) < 0.5 for point in points):
            at += 5.0
        points.append({"true_celsius": at, "reading_celsius": at, "date": datetime.date.today(), "against": ""})  # noqa: DTZ011 - the user's own day
        if self._put(points, ""):
            row = len(points) - 1
            self.table.setCurrentCell(row, 0)
            self.table.editItem(self.table.item(row, 0))

    def _remove(self) -> None:
        self._desk.document.end_merging()
        points = self._points()
        row = self.table.currentRow()
        if points:
            points.pop(row if 0 <= row < len(points) else len(points) - 1)
            self._put(points, "")

    def _typed(self, row: int, number: int) -> None:
        item = self.table.item(row, number)
        points = self._points()
        if item is None or row >= len(points):
            return
        key, text = COLUMNS[number], item.text().strip()
        try:
            if key == "date":
                points[row][key] = datetime.date.fromisoformat(text) if text else None
            elif key == "against":
                points[row][key] = text[:MOST_CHARS]
            else:
                typed = text.replace("−", "-").replace(",", ".").removesuffix(self._desk.view.unit)
                points[row][key] = float(f"{to_celsius(self._desk.view.unit, float(typed)):.10g}")
        except ValueError:
            wanted = "a day, as in 2026-11-02" if key == "date" else "a number"
            self.show_model()
            self.problem.setText(f"This takes {wanted} (typed {text[:20]!r}).")
            self.problem.show()
            return
        self._desk.document.end_merging()
        self._put(points, "")
