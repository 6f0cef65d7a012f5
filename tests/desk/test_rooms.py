"""A room is a folder and a line: the window takes up all the rest by itself."""

from __future__ import annotations

import importlib.util
import itertools
import subprocess
import sys
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from calor.desk import rooms
from calor.desk.widgets import theme as look
from calor.desk.window.commands import Commands
from tests.conftest import ran

Open = Callable[..., Any]
ROOT = Path(__file__).parent.parent.parent
TOY = """
from PyQt6.QtWidgets import QPushButton, QVBoxLayout

from calor.desk.room import Command, Entry, Page, Room, Unsaved


class ToyPage(Page):
    def __init__(self):
        super().__init__()
        self.theme, self.button = None, QPushButton("Weigh the egg")
        QVBoxLayout(self).addWidget(self.button)

    def set_theme(self, theme):
        self.theme = theme

    def tab_order(self):
        return [self.button]


class ToyRoom(Room):
    name, title, purpose = "toy", "Toy", "nothing yet"
    has_ribbon, has_bench = False, False

    def __init__(self, desk):
        super().__init__(desk)
        self.done, self.busy, self.closed, self.files = [], False, False, []

    def build(self):
        return ToyPage()

    @property
    def at_work(self):
        return self.busy

    def commands(self):
        return [Command("Weigh the egg", "Ctrl+Alt+W", lambda: self.done.append("weighed"))]

    def entries(self):
        return [Entry("Egg number 7", "egg", lambda: self.done.append("egg"))]

    def takes(self, path):
        self.files.append(path)
        return path.suffix == ".egg"

    def unsaved(self):
        return [] if "saved" in self.done else [Unsaved("the scales", lambda: self.done.append("saved") or True)]

    def close_down(self):
        self.closed = True
"""


@pytest.fixture
def toy(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, desk: Open) -> Any:
    """A desk with one room more: its folder, and its line."""
    (tmp_path / "toy_room").mkdir()
    (tmp_path / "toy_room" / "__init__.py").touch()
    (tmp_path / "toy_room" / "room.py").write_text(TOY)
    monkeypatch.syspath_prepend(str(tmp_path))
    monkeypatch.setattr(rooms, "ROOMS", [*rooms.ROOMS, "toy_room.room:ToyRoom"])
    window = desk()
    yield window
    window.room("toy").done.append("saved")
    for name in [name for name in sys.modules if name.startswith("toy_room")]:
        del sys.modules[name]


