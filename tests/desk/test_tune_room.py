"""The Tune room: rules side by side, tests that say beforehand what they take, a search that can be stopped, Keep."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QFileDialog, QLabel

from calor.demo import FOLDER
from calor.desk.tune.rules_table import COLUMNS
from calor.law.pid import Pid

HUT_FANS, FILM_BATH, WAX_MELTER = 2, 3, 5


def opened(desk: Callable[..., Any], qtbot: Any, number: int = FILM_BATH) -> tuple[Any, Any, Any]:
    """(window, room's page, its work) with the first look done."""
    window = desk()
    window.files.open_demo(number)
    window._choose_room("tune")
    page, work = window.room("tune").page, window.room("tune").work
    assert work.is_busy and window.room("tune").at_work  # entered the first time it looks by itself
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    assert work.trouble == "" and work.found is not None
    return window, page, work


def column(page: Any, name: str) -> list[str]:
    at = COLUMNS.index(name)
    return [page.table.item(row, at).text() for row in range(page.table.rowCount())]


def test_rules_side_by_side(desk: Any, qtbot: Any, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Best first; sorted by any column; a row is explained, tried and kept in one step that can be undone."""
    window, page, _ = opened(desk, qtbot)
    names = column(page, "Gains")
    assert len(names) >= 15 and any(name.startswith("Present gains") for name in names)
    verdicts = column(page, "Verdict")
    assert verdicts == sorted(verdicts, key=lambda text: text != "passes") and verdicts[0] == "passes"
    page.table.sortByColumn(COLUMNS.index("Overshoot"), Qt.SortOrder.AscendingOrder)
    overshoots = [float(text) for text in column(page, "Overshoot")]
    assert overshoots == sorted(overshoots)
    row = next(k for k, name in enumerate(column(page, "Gains")) if name.startswith("Tyreus–Luyben, PID"))
    page.table.selectRow(row)
    side = page.side
    assert side.title.text() == "Tyreus–Luyben, PID" and "Tyreus & Luyben 1992" in side.source.text()
    assert "Ms" in side.margins.text() and "loop" in side.nyquist.plot.curves
    assert any(item.text() == "Overshoot" for item in side.findChildren(QLabel))
    assert "On loads 30 % off it passes" in side.spread.text()
    for place, said in ((tmp_path / "sheet.html", "Wrote"), (tmp_path / "none" / "sheet.html", "could not be written")):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, place=place: (str(place), ""))
        side.sheet.click()
        assert said in window.notice.text.text()
    assert "Proportional band" in (tmp_path / "sheet.html").read_text()
    document, runs = window.desk.document, window.desk.runs
    before = document.design
    side.try_button.click()
    qtbot.waitUntil(lambda: runs.tried is not None, timeout=60_000)
    assert document.design == before and "ghost in Loop" in window.notice.text.text()
    side.keep_button.click()
    law = document.design.law
    assert isinstance(law, Pid) and law.gain_per_celsius == pytest.approx(side.row.setting.gains.gain_per_celsius)
    assert "before the last change" in page.empty.text()
    document.undo_stack.undo()
    assert document.design == before
    page.pictures.buttons["switching"].click()
    swings = [float(texts[1].split()[0]) for texts in page.switching.texts]
    assert len(swings) >= 4 and swings == sorted(swings) and "window of up to" in page.switching.window_line.text()
    page.pictures.buttons["curve"].click()
    # in another unit the same rows, in its figures
    window.desk.view.set_unit("°F")
    assert "°F" in page.load.model.text()
    window.desk.view.set_unit("°C")
    present = next(k for k, name in enumerate(column(page, "Gains")) if name.startswith("Present"))
    page.table.selectRow(present)
    assert not side.keep_button.isEnabled()
    document.undo_stack.setClean()


def test_a_test_says_beforehand_what_it_takes(desk: Any, qtbot: Any) -> None:
    window, page, work = opened(desk, qtbot)
    for method, word in (("relay", "relay"), ("step", "step")):
        page.load.methods.buttons[method].click()
        assert (
            "swing" in page.load.plan.text() and "%" in page.load.plan.text() and word in page.load.find_button.text()
        )
        page.load.limit.setText("nonsense")
        page.load.limit.editingFinished.emit()
        assert "takes a number above 0" in window.notice.text.text()
        page.load.limit.setText("0,5")
        page.load.limit.editingFinished.emit()
        assert work.limit_celsius == 0.5
        page.load.limit.setText("")
        page.load.limit.editingFinished.emit()
        page.load.find_button.click()
        assert page.load.find_button.text() == "Stop"
        qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
        assert work.found.known.experiment.method == method and "The test took" in page.load.told.text()
        assert page.load.test_chart.isVisibleTo(page) and "reading" in page.load.test_chart.plot.curves
    window.desk.document.undo_stack.setClean()


def test_gain_sets_of_a_load_that_melts(desk: Any, qtbot: Any) -> None:
    """The chosen row's rule at three setpoints; kept in one step that can be undone; nonsense is refused, a place out of
    reach is said."""
    window, page, work = opened(desk, qtbot, WAX_MELTER)
    page.table.selectRow(column(page, "Gains").index("SIMC, PI"))
    page.pictures.buttons["sets"].click()
    assert "SIMC, PI" in page.sets.line.text() and not page.sets.keep_button.isEnabled()
    for typed in ("", "warm", "60"):
        page.sets.places.setText(typed)
        page.sets.find_button.click()
        assert "two setpoints or more" in window.notice.text.text() and not work.is_busy
    page.sets.places.setText("60, 900")
    page.sets.find_button.click()
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    assert "no output holds 900" in page.load.problem.text()
    page.sets.places.setText("60 75 90")
    page.sets.find_button.click()
    assert page.sets.find_button.text() == "Stop"
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    assert [texts[0] for texts in page.sets.texts] == ["60.0 °C", "75.0 °C", "90.0 °C"]
    assert page.sets.texts[1][-1] == "unstable"
    document = window.desk.document
    before = document.design
    page.sets.keep_button.click()
    assert [one.at_celsius for one in document.design.law.gain_sets] == [60.0, 75.0, 90.0]
    document.undo_stack.undo()
    assert document.design == before
    document.undo_stack.setClean()


def test_a_record_tells_of_the_load(desk: Any, qtbot: Any, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """The demo's log of an on/off law: its model, and its settled cycles; what cannot be read is said."""
    _, page, work = opened(desk, qtbot, 0)
    page.load.methods.buttons["record"].click()
    assert page.load.find_button.text() == "Open a record…" and not page.load.limit.isVisibleTo(page)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "none.csv"), ""))
    page.load.find_button.click()
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    assert "none.csv" in page.load.problem.text()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(FOLDER / "hatching_cabinet_log.csv"), ""))
    page.load.find_button.click()
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    assert work.found.known.experiment.method == "record" and page.load.problem.text() == ""
    assert "settled cycles" in page.load.told.text() and "hatching_cabinet_log.csv" in page.load.working.text()
    assert "record" in page.load.test_chart.title.text() and len(column(page, "Gains")) > 10


