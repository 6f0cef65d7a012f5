"""Numbers: typed, stepped with arrow keys or wheel, or dragged by their label, in the desk's unit."""

from __future__ import annotations

import math
from typing import Any, get_args

from pydantic.fields import FieldInfo
from PyQt6.QtCore import QPoint, QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QLabel

from calor.desk.widgets.fields import ChoiceField, Entry, Field, NumbersField, TextField, label, set_role
from calor.scales import scale_of, shown_number
from calor.settings import bounds_of, quantity_of
from calor.units import TemperatureUnit, parse_duration

VALUE_PX = 72
DRAG_PX_PER_STEP = 3


def typed_number(text: str) -> float | None:
    """The number in what was typed, with or without its unit; None where there is none that is finite."""
    plain = text.replace(",", ".").replace("−", "-")
    for sign in ("°C", "°F", "K", "%"):
        plain = plain.replace(sign, "")
    try:
        value = float(plain)
    except ValueError:
        return None
    return value if math.isfinite(value) else None


class DragLabel(QLabel):
    """A label that changes its field's value when it is dragged sideways."""

    dragged = pyqtSignal(int)
    drag_ended = pyqtSignal()

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self._from: QPoint | None = None
        self._steps = 0

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        self._from, self._steps = event.globalPosition().toPoint(), 0

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._from is not None:
            steps = (event.globalPosition().toPoint().x() - self._from.x()) // DRAG_PX_PER_STEP
            if steps != self._steps:
                self.dragged.emit(steps - self._steps)
                self._steps = steps

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        del event
        self._from = None
        self.drag_ended.emit()


class NumberField(Field):
    """A number, typed, stepped with arrow keys or wheel, or dragged by its label."""

    def __init__(self, key: str, field: FieldInfo) -> None:
        super().__init__(key, field)
        self.quantity = quantity_of(field)
        self.optional = type(None) in get_args(field.annotation)
        self.low, self.high, self.open_low = bounds_of(field)
        self.name = DragLabel(self.title)
        self.entry = Entry()
        self.entry.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.entry.setFixedWidth(VALUE_PX)
        self.entry.setAccessibleName(self.title)
        self.unit_label = label("", "unit")
        self.grid.addWidget(self.name, 0, 0)
        self.grid.addWidget(self.entry, 0, 1)
        self.grid.addWidget(self.unit_label, 0, 2)
        self.entry.setToolTip(field.description or "")
        self.name.setToolTip(f"{field.description or ''} Drag sideways to change.")
        if self.optional:
            self.entry.setPlaceholderText("none")
        self._value: float | None = None
        self.waits = False
        """Whether a typed value counts only when the field is left, for one that must agree with another."""
        self._typed_last = self._rejected = False
        self._desk_value: float | None = None
        self._scale = scale_of(self.quantity, "°C")
        self.entry.textEdited.connect(self._typed)
        self.entry.stepped.connect(self._step)
        self.entry.left.connect(self._leave)
        self.entry.returnPressed.connect(self._leave)
        self.name.dragged.connect(self._step)
        self.name.drag_ended.connect(self.settled)

    def show_value(self, value: Any, unit: TemperatureUnit) -> None:
        self._scale = scale_of(self.quantity, unit)
        self.unit_label.setText(self._scale.unit)
        self._desk_value = value
        typing = self.entry.hasFocus() and self.entry.isModified()
        if typing and value == self._value:
            return
        self._value = value
        set_role(self.entry, "wrong", "false")
        self.complain("")
        if not typing or value != self._parsed_or_none():
            with QSignalBlocker(self.entry):
                self.entry.setText("" if value is None else shown_number(self._scale.show(float(value))))

    def _parsed_or_none(self) -> float | int | None:
        try:
            return self._parse(self.entry.text())
        except ValueError:
            return None

    def _parse(self, text: str) -> float | int | None:
        """The value typed, in the file's unit. Raises ValueError with what would do."""
        clean = text.strip().replace("−", "-").replace(" ", "").removesuffix(self._scale.unit)
        if not clean and self.optional:
            return None
        try:
            if self.quantity == "duration" and (":" in text or clean.endswith(("s", "h", "min"))):
                number = parse_duration(text)
            else:
                number = self._scale.read(float(clean.replace(",", ".")))
        except ValueError:
            raise ValueError(f"is not a number; {self._range()}") from None
        number = float(f"{number:.12g}")
        below = number <= self.low if self.open_low else number < self.low
        if not math.isfinite(number) or below or number > self.high:
            raise ValueError(self._range())
        if self.quantity in ("integer", "hertz", "cycles"):
            if number != int(number):
                raise ValueError(f"takes whole numbers, {self._range()}")
            return int(number)
        return number

    def _range(self) -> str:
        low, high = (shown_number(self._scale.show(bound)) for bound in (self.low, self.high))
        return f"takes {low} to {high} {self._scale.unit}".rstrip()

    def _typed(self, text: str) -> None:
        try:
            value = self._parse(text)
        except ValueError as error:
            set_role(self.entry, "wrong", "true")
            self.complain(f"{self.title} {error} (typed {text.strip()[:20]!r}).")
            return
        set_role(self.entry, "wrong", "false")
        self.complain("")
        self._value = value
        if self.waits:
            self._typed_last = True
        else:
            self.edited.emit(value)

    def _step(self, steps: int) -> None:
        """Change by some steps: about one part in a hundred each, in round numbers."""
        now = self._scale.show(float(self._value or 0.0))
        size = 10.0 ** math.floor(math.log10(max(abs(now), 1e-9)) - 1.0) if now else 0.1
        if self.quantity in ("temperature", "difference"):
            size = min(size, 0.1)
        if self.quantity in ("integer", "hertz", "cycles"):
            size = max(size, 1.0)
        wanted = self._scale.read(round(now / size + steps) * size)
        lowest = self.low if not self.open_low else max(self.low, 1e-9)
        value: float | int = float(f"{min(max(wanted, lowest), self.high):.10g}")
        if self.quantity in ("integer", "hertz", "cycles"):
            value = int(value)
        if value != self._value:
            self._value = value
            with QSignalBlocker(self.entry):
                self.entry.setText(shown_number(self._scale.show(float(value))))
                self.entry.setModified(False)
            set_role(self.entry, "wrong", "false")
            self.complain("")
            self.edited.emit(value)

    def _leave(self) -> None:
        self.entry.setModified(False)
        value = self._value
        self._rejected = False
        if self._typed_last:
            self._typed_last = False
            self.edited.emit(value)
            value = self._value
        with QSignalBlocker(self.entry):
            self.entry.setText("" if value is None else shown_number(self._scale.show(float(value))))
        set_role(self.entry, "wrong", "false")
        if not self._rejected:
            self.complain("")
        self.settled.emit()

    def reject(self, text: str) -> None:
        super().reject(text)
        self._rejected = True
        self._value = self._desk_value

    def focus_editor(self) -> None:
        self.entry.setFocus(Qt.FocusReason.ShortcutFocusReason)
        self.entry.selectAll()


def field_for(key: str, field: FieldInfo) -> Field:
    """The editor that fits a setting."""
    if quantity_of(field):
        return NumberField(key, field)
    if key in ("steinhart_hart", "points"):
        return NumbersField(key, field)
    if field.annotation is bool:
        return ChoiceField(key, field)
    choices = [choice for choice in get_args(field.annotation) if not isinstance(choice, type)]
    return ChoiceField(key, field) if choices else TextField(key, field)
