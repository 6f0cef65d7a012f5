"""The window: rail, top bar, notice, ribbon, bench, strip, verdict; and every command of the desk."""

from __future__ import annotations

import itertools
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QByteArray, Qt
from PyQt6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import QApplication, QHBoxLayout, QMainWindow, QMenu, QVBoxLayout, QWidget

from calor.demo import DEMOS
from calor.design.model import BLOCK_KINDS
from calor.design.model import BLOCKS as ORDER
from calor.desk.bench.bench import Bench
from calor.desk.bench.sections import field_of, keys_of, sections_of
from calor.desk.loop.verdict import VerdictPanel
from calor.desk.state.model import Model
from calor.desk.state.places import Unsaved, left_behind
from calor.desk.state.simulator import NOT_MADE
from calor.desk.strip.strip import Strip
from calor.desk.widgets import theme as look
from calor.desk.widgets.words import BLOCKS, word
from calor.desk.window.files import Files
from calor.desk.window.notice import Notice
from calor.desk.window.rail import Rail
from calor.desk.window.ribbon import Ribbon
from calor.desk.window.search import Entry, Search
from calor.desk.window.start_page import StartPage
from calor.desk.window.topbar import TopBar
from calor.firmware.controller.consent import NOT_ALLOWED
from calor.units import TEMPERATURE_UNITS

if TYPE_CHECKING:
    from calor.desk.code.room import CodeRoom
    from calor.desk.probe.room import ProbeRoom


