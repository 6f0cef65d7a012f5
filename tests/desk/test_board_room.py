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
    """(window, page, work) with the stand-in on the line, and all known that can be set on it."""
    window = desk()
    window._choose_room("board")
    page, work = window.room("board").page, window.room("board").work
    assert page.strip.empty.isVisible() and not page.off.isEnabled() and not page.to_logs.isEnabled()
    assert not page.settable.table.isVisible() and not page.front.isVisible()
    page.connection.stand_in.click()
    qtbot.waitUntil(lambda: work.rows.count > 5 and len(work.values) >= 8, timeout=60_000)
    return window, page, work


def put(page: Any, key: str, text: str) -> None:
    """Choose a line of what can be set, type a value, send it."""
    page.settable.table.selectRow(page.settable._keys.index(key))
    page.settable.entry.setText(text)
    page.settable.entry.setModified(True)
    page.settable.send.click()


def test_a_curve_that_grows_and_what_is_sent(started: Any, qtbot: Any) -> None:
    window, page, work = started
    assert window.room("board").at_work and page.connection.connect_button.text() == "Disconnect"
    assert page.connection.port.currentText() == work.stand_in.port
    qtbot.waitUntil(lambda: bool(page.strip.runs), timeout=10_000)
    assert [one.name for one in page.strip.runs] == ["board", "design, simulated"]
    put(page, "setpoint_celsius", "30")
    qtbot.waitUntil(lambda: work.latest().get("setpoint_celsius") == 30.0, timeout=30_000)
    for text, says in (
        ("99", "setpoint limits are 20 °C to 39 °C"), ("hot", "takes a number"), ("nan", "takes a number"),
    ):  # fmt: skip
        put(page, "setpoint_celsius", text)
        assert says in window.notice.text.text()
    assert work.latest()["setpoint_celsius"] == 30.0
    put(page, "output_low", "250")
    assert "the board takes 0 % to 100 %; it is not sent" in window.notice.text.text()
    page.hand.setText("25")
    page.by_hand.click()
    qtbot.waitUntil(lambda: work.latest().get("demand") == 0.25, timeout=30_000)
    page.hand.setText("250")
    page.by_hand.click()
    qtbot.waitUntil(lambda: "Refused" in page.connection.said.text(), timeout=30_000)
    window.notice.hide()
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: work.latest().get("demand") == 0.0, timeout=30_000)
    page.auto.click()
    qtbot.waitUntil(lambda: work.said.startswith("Done: auto"), timeout=30_000)
    page.note.setText("door opened")
    page.mark.click()
    qtbot.waitUntil(lambda: any(event.text == "door opened" for event, _ in page.strip.rows.events), timeout=10_000)
    page.connection.fault.activated.emit(page.connection.fault.findData("probe_open"))
    qtbot.waitUntil(lambda: math.isnan(work.latest().get("measured_celsius", 0.0)), timeout=30_000)
    qtbot.waitUntil(lambda: page.figures["Reading"].text() == "probe fault", timeout=10_000)


def test_what_is_looked_at_stays_while_it_grows(started: Any, qtbot: Any) -> None:
    """The axis has room for what comes, by doubling; a stretch that was zoomed to stays, and calipers with it."""
    _, page, work = started
    strip = page.strip
    qtbot.waitUntil(lambda: bool(strip.runs) and strip.runs[0].trace.span_s > 20.0, timeout=60_000)
    assert strip.shown()[0] == 0.0 and math.log2(strip.shown()[1] / 120.0).is_integer()
    strip.look_at(5.0, 15.0)
    strip.set_calipers(True)
    places, span_s = list(strip.calipers), strip.runs[0].trace.span_s
    qtbot.waitUntil(lambda: strip.runs[0].trace.span_s > span_s + 10.0, timeout=60_000)
    assert strip.shown() == (5.0, 15.0) and strip.calipers == places
    strip.restore()
    qtbot.waitUntil(lambda: work.rows.now_s > 130.0, timeout=120_000)
    qtbot.waitUntil(lambda: strip.shown()[1] >= 240.0, timeout=60_000)


