"""Shortcuts and timers, in a line."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtGui import QKeySequence, QShortcut


def shortcut(keys: str, parent: QObject, act: Callable[[], object]) -> None:
    """Have keys do something while `parent` has the keyboard or holds what has it."""
    QShortcut(QKeySequence(keys), parent).activated.connect(act)


def timer(parent: QObject, interval_ms: int, act: Callable[[], object], once: bool = False) -> QTimer:
    """A timer that is not started yet."""
    clock = QTimer(parent)
    clock.setInterval(interval_ms)
    clock.setSingleShot(once)
    clock.timeout.connect(act)
    return clock
