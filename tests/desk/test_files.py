"""The desk and its files: what others wrote meanwhile, edits that were left behind, places that are taken already."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtWidgets import QFileDialog, QMessageBox

from calor.design.file import read
from calor.desk.state.places import Keeper, left_behind, recovery_folder
from tests.conftest import TEN_LINES

Desk = Callable[..., Any]


class Answers:
    """What the user answers to questions, and the questions."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.wanted: list[str] = []
        self.asked: list[str] = []

        def answer(box: QMessageBox) -> int:
            self.asked.append(box.text())
            wanted = self.wanted.pop(0)
            button = next(one for one in box.buttons() if one.text().replace("&", "") == wanted)
            monkeypatch.setattr(QMessageBox, "clickedButton", lambda _: button)
            return 0

        monkeypatch.setattr(QMessageBox, "exec", answer)


@pytest.fixture
def answers(monkeypatch: pytest.MonkeyPatch) -> Answers:
    return Answers(monkeypatch)


def test_a_design_that_others_changed_is_asked_about(
    desk: Desk, tmp_path: Path, answers: Answers, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What changed is shown key by key; both can be kept, and neither is lost unasked."""
    path, beside = tmp_path / "mine.toml", tmp_path / "mine_2.toml"
    path.write_text(TEN_LINES)
    window = desk(path)
    document = window.desk.document
    theirs = TEN_LINES.replace("celsius = 50", "celsius = 60")
    document.set_value("setpoint", "celsius", 45.0)
    path.write_text(theirs)
    answers.wanted[:] = ["Go back"]
    assert not window.files.save() and path.read_text() == theirs and document.edited
    assert "Setpoint 60 → 45 °C" in answers.asked[-1] and "mine.toml was changed on disk" in answers.asked[-1]
    starts: list[str] = []
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (starts.append(a[2]), (a[2], ""))[1])
    answers.wanted[:] = ["Save mine as…"]
    assert window.files.save() and starts == [str(beside)]
    assert path.read_text() == theirs and read(beside).design.setpoint.celsius == 45 and document.path == beside
    # saved as what is opened here, from then on
    document.set_value("setpoint", "celsius", 44.0)
    assert window.files.save() and read(beside).design.setpoint.celsius == 44
    beside.write_text(theirs)
    document.set_value("setpoint", "celsius", 43.0)
    answers.wanted[:] = ["Open theirs"]
    assert not window.files.save() and document.design.setpoint.celsius == 60 and not document.edited
    beside.write_text("[law]\nkind = 3\n")
    document.set_value("setpoint", "celsius", 42.0)
    answers.wanted[:] = ["Replace it"]
    assert window.files.save() and "it is no design any more" in answers.asked[-1]
    assert read(beside).design.setpoint.celsius == 42 and not answers.wanted
    # the same bytes written again are no change, nor is a file that has gone
    beside.write_text(beside.read_text())
    document.set_value("setpoint", "celsius", 41.0)
    assert window.files.save()
    beside.unlink()
    document.set_value("setpoint", "celsius", 40.0)
    assert window.files.save() and read(beside).design.setpoint.celsius == 40


def test_every_edit_left_behind_is_offered(desk: Desk, tmp_path: Path, answers: Answers) -> None:
    """Also one of a process that had this one's number; each says what is newer; the present edit is not dropped."""
    recovery_folder().mkdir(parents=True)
    paths = [tmp_path / name for name in ("first.toml", "second.toml", "third.toml")]
    for number, path in enumerate(paths):
        path.write_text(TEN_LINES)
        kept = {"path": str(path), "name": path.stem, "text": TEN_LINES.replace("= 50", f"= 4{number}")}
        place = recovery_folder() / (f"{os.getpid()}.json" if number == 0 else f"kept{number}.json")
        place.write_text(json.dumps(kept))
        os.utime(place, (2_000_000_000 - number, 2_000_000_000 - number))
    os.utime(recovery_folder() / "kept2.json", (1_000_000_000, 1_000_000_000))
    held = Keeper()
    held.keep(None, "of a desk that runs", TEN_LINES)
    window = desk()
    document, notice = window.desk.document, window.notice
    assert len(left_behind()) == 3
    assert (
        "first" in notice.text.text()
        and "(1 of 3)" in notice.text.text()
        and "newer than its file" in notice.text.text()
    )
    notice.action.click()
    assert document.path == paths[0] and document.design.setpoint.celsius == 40 and document.edited
    assert "second" in notice.text.text() and "(2 of 3)" in notice.text.text()
    answers.wanted[:] = ["Go back"]  # the edit that is there now is not saved
    notice.action.click()
    assert document.path == paths[0] and document.edited and len(left_behind()) == 2
    window.offer_back()
    answers.wanted[:] = ["Save"]
    notice.action.click()
    assert read(paths[0]).design.setpoint.celsius == 40 and document.path == paths[1]
    assert "its file was written after that" in notice.text.text()
    notice.drop.click()
    assert left_behind() == [] and notice.isHidden()
    held.drop()
    document.undo_stack.setClean()


def test_an_edit_taken_back_notices_what_its_file_became(desk: Desk, tmp_path: Path, answers: Answers) -> None:
    path = tmp_path / "mine.toml"
    path.write_text(TEN_LINES)
    first = desk(path).desk.document
    keeper = first._keeper
    first._keep_timer.stop()  # on a busy machine it would be due before the other desk looks, and drop what is kept
    keeper.keep(path, "mine", TEN_LINES.replace("= 50", "= 45"), first._base)
    assert keeper._lock is not None
    keeper._lock.close()  # as if that desk had been killed
    path.write_text(TEN_LINES.replace("= 50", "= 60"))
    window = desk()
    window.notice.action.click()
    answers.wanted[:] = ["Go back"]
    assert not window.files.save() and "Setpoint 60 → 45 °C" in answers.asked[-1]
    window.desk.document.undo_stack.setClean()


def test_what_is_there_is_asked_about_by_its_whole_name(
    desk: Desk, qtbot: Any, tmp_path: Path, answers: Answers, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The ending is added first; a name with a point in it keeps it; a folder in use is named."""
    window = desk()
    taken = tmp_path / "my.v2.toml"
    taken.write_text("kept")
    chosen = [str(tmp_path / "my.v2")]
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (chosen[0], ""))
    answers.wanted[:] = ["Go back"]
    assert not window.files.save_as() and taken.read_text() == "kept" and "my.v2.toml is there" in answers.asked[-1]
    answers.wanted[:] = ["Replace it"]
    assert window.files.save_as() and read(taken).design.name == "Hatching cabinet"
    (tmp_path / "my.c").write_text("kept")
    code = window.room("code").page
    code._ask_new("c")
    assert (tmp_path / "my.c").read_text() == "kept" and "calor_law" in (tmp_path / "my.v2.c").read_text()
    folder = tmp_path / "firmware"
    folder.mkdir()
    (folder / "README.md").write_text("mine")
    export = window.room("code").export
    answers.wanted[:] = ["Go back", "Write there"]
    export.write(folder)
    qtbot.waitUntil(lambda: len(answers.wanted) == 1, timeout=60_000)
    assert "holds README.md" in answers.asked[-1] and (folder / "README.md").read_text() == "mine"
    assert "Nothing was written" in window.notice.text.text()
    export.write(folder)
    qtbot.waitUntil(lambda: "Wrote" in window.notice.text.text(), timeout=60_000)
    assert (folder / "README.md").read_text() != "mine"
    room = window.room("probe")
    answers.wanted[:] = ["Write there"]
    (tmp_path / "scaling").mkdir()
    (tmp_path / "scaling" / "notes.txt").write_text("mine")
    room.write_scaling(tmp_path / "scaling")
    assert "notes.txt" in answers.asked[-1] and (tmp_path / "scaling" / "notes.txt").read_text() == "mine"
    assert list((tmp_path / "scaling").glob("*.c"))
