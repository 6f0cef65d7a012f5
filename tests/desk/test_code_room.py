"""The Code room: the C follows every edit with its changed lines marked, and is checked on the host and on chips."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from PyQt6.QtCore import Qt, QTimer

from calor.contained import protection
from calor.desk.code.code_editor import CHANGED, WRONG, changed_lines
from calor.errors import FirmwareError
from calor.firmware.check import agreement
from calor.firmware.controller import consent
from calor.firmware.controller.own_source import in_hand, read_source
from calor.firmware.run import chip
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.ports import PORTS

Desk = Callable[..., Any]


def marked(room: Any) -> list[str]:
    editor = room.editor
    return [editor.text(line).strip() for line in range(editor.lines()) if editor.markersAtLine(line) >> CHANGED & 1]


def show(room: Any, name: str) -> None:
    room.names.setCurrentIndex(room.names.findData(name))


def test_changed_lines() -> None:
    assert changed_lines("a\nb\nc", "a\nB\nc\nd") == [1, 3] and changed_lines("a", "a") == []


def test_the_c_follows_every_edit(desk: Desk, qtbot: Any) -> None:
    window = desk()
    room, desk = window.room("code").page, window.desk
    qtbot.keyClick(window, Qt.Key.Key_4, Qt.KeyboardModifier.ControlModifier)
    assert room.isVisible() and not window.room("loop").strip.isVisible() and window.rail.rooms["code"].isChecked()
    assert ".gain_per_celsius = 0.22f" in room.editor.text() and marked(room) == []
    assert "Shown in the Loop room" in room.panel.controller_note.text()
    desk.document.set_value("law", "gain_per_celsius", 0.3)
    assert (
        len(marked(room)) == 1
        and marked(room)[0].startswith(".gain_per_celsius = 0.3")
        and "1 line changed" in room.note.text()
    )
    first = room.editor.firstVisibleLine()
    desk.document.set_value("law", "gain_per_celsius", 0.31)
    assert room.editor.firstVisibleLine() == first and room.editor.isReadOnly()
    desk.document.undo_stack.undo()
    show(room, "thermostat.h")
    assert "hatching_cabinet_init" in room.editor.text() and room.names.count() >= 12
    show(room, "guard.c")
    assert "the last edit changed thermostat.c" in room.note.text()
    show(room, "thermostat.c")
    qtbot.keyClicks(room.line, "cut_out")
    qtbot.keyClick(room.line, Qt.Key.Key_Return)
    assert room.editor.selectedText() == "cut_out"
    room.line.setText("nothing of the kind")
    qtbot.keyClick(room.line, Qt.Key.Key_Return)
    assert room.line.property("wrong") == "true"
    window.files.open_demo(7) if not desk.document.edited else (
        desk.document.undo_stack.setClean(),
        window.files.open_demo(7),
    )
    assert "foam_cutter" in room.editor.text() and marked(room) == []
    window._choose_room("loop")
    assert window.room("loop").strip.isVisible() and not room.isVisible()


def test_it_is_checked_on_host_and_chips(desk: Desk, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """Costs for each chip, what changed since the check before, a check that is stopped, and one that cannot be made."""
    window = desk()
    window.files.open_demo(7)
    window._choose_room("code")
    room, desk = window.room("code").page, window.desk
    done: list[Any] = []
    room.panel.check.finished.connect(lambda *_: done.append(1))
    room.panel.run_check.click()
    assert room.panel.run_check.text() == "Stop"
    qtbot.waitUntil(lambda: len(done) == 1, timeout=120_000)
    assert room.panel.verdict.text() == "agrees" and room.panel.run_check.text() == "Check on host and chips"
    assert {"host", *chip.TARGETS} <= set(room.panel.costs.texts) and "✓ equal" in room.panel.costs.texts
    assert (
        "bit-identical over 9 000 steps of 3 trials and " in room.panel.reference.text()
        and not room.panel.explain.isVisible()
    )
    answers = room.overlay.answers
    assert answers.trial == desk.document.trial.name and len(answers.time_s) == 3000 and not answers.apart.any()
    assert "none anywhere" in room.overlay.apart_title.text() and room.overlay.demand.isVisible()
    desk.document.set_kind("law", "pid")
    assert "has changed since this check" in room.panel.explain.text()
    room.panel.run_check.click()
    qtbot.waitUntil(lambda: len(done) == 2, timeout=120_000)
    assert any(text.startswith(("+", "−")) for text in room.panel.costs.texts)
    # two programs that differ: named with the step
    data = {**room.panel.data, "pass": False}
    data["targets"] = [
        {
            **row,
            "bit_equal": False,
            "first_difference": {"between": "host, reference", "trial": "T", "step": 5, "reading": 7.0},
        }
        for row in data["targets"]
    ]
    room.panel.check.finished.emit(desk.document.design, data)
    assert (
        room.panel.verdict.text() == "disagrees"
        and "Differ first at step 5 of T, reading 7, between host and reference" in room.panel.reference.text()
        and "✕ differs" in room.panel.costs.texts
    )
    room.panel.run_check.click()
    room.panel.run_check.click()
    qtbot.waitUntil(lambda: room.panel.status.text() == "stopped", timeout=60_000)

    def fails(*_: Any, **__: Any) -> None:
        raise FirmwareError("", "no C compiler (cc) on this machine")

    monkeypatch.setattr(agreement, "check", fails)
    room.panel.run_check.click()
    qtbot.waitUntil(lambda: "no C compiler" in room.panel.status.text(), timeout=60_000)
    assert room.panel.run_check.text() == "Check on host and chips"


def test_another_one_decides(desk: Desk, qtbot: Any, tmp_path: Any) -> None:
    """The generated C, then a law of one's own, which fails the verdict, then one that crashes: the desk only says so."""
    window = desk()
    room, desk = window.room("code").page, window.desk
    window._choose_room("code")
    room.panel.choose_controller("host")
    qtbot.waitUntil(lambda: desk.runs.current.request.controller == "host", timeout=60_000)
    assert any("Generated C, this machine" in entry[0] for entry in window.room("loop").strip.legend.entries)
    assert window.ribbon.cards["law"].caption == "Law · Generated C, this machine"
    built_in = desk.runs.current.verdict
    lazy, bad = tmp_path / "lazy.py", tmp_path / "bad.py"
    lazy.write_text("class Law:\n    measured_celsius = 20.0\n    def step(self, reading, dt):\n        return 0.0\n")
    bad.write_text("class Law:\n    def step(self, reading, dt):\n        return float('nan')\n")
    room.panel.choose_controller(str(lazy))
    qtbot.waitUntil(lambda: "has not been allowed" in window.notice.text.text(), timeout=30_000)
    for path in (lazy, bad):
        consent.allow(read_source(path))
    desk.runs.simulate()
    qtbot.waitUntil(lambda: desk.runs.current.request.controller == str(lazy), timeout=30_000)
    assert (
        desk.runs.current.verdict != built_in
        and not desk.runs.current.verdict.passes
        and "fails" in room.panel.controller_note.text()
    )
    assert room.panel.controller.currentText() == "Your code, lazy.py"
    room.panel.choose_controller(str(bad))
    qtbot.waitUntil(lambda: "answered NaN" in window.notice.text.text(), timeout=60_000)
    assert desk.runs.current.request.controller == str(lazy) and desk.document.design.name == "Hatching cabinet"
    room.panel.choose_controller("python")
    qtbot.waitUntil(lambda: desk.runs.current.request.controller == "python", timeout=60_000)


