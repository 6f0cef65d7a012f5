"""The probe's curves as its room shows them: over what range, and the latest that was worked out."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from calor.design.ranges import usual_range
from calor.desk.state.desk import Desk
from calor.desk.state.simulator import Request
from calor.sense.survey import Scope, Survey
from calor.sense.table import Number


class ProbeSurvey(QObject):
    """Has the probe worked out over a range whenever it changes, as long as its room is open."""

    changed = pyqtSignal()

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.latest: Survey | None = None
        self.is_open = False
        self._range: tuple[float, float] | None = None
        self._within_celsius = 0.1
        self._number: Number = "integer"
        desk.document.about_to_open.connect(self._forget)
        desk.document.changed.connect(self.ask)
        desk.view.unit_changed.connect(self.ask)
        desk.simulator.surveyed.connect(self._worked_out)

    def _forget(self) -> None:
        self.latest, self._range = None, None

    def set_open(self, is_open: bool) -> None:
        """The room is entered or left."""
        if is_open != self.is_open:
            self.is_open = is_open
            self.ask()

    def scope(self) -> Scope:
        """Over what the room looks at the probe."""
        design = self._desk.document.design
        low, high = self._range or usual_range(design)
        return Scope(design.setpoint.celsius, low, high, self._within_celsius, self._number, design.law.period_s)

    def set_scope(self, scope: Scope) -> str:
        """Look at the probe over another range; what is wrong with it, empty where nothing is."""
        low, high = scope.low_celsius, scope.high_celsius
        if not low < high:
            return f"Lowest must be below highest (received {low:g} and {high:g})."
        self._range, self._within_celsius, self._number = (low, high), scope.within_celsius, scope.number
        self.ask()
        return ""

    def ask(self) -> None:
        """Ask for the probe's curves, where its room is open."""
        if self.is_open:
            desk, document = self._desk, self._desk.document
            desk.simulator.request(Request(
                desk.runs.requests, "survey", document.design, document.trial, desk.view.unit, scope=self.scope(),
            ))  # fmt: skip

    def _worked_out(self, answer: tuple[Request, Survey]) -> None:
        request, self.latest = answer
        if request.unit == self._desk.view.unit:
            self.changed.emit()
