"""The Journal room's page: what is looked for and the list over the chosen runs, what is known of them right."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from calor.desk.journal import taking
from calor.desk.journal.detail import Detail
from calor.desk.journal.run_list import FIGURES, PLAIN, RunList
from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.strip.overlay import Overlaid, OverlayStrip
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import Segments, label
from calor.desk.widgets.keys import timer
from calor.errors import CalorError
from calor.journal.entry import Kept
from calor.journal.find import Compared, Wanted, compared

VERDICTS = {"": "All", "pass": "Pass", "fail": "Fail"}
EMPTY = (
    "No runs are kept yet.\nCtrl+J keeps the run of the open design, with its design and figures; in the Loop room, so"
    " does “Write to journal” in the top bar."
)
NOTHING = "No kept run is like that."
FIND_AFTER_MS = 120
ROLES = ("measured", "pinned")


class JournalPage(Page):
    """Finds, shows and compares kept runs."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("centre")
        self._desk = desk
        self._picked: list[Kept] = []
        self._verdict = ""
        self.search, self.since, self.verdicts = QLineEdit(), QLineEdit(), Segments(VERDICTS, "Verdict")
        self.search.setPlaceholderText("Find in design, trial, note and tags")
        self.search.setAccessibleName("Find")
        self.search.setClearButtonEnabled(True)
        self.since.setPlaceholderText("since day")
        self.since.setToolTip("Kept on this day or later, as 2026-11-02.")
        self.since.setAccessibleName("Kept since")
        self.since.setFixedWidth(104)
        self.verdicts.setFixedWidth(150)
        self.verdicts.show_choice("")
        self.sort, self.falling = QComboBox(), QPushButton("↓")
        self.sort.setAccessibleName("Sort by")
        for key, words in {"made": "Kept", **PLAIN, **FIGURES}.items():
            self.sort.addItem(words, key)
        self.falling.setCheckable(True)
        self.falling.setChecked(True)
        self.falling.setFixedWidth(30)
        self.falling.setToolTip("Largest or latest first.")
        self.falling.setAccessibleName("Largest or latest first")
        self.list, self.detail, self.strip = RunList(), Detail(), OverlayStrip("")
        self.count, self.empty = label("", "quiet"), label("", "quiet")
        self.take, self.keep = QPushButton("Import…"), QPushButton("Keep a record…")
        self._lay_out()
        self._find_soon = timer(self, FIND_AFTER_MS, self.look_up, once=True)
        self.search.textChanged.connect(lambda _: self._find_soon.start())
        self.since.editingFinished.connect(self.look_up)
        self.verdicts.chosen.connect(self._choose_verdict)
        self.sort.activated.connect(lambda _: self.look_up())
        self.falling.clicked.connect(lambda _: self.look_up())
        self.list.chosen.connect(self._choose)
        self._connect()

    def _lay_out(self) -> None:
        across = QHBoxLayout(self)
        across.setContentsMargins(14, 10, 14, 8)
        across.setSpacing(12)
        middle = QVBoxLayout()
        middle.setSpacing(6)
        line = QHBoxLayout()
        line.setSpacing(8)
        line.addWidget(self.search, 1)
        for widget in (self.verdicts, self.since, label("by", "quiet"), self.sort, self.falling):
            line.addWidget(widget)
        middle.addLayout(line)
        under = QHBoxLayout()
        under.addWidget(self.count, 1)
        under.addWidget(self.keep)
        under.addWidget(self.take)
        self.empty.setWordWrap(True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        middle.addWidget(self.list, 5)
        middle.addWidget(self.empty, 5)
        middle.addLayout(under)
        middle.addWidget(self.strip, 6)
        across.addLayout(middle, 1)
        across.addWidget(self.detail)

    def _connect(self) -> None:
        kept, detail, desk = self._desk.kept, self.detail, self._desk
        kept.changed.connect(self.look_up)
        kept.run_opened.connect(lambda number: self._show() if number in [one.number for one in self._picked] else None)
        desk.view.unit_changed.connect(self.look_up)
        detail.note_written.connect(lambda number, text: taking.write(desk, number, note=text))
        detail.tags_written.connect(lambda number, tags: taking.write(desk, number, tags=tags))
        detail.pin_toggled.connect(lambda number, on: taking.write(desk, number, pinned=on))
        detail.loop_asked.connect(lambda: taking.to_loop(desk, self._picked[0]))
        detail.remove_asked.connect(lambda: taking.remove(desk, self, self._picked))
        detail.export_asked.connect(lambda: taking.export(desk, self, self._picked))
        detail.report_asked.connect(lambda: taking.report(desk, self, self._picked[0]))
        self.take.clicked.connect(lambda: taking.take_in(desk, self))
        self.keep.clicked.connect(lambda: taking.keep_record(desk, self))

    def tab_order(self) -> list[QWidget]:
        return [
            self.search, *self.verdicts.buttons.values(), self.since, self.sort, self.falling, self.list, self.keep,
            self.take, self.strip, *self.detail.tab_order(),
        ]  # fmt: skip

    def focus(self) -> None:
        (self.list if self.list.isVisible() else self.search).setFocus()

    def set_theme(self, theme: look.Theme) -> None:
        self.list.set_theme(theme)
        self.strip.set_theme(theme)

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        try:
            self._desk.kept.read()
            for line in self._desk.kept.said:
                self._desk.say("note", line)
            self._desk.kept.said.clear()
        except CalorError as error:
            self._desk.say("error", str(error))

    def hideEvent(self, event: Any) -> None:
        super().hideEvent(event)
        self.detail.write()

    def _choose_verdict(self, name: str) -> None:
        self._verdict = name
        self.verdicts.show_choice(name)
        self.look_up()

    def look_up(self) -> None:
        """Show the runs that are like what is looked for."""
        if not self.isVisible():
            return
        kept, unit = self._desk.kept, self._desk.view.unit
        try:
            wanted = Wanted(self.search.text(), verdict=self._verdict, since=self.since.text().strip())
        except CalorError as error:
            self._desk.say("error", f"Kept since: {error.said}")
            return
        rows = wanted.among(kept.rows)
        there = bool(kept.rows)
        self.empty.setText(NOTHING if there else EMPTY)
        self.empty.setVisible(not rows)
        self.list.setVisible(bool(rows))
        self.strip.setVisible(bool(rows))
        self.count.setText(f"{len(rows)} of {len(kept.rows)} runs" if there else "")
        key = str(self.sort.currentData())
        known = key in PLAIN or any(key in entry.metrics for entry in rows[:1])
        self.list.show_runs(rows, key if known else "made", self.falling.isChecked(), unit)
        if not rows:
            self._choose([])

    def _choose(self, picked: list[Kept]) -> None:
        self._picked = picked
        for entry in picked[:2]:
            if entry.number not in self._desk.kept.troubles:
                self._desk.kept.open(entry)
        self._show()

    def _show(self) -> None:
        kept, unit = self._desk.kept, self._desk.view.unit
        picked = self._picked
        first = kept.opened.get(picked[0].number) if picked else None
        differences = first.differences if first is not None else ()
        trouble = kept.troubles.get(picked[0].number, "") if picked else ""
        self.detail.show_runs(picked, self._compared(), differences, trouble, unit)
        runs = [
            Overlaid(f"run {entry.number}", one.trace, role)
            for entry, role in zip(picked[:2], ROLES, strict=False)
            if (one := kept.opened.get(entry.number)) is not None
        ]
        self.strip.empty.setText("Opening the run …" if picked else "")
        self.strip.show_runs(runs, unit)

    def _compared(self) -> Compared | None:
        if len(self._picked) != 2:
            return None
        one, other = self._picked
        try:
            return compared(one, other, *(self._desk.kept.design_text(entry.number) for entry in (one, other)))
        except CalorError as error:
            self._desk.say("error", str(error))
            return None