def test_the_c_in_another_form(desk: Desk, qtbot: Any, monkeypatch: pytest.MonkeyPatch, tmp_path: Any) -> None:
    """Fixed point and a table as the form is chosen; what a probe cannot have is said; the folder is of that form."""
    window = desk()
    room, desk = window.room("code").page, window.desk
    window._choose_room("code")
    room.forms.setCurrentIndex(2)
    room.forms.activated.emit(2)
    assert room.form == Form(True, True) and room.forms.currentText() == "Fixed, table"
    show(room, "law.c")
    assert "q_mul(" in room.editor.text() and room.names.findData("q16.h") >= 0
    written: list[Any] = []
    monkeypatch.setattr(window.room("code").export, "ask", lambda *asked: written.append(asked))
    room.constant.click()
    assert room.form == Form(True, True, True) and "HATCHING_CABINET_GAIN_PER_CELSIUS" in room.editor.text()
    room.constant.click()
    room.panel.port.setCurrentText("Board program, Cortex-M0+")
    room.panel.save.click()
    assert written == [(Form(True, True), PORTS["m0plus"])]
    window.room("code").export.write(tmp_path / "c", *written[0])
    assert "building, measuring" in window.notice.text.text()
    qtbot.waitUntil(lambda: "sources" in window.notice.text.text(), timeout=60_000)
    assert (tmp_path / "c" / "hatching_cabinet_q16.h").exists()
    assert (tmp_path / "c" / "m0plus" / "chip.h").exists()
    desk.document.undo_stack.setClean()
    window.files.open_demo(7)
    assert room.form == PLAIN
    room.forms.setCurrentIndex(1)
    room.forms.activated.emit(1)
    assert "needs no table" in window.notice.text.text() and room.forms.currentText() == "Float"


