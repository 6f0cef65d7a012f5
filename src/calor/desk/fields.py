"""Fields of a form: a number with its unit, a choice of words, text. They show the model and hold nothing."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, get_args

from pydantic.fields import FieldInfo
from PyQt6.QtCore import QEvent, QPoint, QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QWheelEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QWidget,
)

from calor.desk.words import word
from calor.settings import QUANTITY_UNIT, bounds_of, quantity_of
from calor.units import TemperatureUnit, celsius_to, difference_to, parse_duration, to_celsius

LABEL_PX, VALUE_PX = 128, 76
DRAG_PX_PER_STEP = 3


def label(text: str, role: str = "") -> QLabel:
    """A label in one of the roles of the style sheet."""
    made = QLabel(text)
    made.setProperty("role", role)
    return made


def set_role(widget: QWidget, name: str, value: str) -> None:
    """Change a property the style sheet looks at."""
    if widget.property(name) != value:
        widget.setProperty(name, value)
        style = widget.style()
        if style is not None:
            style.unpolish(widget)
            style.polish(widget)


@dataclass(frozen=True)
class Scale:
    """How a setting's number is shown: its unit, and conversion there and back."""

    unit: str
    show: Callable[[float], float]
    read: Callable[[float], float]


def scale_of(quantity: str, unit: TemperatureUnit) -> Scale:
    """The scale of a quantity where temperatures are shown in `unit`."""
    per = difference_to(unit, 1.0)
    scales = {
        "temperature": Scale(unit, lambda v: celsius_to(unit, v), lambda v: to_celsius(unit, v)),
        "difference": Scale(unit, lambda v: v * per, lambda v: v / per),
        "gain_per_celsius": Scale(f"% per {unit}", lambda v: v * 100.0 / per, lambda v: v / 100.0 * per),
        "fraction": Scale("%", lambda v: v * 100.0, lambda v: v / 100.0),
    }
    plain = Scale(QUANTITY_UNIT.get(quantity, ""), lambda v: v, lambda v: v)
    return scales.get(quantity, plain)


def shown_number(value: float) -> str:
    """A number with the digits it needs and no more."""
    text = f"{value:.10g}"
    return f"{value:.5g}" if len(text) > 9 else text


class DragLabel(QLabel):
    """A label that changes its field's value when it is dragged sideways."""

    dragged = pyqtSignal(int)
    drag_ended = pyqtSignal()

    def __init__(self, text: str) -> None:
        super().__init__(text)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self._from: QPoint | None = None
        self._steps = 0

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._from, self._steps = event.globalPosition().toPoint(), 0

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from is not None:
            steps = (event.globalPosition().toPoint().x() - self._from.x()) // DRAG_PX_PER_STEP
            if steps != self._steps:
                self.dragged.emit(steps - self._steps)
                self._steps = steps

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        del event
        self._from = None
        self.drag_ended.emit()


class _Entry(QLineEdit):
    """A line that steps with the arrow keys and the wheel, and says when it is left."""

    stepped = pyqtSignal(int)
    left = pyqtSignal()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        coarse = 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.stepped.emit(coarse if event.key() == Qt.Key.Key_Up else -coarse)
            return
        super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus():
            self.stepped.emit(1 if event.angleDelta().y() > 0 else -1)
            event.accept()
        else:
            event.ignore()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.left.emit()


class Field(QWidget):
    """One setting: label, editor, a line for its consequence or for what is wrong with it."""

    edited = pyqtSignal(object)
    settled = pyqtSignal()

    def __init__(self, key: str, field: FieldInfo) -> None:
        super().__init__()
        self.key, self.field = key, field
        self.title = field.title or key.replace("_", " ")
        self.grid = QGridLayout(self)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setHorizontalSpacing(8)
        self.grid.setVerticalSpacing(2)
        self.grid.setColumnMinimumWidth(0, LABEL_PX)
        self.grid.setColumnStretch(2, 1)
        self.line = label("", "quiet")
        self.line.setWordWrap(True)
        self.line.hide()
        self.grid.addWidget(self.line, 1, 0, 1, 3)
        self._consequence = ""

    def say(self, text: str) -> None:
        """Show a consequence under the field."""
        self._consequence = text
        if self.line.property("role") != "problem":
            self._put(text, "quiet")

    def complain(self, text: str) -> None:
        """Show what is wrong with what was typed; an empty text takes it back."""
        self._put(text or self._consequence, "problem" if text else "quiet")

    def _put(self, text: str, role: str) -> None:
        set_role(self.line, "role", role)
        self.line.setText(text)
        self.line.setVisible(bool(text))

    def show_value(self, value: Any, unit: TemperatureUnit) -> None:
        """Show the model's value."""
        raise NotImplementedError

    def focus_editor(self) -> None:
        """Put the keyboard here."""
        raise NotImplementedError


