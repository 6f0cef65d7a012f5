"""The Loop room, driven as a person drives it: keys, mouse, dropped files."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import textwrap
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QWheelEvent
from PyQt6.QtWidgets import (
    QApplication,
    QComboBox,
    QFileDialog,
    QMessageBox,
    QPushButton,
    QStyle,
    QStyleOptionComboBox,
    QWidget,
)

from calor import loop
from calor.demo import DEMOS
from calor.design.file import read
from calor.desk.loop.verdict import AdviceCard
from calor.desk.state.places import Remembered, config_file
from calor.desk.widgets.theme import THEMES
from calor.units import celsius_to
from tests.conftest import TEN_LINES, is_current, ran

Desk = Callable[..., Any]


def field(window: Any, place: str) -> Any:
    return window.bench.form.fields[place]


def type_into(qtbot: Any, entry: Any, text: str, key: Qt.Key | None = None) -> None:
    entry.setFocus()
    entry.selectAll()
    qtbot.keyClicks(entry, text)
    if key is not None:
        qtbot.keyClick(entry, key)


def drop(window: Any, path: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    event = QDropEvent(
        QPointF(200, 100), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)
    assert event.isAccepted()


def curve(window: Any, name: str) -> np.ndarray:
    return np.asarray(window.room("loop").strip.whole.curves[name].y)


def choose_law(window: Any, kind: str) -> None:
    """As a person does, from the list of laws."""
    box = window.bench._kinds["law"].box
    box.setCurrentIndex(box.findData(kind))
    box.activated.emit(box.currentIndex())


def test_the_first_minute(desk: Desk, qtbot: Any) -> None:
    """Change the gain, see on/off ripple, pin one against the other, overlay and replay a log, export the C."""
    window = desk()
    desk = window.desk
    assert window.windowTitle() == "Hatching cabinet · Calor"
    assert window.ribbon.cards["probe"].lines[1].startswith("0.0256 °C per count")
    assert not window.room("loop").verdict.quiet.isVisible()  # nothing is said of advice before there was any
    qtbot.waitUntil(lambda: desk.runs.advised, timeout=60_000)
    assert any("Recovery" in card.advice.title for card in window.room("loop").verdict.cards)
    assert (
        window.room("loop").verdict.rows["recovery_s"].mark.text() == "✕ fail"
        and window.room("loop").verdict.summary.text() == "fails 1 of 5"
    )
    before = curve(window, "measured").copy()
    gain = field(window, "law.gain_per_celsius")
    type_into(qtbot, gain.entry, "35")
    ran(qtbot, window)
    assert desk.document.design.law.gain_per_celsius == pytest.approx(0.35)
    assert gain.line.text() == "Same as a 2.86 °C proportional band."
    assert len(curve(window, "measured")) == len(before) and np.abs(curve(window, "measured") - before).max() > 0.1

    window.topbar.pin.click()
    choose_law(window, "on_off")
    ran(qtbot, window)
    ripple = window.room("loop").verdict.rows["ripple_celsius"]
    assert float(ripple.value.text().split()[0]) > 2 and "pinned 0." in ripple.below.text()
    assert len(curve(window, "pinned")) > 100

    drop(window, DEMOS[0].log)
    qtbot.waitUntil(lambda: desk.runs.recorded is not None and desk.runs.current.replayed is not None, timeout=60_000)
    assert len(curve(window, "recorded")) > 100 and len(window.room("loop").strip.rows.rows) == 3
    assert "cabinet temperature" in window.notice.text.text()
    qtbot.waitUntil(
        lambda: any(card.property("of") for card in window.room("loop").verdict._shown_cards), timeout=60_000
    )

    window.room("code").export.write(Path(os.environ["XDG_DATA_HOME"]) / "c")
    qtbot.waitUntil(lambda: "sources, their headers and a README" in window.notice.text.text(), timeout=60_000)
    assert (Path(os.environ["XDG_DATA_HOME"]) / "c" / "hatching_cabinet_thermostat.c").exists()
    choose_law(window, "pid")
    assert desk.document.design.law.gain_per_celsius == pytest.approx(0.35)  # what was set before comes back


def test_every_edit_can_be_undone(desk: Desk, qtbot: Any) -> None:
    window = desk()
    desk, start = window.desk, window.desk.document.design
    label = field(window, "law.gain_per_celsius").name
    qtbot.mousePress(label, Qt.MouseButton.LeftButton, pos=QPoint(5, 5))
    for x in range(8, 80, 4):
        qtbot.mouseMove(label, QPoint(x, 5))
    qtbot.mouseRelease(label, Qt.MouseButton.LeftButton, pos=QPoint(80, 5))
    dragged = desk.document.design.law.gain_per_celsius
    assert dragged > 0.25 and desk.document.undo_stack.count() == 1  # one drag is one step
    entry = field(window, "law.integral_time_s").entry
    entry.setFocus()
    qtbot.keyClick(entry, Qt.Key.Key_Up)
    qtbot.keyClick(entry, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    assert desk.document.design.law.integral_time_s == 900 + 110
    desk.document.end_merging()
    desk.view.choose_bench("trial")
    desk.document.set_values("trial", {"events": ()})
    desk.document.add_trial()
    assert len(desk.document.design.trial) == 4 and desk.document.trial.events == ()
    desk.document.set_kind("load", "lump")
    assert "(edited)" in window.windowTitle()
    final = desk.document.design
    for _ in range(desk.document.undo_stack.count()):
        qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert desk.document.design == start and not desk.document.edited
    while desk.document.undo_stack.canRedo():
        qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert desk.document.design == final
    ran(qtbot, window)


@pytest.mark.parametrize(
    ("typed", "says"),
    [
        ("abc", "is not a number"),
        ("-1", "takes 0 to 100000 % per °C"),
        ("nan", "takes 0 to"),
        ("-1e9", "takes 0 to"),
        ("", "is not a number"),
    ],
)
def test_a_wrong_number_is_said_at_its_field(desk: Desk, qtbot: Any, typed: str, says: str) -> None:
    window = desk()
    before = window.desk.document.design
    gain = field(window, "law.gain_per_celsius")
    gain.entry.setFocus()
    gain.entry.selectAll()
    qtbot.keyClick(gain.entry, Qt.Key.Key_Delete)
    qtbot.keyClicks(gain.entry, typed)
    assert says in gain.line.text() and gain.entry.property("wrong") == "true"
    qtbot.keyClick(gain.entry, Qt.Key.Key_Return)
    assert gain.entry.property("wrong") == "false" and gain.entry.text() == "22"
    assert window.desk.document.design == before


def test_rules_between_settings_are_said_at_the_field(desk: Desk) -> None:
    window = desk()
    before = window.desk.document.design
    low = field(window, "law.output_low")
    low.edited.emit(1.0)
    assert "must be below output_high" in low.line.text() and window.desk.document.design == before
    window.desk.view.choose_bench("setpoint")
    celsius = field(window, "setpoint.celsius")
    celsius.edited.emit(45.0)
    assert "above high_limit_celsius" in celsius.line.text() and window.desk.document.design == before


def test_units_change_everywhere_and_nothing_else(desk: Desk, qtbot: Any) -> None:
    window = desk()
    desk, design = window.desk, window.desk.document.design
    celsius = curve(window, "measured").copy()
    window.desk.view.choose_bench("setpoint")
    for unit, setpoint, band, shown in (("°F", "99.5", "0.9", "99.5 °F"), ("K", "310.65", "0.5", "310.6 K")):
        window.topbar.unit.click()
        ran(qtbot, window)
        assert desk.view.unit == unit and desk.document.design == design and not desk.document.edited
        assert field(window, "setpoint.celsius").entry.text() == setpoint
        assert field(window, "limits.band_celsius").entry.text() == band
        assert window.ribbon.cards["setpoint"].lines[0] == shown and unit in window.topbar.ambient.text()
        assert curve(window, "measured") == pytest.approx(celsius_to(unit, celsius))
        assert unit in window.room("loop").verdict.rows["overshoot_celsius"].value.text()
    entry = field(window, "setpoint.celsius").entry
    type_into(qtbot, entry, "311.15", Qt.Key.Key_Return)
    assert desk.document.design.setpoint.celsius == pytest.approx(38.0)
    assert Remembered().get("unit") == "K"


def test_strip_zooms_pans_and_measures(desk: Desk, qtbot: Any) -> None:
    window = desk()
    strip = window.room("loop").strip
    view = strip.whole
    at = QPointF(strip.rows.x_of(3600), 40)
    wheel = QWheelEvent(at, view.mapToGlobal(at), QPoint(), QPoint(0, 360), Qt.MouseButton.NoButton,
                        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    QApplication.sendEvent(view, wheel)
    begin, end = strip.shown()
    assert end - begin == pytest.approx(7200 * 0.8**3, rel=1e-6) and begin < 3600 < end
    assert strip.time_at(at.x()) == pytest.approx(3600, abs=20)  # what was under the pointer stays there
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=QPoint(300, 40))
    qtbot.mouseMove(view, QPoint(200, 40))
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=QPoint(200, 40))
    assert strip.shown()[0] > begin
    qtbot.mouseDClick(view, Qt.MouseButton.LeftButton, pos=QPoint(200, 40))
    assert strip.shown() == (0, 7200)
    strip.setFocus()
    for key in (Qt.Key.Key_Plus, Qt.Key.Key_Right, Qt.Key.Key_C):
        qtbot.keyClick(strip, key)
    assert strip.shown()[1] < 7200 and len(strip.calipers) == 2 and not strip.readout.isHidden()
    said = strip.readout.text()
    assert all(word in said for word in ("Δt", "ΔT", "slope", "peak to peak"))
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    assert strip.readout.text() != said
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, QPoint(100, 40))
    qtbot.mouseMove(view, QPoint(400, 40))
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=QPoint(400, 40))
    assert strip.calipers == pytest.approx([strip.time_at(100), strip.time_at(400)])
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    assert strip.calipers == [] and strip.readout.isHidden()


def test_advice_is_tried_kept_and_dropped(desk: Desk, qtbot: Any) -> None:
    window = desk()
    desk = window.desk
    qtbot.waitUntil(
        lambda: any("Recovery" in card.advice.title for card in window.room("loop").verdict.cards), timeout=60_000
    )

    def card() -> AdviceCard:
        return next(card for card in window.room("loop").verdict.cards if "Recovery" in card.advice.title)

    before = desk.document.design
    for keep in (False, True):
        card().try_button.click()
        qtbot.waitUntil(lambda: desk.runs.tried is not None, timeout=60_000)
        assert desk.document.design == before and len(curve(window, "ghost")) > 100
        assert "tried" in window.room("loop").verdict.rows["recovery_s"].below.text()
        if keep:
            card().keep_button.click()
        else:
            qtbot.keyClick(window, Qt.Key.Key_Escape)
            assert desk.runs.proposal is None and len(curve(window, "ghost")) == 0
    ran(qtbot, window)
    assert desk.document.design.load.heater_watt == 75 and window.room("loop").verdict.summary.text() == "passes"
    assert desk.document.undo_stack.undoText() == "take the advice"


def test_a_trial_is_chosen_and_edited(desk: Desk, qtbot: Any) -> None:
    window = desk()
    desk = window.desk
    window.topbar.trial.setCurrentIndex(2)
    window.topbar.trial.activated.emit(2)
    ran(qtbot, window)
    assert {event.kind for event, _ in window.room("loop").strip.rows.events} >= {
        "probe_open",
        "mains_lost",
        "probe_fault",
    }
    assert window.ribbon.cards["probe"].attention == "fault in trial"
    window.topbar.edit_trial.click()
    form = window.bench.form
    form.new_kind.setCurrentIndex(form.new_kind.findData("door"))
    form.add.click()
    assert desk.document.trial.events[-1].kind == "door" and len(form._event_fields) == 3
    type_into(qtbot, form._event_fields[2]["at_s"].entry, "1:10:00", Qt.Key.Key_Return)
    assert desk.document.trial.events[-1].at_s == 4200
    type_into(qtbot, window.topbar.span, "3 h", Qt.Key.Key_Return)
    type_into(qtbot, window.topbar.ambient, "15", Qt.Key.Key_Return)
    assert (desk.document.trial.span_s, desk.document.trial.ambient_celsius) == (10_800, 15)
    type_into(qtbot, window.topbar.span, "soon", Qt.Key.Key_Return)
    assert "takes a time such as 2 h" in window.notice.text.text() and desk.document.trial.span_s == 10_800
    next(b for b in form.findChildren(QPushButton) if b.text() == "Remove").click()
    assert len(desk.document.trial.events) == 2
    ran(qtbot, window)
    assert desk.runs.current.trace.span_s == 10_800


def test_open_save_and_what_is_unsaved(desk: Desk, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path, other = tmp_path / "mine.toml", tmp_path / "other"
    path.write_text("# my oven\n" + TEN_LINES)
    window = desk(path)
    desk = window.desk
    assert not window.topbar.save.isEnabled()
    desk.document.set_value("setpoint", "celsius", 48.0)
    assert "•" in window.topbar.name.text()
    window.topbar.save.click()
    assert (
        path.read_text().startswith("# my oven\n")
        and read(path).design.setpoint.celsius == 48
        and not desk.document.edited
    )
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(other), ""))
    qtbot.keyClick(window, Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert desk.document.path == other.with_suffix(".toml") and desk.remembered.recent() == [desk.document.path, path]
    desk.document.set_value("setpoint", "celsius", 47.0)

    answers: list[str] = []

    def answer(box: QMessageBox) -> int:
        wanted = answers.pop(0)
        button = next(button for button in box.buttons() if button.text().replace("&", "") == wanted)
        monkeypatch.setattr(QMessageBox, "clickedButton", lambda _: button)
        return 0

    monkeypatch.setattr(QMessageBox, "exec", answer)
    answers[:] = ["Go back"]
    window.files.open(path)
    assert desk.document.design.setpoint.celsius == 47 and desk.document.edited
    answers[:] = ["Save"]
    window.files.open(path)
    assert (
        desk.document.design.setpoint.celsius == 48 and read(other.with_suffix(".toml")).design.setpoint.celsius == 47
    )
    desk.document.set_value("setpoint", "celsius", 46.0)
    answers[:] = ["Do not save"]
    window.files.new()
    assert (
        desk.document.design.name == "My thermostat"
        and desk.document.path is None
        and read(path).design.setpoint.celsius == 48
    )
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "no" / "x.toml"), ""))
    assert not window.files.save() and "cannot be saved" in window.notice.text.text()


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("bad.toml", "[law]\nkind = 3\n", "bad.toml"),
        ("empty.toml", "", "is empty"),
        ("newer.toml", "format = 9\n", "newer"),
        ("bad.csv", "time_s,temp\n0,20\n1,warm\n", "is not a number"),
        ("binary.csv", "\0\1\2", "is not text"),
        ("short.csv", "time_s,temp\n0,20\n", "at least two"),
    ],
)
def test_bad_files_leave_the_open_design_alone(
    desk: Desk, qtbot: Any, tmp_path: Path, name: str, content: str, says: str
) -> None:
    window = desk()
    before = (window.desk.document.design, window.desk.runs.current, window.desk.runs.recorded)
    path = tmp_path / name
    path.write_text(content)
    drop(window, path)
    qtbot.waitUntil(lambda: not window.notice.isHidden() and says in window.notice.text.text(), timeout=60_000)
    assert window.notice.property("kind") == "error" and "\n" not in window.notice.text.text()
    assert (window.desk.document.design, window.desk.runs.current, window.desk.runs.recorded) == before


def test_find_anything(desk: Desk, qtbot: Any) -> None:
    window = desk()
    for query, check in (
        (
            "dead time",
            lambda: (
                window.desk.view.bench == "load" and window.focusWidget() is field(window, "load.dead_time_s").entry
            ),
        ),
        (
            "cut out",
            lambda: (
                window.desk.view.bench == "law" and window.focusWidget() is field(window, "guard.cut_out_celsius").entry
            ),
        ),
        ("overshoot", lambda: window.focusWidget() is field(window, "limits.overshoot_celsius").entry),
        ("show °f", lambda: window.desk.view.unit == "°F"),
        ("cold room", lambda: window.desk.document.trial_number == 1),
        ("first order", lambda: "opens a door" in window.notice.text.text()),  # a trial has one
        ("lump", lambda: window.desk.document.design.load.kind == "lump"),
        ("dark", lambda: window.theme.name == "dark"),
    ):
        search = window.search()
        qtbot.keyClicks(search.line, query)
        qtbot.keyClick(search.line, Qt.Key.Key_Return)
        qtbot.waitUntil(check, timeout=60_000)
    assert Remembered().get("theme") == "dark"
    search = window.search()
    qtbot.keyClicks(search.line, "zzz")
    assert not search.none.isHidden() and search.list.count() == 0
    search.reject()


def test_keyboard_only(desk: Desk, qtbot: Any) -> None:
    """Tab reaches every control, in the order of the loop, and Alt with a number opens a bench."""
    window = desk()
    window.activateWindow()
    qtbot.waitUntil(lambda: QApplication.activeWindow() is window, timeout=60_000)
    window.topbar.name.setFocus()
    seen: list[QWidget] = []
    for _ in range(120):
        seen.append(window.focusWidget())
        qtbot.keyClick(window.focusWidget(), Qt.Key.Key_Tab)
        if window.focusWidget() is window.topbar.name:
            break
    cards = [seen.index(card) for card in window.ribbon.cards.values()]
    fields = [
        seen.index(field(window, f"law.{key}").entry) for key in ("gain_per_celsius", "integral_time_s", "output_low")
    ]
    assert cards == sorted(cards) and fields == sorted(fields)
    assert seen.index(window.topbar.trial) < cards[0] < fields[0] < seen.index(window.room("loop").strip)
    for number, block in enumerate(("setpoint", "law", "drive", "load", "probe"), 1):
        qtbot.keyClick(window, Qt.Key(Qt.Key.Key_0.value + number), Qt.KeyboardModifier.AltModifier)
        assert window.desk.view.bench == block and window.focusWidget() is window.ribbon.cards[block]


def test_while_a_value_is_dragged_no_run_queues_up(desk: Desk, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    window = desk()
    desk = window.desk
    began, gate = threading.Semaphore(0), threading.Event()
    gains: list[float] = []
    real = loop.run

    def held(design: Any, *arguments: Any) -> Any:
        """The first run is under way until all edits are made."""
        gains.append(design.law.gain_per_celsius)
        began.release()
        assert gate.wait(60.0)
        return real(design, *arguments)

    monkeypatch.setattr(loop, "run", held)
    made: list[int] = []
    desk.simulator.finished.connect(lambda outcome: made.append(outcome.request.number))
    desk.document.set_value("law", "gain_per_celsius", 0.1)
    assert began.acquire(timeout=60.0)
    for k in range(1, 200):
        desk.document.set_value("law", "gain_per_celsius", 0.1 + 0.001 * k)
    last = desk.runs.requests
    gate.set()
    # the desk may show the last run a moment before this test's own listener hears of it
    qtbot.waitUntil(lambda: last in made and is_current(desk), timeout=60_000)
    # of 200 only the one that was under way and the last are run; the first may have been ended early
    assert gains[:2] == [0.1, pytest.approx(0.299)] and made in ([last - 199, last], [last])


def test_a_long_run_says_so_and_can_be_stopped(desk: Desk, qtbot: Any) -> None:
    window = desk()
    desk = window.desk
    shown = desk.runs.current
    desk.document.set_value("law", "period_s", 0.01)
    desk.document.set_value("trial", "span_s", 99_000.0)
    qtbot.waitUntil(lambda: "simulating" in window.room("loop").strip.status.text(), timeout=60_000)
    window.room("loop").strip.stop.click()
    qtbot.waitUntil(lambda: desk.simulator.progress() is None, timeout=60_000)
    assert desk.runs.current.request.design.law.period_s != 0.01 or desk.runs.current.trace.steps < 9_900_000
    assert shown is not None and not window.room("loop").strip.empty.isVisible()


@pytest.mark.parametrize("theme", ["light", "dark"])
@pytest.mark.parametrize("size", [(1280, 800), (1040, 640), (1900, 1000)])
def test_nothing_is_clipped(standing: Any, qtbot: Any, theme: str, size: tuple[int, int]) -> None:
    """On every bench, every label and button has the room its text needs."""
    window = standing
    window.dressing.put_on(THEMES[theme])
    window.resize(*size)
    for block in ("setpoint", "law", "drive", "load", "probe", "trial"):
        window.desk.view.choose_bench(block)
        qtbot.wait(20)
        for button in window.findChildren(QPushButton):
            if button.isVisible() and button.text():
                assert button.width() >= button.sizeHint().width() - 1 or button.property("role") == "segment", (
                    block,
                    button.text(),
                )
        for one in window.bench.form.fields.values():
            assert one.minimumSizeHint().width() <= window.bench.width() - 36, (
                block,
                one.key,
            )  # margins and scroll bar


def test_an_edit_lost_to_a_kill_is_offered_back(desk: Desk, qtbot: Any, tmp_path: Path) -> None:
    path = tmp_path / "mine.toml"
    path.write_text(TEN_LINES)
    code = f"""
        import os, time
        from pathlib import Path
        from calor.desk.app import make_application
        app = make_application()
        from calor.desk.state.desk import Desk
        from calor.desk.state.places import Remembered, recovery_folder
        from calor.desk.state.simulator import Simulator
        desk = Desk(Simulator(), Remembered())
        desk.document.open(Path({str(path)!r}))
        desk.document.set_value("setpoint", "celsius", 44.5)
        end = time.time() + 60.0
        while time.time() < end and not list(recovery_folder().glob("*.json")):
            app.processEvents()
        os._exit(9)
    """
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    assert subprocess.run([sys.executable, "-c", textwrap.dedent(code)], env=environment, check=False).returncode == 9
    window = desk()
    assert "was not saved" in window.notice.text.text() and window.notice.action.text() == "Take it back"
    window.notice.action.click()
    assert (
        window.desk.document.design.setpoint.celsius == 44.5
        and window.desk.document.path == path
        and window.desk.document.edited
    )
    assert read(path).design.setpoint.celsius == 50
    ran(qtbot, window)


def test_damaged_settings_are_as_good_as_none(desk: Desk) -> None:
    config_file().parent.mkdir(parents=True)
    for text in (
        "{",
        "[1]",
        json.dumps({"unit": "°X", "theme": 3, "geometry": "%%", "recent": [1, "/none"], "last": "/none"}),
    ):
        config_file().write_text(text, encoding="utf-8")
        window = desk()
        assert window.desk.view.unit == "°C" and window.desk.remembered.recent() == [] and window.theme.name == "light"


def test_a_mistake_of_the_desk_is_said_and_the_desk_goes_on(desk: Desk, own_directories: Path) -> None:
    from calor.desk.app import report

    window = desk()
    before = window.desk.document.design
    try:
        raise ZeroDivisionError("a slot\nfailed")
    except ZeroDivisionError as error:
        report(window.desk, type(error), error, error.__traceback__)
    said = window.notice.text.text()
    assert "Calor made a mistake" in said and "Error" not in said and "save it" in said and "\n" not in said
    assert "ZeroDivisionError: a slot" in Path(said.rsplit(" ", 1)[-1]).read_text()
    assert "test_desk.py" in Path(said.rsplit(" ", 1)[-1]).read_text() and window.desk.document.design == before


def test_the_menu_offers_what_can_be_done(desk: Desk, tmp_path: Path) -> None:
    path = tmp_path / "mine.toml"
    path.write_text(TEN_LINES)
    window = desk(path)
    window.commands.menu.aboutToShow.emit()

    def actions() -> dict[str, Any]:
        return {action.text().partition("\t")[0]: action for action in window.commands.menu.actions()}

    assert not actions()["Undo"].isEnabled() and not actions()["Remove the log"].isEnabled()
    menus = {text: [a.text() for a in action.menu().actions()] for text, action in actions().items() if action.menu()}
    assert menus == {"Recent designs": ["mine.toml"], "Demo designs": [demo.title for demo in DEMOS]}
    window.desk.document.set_value("setpoint", "celsius", 49.0)
    window.commands.menu.aboutToShow.emit()
    assert actions()["Undo: change celsius"].isEnabled()


def test_empty_trial_and_missing_limits_say_what_to_do(desk: Desk, qtbot: Any, tmp_path: Path) -> None:
    path = tmp_path / "mine.toml"
    path.write_text(TEN_LINES)
    window = desk(path)
    assert (
        "Set them on the Setpoint bench" in window.room("loop").verdict.unjudged.text()
        and window.room("loop").verdict.unjudged.isVisible()
    )
    window.desk.view.choose_bench("trial")
    texts = [label.text() for label in window.bench.form.findChildren(type(window.room("loop").verdict.unjudged))]
    assert any("Nothing happens in this trial" in text for text in texts)
    window.desk.view.choose_bench("setpoint")
    field(window, "limits.overshoot_celsius").edited.emit(3.0)
    ran(qtbot, window)
    assert (
        not window.room("loop").verdict.unjudged.isVisible()
        and window.room("loop").verdict.rows["overshoot_celsius"].isVisible()
    )
    start = field(window, "limits.overshoot_celsius")
    type_into(qtbot, start.entry, "", None)
    qtbot.keyClick(start.entry, Qt.Key.Key_Delete)
    assert window.desk.document.design.limits.overshoot_celsius is None  # an empty field takes an optional limit away


def test_start_and_stop_go_together_on_the_bench(desk: Desk, qtbot: Any) -> None:
    window = desk()
    window.bench.choose_kind("law", "on_off")
    type_into(qtbot, field(window, "law.start_celsius").entry, "37", Qt.Key.Key_Return)
    law = window.desk.document.design.law
    assert (law.start_celsius, law.stop_celsius, law.hysteresis_celsius) == (37.0, 38.0, None)
    start = field(window, "law.start_celsius")
    type_into(qtbot, start.entry, "39", Qt.Key.Key_Return)
    assert "must be below stop_celsius" in start.line.text() and start.entry.text() == "37"
    assert window.desk.document.design.law == law
    field(window, "law.action").edited.emit("cool")
    law = window.desk.document.design.law
    assert (law.action, law.start_celsius, law.stop_celsius) == ("cool", 38.0, 37.0)  # the pair turns round with it
    field(window, "law.action").edited.emit("heat")
    type_into(qtbot, field(window, "law.hysteresis_celsius").entry, "2", Qt.Key.Key_Return)
    law = window.desk.document.design.law
    assert (law.start_celsius, law.stop_celsius, law.hysteresis_celsius) == (None, None, 2.0)
    assert "On below 36.50 °C, off above 38.50 °C" in field(window, "law.placed").line.text()


def test_alarms_are_added_changed_and_taken_away(desk: Desk, qtbot: Any) -> None:
    window = desk()
    desk = window.desk
    desk.view.choose_bench("law")
    rows = window.bench.form.alarms
    count = len(desk.document.design.guard.alarms)
    rows.new_kind.setCurrentIndex(rows.new_kind.findData("loop_break"))
    rows.add.click()
    assert len(desk.document.design.guard.alarms) == count + 1 and desk.document.design.guard.alarms[-1].delay_s == 300
    desk.view.set_unit("°F")
    type_into(qtbot, rows.fields[-1]["celsius"].entry, "3.6", Qt.Key.Key_Return)  # a difference
    assert desk.document.design.guard.alarms[-1].celsius == pytest.approx(2.0)
    rows.new_kind.setCurrentIndex(rows.new_kind.findData("high"))
    rows.add.click()
    type_into(qtbot, rows.fields[-1]["celsius"].entry, "96.8", Qt.Key.Key_Return)  # a temperature
    type_into(qtbot, rows.fields[-1]["delay_s"].entry, "0", Qt.Key.Key_Return)
    assert desk.document.design.guard.alarms[-1].celsius == pytest.approx(36.0)
    ran(qtbot, window)
    assert any(event.text_in("°F").startswith("alarm high, 96.8 °F") for event in desk.runs.current.trace.events)
    while desk.document.undo_stack.canUndo():
        desk.document.undo_stack.undo()
    assert len(desk.document.design.guard.alarms) == count == len(rows.fields)


def test_fan_curve_on_the_bench(desk: Desk, qtbot: Any) -> None:
    """It starts around the setpoint, is drawn with its hysteresis, and what cannot be is said."""
    window = desk()
    window.files.open_demo(1)
    ran(qtbot, window)
    window.bench.choose_kind("law", "fan_curve")
    law = window.desk.document.design.law
    assert (law.start_celsius, law.full_celsius) == (35.0, 45.0)
    picture = window.bench.form.picture
    warming_line, room_line = picture.plot.curves["line 1"], picture.plot.curves["line 0"]
    x, warming = warming_line.x, warming_line.y
    assert np.interp(40.0, x, warming) == pytest.approx(65.0) and np.interp(33.0, x, warming) == 0.0
    assert np.interp(33.0, room_line.x, room_line.y) == pytest.approx(30.0)
    type_into(qtbot, field(window, "law.full_celsius").entry, "30")
    assert "must be below full_celsius" in field(window, "law.full_celsius").line.text()
    type_into(qtbot, field(window, "law.points").entry, "30 0; 36 40", Qt.Key.Key_Return)
    assert "from 0 to 1" in field(window, "law.points").line.text()
    type_into(qtbot, field(window, "law.points").entry, "30 0; 36 0.4; 44 1", Qt.Key.Key_Return)
    assert window.desk.document.design.law.points == ((30.0, 0.0), (36.0, 0.4), (44.0, 1.0))


def grab_corner(qtbot: Any, picture: Any, number: int, to: tuple[float, float]) -> None:
    """Drag a corner of a bench's picture to a place of its axes."""
    plot = picture.plot
    ends = [QPoint(round(plot.to_x(x)), round(plot.to_y(y))) for x, y in (tuple(picture.corners[number]), to)]
    qtbot.mousePress(plot, Qt.MouseButton.LeftButton, pos=ends[0])
    qtbot.mouseMove(plot, ends[1])
    qtbot.mouseRelease(plot, Qt.MouseButton.LeftButton, pos=ends[1])


