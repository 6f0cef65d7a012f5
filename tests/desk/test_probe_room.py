"""The probe's room, driven as a person drives it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication, QLabel, QPushButton

from calor.desk.widgets.fields import ChoiceField
from calor.desk.widgets.theme import THEMES
from calor.sense import budget
from calor.sense.points import at_celsius
from calor.sense.resolution import celsius_per_count
from tests.conftest import PROBES, probe_of
from tests.desk.test_desk import type_into

Desk = Callable[..., Any]


def surveyed(qtbot: Any, room: Any) -> None:
    """Wait until the room shows the probe as it is now."""
    got: list[Any] = []
    desk, survey = room.desk, room.survey
    desk.simulator.surveyed.connect(got.append)
    survey.ask()
    qtbot.waitUntil(
        lambda: any(r.design == desk.document.design and r.scope == survey.scope() for r, _ in got), timeout=60_000
    )
    desk.simulator.surveyed.disconnect(got.append)
    qtbot.wait(10)


@pytest.fixture
def room(desk: Desk, qtbot: Any) -> Any:
    """A desk with the hatching cabinet's probe opened wide."""
    window = desk()
    qtbot.keyClick(window, Qt.Key.Key_B, Qt.KeyboardModifier.ControlModifier)
    surveyed(qtbot, window.room("probe"))
    return window


def curve(chart: Any, name: str) -> tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]]:
    found = chart.plot.curves[name]
    return np.asarray(found.x), np.asarray(found.y)


def hover(chart: Any, x: float) -> str:
    """What the chart says while the pointer stands at `x`."""
    plot = chart.plot
    place = QPointF(round(plot.to_x(x)), plot.height() - 30.0)
    event = QMouseEvent(
        QEvent.Type.MouseMove, place, plot.mapToGlobal(place), Qt.MouseButton.NoButton,
        Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
    )  # fmt: skip
    QApplication.sendEvent(plot, event)
    said: str = chart.title.text()
    QApplication.sendEvent(plot, QEvent(QEvent.Type.Leave))
    assert chart.title.text() != said
    return said


def test_opened_wide_and_closed(room: Any, qtbot: Any) -> None:
    window, own = room, room.room("probe").page
    assert own.isVisible() and not window.room("loop").strip.isVisible() and not window.room("loop").verdict.isVisible()
    assert "0.0256 °C" in own.first.text() and "code 1514 of 4096" in own.first.text()
    found = budget.budget(window.desk.document.design.probe, 37.5)
    assert found is not None and f"{found.rss_celsius:.2f} °C" in own.second.text()
    assert found.contributions[0].cause in own.second.text()
    qtbot.keyClick(window, Qt.Key.Key_2, Qt.KeyboardModifier.AltModifier)  # another bench shows the run
    assert window.room("loop").strip.isVisible() and not own.isVisible()
    qtbot.keyClick(window, Qt.Key.Key_5, Qt.KeyboardModifier.AltModifier)
    assert own.isVisible()
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    assert window.room("loop").strip.isVisible() and not own.isVisible() and window.desk.view.room == "loop"
    window.bench._wide.click()
    assert own.isVisible() and window.bench._wide.text() == "Close"


def test_curves_are_what_the_core_says_and_follow_every_edit(room: Any, qtbot: Any) -> None:
    own, desk = room.room("probe").page, room.desk
    x, counts = curve(own.transfer, "counts")
    for celsius in (5.0, 37.5, 55.0):
        expected = at_celsius(desk.document.design.probe, celsius)["counts"]
        assert np.interp(celsius, x, counts) == pytest.approx(float(expected or 0) + 0.5, abs=2.0)
    fine = np.interp(37.5, *curve(own.resolution, "fine"))
    assert fine == pytest.approx(celsius_per_count(desk.document.design.probe, 37.5), rel=0.01)
    type_into(qtbot, room.bench.form.fields["probe.adc.bits"].entry, "14")
    surveyed(qtbot, room.room("probe"))
    assert np.interp(37.5, *curve(own.resolution, "fine")) == pytest.approx(fine / 4, rel=0.01)
    assert "of 16384" in own.first.text()
    desk.document.undo_stack.undo()
    surveyed(qtbot, room.room("probe"))
    assert np.interp(37.5, *curve(own.resolution, "fine")) == pytest.approx(fine, rel=1e-6)
    desk.view.set_unit("°F")
    surveyed(qtbot, room.room("probe"))
    assert np.interp(99.5, *curve(own.resolution, "fine")) == pytest.approx(fine * 1.8, rel=0.01)
    assert "99.5 °F" in own.first.text() and own.bars.unit == "°F"


