"""The Board room: the stand-in started by one button, a curve that grows, what is sent and refused, the record after."""

from __future__ import annotations

import math
from typing import Any

import pytest
from PyQt6.QtCore import Qt

from calor.board.live import LiveRows
from calor.board.stand_in import StandIn
from calor.desk.widgets.places import BACK


@pytest.fixture
def started(desk: Any, qtbot: Any) -> Any:
    """(window, page, work) with the stand-in on the line."""
    window = desk()
    window._choose_room("board")
    page, work = window.room("board").page, window.room("board").work
    assert page.strip.empty.isVisible() and not page.off.isEnabled() and not page.to_logs.isEnabled()
    page.stand_in.click()
    qtbot.waitUntil(lambda: work.rows.count > 5 and work.link.greeting is not None, timeout=60_000)
    return window, page, work


def test_a_curve_that_grows_and_what_is_sent(started: Any, qtbot: Any) -> None:
    window, page, work = started
    assert window.room("board").at_work and page.connect_button.text() == "Disconnect"
    qtbot.waitUntil(lambda: bool(page.strip.runs), timeout=10_000)
    assert [one.name for one in page.strip.runs] == ["board", "design, simulated"]
    page.setpoint.setText("30")
    page.send.click()
    qtbot.waitUntil(lambda: work.latest().get("setpoint_celsius") == 30.0, timeout=30_000)
    qtbot.waitUntil(lambda: "≠ the design's 37.5 °C" in page.differs.text(), timeout=10_000)
    for text, says in (
        ("99", "setpoint limits are 20.0 °C to 39.0 °C"),
        ("hot", "takes a number"),
        ("nan", "takes a number"),
    ):
        page.setpoint.setText(text)
        page.send.click()
        assert says in window.notice.text.text()
    assert work.latest()["setpoint_celsius"] == 30.0
    page.take_back.click()
    assert window.desk.document.design.setpoint.celsius == 30.0
    window.desk.document.undo()
    page.hand.setText("25")
    page.by_hand.click()
    qtbot.waitUntil(lambda: work.latest().get("demand") == 0.25, timeout=30_000)
    page.hand.setText("250")
    page.by_hand.click()
    qtbot.waitUntil(lambda: "Refused" in page.said.text(), timeout=30_000)
    window.notice.hide()
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: work.latest().get("demand") == 0.0, timeout=30_000)
    page.auto.click()
    qtbot.waitUntil(lambda: work.said.startswith("Done: auto"), timeout=30_000)
    page.note.setText("door opened")
    page.mark.click()
    qtbot.waitUntil(lambda: any(event.text == "door opened" for event, _ in page.strip.rows.events), timeout=10_000)
    page.fault.activated.emit(page.fault.findData("probe_open"))
    qtbot.waitUntil(lambda: math.isnan(work.latest().get("measured_celsius", 0.0)), timeout=30_000)


def test_the_record_goes_on_to_logs_and_journal(started: Any, qtbot: Any) -> None:
    window, page, work = started
    qtbot.waitUntil(lambda: work.rows.count > 60, timeout=60_000)
    page.connect_button.click()
    assert not work.is_open and "outputs off" in page.said.text() and work.stand_in is None
    page.to_journal.click()
    assert window.desk.kept.rows[0].kind == "recorded"
    page.to_logs.click()
    assert window.desk.view.room == "logs"
    shelf = window.room("logs").shelf
    qtbot.waitUntil(lambda: len(shelf.opened) == 1, timeout=60_000)
    window._choose_room("board")
    page.port.setEditText("/dev/none")
    page.connect_button.click()
    assert "cannot be opened" in page.said.text() and not work.is_open


@pytest.mark.parametrize(("chosen", "demand"), [("Leave it as it is", 0.25), ("Output off", 0.0)])
def test_closing_asks_what_becomes_of_the_output(
    desk: Any, qtbot: Any, chosen: str, demand: float, cabinet: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    board = StandIn(cabinet, faster=20.0)
    board.start()
    window = desk()
    work = window.room("board").work
    work.connect_to(board.port, 115_200)
    qtbot.waitUntil(lambda: work.rows.count > 3, timeout=60_000)
    work.send("hand 0.25")
    qtbot.waitUntil(lambda: work.latest().get("demand") == 0.25, timeout=60_000)
    monkeypatch.setattr("calor.desk.board.room.choice", lambda *_: BACK)
    assert not window.close() and window.isVisible()
    monkeypatch.setattr("calor.desk.board.room.choice", lambda *_: chosen)
    assert window.close()
    steps = board.steps
    qtbot.waitUntil(lambda: board.steps > steps + 2, timeout=60_000)
    assert board.demand == demand
    board.close()


def test_rows_that_begin_afresh_go_on() -> None:
    rows = LiveRows()
    for k in range(5000):
        rows.add({"time_s": float(k), "measured_celsius": 20.0 + k}, 0.0)
    rows.mark("reset")
    for k in range(10):
        rows.add({"t": float(k), "temp": 7.0}, 0.0)
    rows.add({"value": 3.0}, 6000.0)
    trace = rows.trace("x")
    assert trace is not None and trace.steps == 5011
    assert (trace.time_s[1:] > trace.time_s[:-1]).all() and trace.measured_celsius[5000] == 7.0
    assert trace.events[0].at_s == 4999.0 and LiveRows().trace("x") is None
