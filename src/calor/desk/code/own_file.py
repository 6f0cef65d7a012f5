"""A law of the user's own in its editor: saved, looked through as it is written, and reread when others change it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import QFileSystemWatcher, Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from calor.contained import protection
from calor.desk.code.code_check import LawCheck
from calor.desk.code.code_editor import CodeEditor, changed_lines
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import as_tip, label, set_role
from calor.errors import CalorError, FirmwareError
from calor.files import save_atomically
from calor.firmware.controller import consent
from calor.firmware.controller.diagnostics import Diagnostic
from calor.firmware.controller.own_source import in_hand, read_source

LOOK_AFTER_MS = 500
PROBLEMS_PX = 76


class OwnFile(QFrame):
    """One file: its editor, what is wrong with it below, and over it a line where something is to be decided."""

    changed = pyqtSignal()
    """Its text, or whether it is saved, has changed."""
    saved = pyqtSignal(str)
    """Its path: it was saved, or allowed."""
    decides = pyqtSignal(str)
    """Its path: it is to decide in the trial."""
    taken = pyqtSignal(str)
    """Its path: it is to be the design's law."""

    def __init__(self, path: Path, from_design: bool = False) -> None:
        super().__init__()
        self.path, self._from_design = path, from_design
        self._source = read_source(path)
        """What was read of the file last: what is shown is this, until it is edited, and this is what is allowed."""
        self._on_disk, self._disk = self._source.text, self._source
        self._goes_on: Any = None
        self.editor, self.problems = CodeEditor(), QListWidget()
        self.editor.edit(path.name, self._on_disk)
        self.check = LawCheck()
        self.diagnostics: list[Diagnostic] = []
        self.asked = label("")
        self.take, self.keep = QPushButton("Take the one on disk"), QPushButton("Keep mine")
        self.allow = QPushButton("Allow it")
        self.save_button, self.decide = QPushButton("Save"), QPushButton("Put under test")
        self.make_law = QPushButton("Make it the law")
        self.make_law.setToolTip("The design names this file as its law, and is saved with it.")
        self.state = label("", "quiet")
        self._lay_out()
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(LOOK_AFTER_MS)
        self._later.timeout.connect(self.look_through)
        self._watcher = QFileSystemWatcher([str(path)], self)
        self._watcher.fileChanged.connect(lambda _: QTimer.singleShot(50, self.look_at_disk))
        self.editor.textChanged.connect(self._edited)
        self.editor.save_wanted.connect(self.save)
        self.problems.itemActivated.connect(self._go_to)
        self.problems.itemClicked.connect(self._go_to)
        self.check.found.connect(self._found)
        self.take.clicked.connect(self._take_disk)
        self.keep.clicked.connect(self._keep_mine)
        self.allow.clicked.connect(self._allow)
        self.save_button.clicked.connect(self.save)
        self.decide.clicked.connect(self._decide)
        self.make_law.clicked.connect(self._make_law)
        self._ask_consent()
        self.look_through()

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.bar = QFrame()
        self.bar.setObjectName("notice")
        set_role(self.bar, "kind", "note")
        row = QHBoxLayout(self.bar)
        row.setContentsMargins(8, 4, 8, 4)
        self.asked.setWordWrap(True)
        row.addWidget(self.asked, 1)
        for button in (self.take, self.keep, self.allow):
            row.addWidget(button)
        column.addWidget(self.bar)
        self.bar.hide()
        column.addWidget(self.editor, 1)
        self.problems.setFixedHeight(PROBLEMS_PX)
        self.problems.setWordWrap(True)
        self.problems.setAccessibleName("What is wrong with it")
        self.problems.setFont(look.font(look.SMALL_PX, mono=True))
        column.addWidget(self.problems)
        below = QHBoxLayout()
        below.addWidget(self.state, 1)
        below.addWidget(self.save_button)
        below.addWidget(self.decide)
        below.addWidget(self.make_law)
        column.addLayout(below)

    def order(self) -> list[QWidget]:
        """What the Tab key reaches."""
        return [self.editor, self.problems, self.save_button, self.decide, self.make_law]

    # ---- saved or not

    @property
    def is_saved(self) -> bool:
        """Whether the file on disk is what is shown."""
        return self.editor.text() == self._on_disk

    def _edited(self) -> None:
        self._later.start()
        self._show_state()
        self.changed.emit()

    def save(self) -> bool:
        """Write the text to its file; what the user writes here is allowed to run. Whether it was written.

        Where others have written to the file since it was read, that is asked about first.
        """
        text = self.editor.text()
        try:
            if self.path.exists() and not self._is_as_read():
                self.look_at_disk()
                return False
            save_atomically(self.path, text)
            self._source = in_hand(self.path, text)
            self._on_disk = text
            consent.allow(self._source)
        except OSError as error:
            self._ask(f"{self.path.name} cannot be written ({error.strerror or error}); it is kept here.", [])
            return False
        except FirmwareError as error:
            self._ask(str(error), [])
        self._watch_again()
        self.bar.hide()
        self._show_state()
        self.changed.emit()
        self.saved.emit(str(self.path))
        return True

    def _is_as_read(self) -> bool:
        """Whether the file still holds what was read of it."""
        try:
            return read_source(self.path).digest == self._source.digest
        except CalorError:
            return True

    def _decide(self) -> None:
        self._when_allowed(self.decides)

    def _make_law(self) -> None:
        self._when_allowed(self.taken)

    def _when_allowed(self, signal: Any) -> None:
        """Go on with a file that is saved and allowed; where it is not allowed yet, once it is."""
        if not (self.is_saved or self.save()):
            return
        if consent.is_allowed(self._source):
            signal.emit(str(self.path))
            return
        self._goes_on = signal
        self._ask_consent()

    def _show_state(self) -> None:
        errors = sum(item.is_error for item in self.diagnostics)
        others = len(self.diagnostics) - errors
        wrong = f"{errors} error{'s' * (errors != 1)}" if errors else f"{others} warning{'s' * (others != 1)}"
        said = wrong if self.diagnostics else "nothing wrong with it"
        self.state.setText(f"{self.path.name} · {'saved' if self.is_saved else 'not saved'} · {said}")
        set_role(self.state, "role", "failed" if errors else "quiet")
        self.save_button.setEnabled(not self.is_saved)

    # ---- what is wrong with it

    def look_through(self) -> None:
        """Ask what is wrong with the text as it is."""
        self.check.ask(self.path.name, self.editor.text())

    def _found(self, text: str, diagnostics: list[Diagnostic], trouble: str) -> None:
        if text != self.editor.text():
            return
        self.diagnostics = diagnostics
        self.problems.clear()
        for number, item in enumerate(diagnostics):
            word = "error" if item.is_error else "warning"
            row = QListWidgetItem(f"{item.line}:{item.column}  {word}: {item.text}")
            row.setData(Qt.ItemDataRole.UserRole, number)
            row.setToolTip(as_tip(item.text))
            self.problems.addItem(row)
        if trouble:
            self.problems.addItem(trouble)
        self.problems.setVisible(bool(diagnostics or trouble))
        self.editor.mark_errors([item.line - 1 for item in diagnostics if item.is_error])
        self._show_state()

    def _go_to(self, item: QListWidgetItem) -> None:
        number = item.data(Qt.ItemDataRole.UserRole)
        if number is None or number >= len(self.diagnostics):
            return
        at = self.diagnostics[number]
        self.editor.setCursorPosition(at.line - 1, at.column - 1)
        self.editor.ensureLineVisible(at.line - 1)
        self.editor.setFocus(Qt.FocusReason.OtherFocusReason)

    # ---- others change it, or made it

    def _watch_again(self) -> None:
        # a file that was replaced by another of its name is no longer watched
        if str(self.path) not in self._watcher.files() and self.path.exists():
            self._watcher.addPath(str(self.path))

    def look_at_disk(self) -> None:
        """Take what others wrote to the file; where both have changed, ask."""
        self._watch_again()
        try:
            source = read_source(self.path)
            text = source.text
        except CalorError as error:
            self._ask(f"{error}. Your text is kept here.", [])
            return
        if source.digest == self._source.digest:
            return
        if not self.is_saved and text != self.editor.text():
            self._disk = source
            lines = changed_lines(self.editor.text(), text)
            where = f"; {len(lines)} of its lines are not in yours, from line {lines[0] + 1} on" if lines else ""
            self._ask(f"{self.path.name} was changed on disk, and here too{where}.", [self.take, self.keep])
            return
        self._source, self._on_disk = source, text
        self.editor.replace_text(text)
        self._ask_consent()
        self._show_state()
        self.changed.emit()
        self.saved.emit(str(self.path))

    def _take_disk(self) -> None:
        self._source, self._on_disk = self._disk, self._disk.text
        self.editor.replace_text(self._on_disk)
        self.bar.hide()
        self._ask_consent()
        self._show_state()
        self.changed.emit()

    def _keep_mine(self) -> None:
        self._source, self._on_disk = self._disk, self._disk.text
        self.bar.hide()
        self._show_state()
        self.changed.emit()

    def _ask(self, text: str, buttons: list[QPushButton]) -> None:
        self.asked.setText(text)
        for button in (self.take, self.keep, self.allow):
            button.setVisible(button in buttons)
        self.bar.show()

    def _ask_consent(self) -> None:
        """Code that has not been allowed is, by whoever reads it here; what holds it then is said beside."""
        if consent.is_allowed(self._source):
            return
        came = "came with the design and " if self._from_design else ""
        self._ask(
            f"This code {came}has not been allowed to run here. Read it first. Once allowed it runs"
            f" {protection.found().words}.",
            [self.allow],
        )

    def _allow(self) -> None:
        """Allow what is shown, not what the file holds by now."""
        if not self.is_saved:
            self.save()
            return
        try:
            consent.allow(self._source)
        except FirmwareError as error:
            self._ask(str(error), [])
            return
        self.bar.hide()
        self.saved.emit(str(self.path))
        goes_on, self._goes_on = self._goes_on, None
        if goes_on is not None:
            goes_on.emit(str(self.path))
        self.look_at_disk()

    def close_down(self) -> None:
        """End what is being looked through."""
        self._later.stop()
        self.check.close()