def test_hovering_reads_both_axes(room: Any, qtbot: Any) -> None:
    own = room.room("probe").page
    said = hover(own.transfer, 37.5)
    assert said.startswith("37.") and "code 15" in said and "0.0256 °C per count" in said
    assert "code" in hover(own.resolution, 20.0)
    assert "entries" in hover(own.sizes, np.log10(8.0)) and "bytes" in hover(own.sizes, np.log10(8.0))
    assert "%" in hover(own.filter, 1.0)
    own.bars.repaint()
    place = QPointF(60.0, 40.0)
    nothing = (Qt.MouseButton.NoButton, Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier)
    before = own.bars_title.text()
    QApplication.sendEvent(own.bars, QMouseEvent(QEvent.Type.MouseMove, place, own.bars.mapToGlobal(place), *nothing))
    assert own.bars_title.text().startswith("at 20 °C: 0.6") and "at worst" in own.bars_title.text()
    QApplication.sendEvent(own.bars, QEvent(QEvent.Type.Leave))
    assert own.bars_title.text() == before


def test_bars_add_up_to_the_budget(room: Any, qtbot: Any) -> None:
    bars, probe = room.room("probe").page.bars, room.desk.document.design.probe
    for place, total in zip(bars.places, bars.total, strict=True):
        found = budget.budget(probe, place)
        assert found is not None and total == pytest.approx(found.worst_case_celsius, rel=1e-6)
    assert bars.here == {p.cause: p.celsius for p in budget.budget(probe, 37.5).contributions}  # type: ignore[union-attr]


def test_calibration_is_typed_imported_refused_and_undone(room: Any, qtbot: Any, tmp_path: Path) -> None:
    panel, desk = room.room("probe").page.calibration, room.desk
    assert panel.none.isVisible() and not panel.table.isVisible()
    panel.add.click()
    assert len(desk.document.design.probe.calibration) == 1 and panel.table.isVisible()
    for column, text in ((0, "37,0"), (1, "37.4"), (3, "2026-11-02"), (4, "glass thermometer")):
        panel.table.item(0, column).setText(text)
    point = desk.document.design.probe.calibration[0]
    assert (point.true_celsius, point.reading_celsius, point.against) == (37.0, 37.4, "glass thermometer")
    assert str(point.date) == "2026-11-02"
    surveyed(qtbot, room.room("probe"))
    assert panel.table.item(0, 2).text() == "0.000" and "offset from 1 point" in panel.line.text()
    panel.table.item(0, 0).setText("warm")
    assert "takes a number (typed 'warm')" in panel.problem.text() and panel.table.item(0, 0).text() == "37"
    panel.table.item(0, 3).setText("yesterday")
    assert "takes a day" in panel.problem.text()
    points = tmp_path / "points.csv"
    points.write_text("true_celsius;reading_celsius;date\n0;0,3;2026-11-01\n50;50,5;2026-11-01\n")
    room.room("probe").take_calibration(points)
    assert [p.reading_celsius for p in desk.document.design.probe.calibration] == [0.3, 50.5]
    surveyed(qtbot, room.room("probe"))
    assert "Offset and gain from 2 points" in panel.line.text()
    points.write_text("true_celsius,reading_celsius\n0,hot\n")
    room.room("probe").take_calibration(points)
    assert "line 2: reading_celsius: must be a number" in room.notice.text.text()
    panel.table.item(0, 0).setText("60")
    assert "must rise" in panel.problem.text() and len(desk.document.design.probe.calibration) == 2
    panel.remove.click()
    assert len(desk.document.design.probe.calibration) == 1
    while desk.document.undo_stack.canUndo():
        desk.document.undo_stack.undo()
    assert desk.document.design.probe.calibration == ()


