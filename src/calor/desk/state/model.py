"""The one state behind the window: open design, chosen trial, runs, undo. Widgets subscribe and call it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import ValidationError
from PyQt6.QtCore import QObject, QTimer, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from calor.compiled.library import COMPILING
from calor.design import file
from calor.design.edit import of_kind, own_problem, parts, with_block, with_values
from calor.design.model import Design, block_summary, working_range
from calor.design.trial import Trial
from calor.desk.state.places import Keeper, Remembered
from calor.desk.state.simulator import NOT_MADE, Outcome, Request, Simulator
from calor.errors import DesignError, Problem
from calor.law.code import Code
from calor.sense.survey import Scope, Survey
from calor.sense.table import Number
from calor.settings import Settings
from calor.units import TEMPERATURE_UNITS, TemperatureUnit

KEEP_AFTER_MS = 400


class _Edit(QUndoCommand):
    """One edit of the design; edits of one key in a row are one step back."""

    def __init__(self, model: Model, text: str, key: str, after: Design, trial: int) -> None:
        super().__init__(text)
        self._model, self._key = model, key
        self._before, self._after = model.design, after
        self._trial_before, self._trial_after = model.trial_number, trial

    def id(self) -> int:
        return hash(self._key) & 0x7FFFFFFF

    def mergeWith(self, other: QUndoCommand) -> bool:
        if not isinstance(other, _Edit) or not self._key or other._key != self._key or not self._model.merging:
            return False
        self._after, self._trial_after = other._after, other._trial_after
        return True

    def redo(self) -> None:
        self._model.take(self._after, self._trial_after)

    def undo(self) -> None:
        self._model.take(self._before, self._trial_before)


class Model(QObject):
    """Open design, trial, current, pinned, ghost and recorded run; says by signals what has changed."""

    design_changed = pyqtSignal()
    opened = pyqtSignal()
    run_changed = pyqtSignal()
    run_failed = pyqtSignal()
    pinned_changed = pyqtSignal()
    ghost_changed = pyqtSignal()
    log_changed = pyqtSignal()
    advice_changed = pyqtSignal()
    unit_changed = pyqtSignal()
    noticed = pyqtSignal(str, str)
    bench_chosen = pyqtSignal(str, str)
    wide_changed = pyqtSignal(bool)
    room_changed = pyqtSignal(str)
    survey_changed = pyqtSignal()

    def __init__(self, simulator: Simulator, remembered: Remembered) -> None:
        super().__init__()
        self.simulator, self.remembered = simulator, remembered
        self.undo_stack = QUndoStack(self)
        self.design: Design = file.parse('[setpoint]\ncelsius=20\n[law]\nkind="manual"\n[drive]\nkind="linear"\n'
                                         '[load]\nkind="lump"\n[probe]\nkind="ideal"')  # fmt: skip
        self.path: Path | None = None
        self._text = ""
        self.trial_number = 0
        self.bench = "law"
        self.merging = False
        self.result: Outcome | None = None
        self.trouble = ""
        self.preparing = ""
        self.pinned: tuple[str, Outcome] | None = None
        self.ghost: Outcome | None = None
        self.trying: Design | None = None
        self.recorded: Any = None
        self.advice: list[Any] = []
        self.advised = False
        unit = remembered.get("unit", "°C")
        self.unit: TemperatureUnit = unit if unit in TEMPERATURE_UNITS else "°C"
        self.wide = False
        self.room = "loop"
        self.seat = "python"
        self.survey: Survey | None = None
        self.survey_range: tuple[float, float] | None = None
        self.survey_within_celsius, self.survey_number = 0.1, "integer"
        self._requests = 0
        self._past_kinds: dict[tuple[str, str], Settings] = {}
        self._keeper = Keeper()
        self._keep_timer = QTimer(self, singleShot=True, interval=KEEP_AFTER_MS)
        self._keep_timer.timeout.connect(self._keep)
        simulator.finished.connect(self._run_finished)
        simulator.advised.connect(self._advised)
        simulator.failed.connect(self._failed)
        simulator.told.connect(self._told)
        simulator.surveyed.connect(self._surveyed)
        self.undo_stack.cleanChanged.connect(self._clean_changed)

    def _clean_changed(self, clean: bool) -> None:
        del clean
        self.design_changed.emit()

    def _told(self, text: str) -> None:
        """Something about the compiled loop: that it is being made, or what was wrong with it."""
        if text == COMPILING:
            self.preparing = f"{text[0].upper()}{text[1:]}."
            self.run_failed.emit()
        else:
            self.noticed.emit("note", f"{text[0].upper()}{text[1:]}")

    def _failed(self, text: str) -> None:
        if text.startswith(NOT_MADE):
            self.trouble = text
            self.run_failed.emit()
        self.noticed.emit("error", text)

    # ---- the open design

    @property
    def trial(self) -> Trial:
        """The chosen trial."""
        return self.design.trial[min(self.trial_number, len(self.design.trial) - 1)]

    @property
    def edited(self) -> bool:
        """Whether there is anything to save."""
        return not self.undo_stack.isClean()

    def open(self, path: Path, text: str | None = None, remember: bool = True) -> bool:
        """Open the design at `path`; with `text`, an edit of it that was not saved. False, and a notice, on error."""
        try:
            read = file.read(path) if text is None else file.DesignFile(file.parse(text, str(path), path.parent), text)
        except DesignError as error:
            self.noticed.emit("error", str(error))
            return False
        self._show(read.design, read.text, path)
        if remember:
            self.remembered.add_recent(path)
        if text is not None:
            self.undo_stack.resetClean()
            self.design_changed.emit()
        return True

    def open_text(self, text: str, name: str = "", folder: Path | None = None) -> bool:
        """Open a design that has no file yet; files it names are sought in `folder`."""
        try:
            design = file.parse(text, name, folder)
        except DesignError as error:
            self.noticed.emit("error", str(error))
            return False
        self._show(design, text, None)
        return True

    def _show(self, design: Design, text: str, path: Path | None) -> None:
        self._drop_kept()
        self.path, self._text = path, text
        self._past_kinds.clear()
        self.pinned, self.ghost, self.trying, self.recorded, self.advice = None, None, None, None, []
        self.result, self.survey, self.survey_range, self.trouble = None, None, None, ""
        self.undo_stack.clear()
        self.take(design, 0)
        self.opened.emit()
        self.pinned_changed.emit()
        self.log_changed.emit()

    def text(self, path: Path | None = None) -> str:
        """The design as it would be saved, at `path` or where it is."""
        path = path or self.path
        return file.write(self.design, self._text, path.parent if path is not None else None)

    def save(self, path: Path) -> bool:
        """Save the design; False, and a notice, where it cannot be written."""
        text = self.text(path)
        try:
            file.save_atomically(path, text)
        except OSError as error:
            self.noticed.emit("error", f"{path}: cannot be saved ({error.strerror or error}); save it elsewhere")
            return False
        self.path, self._text = path, text
        self.undo_stack.setClean()
        self._drop_kept()
        self.remembered.add_recent(path)
        self.design_changed.emit()
        return True

    def _keep(self) -> None:
        if self.edited:
            self._keeper.keep(self.path, self.design.name, self.text())
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
        self.trying = None
        if self.ghost is not None:
            self.ghost = None
            self.ghost_changed.emit()
        self.design_changed.emit()
        self._keep_timer.start()
        self.simulate()
        self.ask_survey()

    def edit(self, design: Design, text: str, key: str = "", trial: int | None = None) -> None:
        """Make an edit that can be undone; edits with the same `key` in a row are one."""
        number = self.trial_number if trial is None else trial
        if design != self.design or number != self.trial_number:
            self.undo_stack.push(_Edit(self, text, key, design, number))
            self.merging = True

    def end_merging(self) -> None:
        """The next edit is a step of its own."""
        self.merging = False

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
        found: Settings = self.design if block == "design" else getattr(self.design, block)
        return found

    def _with(self, block: str, settings: Settings) -> Design:
        return with_block(self.design, block, settings, self.trial_number)

    def set_kind(self, block: str, kind: str) -> Problem | None:
        """Change the kind of a block; what it was set to before, or shares with the present kind, is kept."""
        now = self.settings_of(block)
        if getattr(now, "kind", kind) == kind:
            return None
        self._past_kinds[(block, now.kind)] = now  # type: ignore[attr-defined]
        past = self._past_kinds.get((block, kind))
        try:
            design = self._with(block, of_kind(now, block, kind, past, self.design.setpoint.celsius))
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
        self._past_kinds[("law", now.kind)] = now
        law = Code(action=now.action, period_s=now.period_s, file=str(path))
        self.end_merging()
        self.seat = "python"
        self.edit(self._with("law", law), f"law: {path.name}")

    def choose_trial(self, number: int) -> None:
        """Run another trial."""
        if 0 <= number < len(self.design.trial) and number != self.trial_number:
            self.trial_number = number
            self.trying = None
            self.design_changed.emit()
            self.simulate()

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

    def set_unit(self, unit: TemperatureUnit) -> None:
        """Show all temperatures in `unit`."""
        if unit != self.unit:
            self.unit = unit
            self.remembered.put("unit", unit)
            self.unit_changed.emit()
            self.design_changed.emit()
            self.simulate()
            self.ask_survey()

    def choose_bench(self, block: str, key: str = "") -> None:
        """Open a block's bench, at one of its settings where `key` is given."""
        self.bench = block
        self.bench_chosen.emit(block, key)

    # ---- rooms

    def choose_room(self, room: str) -> None:
        """Go into another room: "loop" or "code"."""
        if room != self.room:
            self.room = room
            self.room_changed.emit(room)

    def choose_seat(self, seat: str) -> None:
        """Let another one decide in the trial: "python", "host", a chip, or the path of a law of one's own."""
        if seat != self.seat:
            self.seat = seat
            self.simulate()

    # ---- the probe's room

    def set_wide(self, wide: bool) -> None:
        """Open the probe's bench wide, as a room of its own, or close it again."""
        if wide and self.bench != "probe":
            self.choose_bench("probe")
        if wide != self.wide:
            self.wide = wide
            self.wide_changed.emit(wide)
            self.ask_survey()

    def scope(self) -> Scope:
        """Over what the room looks at the probe."""
        low, high = self.survey_range or working_range(self.design)
        number: Number = "float" if self.survey_number == "float" else "integer"
        setpoint = self.design.setpoint.celsius
        return Scope(setpoint, low, high, self.survey_within_celsius, number, self.design.law.period_s)

    def set_scope(self, low: float, high: float, within: float, number: str) -> str:
        """Look at the probe over another range; what is wrong with it, empty where nothing is."""
        if not low < high:
            return f"From must be below To (received {low:g} and {high:g})."
        self.survey_range, self.survey_within_celsius, self.survey_number = (low, high), within, number
        self.ask_survey()
        return ""

    def ask_survey(self) -> None:
        """Ask for the probe's curves, where its room is open."""
        if self.wide:
            request = Request(self._requests, "survey", self.design, self.trial, self.unit, scope=self.scope())
            self.simulator.request(request)

    def _surveyed(self, answer: tuple[Request, Survey]) -> None:
        request, self.survey = answer
        if request.unit == self.unit:
            self.survey_changed.emit()

    # ---- runs

    def simulate(self) -> None:
        """Ask for the current run."""
        self._requests += 1
        request = Request(
            self._requests, "run", self.design, self.trial, self.unit, self.recorded, seat=self.seat
        )  # fmt: skip
        self.simulator.request(request)

    def _run_finished(self, outcome: Outcome) -> None:
        if outcome.request.purpose == "ghost":
            if outcome.request.design is self.trying:
                self.ghost = outcome
                self.ghost_changed.emit()
            return
        # one that is behind the hand is shown all the same: while a value is dragged it beats none
        if self.result is not None and outcome.request.number < self.result.request.number:
            return
        self.result, self.advised, self.trouble = outcome, False, ""
        self.run_changed.emit()

    def _advised(self, number: int, cards: list[Any]) -> None:
        if number == self._requests:
            self.advice, self.advised = cards, True
            self.advice_changed.emit()

    def pin(self) -> None:
        """Keep the current run underneath, to compare with."""
        if self.result is not None:
            design = self.result.request.design
            first, second = block_summary(design, "law", self.unit)
            self.pinned = (first if design.law.kind != "pid" else f"PID {second.split(' ·')[0]}", self.result)
            self.pinned_changed.emit()

    def unpin(self) -> None:
        """Take the pinned run away."""
        self.pinned = None
        self.pinned_changed.emit()

    def try_out(self, design: Design) -> None:
        """Show a proposed design's run as a ghost; nothing is changed yet."""
        self.trying = design
        self._requests += 1
        number = min(self.trial_number, len(design.trial) - 1)
        self.simulator.request(Request(self._requests, "ghost", design, design.trial[number], self.unit))

    def keep_tried(self) -> None:
        """Take the proposed design over."""
        if self.trying is not None:
            design = self.trying
            self.end_merging()
            self.edit(design, "take the advice")

    def drop_tried(self) -> None:
        """Forget the proposed design."""
        self.trying, self.ghost = None, None
        self.ghost_changed.emit()

    def set_log(self, recorded: Any) -> None:
        """Overlay a recorded run and replay the law on it; None takes it away."""
        self.recorded = recorded
        self.log_changed.emit()
        self.simulate()