def test_differences_are_marked_sent_and_taken(started: Any, qtbot: Any) -> None:
    """The board's value beside the design's, in the desk's unit; one taken into the design, all of the design's sent."""
    window, page, work = started
    document, settable = window.desk.document, page.settable

    def shown(key: str, column: int) -> str:
        return str(settable.table.item(settable._keys.index(key), column).text())

    qtbot.waitUntil(lambda: shown("gain_per_celsius", 1) == "22 %/°C", timeout=10_000)
    assert shown("setpoint_celsius", 0) == "Setpoint" and not settable.send_all.isEnabled()
    put(page, "gain_per_celsius", "35")
    put(page, "integral_time_s", "600")
    qtbot.waitUntil(lambda: settable.differences() == ["gain_per_celsius", "integral_time_s"], timeout=30_000)
    assert shown("gain_per_celsius", 1) == "≠ 35 %/°C" and shown("gain_per_celsius", 2) == "22 %/°C"
    window.desk.view.set_unit("°F")
    assert shown("setpoint_celsius", 1) == "99.5 °F" and shown("gain_per_celsius", 1) == "≠ 19.44 %/°F"
    window.desk.view.set_unit("°C")
    settable.table.selectRow(settable._keys.index("gain_per_celsius"))
    settable.take.click()
    assert document.design.law.gain_per_celsius == 0.35 and settable.differences() == ["integral_time_s"]
    document.undo()
    assert settable.differences() == ["gain_per_celsius", "integral_time_s"]
    settable.send_all.click()
    qtbot.waitUntil(lambda: not settable.differences(), timeout=30_000)
    assert work.values["gain_per_celsius"] == pytest.approx(0.22)
    settable.keep.click()
    qtbot.waitUntil(lambda: work.said == "Done: keep kept", timeout=30_000)


def test_the_front_is_used_by_its_keys(started: Any, qtbot: Any) -> None:
    """What the device shows, and its keys held by the mouse: a setpoint changed and taken over, told everywhere."""
    _, page, work = started
    keys = page.front.keys
    qtbot.waitUntil(lambda: work.front is not None and "37.5 C" in work.front[1], timeout=30_000)

    def is_edited() -> bool:
        return bool(work.front[0].startswith("setpoint") and ">" in work.front[1])

    def set_is_taken() -> bool:
        """Down until it is edited, then set, and once more where a busy machine made that too short a press, or a long
        one, which goes home."""
        if work.latest()["setpoint_celsius"] < 37.45:
            return True
        if not is_edited():
            qtbot.mousePress(keys["down"], Qt.MouseButton.LeftButton)
            qtbot.waitUntil(is_edited, timeout=30_000)
            qtbot.mouseRelease(keys["down"], Qt.MouseButton.LeftButton)
            qtbot.waitUntil(lambda: page.front.lines.lines == work.front, timeout=30_000)
            assert work.latest()["setpoint_celsius"] > 37.45, "not before it is taken over"
        else:
            qtbot.mousePress(keys["set"], Qt.MouseButton.LeftButton)
            qtbot.wait(150)
            qtbot.mouseRelease(keys["set"], Qt.MouseButton.LeftButton)
            rows = work.rows.count
            qtbot.waitUntil(lambda: work.rows.count > rows + 3, timeout=30_000)
        return False

    qtbot.waitUntil(set_is_taken, timeout=240_000)
    assert work.latest()["setpoint_celsius"] >= 20.0
    qtbot.waitUntil(lambda: page.settable.differences() == ["setpoint_celsius"], timeout=30_000)


def test_escape_held_switches_off_from_every_room(started: Any, qtbot: Any) -> None:
    """In another room a short press does nothing to the board, a long one switches off; so does the rail's button."""
    window, page, work = started
    page.hand.setText("60")
    page.by_hand.click()
    qtbot.waitUntil(lambda: work.latest().get("demand") == pytest.approx(0.6), timeout=30_000)
    assert not window.rail.urgent["board"].isVisible(), "the room itself has the button in sight"
    window._choose_room("loop")
    assert window.rail.urgent["board"].isVisible()
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    rows = work.rows.count
    qtbot.waitUntil(lambda: work.rows.count > rows + 20, timeout=30_000)
    assert work.latest()["demand"] == pytest.approx(0.6)
    qtbot.keyPress(window, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: work.latest().get("demand") == 0.0, timeout=30_000)
    qtbot.keyRelease(window, Qt.Key.Key_Escape)
    work.send("auto")
    qtbot.waitUntil(lambda: work.latest().get("demand", 0.0) > 0.0, timeout=30_000)
    window.rail.urgent["board"].click()
    qtbot.waitUntil(lambda: work.latest().get("demand") == 0.0, timeout=30_000)
    work.close()
    assert not window.rail.urgent["board"].isVisible()