def test_one_room_more(toy: Any, qtbot: Any, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    window, room = toy, toy.room("toy")
    button = window.rail.rooms["toy"]
    assert button.text() == "Toy\nnothing yet" and not room.is_built
    number = [name for name, _ in window.rail.rooms.items()].index("toy") + 1
    qtbot.keyClick(window, Qt.Key(Qt.Key.Key_0 + number), Qt.KeyboardModifier.ControlModifier)
    assert room.page.isVisible() and button.isChecked() and room.page.theme is look.LIGHT
    assert not window.ribbon.isVisible() and not window.bench.isVisible() and not window.room("loop").page.isVisible()
    window.toggle_theme()
    qtbot.waitUntil(lambda: room.page.theme is look.DARK)
    # the Tab key goes through it
    window.bench.show()
    before = window.room("loop").strip
    assert before.nextInFocusChain() is not None and room.page.button in _focus_chain(window)
    # search finds it, its commands and its entries
    search = window.search()
    for words, said in (("weigh", "weighed"), ("number 7", "egg")):
        search.line.setText(words)
        qtbot.keyClick(search.line, Qt.Key.Key_Return)
        assert room.done[-1] == said
        search = window.search()
    search.line.setText("toy room")
    assert search.list.count() == 1
    search.close()
    # at work, it says so on the rail; a dropped file comes to it; what is unsaved is asked about
    room.busy = True
    room.work_changed.emit()
    assert button.text().startswith("Toy …") and "at work" in button.accessibleName()
    window.take(tmp_path / "one.egg")
    assert room.files == [tmp_path / "one.egg"]
    asked: list[str] = []
    monkeypatch.setattr(window.files, "may_leave", lambda name, save: bool(asked.append(name)) or save())
    window.close()
    assert asked == ["the scales"] and room.done[-1] == "saved" and room.closed


def _focus_chain(window: Any) -> list[Any]:
    chain, widget = [], window.topbar.name
    while widget is not None and widget not in chain:
        chain.append(widget)
        widget = widget.nextInFocusChain()
    return chain


def test_one_room_more_is_pictured(toy: Any) -> None:
    """`make screenshots` takes a picture of every room that has none."""
    spec = importlib.util.spec_from_file_location("make_screenshots", ROOT / "tools" / "make_screenshots.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    assert module.unpictured(
        ["loop-pid", "probe-rtd", "logs-fit", "tune", "code", "code-own-law", "proof", "journal", "board"]
    ) == ["toy"]
    module.entering("toy")(toy)
    assert toy.room("toy").page.isVisible()


def test_another_unit_is_not_simulated_again(desk: Open, qtbot: Any) -> None:
    """The run stays as it is, all that is said of it is in the new unit, advice too."""
    window = desk()
    state = window.desk
    state.document.set_value("law", "gain_per_celsius", 3.0)
    ran(qtbot, window)
    qtbot.waitUntil(lambda: state.runs.advised and bool(state.runs.advice), timeout=60_000)
    before, asked = state.runs.current, state.runs.requests
    state.view.set_unit("°F")
    qtbot.waitUntil(lambda: any("°F" in card.text for card in state.runs.advice), timeout=60_000)
    assert state.runs.current is before and state.runs.requests == asked
    assert "°F" in window.room("loop").verdict.rows["overshoot_celsius"].value.text()
    assert "°F" in window.ribbon.cards["setpoint"].lines[0]


def test_saving_and_choosing_a_trial_are_no_edits(desk: Open, qtbot: Any, tmp_path: Path) -> None:
    """Each has a signal of its own: nothing that follows the design is made again for them."""
    window = desk()
    state = window.desk
    said: list[str] = []
    state.document.changed.connect(lambda: said.append("changed"))
    state.document.saved.connect(lambda: said.append("saved"))
    state.document.trial_chosen.connect(lambda: said.append("trial"))
    state.document.choose_trial(1)
    ran(qtbot, window)
    assert said == ["trial"] and state.runs.current.request.trial is state.document.trial
    runs = state.runs.requests
    state.document.save(tmp_path / "cabinet.toml")
    assert said == ["trial", "saved"] and state.runs.requests == runs and "edited" not in window.windowTitle()
    assert not window.topbar.save.isEnabled()


def test_a_setting_of_a_kind_that_is_not_chosen_is_found(desk: Open, qtbot: Any) -> None:
    window = desk()
    search = window.search()
    search.line.setText("hysteresis on/off law")
    assert "of the on/off law" in search.list.item(0).text()
    qtbot.keyClick(search.line, Qt.Key.Key_Return)
    assert window.desk.document.design.law.kind == "on_off"
    entry = window.bench.form.fields["law.hysteresis_celsius"].entry
    assert entry.hasFocus()
    qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.desk.document.design.law.kind == "pid"


def test_every_rooms_page_is_imported_beside_the_window() -> None:
    """In a fresh process: all that entering a room first would still have to import."""
    pages = [f"{place.partition(':')[0].rpartition('.')[0]}.page" for place in rooms.ROOMS]
    code = f"import sys\nfrom calor.desk.rooms import import_pages\nimport_pages()\nprint([one for one in {pages!r} if one not in sys.modules])"
    result = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert result.stdout.strip() == "[]" and len(pages) > 5


def test_a_room_that_is_entered_has_the_keyboard(desk: Open, qtbot: Any) -> None:
    window = desk()
    for number, room in enumerate((room for room in window.rooms if room.on_rail), 1):
        qtbot.keyClick(window, Qt.Key(Qt.Key.Key_0 + number), Qt.KeyboardModifier.ControlModifier)
        assert window.shown is room
        assert room.page.isAncestorOf(window.focusWidget()) and window.focusWidget().isVisible(), room.name


@pytest.mark.parametrize("key", [Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space])
def test_a_button_is_pressed_by_return_as_by_space(desk: Open, qtbot: Any, key: Qt.Key) -> None:
    window = desk()
    window.desk.view.choose_room("start")
    card = window.start.page.cards[4]
    for button in (card, window.ribbon.cards["load"], window.rail.rooms["logs"]):
        button.setFocus()
        qtbot.waitUntil(button.hasFocus)
        qtbot.keyClick(button, key)
        if button is card:
            assert window.desk.document.design.name == "Dew heater" and window.shown.name == "loop"
    assert window.desk.view.bench == "load" and window.shown.name == "logs"
    # what is no button takes no notice
    before = window.desk.document.design
    window.desk.view.choose_room("loop")
    entry = window.bench.form.fields["load.loss_w_per_k"].entry
    qtbot.waitUntil(entry.isVisible)
    entry.setFocus()
    qtbot.keyClick(entry, key)
    assert window.shown.name == "loop" and window.desk.document.design is before


def test_another_theme_is_put_on_part_by_part(desk: Open, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """One part a turn of the event loop, those on show first and unpainted until all of them have it."""
    window = desk()
    for name in ("logs", "probe", "loop"):
        window.desk.view.choose_room(name)
    worn: list[tuple[str, bool]] = []
    dress = look.dress

    def noted(part: Any, theme: look.Theme) -> None:
        worn.append((type(part).__name__, window.updatesEnabled()))
        dress(part, theme)

    monkeypatch.setattr(look, "dress", noted)
    turns = []
    window.dressing._turns.timeout.connect(lambda: turns.append(len(worn)))
    window.toggle_theme()
    assert window.theme is look.DARK and not worn and not window.updatesEnabled()
    assert QApplication.overrideCursor() is not None
    qtbot.waitUntil(lambda: not window.dressing._turns.isActive())
    assert all(later - sooner <= 1 for sooner, later in itertools.pairwise([0, *turns]))
    shown = {"Rail", "TopBar", "Ribbon", "Bench", "LoopPage"}
    assert {name for name, painted in worn[:5] if not painted} == shown and all(painted for _, painted in worn[5:])
    assert {"Notice", "LogsPage", "ProbePage", "QWidget"} == {name for name, _ in worn[5:]}
    assert window.updatesEnabled() and QApplication.overrideCursor() is None
    # a room that is entered before its turn; a change of mind; a window closed on the way
    window.toggle_theme()
    window.toggle_theme()
    window.toggle_theme()
    window.desk.view.choose_room("logs")
    assert look.worn_by(window.room("logs").page) == "light"
    qtbot.waitUntil(lambda: not window.dressing._turns.isActive())
    assert all(look.worn_by(room.page) == "light" for room in window.rooms if room.is_built)
    # what the window asks and offers wears what the window wears
    search = window.search()
    qtbot.waitUntil(search.isVisible)
    assert search.grab().toImage().pixelColor(20, 4).name() == look.LIGHT.ground.lower()
    search.close()
    window.toggle_theme()
    window.close()
    assert QApplication.overrideCursor() is None


def test_rooms_are_ready_before_they_are_entered(desk: Open, qtbot: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    window = desk()
    faces, focus = [room for room in window.rooms if room.name != "loop"], window.focusWidget()
    lacking = window.room("code")
    real = type(lacking).build

    def lacks(room: Any) -> Any:
        raise ImportError("no library")

    monkeypatch.setattr(type(lacking), "build", lacks)
    allowed: list[int] = []
    asked: list[int] = []
    window.ahead.begin(lambda: bool(asked.append(1) or allowed))
    qtbot.waitUntil(lambda: len(asked) > 2)
    assert not any(room.is_built for room in faces)
    allowed.append(1)
    qtbot.waitUntil(lambda: window.ahead.is_done)
    monkeypatch.setattr(type(lacking), "build", real)
    for room in faces:
        assert room.is_built == (room is not lacking)
        if room.is_built:
            assert not room.page.isVisible() and look.worn_by(room.page) == window.theme.name
            assert all(part.testAttribute(Qt.WidgetAttribute.WA_WState_Polished) for part in room.page.tab_order())
    assert window.shown.name == "loop" and window.focusWidget() is focus and not window.room("loop").page.isHidden()
    for room in faces:
        window.desk.view.choose_room(room.name)
        assert room.page.isVisible() and not window.room("loop").page.isVisible()


def test_every_key_acts_after_the_menu_was_opened(desk: Open, monkeypatch: pytest.MonkeyPatch, qtbot: Any) -> None:
    """A key has one owner: the menu tells it, and does not take it."""
    acted: list[str] = []
    monkeypatch.setattr(Commands, "_of", staticmethod(lambda command: lambda: acted.append(command.name)))
    window = desk()
    assert [
        keys for keys, count in Counter(one.keys for one in window.commands.all if one.keys).items() if count > 1
    ] == []
    menu = window.commands.menu
    window.topbar.name.setFocus()
    for times in range(2):
        menu.popup(window.mapToGlobal(window.rect().center()))
        qtbot.waitUntil(menu.isVisible)
        told = {action.text().partition("\t")[2] for action in menu.actions()}
        menu.close()
        qtbot.waitUntil(lambda: not menu.isVisible())
        acted.clear()
        for command in window.commands.all:
            if command.keys:
                (combined,) = QKeySequence(command.keys)
                QTest.keyClick(window, combined.key(), combined.keyboardModifiers())
        assert acted == [command.name for command in window.commands.all if command.keys], times
        assert "Ctrl+S" in told


def test_the_name_can_be_read_while_its_menu_is_open(desk: Open) -> None:
    """Ink is seen on the button as it is pressed, as it is at rest."""
    window = desk()
    button = window.topbar.name

    def inked() -> int:
        picture = window.topbar.grab(button.geometry()).toImage()
        points = [(x, y) for x in range(4, picture.width() - 4) for y in range(4, picture.height() - 4)]
        return sum(picture.pixelColor(*point).lightness() < 90 for point in points)

    at_rest = inked()
    button.setDown(True)
    assert at_rest > 100 and abs(inked() - at_rest) < 0.1 * at_rest
    button.setDown(False)


@pytest.mark.parametrize("text", ["Saved.", "law.gain_per_celsius: must be at least 0 (received -3). " * 6])
def test_a_note_moves_nothing_from_under_the_hand(text: str, desk: Open, qtbot: Any) -> None:
    """It lies over the foot of the page, whole, whatever the window's size; the page stays where it is."""
    window = desk()
    for name in ("loop", "board", "journal"):
        window._choose_room(name)
        window.notice.hide()
        page = window.shown.page
        qtbot.wait(50)
        before = [page.geometry(), window.ribbon.geometry(), window.bench.geometry()]
        window.desk.say("error", text)
        qtbot.waitUntil(window.notice.isVisible)
        qtbot.wait(1)
        assert [page.geometry(), window.ribbon.geometry(), window.bench.geometry()] == before
        for width in (1040, 1280):
            window.resize(width, 700)
            qtbot.waitUntil(lambda width=width: window.width() == width)
            place, whole = window.notice.geometry(), window.centralWidget().rect()
            assert whole.contains(place) and place.left() > window.rail.width() and place.bottom() > whole.bottom() - 20
            assert window.notice.text.height() >= window.notice.text.heightForWidth(window.notice.text.width())
        window.resize(1280, 800)