def test_a_program_is_drawn_dragged_and_listed(desk: Desk, qtbot: Any) -> None:
    """The wax melter: its profile with the finishing time, a corner dragged, a segment more and less, an error at its field."""
    window = desk()
    desk = window.desk
    window.files.open_demo(5)
    desk.view.choose_bench("setpoint")
    ran(qtbot, window)
    picture, rows = window.bench.form.picture, window.bench.form.list
    qtbot.waitUntil(lambda: "finishes at 2:54" in picture.title.text(), timeout=60_000)
    assert [event.kind for event in desk.runs.current.trace.events].count("program_over") == 1
    assert (
        window.room("loop").strip._is_moving
        and "distance from the setpoint" in window.room("loop").strip.close_caption.text()
    )
    before = desk.document.design.setpoint.segments
    grab_corner(qtbot, picture, 1, (picture.corners[1].x, 85.0))
    after = desk.document.design.setpoint.segments
    assert after[1].to_celsius == pytest.approx(85.0, abs=1.0) and after[0] == before[0]
    assert desk.document.undo_stack.count() == 1
    desk.document.undo_stack.undo()
    rows.add.click()
    assert len(desk.document.design.setpoint.segments) == 4 == len(rows.fields)
    type_into(qtbot, rows.fields[3]["to_celsius"].entry, "95")  # beyond the setpoint's upper limit
    assert "high_limit_celsius" in rows.fields[3]["to_celsius"].line.text()
    type_into(qtbot, rows.fields[0]["ramp_s"].entry, "900")
    assert (
        desk.document.design.setpoint.segments[0].ramp_s == 900
        and desk.document.design.setpoint.segments[0].rate_celsius_per_min is None
    )
    buttons = [button for button in rows.findChildren(QPushButton) if button.text() == "Remove"]
    buttons[-1].click()
    assert len(desk.document.design.setpoint.segments) == 3
    desk.document.set_kind("setpoint", "day_night")
    assert desk.document.design.setpoint.night_celsius == desk.document.design.setpoint.day_celsius - 4.0
    assert "hours of a day" in window.bench.form.picture.title.text()


