"""Colours, type and the style sheet, light and dark."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from pathlib import Path

from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication, QWidget

FONTS = Path(__file__).parent / "fonts"
ICONS = Path(__file__).parent
SANS, MONO = "Inter", "Hack"
SMALL_PX, BODY_PX, TITLE_PX = 11, 13, 15
GRID_PX = 8


@dataclass(frozen=True)
class Theme:
    """One set of colours. Each has a meaning, and never carries it alone."""

    name: str
    ground: str
    raised: str
    rule: str
    ink: str
    quiet: str
    rail: str
    rail_ink: str
    rail_quiet: str
    measured: str
    setpoint: str
    band: str
    heat: str
    cool: str
    pinned: str
    recorded: str
    passed: str
    failed: str
    grid: str


LIGHT = Theme(
    "light", ground="#F4F1EA", raised="#FCFBF7", rule="#D5CFC0", ink="#23262B", quiet="#696559", rail="#23283A",
    rail_ink="#F4F1EA", rail_quiet="#A3A8BA", measured="#3B3F8F", setpoint="#B8860B", band="#EADFC4", heat="#C4512D",
    cool="#2E6F9E", pinned="#A7A294", recorded="#23262B", passed="#2F6B45", failed="#A3262A", grid="#E4DFD2",
)  # fmt: skip
DARK = Theme(
    "dark", ground="#1B1E27", raised="#252935", rule="#3B4050", ink="#ECE7DA", quiet="#A9A598", rail="#12141B",
    rail_ink="#F4F1EA", rail_quiet="#8C91A3", measured="#9AA0F2", setpoint="#DDAE3C", band="#3A3626", heat="#E87D59",
    cool="#6FB1E0", pinned="#7C7869", recorded="#ECE7DA", passed="#74BE8E", failed="#F07C7F", grid="#2C313E",
)  # fmt: skip
THEMES = {theme.name: theme for theme in (LIGHT, DARK)}


def load_fonts() -> None:
    """Make the shipped fonts known to Qt."""
    for path in sorted(FONTS.glob("*.[ot]tf")):
        QFontDatabase.addApplicationFont(str(path))


def font(px: int = BODY_PX, bold: bool = False, mono: bool = False) -> QFont:
    """The desk's type in one of its sizes, with figures of one width; `mono` for code."""
    chosen = QFont(MONO if mono else SANS)
    chosen.setPixelSize(px)
    if bold:
        chosen.setWeight(QFont.Weight.DemiBold)
    chosen.setHintingPreference(QFont.HintingPreference.PreferNoHinting)
    if not mono:
        # figures of one width; an l with a tail, that is no I and no 1
        chosen.setFeature(QFont.Tag("tnum"), 1)
        chosen.setFeature(QFont.Tag("cv05"), 1)
    return chosen


def set_palette(app: QApplication, theme: Theme) -> None:
    """Put what no style sheet reaches into `theme`: the window's own ground, and dialogs of the system."""
    if app.property("theme") is None:
        app.setStyle("Fusion")
        app.setFont(font())
    app.setProperty("theme", theme.name)
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, theme.ground),
        (QPalette.ColorRole.Base, theme.raised),
        (QPalette.ColorRole.AlternateBase, theme.ground),
        (QPalette.ColorRole.WindowText, theme.ink),
        (QPalette.ColorRole.Text, theme.ink),
        (QPalette.ColorRole.Button, theme.raised),
        (QPalette.ColorRole.ButtonText, theme.ink),
        (QPalette.ColorRole.Highlight, theme.measured),
        (QPalette.ColorRole.HighlightedText, theme.raised),
        (QPalette.ColorRole.ToolTipBase, theme.rail),
        (QPalette.ColorRole.ToolTipText, theme.rail_ink),
        (QPalette.ColorRole.PlaceholderText, theme.quiet),
        (QPalette.ColorRole.Link, theme.measured),
    ):
        palette.setColor(role, QColor(colour))
    app.setPalette(palette)


def dress(part: QWidget, theme: Theme) -> None:
    """Put a part of the window, with all in it, into `theme`.

    Each part has a sheet of its own: one for the whole application would be put on all widgets in one go, which takes
    0.1 ms a widget.
    """
    part.setProperty("theme", theme.name)
    part.setStyleSheet(style_sheet(theme))


def worn_by(part: QWidget) -> str:
    """The name of the theme that a part is in; empty where it is in none yet."""
    return str(part.property("theme") or "")


