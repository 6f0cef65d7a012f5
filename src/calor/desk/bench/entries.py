"""Entries of a list on a bench: a heading with a way to take it out, and its fields; events and alarms are such."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from pydantic.fields import FieldInfo
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout

from calor.desk.widgets.fields import Field, label
from calor.desk.widgets.numbers import field_for


def clear(column: QVBoxLayout) -> None:
    """Take all entries out of a column."""
    while column.count():
        item = column.takeAt(0)
        widget = item.widget() if item is not None else None
        if widget is not None:
            widget.setParent(None)
            widget.deleteLater()


def entry(
    title: str, own: Mapping[str, FieldInfo], remove: Callable[[], None] | None,
    edit: Callable[[str, Any, Field], None], settled: Callable[[], None],
) -> tuple[QFrame, dict[str, Field]]:  # fmt: skip
    """(a frame with the title and the fields, the fields by key). Without `remove` it stays."""
    frame = QFrame()
    column = QVBoxLayout(frame)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(4)
    head = QHBoxLayout()
    head.addWidget(label(title))
    head.addStretch(1)
    button = QPushButton("Remove")
    button.setProperty("role", "link")
    if remove is None:
        button.hide()  # only ever hidden here: shown without a parent it would be a window of its own
    button.clicked.connect(lambda _: remove() if remove is not None else None)
    head.addWidget(button)
    column.addLayout(head)
    fields: dict[str, Field] = {}
    for key, info in own.items():
        field = field_for(key, info)
        field.edited.connect(lambda value, key=key, field=field: edit(key, value, field))
        field.settled.connect(settled)
        column.addWidget(field)
        fields[key] = field
    return frame, fields