def test_what_a_law_without_gains_has_to_choose(desk: Any, qtbot: Any) -> None:
    """A fan's curve: wider is quieter and warmer; any line is kept in one step. A PID law has nothing there."""
    window = desk()
    window.files.open_demo(HUT_FANS)
    window._choose_room("tune")
    page, work = window.room("tune").page, window.room("tune").work
    # a fan curve has no gains: its width is looked for in their place
    assert work.doing == "running choices" and page.choices.run_button.text() == "Stop"
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    assert work.found is None and page.heading.text() == "Width of the curve" and page.choices.isVisibleTo(page)
    assert "no gains" in page.empty.text() and not page.table.isVisibleTo(page)
    work.find()
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    assert work.found is not None and page.heading.text() == "Gains side by side"
    page.pictures.buttons["choices"].click()
    sounds = [int(texts[4].split()[0].replace("−", "-")) for texts in page.choices.texts]
    assert len(sounds) >= 5 and sounds == sorted(sounds, reverse=True)
    own = [button.isEnabled() for button in page.choices.keep_buttons].index(False)
    assert page.choices.texts[own][0] == "12.00 °C"
    document = window.desk.document
    before = document.design
    page.choices.keep_buttons[own + 1].click()
    assert document.design.law.full_celsius == before.law.start_celsius + 18.0
    document.undo_stack.undo()
    assert document.design == before
    window.files.open_demo(FILM_BATH)
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    work.find()
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    page.pictures.buttons["choices"].click()
    assert "no hysteresis and no curve" in page.choices.line.text() and not page.choices.run_button.isVisibleTo(page)
    document.undo_stack.setClean()


