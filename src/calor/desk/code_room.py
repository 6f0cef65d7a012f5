"""The Code room: the C of the design as it changes, what it costs on each chip, and whether all of them agree."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QTabBar,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from calor.design.model import Design
from calor.desk import theme as look
from calor.desk.code_check import CodeCheck
from calor.desk.code_editor import CodeEditor, changed_lines
from calor.desk.fields import label, set_role
from calor.desk.model import Model
from calor.desk.words import SEATS, seat_word

COST_PX = 262
COSTS = (
    ("flash_bytes", "Flash", "B"), ("ram_bytes", "RAM", "B"), ("stack_bytes", "Stack", "B"),
    ("instructions_mean", "A step, mean", ""), ("instructions_worst", "A step, worst", ""),
)  # fmt: skip


class CostTable(QWidget):
    """What the C takes on each chip, beside what it took before."""

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(3)
        self._grid.setColumnStretch(0, 1)
        self.texts: list[str] = []

    def show_costs(self, data: dict[str, Any] | None, before: dict[str, Any] | None) -> None:
        """Show the figures of a check, and how they differ from the check before."""
        while self._grid.count():
            item = self._grid.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.texts = []
        if data is None:
            return
        past = {row["target"]: row for row in before["targets"]} if before else {}
        row = 0
        for target in data["targets"]:
            self._put(target["target"], "heading", row, 0)
            equal = target["bit_equal"]
            self._put("✓ equal" if equal else "✕ differs", "passed" if equal else "failed", row, 1, 2)
            row += 1
            for key, title, unit in COSTS:
                value = target.get(key)
                if value is None:
                    continue
                was = past.get(target["target"], {}).get(key)
                delta = "" if was is None or round(was) == round(value) else f"{value - was:+.0f}".replace("-", "−")
                self._put(title, "", row, 0)
                self._put(f"{value:.0f} {unit}".strip(), "", row, 1, right=True)
                self._put(delta, "quiet", row, 2, right=True)
                row += 1

    def _put(self, text: str, role: str, row: int, column: int, wide: int = 1, right: bool = False) -> None:
        made = label(text, role)
        if right or wide > 1:
            made.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._grid.addWidget(made, row, column, 1, wide)
        self.texts.append(text)


class CodeRoom(QFrame):
    """Sources, costs and agreement."""

    def __init__(self, model: Model) -> None:
        super().__init__()
        self.setObjectName("centre")
        self._model = model
        self._shown: Design | None = None
        self._busy = False
        self._files: dict[str, str] = {}
        self._changed: dict[str, list[int]] = {}
        self._checked: Design | None = None
        self._data: dict[str, Any] | None = None
        self._before: dict[str, Any] | None = None
        self.check = CodeCheck()
        self.editor, self.costs = CodeEditor(), CostTable()
        self.tabs, self.line = QTabBar(), QLineEdit()
        self.status = label("", "quiet")
        self.run_check, self.save = QPushButton("Check on host and chips"), QPushButton("Save its folder…")
        self.verdict = label("", "heading")
        self.seat, self.seat_note = QComboBox(), label("", "quiet")
        self.seat.setAccessibleName("Who decides in the trial")
        self._lay_out()
        self._fill_seats()
        self.seat.activated.connect(self._seat_chosen)
        model.run_changed.connect(self._show_seat)
        self.run_check.clicked.connect(self._start_or_stop)
        self.tabs.currentChanged.connect(lambda _: self._show_file())
        self.line.returnPressed.connect(lambda: self._find(True))
        QShortcut(QKeySequence("Ctrl+F"), self, activated=self._ask_find)
        QShortcut(QKeySequence("Shift+Return"), self.line, activated=lambda: self._find(False))
        self.check.progressed.connect(self.status.setText)
        self.check.finished.connect(self._finished)
        self.check.failed.connect(self._failed)
        model.design_changed.connect(self.show_model)
        model.opened.connect(self._opened)

    def _lay_out(self) -> None:
        across = QHBoxLayout(self)
        across.setContentsMargins(12, 8, 14, 8)
        across.setSpacing(14)
        left = QVBoxLayout()
        left.setSpacing(4)
        head = QHBoxLayout()
        self.tabs.setExpanding(False)
        self.tabs.setDrawBase(False)
        head.addWidget(self.tabs)
        head.addStretch(1)
        self.line.setPlaceholderText("Find")
        self.line.setAccessibleName("Find in the source")
        self.line.setFixedWidth(130)
        head.addWidget(self.line)
        left.addLayout(head)
        left.addWidget(self.editor, 1)
        self.note = label("", "quiet")
        self.note.setWordWrap(True)
        left.addWidget(self.note)
        across.addLayout(left, 1)
        right = QVBoxLayout()
        right.setSpacing(6)
        side = QWidget()
        side.setFixedWidth(COST_PX)
        side.setLayout(right)
        right.setContentsMargins(0, 0, 0, 0)
        title = QHBoxLayout()
        title.addWidget(label("Costs and agreement", "heading"))
        title.addStretch(1)
        title.addWidget(self.verdict)
        right.addLayout(title)
        self.explain = label("", "quiet")
        self.explain.setWordWrap(True)
        right.addWidget(self.explain)
        right.addWidget(self.run_check)
        self.status.setWordWrap(True)
        right.addWidget(self.status)
        self.reference = label("", "quiet")
        self.reference.setWordWrap(True)
        inside = QWidget()
        inside.setObjectName("costs")
        below = QVBoxLayout(inside)
        below.setContentsMargins(0, 0, 10, 0)
        below.setSpacing(6)
        below.addWidget(self.costs)
        below.addWidget(self.reference)
        below.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inside)
        right.addWidget(scroll, 1)
        right.addWidget(label("Who decides in the trial", "heading"))
        right.addWidget(self.seat)
        self.seat_note.setWordWrap(True)
        right.addWidget(self.seat_note)
        right.addWidget(self.save)
        across.addWidget(side)

    def order(self) -> list[QWidget]:
        """What the Tab key reaches in this room."""
        return [self.tabs, self.line, self.editor, self.run_check, self.seat, self.save]

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self.editor.set_theme(theme)

    def _opened(self) -> None:
        self._shown, self._files, self._changed = None, {}, {}
        self._data, self._before, self._checked = None, None, None
        self.show_model()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.show_model()

    def show_model(self) -> None:
        """Generate the C of the design as it is; lines that the last edit changed are marked."""
        design = self._model.design
        if not self.isVisible() or design is self._shown:
            return
        from calor.firmware.generate import generate

        sources = generate(design)
        files = {name.removeprefix(f"{sources.prefix}_"): text for name, text in sources.files.items()}
        self._changed = {
            name: changed_lines(self._files[name], text) if name in self._files else [] for name, text in files.items()
        }
        names = list(files)
        if names != list(self._files):
            self._files = files
            while self.tabs.count():
                self.tabs.removeTab(0)
            for name in names:
                self.tabs.addTab(name)
        self._files, self._shown = files, design
        self._show_file()
        self._show_check()

    def _show_file(self) -> None:
        names = list(self._files)
        if not 0 <= self.tabs.currentIndex() < len(names):
            return
        name = names[self.tabs.currentIndex()]
        changed = self._changed.get(name, [])
        self.editor.show_text(self._files[name], changed)
        lines = self._files[name].count("\n")
        own = "no line changed by the last edit" if not changed else f"{len(changed)} lines changed by the last edit"
        self.note.setText(
            f"{name}, {lines} lines · {own.replace('1 lines', '1 line')} · generated, read-only, yours (0BSD)"
        )
        if changed:
            self.editor.ensureLineVisible(changed[0])

    def _ask_find(self) -> None:
        self.line.setFocus(Qt.FocusReason.ShortcutFocusReason)
        self.line.selectAll()

    def _find(self, forward: bool) -> None:
        found = self.editor.find(self.line.text(), forward)
        set_role(self.line, "wrong", "false" if found or not self.line.text() else "true")

    def _start_or_stop(self) -> None:
        if self._busy:
            self.check.stop()
            self.status.setText("stopping …")
            return
        self._busy = True
        self.run_check.setText("Stop")
        self.status.setText("building for the host …")
        self.check.start(self._model.design)

    def _finished(self, design: Design, data: dict[str, Any]) -> None:
        self._busy = False
        self.run_check.setText("Check on host and chips")
        self.status.setText(data.get("skipped", ""))
        self._before, self._data, self._checked = self._data, data, design
        self._show_check()

    def _failed(self, text: str) -> None:
        self._busy = False
        self.run_check.setText("Check on host and chips")
        self.status.setText(text)

    def _show_check(self) -> None:
        """The last check, and whether it is of the design as it is now."""
        data = self._data
        if data is None:
            self.explain.setText(
                "Builds the C, gives it every trial's readings on this machine and on three emulated chips, and"
                " compares them bit by bit. Takes some seconds, the first time some more."
            )
            self.verdict.setText("")
            self.reference.setText("")
            self.costs.show_costs(None, None)
            return
        current = self._checked is not None and self._checked == self._model.design
        self.explain.setText("" if current else "The design has changed since this check.")
        self.explain.setVisible(not current)
        good = data["pass"]
        self.verdict.setText("agrees" if good else "disagrees")
        set_role(self.verdict, "role", "passed" if good else "failed")
        self.costs.show_costs(data, self._before)
        own = data["reference"]
        steps = data["targets"][0]["steps"]
        text = (
            f"{steps:,} steps of {len(data['trials'])} trials, each answer against the reference in single precision"
            " and between all targets, bit by bit. From the simulation, in double precision, it is apart by: demand"
            f" within {own['demand'] * 100.0:.2g} %, reading within {own['measured_celsius']:.1g} °C."
            " Instructions, not cycles: a time made of them is an estimate."
        ).replace(",", " ", 1)
        first = next((row["first_difference"] for row in data["targets"] if row["first_difference"]), None)
        if first:
            text = (
                f"First at step {first['step']} of {first['trial']}, reading {first['reading']:g}, between"
                f" {first['between'].replace(', ', ' and ')}. {text}"
            )
        self.reference.setText(text)

    # ---- who decides

    def _fill_seats(self) -> None:
        self.seat.clear()
        own = [] if self._model.seat in SEATS else [self._model.seat]
        for seat in (*SEATS, *own):
            self.seat.addItem(seat_word(seat), seat)
        self.seat.addItem("A law of your own…", "")
        self.seat.setCurrentIndex(self.seat.findData(self._model.seat))

    def _seat_chosen(self, index: int) -> None:
        seat = str(self.seat.itemData(index))
        if not seat:
            name, _ = QFileDialog.getOpenFileName(self, "A law of your own", "", "Laws (*.c *.py)")
            seat = name or self._model.seat
        self.choose_seat(seat)

    def choose_seat(self, seat: str) -> None:
        """Let another one decide, and show who."""
        self._model.choose_seat(seat)
        self._fill_seats()
        self._show_seat()

    def _show_seat(self) -> None:
        result = self._model.result
        if result is None or not self.isVisible():
            return
        passes = "passes" if result.verdict.passes else "fails"
        if result.request.seat != self._model.seat:
            text = "Its run is being made, or could not be."
        else:
            text = f"{self._model.trial.name}: {passes}. Shown in the Loop room."
        self.seat_note.setText(text)

    def close_down(self) -> None:
        """End a check that is on."""
        self.check.close()