class NumberField(Field):
    """A number, typed, stepped with arrow keys or wheel, or dragged by its label."""

    def __init__(self, key: str, field: FieldInfo) -> None:
        super().__init__(key, field)
        self.quantity = quantity_of(field)
        self.optional = type(None) in get_args(field.annotation)
        self.low, self.high, self.open_low = bounds_of(field)
        self.name = DragLabel(self.title)
        self.entry = _Entry()
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
        with QSignalBlocker(self.entry):
            self.entry.setText("" if value is None else shown_number(self._scale.show(float(value))))
        set_role(self.entry, "wrong", "false")
        self.complain("")
        self.settled.emit()

    def focus_editor(self) -> None:
        self.entry.setFocus(Qt.FocusReason.ShortcutFocusReason)
        self.entry.selectAll()


class ChoiceField(Field):
    """One of a few words."""

    def __init__(self, key: str, field: FieldInfo) -> None:
        super().__init__(key, field)
        self.box = QComboBox()
        self.box.setAccessibleName(self.title)
        self.box.setToolTip(field.description or "")
        self.box.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        for choice in get_args(field.annotation):
            self.box.addItem(word(str(choice)), choice)
        self.grid.addWidget(label(self.title), 0, 0)
        self.grid.addWidget(self.box, 0, 1, 1, 2)
        self.box.activated.connect(self._chosen)

    def _chosen(self, index: int) -> None:
        self.edited.emit(self.box.itemData(index))
        self.settled.emit()

    def show_value(self, value: Any, unit: TemperatureUnit) -> None:
        del unit
        with QSignalBlocker(self.box):
            self.box.setCurrentIndex(self.box.findData(value))

    def focus_editor(self) -> None:
        self.box.setFocus(Qt.FocusReason.ShortcutFocusReason)


class TextField(Field):
    """A line of text."""

    def __init__(self, key: str, field: FieldInfo) -> None:
        super().__init__(key, field)
        self.entry = _Entry()
        self.entry.setAccessibleName(self.title)
        self.entry.setToolTip(field.description or "")
        self.grid.addWidget(label(self.title), 0, 0)
        self.grid.addWidget(self.entry, 0, 1, 1, 2)
        self.entry.editingFinished.connect(self._entered)

    def _entered(self) -> None:
        if self.entry.isModified():
            self.entry.setModified(False)
            self.edited.emit(self.entry.text().strip())
            self.settled.emit()

    def show_value(self, value: Any, unit: TemperatureUnit) -> None:
        del unit
        with QSignalBlocker(self.entry):
            self.entry.setText(str(value))
        self.entry.setCursorPosition(0)

    def focus_editor(self) -> None:
        self.entry.setFocus(Qt.FocusReason.ShortcutFocusReason)


def field_for(key: str, field: FieldInfo) -> Field:
    """The editor that fits a setting."""
    if quantity_of(field):
        return NumberField(key, field)
    return ChoiceField(key, field) if get_args(field.annotation) else TextField(key, field)


class Segments(QWidget):
    """A few words beside each other, one of them chosen; arrow keys move between them."""

    chosen = pyqtSignal(str)

    def __init__(self, choices: list[str], name: str) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        self._group = QButtonGroup(self)
        self._group.setExclusive(True)
        self.buttons: dict[str, QPushButton] = {}
        for number, choice in enumerate(choices):
            button = QPushButton(word(choice))
            button.setCheckable(True)
            button.setAccessibleName(f"{name}: {word(choice)}")
            button.setProperty("role", "segment")
            place = "first" if number == 0 else "last" if number == len(choices) - 1 else ""
            button.setProperty("segment", place)
            button.clicked.connect(lambda _, choice=choice: self.chosen.emit(choice))
            button.installEventFilter(self)
            self._group.addButton(button)
            row.addWidget(button, 1)
            self.buttons[choice] = button

    def show_choice(self, choice: str) -> None:
        """Mark the chosen word."""
        button = self.buttons.get(choice)
        if button is not None:
            button.setChecked(True)

    def eventFilter(self, watched: Any, event: QEvent) -> bool:
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
            buttons = list(self.buttons.values())
            if step and watched in buttons:
                target = buttons[(buttons.index(watched) + step) % len(buttons)]
                target.setFocus(Qt.FocusReason.TabFocusReason)
                target.click()
                return True
        return super().eventFilter(watched, event)
