"""The Proof room: cells come as runs end, a chosen one opens, stops are gone on with, tolerances are edited."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel

from calor.demo import DEMOS
from calor.design.file import read
from calor.proof import kept
from tests.conftest import ran


def short_cabinet(folder: Path) -> Path:
    """The cabinet with trials that are soon over."""
    place = folder / "cabinet.toml"
    text = re.sub(r"span_s = \d+", "span_s = 1500", DEMOS[0].design.read_text(encoding="utf-8"))
    place.write_text(text.replace("at_s = 5400", "at_s = 900") + "\n[proof]\nruns = 6\n", encoding="utf-8")
    return place


def proved(desk: Any, qtbot: Any, path: Path) -> tuple[Any, Any, Any]:
    window = desk(path)
    window._choose_room("proof")
    page, work = window.room("proof").page, window.room("proof").work
    assert page.empty.isVisible() and not page.matrix.isVisible()
    page.panel.button.click()
    assert work.is_busy and window.room("proof").at_work and page.panel.button.text() == "Stop"
    qtbot.waitUntil(lambda: not work.is_busy, timeout=120_000)
    assert work.trouble == ""
    return window, page, work


def row_of(page: Any, begin: str) -> int:
    return next(at for at in range(page.matrix.rowCount()) if page.matrix.item(at, 0).text()[2:].startswith(begin))


def words(page: Any) -> str:
    return " ".join(item.text() for item in page.side.findChildren(QLabel))


def test_from_the_first_cell_to_the_loop_room(desk: Any, qtbot: Any, tmp_path: Path) -> None:
    path = short_cabinet(tmp_path)
    window, page, work = proved(desk, qtbot, path)
    matrix, document = page.matrix, window.desk.document
    heads = [matrix.horizontalHeaderItem(column).text() for column in range(matrix.columnCount())]
    assert heads[1] == "Overshoot" and "Highest at a fault" in heads
    assert page.panel.button.text() == "Proved" and not page.panel.button.isEnabled()
    # a mark beside each colour, and a margin
    at = row_of(page, "Switch stuck on")
    cell = matrix.item(at, heads.index("Highest at a fault")).text()
    assert re.fullmatch(r"[✓✕] [+−]\d+", cell)
    matrix.setCurrentCell(at, heads.index("Highest at a fault"))
    qtbot.waitUntil(lambda: work.run is not None and work.run.case.name == "switch_stuck_on", timeout=30_000)
    assert "cannot open a switch that has failed" in words(page) and "local codes" in words(page)
    assert f"calor run {path.name} --proof-run {work.run.case.number}" in words(page)
    assert page.strip.runs[0].trace is work.run.made.trace
    # drawn runs: a band behind the worst of them
    matrix.setCurrentCell(row_of(page, "All tolerances drawn"), 1)
    qtbot.waitUntil(lambda: work.run.case.kind == "drawn", timeout=30_000)
    assert page.strip.band is not None and page.strip.band.runs == 6 and "Clopper" in words(page)
    reading = page.strip.runs[0].trace.measured_celsius
    assert page.strip.band.high_celsius.max() >= reading.max() - 1e-9
    # one step to the Loop room: pinned under the design's own run, on its trial
    matrix.setCurrentCell(at, heads.index("Highest at a fault"))
    qtbot.waitUntil(lambda: work.run.case.name == "switch_stuck_on", timeout=30_000)
    before = document.design
    page.side.pin_button.click()
    assert window.desk.view.room == "loop" and window.desk.runs.pinned.name == f"proof run {work.run.case.number}"
    assert document.design is before
    # or as a trial of the design, which Ctrl+Z takes back
    window._choose_room("proof")
    page.side.trial_button.click()
    assert document.trial.name.startswith("Switch stuck on") and document.trial.events[-1].kind == "output_stuck_on"
    ran(qtbot, window)
    assert not work.is_of_design
    document.undo()
    assert document.design == before and work.is_of_design


def test_kept_beside_the_design_and_known_to_be_stale(desk: Any, qtbot: Any, tmp_path: Path) -> None:
    path = short_cabinet(tmp_path)
    window, page, work = proved(desk, qtbot, path)
    place = kept.place_of(path)
    assert place.is_file() and kept.read(place).key == kept.sum_of(read(path).design)
    whole = repr(work.seen.progress.outcomes)
    document = window.desk.document
    document.set_value("law", "gain_per_celsius", 0.3)
    page.show_work()
    assert page.panel.button.text() == "Prove again" and "as it was before the last change" in page.panel.said.text()
    document.undo()
    # opened again it is there at once; of a design that was changed since it is not shown
    other = desk(path)
    other._choose_room("proof")
    assert repr(other.room("proof").work.seen.progress.outcomes) == whole
    path.write_text(path.read_text(encoding="utf-8").replace("gain_per_celsius = 0.22", "gain_per_celsius = 0.2"))
    other.desk.document.open(path)
    assert other.room("proof").work.seen is None
    other.room("proof").page.show_work()
    assert "of another design, controller or program" in other.room("proof").page.panel.said.text()


def test_stopped_by_escape_and_gone_on_with(desk: Any, qtbot: Any) -> None:
    window = desk()
    window._choose_room("proof")
    page, work = window.room("proof").page, window.room("proof").work
    window.desk.document.set_value("proof", "runs", 5000)
    page.panel.button.click()
    qtbot.waitUntil(lambda: work.seen is not None and len(work.seen.progress.outcomes) > 3, timeout=60_000)
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: not work.is_busy, timeout=60_000)
    done = len(work.seen.progress.outcomes)
    assert 3 < done < 15_000 and page.panel.button.text() == "Go on" and "Stopped" in page.panel.said.text()
    page.panel.button.click()
    qtbot.waitUntil(lambda: len(work.seen.progress.outcomes) > done, timeout=60_000)
    work.stop()
    qtbot.waitUntil(lambda: not work.is_busy, timeout=60_000)


def test_tolerances_are_edited_beside_their_share(desk: Any, qtbot: Any, tmp_path: Path) -> None:
    window, page, work = proved(desk, qtbot, short_cabinet(tmp_path))
    document, panel = window.desk.document, page.panel
    lines = {line.tolerance.name: line for line in panel.lines}
    assert sum(line.bar.value == line.bar.value for line in lines.values()) > 5, "bars from the draws"
    assert "Spearman" in lines["mains_voltage"].bar.toolTip()

    def enter(name: str, text: str) -> None:
        entry = {line.tolerance.name: line for line in panel.lines}[name].entry
        entry.setFocus()
        entry.selectAll()
        qtbot.keyClicks(entry, text)
        qtbot.keyClick(entry, Qt.Key.Key_Return)

    enter("mains_voltage", "5")
    assert document.design.proof.mains_voltage_fraction.within == 0.05
    enter("load.loss_w_per_k", "12,5 %")
    assert [(one.key, one.within) for one in document.design.proof.load] == [("loss_w_per_k", 0.125)]
    window.desk.view.set_unit("°F")
    page.show_work()
    enter("ambient", "9")
    assert document.design.proof.ambient_celsius.within == 5.0
    enter("probe.beta", "200 %")
    assert document.design.proof.probe.within == 2.0
    assert {line.tolerance.name: line for line in panel.lines}["probe.beta"].entry.text() == "2 tol."
    enter("probe.beta", "1.5 tol.")
    assert document.design.proof.probe.within == 1.5
    for text in ("much", "-3", "nan", "1e9"):
        before = document.design
        enter("clock", text)
        assert document.design is before and window.notice.isVisible()
    enter("mains_voltage", "100")
    assert document.design.proof.mains_voltage_fraction.within == 0.05
    assert "leaves no mains" in window.notice.text.text()
    for _ in range(5):
        document.undo()
    assert document.design.proof.load == () and work.is_of_design


def test_a_controller_that_does_not_run_is_said(desk: Any, qtbot: Any, tmp_path: Path) -> None:
    window = desk(short_cabinet(tmp_path))
    window._choose_room("proof")
    page, work = window.room("proof").page, window.room("proof").work
    window.desk.runs.controller = str(tmp_path / "none.py")
    page.panel.button.click()
    qtbot.waitUntil(lambda: not work.is_busy, timeout=60_000)
    assert "none.py" in page.panel.said.text()