def test_several_outputs_have_a_row_each_and_drives_of_their_own(desk: Desk, qtbot: Any) -> None:
    """Two fans; then stages that turn round with the action; then heating and cooling, with a drive for each."""
    window = desk()
    desk = window.desk
    window.files.open_demo(2)
    ran(qtbot, window)
    assert [row.name for row in window.room("loop").strip.rows.rows] == ["fan", "2nd"]
    assert "second fan" in window.room("loop").strip.demand_caption.text()
    grab_corner(qtbot, window.bench.form.picture, 0, (24.0, 50.0))
    assert desk.document.design.law.start_celsius == pytest.approx(
        24.0, abs=0.6
    ) and desk.document.design.law.floor == pytest.approx(0.5, abs=0.05)
    window.bench.choose_kind("law", "stages")
    assert [stage.on_offset_celsius for stage in desk.document.design.law.stages] == [
        0.5,
        2.0,
    ]  # to cool, above the setpoint
    ran(qtbot, window)
    assert [row.name for row in window.room("loop").strip.rows.rows] == ["1", "2"]
    box = field(window, "law.action").box
    box.setCurrentIndex(box.findData("heat"))
    box.activated.emit(box.currentIndex())
    assert [stage.on_offset_celsius for stage in desk.document.design.law.stages] == [-0.5, -2.0]
    window.bench.form.list.add.click()
    assert len(desk.document.design.law.stages) == 3 and window.bench.form.picture.title.text().startswith(
        "% of the power"
    )
    window.bench.choose_kind("law", "pid")
    assert "law.dead_zone" not in window.bench.form.fields
    desk.document.set_value("law", "action", "heat_cool")
    assert "law.dead_zone" in window.bench.form.fields
    ran(qtbot, window)
    assert "cooling below 0" in window.room("loop").strip.demand_caption.text()
    desk.view.choose_bench("drive")
    second = field(window, "design.second_drive.kind").box
    second.setCurrentIndex(second.findData("pwm"))
    second.activated.emit(second.currentIndex())
    assert desk.document.design.second_drive.kind == "pwm" and "second_drive.frequency_hz" in window.bench.form.fields
    assert window.bench.form.driver.lines and all(line.holds for line in window.bench.form.driver.lines)
    desk.document.set_value("driver", "on_ohm", 50.0)
    assert [line.what for line in window.bench.form.driver.lines if not line.holds] == ["Loss, I²·R"]


