"""The Logs room, driven as a person drives it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel

from calor.demo import AFTER, BATH, BEFORE, CABINET, WAX
from calor.design.file import read
from calor.desk.widgets.theme import THEMES
from calor.log.remembered import store
from tests.conftest import TEN_LINES, ran
from tests.records import as_csv, recorded

Desk = Callable[..., Any]


def opened(qtbot: Any, room: Any, *paths: Path) -> Any:
    """Open records, and wait until all are read and measured."""
    before = len(room.shelf.opened)
    for path in paths:
        room.shelf.open(path)
    qtbot.waitUntil(lambda: len(room.shelf.opened) == before + len(paths), timeout=60_000)
    rested(qtbot, room)
    return room.shelf.chosen


def rested(qtbot: Any, room: Any) -> None:
    shelf = room.shelf
    qtbot.waitUntil(
        lambda: shelf.worker.progress() is None and not shelf.worker._wanted and not shelf.reading, timeout=60_000
    )
    qtbot.wait(10)


def fitted(qtbot: Any, room: Any) -> Any:
    """Press *Fit*, and wait for what comes of it."""
    item = room.shelf.chosen
    room.page.fit.fit_button.click()
    qtbot.waitUntil(lambda: item.fit is not None or bool(item.fit_problem), timeout=60_000)
    rested(qtbot, room)
    return item.fit


@pytest.fixture
def room(desk: Desk, qtbot: Any) -> Any:
    """A desk with the Logs room open."""
    window = desk()
    window.desk.view.choose_room("logs")
    logs = window.room("logs")
    logs.window = window
    return logs


def texts(widget: Any) -> str:
    return " | ".join(label.text() for label in widget.findChildren(QLabel) if label.isVisible())


def test_an_empty_room_says_what_to_do(room: Any, qtbot: Any) -> None:
    page = room.page
    assert "Open a log" in page.strip.empty.text() and page.strip.empty.isVisible() and not page.right.isVisible()
    assert not room.window.ribbon.isVisible() and not room.window.bench.isVisible()
    page.records.demo_buttons[0].click()
    qtbot.waitUntil(lambda: room.shelf.chosen is not None, timeout=60_000)
    rested(qtbot, room)
    assert page.records.list.count() == 1 and not page.records.demos.isVisible() and page.right.isVisible()
    qtbot.waitUntil(lambda: "Switchings per hour" in texts(page.measures), timeout=60_000)
    page.records.remove_button.click()
    assert page.strip.empty.isVisible() and page.records.demos.isVisible()


def test_columns_are_set_right_and_remembered(room: Any, qtbot: Any, tmp_path: Path) -> None:
    """A menu over each column; the first rows below it; a wrong choice is said and leaves the record as it was."""
    log = tmp_path / "two.csv"
    log.write_text(
        "seconds,top C,bottom C,level\n" + "".join(f"{k},{20 + k},{50 - k},{51 * (k % 2)}\n" for k in range(40)),
        encoding="utf-8",
    )
    item = opened(qtbot, room, log)
    page = room.page
    page.records.columns_button.setChecked(True)

    def menus() -> dict[str, Any]:
        return {
            menu.accessibleName().removeprefix("What column ").removesuffix(" is"): menu for menu in page.columns.menus
        }

    assert [menu.currentData() for menu in page.columns.menus] == ["time", "temperature", "kept", ""]
    assert "22" in texts(page.columns)

    def choose(name: str, role: str) -> None:
        menu = menus()[name]
        menu.setCurrentIndex(menu.findData(role))
        menu.activated.emit(menu.currentIndex())
        rested(qtbot, room)

    choose("bottom C", "temperature")
    assert item.record.trace.measured_celsius[0] == 50.0 and menus()["bottom C"].currentData() == "temperature"
    choose("level", "output")
    page.columns.scale.setText("102")
    page.columns.scale.setModified(True)
    page.columns.scale.editingFinished.emit()
    rested(qtbot, room)
    assert item.record.trace.recorded_output[1] == pytest.approx(0.5)
    page.columns.scale.setText("none")
    page.columns.scale.setModified(True)
    page.columns.scale.editingFinished.emit()
    assert "above 0" in page.columns.problem.text() and page.columns.problem.isVisible()
    choose("bottom C", "")
    assert "no column of temperatures" in room.window.notice.text.text()
    assert item.record.trace.measured_celsius[0] == 50.0 and menus()["bottom C"].currentData() == "temperature"
    # a file with the same columns is read so by itself
    other = tmp_path / "again.csv"
    other.write_text(log.read_text(encoding="utf-8"), encoding="utf-8")
    assert opened(qtbot, room, other).record.trace.measured_celsius[0] == 50.0
    page.columns.as_recognised.click()
    rested(qtbot, room)
    assert room.shelf.chosen.record.trace.measured_celsius[0] == 20.0 and "bottom" not in store().read_text(
        encoding="utf-8"
    )
    page.columns.unit.setCurrentText("°F")
    page.columns.unit.activated.emit(1)
    rested(qtbot, room)
    assert room.shelf.chosen.record.trace.measured_celsius[0] == pytest.approx(-20.0 / 3.0)


def test_findings_are_shown_and_taken_back(room: Any, qtbot: Any) -> None:
    item = opened(qtbot, room, WAX)
    page = room.page
    row = next(row for row in page.records.finding_rows if "Spikes" in row.treated.text())
    assert "15" in row.treated.text() and row.treated.isChecked()
    row.show_button.click()
    begin, end = page.strip.shown()
    assert begin < item.record.finding("spike").at_s[0] < end and end - begin < 1000.0
    highest = item.record.trace.measured_range[1]
    row.treated.click()
    rested(qtbot, room)
    assert item.record.trace.measured_range[1] > highest + 10.0 and item.record.finding("spike").taken_back
    next(row for row in page.records.finding_rows if "Spikes" in row.treated.text()).treated.click()
    rested(qtbot, room)
    assert item.record.trace.measured_range[1] == highest


def test_a_stretch_is_measured_by_dragging(room: Any, qtbot: Any) -> None:
    opened(qtbot, room, CABINET)
    page, lane = room.page, room.page.strip.whole
    whole = {title: value for title, value, _ in page.measures.texts()}

    def mouse(kind: QEvent.Type, x: float) -> None:
        event = QMouseEvent(kind, QPointF(x, 60), lane.mapToGlobal(QPointF(x, 60)), Qt.MouseButton.LeftButton, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier)  # fmt: skip
        QApplication.sendEvent(lane, event)

    mouse(QEvent.Type.MouseButtonPress, 0.2 * lane.width())
    mouse(QEvent.Type.MouseMove, 0.4 * lane.width())
    mouse(QEvent.Type.MouseButtonRelease, 0.4 * lane.width())
    rested(qtbot, room)
    begin, end = room.shelf.stretch
    assert 0 < begin < end < 7200 and page.measures.leave_out.isVisible() and page.strip.readout.isVisible()
    part = {title: value for title, value, _ in page.measures.texts()}
    assert part["Lowest"] != whole["Lowest"] and "stretch" in page.measures.title.text()
    page.measures.leave_out.click()
    assert room.shelf.chosen.left_out == ((round(begin, 3), round(end, 3)),)
    qtbot.keyClick(room.window, Qt.Key.Key_Escape)
    rested(qtbot, room)
    assert room.shelf.stretch is None and not page.strip.calipers
    assert {title: value for title, value, _ in page.measures.texts()} == whole


def test_a_fit_is_shown_used_and_undone(room: Any, qtbot: Any, tmp_path: Path) -> None:
    """From a record to the design: one undo; and the record's conditions as a trial that the simulation repeats."""
    log = tmp_path / "bath.csv"
    log.write_text(as_csv(recorded("on_off", 3600, 1)), encoding="utf-8")
    window, page = room.window, room.page
    place = tmp_path / "design.toml"
    opened(qtbot, room, log)
    fit = fitted(qtbot, room)
    # a load without a loss goes with no open door, and that is said
    page.fit.use.click()
    assert "door" in window.notice.text.text() and window.desk.document.design.load.kind == "chamber"
    window.desk.document.open_text(TEN_LINES)
    assert window.desk.document.save(place)
    assert fit.load.kind == "first_order" and page.strip.residual.isVisible() and len(page.fit.whiskers.numbers) == 3
    assert (
        "Every number" in page.fit.only.text()
        and "rms" in page.fit.residual.text()
        and "First order" in page.fit.answer.text()
    )
    before = window.desk.document.design
    page.fit.use.click()
    assert window.desk.document.design.load.kind == "first_order" and "Ctrl+Z" in window.notice.text.text()
    assert window.desk.document.design.load.rise_celsius == pytest.approx(100.0, rel=0.01)
    window.desk.document.undo()
    assert window.desk.document.design == before
    page.fit.trial.click()
    page.fit.use.click()
    ran(qtbot, window)
    trial = window.desk.document.trial
    assert trial.output_csv is not None and Path(trial.output_csv).parent == tmp_path
    run, record = window.desk.runs.current.trace, room.shelf.chosen.record.trace
    answer = np.interp(record.time_s, run.time_s, run.true_celsius)
    assert float(np.sqrt(np.mean((answer - record.measured_celsius) ** 2))) < 0.1
    assert window.desk.document.save(place)
    assert read(place).design.trial[-1].output_csv == trial.output_csv and "design_bath.csv" in place.read_text(
        encoding="utf-8"
    )
    page.fit.overlay.click()
    ran(qtbot, window)
    assert window.desk.view.room == "loop" and window.desk.runs.recorded is record
    assert window.desk.document.trial.output_csv is None and window.desk.document.trial.name.endswith("by this law")


