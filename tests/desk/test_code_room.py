"""The Code room: the C follows every edit with its changed lines marked, and is checked on the host and on chips."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from PyQt6.QtCore import Qt

from calor.desk.code_editor import CHANGED, changed_lines
from calor.errors import FirmwareError
from calor.firmware import agreement, chip

Desk = Callable[..., Any]


def marked(room: Any) -> list[str]:
    editor = room.editor
    return [editor.text(line).strip() for line in range(editor.lines()) if editor.markersAtLine(line) >> CHANGED & 1]


def test_changed_lines() -> None:
    assert changed_lines("a\nb\nc", "a\nB\nc\nd") == [1, 3] and changed_lines("a", "a") == []


def test_the_c_follows_every_edit(desk: Desk, qtbot: Any) -> None:
    window = desk()
    room, model = window.code_room, window.model
    qtbot.keyClick(window, Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    assert room.isVisible() and not window.strip.isVisible() and window.rail.rooms["code"].isChecked()
    assert ".gain_per_celsius = 0.22f" in room.editor.text() and marked(room) == []
    model.set_value("law", "gain_per_celsius", 0.3)
    assert (
        len(marked(room)) == 1
        and marked(room)[0].startswith(".gain_per_celsius = 0.3")
        and "1 line changed" in room.note.text()
    )
    first = room.editor.firstVisibleLine()
    model.set_value("law", "gain_per_celsius", 0.31)
    assert room.editor.firstVisibleLine() == first and room.editor.isReadOnly()
    model.undo_stack.undo()
    room.tabs.setCurrentIndex(1)
    assert "hatching_cabinet_init" in room.editor.text() and room.tabs.count() == 2
    qtbot.keyClicks(room.line, "cut_out")
    qtbot.keyClick(room.line, Qt.Key.Key_Return)
    assert room.editor.selectedText() == "cut_out"
    room.line.setText("nothing of the kind")
    qtbot.keyClick(room.line, Qt.Key.Key_Return)
    assert room.line.property("wrong") == "true"
    window.files.open_demo(7) if not model.edited else (model.undo_stack.setClean(), window.files.open_demo(7))
    assert "foam_cutter" in room.tabs.tabToolTip(0) and marked(room) == []
    window._choose_room("loop")
    assert window.strip.isVisible() and not room.isVisible()


def test_it_is_checked_on_host_and_chips(desk: Desk, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """Costs for each chip, what changed since the check before, a check that is stopped, and one that cannot be made."""
    window = desk()
    window.files.open_demo(7)
    window._choose_room("code")
    room, model = window.code_room, window.model
    done: list[Any] = []
    room.check.finished.connect(lambda *_: done.append(1))
    room.run_check.click()
    assert room.run_check.text() == "Stop"
    qtbot.waitUntil(lambda: len(done) == 1, timeout=120_000)
    assert room.verdict.text() == "agrees" and room.run_check.text() == "Check on host and chips"
    assert {"host", *chip.TARGETS} <= set(room.costs.texts) and "✓ equal" in room.costs.texts
    assert "9 000 steps of 3 trials" in room.reference.text() and not room.explain.isVisible()
    model.set_kind("law", "pid")
    assert "has changed since this check" in room.explain.text()
    room.run_check.click()
    qtbot.waitUntil(lambda: len(done) == 2, timeout=120_000)
    assert any(text.startswith(("+", "−")) for text in room.costs.texts)
    # two programs that differ: named with the step
    data = {**room._data, "pass": False}
    data["targets"] = [
        {
            **row,
            "bit_equal": False,
            "first_difference": {"between": "host, reference", "trial": "T", "step": 5, "reading": 7.0},
        }
        for row in data["targets"]
    ]
    room.check.finished.emit(model.design, data)
    assert (
        room.verdict.text() == "disagrees"
        and "First at step 5 of T" in room.reference.text()
        and "✕ differs" in room.costs.texts
    )
    room.run_check.click()
    room.run_check.click()
    qtbot.waitUntil(lambda: room.status.text() == "stopped", timeout=60_000)

    def fails(*_: Any, **__: Any) -> None:
        raise FirmwareError("no C compiler (cc) on this machine")

    monkeypatch.setattr(agreement, "check", fails)
    room.run_check.click()
    qtbot.waitUntil(lambda: "no C compiler" in room.status.text(), timeout=20_000)
    assert room.run_check.text() == "Check on host and chips"


def test_another_one_decides(desk: Desk, qtbot: Any, tmp_path: Any) -> None:
    """The generated C, then a law of one's own, which fails the verdict, then one that crashes: the desk only says so."""
    window = desk()
    room, model = window.code_room, window.model
    window._choose_room("code")
    room.choose_seat("host")
    qtbot.waitUntil(lambda: model.result.request.seat == "host", timeout=20_000)
    assert any("Generated C, this machine" in entry[0] for entry in window.strip.legend.entries)
    built_in = model.result.verdict
    lazy, bad = tmp_path / "lazy.py", tmp_path / "bad.py"
    lazy.write_text("class Law:\n    measured_celsius = 20.0\n    def step(self, reading, dt):\n        return 0.0\n")
    bad.write_text("class Law:\n    def step(self, reading, dt):\n        return float('nan')\n")
    room.choose_seat(str(lazy))
    qtbot.waitUntil(lambda: model.result.request.seat == str(lazy), timeout=30_000)
    assert model.result.verdict != built_in and not model.result.verdict.passes and "fails" in room.seat_note.text()
    assert room.seat.currentText() == "Own law, lazy.py"
    room.choose_seat(str(bad))
    qtbot.waitUntil(lambda: "answered NaN" in window.notice.text.text(), timeout=20_000)
    assert model.result.request.seat == str(lazy) and model.design.name == "Hatching cabinet"
    room.choose_seat("python")
    qtbot.waitUntil(lambda: model.result.request.seat == "python", timeout=20_000)
