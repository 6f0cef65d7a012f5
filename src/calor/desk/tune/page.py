"""The Tune room's page: what is tuned on the left, the rules in the middle over what they do, the chosen row right."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QVBoxLayout, QWidget

from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.tune import taking
from calor.desk.tune.choices_view import ChoicesView
from calor.desk.tune.load_panel import LoadPanel
from calor.desk.tune.map_view import MapView
from calor.desk.tune.rules_table import RulesTable
from calor.desk.tune.sets_view import SetsView
from calor.desk.tune.side import SidePanel
from calor.desk.tune.switching_view import SwitchingView
from calor.desk.tune.work import BY_HAND, TuneWork
from calor.desk.widgets import theme as look
from calor.desk.widgets.chart import Chart, padded
from calor.desk.widgets.fields import Segments, label
from calor.desk.widgets.painting import Curve
from calor.desk.widgets.places import place_for
from calor.tune.choices import has_gains, what_of
from calor.tune.report import best, switching_data
from calor.tune.rules import BY_NAME
from calor.tune.table import PRESENT, Candidate
from calor.units import celsius_to

PICTURES = {
    "curve": "On the trial", "map": "Map", "switching": "On/off, window", "sets": "Gain sets", "choices": "This law",
}  # fmt: skip
PICTURES_PX, MOST_POINTS = 530, 1500


class TunePage(Page):
    """Asks for a look, a test or a search, and shows what came of it."""

    def __init__(self, desk: Desk, work: TuneWork) -> None:
        super().__init__()
        self.setObjectName("centre")
        self._desk, self._work, self._theme = desk, work, look.LIGHT
        self._row: Candidate | None = None
        self.load, self.table, self.side = LoadPanel(desk, work), RulesTable(), SidePanel(desk, work)
        self.curve = Chart("", most_ticks=(8, 5))
        self.pictures, self.picture = Segments(PICTURES, "Picture"), "curve"
        self.pictures.setMaximumWidth(PICTURES_PX)
        self.switching, self.sets, self.choices = SwitchingView(), SetsView(), ChoicesView()
        self.draw_map, self.map, self.map_bar = QPushButton("Draw the map"), MapView(), QProgressBar()
        self.map_bar.setRange(0, 100)
        self.map_bar.setTextVisible(False)
        self._lay_out()
        self.table.chosen.connect(self._chosen)
        self.pictures.chosen.connect(self._choose_picture)
        self.draw_map.clicked.connect(self._map_or_stop)
        self.map.picked.connect(self._picked)
        self.side.try_asked.connect(partial(taking.try_out, desk))
        self.side.keep_asked.connect(partial(taking.keep, desk))
        self.side.sheet_asked.connect(self._ask_sheet)
        self.sets.asked.connect(self._find_sets)
        self.sets.keep_asked.connect(lambda: taking.keep_sets(desk, work.sets))
        self.sets.refused.connect(lambda text: desk.say("error", text))
        self.choices.asked.connect(self._run_choices)
        self.choices.keep_asked.connect(partial(taking.keep_choice, desk))
        work.changed.connect(self.show_work)
        desk.view.unit_changed.connect(self.show_work)
        self._shown: Any = None
        self.show_work()

    def _lay_out(self) -> None:
        across = QHBoxLayout(self)
        across.setContentsMargins(14, 10, 14, 10)
        across.setSpacing(12)
        across.addWidget(self.load)
        middle = QVBoxLayout()
        middle.setSpacing(5)
        self.heading, self.empty = label("Gains side by side", "heading"), label("", "quiet")
        self.empty.setWordWrap(True)
        middle.addWidget(self.heading)
        middle.addWidget(self.empty)
        middle.addWidget(self.table, 3)
        middle.addWidget(self.pictures)
        mapping = QHBoxLayout()
        mapping.setSpacing(10)
        mapping.addWidget(self.draw_map)
        mapping.addWidget(self.map_bar, 1)
        mapping.addStretch(0)
        middle.addLayout(mapping)
        middle.addWidget(self.curve, 1)
        middle.addWidget(self.map, 1)
        middle.addWidget(self.switching, 1)
        middle.addWidget(self.sets, 1)
        middle.addWidget(self.choices, 1)
        middle.addStretch(0)
        across.addLayout(middle, 1)
        across.addWidget(self.side)

    def tab_order(self) -> list[QWidget]:
        return [
            *self.load.methods.buttons.values(), self.load.limit, self.load.find_button, self.table,
            *self.pictures.buttons.values(), self.draw_map, self.sets.places, self.sets.find_button,
            self.sets.keep_button, self.choices.run_button, self.side.try_button, self.side.keep_button,
            self.side.sheet, *self.side.responses.buttons.values(), self.side.bound,
            self.side.search,
        ]  # fmt: skip

    def focus(self) -> None:
        # there is no table before the first look at the load
        (self.table if self.table.isVisible() else self.load.methods.buttons[self._work.method]).setFocus()

    def set_theme(self, theme: look.Theme) -> None:
        self._theme = theme
        for painted in (self.load, self.curve, self.table, self.map, self.side):
            painted.set_theme(theme)
        self._draw()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.show_work()

    def show_work(self) -> None:
        """Show what is known, what is on, and what was found."""
        if not self.isVisible():
            return
        work, unit = self._work, self._desk.view.unit
        finding = work.doing == "finding gains"
        self.load.show_work()
        shown = (work.found, work.search_found, work.growing, work.by_hand, unit)
        if shown != self._shown:
            self._shown = shown
            self.table.show_rows(work.rows, unit, "" if work.found is None else work.found.trial.name)
        stale = work.found is not None and not work.is_of_design
        text = ""
        if work.found is None and not finding and not has_gains(self._desk.document.design):
            text = (
                "A fan curve has no gains. How wide it is from start to full is chosen below; Find gains would look for"
                " those of a PID law in its place."
            )
        elif work.found is None:
            text = (
                "Looking at the load …" if finding else "Press the button on the left: every rule is run on the trial."
            )
        elif stale:
            text = "Found for the design or trial as it was before the last change."
        else:
            text = (
                f"Gain in %/{unit}, integral Ti and derivative Td in s; overshoot, ripple in {unit}, error in {unit}·s."
            )
            if any(not row.in_range for row in work.found.rows):
                text += " * outside the rule's range."
        self.empty.setText(text)
        self.empty.setVisible(bool(text))
        self.table.setVisible(work.found is not None)
        self._show_pictures()

    def _ask_sheet(self, row: Candidate) -> None:
        path = place_for(self, "Panel controller's settings", "settings.html", "Pages (*.html)", ".html")
        if path is not None:
            taking.write_sheet(self._desk, row, path)

    # ---- the two pictures under the table

    def _choose_picture(self, name: str) -> None:
        self.picture = name
        design = self._desk.document.design
        if name == "choices" and not self._work.choices and not self._work.is_busy and what_of(design):
            self._work.run_choices()
        if name == "map" and self._work.map is None and not self._work.is_busy and self._row is not None:
            self._work.draw_map(self._row)
        self._show_pictures()

    def _map_or_stop(self) -> None:
        if self._work.doing == "mapping":
            self._work.stop()
        elif self._row is not None:
            self._work.draw_map(self._row)

    def _run_choices(self) -> None:
        if self._work.doing == "running choices":
            self._work.stop()
        else:
            self._work.run_choices()

    def _find_sets(self, places_celsius: list[float]) -> None:
        work = self._work
        if work.doing == "finding gain sets":
            work.stop()
            return
        rows = [] if work.found is None else [row for row in work.found.rows if row.name in BY_NAME]
        chosen = self._row if self._row is not None and self._row.name in BY_NAME else best(rows, None)
        if chosen is None:
            self._desk.say("error", "Gain sets: no rule goes with this load; choose a row of a rule.")
            return
        work.find_sets(places_celsius, chosen.name)

    def _picked(self, gain_per_celsius: float, integral_time_s: float) -> None:
        if self._row is not None:
            self.table.name = BY_HAND
            self._work.pick(self._row, gain_per_celsius, integral_time_s)

    def _show_pictures(self) -> None:
        work, there, mapping = self._work, self._work.found is not None, self._work.doing == "mapping"
        self.pictures.show_choice(self.picture)
        self.pictures.setVisible(there)
        of_curve = not there and work.doing != "finding gains" and not has_gains(self._desk.document.design)
        self.heading.setText("Width of the curve" if of_curve else "Gains side by side")
        self.side.setVisible(not of_curve)
        self.curve.setVisible(there and self.picture == "curve")
        self.switching.setVisible(there and self.picture == "switching")
        if there and self.picture == "switching":
            found = work.found
            self.switching.show_data(
                None if found is None else switching_data(found.design, found.known), self._desk.view.unit
            )
        self.sets.setVisible(there and self.picture == "sets")
        rule = None if self._row is None else BY_NAME.get(self._row.name)
        finding = work.doing == "finding gain sets"
        self.sets.show_sets(
            work.sets, BY_NAME[work.sets[0].rule].title if work.sets else rule.title if rule else "",
            self._desk.view.unit, work.share if finding else None, self._desk.document.design.setpoint.celsius,
        )  # fmt: skip
        self.choices.setVisible(of_curve or (there and self.picture == "choices"))
        share = work.share if work.doing == "running choices" else None
        self.choices.show_choices(what_of(self._desk.document.design), work.choices, self._desk.view.unit, share)
        for widget in (self.map, self.draw_map):
            widget.setVisible(there and self.picture == "map")
        self.map_bar.setVisible(mapping and self.picture == "map")
        self.map_bar.setValue(round(100.0 * work.share))
        self.draw_map.setText("Stop" if mapping else "Draw about this row")
        self.draw_map.setEnabled(mapping or not work.is_busy)
        gains = None if self._row is None else self._row.setting.gains
        chosen = None if gains is None else (gains.gain_per_celsius, gains.integral_time_s)
        self.map.show_map(work.map, self._desk.view.unit, work.ms_bound, chosen)

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
                # only where it turns: dashes drawn through many points lose their colour
                turns = np.abs(np.diff(goal, 2, prepend=np.nan, append=np.nan)) < 1e-9
                self.curve.plot.curves["setpoint"] = Curve(minutes[~turns], goal[~turns], t.setpoint, 1.2, True)
            lows.append(shown)
            last_s = max(last_s, float(trace.time_s[-1]))
        beside = "" if present is None or present.name == row.name else "; the present gains in grey"
        self.curve.set_title(f"{row.title} on “{found.trial.name}”: {unit} over min{beside}")
        self.curve.show_range((0.0, last_s / 60.0), padded(np.concatenate(lows)))