def test_a_fit_that_cannot_tell_and_one_that_cannot_be(room: Any, qtbot: Any, tmp_path: Path) -> None:
    log, bare = tmp_path / "short.csv", tmp_path / "bare.csv"
    log.write_text(as_csv(recorded("step", 210, 1)), encoding="utf-8")
    bare.write_text("time_s,temp_c\n" + "".join(f"{k},{20 + 0.1 * k}\n" for k in range(60)), encoding="utf-8")
    page = room.page
    opened(qtbot, room, log)
    page.fit.order.setCurrentIndex(page.fit.order.findData("1"))
    page.fit.order.activated.emit(page.fit.order.currentIndex())
    assert not fitted(qtbot, room).is_told and "only the slope" in page.fit.only.text()
    opened(qtbot, room, bare)
    assert fitted(qtbot, room) is None and "no column of the output" in page.fit.problem.text()
    assert not page.fit.use.isVisible() and not page.strip.residual.isVisible()
    page.fit.ambient.setCurrentIndex(page.fit.ambient.findData("given"))
    page.fit.ambient_value.setText("warm")
    page.fit.ambient_value.editingFinished.emit()
    assert page.fit.ambient_value.property("wrong") == "true"


def test_own_load_with_a_door_left_out_in_one_step(room: Any, qtbot: Any) -> None:
    opened(qtbot, room, CABINET)
    page = room.page
    page.fit.order.setCurrentIndex(page.fit.order.findData("own"))
    page.fit.order.activated.emit(page.fit.order.currentIndex())
    assert page.fit.boxes["loss_w_per_k"].isChecked() and not page.fit.boxes["heater_watt"].isChecked()
    page.fit.boxes["heater_watt"].click()
    spoilt = fitted(qtbot, room)
    assert not spoilt.explains and not page.fit.use.isEnabled() and page.fit.suspect.isVisible()
    page.fit.suspect.click()
    item = room.shelf.chosen
    qtbot.waitUntil(lambda: item.fit is not None, timeout=60_000)
    rested(qtbot, room)
    assert item.fit.explains and page.fit.use.isEnabled() and page.fit.left_out.isVisible()
    for key, value in {"loss_w_per_k": 1.25, "contents_j_per_k": 1350.0, "heater_watt": 57.0}.items():
        assert item.fit.number(key).value == pytest.approx(value, rel=0.06)


