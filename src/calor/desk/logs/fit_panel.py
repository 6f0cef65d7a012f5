"""The fit: what is asked, the answer in two lines, its intervals, what is not told, and what is done with it."""

from __future__ import annotations

import contextlib
from typing import Any

from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from calor.desk.logs.shelf import OWN, Opened, Shelf
from calor.desk.logs.whiskers import Whiskers
from calor.desk.state.desk import Desk
from calor.desk.widgets.fields import label, set_role
from calor.desk.widgets.keys import timer
from calor.identify import told
from calor.identify.fit import ORDER_WORDS
from calor.identify.outcome import Fit
from calor.identify.report import fit_keys
from calor.units import celsius_to, difference_to, format_duration, to_celsius

ORDERS = (("auto", "Recommend one"), ("integrating", "Integrating"), ("1", "First order"), ("2", "Second order"))
AMBIENTS = (("auto", "recognised"), ("start", "from the start"), ("fit", "fitted"), ("given", "given"))
SHOW_BUSY_AFTER_S = 0.2
KEY_PX = 106
SAID_ALREADY = ("the model does not explain", "the residual follows itself")


class FitPanel(QWidget):
    """Asks for a fit and shows it."""

    use_asked, trial_asked, overlay_asked = pyqtSignal(), pyqtSignal(), pyqtSignal()

    def __init__(self, desk: Desk, shelf: Shelf) -> None:
        super().__init__()
        self._desk, self._shelf = desk, shelf
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(label("A load from it", "heading"))
        form = QGridLayout()
        form.setHorizontalSpacing(6)
        form.setVerticalSpacing(3)
        self.order, self.ambient = QComboBox(), QComboBox()
        self.ambient_value, self.probe_lag = QLineEdit(), QLineEdit()
        for word, text in ORDERS:
            self.order.addItem(text, word)
        self.order.addItem("The design's own load", OWN)
        for word, text in AMBIENTS:
            self.ambient.addItem(text, word)
        for box in (self.order, self.ambient):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.order.setMinimumContentsLength(18)
        self.ambient.setMinimumContentsLength(11)
        self.ambient_value.setFixedWidth(58)
        self.probe_lag.setFixedWidth(58)
        self.probe_lag.setToolTip("Time constant of the probe, s; it would be taken for dead time otherwise.")
        asked: tuple[tuple[str, tuple[QWidget, ...]], ...] = (
            ("Model", (self.order,)), ("Ambient", (self.ambient, self.ambient_value)),
        )  # fmt: skip
        for row, (text, widgets) in enumerate(asked):
            form.addWidget(label(text, "quiet"), row, 0)
            line = QHBoxLayout()
            line.setSpacing(6)
            for widget in widgets:
                widget.setAccessibleName(text)
                line.addWidget(widget)
            line.addStretch(1)
            form.addLayout(line, row, 1)
        form.setColumnStretch(1, 1)
        column.addLayout(form)
        self.keys = QWidget()
        self._keys_grid = QGridLayout(self.keys)
        self._keys_grid.setContentsMargins(0, 0, 0, 0)
        self._keys_grid.setVerticalSpacing(0)
        column.addWidget(self.keys)
        self.boxes: dict[str, QCheckBox] = {}
        self.together = QCheckBox()
        self.together.setToolTip("Fit one load to both records.")
        self.together.clicked.connect(lambda on: shelf.want(together=on))
        column.addWidget(self.together)
        act = QHBoxLayout()
        self.fit_button, self.stop_button = QPushButton("Fit"), QPushButton("Stop")
        self.fit_button.setProperty("role", "main")
        self.fit_button.clicked.connect(shelf.fit)
        self.stop_button.clicked.connect(shelf.stop)
        self.left_out = QPushButton()
        self.left_out.setProperty("role", "link")
        self.left_out.clicked.connect(shelf.take_in_again)
        self.probe_lag.setAccessibleName("Probe lag, s")
        for widget in (
            self.fit_button,
            self.stop_button,
            label("Probe lag, s", "quiet"),
            self.probe_lag,
            self.left_out,
        ):
            act.addWidget(widget)
        act.addStretch(1)
        column.addLayout(act)
        self.bar = QProgressBar()
        self.bar.setRange(0, 100)
        self.bar.setTextVisible(False)
        column.addWidget(self.bar)
        self.answer, self.only, self.residual = label("", "heading"), label(""), label("", "quiet")
        self.problem = label("", "problem")
        self.whiskers = Whiskers()
        self.suspect = QPushButton()
        self.suspect.setProperty("role", "link")
        self.suspect.clicked.connect(self._leave_suspect_out)
        self.notes = label("", "quiet")
        for text_label in (self.answer, self.only, self.residual, self.notes, self.problem):
            text_label.setWordWrap(True)
        every: tuple[QWidget, ...] = (
            self.answer, self.whiskers, self.only, self.residual, self.notes, self.suspect, self.problem,
        )  # fmt: skip
        for result in every:
            column.addWidget(result)
        done = QHBoxLayout()
        done.setSpacing(8)
        self.use, self.trial, self.overlay = (
            QPushButton(text) for text in ("Use this load", "As a trial", "Beside its law")
        )
        self.use.setToolTip("Put the fitted load into the design; Ctrl+Z takes it back.")
        self.trial.setToolTip("Add the record's conditions as a trial: what was switched is given to the load.")
        self.overlay.setToolTip(
            "Use the load, and run the design's law from the record's start, with the record over it."
        )
        for button, signal in (
            (self.use, self.use_asked), (self.trial, self.trial_asked), (self.overlay, self.overlay_asked),
        ):  # fmt: skip
            button.setProperty("role", "link")
            button.clicked.connect(signal)
            done.addWidget(button)
        done.addStretch(1)
        column.addLayout(done)
        column.addStretch(1)
        self._results = (self.answer, self.whiskers, self.only, self.residual, self.notes)
        self._busy = timer(self, 100, self._show_busy)
        self.order.activated.connect(lambda _: self._asked())
        self.ambient.activated.connect(lambda _: self._asked())
        self.ambient_value.editingFinished.connect(self._asked)
        self.probe_lag.editingFinished.connect(self._asked)
        for signal in (
            shelf.changed,
            shelf.fitted,
            shelf.compared_changed,
            desk.view.unit_changed,
            desk.document.changed,
        ):
            signal.connect(self.show_model)
        shelf.worker.changed.connect(self._worker_changed)
        self.show_model()

    # ---- what is asked

    def _asked(self) -> None:
        """Take over what is asked; a number that is none is said beside it."""
        order, source = str(self.order.currentData()), str(self.ambient.currentData())
        ambient: str | float = source
        if source == "given":
            value = self._number(self.ambient_value, -273.15, 4000.0)
            if value is None:
                self.show_model()
                return
            ambient = float(to_celsius(self._desk.view.unit, value))
        lag = None
        if self.probe_lag.text().strip():
            lag = self._number(self.probe_lag, 0.0, 1e5)
        if order != self._shelf.wanted.order:
            self._shelf.want(free=())
        self._shelf.want(order=order, ambient=ambient, probe_lag_s=lag)
        self.show_model()

    def _number(self, line: QLineEdit, low: float, high: float) -> float | None:
        with contextlib.suppress(ValueError):
            value = float(line.text().strip().replace(",", ".").replace("−", "-"))
            if low <= value <= high:
                set_role(line, "wrong", "false")
                return value
        set_role(line, "wrong", "true")
        return None

    def _key_toggled(self) -> None:
        free = tuple(key for key, box in self.boxes.items() if box.isChecked())
        self._shelf.want(free=free)
        self.fit_button.setEnabled(bool(free))

    # ---- what is shown

    def show_model(self) -> None:
        """Show what is asked of the fit, and the fit there is."""
        item = self._shelf.chosen
        if item is None:
            return
        wanted, unit = self._shelf.wanted, self._desk.view.unit
        given = isinstance(wanted.ambient, float | int) or self.ambient.currentData() == "given"
        with QSignalBlocker(self.order), QSignalBlocker(self.ambient):
            self.order.setCurrentIndex(self.order.findData(wanted.order))
            if isinstance(wanted.ambient, float | int):
                self.ambient.setCurrentIndex(self.ambient.findData("given"))
                if not self.ambient_value.hasFocus():
                    self.ambient_value.setText(f"{celsius_to(unit, float(wanted.ambient)):.5g}")
        self.ambient_value.setVisible(given)
        self.ambient_value.setPlaceholderText(unit)
        own_lag = getattr(self._desk.document.design.probe, "time_constant_s", 0.0)
        self.probe_lag.setPlaceholderText(f"{own_lag:g}" if wanted.order == OWN else "0")
        self._show_keys(wanted.order == OWN, wanted.free or self._shelf.default_keys())
        other = self._shelf.other
        self.together.setVisible(other is not None)
        self.together.setText("" if other is None else f"Together with {other.record.name}")
        self.together.setChecked(wanted.together)
        self.left_out.setVisible(bool(item.left_out))
        self.left_out.setText(f"Take {len(item.left_out)} in again")
        self.left_out.setToolTip("What is left out of the fit is taken in again.")
        self._show_fit(item)
        self._show_busy()

    def _show_keys(self, own: bool, free: tuple[str, ...]) -> None:
        self.keys.setVisible(own)
        keys = fit_keys(self._desk.document.design.load) if own else ()
        if tuple(self.boxes) != tuple(key for key, _ in keys):
            for box in self.boxes.values():
                box.hide()
                box.deleteLater()
            self.boxes = {}
            for number, (key, title) in enumerate(keys):
                metrics = self.keys.fontMetrics()
                box = QCheckBox(metrics.elidedText(title, Qt.TextElideMode.ElideRight, KEY_PX))
                box.setToolTip(f"{title} (load.{key}): free where it is marked.")
                box.clicked.connect(self._key_toggled)
                self._keys_grid.addWidget(box, number // 2, number % 2)
                self.boxes[key] = box
        for key, box in self.boxes.items():
            with QSignalBlocker(box):
                box.setChecked(key in free)

    def _show_fit(self, item: Opened) -> None:
        fit = item.fit
        for widget in (*self._results, self.use, self.trial, self.overlay):
            widget.setVisible(fit is not None)
        self.suspect.setVisible(fit is not None and fit.suspect is not None)
        self.problem.setVisible(bool(item.fit_problem))
        self.problem.setText(item.fit_problem)
        if fit is None:
            return
        self.answer.setText(answer_of(fit))
        self.whiskers.show_numbers(fit.numbers, titles_of(fit))
        self.only.setText(told_of(fit))
        set_role(self.only, "role", "problem" if fit.only else "quiet")
        self.residual.setText(self._residual_of(fit))
        notes = [note for note in fit.warnings if "--leave-out" not in note and not note.startswith(SAID_ALREADY)]
        self.notes.setText("\n".join(f"{note[0].upper()}{note[1:]}." for note in notes))
        self.notes.setVisible(bool(notes))
        if fit.suspect is not None:
            _, begin_s, end_s = fit.suspect
            self.suspect.setText(f"Leave {format_duration(begin_s)} to {format_duration(end_s)} out")
            self.suspect.setToolTip("Something happened there that the model does not know: a door, a lid, a test.")
        self.use.setEnabled(fit.explains)
        self.overlay.setEnabled(fit.explains)

    def _residual_of(self, fit: Fit) -> str:
        unit = self._desk.view.unit
        rms, most = (difference_to(unit, value) for value in (fit.residual_rms_celsius, fit.largest_celsius))
        said = (
            f"Residual {rms:.3g} {unit} rms, {told.correlation_in_words(fit.residual_autocorrelation)}; most"
            f" {most:+.2g} {unit} at {format_duration(fit.largest_at_s)}."
        ).replace("-", "−")
        if fit.kept_back_rms_celsius is not None:
            said += (
                f" The last part is predicted within {difference_to(unit, fit.kept_back_rms_celsius):.3g} {unit} rms."
            )
        return said

    def _leave_suspect_out(self) -> None:
        item = self._shelf.chosen
        if item is not None and item.fit is not None and item.fit.suspect is not None:
            self._shelf.leave_out(*item.fit.suspect[1:])

    # ---- at work

    def _worker_changed(self) -> None:
        self._busy.start()
        self._show_busy()

    def _show_busy(self) -> None:
        progress = self._shelf.worker.progress()
        fitting = progress is not None and progress[0] == "fit"
        shown = fitting and progress is not None and progress[1] > SHOW_BUSY_AFTER_S
        self.bar.setVisible(shown)
        self.stop_button.setVisible(shown)
        self.fit_button.setVisible(not shown)
        if shown and progress is not None:
            self.bar.setValue(round(100.0 * progress[2]))
        if progress is None:
            self._busy.stop()

    def set_theme(self, theme: Any) -> None:
        """Take a theme's colours."""
        self.whiskers.theme = theme
        self.whiskers.update()

    def tab_order(self) -> list[QWidget]:
        """What the Tab key reaches."""
        return [
            self.order, self.ambient, self.ambient_value, self.probe_lag, *self.boxes.values(), self.together,
            self.fit_button, self.stop_button, self.left_out, self.suspect, self.use, self.trial, self.overlay,
        ]  # fmt: skip


def told_of(fit: Fit) -> str:
    """What the record tells and what it does not, in a sentence."""
    if not fit.explains:
        return "Nothing is told: the model does not explain this record, and its numbers mean little."
    said = fit.only
    for key, title in titles_of(fit).items():
        said = said.replace(key, title.lower())
    return f"Told: {said}." if said else "Every number that was free is told."


def titles_of(fit: Fit) -> dict[str, str]:
    """What each number is called, by its key."""
    fields = type(fit.load).model_fields  # type: ignore[attr-defined]
    return {key: field.title or key for key, field in fields.items()}


def answer_of(fit: Fit) -> str:
    """A fit in a line or two."""
    if fit.why:
        return f"{fit.why[0].upper()}{fit.why[1:]}."
    kind = ORDER_WORDS.get(fit.order, str(fit.load.kind).replace("_", " "))
    ambient = f", ambient {fit.load.ambient_celsius:.4g} °C, {fit.ambient_words}" if kind != "integrating" else ""
    return f"{kind.capitalize()}{ambient}."
