"""The window under chance: whatever is done to it in whatever order, it goes on, and no mistake is reported."""

from __future__ import annotations

import os
import random
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QComboBox, QFileDialog, QLineEdit, QMessageBox

from calor.demo import DEMOS
from calor.design.model import BLOCKS

Desk = Callable[..., Any]
TYPED = ("0", "-1", "1e9", "37.5", "warm", "", "1e-9", "<b>", "5 s", "1:30", "nan", "[/x]")
ACTIONS = 150
NOT_PRESSED = ("Read it",)
SLOW = ("Check on host and chips", "Search", "Fit", "Map")
"""Buttons of what takes long, which a test has no time for."""


def answer(box: QMessageBox, random_: random.Random, monkeypatch: pytest.MonkeyPatch) -> int:
    button = random_.choice(box.buttons())
    monkeypatch.setattr(QMessageBox, "clickedButton", lambda _: button)
    return 0


def one_action(window: Any, random_: random.Random) -> str:
    """Do one thing of those a hand could do."""
    desk = window.desk
    act = random_.randrange(12)
    if act == 0:
        desk.view.choose_room(random_.choice(window.rooms).name)
        return "room"
    if act == 1:
        desk.view.choose_bench(random_.choice((*BLOCKS, "trial")))
        return "bench"
    if act == 2:
        stack = desk.document.undo_stack
        (stack.undo if random_.random() < 0.6 else stack.redo)()
        return "undo or redo"
    if act == 3:
        search = window.search()
        search.line.setText(random_.choice(("set", "trial", "pin", "x", "gain", "°", "theme", "<")))
        search.close()
        return "search"
    if act == 4:
        window._escape()
        return "escape"
    if act in (5, 6):
        lines = [
            line
            for line in window.findChildren(QLineEdit)
            if line.isVisible() and line.isEnabled() and not line.isReadOnly()
        ]
        if lines:
            line = random_.choice(lines)
            line.setText(random_.choice(TYPED))
            line.setModified(True)
            line.textEdited.emit(line.text())
            line.editingFinished.emit()
        return "typed"
    if act == 7:
        boxes = [box for box in window.findChildren(QComboBox) if box.isVisible() and box.isEnabled() and box.count()]
        if boxes:
            box = random_.choice(boxes)
            box.setCurrentIndex(random_.randrange(box.count()))
            box.activated.emit(box.currentIndex())
        return "chosen"
    if act == 8 and random_.random() < 0.2:
        window.files.open_demo(random_.randrange(len(DEMOS)))
        return "demo"
    buttons = [
        button for button in window.findChildren(QAbstractButton)
        if button.isVisible() and button.isEnabled() and button.text() and not any(word in button.text() for word in (*SLOW, *NOT_PRESSED))
        and getattr(button, "menu", lambda: None)() is None
    ]  # fmt: skip
    if buttons:
        random_.choice(buttons).click()
    return "pressed"


@pytest.mark.parametrize("seed", [1])
def test_the_window_under_chance(
    seed: int, desk: Desk, monkeypatch: pytest.MonkeyPatch, tmp_path: Path, own_directories: Path
) -> None:
    random_ = random.Random(seed)
    window = desk()
    for name, value in (
        ("getSaveFileName", ("", "")),
        ("getOpenFileName", ("", "")),
        ("getOpenFileNames", ([], "")),
        ("getExistingDirectory", ""),
    ):
        monkeypatch.setattr(QFileDialog, name, lambda *_, value=value: value)
    monkeypatch.setattr(QMessageBox, "exec", lambda box: answer(box, random_, monkeypatch))
    done = Counter[str]()
    end_s = time.monotonic() + 60.0 * float(os.environ.get("CALOR_FUZZ_MINUTES", "0"))
    while sum(done.values()) < ACTIONS or time.monotonic() < end_s:
        done[one_action(window, random_)] += 1  # a mistake in a slot fails the test
        QApplication.processEvents()
        assert "mistake" not in window.notice.text.text(), done
    assert window.isVisible() and window.desk.document.design is not None and len(done) > 5
    if "CALOR_FUZZ_MINUTES" in os.environ:
        print(sum(done.values()), dict(done))
    window.desk.simulator.stop()
    window.desk.document.undo_stack.setClean()
