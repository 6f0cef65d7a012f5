"""The verdict: each limit with its figure, the pinned run's figure, pass or fail; under it the advice."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calor.desk.state.desk import Desk
from calor.desk.state.simulator import MOST_ADVISED_STEPS, decided_by_code
from calor.desk.widgets.fields import label, set_role
from calor.judge.card import Advice
from calor.judge.verdict import LIMIT_NAMES, LIMIT_TITLES, figure_of, figure_text
from calor.loop.trace import Trace
from calor.units import format_duration

WIDTH_PX = 252


class FigureRow(QWidget):
    """One figure: title and value in a line, limit and pinned value under them, a mark at the end."""

    def __init__(self, title: str) -> None:
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 3, 0, 2)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(0)
        grid.setColumnStretch(0, 1)
        self.value, self.mark, self.below = label(""), label(""), label("", "quiet")
        self.mark.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.mark.setFixedWidth(50)
        grid.addWidget(label(title), 0, 0)
        grid.addWidget(self.value, 0, 1)
        grid.addWidget(self.mark, 0, 2)
        grid.addWidget(self.below, 1, 0, 1, 3)
        line = QFrame()
        line.setObjectName("line")
        line.setFixedHeight(1)
        grid.addWidget(line, 2, 0, 1, 3)

    def show_figure(self, value: str, below: str, passes: bool | None) -> None:
        """Show a figure; `passes` is None where no limit is set."""
        self.value.setText(value)
        self.below.setText(below)
        self.mark.setText("" if passes is None else "✓ pass" if passes else "✕ fail")
        set_role(self.mark, "role", "" if passes is None else "passed" if passes else "failed")
        set_role(self.value, "role", "failed" if passes is False else "")


class AdviceCard(QFrame):
    """What is seen, why, what to try."""

    def __init__(self, desk: Desk, advice: Advice) -> None:
        super().__init__()
        self.setObjectName("card")
        self.setProperty("weight", advice.weight)
        self._desk, self.advice = desk, advice
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 7, 8, 7)
        column.setSpacing(3)
        self._why = label(advice.why, "quiet")
        self._why.hide()
        for widget in (label(advice.title, "heading"), label(advice.text), self._why):
            widget.setWordWrap(True)
            column.addWidget(widget)
        row = QHBoxLayout()
        row.setSpacing(10)
        self.try_button, self.keep_button, self.drop_button, self.why_button = (
            QPushButton(text) for text in (advice.try_label or "Try", "Keep", "Drop", "Why")
        )
        for button, action in (
            (self.try_button, self._try), (self.keep_button, desk.runs.keep_tried),
            (self.drop_button, desk.runs.drop_tried), (self.why_button, self._toggle_why),
        ):  # fmt: skip
            button.setProperty("role", "link")
            button.clicked.connect(action)
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        desk.runs.tried_changed.connect(self._show_state)
        self._show_state()

    def _try(self) -> None:
        if self.advice.proposal is not None:
            self._desk.runs.try_out(self.advice.proposal)
            self._show_state()

    def _toggle_why(self) -> None:
        self._why.setVisible(not self._why.isVisible())

    def _show_state(self) -> None:
        trying = self.advice.proposal is not None and self._desk.runs.proposal is self.advice.proposal
        self.try_button.setVisible(self.advice.proposal is not None and not trying)
        self.keep_button.setVisible(trying)
        self.drop_button.setVisible(trying)


class VerdictPanel(QFrame):
    """The right side of the window."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("verdict")
        self.setFixedWidth(WIDTH_PX)
        self._desk = desk
        outer = QVBoxLayout(self)
        outer.setContentsMargins(14, 10, 0, 8)
        outer.setSpacing(4)
        head = QHBoxLayout()
        head.setContentsMargins(0, 0, 14, 0)
        head.addWidget(label("Verdict", "heading"))
        head.addStretch(1)
        self.summary = label("")
        head.addWidget(self.summary)
        outer.addLayout(head)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        inside = QWidget()
        inside.setObjectName("form")
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 14, 0)
        column.setSpacing(0)
        self.rows = {name: FigureRow(LIMIT_TITLES[name]) for name in LIMIT_NAMES}
        self.others = {"in_band_fraction": FigureRow("In band"), "rise_time_s": FigureRow("Rise, 10 to 90 %")}
        for row in (*self.rows.values(), *self.others.values()):
            column.addWidget(row)
        self.unjudged = label("No limits are set, so nothing is judged. Set them on the Setpoint bench.", "quiet")
        self.unjudged.setWordWrap(True)
        column.addWidget(self.unjudged)
        column.addSpacing(10)
        self._cards = QVBoxLayout()
        self._cards.setSpacing(8)
        column.addLayout(self._cards)
        self.quiet = label("", "quiet")
        self.quiet.setWordWrap(True)
        column.addWidget(self.quiet)
        column.addStretch(1)
        inside.setMinimumWidth(0)
        scroll.setWidget(inside)
        outer.addWidget(scroll, 1)
        for signal in (desk.runs.changed, desk.runs.pinned_changed, desk.runs.tried_changed, desk.view.unit_changed):
            signal.connect(self.show_model)
        desk.runs.failed.connect(self.show_model)
        desk.document.opened.connect(self.show_model)
        desk.runs.advice_changed.connect(self._show_advice)
        desk.runs.recorded_changed.connect(self._show_advice)
        desk.runs.changed.connect(self._show_advice)
        self._shown_cards: list[Any] = []
        for widget in (*self.rows.values(), *self.others.values(), self.unjudged, self.quiet):
            widget.hide()  # until there is a run to judge

    @property
    def cards(self) -> list[AdviceCard]:
        """The advice cards on show."""
        return [card for card in self._shown_cards if isinstance(card, AdviceCard)]

    def show_model(self) -> None:
        """Show the current run's figures, or the tried one's beside them."""
        result, unit = self._desk.runs.current, self._desk.view.unit
        if result is None:
            for widget in (*self.rows.values(), *self.others.values(), self.unjudged, self.quiet):
                widget.hide()
            self.summary.setText("")
            return
        verdict = result.verdict
        judged = {item.name: item for item in verdict.limits}
        pinned = self._desk.runs.pinned[1].verdict if self._desk.runs.pinned else None
        ghost = self._desk.runs.tried.verdict if self._desk.runs.tried else None
        for name, row in self.rows.items():
            value = figure_of(verdict.metrics, name)
            item = judged.get(name)
            row.setVisible(item is not None or (name in ("energy_wh", "mean_error_celsius") and value is not None))
            below = [f"limit {figure_text(name, item.limit, unit)}"] if item is not None else []
            if ghost is not None:
                below = [f"tried {figure_text(name, figure_of(ghost.metrics, name), unit)}", *below]
            if pinned is not None:
                below.append(f"pinned {figure_text(name, figure_of(pinned.metrics, name), unit)}")
            shown = verdict.metrics.mean_error_celsius if name == "mean_error_celsius" else value  # with its sign
            row.show_figure(figure_text(name, shown, unit), " · ".join(below), item.passes if item else None)
            row.below.setVisible(bool(below))
        share, rise = verdict.metrics.in_band_fraction, verdict.metrics.rise_time_s
        self.others["in_band_fraction"].show_figure("–" if share is None else f"{share * 100.0:.1f} %", "", None)
        self.others["rise_time_s"].show_figure("–" if rise is None else format_duration(rise), "", None)
        for row in self.others.values():
            row.below.hide()
            row.show()
        failed = sum(not item.passes for item in verdict.limits)
        self.unjudged.setVisible(not verdict.limits)
        text = "" if not verdict.limits else "passes" if not failed else f"fails {failed} of {len(verdict.limits)}"
        self.summary.setText(text)
        set_role(self.summary, "role", "passed" if not failed else "failed")

    def _show_advice(self) -> None:
        wanted: list[Any] = list(self._desk.runs.advice)
        comparison = self._desk.runs.current.comparison if self._desk.runs.current is not None else {}
        if self._desk.runs.recorded is not None:
            wanted = [(self._desk.runs.recorded, comparison), *wanted]
        now = [card.advice if isinstance(card, AdviceCard) else card.property("of") for card in self._shown_cards]
        result = self._desk.runs.current
        self.quiet.setVisible(not wanted and result is not None and self._desk.runs.advised)
        if result is not None and result.trace.steps > MOST_ADVISED_STEPS:
            self.quiet.setText("No advice for runs this long: advice simulates a run several times.")
        elif result is not None and decided_by_code(result):
            self.quiet.setText("There is advice on the built-in law only; here code is under test.")
        else:
            self.quiet.setText("Nothing to advise on this run.")
        if now == wanted:
            return
        for card in self._shown_cards:
            self._cards.removeWidget(card)
            card.setParent(None)
            card.deleteLater()
        self._shown_cards = []
        for item in wanted:
            card = AdviceCard(self._desk, item) if isinstance(item, Advice) else self._log_card(*item)
            self._shown_cards.append(card)
            self._cards.addWidget(card)

    def _log_card(self, recorded: Trace, comparison: dict[str, Any]) -> QFrame:
        card = QFrame()
        card.setObjectName("card")
        card.setProperty("weight", "note")
        card.setProperty("of", (recorded, comparison))
        column = QVBoxLayout(card)
        column.setContentsMargins(10, 7, 8, 7)
        column.setSpacing(3)
        lines = [f"{recorded.steps:,} rows over {format_duration(recorded.span_s)}.".replace(",", " ")]
        share = comparison.get("agreement_fraction")
        if share is not None:
            was, would = comparison["recorded"], comparison["replayed"]
            lines.append(
                f"On its readings this law gives the recorded output for {share * 100.0:.0f} % of the time:"
                f" {would['switchings_per_hour']:.0f} switchings an hour, {was['switchings_per_hour']:.0f} recorded."
            )
        elif comparison:
            lines.append("It has no column of outputs to compare with.")
        for widget in (label(f"Log: {recorded.name}", "heading"), *(label(line) for line in lines)):
            widget.setWordWrap(True)
            column.addWidget(widget)
        remove = QPushButton("Remove the log")
        remove.setProperty("role", "link")
        remove.clicked.connect(lambda: self._desk.runs.set_recorded(None))
        column.addWidget(remove, 0, Qt.AlignmentFlag.AlignLeft)
        return card
