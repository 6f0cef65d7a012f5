"""The window: rail, top bar, notice, ribbon and bench around the rooms. It walks the list of rooms and names none."""

from __future__ import annotations

import datetime
import itertools
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QByteArray, Qt
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent
from PyQt6.QtWidgets import QAbstractButton, QHBoxLayout, QMainWindow, QVBoxLayout, QWidget

from calor.demo import DEMOS
from calor.design.model import BLOCKS
from calor.desk.bench.bench import Bench
from calor.desk.room import Command, Room
from calor.desk.rooms import rooms_of
from calor.desk.state.desk import Desk, Note
from calor.desk.state.places import Unsaved, left_behind
from calor.desk.widgets import theme as look
from calor.desk.widgets.keys import shortcut
from calor.desk.widgets.places import DIALOGS
from calor.desk.window.ahead import Ahead
from calor.desk.window.commands import Commands
from calor.desk.window.dressing import Dressing
from calor.desk.window.entries import entries_of
from calor.desk.window.files import Files
from calor.desk.window.held_escape import HeldEscape
from calor.desk.window.notice import Notice
from calor.desk.window.rail import Rail
from calor.desk.window.ribbon import Ribbon
from calor.desk.window.search import Search
from calor.desk.window.start_room import StartRoom
from calor.desk.window.topbar import TopBar