@cache
def style_sheet(t: Theme) -> str:
    """The style sheet of `t`. Widgets are told apart by object names that say what they are."""
    return f"""
* {{ color: {t.ink}; }}
QMainWindow, QDialog, QScrollArea, #bench, #form, #verdict, #centre {{ background: {t.ground}; }}
QScrollArea {{ border: none; }}
QLabel {{ background: transparent; }}
QLabel[role="quiet"] {{ color: {t.quiet}; font-size: {SMALL_PX}px; }}
QLabel[role="unit"] {{ color: {t.quiet}; }}
QLabel[role="problem"] {{ color: {t.failed}; font-size: {SMALL_PX}px; }}
QLabel[role="heading"] {{ font-weight: 600; }}
QLabel[role="title"] {{ font-weight: 600; font-size: {TITLE_PX}px; }}
QLabel[role="passed"] {{ color: {t.passed}; font-weight: 600; }}
QLabel[role="failed"] {{ color: {t.failed}; font-weight: 600; }}
QLabel[role="code"] {{ font-family: "{MONO}"; font-size: {SMALL_PX}px; }}
#centre {{ border: 1px solid {t.ground}; }}
#centre[focused="true"] {{ border: 1px dotted {t.measured}; }}
#topbar {{ background: {t.ground}; border-bottom: 1px solid {t.rule}; }}
#bench {{ border-right: 1px solid {t.rule}; }}
#verdict {{ border-left: 1px solid {t.rule}; }}
#rail {{ background: {t.rail}; }}
#rail QLabel {{ color: {t.rail_ink}; }}
#rail QPushButton {{ background: transparent; color: {t.rail_quiet}; border: none; border-radius: 0; padding: 6px 2px;
    font-size: {SMALL_PX}px; min-height: 0; }}
#rail QPushButton:hover {{ color: {t.rail_ink}; }}
#rail QPushButton:focus {{ color: {t.rail_ink}; border: 2px solid {t.setpoint}; padding: 4px 0; }}
#rail QPushButton[role="room"] {{ color: {t.rail_quiet}; padding: 8px 0; border-left: 4px solid transparent; }}
#rail QPushButton[role="room"]:checked {{ background: {t.ground}; color: {t.ink}; border-left: 4px solid {t.heat}; }}
#rail QPushButton[role="urgent"] {{ background: {t.heat}; color: #FFFFFF; font-weight: 600; padding: 8px 0; }}
#rail QPushButton[role="urgent"]:focus {{ border: 2px solid {t.rail_ink}; padding: 6px 0; }}
#rail QPushButton[role="room"]:focus {{ border: 2px solid {t.setpoint}; padding: 6px 0; }}
QTabBar::tab {{ background: transparent; color: {t.quiet}; padding: 3px 10px; border-bottom: 2px solid transparent; }}
QTabBar::tab:selected {{ color: {t.ink}; border-bottom: 2px solid {t.heat}; }}
QTabBar::tab:focus {{ color: {t.measured}; }}
QsciScintilla {{ border: 1px solid {t.rule}; }}
QPushButton, QComboBox, QLineEdit, QToolButton {{ background: {t.raised}; border: 1px solid {t.rule}; border-radius: 4px;
    padding: 2px 8px; min-height: 20px; }}
QLineEdit {{ selection-background-color: {t.measured}; selection-color: {t.raised}; }}
QPushButton:hover, QComboBox:hover, QToolButton:hover {{ border-color: {t.quiet}; }}
QPushButton:focus, QComboBox:focus, QLineEdit:focus, QToolButton:focus {{ border: 2px solid {t.measured}; padding: 1px 7px; }}
QPushButton:pressed, QPushButton:checked {{ background: {t.rail}; color: {t.rail_ink}; }}
QPushButton:disabled {{ color: {t.pinned}; }}
QPushButton[role="main"] {{ background: {t.rail}; color: {t.rail_ink}; border-color: {t.rail}; }}
QPushButton[role="main"]:disabled {{ background: transparent; color: {t.pinned}; border-color: {t.pinned}; }}
QPushButton[role="name"] {{ background: transparent; border-color: transparent; font-size: {TITLE_PX}px; font-weight: 600;
    text-align: left; padding: 2px 4px; }}
QPushButton[role="name"]:hover {{ border-color: {t.rule}; }}
QPushButton[role="name"]:pressed, QPushButton[role="name"]:open {{ background: transparent; color: {t.ink}; }}
QPushButton[role="name"]:focus {{ border: 2px solid {t.measured}; padding: 1px 3px; }}
QPushButton[role="name"]::menu-indicator {{ image: none; width: 0; }}
QPushButton[role="link"] {{ background: transparent; border: 1px solid transparent; padding: 0 2px; text-decoration: underline;
    min-height: 18px; text-align: left; }}
QPushButton[role="link"]:focus {{ border: 1px solid {t.measured}; }}
QPushButton[role="link"]:pressed, QPushButton[role="link"]:checked {{ background: transparent; color: {t.measured}; }}
QPushButton[role="segment"] {{ border-radius: 0; border-right-width: 0; padding: 2px 3px; }}
QPushButton[role="segment"]:focus {{ border: 2px solid {t.setpoint}; padding: 1px 2px; }}
QPushButton[segment="first"] {{ border-top-left-radius: 4px; border-bottom-left-radius: 4px; }}
QPushButton[segment="last"] {{ border-top-right-radius: 4px; border-bottom-right-radius: 4px; border-right-width: 1px; }}
QLineEdit[wrong="true"] {{ border: 2px solid {t.failed}; padding: 1px 7px; }}
QComboBox QAbstractItemView, QMenu, QListWidget {{ background: {t.raised}; border: 1px solid {t.rule}; outline: none; }}
QComboBox QAbstractItemView::item:selected, QMenu::item:selected, QListWidget::item:selected {{
    background: {t.rail}; color: {t.rail_ink}; }}
QMenu::item {{ padding: 5px 24px 5px 14px; }}
QMenu::item:disabled {{ color: {t.pinned}; }}
QMenu::separator {{ height: 1px; background: {t.rule}; margin: 4px 8px; }}
QListWidget::item {{ padding: 4px 8px; height: 17px; }}
QMessageBox {{ border: 2px solid {t.rail}; }}
#search {{ border: 2px solid {t.rail}; background: {t.ground}; }}
QComboBox {{ combobox-popup: 0; }}
QComboBox QAbstractItemView::item {{ min-height: 24px; padding: 0 6px; }}
QComboBox::drop-down {{ border: none; width: 20px; }}
QComboBox::down-arrow {{ image: url({(ICONS / f"chevron_{t.name}.svg").as_posix()}); width: 10px; height: 10px; }}
#card {{ background: {t.raised}; border: 1px solid {t.rule}; border-left: 4px solid {t.setpoint}; border-radius: 4px; }}
#card[weight="wear"] {{ border-left-color: {t.heat}; }}
#card[weight="note"] {{ border-left-color: {t.cool}; }}
#notice {{ background: {t.band}; border: 1px solid {t.quiet}; border-radius: 4px; }}
#notice[kind="error"] {{ border-left: 4px solid {t.failed}; }}
#notice[kind="note"] {{ border-left: 4px solid {t.setpoint}; }}
#line {{ background: {t.rule}; }}
QScrollBar:vertical {{ background: transparent; width: 8px; margin: 0; }}
QScrollBar::handle:vertical {{ background: {t.rule}; border-radius: 4px; min-height: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
QScrollBar:horizontal {{ height: 0; }}
QToolTip {{ background: {t.rail}; color: {t.rail_ink}; border: none; padding: 4px; }}
QTableWidget {{ background: {t.raised}; border: 1px solid {t.rule}; gridline-color: {t.grid}; font-size: {SMALL_PX}px;
    selection-background-color: {t.band}; selection-color: {t.ink}; outline: none; }}
QTableWidget:focus {{ border: 2px solid {t.measured}; }}
QTableWidget QLineEdit {{ border-radius: 0; padding: 0 2px; min-height: 16px; font-size: {SMALL_PX}px; }}
QHeaderView {{ background: {t.ground}; border: none; font-size: {SMALL_PX}px; }}
QHeaderView::section {{ background: {t.ground}; color: {t.quiet}; border: none; border-bottom: 1px solid {t.rule};
    font-size: {SMALL_PX}px; padding: 1px 4px; }}
QHeaderView::up-arrow, QHeaderView::down-arrow {{ width: 7px; height: 7px; subcontrol-origin: padding;
    subcontrol-position: top center; }}
QProgressBar {{ border: none; background: {t.grid}; max-height: 4px; }}
QProgressBar::chunk {{ background: {t.heat}; }}
"""
