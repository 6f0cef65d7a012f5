"""Benches: the settings of one block, made from the settings' own descriptions."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calor.design.edit import implied
from calor.design.model import BLOCK_KINDS, block_consequences
from calor.design.model import BLOCKS as ORDER
from calor.desk.bench.alarm_list import AlarmList
from calor.desk.bench.driver_list import DriverList
from calor.desk.bench.list_field import LISTS, ListField
from calor.desk.bench.pictures import PICTURES, BenchPicture
from calor.desk.bench.sections import field_of, keys_of, sections_of, value_of
from calor.desk.bench.trial_bench import TrialBench
from calor.desk.state.desk import Desk
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import ChoiceField, Field, KindBox, Segments, label
from calor.desk.widgets.numbers import NumberField, field_for
from calor.desk.widgets.words import BLOCKS, CAUTIONS
from calor.settings import kind_word

WIDTH_PX = 300
WIDEST_SEGMENTS = 48
"""Kinds with more letters and edges than this together are a list that opens, not words beside each other."""
LONGEST_SEGMENT = 14
"""So are kinds of which one has more letters than this."""


TUNED = ("gain_per_celsius", "closed_loop_s")
"""Settings of a law beside which tuning is offered."""


def _tune_link(desk: Desk) -> QPushButton:
    link = QPushButton("Tune…")
    link.setProperty("role", "link")
    link.setToolTip("Every tuning rule's gains side by side, each run on the trial.")
    link.clicked.connect(lambda: desk.view.choose_room("tune"))
    return link


class BlockForm(QWidget):
    """The form of one block of one kind."""

    def __init__(self, desk: Desk, block: str, kind: str) -> None:
        super().__init__()
        self._desk, self._block = desk, block
        self.fields: dict[str, Field] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.picture = BenchPicture(desk, block) if (block, kind) in PICTURES else None
        if self.picture is not None:
            column.addWidget(self.picture)
        self.list: ListField | None = None
        self.driver: DriverList | None = None
        what = LISTS.get((block, kind))
        sections = sections_of(desk.document.design, block)
        for number, (heading, part, keys) in enumerate(sections):
            if what is not None and number == (1 if what.fewest else len(sections) - 1):
                self.list = ListField(desk, block, what)
                column.addWidget(self.list)
            settings = desk.document.settings_of(part)
            if heading:
                column.addSpacing(8)
                column.addWidget(label(heading, "heading"))
            for key in keys or keys_of(type(settings)):
                field = field_for(key, field_of(settings, key))
                field.edited.connect(lambda value, part=part, key=key, field=field: self._edit(part, key, value, field))
                field.settled.connect(desk.document.end_merging)
                if isinstance(field, NumberField) and key in ("start_celsius", "stop_celsius"):
                    field.waits = True
                column.addWidget(field)
                self.fields[f"{part}.{key}"] = field
                if key in TUNED and part == "law":
                    field.put_beside(_tune_link(desk))
                if key == "driver.kind":
                    self.driver = DriverList(desk)
                    column.addWidget(self.driver)
        self.alarms = AlarmList(desk) if block == "law" else None
        if self.alarms is not None:
            column.addWidget(self.alarms)
        if block in CAUTIONS:
            column.addSpacing(8)
            caution = label(CAUTIONS[block], "quiet")
            caution.setWordWrap(True)
            column.addWidget(caution)
        self.show_model()

    def _edit(self, part: str, key: str, value: Any, field: Field) -> None:
        document = self._desk.document
        problem = document.set_values(part, implied(document.design, part, key, value), f"{part}.{key}")
        if problem is not None:
            if isinstance(field, ChoiceField):
                field.show_value(value_of(document.settings_of(part), key), self._desk.view.unit)
            field.reject(f"{problem.rule}.")

    def show_model(self) -> None:
        """Show the design as it is."""
        design, unit = self._desk.document.design, self._desk.view.unit
        lines = block_consequences(design, self._block, unit)
        if self.alarms is not None:
            self.alarms.show_model()
        for part_shown in (self.picture, self.list, self.driver):
            if part_shown is not None:
                part_shown.show_model()
        for place, field in self.fields.items():
            part, key = place.split(".", 1)
            field.show_value(value_of(self._desk.document.settings_of(part), key), unit)
            field.say(lines.get(key if part == self._block else place, ""))


class Bench(QFrame):
    """The bench of the chosen block, or of the trial."""

    rebuilt = pyqtSignal()

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("bench")
        self.setFixedWidth(WIDTH_PX)
        self._desk = desk
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
        self._wide.clicked.connect(lambda: desk.view.ask("Probe, opened wide"))
        head.addWidget(self._wide)
        self._tune = _tune_link(desk)
        head.addWidget(self._tune)
        self._code = QPushButton("Export the C…")
        self._code.setProperty("role", "link")
        self._code.clicked.connect(lambda: desk.view.ask("Export the C…"))
        self._code.setToolTip("Write the C99 sources of this thermostat into a folder.")
        head.addWidget(self._code)
        head.setContentsMargins(0, 0, 12, 0)
        outer.addLayout(head)
        self._kinds: dict[str, Segments | KindBox] = {}
        for block in ORDER:
            # your own code is begun in the Code room
            kinds = {kind: kind_word(model) for kind, model in BLOCK_KINDS[block].items() if kind != "code"}
            if len(kinds) > 1:
                longest = max(len(word) for word in kinds.values())
                many = sum(len(word) + 3 for word in kinds.values()) > WIDEST_SEGMENTS or longest > LONGEST_SEGMENT
                segments = (KindBox if many else Segments)(kinds, BLOCKS[block])
                segments.chosen.connect(lambda kind, block=block: self.choose_kind(block, kind))
                row = QHBoxLayout()
                row.setContentsMargins(0, 0, 12, 0)
                row.addWidget(segments)
                outer.addLayout(row)
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
        for signal in (desk.document.changed, desk.document.trial_chosen, desk.view.unit_changed):
            signal.connect(self.show_model)
        desk.view.bench_chosen.connect(self._open)
        desk.view.room_chosen.connect(lambda room: self._wide.setText("Close" if room == "probe" else "Open wide"))
        self.show_model()

    def tab_order(self) -> list[QWidget]:
        """What the Tab key reaches on this bench, from top to bottom."""
        segments = self._kinds.get(self._desk.view.bench)
        parts: list[QWidget] = [self._wide, self._tune, self._code, *(segments.buttons.values() if segments else ())]
        inside = self.form.findChildren(QWidget) if self.form is not None else []
        focusable = [widget for widget in inside if widget.focusPolicy() & Qt.FocusPolicy.TabFocus]
        return parts + [widget for widget in focusable if widget.window() is self.window()]

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours into what the form draws."""
        self._theme = theme
        picture = getattr(self.form, "picture", None)
        if picture is not None:
            picture.set_theme(theme)
            self.show_model()

    def choose_kind(self, block: str, kind: str) -> None:
        """Change a block's kind; a design that this would break is said and left alone."""
        problem = self._desk.document.set_kind(block, kind)
        if problem is not None:
            self._desk.say("error", str(problem))
            self.show_model()

    def _open(self, block: str, key: str) -> None:
        self.show_model()
        if key and isinstance(self.form, BlockForm) and key in self.form.fields:
            field = self.form.fields[key]
            self._scroll.ensureWidgetVisible(field)
            field.focus_editor()

    def show_model(self) -> None:
        """Show the chosen bench as the design has it."""
        block = self._desk.view.bench
        settings = getattr(self._desk.document.design, block, None)
        kind = getattr(settings, "kind", "")
        showing = (block, kind, sections_of(self._desk.document.design, block) if block != "trial" else ())
        if showing != self._showing:
            self._showing = showing
            old = self.form
            self.form = TrialBench(self._desk) if block == "trial" else BlockForm(self._desk, block, kind)
            if old is not None:
                # it stays where it is until it goes: taken out it would be styled once more
                old.hide()
                self._column.removeWidget(old)
                old.deleteLater()  # later: it may be one of its own fields that asks for another form
            self._column.insertWidget(0, self.form)
            self.set_theme(self._theme)
            self._title.setText(BLOCKS[block])
            self._code.setVisible(block == "law")
            # a law with gains has it beside them
            self._tune.setVisible(block == "law" and kind not in ("timer", "code", "manual", "pid", "predictive"))
            self._wide.setVisible(block == "probe")
            for name, segments in self._kinds.items():
                segments.setVisible(name == block)
            self.rebuilt.emit()
        elif self.form is not None:
            self.form.show_model()
        if block in self._kinds:
            self._kinds[block].show_choice(kind)
