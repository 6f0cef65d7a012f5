"""An editor for C and Python: highlighting, line numbers, brackets, marks on changed lines and on those in error."""

from __future__ import annotations

import difflib
from typing import Any

from PyQt6.Qsci import QsciLexerCPP, QsciLexerPython, QsciScintilla
from PyQt6.QtCore import QEvent, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QKeySequence
from PyQt6.QtWidgets import QApplication, QWidget

from calor.desk.widgets import theme as look

NUMBER_MARGIN, CHANGE_MARGIN = 0, 1
CHANGED, WRONG = 8, 9
CODE_PX = 12


def code_font(bold: bool = False) -> QFont:
    """The desk's type for code; the editor wants its size in points."""
    font = look.font(CODE_PX, bold, mono=True)
    screen = QApplication.primaryScreen()
    dots_per_inch = screen.logicalDotsPerInch() if screen is not None else 96.0
    font.setPointSizeF(CODE_PX * 72.0 / dots_per_inch)
    return font


def changed_lines(before: str, after: str) -> list[int]:
    """Numbers of the lines of `after`, from 0, that are not in `before`."""
    matcher = difflib.SequenceMatcher(None, before.splitlines(), after.splitlines(), autojunk=False)
    return [line for tag, _, _, begin, end in matcher.get_opcodes() if tag != "equal" for line in range(begin, end)]


class CodeEditor(QsciScintilla):
    """One file of C or Python."""

    save_wanted = pyqtSignal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._lexer: Any = QsciLexerCPP(self)
        self._theme = look.LIGHT
        self.setLexer(self._lexer)
        self.setUtf8(True)
        self.setMarginType(NUMBER_MARGIN, QsciScintilla.MarginType.NumberMargin)
        self.setMarginType(CHANGE_MARGIN, QsciScintilla.MarginType.SymbolMargin)
        self.setMarginWidth(CHANGE_MARGIN, 5)
        self.setMarginMarkerMask(CHANGE_MARGIN, 1 << CHANGED | 1 << WRONG)
        for marker in (CHANGED, WRONG):
            self.markerDefine(QsciScintilla.MarkerSymbol.FullRectangle, marker)
        self.setBraceMatching(QsciScintilla.BraceMatch.SloppyBraceMatch)
        self.setTabWidth(4)
        self.setIndentationsUseTabs(False)
        self.setScrollWidth(1)
        self.setScrollWidthTracking(True)
        self.setAccessibleName("Source")
        self.set_theme(look.LIGHT)

    def set_theme(self, t: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = t
        font = code_font()
        lexer = self._lexer
        lexer.setDefaultFont(font)
        lexer.setDefaultPaper(QColor(t.raised))
        lexer.setDefaultColor(QColor(t.ink))
        lexer.setFont(font)
        lexer.setPaper(QColor(t.raised))
        lexer.setColor(QColor(t.ink))
        kinds: dict[str, tuple[int, ...]] = {
            t.measured: (lexer.Keyword,),
            t.heat: (lexer.Number,),
            t.passed: (lexer.DoubleQuotedString, lexer.SingleQuotedString),
        }
        if isinstance(lexer, QsciLexerCPP):
            kinds[t.measured] = (lexer.Keyword, lexer.KeywordSet2)
            kinds[t.quiet] = (lexer.Comment, lexer.CommentLine, lexer.CommentDoc)
            kinds[t.cool] = (lexer.PreProcessor,)
        else:
            kinds[t.quiet] = (lexer.Comment, lexer.CommentBlock)
            kinds[t.passed] = (*kinds[t.passed], lexer.TripleDoubleQuotedString, lexer.TripleSingleQuotedString)
            kinds[t.cool] = (lexer.ClassName, lexer.FunctionMethodName, lexer.Decorator)
        for colour, styles in kinds.items():
            for style in styles:
                lexer.setColor(QColor(colour), style)
        bold = code_font(bold=True)
        lexer.setFont(bold, lexer.Keyword)
        self.setMarginsFont(font)
        self.setMarginsForegroundColor(QColor(t.quiet))
        self.setMarginsBackgroundColor(QColor(t.ground))
        self.setMarkerBackgroundColor(QColor(t.setpoint), CHANGED)
        self.setMarkerForegroundColor(QColor(t.setpoint), CHANGED)
        self.setMarkerBackgroundColor(QColor(t.failed), WRONG)
        self.setMarkerForegroundColor(QColor(t.failed), WRONG)
        self.setCaretForegroundColor(QColor(t.ink))
        self.setSelectionBackgroundColor(QColor(t.band))
        self.setSelectionForegroundColor(QColor(t.ink))
        self.setMatchedBraceBackgroundColor(QColor(t.band))
        self.setMatchedBraceForegroundColor(QColor(t.ink))

    def show_text(self, text: str, changed: list[int]) -> None:
        """Show a file where it was looked at before, with some of its lines marked as changed."""
        if text != self.text():
            at = self.firstVisibleLine()
            self.setReadOnly(False)
            self.setText(text)
            self.setFirstVisibleLine(at)
        self.setReadOnly(True)
        self.setMarginWidth(NUMBER_MARGIN, "0000" if self.lines() < 1000 else "00000")
        self.markerDeleteAll(CHANGED)
        for line in changed:
            self.markerAdd(line, CHANGED)

    def edit(self, name: str, text: str) -> None:
        """Take a file to be edited; undo begins here."""
        if name.endswith(".py"):
            self._lexer = QsciLexerPython(self)
            self.setLexer(self._lexer)
            self.set_theme(self._theme)
        self.setReadOnly(False)
        self.setAutoIndent(True)
        self.setText(text)
        self.setMarginWidth(NUMBER_MARGIN, "0000")

    def replace_text(self, text: str) -> None:
        """Take another text in place of this one, as an edit that can be undone."""
        line, column = self.getCursorPosition()
        self.beginUndoAction()
        self.selectAll()
        self.replaceSelectedText(text)
        self.endUndoAction()
        self.setCursorPosition(line, column)

    def mark_errors(self, lines: list[int]) -> None:
        """Mark lines as wrong."""
        self.markerDeleteAll(WRONG)
        for line in lines:
            self.markerAdd(line, WRONG)

    def event(self, event: QEvent | None) -> bool:
        # these keys are this file's while it is edited, not the design's
        if event is not None and event.type() == QEvent.Type.ShortcutOverride and not self.isReadOnly():
            keys = (QKeySequence.StandardKey.Save, QKeySequence.StandardKey.Undo, QKeySequence.StandardKey.Redo)
            if any(event.matches(key) for key in keys):  # type: ignore[attr-defined]
                event.accept()
                return True
        return event is not None and bool(super().event(event))

    def keyPressEvent(self, event: Any) -> None:
        if not self.isReadOnly():
            for key, act in (
                (QKeySequence.StandardKey.Save, self.save_wanted.emit),
                (QKeySequence.StandardKey.Undo, self.undo), (QKeySequence.StandardKey.Redo, self.redo),
            ):  # fmt: skip
                if event.matches(key):
                    act()
                    return
        super().keyPressEvent(event)

    def find_text(self, what: str, forward: bool = True) -> bool:
        """Go to the next place of some text, round from the end; whether there is one."""
        return bool(what) and bool(self.findFirst(what, False, False, False, True, forward))
