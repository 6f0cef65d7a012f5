"""The records that are open in the room: how each is read, what is measured, compared and fitted."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from calor.design.model import Design
from calor.desk.logs import READ_AGAIN
from calor.desk.logs.worker import Job, Kind, Worker
from calor.desk.state.desk import Desk
from calor.errors import CalorError
from calor.identify.fit import Asked, fit_order, fit_own_load
from calor.identify.observed import observe
from calor.identify.outcome import Fit
from calor.identify.report import default_free, probe_of, weights_of
from calor.identify.task import Probe
from calor.judge.record import Figures, figures_of
from calor.log.align import Aligned, align
from calor.log.join import read_joined
from calor.log.read import Record, read_record
from calor.log.recognise import Corrections
from calor.log.remembered import remember
from calor.log.text import Table, read_table

OWN = "own"
"""The order that stands for the design's own load."""


@dataclass(eq=False)
class Opened:
    """A record on the shelf, and how its owner wants it read and fitted."""

    paths: tuple[Path, ...]
    record: Record
    table: Table
    corrections: Corrections = field(default_factory=Corrections)
    taken_back: frozenset[str] = frozenset()
    left_out: tuple[tuple[float, float], ...] = ()
    figures: Figures | None = None
    fit: Fit | None = None
    fit_problem: str = ""
    stamps: tuple[tuple[int, int], ...] = ()
    """Size and time of each of its files when it was read."""

    @property
    def is_changed(self) -> bool:
        """Whether its files were written to since, or are gone."""
        return self.stamps != _stamps(self.paths)


def _stamps(paths: tuple[Path, ...]) -> tuple[tuple[int, int], ...]:
    try:
        return tuple((facts.st_size, facts.st_mtime_ns) for facts in (path.stat() for path in paths))
    except OSError:
        return ()


@dataclass(frozen=True)
class Wanted:
    """What is asked of a fit: the order or the own load, its free keys, where the ambient comes from, the probe."""

    order: str = "auto"
    free: tuple[str, ...] = ()
    ambient: str | float = "auto"
    probe_lag_s: float | None = None
    together: bool = False
    """Whether the record that is compared is fitted too: one load for both."""


