"""Benches: the settings of one block, made from the settings' own descriptions."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calor.design.model import BLOCK_KINDS, block_consequences, working_range
from calor.design.model import BLOCKS as ORDER
from calor.desk.bench.alarm_list import AlarmList
from calor.desk.bench.driver_list import DriverList
from calor.desk.bench.list_field import LISTS, ListField
from calor.desk.bench.pictures import PICTURES, BenchPicture
from calor.desk.bench.sections import BY_HAND, field_of, keys_of, part_of_kind, sections_of, value_of
from calor.desk.bench.trial_bench import TrialBench
from calor.desk.state.model import Model
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import ChoiceField, Field, KindBox, Segments, label
from calor.desk.widgets.numbers import NumberField, field_for
from calor.desk.widgets.words import BLOCKS, CAUTIONS, word
from calor.law import stages
from calor.sense import thermistor
from calor.sense.knob import Knob

WIDTH_PX = 300
WIDEST_SEGMENTS = 48
"""Kinds with more letters and edges than this together are a list that opens, not words beside each other."""
CHIP_CELSIUS_PER_CODE = 0.25


class BlockForm(QWidget):
    """The form of one block of one kind."""

    def __init__(self, model: Model, block: str, kind: str) -> None:
        super().__init__()
        self._model, self._block = model, block
        self.fields: dict[str, Field] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.picture = BenchPicture(model, block) if (block, kind) in PICTURES else None
        if self.picture is not None:
            column.addWidget(self.picture)
        self.list: ListField | None = None
        self.driver: DriverList | None = None
        what = LISTS.get((block, kind))
        sections = sections_of(model.design, block)
        for number, (heading, part, keys) in enumerate(sections):
            if what is not None and number == (1 if what.fewest else len(sections) - 1):
                self.list = ListField(model, block, what)
                column.addWidget(self.list)
            settings = model.settings_of(part)
            if heading:
                column.addSpacing(8)
                column.addWidget(label(heading, "heading"))
            for key in keys or keys_of(type(settings)):
                field = field_for(key, field_of(settings, key))
                field.edited.connect(lambda value, part=part, key=key, field=field: self._edit(part, key, value, field))
                field.settled.connect(model.end_merging)
                if isinstance(field, NumberField) and key in ("start_celsius", "stop_celsius"):
                    field.waits = True
                column.addWidget(field)
                self.fields[f"{part}.{key}"] = field
                if key == "driver.kind":
                    self.driver = DriverList(model)
                    column.addWidget(self.driver)
        self.alarms = AlarmList(model) if block == "law" else None
        if self.alarms is not None:
            column.addWidget(self.alarms)
        if block in CAUTIONS:
            column.addSpacing(8)
            caution = label(CAUTIONS[block], "quiet")
            caution.setWordWrap(True)
            column.addWidget(caution)
        self.show_model()

    def _edit(self, part: str, key: str, value: Any, field: Field) -> None:
        values = {key: value}
        if part == "law" and key == "hysteresis_celsius" and value is not None:
            values |= {"start_celsius": None, "stop_celsius": None}
        if part == "law" and key in ("start_celsius", "stop_celsius"):
            values |= self._pair(key, value)
        law: Any = self._model.design.law
        if part == "law" and key == "action" and getattr(law, "start_celsius", None) is not None:
            values |= {"start_celsius": law.stop_celsius, "stop_celsius": law.start_celsius}  # the pair turns round
        if part == "probe":
            values = self._probe_values(key, value)
        if part == "law" and key == "action" and law.kind == "stages":
            values |= {"stages": stages.turned(law)}
        if part == "design" and key.endswith(".kind"):
            name = key.split(".", maxsplit=1)[0]
            values = {name: part_of_kind(name, str(value))}
        if part == "design" and key.endswith(".used"):
            values = self._hand_values(key.split(".", maxsplit=1)[0], bool(value))
        problem = self._model.set_values(part, values, f"{part}.{key}")
        if problem is not None:
            if isinstance(field, ChoiceField):
                field.show_value(value_of(self._model.settings_of(part), key), self._model.unit)
            field.reject(f"{problem.rule}.")

    def _hand_values(self, part: str, used: bool) -> dict[str, Any]:
        """A knob over the setpoint's limits, or a button, or none."""
        if part == "button" or not used:
            return {part: BY_HAND[part]() if used else None}
        low, high = working_range(self._model.design)
        return {part: Knob(low_celsius=float(f"{low:.4g}"), high_celsius=float(f"{high:.4g}"))}

    def _probe_values(self, key: str, value: Any) -> dict[str, Any]:
        """The settings behind a choice of the probe's bench."""
        probe: Any = self._model.design.probe
        if key == "filter.kind":
            return {"filter": {"kind": value}}
        if key == "curve":
            return thermistor.rewritten(probe, str(value))
        if key == "read_by":
            return {"converter_celsius_per_code": CHIP_CELSIUS_PER_CODE if value == "chip" else None}
        return {key: value}

    def _pair(self, key: str, value: float | None) -> dict[str, Any]:
        """Start and stop go together, and without a hysteresis: the other one is made where it is missing."""
        law: Any = self._model.design.law
        other = "stop_celsius" if key == "start_celsius" else "start_celsius"
        if value is None:
            return {other: None}
        values: dict[str, Any] = {"hysteresis_celsius": None}
        if getattr(law, other) is None:
            side = 1.0 if (law.action == "heat") == (other == "stop_celsius") else -1.0
            values[other] = value + side * (law.hysteresis_celsius or 1.0)
        return values

    def show_model(self) -> None:
        """Show the design as it is."""
        design, unit = self._model.design, self._model.unit
        lines = block_consequences(design, self._block, unit)
        if self.alarms is not None:
            self.alarms.show_model()
        for part_shown in (self.picture, self.list, self.driver):
            if part_shown is not None:
                part_shown.show_model()
        for place, field in self.fields.items():
            part, key = place.split(".", 1)
            field.show_value(value_of(self._model.settings_of(part), key), unit)
            field.say(lines.get(key if part == self._block else place, ""))


