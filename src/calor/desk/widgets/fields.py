"""Fields of a form: a number with its unit, a choice of words, text. They show the model and hold nothing."""

from __future__ import annotations

import html
from typing import Any, get_args

from pydantic.fields import FieldInfo
from PyQt6.QtCore import QEvent, QObject, QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QWheelEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from calor.settings import word_of
from calor.units import TemperatureUnit

LABEL_PX = 126


def label(text: str, role: str = "") -> QLabel:
    """A label in one of the roles of the style sheet."""
    text_label = QLabel(text)
    # names and messages are shown as they are written, never as markup
    text_label.setTextFormat(Qt.TextFormat.PlainText)
    text_label.setProperty("role", role)
    return text_label


def as_tip(text: str) -> str:
    """A text that others wrote as a tool tip: what looks like markup is text there too."""
    return f"<span style='white-space: pre-wrap'>{html.escape(text)}</span>" if "<" in text or "&" in text else text


def on_button(text: str) -> str:
    """A text that others wrote as the word on a button or in a menu: an & is one, and no key."""
    return text.replace("&", "&&")


def set_role(widget: QWidget, name: str, value: str) -> None:
    """Change a property the style sheet looks at."""
    if widget.property(name) != value:
        widget.setProperty(name, value)
        style = widget.style()
        if style is not None:
            style.unpolish(widget)
            style.polish(widget)


def scrolling(spacing_px: int, right_px: int = 0) -> tuple[QScrollArea, QVBoxLayout]:
    """A column that scrolls up and down where it is too long, and where its parts go."""
    scroll, inside = QScrollArea(), QWidget()
    scroll.setWidgetResizable(True)
    scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    inside.setObjectName("form")
    column = QVBoxLayout(inside)
    column.setContentsMargins(0, 0, right_px, 0)
    column.setSpacing(spacing_px)
    scroll.setWidget(inside)
    return scroll, column


def emptied(layout: QLayout) -> None:
    """Take all widgets out of a layout."""
    while layout.count():
        place = layout.takeAt(0)
        widget = place.widget() if place is not None else None
        if widget is not None:
            widget.hide()
            widget.deleteLater()


class Entry(QLineEdit):
    """A line that steps with the arrow keys and the wheel, and says when it is left."""

    stepped = pyqtSignal(int)
    left = pyqtSignal()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        coarse = 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.stepped.emit(coarse if event.key() == Qt.Key.Key_Up else -coarse)
            return
        super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None:
            return
        if self.hasFocus():
            self.stepped.emit(1 if event.angleDelta().y() > 0 else -1)
            event.accept()
        else:
            event.ignore()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        if event is None:
            return
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
        self.grid.setHorizontalSpacing(6)
        self.grid.setVerticalSpacing(2)
        self.grid.setColumnMinimumWidth(0, LABEL_PX)
        self.grid.setColumnStretch(2, 1)
        self.line = label("", "quiet")
        self.line.setWordWrap(True)
        self.line.hide()
        self.grid.addWidget(self.line, 1, 0, 1, 3)
        self._consequence = ""

    def put_beside(self, widget: QWidget) -> None:
        """Put something at the end of the line under the editor."""
        self.grid.removeWidget(self.line)
        self.grid.addWidget(self.line, 1, 0, 1, 2)
        self.grid.addWidget(widget, 1, 2, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)

    def say(self, text: str) -> None:
        """Show a consequence under the field."""
        self._consequence = text
        if self.line.property("role") != "problem":
            self._put(text, "quiet")

    def complain(self, text: str) -> None:
        """Show what is wrong with what was typed; an empty text takes it back."""
        self._put(text or self._consequence, "problem" if text else "quiet")

    def reject(self, text: str) -> None:
        """The model did not take the value: say why. Leaving the field brings the model's own back."""
        self.complain(text)

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


class ChoiceField(Field):
    """One of a few words."""

    def __init__(self, key: str, field: FieldInfo) -> None:
        super().__init__(key, field)
        self.box = QComboBox()
        self.box.setAccessibleName(self.title)
        self.box.setToolTip(field.description or "")
        self.box.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.box.setMinimumContentsLength(6)
        choices = (True, False) if field.annotation is bool else get_args(field.annotation)
        for choice in choices:
            self.box.addItem(word_of(field, choice), choice)
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
        self.optional = type(None) in get_args(field.annotation)
        self.entry = Entry()
        self.entry.setAccessibleName(self.title)
        self.entry.setToolTip(field.description or "")
        self.grid.addWidget(label(self.title), 0, 0)
        self.grid.addWidget(self.entry, 1, 0, 1, 3)
        self.grid.addWidget(self.line, 2, 0, 1, 3)
        self.entry.editingFinished.connect(self._entered)

    def _entered(self) -> None:
        if self.entry.isModified():
            self.entry.setModified(False)
            text = self.entry.text().strip()
            self.edited.emit(text if text or not self.optional else None)
            self.settled.emit()

    def show_value(self, value: Any, unit: TemperatureUnit) -> None:
        del unit
        with QSignalBlocker(self.entry):
            self.entry.setText("" if value is None else str(value))
        self.entry.setCursorPosition(0)

    def focus_editor(self) -> None:
        self.entry.setFocus(Qt.FocusReason.ShortcutFocusReason)