def test_table_over_another_range(room: Any, qtbot: Any, tmp_path: Path) -> None:
    own, survey = room.room("probe").page, room.room("probe").survey
    few = survey.latest.lookup.entries
    type_into(qtbot, own.fields["within"].entry, "0.02", Qt.Key.Key_Return)
    surveyed(qtbot, room.room("probe"))
    assert survey.latest.lookup.entries > few and f"{survey.latest.lookup.entries} entries" in own.table_line.text()
    type_into(qtbot, own.fields["low"].entry, "90")
    assert "must be below" in own.fields["low"].line.text()
    type_into(qtbot, own.fields["within"].entry, "0.001", Qt.Key.Key_Return)
    surveyed(qtbot, room.room("probe"))
    assert survey.latest.lookup is None and "float entries" in own.table_line.text()
    number = own.fields["number"]
    assert isinstance(number, ChoiceField)
    number.box.setCurrentIndex(1)
    number.box.activated.emit(1)
    surveyed(qtbot, room.room("probe"))
    assert survey.latest.lookup.number == "float"
    room.room("probe").write_scaling(tmp_path)
    names = {
        "hatching_cabinet_probe.h",
        "hatching_cabinet_probe.c",
        "hatching_cabinet_table.h",
        "hatching_cabinet_table.c",
    }
    assert {path.name for path in tmp_path.iterdir()} == names and "0BSD" in room.notice.text.text()
    own.copy.click()
    clipboard = QApplication.clipboard()
    assert clipboard is not None and "ln(ohm / 10000)" in clipboard.text()


SHOWN = {
    "thermistor": {"r25_ohm", "beta_kelvin", "series_ohm"}, "thermistor, A B C": {"steinhart_hart"},
    "thermistor, points": {"points"}, "rtd": {"r0_ohm", "series_ohm", "wires", "lead_ohm"},
    "rtd, current source": {"excitation_microampere"}, "rtd, bridge": {"reference_ohm"},
    "thermocouple K": {"letter", "cold_junction_celsius", "amplifier_gain"}, "chip": {"converter_celsius_per_code", "fault_mask"},
    "analog voltage": {"volt_per_celsius"}, "analog current": {"load_ohm"}, "digital": {"celsius_per_code", "bits"},
}  # fmt: skip
EVERY = set().union(*SHOWN.values())


@pytest.mark.parametrize("name", PROBES)
@pytest.mark.parametrize("size", [(1280, 800), (1040, 640)])
def test_every_kind_has_its_room(standing: Any, qtbot: Any, name: str, size: tuple[int, int]) -> None:
    """Only its own fields are shown, its curves are drawn, and nothing is cut off."""
    room = standing
    desk, own = room.desk, room.room("probe").page
    desk.view.choose_room("probe")
    room.resize(*size)
    desk.document.edit(desk.document.design.model_copy(update={"probe": probe_of(name)}), "another probe")
    surveyed(qtbot, room.room("probe"))
    shown = {key.removeprefix("probe.") for key in room.bench.form.fields}
    if name in SHOWN:
        assert SHOWN[name] <= shown
        alien = EVERY - {key for key in EVERY if key in type(desk.document.design.probe).model_fields}
        assert not alien & shown
    assert np.isfinite(curve(own.transfer, "counts")[1]).any() and own.bars.parts
    assert own.second.text().endswith(".") and ("wrong" in own.second.text() or name == "thermocouple B")
    for child in (*own.findChildren(QLabel), *own.findChildren(QPushButton)):
        if child.isVisible() and child.text():
            wraps = isinstance(child, QLabel) and child.wordWrap()
            assert child.height() >= 10 and (wraps or child.width() >= child.sizeHint().width() - 2), child.text()
    for widget in own.tab_order():
        right = widget.mapTo(own, widget.rect().bottomRight())
        assert not widget.isVisible() or (right.x() <= own.width() and right.y() <= own.height()), widget


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_an_ideal_probe_says_what_to_do(room: Any, qtbot: Any, theme: str) -> None:
    room.dressing.put_on(THEMES[theme])
    room.desk.document.set_kind("probe", "ideal")
    surveyed(qtbot, room.room("probe"))
    own = room.room("probe").page
    assert own.no_curve.isVisible() and not own.transfer.isVisible() and not own.bars.parts
    assert "no table" in own.table_line.text() and not own.scope_fields.isVisible()
    room.desk.document.set_kind("probe", "thermistor")
    surveyed(qtbot, room.room("probe"))
    assert own.transfer.isVisible() and own.scope_fields.isVisible()


