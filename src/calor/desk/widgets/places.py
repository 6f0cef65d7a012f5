"""Asking: where to write a file, whether something may be done, and over which part of the window."""

from __future__ import annotations

import os
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QFileDialog, QMessageBox, QWidget

BACK = "Go back"
DIALOGS = "dialogs"
"""The name of the part of a window that its dialogs belong to: unlike the window itself it wears the theme."""


def over_the_window() -> QWidget | None:
    """The parent for a dialog that no page asks: in the active window, if there is one."""
    window = QApplication.activeWindow()
    return window if window is None else window.findChild(QWidget, DIALOGS) or window


def place_for(window: QWidget | None, title: str, start: str, kinds: str, ending: str) -> Path | None:
    """Where to write, with its ending; None where the user goes back.

    The dialog asks about a file of the name as it was typed; about one of the name with its ending it is asked here.
    """
    name, _ = QFileDialog.getSaveFileName(window, title, start, kinds)
    if not name:
        return None
    path = Path(name)
    if path.suffix.lower() == ending:
        return path
    path = path.with_name(path.name + ending)
    return path if not os.path.lexists(path) or may_replace(window, path) else None


def may_replace(window: QWidget | None, path: Path) -> bool:
    """Ask whether what is there may be replaced."""
    return asked(window, "Replace", f"{path.name} is there already.", "Replace it")


def may_mix(window: QWidget | None, folder: Path, strangers: list[str]) -> bool:
    """Ask whether to write into a folder that holds what Calor did not write, or what was changed since."""
    names = ", ".join(strangers[:6]) + (f" and {len(strangers) - 6} more" if len(strangers) > 6 else "")
    text = (
        f"{folder} holds {names}, which Calor did not write or which was changed since."
        " Files of the same names would be replaced."
    )
    return asked(window, "Folder in use", text, "Write there")


def asked(window: QWidget | None, title: str, text: str, action: str) -> bool:
    """Ask before something is done that cannot be undone; going back is what Return and Escape do."""
    return choice(window, title, text, (action,), BACK) == action


def choice(window: QWidget | None, title: str, text: str, actions: tuple[str, ...], usual: str) -> str:
    """Which of some actions the user chooses, or to go back, as Escape does; Return does what is `usual`."""
    box = QMessageBox(window)
    box.setWindowTitle(title)
    box.setTextFormat(Qt.TextFormat.PlainText)  # a design or a file may be called anything
    box.setText(text)
    role = QMessageBox.ButtonRole
    buttons = {
        word: box.addButton(word, role.AcceptRole if word == usual else role.DestructiveRole) for word in actions
    }
    buttons[BACK] = box.addButton(BACK, role.RejectRole)
    box.setDefaultButton(buttons[usual])
    box.setEscapeButton(buttons[BACK])
    box.exec()
    return next((word for word, button in buttons.items() if box.clickedButton() is button), BACK)