class NumbersField(Field):
    """A few numbers in a line, or points: numbers apart by spaces, points by semicolons."""

    def __init__(self, key: str, field: FieldInfo) -> None:
        super().__init__(key, field)
        self.entry = Entry()
        self.entry.setAccessibleName(self.title)
        self.entry.setToolTip(field.description or "")
        self.grid.addWidget(label(self.title), 0, 0, 1, 3)
        self.grid.addWidget(self.entry, 1, 0, 1, 3)
        self.grid.addWidget(self.line, 2, 0, 1, 3)
        self.entry.editingFinished.connect(self._entered)

    def _entered(self) -> None:
        if not self.entry.isModified():
            return
        self.entry.setModified(False)
        text = self.entry.text().replace("−", "-")
        try:
            points: list[tuple[float, ...]] = [
                tuple(float(word) for word in part.replace(",", " ").split())
                for part in text.split(";")
                if part.strip()
            ]
        except ValueError:
            self.complain("Takes numbers with spaces between them, and a semicolon between points.")
            return
        self.complain("")
        row: tuple[float, ...] = points[0] if points else ()
        self.edited.emit(tuple(points) if self.key == "points" else row)
        self.settled.emit()

    def show_value(self, value: Any, unit: TemperatureUnit) -> None:
        del unit
        values: Any = value or ()
        nested = bool(values) and isinstance(values[0], tuple)
        text = (
            "; ".join(" ".join(f"{n:.9g}" for n in v) for v in values)
            if nested
            else " ".join(f"{n:.9g}" for n in values)
        )
        with QSignalBlocker(self.entry):
            if not (self.entry.hasFocus() and self.entry.isModified()):
                self.entry.setText(text)
                self.entry.setCursorPosition(0)

    def focus_editor(self) -> None:
        self.entry.setFocus(Qt.FocusReason.ShortcutFocusReason)


class KindBox(QWidget):
    """One of many kinds, in a list that opens; it is used as Segments are."""

    chosen = pyqtSignal(str)

    def __init__(self, choices: dict[str, str], name: str) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        self.box = QComboBox()
        self.box.setAccessibleName(f"Kind of {name.lower()}")
        for choice, word in choices.items():
            self.box.addItem(word, choice)
        row.addWidget(self.box)
        self.box.activated.connect(lambda index: self.chosen.emit(self.box.itemData(index)))
        self.buttons: dict[str, QWidget] = {"": self.box}

    def show_choice(self, choice: str) -> None:
        """Show the chosen kind."""
        self.box.setCurrentIndex(self.box.findData(choice))


class Segments(QWidget):
    """A few words beside each other, one of them chosen; arrow keys move between them."""

    chosen = pyqtSignal(str)

    def __init__(self, choices: dict[str, str], name: str) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        self._group = QButtonGroup(self)
        self._group.setExclusive(True)
        self.buttons: dict[str, QPushButton] = {}
        for number, (choice, word) in enumerate(choices.items()):
            button = QPushButton(word)
            button.setCheckable(True)
            button.setAccessibleName(f"{name}: {word}")
            button.setProperty("role", "segment")
            place = "first" if number == 0 else "last" if number == len(choices) - 1 else ""
            button.setProperty("segment", place)
            button.clicked.connect(lambda _, choice=choice: self.chosen.emit(choice))
            button.installEventFilter(self)
            self._group.addButton(button)
            row.addWidget(button, 1)
            self.buttons[choice] = button

    def show_choice(self, choice: str) -> None:
        """Mark the chosen word; none of them where it is another."""
        self._group.setExclusive(False)
        for name, button in self.buttons.items():
            button.setChecked(name == choice)
        self._group.setExclusive(True)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is None:
            return False
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
            buttons = list(self.buttons.values())
            if step and watched in buttons:
                target = buttons[(buttons.index(watched) + step) % len(buttons)]
                target.setFocus(Qt.FocusReason.TabFocusReason)
                target.click()
                return True
        return super().eventFilter(watched, event)