class Window(QMainWindow):
    """The desk."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.dialogs = QWidget(self)
        self.dialogs.setObjectName(DIALOGS)
        self.dialogs.hide()
        self.files = Files(desk, self.dialogs)
        self.start = StartRoom(desk, self.files)
        self.rooms: list[Room] = [*rooms_of(desk), self.start]
        self.rail, self.topbar, self.notice = Rail(self.rooms), TopBar(desk), Notice()
        self.ribbon, self.bench = Ribbon(desk), Bench(desk)
        self.dressing, self.ahead = Dressing(self), Ahead(self)
        self._note: Note | None = None
        self._lay_out()
        self.commands = Commands(self)
        self._connect()
        self.dressing.put_on(look.THEMES.get(str(desk.remembered.get("theme", "light")), look.LIGHT))
        self.resize(1280, 800)
        self.setMinimumSize(1040, 640)
        self.setAcceptDrops(True)
        geometry = desk.remembered.get("geometry")
        if isinstance(geometry, str):
            self.restoreGeometry(QByteArray.fromBase64(geometry.encode()))
        desk.view.choose_room(next(room.name for room in self.rooms if room.on_rail))
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
        for widget in (self.topbar, self.ribbon):
            right.addWidget(widget)
        self._place = QHBoxLayout()
        self._place.setContentsMargins(0, 0, 0, 0)
        self._place.setSpacing(0)
        self._place.addWidget(self.bench)
        right.addLayout(self._place, 1)
        self.setCentralWidget(whole)
        self.notice.lie_over(whole, self.rail.width())

    def _connect(self) -> None:
        desk, document = self.desk, self.desk.document
        desk.noticed.connect(self._say)
        desk.runs.changed.connect(lambda: self._take_away("run"))
        for signal in (document.changed, document.saved, document.edited_changed):
            signal.connect(self._show_title)
        document.opened.connect(self.notice.hide)
        document.opened.connect(self._leave_start)
        desk.view.room_chosen.connect(self._show_room)
        desk.view.command_asked.connect(self.commands.carry_out)
        desk.view.design_offered.connect(self.files.open_offered)
        desk.view.record_offered.connect(self._take_record)
        self.rail.chosen.connect(self._choose_room)
        self.topbar.save.clicked.connect(self.files.save)
        self.rail.find_button.clicked.connect(self.search)
        self.rail.theme_button.clicked.connect(self.toggle_theme)
        self.topbar.name.setMenu(self.commands.menu)
        for number, block in enumerate(BLOCKS, 1):
            shortcut(f"Alt+{number}", self, partial(self.go_to, block))
        shortcut("Escape", self, self._escape)
        self._held_escape = HeldEscape(lambda: [command.act() for command in self._urgent()])
        for room in self.rooms:
            if room.urgent is not None:
                room.work_changed.connect(lambda: self._held_escape.watch(bool(self._urgent())))
        self.bench.rebuilt.connect(self._order_tabs)

    # ---- rooms

    def room(self, name: str) -> Room:
        """The room of a name. Raises KeyError where there is none."""
        for room in self.rooms:
            if room.name == name:
                return room
        raise KeyError(name)

    @property
    def shown(self) -> Room:
        """The room on show."""
        return self.room(self.desk.view.room)

    def place(self, room: Room) -> None:
        """Have a room's page in the theme and where it is shown, out of sight if it was not there."""
        self.dressing.dress(room.page)
        if room.page.parentWidget() is None:
            self._place.addWidget(room.page, 1)

    def _choose_room(self, name: str) -> None:
        self.desk.view.choose_room(name)
        self._focus_room()

    def _show_room(self, name: str) -> None:
        shown = self.room(name)
        self.place(shown)
        shown.entered()
        for room in self.rooms:
            if room.is_built:
                room.page.setVisible(room is shown)
        self.ribbon.setVisible(shown.has_ribbon)
        self.bench.setVisible(shown.has_bench)
        self.topbar.show_design(shown.shows_design)
        self.rail.show_room(shown)
        self._order_tabs()
        self._focus_room()

    def _focus_room(self) -> None:
        focus = self.focusWidget()
        # Qt hands the keyboard to whatever comes next
        if focus is None or not self.bench.isAncestorOf(focus) or not self.shown.has_bench:
            self.shown.page.focus()

    def _leave_start(self) -> None:
        if self.shown is self.start:
            self.desk.view.go_back()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        focus = self.focusWidget()
        is_return = event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        # Qt has Return press a button in a dialog only
        if is_return and isinstance(focus, QAbstractButton) and focus.isEnabled():
            focus.click()
        else:
            super().keyPressEvent(event)

    def _order_tabs(self) -> None:
        """The Tab key follows the loop: bar, ribbon, bench, room."""
        order: list[QWidget] = [*self.topbar.tab_order(), *self.ribbon.cards.values(), *self.bench.tab_order()]
        for room in self.rooms:
            order += room.page.tab_order() if room.is_built else []
        for first, second in itertools.pairwise(order):
            self.setTabOrder(first, second)

    def go_to(self, block: str) -> None:
        """Open a block's bench, with the keyboard on its card."""
        self.desk.view.choose_bench(block)
        if not self.shown.has_ribbon:
            self.desk.view.choose_room(next(room.name for room in self.rooms if room.has_ribbon))
        self.ribbon.cards[block].setFocus(Qt.FocusReason.ShortcutFocusReason)

    def _escape(self) -> None:
        if self.desk.runs.proposal is not None:
            self.desk.runs.drop_tried()
        elif not self.notice.isHidden():
            self.notice.hide()
        else:
            any(room.escape() for room in reversed(self.rooms))

    def _urgent(self) -> list[Command]:
        """What has to be at hand now."""
        commands = [room.urgent for room in self.rooms if room.urgent is not None]
        return [command for command in commands if command.allowed()]

    # ---- what is said

    def _say(self, note: Note) -> None:
        """Say something over the room; of code that waits to be allowed, with the way to read it."""
        self._note = note
        room = self.reader_of_code() if note.about == "consent" else None
        if room is not None:
            self.notice.say(note.kind, note.text, "Read it", lambda: self._choose_room(room.name))
        elif note.command:
            self.notice.say(note.kind, note.text, note.command, lambda: self.desk.view.ask(note.command))
        else:
            self.notice.say(note.kind, note.text)

    def reader_of_code(self) -> Room | None:
        """The room in which code is read and allowed."""
        return next((room for room in self.rooms if room.reads_code), None)

    def _take_away(self, about: str) -> None:
        """A run that was made takes away what was said of one that could not be."""
        if self._note is not None and self._note.about in (about, "consent"):
            self._note = None
            self.notice.hide()

    def _show_title(self) -> None:
        document = self.desk.document
        self.setWindowTitle(f"{document.design.name}{' (edited)' if document.edited else ''} · Calor")

    def search(self) -> Search:
        """Open the search."""
        dialog = Search(self.dialogs, entries_of(self))
        dialog.open()
        dialog.line.setFocus()
        return dialog

    # ---- theme

    @property
    def theme(self) -> look.Theme:
        """The theme that the window is in, or is being put into."""
        return self.dressing.theme

    def toggle_theme(self) -> None:
        """The other theme."""
        other = look.LIGHT if self.theme is look.DARK else look.DARK
        self.dressing.change_to(other)
        self.desk.remembered.put("theme", other.name)

    # ---- coming and going

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if event is not None and data is not None and any(url.isLocalFile() for url in data.urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        for url in data.urls() if data is not None else ():
            if event is not None and url.isLocalFile():
                event.acceptProposedAction()
                self.take(Path(url.toLocalFile()))

    def take(self, path: Path) -> None:
        """A dropped file: a design is opened, anything else is for the room on show, or for the first that takes it."""
        if path.suffix.lower() == ".toml":
            self.files.open(path)
            return
        others = (room for room in self.rooms if room is not self.shown)
        any(room.takes(path) for room in (self.shown, *others))

    def _take_record(self, path: Path) -> None:
        self.desk.view.choose_room("logs")
        self.take(path)

    def offer_back(self) -> None:
        """Offer the edits that killed desks left behind, one after the other."""
        lost = left_behind()
        if lost:
            self._offer(lost, 0)

    def _offer(self, lost: list[Unsaved], number: int) -> None:
        if number >= len(lost):
            return
        edit, document = lost[number], self.desk.document

        def take() -> None:
            if not self.files.may_go_on():  # it is offered again at the next start
                return
            path = edit.path
            if path is not None and document.open(path, edit.text, base=edit.base):
                edit.drop()
            elif path is None and document.open_text(edit.text, edit.name):
                document.undo_stack.resetClean()
                edit.drop()
            self._offer(lost, number + 1)

        def drop() -> None:
            edit.drop()
            self._offer(lost, number + 1)

        kept = datetime.datetime.fromtimestamp(edit.kept_at_s).astimezone().strftime("%d %b %H:%M")
        which = f" ({number + 1} of {len(lost)})" if len(lost) > 1 else ""
        newer = "; its file was written after that" if edit.is_older_than_file else "; it is newer than its file"
        text = f"An edit of {edit.name} was not saved when Calor last ended: kept {kept}"
        text += f"{newer if edit.path is not None else ''}{which}."
        self.notice.say("note", text, "Take it back", take, "Drop it", drop)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        if event is None:
            return
        unsaved = [item for room in self.rooms for item in room.unsaved()]
        if not self.files.may_go_on() or not all(self.files.may_leave(item.name, item.save) for item in unsaved):
            event.ignore()
            return
        if not all(room.may_close() for room in self.rooms):
            event.ignore()
            return
        desk = self.desk
        self.ahead.end()
        self.dressing.finish()
        desk.remembered.put("geometry", self.saveGeometry().toBase64().data().decode())
        desk.remembered.put("last", str(desk.document.path) if desk.document.path else "")
        self._held_escape.watch(False)
        for room in self.rooms:
            room.close_down()
        desk.close()
        event.accept()

    def open_first(self, path: Path | None, demo: bool) -> None:
        """Open what was asked for: a file, the demo, else the last design, else the demo."""
        document = self.desk.document
        last = str(self.desk.remembered.get("last", ""))
        opened, asked = False, path is not None
        if path is not None:
            opened = document.open(path)
        elif not demo and last and Path(last).is_file():
            opened, asked = document.open(Path(last)), True
        if not opened:
            complaint = (self.notice.text.text(), not self.notice.isHidden())
            document.open_text(DEMOS[0].design.read_text(encoding="utf-8"), DEMOS[0].design.name)
            if asked and complaint[1]:
                self.notice.say("error", f"{complaint[0]} Showing the demo instead.")
        self.shown.page.focus()
        self.offer_back()