def test_the_start_page(desk: Desk, qtbot: Any) -> None:
    """Each shipped design with what its first trial does; one opens by keyboard; Escape goes back."""
    window = desk()
    page = window.start.page
    qtbot.keyClick(window, Qt.Key.Key_H, Qt.KeyboardModifier.ControlModifier)
    assert page.isVisible() and not window.bench.isVisible() and not window.topbar.trial.isVisible()
    qtbot.waitUntil(lambda: all(card.thumbnail is not None for card in page.cards), timeout=30_000)
    assert all(np.isfinite(card.thumbnail.measured_celsius).any() for card in page.cards)
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    assert window.room("loop").page.isVisible() and window.topbar.trial.isVisible() and page.isHidden()
    window.desk.view.choose_room("start")
    qtbot.keyClick(page.cards[3], Qt.Key.Key_Space)
    assert (
        window.desk.document.design.name == "Film bath"
        and page.isHidden()
        and window.room("loop").page.isVisible()
        and window.topbar.trial.isVisible()
    )


def test_a_recorded_ambient_is_chosen_and_checked(desk: Desk, qtbot: Any, tmp_path: Path) -> None:
    window = desk()
    window.desk.view.choose_bench("trial")
    form = window.bench.form
    assert not form.fields["ambient_column"].isVisible()
    type_into(qtbot, form.fields["ambient_csv"].entry, str(tmp_path / "none.csv"), Qt.Key.Key_Return)
    assert "there is no such file" in form.fields["ambient_csv"].line.text()
    (tmp_path / "air.csv").write_text("time_s,air\n0,10\n7200,30\n")
    type_into(qtbot, form.fields["ambient_csv"].entry, str(tmp_path / "air.csv"), Qt.Key.Key_Return)
    ran(qtbot, window)
    assert (
        window.desk.document.trial.ambient_csv == str(tmp_path / "air.csv")
        and form.fields["ambient_column"].isVisible()
    )
    type_into(qtbot, form.fields["ambient_csv"].entry, " ", Qt.Key.Key_Return)
    assert window.desk.document.trial.ambient_csv is None