def test_a_law_of_ones_own_is_written_here(desk: Desk, qtbot: Any, tmp_path: Any) -> None:
    """Begun from the design, wrong at a line, mended, saved, decides; changed by others; each file with its own undo."""
    window = desk()
    room, desk = window.room("code").page, window.desk
    window._choose_room("code")
    room.start_law(tmp_path / "my_law.c")
    own = room.own[str(tmp_path / "my_law.c")]
    assert room.pages.currentWidget() is own and own.is_saved and not own.editor.isReadOnly()
    good = own.editor.text()
    own.editor.replace_text(good.replace("    return demand;", "    return demnad;", 1))
    qtbot.waitUntil(lambda: bool(own.diagnostics), timeout=60_000)
    line = good[: good.index("    return demand;")].count("\n")
    first = own.diagnostics[0]
    assert (first.line, first.is_error) == (line + 1, True) and "demnad" in own.problems.item(0).text()
    assert own.editor.markersAtLine(line) >> WRONG & 1 and "not saved · 1 error" in own.state.text()
    own.problems.itemActivated.emit(own.problems.item(0))
    assert own.editor.getCursorPosition() == (line, first.column - 1)
    # undo is this file's, not the design's
    own.editor.setFocus()
    desk.document.set_value("law", "gain_per_celsius", 0.3)
    qtbot.keyClick(own.editor, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert own.editor.text() == good and desk.document.design.law.gain_per_celsius == 0.3
    own.editor.replace_text(good.replace("    return demand;", "    return 0.0f;", 1))
    qtbot.keyClick(own.editor, Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    assert own.is_saved and "return 0.0f;" in (tmp_path / "my_law.c").read_text() and desk.document.edited
    own.decide.click()
    qtbot.waitUntil(lambda: desk.runs.current.request.controller == str(own.path), timeout=30_000)
    assert room.panel.controller.currentText() == "Your code, my_law.c" and not desk.runs.current.trace.demand.any()
    # a save is tried at once
    own.editor.replace_text(good)
    own.save()
    qtbot.waitUntil(lambda: bool(desk.runs.current.trace.demand.any()), timeout=30_000)
    # as the design's law, and back
    own.make_law.click()
    qtbot.waitUntil(lambda: desk.runs.current.request.design.law.kind == "code", timeout=30_000)
    assert (
        desk.document.design.law.file == str(own.path)
        and desk.document.design.law.period_s == 0.5
        and desk.runs.controller == "python"
    )
    assert room.panel.controller.currentText() == "Your code, my_law.c" and window.ribbon.cards["law"].lines == (
        "Your own code",
        "my_law.c",
    )
    assert window.bench._kinds["law"].box.currentIndex() == -1  # none of the kinds in the list
    desk.document.undo_stack.undo()
    assert desk.document.design.law.kind == "pid" and room.panel.controller.currentText() == "Built-in law"
    # changed by others: taken, and where both have changed, asked
    own.path.write_text(good + "/* others */\n")
    qtbot.waitUntil(lambda: "others" in own.editor.text(), timeout=60_000)
    assert own.is_saved
    own.editor.append("/* mine */\n")
    own.path.write_text(good + "/* theirs */\n")
    qtbot.waitUntil(lambda: "changed on disk, and here too" in own.asked.text(), timeout=60_000)
    assert own.bar.isVisible() and "from line" in own.asked.text() and [own] == room.unsaved()
    own.keep.click()
    assert "mine" in own.editor.text() and not own.is_saved
    # seen before it is saved too, though nobody has said so yet
    own._watcher.blockSignals(True)
    own.path.write_text(good + "/* theirs again */\n")
    assert not own.save() and "theirs again" in own.path.read_text() and own.take.isVisible()
    own._watcher.blockSignals(False)
    own.take.click()
    assert "theirs again" in own.editor.text() and own.is_saved
    # a small one in Python, in a second file
    room.start_law(tmp_path / "small.py")
    second = room.own[str(tmp_path / "small.py")]
    qtbot.waitUntil(lambda: "nothing wrong" in second.state.text(), timeout=60_000)
    second.editor.replace_text("class Law:\n    def step(self, reading):\n        return 0.0\n")
    qtbot.waitUntil(lambda: bool(second.diagnostics), timeout=60_000)
    assert "step takes 2 parameters" in second.problems.item(0).text()
    room.start_law(tmp_path / "no" / "such" / "folder.c")
    assert "cannot be written" in window.notice.text.text()
    second.save()
    desk.document.undo_stack.setClean()


def test_code_of_others_is_asked_about(desk: Desk, qtbot: Any, tmp_path: Any) -> None:
    """A design whose law is a file: nothing of it runs until it is allowed, a changed one is asked about again."""
    touched = tmp_path / "touched"
    law = (
        f"try:\n    open({str(touched)!r}, 'w').close()\nexcept OSError:\n    pass\n"
        "class Law:\n    def step(self, reading, dt):\n        return 0.5\n"
    )
    (tmp_path / "law.py").write_text(law)
    (tmp_path / "rig.toml").write_text(
        'name = "Rig"\n[setpoint]\ncelsius = 50\n[law]\nkind = "code"\nfile = "law.py"\n[drive]\nkind = "linear"\n'
        '[load]\nkind = "first_order"\n[probe]\nkind = "ideal"\n[[trial]]\nspan_s = 120\n'
    )
    window = desk()
    room, desk = window.room("code").page, window.desk
    window.files.open(tmp_path / "rig.toml")
    qtbot.waitUntil(lambda: "has not been allowed" in window.notice.text.text(), timeout=60_000)
    assert (
        not touched.exists()
        and desk.runs.current is None
        and "no run to show" in window.room("loop").strip.empty.text()
    )
    window.notice.action.click()
    own = room.own[str(tmp_path / "law.py")]
    assert room.isVisible() and own.allow.isVisible() and room.panel.controller.currentText() == "Your code, law.py"
    own.allow.click()
    qtbot.waitUntil(lambda: desk.runs.current is not None, timeout=30_000)
    assert touched.exists() is not protection.found().files
    assert desk.runs.current.trace.demand.mean() == pytest.approx(0.5) and window.notice.isHidden()
    own.path.write_text(law.replace("0.5", "0.7"))
    qtbot.waitUntil(lambda: own.allow.isVisible() and "0.7" in own.editor.text(), timeout=60_000)
    qtbot.waitUntil(lambda: "has not been allowed" in window.notice.text.text(), timeout=60_000)
    assert desk.runs.current is None or desk.runs.current.trace.demand.mean() == pytest.approx(0.5)
    assert "nothing is made of it" in room._files["nothing generated"]
    # what is allowed is what is shown, though the file holds something else by then
    own._watcher.blockSignals(True)
    own.path.write_text(law.replace("0.5", "0.9"))
    own.allow.click()
    assert not consent.is_allowed(read_source(own.path)) and consent.is_allowed(own._source) is False
    assert "0.9" in own.editor.text() and own.allow.isVisible()
    assert consent.is_allowed(in_hand(own.path, law.replace("0.5", "0.7")))
    # a file opened by hand is asked about too, before it decides and before it is made the law
    other = tmp_path / "other.py"
    other.write_text("class Law:\n    def step(self, reading, dt):\n        return 0.25\n")
    room._open_own(other)
    opened = room.own[str(other)]
    assert opened.allow.isVisible() and protection.found().words in opened.asked.text()
    opened.decide.click()
    assert desk.runs.controller == "python"
    opened.allow.click()
    assert desk.runs.controller == str(other)
    qtbot.waitUntil(
        lambda: desk.runs.current is not None and desk.runs.current.request.controller == str(other), timeout=60_000
    )
    assert desk.runs.current.trace.demand.mean() == pytest.approx(0.25)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("import ctypes\nclass Law:\n    def step(self, r, dt):\n        ctypes.string_at(0)\n", "crashed"),
        ("class Law:\n    def step(self, r, dt):\n        while True:\n            pass\n", "did not answer within"),
        ("class Law:\n    def step(self, r, dt):\n        self.x = bytearray(8 << 30)\n", "of memory"),
    ],
    ids=["crash", "endless", "memory"],
)
def test_the_window_repaints_under_a_faulty_law(desk: Desk, qtbot: Any, tmp_path: Any, text: str, says: str) -> None:
    window = desk()
    law = tmp_path / "faulty.py"
    law.write_text(text)
    consent.allow(read_source(law))
    beats: list[bool] = []
    timer = QTimer(window, interval=20)
    busy = window.desk.simulator.progress
    timer.timeout.connect(lambda: (beats.append(busy() is not None), window.room("loop").strip.repaint()))
    timer.start()
    window._choose_room("loop")
    window.desk.runs.choose_controller(str(law))
    qtbot.waitUntil(lambda: says in window.notice.text.text(), timeout=60_000)
    timer.stop()
    # it was painted while the law ran; one that crashes at once may have been too quick for that
    assert (any(beats) or says == "crashed") and window.desk.document.design.name == "Hatching cabinet"
    window.desk.runs.choose_controller("python")
    qtbot.waitUntil(lambda: window.desk.runs.current.request.controller == "python", timeout=60_000)
