"""The open design: where it lies, its chosen trial, edits that can be undone, and what is kept until it is saved."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from calor.design import file, writing
from calor.design.difference import difference
from calor.design.edit import of_kind, own_problem, parts, with_block, with_kind, with_values
from calor.design.model import Design
from calor.design.trial import Trial
from calor.desk.state.places import Keeper, Remembered
from calor.desk.widgets.keys import timer
from calor.errors import DesignError, Problem
from calor.files import is_same, save_atomically
from calor.law.code import Code
from calor.settings import Settings
from calor.units import TemperatureUnit

KEEP_AFTER_MS = 400
_NOTHING_OPEN = """\
[setpoint]
celsius = 20
[law]
kind = "manual"
[drive]
kind = "linear"
[load]
kind = "lump"
[probe]
kind = "ideal"
"""


def _digest(path: Path) -> str:
    """The sum of a file's bytes; empty where there is none, or it cannot be read."""
    try:
        return hashlib.sha256(path.read_bytes()).hexdigest()
    except OSError:
        return ""


class _Edit(QUndoCommand):
    """One edit of the design; edits of one key in a row are one step back."""

    def __init__(self, document: Document, text: str, key: str, after: Design, trial: int) -> None:
        super().__init__(text)
        self._document, self._key = document, key
        self._before, self._after = document.design, after
        self._trial_before, self._trial_after = document.trial_number, trial

    def id(self) -> int:
        return hash(self._key) & 0x7FFFFFFF

    def mergeWith(self, other: QUndoCommand | None) -> bool:
        if not isinstance(other, _Edit) or not self._key or other._key != self._key or not self._document.merging:
            return False
        self._after, self._trial_after = other._after, other._trial_after
        return True

    def redo(self) -> None:
        self._document.take(self._after, self._trial_after)

    def undo(self) -> None:
        self._document.take(self._before, self._trial_before)


