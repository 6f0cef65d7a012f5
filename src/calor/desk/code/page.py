"""The Code room: the C of the design as it changes, laws of one's own, what the C costs, and whether all agree."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from calor.design.model import Design
from calor.desk.code.check_panel import LAWS, CheckPanel
from calor.desk.code.code_editor import CodeEditor, changed_lines
from calor.desk.code.overlay import Overlay
from calor.desk.code.own_file import OwnFile
from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import label, set_role
from calor.desk.widgets.keys import shortcut
from calor.desk.widgets.places import place_for
from calor.desk.widgets.words import FORMS
from calor.errors import CalorError
from calor.files import save_atomically
from calor.firmware.controller import consent
from calor.firmware.controller.own_source import in_hand
from calor.firmware.sources.form import PLAIN, Form, form_of
from calor.law.code import Code

NEW_LAWS = (
    ("From this design, in C…", "c"), ("A small one, in Python…", "py"), ("Open a file…", ""),
)  # fmt: skip


class CodePage(Page):
    """Sources, costs and agreement."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("centre")
        self._desk = desk
        self._theme = look.LIGHT
        self._shown: tuple[Design, Form] | None = None
        self._files: dict[str, str] = {}
        self._changed: dict[str, list[int]] = {}
        self.form = PLAIN
        self.own: dict[str, OwnFile] = {}
        self.panel = CheckPanel(desk)
        self.editor, self.overlay = CodeEditor(), Overlay()
        self.names, self.line, self.forms = QComboBox(), QLineEdit(), QComboBox()
        self.names.setAccessibleName("File")
        self.forms.setAccessibleName("How the C computes")
        self.constant = QCheckBox("Compiled-in settings")
        self.constant.setToolTip(
            "Settings as constants of the C: smaller and faster, and none can be changed while it runs"
        )
        self.new_law = QPushButton("New code")
        self.pages = QStackedWidget()
        self._lay_out()
        self._connect()

    def _connect(self) -> None:
        desk = self._desk
        self.names.currentIndexChanged.connect(lambda _: self._show_file())
        self.forms.activated.connect(self._form_chosen)
        self.constant.clicked.connect(lambda _: self._form_chosen(self.forms.currentIndex()))
        self.panel.outward.activated.connect(lambda _: self._form_chosen(self.forms.currentIndex()))
        self.line.returnPressed.connect(lambda: self._find(True))
        shortcut("Ctrl+F", self, self._ask_find)
        shortcut("Shift+Return", self.line, lambda: self._find(False))
        self.panel.answered.connect(self.overlay.show_answers)
        self.panel.opened.connect(lambda name: self._open_own(Path(name)))
        desk.document.changed.connect(self.show_model)
        desk.document.opened.connect(self._opened)

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
        for widget in (self.names, self.forms, self.constant, self.new_law):
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
        across.addWidget(self.panel)

    def tab_order(self) -> list[QWidget]:
        return [
            self.names, self.forms, self.constant, self.new_law, self.line, self.editor,
            self.panel.run_check, self.panel.controller, self.panel.outward, self.panel.port, self.panel.save,
        ]  # fmt: skip

    def set_theme(self, theme: look.Theme) -> None:
        self._theme = theme
        for editor in (self.editor, *(own.editor for own in self.own.values())):
            editor.set_theme(theme)
        self.overlay.set_theme(theme)

    def focus(self) -> None:
        self.editor.setFocus(Qt.FocusReason.OtherFocusReason)

    def _opened(self) -> None:
        self._shown, self._files, self._changed = None, {}, {}
        self.panel.forget()
        self.form = PLAIN
        self.forms.setCurrentIndex(0)
        self.constant.setChecked(False)
        self.panel.outward.setCurrentIndex(0)
        self.panel.port.setCurrentIndex(0)
        self.show_model()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.show_model()
        self.panel.show_controller()

    # ---- generated files

    def _form_chosen(self, index: int) -> None:
        with_link, letters = self.panel.outward.currentData()
        wanted = Form(*list(FORMS)[index], constant=self.constant.isChecked(), link=with_link, panel=letters)
        try:
            self.form = form_of(self._desk.document.design.probe, *wanted)
        except CalorError as error:
            self._desk.say("error", error.said[0].upper() + error.said[1:] + ".")
        self.show_model()

    def show_model(self) -> None:
        """Generate the C of the design as it is; lines that the last edit changed are marked."""
        design = self._desk.document.design
        same = self._shown is not None and self._shown[0] is design and self._shown[1] == self.form
        chosen = list(FORMS).index((self.form.fixed, self.form.table))
        if not self.isVisible() or (same and self.forms.currentIndex() == chosen):
            return
        from calor.firmware.sources.generate import generate

        if isinstance(design.law, Code) and design.law.file:
            self._open_own(Path(design.law.file), True)
        try:
            form = form_of(design.probe, *self.form)
        except CalorError:  # the probe is another now, and needs no table
            form = self.form._replace(table=False)
        self.form = form
        self.forms.setCurrentIndex(list(FORMS).index((form.fixed, form.table)))
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
            self.panel.fill_controllers()
        self._files, self._shown = files, (design, form)
        self._fill_names()
        self._show_file()
        self.panel.show_check(form)

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
        own_file = self.own.get(name)
        self.pages.setCurrentWidget(own_file if own_file is not None else self.pages.widget(0))
        self.forms.setEnabled(own_file is None)
        if own_file is not None or name not in self._files:
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
        start = str(self._desk.document.path.parent) if self._desk.document.path else str(Path.home())
        if not kind:
            name, _ = QFileDialog.getOpenFileName(self, "Your own controller code", start, LAWS)
        else:
            path = place_for(self, "Where to keep the code", f"{start}/my_law.{kind}", f"*.{kind}", f".{kind}")
            if path is not None:
                self.start_law(path)
            return
        if name:
            self._open_own(Path(name))

    def start_law(self, path: Path) -> None:
        """Write a law to start from into a file, in the language of its name, and open it."""
        from calor.firmware.controller.own_start import start_in_c, start_in_python

        try:
            text = (start_in_c if path.suffix == ".c" else start_in_python)(self._desk.document.design)
            save_atomically(path, text)
            consent.allow(in_hand(path, text))
        except CalorError as error:
            self._desk.say("error", str(error))
            return
        except OSError as error:
            rule = f"cannot be written ({error.strerror or error}); choose a folder you may write to"
            self._desk.say("error", f"{path}: {rule}")
            return
        self._open_own(path)

    def _open_own(self, path: Path, from_design: bool = False) -> None:
        """Open a law of the user's own in its editor."""
        key = str(path.absolute())
        if key not in self.own:
            try:
                own_file = OwnFile(Path(key), from_design)
            except CalorError as error:
                self._desk.say("error", str(error))
                return
            own_file.editor.set_theme(self._theme)
            own_file.changed.connect(self._fill_names)
            own_file.saved.connect(self._own_saved)
            own_file.decides.connect(self.panel.choose_controller)
            own_file.taken.connect(lambda path: self._take(Path(path)))
            self.own[key] = own_file
            self.pages.addWidget(own_file)
            self._fill_names()
        self.names.setCurrentIndex(self.names.findData(key))
        self._show_file()

    def _own_saved(self, path: str) -> None:
        """A law that decides is run again with what was saved."""
        law = self._desk.document.design.law
        if self._desk.runs.controller == path or (isinstance(law, Code) and law.file == path):
            self._desk.runs.simulate()

    def _take(self, path: Path) -> None:
        """Make a file of one's own the design's law, which is allowed to run by now."""
        self._desk.runs.take_law(path)
        self.panel.fill_controllers()

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
        found = self._shown_editor().find_text(self.line.text(), forward)
        set_role(self.line, "wrong", "false" if found or not self.line.text() else "true")

    def close_down(self) -> None:
        """End a check that is on."""
        self.panel.check.close()
        for own in self.own.values():
            own.close_down()