def test_what_is_said_of_the_loop_is_seen(desk: Desk, qtbot: Any) -> None:
    """While it is compiled the strip says so; where it cannot be, a note says what to install and the run goes on."""
    from calor.compiled.library import COMPILING

    window = desk()
    result, window.desk.runs.current = window.desk.runs.current, None
    window.desk.simulator.told.emit(COMPILING)
    assert (
        "Compiling the loop for this machine" in window.room("loop").strip.empty.text()
        and window.room("loop").strip.empty.isVisible()
    )
    window.desk.runs.current = result
    window.desk.runs.changed.emit()
    assert not window.room("loop").strip.empty.isVisible()
    window.desk.simulator.told.emit("no C compiler makes the loop: install one")
    assert window.notice.text.text() == "No C compiler makes the loop: install one" and not window.notice.isHidden()


def test_dense_curves_are_painted_as_what_they_cover(desk: Desk, qtbot: Any) -> None:
    """Reference: the same curve stroked point by point by Qt; where either has ink the other has it within a pixel."""
    from PyQt6.QtGui import QColor, QImage, QPainter, QPen

    from calor.desk.widgets.painting import Curve, paint_curve, polygon

    desk()
    x = np.linspace(5.0, 295.0, 4000)
    y = 60.0 + 40.0 * np.sin(x / 20.0) + np.random.default_rng(3).standard_normal(4000) * 4.0
    y[1500:1700] = np.nan  # the line is broken here
    painted = []
    for dense in (True, False):
        image = QImage(300, 120, QImage.Format.Format_Grayscale8)
        image.fill(255)
        painter = QPainter(image)
        if dense:
            paint_curve(painter, Curve(x, y, "#000000"), lambda x: x, lambda y: y)
        else:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(QColor("#000000"), 1.6))
            for part in (slice(0, 1500), slice(1700, 4000)):
                painter.drawPolyline(polygon(x[part], y[part]))
        painter.end()
        bits = image.constBits()
        assert bits is not None
        bits.setsize(image.sizeInBytes())
        painted.append(np.frombuffer(bits, np.uint8).reshape(120, -1)[:, :300].copy() < 128)
    for ours, other in (painted, painted[::-1]):
        near = np.zeros_like(other)
        for across in (-1, 0, 1):
            for up in (-1, 0, 1):
                near |= np.roll(other, (up, across), (0, 1))
        assert (ours & ~near).sum() == 0 and 2000 < ours.sum() < 9000
    assert not painted[0][:, 120:122].any()  # and nothing is there where the line is broken