class Shelf(QObject):
    """Opens records, has them measured and fitted beside the window, and says what has changed."""

    changed = pyqtSignal()
    """Another record is chosen, or the chosen one is read in another way."""
    measured = pyqtSignal()
    compared_changed = pyqtSignal()
    fitted = pyqtSignal()
    """A fit is there, or gone, or could not be made."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.worker = Worker()
        self.opened: list[Opened] = []
        self.number = 0
        self.compared: int | None = None
        self.compare_next = False
        """Whether the next record that is opened is compared with the one before it."""
        self.how_aligned = "start"
        self.crossing_celsius: float | None = None
        self.aligned: Aligned | None = None
        self.compared_figures: Figures | None = None
        self.stretch: tuple[float, float] | None = None
        self.wanted = Wanted()
        self.reading: list[Path] = []
        self.worker.done.connect(self._done)
        self.worker.failed.connect(self._failed)
        desk.document.opened.connect(self._other_design)

    @property
    def chosen(self) -> Opened | None:
        """The record that is looked at."""
        return self.opened[self.number] if self.opened else None

    @property
    def other(self) -> Opened | None:
        """The record it is compared with."""
        return None if self.compared is None or self.compared >= len(self.opened) else self.opened[self.compared]

    # ---- opening

    def open(self, *paths: Path) -> None:
        """Open a record; several paths are files of one run, joined by time. One that is open already is chosen."""
        for number, item in enumerate(self.opened):
            if item.paths == paths:
                self.choose(number)
                if item.is_changed:  # whoever opens it again wants what it holds now
                    self.read_again()
                return
        self.reading.append(paths[0])
        self.changed.emit()
        self._ask("read", paths, lambda watch: _read(paths, Corrections(), frozenset()))

    def join(self, *paths: Path) -> None:
        """Join more files of the same run to the chosen record."""
        item = self.chosen
        every = () if item is None else (*item.paths, *(path for path in paths if path not in item.paths))
        if item is not None and every != item.paths:
            self._read_again(item, item.corrections, item.taken_back, paths=every)

    def choose(self, number: int) -> None:
        """Look at another record."""
        if 0 <= number < len(self.opened):
            self.number, self.stretch = number, None
            if self.compared == number:
                self.compare(None)
            self._chosen()

    def remove(self) -> None:
        """Close the record that is looked at; its file stays."""
        if self.opened:
            del self.opened[self.number]
            self.number, self.stretch, self.compared = max(self.number - 1, 0), None, None
            self.compare(None)
            self._chosen()

    def read_again(self) -> None:
        """Read the chosen record as its files are now; what was set right stays."""
        if self.chosen is not None:
            self._read_again(self.chosen, self.chosen.corrections, self.chosen.taken_back)

    def look_at_disk(self) -> None:
        """Say where the files of the chosen record were changed by others since they were read."""
        item = self.chosen
        if item is not None and item.is_changed:
            text = f"{item.record.name} was changed on disk since it was read; what is shown is how it was."
            self._desk.say("note", text, command=READ_AGAIN)

    def _chosen(self) -> None:
        self.look_at_disk()
        self.changed.emit()
        self.fitted.emit()
        self.measure()
        self._align()

    # ---- set right

    def correct(self, corrections: Corrections) -> None:
        """Read the chosen record with other columns; remembered for files with the same ones."""
        item = self.chosen
        if item is not None:
            self._read_again(item, corrections, item.taken_back, keep=True)

    def take_back(self, kind: str, back: bool) -> None:
        """Take the treatment of a kind of finding back, or have it again."""
        item = self.chosen
        if item is not None:
            kinds = item.taken_back | {kind} if back else item.taken_back - {kind}
            self._read_again(item, item.corrections, frozenset(kinds))

    def _read_again(
        self, item: Opened, corrections: Corrections, back: frozenset[str], keep: bool = False,
        paths: tuple[Path, ...] = (),
    ) -> None:  # fmt: skip
        self.reading.append(item.paths[0])
        self.changed.emit()
        every = paths or item.paths

        def work(watch: Callable[[float], None]) -> Any:
            made = _read(every, corrections, back, afresh=not paths)
            if keep:
                remember(made[1], corrections)
            return made

        self._ask("read", item, work)

    def leave_out(self, begin_s: float, end_s: float) -> None:
        """Leave a stretch out of the fit, and fit again where there was a fit."""
        item = self.chosen
        if item is not None:
            item.left_out = tuple(sorted({*item.left_out, (round(begin_s, 3), round(end_s, 3))}))
            self._fit_again(item)

    def take_in_again(self) -> None:
        """Leave nothing out of the fit any more."""
        item = self.chosen
        if item is not None:
            item.left_out = ()
            self._fit_again(item)

    def _fit_again(self, item: Opened) -> None:
        had = item.fit is not None
        item.fit, item.fit_problem = None, ""
        self.fitted.emit()
        if had:
            self.fit()

    # ---- measured and compared

    def measure(self) -> None:
        """Have the chosen record measured, or the stretch of it that is chosen."""
        item, design = self.chosen, self._desk.document.design
        if item is None:
            return
        band, stretch = design.limits.band_celsius, self.stretch or (None, None)
        self._ask("measure", item, lambda watch: _figures(item.record, band, *stretch))

    def choose_stretch(self, stretch: tuple[float, float] | None) -> None:
        """Measure a stretch of the record; None: all of it."""
        if stretch != self.stretch:
            self.stretch = stretch
            self.measure()

    def compare(self, number: int | None) -> None:
        """Lay another record underneath; None: none."""
        self.compared = number if number != self.number else None
        self.compared_figures = None
        self._align()

    def align_by(self, how: str, crossing_celsius: float | None = None) -> None:
        """Lay the other one underneath by its start, the time of day, or where both cross a temperature."""
        self.how_aligned, self.crossing_celsius = how, crossing_celsius
        self._align()

    def _align(self) -> None:
        item, other = self.chosen, self.other
        self.aligned = None
        if item is not None and other is not None:
            try:
                self.aligned = align(item.record, other.record, self.how_aligned, self.crossing_celsius)
            except CalorError as error:
                self._desk.say("error", str(error))
            band = self._desk.document.design.limits.band_celsius
            self._ask("compare", other, lambda watch: _figures(other.record, band, None, None))
        self.compared_changed.emit()

    # ---- fitted

    def default_keys(self) -> tuple[str, ...]:
        """The keys of the design's own load that are free where nothing else is said."""
        return default_free(self._desk.document.design.load)

    def want(self, **values: Any) -> None:
        """Ask something else of the fit."""
        self.wanted = replace(self.wanted, **values)

    def fit(self) -> None:
        """Fit a load to the chosen record."""
        item = self.chosen
        if item is None:
            return
        design, wanted = self._desk.document.design, self.wanted
        items = [(item.record, item.left_out)]
        if wanted.together and self.other is not None:
            items.append((self.other.record, self.other.left_out))
        item.fit, item.fit_problem = None, ""
        self.fitted.emit()
        self._ask("fit", item, lambda watch: _fit(items, design, wanted, watch, self.default_keys()))

    def stop(self) -> None:
        """End the fit that is on."""
        self.worker.stop("fit")

    def _other_design(self) -> None:
        self.wanted = replace(self.wanted, free=())
        if self.chosen is not None:
            self.measure()

    # ---- what came of it

    def _ask(self, kind: Kind, about: Any, work: Callable[[Callable[[float], None]], Any]) -> None:
        self.worker.ask(Job(kind, about, work))

    def _done(self, job: Job, made: Any) -> None:
        item = job.about
        if job.kind == "read":
            record, table, corrections, back = made
            if isinstance(item, Opened):
                self.reading.remove(item.paths[0])
                item.record, item.table, item.corrections, item.taken_back = record, table, corrections, back
                item.paths, item.stamps = record.paths, _stamps(record.paths)
                item.fit, item.figures = None, None
            else:
                self.reading.remove(item[0])
                self.opened.append(Opened(item, record, table, corrections, back, stamps=_stamps(item)))
                self.number, self.stretch = len(self.opened) - 1, None
                if self.compare_next and not self.reading and self.number > 0:
                    self.compared, self.compare_next = self.number - 1, False
            self._chosen()
        elif job.kind == "measure" and item is self.chosen and isinstance(item, Opened):
            item.figures = made
            self.measured.emit()
        elif job.kind == "compare" and item is self.other:
            self.compared_figures = made
            self.measured.emit()
        elif job.kind == "fit":
            item.fit, item.fit_problem = made, ""
            self.fitted.emit()

    def _failed(self, job: Job, problem: str) -> None:
        item = job.about
        if job.kind == "read":
            self.reading.remove(item.paths[0] if isinstance(item, Opened) else item[0])
            self.changed.emit()
            self._desk.say("error", problem)
        elif job.kind == "fit":
            item.fit_problem = problem or "The fit was stopped."
            self.fitted.emit()
        elif problem:
            self._desk.say("error", problem)

    def close(self) -> None:
        """End what is at work."""
        self.worker.close()