class Window(QMainWindow):
    """The desk."""

    def __init__(self, model: Model) -> None:
        super().__init__()
        self.model = model
        self.files = Files(model, self)
        self.rail, self.topbar, self.notice = Rail(), TopBar(model), Notice()
        self.ribbon, self.bench = Ribbon(model), Bench(model)
        self.strip, self.verdict = Strip(model), VerdictPanel(model)
        # rooms that are not the first to be seen are built when they are
        self._probe_room: ProbeRoom | None = None
        self._code_room: CodeRoom | None = None
        files = self.files
        self.start_page = StartPage(model, files.open_demo, files.open, files.new, files.ask_open)
        self._lay_out()
        self._commands: list[tuple[str, str, Any]] = []
        self._connect()
        self.theme = look.LIGHT
        self.set_theme(str(model.remembered.get("theme", "light")))
        self.resize(1280, 800)
        self.setMinimumSize(1040, 640)
        self.setAcceptDrops(True)
        geometry = model.remembered.get("geometry")
        if isinstance(geometry, str):
            self.restoreGeometry(QByteArray.fromBase64(geometry.encode()))
        self._show_room()
        self._show_title()

    def _lay_out(self) -> None:
        whole = QWidget()
        across = QHBoxLayout(whole)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(self.rail)
        right = QVBoxLayout()
        right.setSpacing(0)
        across.addLayout(right, 1)
        for widget in (self.topbar, self.notice, self.ribbon):
            right.addWidget(widget)
        self.room = QWidget()
        room = QHBoxLayout(self.room)
        room.setContentsMargins(0, 0, 0, 0)
        room.setSpacing(0)
        for widget, stretch in (
            (self.bench, 0),
            (self.strip, 1),
            (self.verdict, 0),
        ):
            room.addWidget(widget, stretch)
        right.addWidget(self.room, 1)
        right.addWidget(self.start_page, 1)
        self.start_page.hide()
        self.setCentralWidget(whole)

    @property
    def probe_room(self) -> ProbeRoom:
        """The probe's room, built when it is first asked for."""
        if self._probe_room is None:
            from calor.desk.probe.room import ProbeRoom

            made = self._probe_room = ProbeRoom(self.model)
            made.save.clicked.connect(self.files.ask_scaling)
            made.copy.clicked.connect(self.files.copy_formula)
            made.calibration.load.clicked.connect(self.files.ask_calibration)
            self._take_in(made)
        return self._probe_room

    @property
    def code_room(self) -> CodeRoom:
        """The room of the C, built when it is first asked for."""
        if self._code_room is None:
            from calor.desk.code.room import CodeRoom

            made = self._code_room = CodeRoom(self.model)
            made.panel.save.clicked.connect(lambda: self.files.ask_code(made.form))
            self._take_in(made)
        return self._code_room

    def _take_in(self, room: Any) -> None:
        room.hide()
        room.set_theme(self.theme)
        layout = self.room.layout()
        assert isinstance(layout, QHBoxLayout)
        layout.addWidget(room, 1)
        self._order_tabs()

    def _connect(self) -> None:
        model, files = self.model, self.files
        model.noticed.connect(self._say)
        model.run_changed.connect(self._run_again)
        model.design_changed.connect(self._show_title)
        model.opened.connect(self.notice.hide)
        model.wide_changed.connect(self._show_room)
        model.room_changed.connect(self._show_room)
        for room, button in self.rail.rooms.items():
            button.clicked.connect(lambda _, room=room: self._choose_room(room))
        self.start_page.left.connect(lambda: self.show_start(False))
        model.opened.connect(lambda: self.show_start(False))
        model.bench_chosen.connect(self._show_room)
        self.strip.dropped.connect(files.take)
        self.bench.save_code.clicked.connect(lambda _: files.ask_code())
        self.topbar.save.clicked.connect(files.save)
        self.rail.find.clicked.connect(self.search)
        self.rail.theme.clicked.connect(self.toggle_theme)
        self._commands = [
            ("Start page", "Ctrl+H", lambda: self.show_start(self.start_page.isHidden())),
            ("Loop room", "Ctrl+1", lambda: self._choose_room("loop")),
            ("Code room", "Ctrl+2", lambda: self._choose_room("code")),
            ("New design", "Ctrl+N", files.new),
            ("Open…", "Ctrl+O", files.ask_open),
            ("Save", "Ctrl+S", files.save),
            ("Save as…", "Ctrl+Shift+S", files.save_as),
            ("Overlay a log…", "Ctrl+L", files.ask_log),
            ("Overlay the demo's log", "", files.overlay_demo),
            ("Take the log away", "", lambda: model.set_log(None)),
            ("Save its C…", "Ctrl+E", lambda: files.ask_code(self.code_room.form)),
            ("Undo", "Ctrl+Z", self._undo),
            ("Redo", "Ctrl+Shift+Z", self._redo),
            ("Pin this run", "Ctrl+P", model.pin),
            ("Unpin", "", model.unpin),
            ("Edit the trial", "Ctrl+T", lambda: model.choose_bench("trial")),
            ("Probe, opened wide", "Ctrl+B", lambda: model.set_wide(not model.wide)),
            ("Save the probe's scaling…", "", files.ask_scaling),
            ("Copy the probe's formula", "", files.copy_formula),
            ("Import calibration points…", "", files.ask_calibration),
            ("Compare two probes in a log…", "", files.ask_compare),
            ("Calipers", "", lambda: self.strip.set_calipers(not self.strip.calipers)),
            ("Whole run", "", self.strip.restore),
            ("Next unit: °C, °F, K", "Ctrl+U", self.topbar.next_unit),
            ("Light or dark", "Ctrl+D", self.toggle_theme),
            ("Find", "Ctrl+K", self.search),
            ("Quit", "Ctrl+Q", self.close),
        ]
        for _, keys, act in self._commands:
            if keys:
                QShortcut(QKeySequence(keys), self, activated=act)
        QShortcut(QKeySequence("Ctrl+Y"), self, activated=self._redo)
        QShortcut(QKeySequence("Escape"), self, activated=self._escape)
        for number, block in enumerate(ORDER, 1):
            QShortcut(QKeySequence(f"Alt+{number}"), self, activated=lambda block=block: self._go_to(block))
        self._menu = QMenu(self)
        self._menu.aboutToShow.connect(self._fill_menu)
        self.topbar.name.setMenu(self._menu)
        self.bench.rebuilt.connect(self._order_tabs)
        self._order_tabs()

    def _say(self, kind: str, text: str) -> None:
        """Say something over the room; of code that waits to be allowed, with the way to read it."""
        if NOT_ALLOWED in text:
            self.notice.say(kind, text, "Read it", lambda: self._choose_room("code"))
        else:
            self.notice.say(kind, text)

    def _run_again(self) -> None:
        """A run that was made takes away what was said of one that could not be."""
        if self.notice.text.text().startswith(NOT_MADE):
            self.notice.hide()

    def _order_tabs(self) -> None:
        """The Tab key follows the loop: bar, ribbon, bench, strip."""
        order = [*self.topbar.order(), *self.ribbon.cards.values(), *self.bench.tab_order()]
        order += self._probe_room.order() if self._probe_room is not None else []
        order += self.start_page.order()
        order += self._code_room.order() if self._code_room is not None else []
        order += [self.strip.caliper_button, self.strip.whole_button, self.strip]
        for first, second in itertools.pairwise(order):
            self.setTabOrder(first, second)

    def _show_room(self, *_: object) -> None:
        """The probe's room where it is open and its bench is shown; else the run."""
        code = self.model.room == "code"
        wide = self.model.wide and self.model.bench == "probe" and not code
        for widget in (self.strip, self.verdict):
            widget.setVisible(not wide and not code)
        if wide or self._probe_room is not None:
            self.probe_room.setVisible(wide)
        if code or self._code_room is not None:
            self.code_room.setVisible(code)
        for room, button in self.rail.rooms.items():
            button.setChecked(room == self.model.room)
        if not self.start_page.isHidden():
            return
        focus = self.focusWidget()
        if focus is None or not self.bench.isAncestorOf(focus):  # Qt hands the keyboard to whatever comes next
            (self.code_room.editor if code else self.probe_room if wide else self.strip).setFocus(
                Qt.FocusReason.OtherFocusReason
            )

    def _choose_room(self, room: str) -> None:
        self.show_start(False)
        self.model.choose_room(room)
        self._show_room()

    def show_start(self, shown: bool) -> None:
        """Show the start page in place of the room, or the room again."""
        if shown == (not self.start_page.isHidden()):
            return
        self.start_page.setVisible(shown)
        for widget in (self.ribbon, self.room):
            widget.setVisible(not shown)
        if shown:
            self.start_page.show_model()
            self.start_page.cards[0].setFocus(Qt.FocusReason.OtherFocusReason)
        else:
            self._show_room()

    def _undo(self) -> None:
        self.model.end_merging()
        self.model.undo_stack.undo()

    def _redo(self) -> None:
        self.model.undo_stack.redo()

    def _go_to(self, block: str) -> None:
        self.model.choose_bench(block)
        self.ribbon.cards[block].setFocus(Qt.FocusReason.ShortcutFocusReason)

    def _escape(self) -> None:
        if self.model.trying is not None:
            self.model.drop_tried()
        elif not self.notice.isHidden():
            self.notice.hide()
        elif self.start_page.isVisible():
            self.show_start(False)
        elif self._probe_room is not None and self._probe_room.isVisible():
            self.model.set_wide(False)
        elif self.strip.calipers:
            self.strip.set_calipers(False)

    def _show_title(self) -> None:
        self.setWindowTitle(f"{self.model.design.name}{' (edited)' if self.model.edited else ''} · Calor")

    def _fill_menu(self) -> None:
        menu = self._menu
        menu.clear()
        for name, keys, act in self._commands:
            if name in ("New design", "Overlay a log…", "Undo", "Quit"):
                menu.addSeparator()
            if name in (
                "Loop room",
                "Code room",
                "Pin this run",
                "Unpin",
                "Edit the trial",
                "Calipers",
                "Probe, opened wide",
                "Save the probe's scaling…",
                "Copy the probe's formula",
                "Import calibration points…",
                "Compare two probes in a log…",
                "Whole run",
                "Find",
                "Next unit: °C, °F, K",
                "Light or dark",
            ):
                continue
            if name == "Quit":
                self._add_designs(menu)
                menu.addSeparator()
            action = QAction(name, menu)
            action.setShortcut(QKeySequence(keys))
            action.triggered.connect(lambda _, act=act: act())
            stack = self.model.undo_stack
            allowed = {
                "Undo": stack.canUndo(),
                "Redo": stack.canRedo(),
                "Take the log away": self.model.recorded is not None,
            }
            action.setEnabled(allowed.get(name, True))
            if name == "Undo" and stack.canUndo():
                action.setText(f"Undo: {stack.undoText()}")
            menu.addAction(action)

    def _add_designs(self, menu: QMenu) -> None:
        recent = menu.addMenu("Recent designs")
        for path in self.model.remembered.recent():
            recent.addAction(path.name).triggered.connect(lambda _, path=path: self.files.open(path))
        if recent.isEmpty():
            recent.addAction("none yet").setEnabled(False)
        demos = menu.addMenu("Demo designs")
        for number, demo in enumerate(DEMOS):
            demos.addAction(demo.title).triggered.connect(lambda _, number=number: self.files.open_demo(number))

    # ---- search

    def entries(self) -> list[Entry]:
        """Everything Ctrl+K finds."""
        model = self.model
        found = [Entry(name, f"command {keys}".strip(), act) for name, keys, act in self._commands if name != "Find"]
        for number, trial in enumerate(model.design.trial):
            found.append(Entry(trial.name, "trial", lambda number=number: model.choose_trial(number)))
        for block in ORDER:
            found.append(Entry(BLOCKS[block], "bench", lambda block=block: self._go_to(block)))
            for kind in BLOCK_KINDS[block]:
                if len(BLOCK_KINDS[block]) > 1:
                    act = lambda block=block, kind=kind: self._choose_kind(block, kind)  # noqa: E731
                    found.append(Entry(word(kind), f"kind of {BLOCKS[block].lower()}", act))
            found += self._setting_entries(block)
        for unit in TEMPERATURE_UNITS:
            found.append(Entry(f"Show {unit}", "unit", lambda unit=unit: model.set_unit(unit)))
        for path in model.remembered.recent():
            found.append(Entry(path.name, "recent design", lambda path=path: self.files.open(path)))
        for number, demo in enumerate(DEMOS):
            found.append(Entry(demo.title, "demo design", lambda number=number: self.files.open_demo(number)))
        return found

    def _choose_kind(self, block: str, kind: str) -> None:
        self.model.choose_bench(block)
        self.bench.choose_kind(block, kind)

    def _setting_entries(self, block: str) -> list[Entry]:
        found = []
        for _, part, keys in sections_of(self.model.design, block):
            settings = self.model.settings_of(part)
            for key in keys or keys_of(type(settings)):
                title = field_of(settings, key).title or key
                act = lambda block=block, place=f"{part}.{key}": self.model.choose_bench(block, place)  # noqa: E731
                found.append(Entry(title, f"setting of {'limits' if part == 'limits' else BLOCKS[block].lower()}", act))
        return found

    def search(self) -> Search:
        """Open the search."""
        dialog = Search(self, self.entries())
        dialog.open()
        dialog.line.setFocus()
        return dialog

    # ---- theme

    def set_theme(self, name: str) -> None:
        """Light or dark."""
        self.theme = look.THEMES.get(name, look.LIGHT)
        app = QApplication.instance()
        if isinstance(app, QApplication):
            look.apply(app, self.theme)
        self.ribbon.set_theme(self.theme)
        self.strip.set_theme(self.theme)
        for room in (self.start_page, self._probe_room, self._code_room):
            if room is not None:
                room.set_theme(self.theme)
        self.bench.set_theme(self.theme)
        self.rail.theme.setText("Light" if self.theme is look.DARK else "Dark")

    def toggle_theme(self) -> None:
        """The other theme."""
        self.set_theme("light" if self.theme is look.DARK else "dark")
        self.model.remembered.put("theme", self.theme.name)

    # ---- coming and going

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        self.strip.dragEnterEvent(event)

    def dropEvent(self, event: QDropEvent) -> None:
        self.strip.dropEvent(event)

    def offer_back(self) -> None:
        """Offer an edit that a killed desk left behind."""
        lost = left_behind()
        if lost:
            self._offer(lost[0])

    def _offer(self, lost: Unsaved) -> None:
        def take() -> None:
            path = lost.path
            if path is not None and self.model.open(path, lost.text):
                lost.kept_in.unlink(missing_ok=True)
            elif path is None and self.model.open_text(lost.text, lost.name):
                self.model.undo_stack.resetClean()
                self.model.design_changed.emit()
                lost.kept_in.unlink(missing_ok=True)

        text = f"An edit of {lost.name} was not saved when Calor last ended."
        self.notice.say("note", text, "Take it back", take, "Drop it", lambda: lost.kept_in.unlink(missing_ok=True))

    def closeEvent(self, event: QCloseEvent) -> None:
        unsaved = self._code_room.unsaved() if self._code_room is not None else []
        if not self.files.may_go_on() or not all(self.files.may_leave(own.path.name, own.save) for own in unsaved):
            event.ignore()
            return
        self.model.remembered.put("geometry", bytes(self.saveGeometry().toBase64()).decode())
        self.model.remembered.put("last", str(self.model.path) if self.model.path else "")
        self.files.close()
        if self._code_room is not None:
            self._code_room.close_down()
        self.model.close()
        self.model.simulator.close()
        event.accept()

    def open_first(self, path: Path | None, demo: bool) -> None:
        """Open what was asked for: a file, the demo, else the last design, else the demo."""
        last = str(self.model.remembered.get("last", ""))
        opened, asked = False, path is not None
        if path is not None:
            opened = self.model.open(path)
        elif not demo and last and Path(last).is_file():
            opened, asked = self.model.open(Path(last)), True
        if not opened:
            complaint = (self.notice.text.text(), not self.notice.isHidden())
            self.model.open_text(DEMOS[0].design.read_text(encoding="utf-8"), DEMOS[0].design.name)
            if asked and complaint[1]:
                self.notice.say("error", f"{complaint[0]} Showing the demo instead.")
        self.strip.setFocus(Qt.FocusReason.OtherFocusReason)
        self.offer_back()