class Bench(QFrame):
    """The bench of the chosen block, or of the trial."""

    rebuilt = pyqtSignal()

    def __init__(self, model: Model) -> None:
        super().__init__()
        self.setObjectName("bench")
        self.setFixedWidth(WIDTH_PX)
        self._model = model
        self._theme = look.LIGHT
        self.form: BlockForm | TrialBench | None = None
        self._showing: tuple[Any, ...] = ()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(16, 10, 1, 8)
        outer.setSpacing(8)
        head = QHBoxLayout()
        self._title = label("", "heading")
        head.addWidget(self._title)
        head.addStretch(1)
        self._wide = QPushButton("Open wide")
        self._wide.setProperty("role", "link")
        self._wide.setToolTip("Curves, error budget, calibration, table and filter of the probe (Ctrl+B).")
        self._wide.clicked.connect(lambda: model.set_wide(not model.wide))
        head.addWidget(self._wide)
        self._code = QPushButton("Save its C…")
        self._code.setProperty("role", "link")
        self._code.setToolTip("Write the C99 sources of this thermostat into a folder.")
        head.addWidget(self._code)
        head.setContentsMargins(0, 0, 12, 0)
        outer.addLayout(head)
        self._kinds: dict[str, Segments | KindBox] = {}
        for block in ORDER:
            # a law of one's own is begun in the Code room
            kinds = [kind for kind in BLOCK_KINDS[block] if kind != "code"]
            if len(kinds) > 1:
                many = sum(len(word(kind)) + 3 for kind in kinds) > WIDEST_SEGMENTS
                segments = (KindBox if many else Segments)(kinds, BLOCKS[block])
                segments.chosen.connect(lambda kind, block=block: self.choose_kind(block, kind))
                holder = QHBoxLayout()
                holder.setContentsMargins(0, 0, 12, 0)
                holder.addWidget(segments)
                outer.addLayout(holder)
                segments.hide()
                self._kinds[block] = segments
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setFrameShape(QFrame.Shape.NoFrame)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        holder = QWidget()
        holder.setObjectName("form")
        self._column = QVBoxLayout(holder)
        self._column.setContentsMargins(0, 0, 12, 0)
        self._column.addStretch(1)
        self._scroll.setWidget(holder)
        outer.addWidget(self._scroll, 1)
        model.design_changed.connect(self.show_model)
        model.bench_chosen.connect(self._open)
        model.wide_changed.connect(lambda wide: self._wide.setText("Close" if wide else "Open wide"))
        self.show_model()

    @property
    def save_code(self) -> QPushButton:
        """The button that writes the C."""
        return self._code

    def tab_order(self) -> list[QWidget]:
        """What the Tab key reaches on this bench, from top to bottom."""
        segments = self._kinds.get(self._model.bench)
        parts: list[QWidget] = [self._wide, self._code, *(segments.buttons.values() if segments else ())]
        inside = self.form.findChildren(QWidget) if self.form is not None else []
        own = [widget for widget in inside if widget.focusPolicy() & Qt.FocusPolicy.TabFocus]
        return parts + [widget for widget in own if widget.window() is self.window()]

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours into what the form draws."""
        self._theme = theme
        picture = getattr(self.form, "picture", None)
        if picture is not None:
            picture.set_theme(theme)
            self.show_model()

    def choose_kind(self, block: str, kind: str) -> None:
        """Change a block's kind; a design that this would break is said and left alone."""
        problem = self._model.set_kind(block, kind)
        if problem is not None:
            self._model.noticed.emit("error", str(problem))
            self.show_model()

    def _open(self, block: str, key: str) -> None:
        self.show_model()
        if key and isinstance(self.form, BlockForm) and key in self.form.fields:
            field = self.form.fields[key]
            self._scroll.ensureWidgetVisible(field)
            field.focus_editor()

    def show_model(self) -> None:
        """Show the chosen bench as the design has it."""
        block = self._model.bench
        settings = getattr(self._model.design, block, None)
        kind = getattr(settings, "kind", "")
        showing = (block, kind, sections_of(self._model.design, block) if block != "trial" else ())
        if showing != self._showing:
            self._showing = showing
            old = self.form
            self.form = TrialBench(self._model) if block == "trial" else BlockForm(self._model, block, kind)
            if old is not None:
                # it stays where it is until it goes: taken out it would be styled once more
                old.hide()
                self._column.removeWidget(old)
                old.deleteLater()  # later: it may be one of its own fields that asks for another form
            self._column.insertWidget(0, self.form)
            self.set_theme(self._theme)
            self._title.setText(BLOCKS[block])
            self._code.setVisible(block == "law")
            self._wide.setVisible(block == "probe")
            for name, segments in self._kinds.items():
                segments.setVisible(name == block)
            self.rebuilt.emit()
        elif self.form is not None:
            self.form.show_model()
        if block in self._kinds:
            self._kinds[block].show_choice(kind)
