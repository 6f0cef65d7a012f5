"""The records on the left: which are open, how one was read, what was found, and which other one lies underneath."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QListWidget,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from calor.demo import RECORDS
from calor.desk.logs.shelf import Shelf
from calor.desk.widgets.fields import as_tip, emptied, label, on_button
from calor.log.align import HOWS
from calor.log.finding import Finding

WIDTH_PX = 256
NO_OTHER = "none"


class FindingRow(QWidget):
    """One kind of finding: whether it is treated, how often it is there, and the way to its places."""

    asked = pyqtSignal(float, float)

    def __init__(self, shelf: Shelf, finding: Finding) -> None:
        super().__init__()
        self._finding, self._next = finding, 0
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 3, 0, 3)
        column.setSpacing(1)
        head = QHBoxLayout()
        head.setSpacing(4)
        self.treated = QCheckBox(f"{finding.title}: {finding.count}")
        self.treated.setChecked(not finding.taken_back)
        self.treated.setEnabled(bool(finding.otherwise))
        said = f"{finding.done}; without the mark: {finding.otherwise}" if finding.otherwise else ""
        self.treated.setToolTip(as_tip(said))
        self.treated.toggled.connect(lambda on: shelf.take_back(finding.kind, not on))
        head.addWidget(self.treated, 1)
        if not finding.otherwise:
            self.treated.hide()
            head.addWidget(label(f"{finding.title}: {finding.count}"), 1)
        self.show_button = QPushButton("Show")
        self.show_button.setProperty("role", "link")
        self.show_button.setToolTip("Show the next place.")
        self.show_button.clicked.connect(self._show_next)
        head.addWidget(self.show_button)
        if not finding.at_s or finding.kind == "rounding":
            self.show_button.hide()
        column.addLayout(head)
        done = finding.otherwise if finding.taken_back else finding.done
        text = label(f"{finding.text}{f': {done}' if done else ''}", "quiet")
        text.setWordWrap(True)
        column.addWidget(text)

    def _show_next(self) -> None:
        place = self._next % len(self._finding.at_s)
        self._next += 1
        self.asked.emit(self._finding.at_s[place], self._finding.until_s[place])


class RecordsPanel(QFrame):
    """The column on the left."""

    place_asked = pyqtSignal(float, float)
    open_asked, join_asked = pyqtSignal(), pyqtSignal()
    columns_toggled = pyqtSignal(bool)

    def __init__(self, shelf: Shelf) -> None:
        super().__init__()
        self.setObjectName("bench")
        self.setFixedWidth(WIDTH_PX)
        self._shelf = shelf
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 10, 8)
        column.setSpacing(6)
        head = QHBoxLayout()
        head.addWidget(label("Records", "heading"), 1)
        self.open_button, self.join_button, self.remove_button = (
            QPushButton(text) for text in ("Open…", "Join…", "Close")
        )
        self.join_button.setToolTip("Add another file of the same run, joined by time.")
        self.open_button.setToolTip("Open a log (Ctrl+Shift+L); or drop one here.")
        self.remove_button.setToolTip("Close this record; its file stays.")
        for button in (self.open_button, self.join_button, self.remove_button):
            button.setProperty("role", "link")
            head.addWidget(button)
        column.addLayout(head)
        self.list = QListWidget()
        self.list.setAccessibleName("Records")
        self.list.setMaximumHeight(128)
        column.addWidget(self.list)
        self.demos = QWidget()
        self._build_demos()
        column.addWidget(self.demos)
        read = QHBoxLayout()
        read.addWidget(label("Read as", "heading"), 1)
        self.columns_button = QPushButton("Columns")
        self.columns_button.setCheckable(True)
        self.columns_button.setProperty("role", "link")
        self.columns_button.setToolTip("The first rows, and what each column is: to be set right.")
        read.addWidget(self.columns_button)
        self._of_record: list[QWidget] = []
        self.read_head = QWidget()
        read.setContentsMargins(0, 0, 0, 0)
        self.read_head.setLayout(read)
        self.read_as = label("", "quiet")
        self.read_as.setWordWrap(True)
        self.found_head = label("Found in it", "heading")
        self.found = QWidget()
        self._found_column = QVBoxLayout(self.found)
        self._found_column.setContentsMargins(0, 0, 0, 0)
        self._found_column.setSpacing(0)
        self.scrolled = QScrollArea()
        self.scrolled.setWidgetResizable(True)
        self.scrolled.setFrameShape(QFrame.Shape.NoFrame)
        self.scrolled.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scrolled.setWidget(self.found)
        self.compare_head = label("Compare with", "heading")
        self.other, self.how = QComboBox(), QComboBox()
        self.other.setAccessibleName("Record to compare with")
        self.how.setAccessibleName("Aligned by")
        self.how.addItems([f"by {how}" for how in HOWS])
        for widget in (self.read_head, self.read_as, self.found_head):
            column.addWidget(widget)
        column.addWidget(self.scrolled, 1)
        for widget in (self.compare_head, self.other, self.how):
            column.addWidget(widget)
        self._of_record = [
            self.read_head, self.read_as, self.found_head, self.scrolled, self.compare_head, self.other, self.how,
        ]  # fmt: skip
        column.addStretch(0)
        self.list.currentRowChanged.connect(self._row_chosen)
        self.open_button.clicked.connect(self.open_asked)
        self.join_button.clicked.connect(self.join_asked)
        self.remove_button.clicked.connect(shelf.remove)
        self.columns_button.toggled.connect(self.columns_toggled)
        self.other.activated.connect(self._other_chosen)
        self.how.activated.connect(lambda row: shelf.align_by(HOWS[row]))
        shelf.changed.connect(self.show_model)
        shelf.compared_changed.connect(self.show_model)
        self.show_model()

    def _build_demos(self) -> None:
        column = QVBoxLayout(self.demos)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(4)
        column.addWidget(label("Made-up records to try", "quiet"))
        self.demo_buttons: list[QPushButton] = []
        for record in RECORDS:
            button = QPushButton(on_button(record.title))
            button.setProperty("role", "link")
            button.clicked.connect(partial(self.open_demo, record.title))
            column.addWidget(button)
            about = label(record.about, "quiet")
            about.setWordWrap(True)
            column.addWidget(about)
            self.demo_buttons.append(button)
        column.addStretch(1)

    def open_demo(self, title: str) -> None:
        """Open a made-up record, or both of a pair, one under the other."""
        record = next(record for record in RECORDS if record.title == title)
        for path in record.paths:
            self._shelf.open(path)
        self._shelf.compare_next = len(record.paths) > 1

    def _row_chosen(self, row: int) -> None:
        if row >= 0 and row != self._shelf.number:
            self._shelf.choose(row)

    def _other_chosen(self, row: int) -> None:
        self._shelf.compare(self.other.itemData(row))

    def show_model(self) -> None:
        """Show what is open and chosen."""
        shelf, item = self._shelf, self._shelf.chosen
        with QSignalBlocker(self.list), QSignalBlocker(self.other), QSignalBlocker(self.how):
            names = [opened.record.name for opened in shelf.opened]
            if [self.list.item(k).text() for k in range(self.list.count())] != names:  # type: ignore[union-attr]
                self.list.clear()
                self.list.addItems(names)
            self.list.setCurrentRow(shelf.number if names else -1)
            self.other.clear()
            self.other.addItem(NO_OTHER, None)
            for number, name in enumerate(names):
                if number != shelf.number:
                    self.other.addItem(name, number)
            self.other.setCurrentIndex(max(self.other.findData(shelf.compared), 0))
            self.how.setCurrentIndex(HOWS.index(shelf.how_aligned))
        self.list.setVisible(bool(names))
        self.list.setFixedHeight(min(len(names), 5) * 26 + 6)
        self.demos.setVisible(not names)
        for button in (self.join_button, self.remove_button):
            button.setEnabled(bool(names))
        for widget in self._of_record:
            widget.setVisible(item is not None)
        several = len(names) > 1
        for widget in (self.compare_head, self.other):
            widget.setVisible(several)
        self.how.setVisible(several and shelf.compared is not None)
        if item is None:
            return
        self.read_as.setText(str(item.record.recognised))
        self.columns_button.setText("Columns, set right" if item.corrections.given else "Columns")
        self._show_findings(item.record.findings)

    def _show_findings(self, findings: tuple[Finding, ...]) -> None:
        emptied(self._found_column)
        self.finding_rows: list[FindingRow] = []
        for finding in findings:
            row = FindingRow(self._shelf, finding)
            row.asked.connect(self.place_asked)
            self._found_column.addWidget(row)
            self.finding_rows.append(row)
        if not findings:
            self._found_column.addWidget(label("Nothing is wrong with it.", "quiet"))
        self._found_column.addStretch(1)

    def tab_order(self) -> list[QWidget]:
        """What the Tab key reaches."""
        rows = [widget for row in getattr(self, "finding_rows", []) for widget in (row.treated, row.show_button)]
        demos: list[QWidget] = list(self.demo_buttons)
        heads: list[QWidget] = [self.open_button, self.join_button, self.remove_button, self.list]
        return [*heads, *demos, self.columns_button, *rows, self.other, self.how]