def _read(
    paths: tuple[Path, ...], corrections: Corrections, back: frozenset[str], afresh: bool = False
) -> tuple[Record, Table, Corrections, frozenset[str]]:
    if len(paths) > 1:
        record = read_joined(list(paths), corrections, back, afresh)
    else:
        record = read_record(paths[0], corrections, back, afresh)
    return record, read_table(paths[0]), record.recognised.corrections, back


def _figures(record: Record, band: float, begin_s: float | None, end_s: float | None) -> Figures | None:
    try:
        return figures_of(record, band, begin_s, end_s)
    except ValueError:
        return None


def _fit(
    items: list[tuple[Record, tuple[tuple[float, float], ...]]], design: Design, wanted: Wanted,
    watch: Callable[[float], None], keys: tuple[str, ...],
) -> Fit:  # fmt: skip
    known = float(wanted.ambient) if isinstance(wanted.ambient, float | int) else None
    observed = tuple(
        observe(record.trace, record.ambient_celsius if wanted.ambient == "auto" else None, left_out, known)
        for record, left_out in items
    )
    if wanted.order != OWN:
        probe = Probe(wanted.probe_lag_s or 0.0)
        return fit_order(observed, wanted.order, Asked(wanted.ambient, probe, watch=watch))
    probe = probe_of(design)
    probe = probe if wanted.probe_lag_s is None else probe._replace(lag_s=wanted.probe_lag_s)
    asked = Asked(wanted.ambient, probe, weights=weights_of(design), watch=watch)
    return fit_own_load(observed, design.load, wanted.free or keys, asked, design.trial[0].humidity)