def test_nothing_lies_over_anything_in_a_small_window(desk: Any, qtbot: Any) -> None:
    window, page, work = opened(desk, qtbot)
    for width, height in ((1040, 640), (1280, 800)):
        window.resize(width, height)
        for name, button in page.pictures.buttons.items():
            button.click()
            qtbot.waitUntil(lambda: not work.is_busy or work.doing == "mapping", timeout=120_000)
            qtbot.wait(1)
            parts = [
                page.table,
                page.pictures,
                page.draw_map,
                page.map_bar,
                page.curve,
                page.map,
                page.switching,
                page.sets,
                page.choices,
            ]
            shown = [one.geometry() for one in parts if one.isVisible()]
            assert not [1 for one, other in itertools.combinations(shown, 2) if one.intersects(other)], (name, width)
            work.stop()
            qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)


def test_a_predictive_law_is_taken_from_its_row(desk: Any, qtbot: Any) -> None:
    window, page, _ = opened(desk, qtbot)
    page.table.selectRow(column(page, "Gains").index("Predictive law"))
    assert "closed loop" in page.side.gains.text() and "loop" in page.side.nyquist.plot.curves
    page.side.responses.buttons["bode"].click()
    assert page.side.bode_phase.isVisibleTo(page) and not page.side.nyquist.isVisibleTo(page)
    size = page.side.bode_size.plot.curves["loop"]
    assert size.y[0] > 0.0 > size.y[-1]  # from above 1 to below it
    document = window.desk.document
    before = document.design
    page.side.keep_button.click()
    assert document.design.law.kind == "predictive" and "predictive law" in window.notice.text.text()
    window._choose_room("loop")
    document.undo_stack.undo()
    assert document.design == before
    document.undo_stack.setClean()


def test_a_search_grows_and_stops(desk: Any, qtbot: Any) -> None:
    window, page, work = opened(desk, qtbot)
    page.side.bound.setText("0.4")
    page.side.bound.editingFinished.emit()
    assert "1.1 to 10" in window.notice.text.text() and page.side.bound.text() == "1.6"
    page.side.search.click()
    assert page.side.search.text() == "Stop" and window.room("tune").at_work
    qtbot.waitUntil(lambda: work.share > 0.1 and work.growing is not None, timeout=120_000)
    assert "Search" in column(page, "Gains")  # the row grows as it goes
    window._choose_room("loop")  # leaving stops nothing
    assert work.is_busy
    window._choose_room("tune")
    page.side.search.click()
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    assert work.search_found is not None and work.search_found.evaluations < 240
    assert (
        any(name.startswith("Search") for name in column(page, "Gains")) and "settings run" in page.side.explain.text()
    )
    window.desk.document.undo_stack.setClean()
    window.files.open_demo(0)
    assert work.found is None and page.table.isHidden()


def test_what_cannot_be_tuned_is_said(desk: Any, qtbot: Any) -> None:
    window = desk()
    window.files.open_demo(7)  # the hot-wire cutter: timed pulses
    window._choose_room("tune")
    work, page = window.room("tune").work, window.room("tune").page
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    assert work.found is None and "nothing to tune" in page.load.problem.text()


def test_a_map_is_drawn_and_picked_from(desk: Any, qtbot: Any) -> None:
    """It grows, is read at the pointer, stops, and a click makes a row of one's own."""
    window, page, work = opened(desk, qtbot)
    page.pictures.buttons["map"].click()
    assert work.doing == "mapping" and page.draw_map.text() == "Stop" and not page.curve.isVisibleTo(page)
    qtbot.waitUntil(lambda: work.map is not None, timeout=120_000)
    page.draw_map.click()
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    made_map, before = work.map, page.table.rowCount()
    spot = QPointF(page.map.width() / 2.0, page.map.height() / 2.0)
    page.map._at = page.map.place_of(spot)
    assert "Gain" in page.map.heading() and page.map.place_of(QPointF(0.0, 0.0)) is None
    qtbot.mouseClick(page.map, Qt.MouseButton.LeftButton, pos=spot.toPoint())
    assert page.table.rowCount() == before + 1 and page.side.title.text() == "By hand"
    row, column_ = made_map.near(
        page.side.row.setting.gains.gain_per_celsius, page.side.row.setting.gains.integral_time_s
    )
    assert page.map.place_of(spot) == (row, column_)
    window.desk.document.undo_stack.setClean()
