"""The Journal room: kept from the top bar, found as one types, compared, written about, taken back, reported."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QLabel, QMessageBox

from calor.demo import DEMOS
from calor.journal.store import Journal
from tests.conftest import ran

LOG = DEMOS[0].design.parent / "hatching_cabinet_log.csv"


def with_three(desk: Any, qtbot: Any) -> tuple[Any, Any]:
    """(window, page) with three kept runs: two of the cabinet, one of its record."""
    window = desk()
    window.topbar.keep.click()
    assert "as run 1" in window.notice.text.text()
    window.desk.document.set_value("law", "gain_per_celsius", 0.3)
    ran(qtbot, window)
    qtbot.keyClick(window, Qt.Key.Key_J, Qt.KeyboardModifier.ControlModifier)
    window.desk.kept.keep_record(LOG)
    window._choose_room("journal")
    page = window.room("journal").page
    assert len(window.desk.kept.rows) == 3
    return window, page


def shown(page: Any) -> list[int]:
    return [entry.number for entry in page.list._model.rows]


def words(page: Any) -> str:
    return " ".join(item.text() for item in page.detail.findChildren(QLabel))


def test_nothing_kept_yet(desk: Any) -> None:
    window = desk()
    window._choose_room("journal")
    page = window.room("journal").page
    assert page.empty.isVisible() and "Write to journal" in page.empty.text() and not page.list.isVisible()


def test_found_sorted_compared(desk: Any, qtbot: Any) -> None:
    window, page = with_three(desk, qtbot)
    assert shown(page) == [3, 2, 1]
    page.list.choose([1])
    page.detail.note.setPlainText("held through the night")
    page.detail.tags.setText("good, mat")
    page.detail.tags.setModified(True)
    page.detail.tags.editingFinished.emit()
    qtbot.waitUntil(lambda: window.desk.kept.rows[-1].note == "held through the night", timeout=10_000)
    assert window.desk.kept.rows[-1].tags == ("good", "mat") and shown(page) == [3, 2, 1]
    qtbot.keyClicks(page.search, "night MAT")
    qtbot.waitUntil(lambda: shown(page) == [1], timeout=10_000)
    page.search.clear()
    qtbot.waitUntil(lambda: len(shown(page)) == 3, timeout=10_000)
    page.verdicts.buttons["pass"].click()
    assert shown(page) == [] and page.empty.isVisible()
    page.verdicts.buttons[""].click()
    page.sort.setCurrentIndex(page.sort.findData("overshoot_celsius"))
    page.sort.activated.emit(0)
    values = [entry.metrics["overshoot_celsius"] for entry in page.list._model.rows]
    assert values[-1] is None and values[:2] == sorted(values[:2], reverse=True)
    page.since.setText("soon")
    page.since.editingFinished.emit()
    assert "takes a day" in window.notice.text.text()
    page.since.setText("2020-01-01")
    page.since.editingFinished.emit()
    # two side by side: figures, curves, and the keys in which the designs differ
    page.list.choose([1, 2])
    qtbot.waitUntil(lambda: len(page.strip.runs) == 2, timeout=60_000)
    assert "Gain 22 → 30 % per °C" in words(page) and "run 1" in words(page) and not page.detail.note.isVisible()
    page.list.choose([3])
    qtbot.waitUntil(lambda: len(page.strip.runs) == 1 and page.strip.runs[0].name == "run 3", timeout=60_000)
    assert "recorded" in page.detail.about.text()


def test_back_into_the_loop_room(desk: Any, qtbot: Any) -> None:
    window, page = with_three(desk, qtbot)
    page.list.choose([1])
    qtbot.waitUntil(lambda: 1 in window.desk.kept.opened, timeout=60_000)
    kept_design = window.desk.kept.opened[1].design
    asked: list[str] = []
    window.files.may_leave = lambda name, save: not asked.append(name)
    page.detail.loop.click()
    assert asked and window.desk.view.room == "loop" and window.desk.document.design == kept_design
    ran(qtbot, window)
    window._choose_room("journal")
    page.list.choose([3])
    qtbot.waitUntil(lambda: 3 in window.desk.kept.opened, timeout=60_000)
    page.detail.loop.click()
    assert window.desk.view.room == "loop" and window.desk.runs.recorded is window.desk.kept.opened[3].trace


def test_pinned_exported_taken_in_reported_removed(
    desk: Any, qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, page = with_three(desk, qtbot)
    page.list.choose([1])
    qtbot.waitUntil(lambda: 1 in window.desk.kept.opened, timeout=60_000)
    page.detail.pin.click()
    assert window.desk.kept.rows[-1].pinned
    page.detail.remove.click()
    assert "is pinned, and stays" in window.notice.text.text() and len(window.desk.kept.rows) == 3
    for place, button, says in (
        (tmp_path / "runs.zip", page.detail.export, "Exported 1 runs"), (tmp_path / "r.html", page.detail.report, "Wrote r.html"),
        (tmp_path / "no" / "r.html", page.detail.report, "cannot be written"),
    ):  # fmt: skip
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, place=place: (str(place), ""))
        button.click()
        assert says in window.notice.text.text(), says
    out = tmp_path / "open.html"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(out), ""))
    page.detail.note.setPlainText("what worked")
    page.detail.write()
    window.commands.carry_out("Report…")
    written = out.read_text(encoding="utf-8")
    assert "what worked" in written and written.count("<svg") == len(window.desk.document.design.trial)
    assert "<h1>Hatching cabinet</h1>" in (tmp_path / "r.html").read_text(encoding="utf-8")
    with Journal(tmp_path / "other.sqlite") as other:
        from calor.journal import exchange

        assert exchange.take_in(other, tmp_path / "runs.zip") == (1, 0)
    for place, says in ((tmp_path / "runs.zip", "1 were there already"), (LOG, "is no zip")):
        monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_, place=place: (str(place), ""))
        page.take.click()
        assert says in window.notice.text.text()
    page.list.choose([2])
    monkeypatch.setattr(QMessageBox, "exec", lambda self: 0)
    monkeypatch.setattr("calor.desk.journal.taking.asked", lambda *_: True)
    page.detail.remove.click()
    assert [entry.number for entry in window.desk.kept.rows] == [3, 1]


def test_a_difference_since_it_was_kept_is_said(desk: Any, qtbot: Any) -> None:
    window, page = with_three(desk, qtbot)
    entry = window.desk.kept.rows[-1]
    parts = window.desk.kept.book().parts(entry.number)
    changed = replace(entry, uid="other", metrics={**entry.metrics, "peak_celsius": 12.0}, version="0.0.9")
    number = window.desk.kept.book().keep(changed, parts)
    window.desk.kept.read()
    page.list.choose([number])
    qtbot.waitUntil(lambda: "peak_celsius: 12" in words(page), timeout=60_000)