def test_a_dense_curve_begins_where_its_points_do(qapp: Any) -> None:
    """Where pixels lie between two points, the line between them is all there is."""
    from PyQt6.QtGui import QImage, QPainter

    from calor.desk.widgets.painting import Curve, paint_curve

    image = QImage(300, 120, QImage.Format.Format_ARGB32)
    image.fill(0)
    painter = QPainter(image)
    x = np.concatenate(([0.0, 100.0], np.linspace(100.2, 299.0, 4000)))
    y = np.concatenate(([100.0, 100.0], 10.0 + 5.0 * np.sin(np.arange(4000.0))))
    paint_curve(painter, Curve(x, y, "#000000", 1.0), lambda values: values, lambda values: values)
    painter.end()
    ink = [[image.pixelColor(column, row).alpha() for row in range(120)] for column in range(0, 95, 5)]
    assert all(max(column[:95]) == 0 and max(column[95:105]) > 0 for column in ink)


def test_rooms_are_built_when_they_are_first_opened(desk: Desk, qtbot: Any) -> None:
    window = desk()
    probe, code = window.room("probe"), window.room("code")
    assert not probe.is_built and not code.is_built
    window.toggle_theme()
    window.desk.view.choose_room("probe")
    assert probe.is_built and not code.is_built and window.room("probe").page.isVisible()
    assert (
        window.room("probe").page.transfer.plot.theme is window.theme
    )  # it is in the theme chosen before it was there
    window.desk.view.go_back()
    qtbot.keyClick(window, Qt.Key.Key_4, Qt.KeyboardModifier.ControlModifier)
    assert code.is_built and window.room("code").page.isVisible()
    window.toggle_theme()


def test_lists_that_open_show_all_there_is(desk: Desk, qtbot: Any) -> None:
    """Every entry has its place in the list, whole, and the chosen one is in sight."""
    window = desk()
    boxes = []
    for block in ("law", "trial"):
        window.desk.view.choose_bench(block)
        boxes += [box for box in window.bench.findChildren(QComboBox) if box.isVisible()][:2]
        for box in boxes[-2:]:
            box.showPopup()
            view, model = box.view(), box.model()
            qtbot.waitUntil(view.isVisible, timeout=60_000)
            last = view.visualRect(model.index(box.count() - 1, box.modelColumn()))
            assert box.count() > 1 and last.bottom() < view.viewport().height() and last.height() >= 20, (
                box.currentText()
            )
            # opened as a menu it would have arrows over its first and last entries
            option = QStyleOptionComboBox()
            box.initStyleOption(option)
            style = box.style()
            assert style.styleHint(QStyle.StyleHint.SH_ComboBox_Popup, option, box) == 0, box.currentText()
            box.hidePopup()
    assert len(boxes) >= 2