class Document(QObject):
    """The open design and its chosen trial, with undo; says by signals what has changed."""

    about_to_open = pyqtSignal()
    """Another design is coming: what belongs to the one that goes is forgotten."""
    changed = pyqtSignal()
    """The design, and with it perhaps the chosen trial, is another now."""
    opened = pyqtSignal()
    """Another design was opened; `changed` came before."""
    trial_chosen = pyqtSignal()
    """Another trial of the same design is looked at."""
    saved = pyqtSignal()
    edited_changed = pyqtSignal()
    """Whether there is anything to save."""
    failed = pyqtSignal(str)
    """What kept a design from being opened or saved, in lines."""

    def __init__(self, remembered: Remembered) -> None:
        super().__init__()
        self._remembered = remembered
        self.undo_stack = QUndoStack(self)
        self.design: Design = file.parse(_NOTHING_OPEN)
        self.path: Path | None = None
        self._text = self._base = ""
        """What was read of the file last, and the sum of its bytes."""
        self.trial_number = 0
        self.merging = False
        self._past_kinds: dict[tuple[str, str], Settings] = {}
        self._keeper = Keeper()
        self._keep_timer = timer(self, KEEP_AFTER_MS, self._keep, once=True)
        self.undo_stack.cleanChanged.connect(lambda _: self.edited_changed.emit())

    @property
    def trial(self) -> Trial:
        """The chosen trial."""
        return self.design.trial[min(self.trial_number, len(self.design.trial) - 1)]

    @property
    def edited(self) -> bool:
        """Whether there is anything to save."""
        return not self.undo_stack.isClean()

    # ---- opening and saving

    def open(self, path: Path, text: str | None = None, remember: bool = True, base: str = "") -> bool:
        """Open the design at `path`; with `text`, an edit of it that was not saved, made when the file was `base`.

        False, and `failed`, on error.
        """
        try:
            read = file.read(path) if text is None else file.DesignFile(file.parse(text, str(path), path.parent), text)
        except DesignError as error:
            self.failed.emit(str(error))
            return False
        self._show(read.design, read.text, path)
        self._base = base or _digest(path)
        if remember:
            self._remembered.add_recent(path)
        if text is not None:
            self.undo_stack.resetClean()
        return True

    def open_text(self, text: str, name: str = "", folder: Path | None = None) -> bool:
        """Open a design that has no file yet; files it names are sought in `folder`."""
        try:
            design = file.parse(text, name, folder)
        except DesignError as error:
            self.failed.emit(str(error))
            return False
        self._show(design, text, None)
        return True

    def _show(self, design: Design, text: str, path: Path | None) -> None:
        self._drop_kept()
        self.path, self._text, self._base = path, text, ""
        self._past_kinds.clear()
        self.about_to_open.emit()
        self.undo_stack.clear()
        self.take(design, 0)
        self.opened.emit()

    def text(self, path: Path | None = None) -> str:
        """The design as it would be saved, at `path` or where it is."""
        path = path or self.path
        return writing.write(self.design, self._text, path.parent if path is not None else None)

    def changed_elsewhere(self, path: Path, unit: TemperatureUnit = "°C") -> list[str] | None:
        """In what the file at `path` differs from the design, where others have written to it since it was
        opened; None where they have not."""
        if self.path is None or not self._base or not is_same(path, self.path) or _digest(path) in ("", self._base):
            return None
        try:
            theirs = file.read(path).design
        except DesignError as error:
            return [f"it is no design any more: {error.problems[0]}"]
        return [change.words(unit) for change in difference(theirs, self.design)] or ["comments or order only"]

    def save(self, path: Path) -> bool:
        """Save the design; False, and `failed`, where it cannot be written."""
        text = self.text(path)
        try:
            save_atomically(path, text)
        except OSError as error:
            self.failed.emit(f"{path}: cannot be saved ({error.strerror or error}); save it elsewhere")
            return False
        self.path, self._text, self._base = path, text, _digest(path)
        self.undo_stack.setClean()
        self._drop_kept()
        self._remembered.add_recent(path)
        self.saved.emit()
        return True

    def _keep(self) -> None:
        if self.edited:
            self._keeper.keep(self.path, self.design.name, self.text(), self._base)
        else:
            self._keeper.drop()

    def _drop_kept(self) -> None:
        self._keep_timer.stop()
        self._keeper.drop()

    def close(self) -> None:
        """The desk closes in good order: nothing is left behind."""
        self._drop_kept()

    # ---- edits

    def take(self, design: Design, trial_number: int) -> None:
        """Make `design` the open one. Edits come here by way of the undo stack."""
        self.design, self.trial_number = design, trial_number
        self.changed.emit()
        self._keep_timer.start()

    def edit(self, design: Design, text: str, key: str = "", trial: int | None = None) -> None:
        """Make an edit that can be undone; edits with the same `key` in a row are one."""
        number = self.trial_number if trial is None else trial
        if design != self.design or number != self.trial_number:
            self.undo_stack.push(_Edit(self, text, key, design, number))
            self.merging = True

    def end_merging(self) -> None:
        """The next edit is a step of its own."""
        self.merging = False

    def undo(self) -> None:
        """Take the last edit back."""
        self.end_merging()
        self.undo_stack.undo()

    def redo(self) -> None:
        """Make the edit that was taken back."""
        self.undo_stack.redo()

    def set_value(self, block: str, key: str, value: Any) -> Problem | None:
        """Change one setting; `key` may lead into a part, as in "adc.bits". The problem, where there is one."""
        return self.set_values(block, {key: value}, f"{block}.{key}")

    def set_values(self, block: str, values: dict[str, Any], merge_key: str = "") -> Problem | None:
        """Change settings of one block together."""
        settings = self.settings_of(block)
        try:
            design = self._with(block, with_values(settings, values))
        except ValidationError as error:
            return own_problem(error, block, settings)
        title = next(iter(values))
        self.edit(design, f"change {title.rsplit('.', 1)[-1].replace('_', ' ')}", merge_key)
        return None

    def settings_of(self, block: str) -> Settings:
        """Settings of a block, of the limits, the guard, the design itself or the chosen trial."""
        if block == "trial":
            return self.trial
        settings: Settings = self.design if block == "design" else getattr(self.design, block)
        return settings

    def _with(self, block: str, settings: Settings) -> Design:
        return with_block(self.design, block, settings, self.trial_number)

    def set_kind(self, block: str, kind: str) -> Problem | None:
        """Change the kind of a block; what it was set to before, or shares with the present kind, is kept."""
        now = self.settings_of(block)
        now_kind = getattr(now, "kind", kind)
        if now_kind == kind:
            return None
        self._past_kinds[(block, now_kind)] = now
        past = self._past_kinds.get((block, kind))
        try:
            chosen = of_kind(now, block, kind, past, self.design.setpoint.celsius)
            design = with_kind(self.design, block, chosen, self.trial_number)
        except ValidationError as error:
            return own_problem(error, block, now)
        self.end_merging()
        self.edit(design, f"{block}: {kind.replace('_', ' ')}")
        return None

    def take_law(self, path: Path) -> None:
        """Make a file of the user's own the design's law."""
        now = self.design.law
        if isinstance(now, Code) and now.file == str(path):
            return
        self._past_kinds[("law", now.kind)] = self.settings_of("law")
        action: Any = now.action
        law = Code(action=action, period_s=now.period_s, file=str(path))
        self.end_merging()
        self.edit(self._with("law", law), f"law: {path.name}")

    # ---- trials

    def choose_trial(self, number: int) -> None:
        """Run another trial."""
        if 0 <= number < len(self.design.trial) and number != self.trial_number:
            self.trial_number = number
            self.trial_chosen.emit()

    def add_trial(self) -> None:
        """A copy of the chosen trial, to change."""
        names = {trial.name for trial in self.design.trial}
        name = next(name for k in range(2, 1000) if (name := f"{self.trial.name[:70]} {k}") not in names)
        trials = (*self.design.trial, self.trial.model_copy(update={"name": name}))
        self.edit(Design.model_validate({**parts(self.design), "trial": trials}), "add a trial", trial=len(trials) - 1)

    def remove_trial(self) -> None:
        """Take the chosen trial out; the last one stays."""
        if len(self.design.trial) > 1:
            trials = tuple(t for k, t in enumerate(self.design.trial) if k != self.trial_number)
            self.edit(Design.model_validate({**parts(self.design), "trial": trials}), "remove a trial", trial=0)