def test_choices_of_the_bench(room: Any, qtbot: Any) -> None:
    """The curve is written another way and stays the same; a chip takes the amplifier's place; a filter its own fields."""
    desk, form = room.desk, room.bench
    before = at_celsius(desk.document.design.probe, 40.0)["ohm"]

    def choose(place: str, value: str) -> None:
        field = form.form.fields[place]
        field.box.setCurrentIndex(field.box.findData(value))
        field.box.activated.emit(field.box.currentIndex())

    for way in ("points", "steinhart_hart", "beta"):
        choose("probe.curve", way)
        assert at_celsius(desk.document.design.probe, 40.0)["ohm"] == pytest.approx(before, rel=2e-4)
        assert way == "beta" or f"probe.{way}" in form.form.fields
    choose("probe.curve", "points")
    type_into(qtbot, form.form.fields["probe.points"].entry, "0 33000; 25 10000; 25 9000", Qt.Key.Key_Return)
    assert "two points are at one temperature" in form.form.fields["probe.points"].line.text()
    type_into(qtbot, form.form.fields["probe.points"].entry, "0 33000; 25 10000; 50 x", Qt.Key.Key_Return)
    assert "Takes numbers" in form.form.fields["probe.points"].line.text()
    choose("probe.filter.kind", "mean")
    assert (
        "probe.filter.readings" in form.form.fields
        and "Delays the loop" in form.form.fields["probe.filter.kind"].line.text()
    )
    desk.document.set_kind("probe", "thermocouple")
    choose("probe.read_by", "chip")
    assert "probe.converter_bits" in form.form.fields and "probe.adc.bits" not in form.form.fields
    while desk.document.undo_stack.canUndo():
        desk.document.undo_stack.undo()
    assert desk.document.design.probe.kind == "thermistor" and desk.document.design.probe.points is None


def test_find_leads_into_the_room(desk: Desk, qtbot: Any) -> None:
    window = desk()
    search = window.search()
    qtbot.keyClicks(search.line, "opened wide")
    qtbot.keyClick(search.line, Qt.Key.Key_Return)
    surveyed(qtbot, window.room("probe"))
    assert window.room("probe").page.isVisible()
    search = window.search()
    qtbot.keyClicks(search.line, "tolerance of beta")
    assert search.list.count() >= 1
    search.close()


def test_a_knob_and_a_button_on_the_setpoints_bench(desk: Desk, qtbot: Any) -> None:
    window = desk()
    desk = window.desk
    desk.view.choose_bench("setpoint")
    for part in ("knob", "button"):
        field = window.bench.form.fields[f"design.{part}.used"]
        field.box.setCurrentIndex(field.box.findData(True))
        field.box.activated.emit(field.box.currentIndex())
    assert (desk.document.design.knob.low_celsius, desk.document.design.knob.high_celsius) == (20.0, 39.0)
    type_into(qtbot, window.bench.form.fields["knob.high_celsius"].entry, "45")
    assert "outside the setpoint's limits" in window.bench.form.fields["knob.high_celsius"].line.text()
    type_into(qtbot, window.bench.form.fields["knob.step_celsius"].entry, "0.1", Qt.Key.Key_Return)
    assert desk.document.design.knob.step_celsius == 0.1 and desk.document.design.button is not None
    while desk.document.undo_stack.canUndo():
        desk.document.undo_stack.undo()
    assert desk.document.design.knob is None and "knob.step_celsius" not in window.bench.form.fields


def test_two_probes_of_a_log_are_compared(desk: Desk, qtbot: Any, tmp_path: Path) -> None:
    window = desk()
    log = tmp_path / "two.csv"
    rows = [f"{k},{20 + 0.02 * k:.3f},{20.4 + 0.02 * k:.3f}" for k in range(1500)]
    log.write_text("time_s,first_celsius,second_celsius\n" + "\n".join(rows) + "\n")
    window.room("probe").compare_probes(log)
    assert (
        "second_celsius reads 0.4" in window.notice.text.text() and "above first_celsius" in window.notice.text.text()
    )
    log.write_text("time_s,first_celsius\n0,1\n1,2\n")
    window.room("probe").compare_probes(log)
    assert "two are needed" in window.notice.text.text()


def test_until_it_is_worked_out_the_room_says_so(desk: Desk, qtbot: Any) -> None:
    """No empty charts, no word about another kind, and the range is that of the design."""
    window = desk()
    window.desk.simulator.surveyed.disconnect()  # as while the first one is still being made
    window.desk.view.choose_room("probe")
    own = window.room("probe").page
    assert own.first.text().startswith("Working out") and not own.body.isVisible() and not own.finer.isVisible()
    window.desk.simulator.surveyed.connect(window.room("probe").survey._worked_out)
    surveyed(qtbot, window.room("probe"))
    assert own.body.isVisible() and not own.no_curve.isVisible()
    assert (own.fields["low"].entry.text(), own.fields["high"].entry.text()) == ("20", "39")
    window.files.open_demo(1)
    surveyed(qtbot, window.room("probe"))
    assert (own.fields["low"].entry.text(), own.fields["high"].entry.text()) == ("25", "45")
