"""The Code room: the C of the design as it changes, laws of one's own, what the C costs, and whether all agree."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from calor.design.file import save_atomically
from calor.design.model import Design
from calor.desk import theme as look
from calor.desk.code_check import CodeCheck
from calor.desk.code_editor import CodeEditor, changed_lines
from calor.desk.cost_table import CostTable
from calor.desk.fields import label, set_role
from calor.desk.model import Model
from calor.desk.overlay import Overlay
from calor.desk.own_file import OwnFile
from calor.desk.words import FORMS, SEATS, seat_word
from calor.errors import CalorError
from calor.firmware import consent
from calor.firmware.form import PLAIN, Form, form_of
from calor.law.code import Code

SIDE_PX = 262
LAWS = "Laws (*.c *.py)"
NEW_LAWS = (
    ("From this design, in C…", "c"), ("A small one, in Python…", "py"), ("Open a file…", ""),
)  # fmt: skip


class CodeRoom(QFrame):
    """Sources, costs and agreement."""

    def __init__(self, model: Model) -> None:
        super().__init__()
        self.setObjectName("centre")
        self._model = model
        self._shown: tuple[Design, Form] | None = None
        self._busy = False
        self._files: dict[str, str] = {}
        self._changed: dict[str, list[int]] = {}
        self._checked: tuple[Design, Form] | None = None
        self._data: dict[str, Any] | None = None
        self._before: dict[str, Any] | None = None
        self.form = PLAIN
        self.own: dict[str, OwnFile] = {}
        self.check = CodeCheck()
        self.editor, self.costs, self.overlay = CodeEditor(), CostTable(), Overlay()
        self.names, self.line, self.forms = QComboBox(), QLineEdit(), QComboBox()
        self.names.setAccessibleName("File")
        self.forms.setAccessibleName("How the C computes")
        self.new_law = QPushButton("New law")
        self.pages = QStackedWidget()
        self.status = label("", "quiet")
        self.run_check, self.save = QPushButton("Check on host and chips"), QPushButton("Save its folder…")
        self.verdict = label("", "heading")
        self.seat, self.seat_note = QComboBox(), label("", "quiet")
        self.seat.setAccessibleName("Who decides in the trial")
        self._lay_out()
        self._fill_seats()
        self._connect()

    def _connect(self) -> None:
        model = self._model
        self.seat.activated.connect(self._seat_chosen)
        self.run_check.clicked.connect(self._start_or_stop)
        self.names.currentIndexChanged.connect(lambda _: self._show_file())
        self.forms.activated.connect(self._form_chosen)
        self.line.returnPressed.connect(lambda: self._find(True))
        QShortcut(QKeySequence("Ctrl+F"), self, activated=self._ask_find)
        QShortcut(QKeySequence("Shift+Return"), self.line, activated=lambda: self._find(False))
        self.check.progressed.connect(self._say)
        self.check.finished.connect(self._finished)
        self.check.failed.connect(self._failed)
        model.run_changed.connect(self._show_seat)
        model.design_changed.connect(self.show_model)
        model.opened.connect(self._opened)

    def _lay_out(self) -> None:
        across = QHBoxLayout(self)
        across.setContentsMargins(12, 8, 14, 8)
        across.setSpacing(14)
        left = QVBoxLayout()
        left.setSpacing(4)
        head = QHBoxLayout()
        head.setSpacing(6)
        self.names.setMinimumWidth(130)
        self.forms.addItems(list(FORMS.values()))
        self.forms.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.forms.setMinimumWidth(86)
        menu = QMenu(self)
        for text, kind in NEW_LAWS:
            menu.addAction(text, lambda kind=kind: self._ask_new(kind))
        self.new_law.setMenu(menu)
        self.line.setPlaceholderText("Find")
        self.line.setAccessibleName("Find in the source")
        self.line.setMinimumWidth(40)
        self.line.setMaximumWidth(130)
        for widget in (self.names, self.forms, self.new_law):
            head.addWidget(widget)
        head.addStretch(1)
        head.addWidget(self.line, 20)
        left.addLayout(head)
        generated = QWidget()
        column = QVBoxLayout(generated)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.editor, 1)
        self.note = label("", "quiet")
        self.note.setWordWrap(True)
        column.addWidget(self.note)
        self.pages.addWidget(generated)
        left.addWidget(self.pages, 1)
        left.addWidget(self.overlay)
        across.addLayout(left, 1)
        across.addWidget(self._side())

    def _side(self) -> QWidget:
        side = QWidget()
        side.setFixedWidth(SIDE_PX)
        right = QVBoxLayout(side)
        right.setSpacing(6)
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
        self.status.hide()
        self.reference = label("", "quiet")
        self.reference.setWordWrap(True)
        inside = QWidget()
        inside.setObjectName("costs")
        below = QVBoxLayout(inside)
        below.setContentsMargins(0, 0, 10, 0)
        below.setSpacing(6)
        below.addWidget(self.reference)
        below.addWidget(self.costs)
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
        return side

    def order(self) -> list[QWidget]:
        """What the Tab key reaches in this room."""
        return [
            self.names, self.forms, self.new_law, self.line, self.editor, self.run_check, self.seat, self.save
        ]  # fmt: skip

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        for editor in (self.editor, *(own.editor for own in self.own.values())):
            editor.set_theme(theme)
        self.overlay.set_theme(theme)

    def _opened(self) -> None:
        self._shown, self._files, self._changed = None, {}, {}
        self._data, self._before, self._checked = None, None, None
        self.form = PLAIN
        self.forms.setCurrentIndex(0)
        self._fill_seats()
        self.show_model()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.show_model()

    # ---- generated files

    def _form_chosen(self, index: int) -> None:
        wanted = Form(*list(FORMS)[index])
        try:
            self.form = form_of(self._model.design.probe, wanted.fixed, wanted.table)
        except CalorError as error:
            self._model.noticed.emit("error", str(error).removeprefix("--table: "))
        self.show_model()

    def show_model(self) -> None:
        """Generate the C of the design as it is; lines that the last edit changed are marked."""
        design = self._model.design
        same = self._shown is not None and self._shown[0] is design and self._shown[1] == self.form
        if not self.isVisible() or (same and self.forms.currentIndex() == list(FORMS).index(tuple(self.form))):
            return
        from calor.firmware.generate import generate

        if isinstance(design.law, Code) and design.law.file:
            self._open_own(Path(design.law.file), True)
        try:
            form = form_of(design.probe, self.form.fixed, self.form.table)
        except CalorError:  # the probe is another now, and needs no table
            form = Form(self.form.fixed, False)
        self.form = form
        self.forms.setCurrentIndex(list(FORMS).index(tuple(form)))
        try:
            sources = generate(design, form=form)
        except CalorError as error:
            files = {"nothing generated": f"/* {error} */\n"}
        else:
            files = {name.removeprefix(f"{sources.prefix}_"): text for name, text in sources.files.items()}
        same_form = self._shown is not None and self._shown[1] == form
        self._changed = {
            name: changed_lines(self._files[name], text) if same_form and name in self._files else []
            for name, text in files.items()
        }
        if self._shown is None or self._shown[0].law != design.law:
            self._fill_seats()
        self._files, self._shown = files, (design, form)
        self._fill_names()
        self._show_file()
        self._show_check()

    def _fill_names(self) -> None:
        chosen = self.names.currentData()
        self.names.blockSignals(True)
        self.names.clear()
        for path, own in self.own.items():
            self.names.addItem(own.path.name + ("" if own.is_saved else " •"), path)
        if self.own:
            self.names.insertSeparator(self.names.count())
        for ending in (".c", ".h"):
            for name in (name for name in self._files if name.endswith(ending) or (ending == ".c" and "." not in name)):
                self.names.addItem(name + (" ‹" if self._changed.get(name) else ""), name)
        at = self.names.findData(chosen)
        first = self.names.findData(next(iter(self._files), ""))
        self.names.setCurrentIndex(at if at >= 0 else first)
        self.names.blockSignals(False)

    def _show_file(self) -> None:
        name = str(self.names.currentData() or "")
        own = self.own.get(name)
        self.pages.setCurrentWidget(own if own is not None else self.pages.widget(0))
        self.forms.setEnabled(own is None)
        if own is not None or name not in self._files:
            return
        changed = self._changed.get(name, [])
        self.editor.show_text(self._files[name], changed)
        lines = self._files[name].count("\n")
        if changed:
            said = f"{len(changed)} line{'s' * (len(changed) != 1)} changed by the last edit"
        else:
            others = [other for other, marks in self._changed.items() if marks]
            said = f"the last edit changed {', '.join(others)}" if others else "no line changed by the last edit"
        self.note.setText(f"{name}, {lines} lines · {said} · generated, read-only, yours (0BSD)")
        if changed:
            self.editor.ensureLineVisible(changed[0])

    # ---- laws of one's own

    def _ask_new(self, kind: str) -> None:
        start = str(self._model.path.parent) if self._model.path else str(Path.home())
        if not kind:
            name, _ = QFileDialog.getOpenFileName(self, "A law of your own", start, LAWS)
        else:
            name, _ = QFileDialog.getSaveFileName(self, "Where to keep the law", f"{start}/my_law.{kind}", f"*.{kind}")
        if not name:
            return
        path = Path(name)
        if kind:
            self.start_law(path if path.suffix == f".{kind}" else path.with_suffix(f".{kind}"))
        else:
            self._open_own(path)

    def start_law(self, path: Path) -> None:
        """Write a law to start from into a file, in the language of its name, and open it."""
        from calor.firmware.own_start import start_in_c, start_in_python

        try:
            text = (start_in_c if path.suffix == ".c" else start_in_python)(self._model.design)
            save_atomically(path, text)
            consent.allow(path)
        except CalorError as error:
            self._model.noticed.emit("error", str(error))
            return
        except OSError as error:
            rule = f"cannot be written ({error.strerror or error}); choose a folder you may write to"
            self._model.noticed.emit("error", f"{path}: {rule}")
            return
        self._open_own(path)

    def _open_own(self, path: Path, from_design: bool = False) -> None:
        """Open a law of the user's own in its editor."""
        key = str(path.absolute())
        if key not in self.own:
            try:
                own = OwnFile(Path(key), from_design)
            except CalorError as error:
                self._model.noticed.emit("error", str(error))
                return
            own.editor.set_theme(getattr(self, "_theme", look.LIGHT))
            own.changed.connect(self._fill_names)
            own.saved.connect(self._own_saved)
            own.decides.connect(self.choose_seat)
            own.taken.connect(lambda path: self._take(Path(path)))
            self.own[key] = own
            self.pages.addWidget(own)
            self._fill_names()
        self.names.setCurrentIndex(self.names.findData(key))
        self._show_file()

    def _own_saved(self, path: str) -> None:
        """A law that decides is run again with what was saved."""
        law = self._model.design.law
        if self._model.seat == path or (isinstance(law, Code) and law.file == path):
            self._model.simulate()

    def _take(self, path: Path) -> None:
        """Make a file of one's own the design's law: whoever does has agreed to run it."""
        try:
            consent.allow(path)
        except CalorError as error:
            self._model.noticed.emit("error", str(error))
            return
        self._model.take_law(path)
        self._fill_seats()

    def unsaved(self) -> list[OwnFile]:
        """The files of one's own that are not saved."""
        return [own for own in self.own.values() if not own.is_saved]

    # ---- finding

    def _shown_editor(self) -> CodeEditor:
        page = self.pages.currentWidget()
        return page.editor if isinstance(page, OwnFile) else self.editor

    def _ask_find(self) -> None:
        self.line.setFocus(Qt.FocusReason.ShortcutFocusReason)
        self.line.selectAll()

    def _find(self, forward: bool) -> None:
        found = self._shown_editor().find(self.line.text(), forward)
        set_role(self.line, "wrong", "false" if found or not self.line.text() else "true")

    # ---- the check

    def _start_or_stop(self) -> None:
        if self._busy:
            self.check.stop()
            self._say("stopping …")
            return
        self._busy = True
        self.run_check.setText("Stop")
        self._say("building for the host …")
        self._asked = (self._model.design, self.form)
        self.check.start(*self._asked)

    def _finished(self, design: Design, data: dict[str, Any]) -> None:
        self._busy = False
        self.run_check.setText("Check on host and chips")
        self._say(data.get("skipped", ""))
        self._before, self._data, self._checked = self._data, data, (design, Form(**data["form"]))
        self._show_check()

    def _failed(self, text: str) -> None:
        self._busy = False
        self.run_check.setText("Check on host and chips")
        self._say(text)

    def _say(self, text: str) -> None:
        self.status.setText(text)
        self.status.setVisible(bool(text))

    def _show_check(self) -> None:
        """The last check, and whether it is of the design as it is now."""
        data = self._data
        if data is None:
            self.explain.setText(
                "Builds the C, gives it every trial's readings on this machine and on three emulated chips, and"
                " compares them bit by bit. Takes some seconds, the first time some more."
            )
            self.explain.show()
            self.verdict.setText("")
            self.reference.setText("")
            self.costs.show_costs(None, None)
            self.overlay.show_answers(None)
            return
        current = self._checked is not None and self._checked == (self._model.design, self.form)
        self.explain.setText("" if current else "The design has changed since this check.")
        self.explain.setVisible(not current)
        good = data["pass"]
        self.verdict.setText("agrees" if good else "disagrees")
        set_role(self.verdict, "role", "passed" if good else "failed")
        self.costs.show_costs(data, self._before)
        self.reference.setText(said_of(data))
        answers = data.get("answers", {})
        self.overlay.show_answers(answers.get(self._model.trial.name) or next(iter(answers.values()), None))

    # ---- who decides

    def _fill_seats(self) -> None:
        self.seat.clear()
        own = [] if self._model.seat in SEATS else [self._model.seat]
        for seat in (*SEATS, *own):
            self.seat.addItem(seat_word(seat, self._model.design), seat)
        self.seat.addItem("A law of your own…", "")
        self.seat.setCurrentIndex(self.seat.findData(self._model.seat))

    def _seat_chosen(self, index: int) -> None:
        seat = str(self.seat.itemData(index))
        if not seat:
            name, _ = QFileDialog.getOpenFileName(self, "A law of your own", "", LAWS)
            seat = name or self._model.seat
            if name:
                self._open_own(Path(name))
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
        for own in self.own.values():
            own.close_down()


def said_of(data: dict[str, Any]) -> str:
    """What a check found, in words: where two first differ, or over how many steps all are equal."""
    own, steps = data["reference"], data["targets"][0]["steps"]
    first = next((row["first_difference"] for row in data["targets"] if row["first_difference"]), None)
    counted = f"{steps:,} steps of {len(data['trials'])} trials".replace(",", " ")
    if first:
        begin = (
            f"Differ first at step {first['step']} of {first['trial']}, reading {first['reading']:g}, between"
            f" {first['between'].replace(', ', ' and ')}; of {counted}."
        )
    elif own["bit_equal"] is None:
        begin = f"Host and chips equal to the bit over {counted}."
    else:
        begin = f"Reference in single precision, host and chips equal to the bit over {counted}."
    return (
        f"{begin} From the simulation in double precision apart by: demand {own['demand'] * 100.0:.2g} %, reading"
        f" {own['measured_celsius']:.1g} °C. A time made of instructions is an estimate."
    )