def test_two_records_side_by_side(room: Any, qtbot: Any) -> None:
    room.page.records.open_demo("Radio hut, one fan and two")
    qtbot.waitUntil(lambda: len(room.shelf.opened) == 2, timeout=60_000)
    rested(qtbot, room)
    page, shelf = room.page, room.shelf
    assert shelf.chosen.paths == (AFTER,) and shelf.other.paths == (BEFORE,)
    cells = {title: (value, beneath) for title, value, beneath in page.measures.texts()}
    assert all(all(pair) for pair in cells.values()) and cells["Highest"][0] < cells["Highest"][1]
    assert page.strip.ambient.isVisible() and len(page.strip.rows.rows) == 2
    for row, how in enumerate(("start", "time of day", "crossing")):
        page.records.how.activated.emit(row)
        assert shelf.aligned.how == how
    assert "crossing" in page.strip.legend.entries[-1][0]
    page.records.other.setCurrentIndex(0)
    page.records.other.activated.emit(0)
    assert shelf.other is None


def test_files_are_joined_and_two_records_fitted_together(
    room: Any, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A second file of the run comes behind the first; one load is fitted to both records."""
    paths = []
    for number, (kind, span_s) in enumerate((("step", 900), ("on_off", 1800), ("on_off", 1200))):
        paths.append(tmp_path / f"{number}.csv")
        paths[-1].write_text(as_csv(recorded(kind, span_s, number)), encoding="utf-8")
    item = opened(qtbot, room, paths[0])
    steps = item.record.trace.steps
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *a: ([str(paths[1])], ""))
    room.page.records.join_button.click()
    qtbot.waitUntil(lambda: item.record.trace.steps > steps, timeout=60_000)
    rested(qtbot, room)
    assert item.paths == tuple(paths[:2]) and "and 1 more" in room.page.records.list.item(0).text()
    opened(qtbot, room, paths[2])
    room.shelf.compare(0)
    rested(qtbot, room)
    room.page.fit.together.click()
    fit = fitted(qtbot, room)
    assert len(fit.records) == 2 and fit.is_told and fit.number("rise_celsius").value == pytest.approx(100.0, rel=0.01)


def test_a_long_fit_is_stopped(room: Any, qtbot: Any, tmp_path: Path) -> None:
    log = tmp_path / "long.csv"
    log.write_text(as_csv(recorded("on_off", 20_000, 1)), encoding="utf-8")
    item = opened(qtbot, room, log)
    page = room.page
    page.fit.fit_button.click()
    qtbot.waitUntil(lambda: page.fit.stop_button.isVisible() or item.fit is not None, timeout=60_000)
    assert room.at_work or item.fit is not None
    page.fit.stop_button.click()
    qtbot.waitUntil(lambda: bool(item.fit_problem) or item.fit is not None, timeout=60_000)
    assert item.fit is not None or "stopped" in page.fit.problem.text()


def test_from_the_loop_room_one_step_leads_here(desk: Desk, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    window = desk()
    room = window.room("logs")
    window.take(CABINET)
    qtbot.waitUntil(lambda: window.desk.runs.recorded is not None, timeout=60_000)
    assert window.notice.action.text() == "Measure the overlaid log"
    window.notice.action.click()
    qtbot.waitUntil(lambda: room.shelf.chosen is not None, timeout=60_000)
    rested(qtbot, room)
    assert window.desk.view.room == "logs" and room.shelf.chosen.paths == (CABINET,)
    # dropped here it is measured, and chosen by a dialog as well
    window.take(BATH)
    qtbot.waitUntil(lambda: len(room.shelf.opened) == 2, timeout=60_000)
    rested(qtbot, room)
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *a: ([str(WAX), str(CABINET)], ""))
    room.page.records.open_button.click()
    qtbot.waitUntil(lambda: len(room.shelf.opened) == 3, timeout=60_000)
    rested(qtbot, room)
    window.desk.view.set_unit("°F")
    assert all("°C" not in value for _, value, _ in room.page.measures.texts())
    for theme in ("dark", "light"):
        window.dressing.put_on(THEMES[theme])


def test_a_log_that_others_changed_is_said(desk: Desk, qtbot: Any, tmp_path: Path) -> None:
    """What is shown stays until it is read again, by the command beside the notice or by opening it again."""
    path = tmp_path / "mine.csv"
    path.write_text("time_s,temperature_celsius\n" + "".join(f"{k * 5},{20 + k}\n" for k in range(20)))
    window = desk()
    window._choose_room("logs")
    shelf = window.room("logs").shelf
    shelf.open(path)
    qtbot.waitUntil(lambda: shelf.chosen is not None and not shelf.reading, timeout=60_000)
    assert not shelf.chosen.is_changed
    path.write_text(path.read_text() + "100,45\n")
    shelf.choose(0)
    assert "mine.csv was changed on disk" in window.notice.text.text() and shelf.chosen.record.trace.steps == 20
    window.notice.action.click()
    qtbot.waitUntil(lambda: not shelf.reading and shelf.chosen.record.trace.steps == 21, timeout=60_000)
    assert not shelf.chosen.is_changed
    path.write_text(path.read_text() + "105,46\n")
    shelf.open(path)
    qtbot.waitUntil(lambda: not shelf.reading and shelf.chosen.record.trace.steps == 22, timeout=60_000)
    path.unlink()
    shelf.look_at_disk()
    assert "was changed on disk" in window.notice.text.text()