def test_in_the_loop_and_back(started: Any, qtbot: Any) -> None:
    """The trial with the board in the seat: judged, compared, each answer timed; then the link is there again."""
    window, page, work = started
    window.desk.document.set_value("trial", "span_s", 600.0)
    page.connection.in_loop.click()
    assert work.looped.is_running and window.room("board").at_work
    qtbot.waitUntil(lambda: "1200 answers" in page.looped.text(), timeout=120_000)
    assert work.looped.result is not None and page.looped.text().startswith("In the loop: failed (")
    qtbot.waitUntil(lambda: page.strip.runs[0].name == "board in the loop", timeout=10_000)
    qtbot.waitUntil(lambda: work.is_heard and work.rows.count > 0, timeout=60_000)
    page.to_live.click()
    qtbot.waitUntil(lambda: bool(page.strip.runs) and page.strip.runs[0].name == "board", timeout=30_000)
    window.desk.document.set_value("trial", "span_s", 7200.0)
    page.connection.in_loop.click()
    page.connection.in_loop.click()
    qtbot.waitUntil(lambda: not work.looped.is_running and work.is_heard, timeout=60_000)
    assert work.looped.result is None


def test_a_plug_that_is_pulled_is_shown(started: Any, qtbot: Any) -> None:
    _, page, work = started
    work.stand_in.close()
    qtbot.waitUntil(lambda: "The port is gone" in page.connection.said.text(), timeout=30_000)
    qtbot.waitUntil(lambda: page.figures["Reading"].text() == "not heard", timeout=10_000)
    assert not page.front.keys["up"].isEnabled() and not page.settable.send.isEnabled()
    assert page.off.isEnabled() and work.rows.count > 5


def test_the_record_goes_on_to_logs_and_journal(started: Any, qtbot: Any) -> None:
    window, page, work = started
    qtbot.waitUntil(lambda: work.rows.count > 60, timeout=60_000)
    page.recording.click()
    assert page.recording.text() == "Go on recording"
    kept, came = work.link._recorder.rows, work.rows.count
    qtbot.waitUntil(lambda: work.rows.count > came + 20, timeout=60_000)
    assert work.link._recorder.rows <= kept + 1
    page.recording.click()
    qtbot.waitUntil(lambda: work.link._recorder.rows > kept + 3, timeout=60_000)
    page.connection.connect_button.click()
    assert not work.is_open and "outputs off" in page.connection.said.text() and work.stand_in is None
    page.to_journal.click()
    assert window.desk.kept.rows[0].kind == "recorded"
    page.to_logs.click()
    assert window.desk.view.room == "logs"
    shelf = window.room("logs").shelf
    qtbot.waitUntil(lambda: len(shelf.opened) == 1, timeout=60_000)
    window._choose_room("board")
    page.connection.port.setEditText("/dev/none")
    page.connection.connect_button.click()
    assert "cannot be opened" in page.connection.said.text() and not work.is_open


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


def test_a_panel_controller_by_its_map(desk: Any, qtbot: Any) -> None:
    """Chosen with its map, whose speed and framing are taken over; read, set within its range, remembered for its port."""
    from tests.core.test_modbus import ONE_LOOP, Controller, Wire

    wire = Wire()
    served = Controller(wire.ends[0], 1, ONE_LOOP)
    window = desk()
    window._choose_room("board")
    page, work = window.room("board").page, window.room("board").work
    left = page.connection
    left.port.setEditText(wire.ends[1])
    left.speaks.setCurrentIndex(left.speaks.findData("one_loop"))
    left.speaks.activated.emit(left.speaks.currentIndex())
    assert left.baud.currentData() == 9600 and left.framing.currentText() == "8E1"
    left.framing.setCurrentIndex(left.framing.findData("8N1"))
    left.connect_button.click()
    qtbot.waitUntil(lambda: work.rows.count >= 2 and "integral_time_s" in work.values, timeout=60_000)
    assert work.latest()["measured_celsius"] == pytest.approx(-20.0) and not page.front.isVisible()
    assert page.settable.differs("integral_time_s") and not page.settable.keep.isVisible()
    put(page, "setpoint_celsius", "38")
    qtbot.waitUntil(lambda: work.latest()["setpoint_celsius"] == pytest.approx(38.0), timeout=60_000)
    left.in_loop.click()
    assert "only lines can" in window.notice.text.text()
    left.connect_button.click()
    assert not work.is_open and "outputs off" in work.said
    left.port.setEditText("/dev/other")
    left.port.setEditText(wire.ends[1])
    assert left.speaks.currentData() == "one_loop" and left.framing.currentText() == "8N1"
    served.close()
    wire.close()
