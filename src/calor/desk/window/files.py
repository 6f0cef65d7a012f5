"""Opening and saving designs, and asking before anything unsaved is left."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QFileDialog, QWidget

from calor.demo import DEMOS, STARTER
from calor.desk.state.desk import Desk
from calor.desk.widgets.places import BACK, choice, place_for

MOST_SHOWN = 8
SAVE_BESIDE, REPLACE, THEIRS = "Save mine as…", "Replace it", "Open theirs"
DESIGN_FILTER = "Designs (*.toml);;All files (*)"


class Files(QObject):
    """What the file menu does."""

    def __init__(self, desk: Desk, window: QWidget) -> None:
        super().__init__(window)
        self._desk, self._window = desk, window

    def may_go_on(self) -> bool:
        """Ask about unsaved changes; False where the user wants to stay."""
        return not self._desk.document.edited or self.may_leave(self._desk.document.design.name, self.save)

    def may_leave(self, name: str, save_it: Callable[[], bool]) -> bool:
        """Ask about the unsaved changes of something; False where the user wants to stay."""
        text = f"{name} has changes that are not saved."
        chosen = choice(self._window, "Unsaved changes", text, ("Save", "Do not save"), "Save")
        return save_it() if chosen == "Save" else chosen != BACK

    def new(self) -> None:
        """Start from the starter design."""
        if self.may_go_on():
            self._desk.document.open_text(STARTER.read_text(encoding="utf-8"), "starter design")

    def ask_open(self) -> None:
        """Choose a design and open it."""
        if self.may_go_on():
            start = str(self._desk.document.path.parent) if self._desk.document.path else str(Path.home())
            name, _ = QFileDialog.getOpenFileName(self._window, "Open a design", start, DESIGN_FILTER)
            if name:
                self._desk.document.open(Path(name))

    def open(self, path: Path) -> None:
        """Open a design, after asking about unsaved changes."""
        if self.may_go_on():
            self._desk.document.open(path)

    def open_demo(self, number: int) -> None:
        """Open a shipped design as one that has no file yet, so that it is never written over."""
        if self.may_go_on():
            place = DEMOS[number].design
            self._desk.document.open_text(place.read_text(encoding="utf-8"), str(place.name), place.parent)

    def open_offered(self, text: str, name: str, folder: Path, trial: str) -> None:
        """Open a design that another part of the window has, and go to its trial in the Loop room."""
        desk = self._desk
        if self.may_go_on() and desk.document.open_text(text, name, folder):
            names = [one.name for one in desk.document.design.trial]
            if trial in names:
                desk.document.choose_trial(names.index(trial))
            desk.view.choose_room("loop")

    def save(self) -> bool:
        """Save where the design came from, or ask where."""
        path = self._desk.document.path
        return self._save_at(path) if path else self.save_as()

    def save_as(self) -> bool:
        """Ask where to save, and save there."""
        from calor.firmware.sources.templating import c_name

        start = self._desk.document.path or Path.home() / f"{c_name(self._desk.document.design.name)}.toml"
        path = place_for(self._window, "Save the design as", str(start), DESIGN_FILTER, ".toml")
        return path is not None and self._save_at(path)

    def _save_at(self, path: Path) -> bool:
        """Save there; where others have written to the file since it was opened, ask what is to become of both."""
        document = self._desk.document
        changes = document.changed_elsewhere(path, self._desk.view.unit)
        if changes is None:
            return document.save(path)
        shown = [f"  {change}" for change in changes[:MOST_SHOWN]]
        shown += [f"  and {len(changes) - MOST_SHOWN} more"] if len(changes) > MOST_SHOWN else []
        lines = "\n".join(shown)
        chosen = choice(
            self._window, "Changed on disk",
            f"{path.name} was changed on disk since it was opened here. There → here:\n{lines}",
            (SAVE_BESIDE, REPLACE, THEIRS), SAVE_BESIDE,
        )  # fmt: skip
        if chosen == SAVE_BESIDE:
            return self._save_beside(path)
        if chosen == REPLACE:
            return document.save(path)
        if chosen == THEIRS:
            document.open(path)
        return False

    def _save_beside(self, path: Path) -> bool:
        """Save under another name, so that both are kept."""
        start = next(
            place for k in range(2, 10_000) if not (place := path.with_name(f"{path.stem}_{k}{path.suffix}")).exists()
        )
        other = place_for(self._window, "Save the design as", str(start), DESIGN_FILTER, ".toml")
        return other is not None and self._save_at(other)
