"""The connection on the left of the Board room: which port, how fast, and what it speaks; or the stand-in."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from calor.board.link import BAUDS, FRAMINGS, USUAL_BAUD, ports
from calor.board.modbus_map import read_map, shipped_names
from calor.board.stand_in import FAULTS
from calor.desk.board.work import LINES, BoardWork
from calor.desk.state.desk import Desk
from calor.desk.widgets.fields import label, set_role
from calor.errors import CalorError

OTHER = "other map"
NO_PORT = "There is no serial port; plug a board in and look again, or start the stand-in."


class Connection(QWidget):
    """What is chosen here counts for the next connection."""

    def __init__(self, desk: Desk, work: BoardWork) -> None:
        super().__init__()
        self._desk, self._work = desk, work
        self.port, self.speaks, self.baud, self.framing = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.port.setEditable(True)
        self.speaks.addItem("Lines of text", LINES)
        for name, called in shipped_names().items():
            self.speaks.addItem(f"Modbus: {called}", name)
        self.speaks.addItem("Modbus: a map of your own …", OTHER)
        for one in BAUDS:
            self.baud.addItem(str(one), one)
        for framing in FRAMINGS:
            self.framing.addItem(framing, framing)
        for box, name, hint in (
            (self.port, "Serial port", "As this machine calls it; connected boards are listed."),
            (self.speaks, "What it speaks", "The lines of docs/link.md, or Modbus by a map."),
            (self.baud, "Bits in a second", "Bits in a second."),
            (self.framing, "Framing", "Bits, parity (none, even, odd) and stop bits."),
        ):
            box.setAccessibleName(name)
            box.setToolTip(hint)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(3)
            box.setMaxVisibleItems(len(BAUDS))
        self.look, self.connect_button = QPushButton("List ports"), QPushButton("Connect")
        self.stand_in, self.in_loop = QPushButton("Start the stand-in"), QPushButton("Run the trial with it")
        self.look.setToolTip("Look for serial ports again.")
        self.stand_in.setToolTip("The firmware of this design on a line of its own, heating the simulated load.")
        self.in_loop.setToolTip("The board in the loop: it gets simulated counts, and decides; the run is judged.")
        self.fault = QComboBox()
        self.fault.setAccessibleName("Fault of the stand-in")
        self.fault.addItem("Fault of the stand-in …", "")
        for word in (*FAULTS, "reset", "none"):
            self.fault.addItem(word.replace("_", " "), word)
        self.said = label("")
        self.said.setWordWrap(True)
        self._lay_out()
        self.look.clicked.connect(self.look_for_ports)
        self.connect_button.clicked.connect(self.connect_or_not)
        self.stand_in.clicked.connect(work.start_stand_in)
        self.in_loop.clicked.connect(self._loop_or_stop)
        self.fault.activated.connect(self._throw)
        self.speaks.activated.connect(self._choose_map)
        self.port.currentTextChanged.connect(self._recall)
        self.look_for_ports()

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(label("Connection", "heading"))
        for widgets in ((self.port, self.look), (self.speaks,), (self.baud, self.framing)):
            row = QHBoxLayout()
            row.setSpacing(6)
            for place, widget in enumerate(widgets):
                row.addWidget(widget, 1 if place == 0 else 0)
            column.addLayout(row)
        for widget in (self.connect_button, self.stand_in, self.fault, self.in_loop, self.said):
            column.addWidget(widget)

    def tab_order(self) -> list[QWidget]:
        """What the Tab key reaches."""
        return [
            self.port, self.look, self.speaks, self.baud, self.framing, self.connect_button, self.stand_in, self.fault,
            self.in_loop,
        ]  # fmt: skip

    def show_work(self) -> None:
        """Show whether something is on the line, and what was said."""
        work = self._work
        running = work.looped.is_running
        if work.link is not None and self.port.currentText() != work.link.port:
            self.port.setEditText(work.link.port)
        self.connect_button.setText("Disconnect" if work.is_open else "Connect")
        self.connect_button.setEnabled(not running)
        self.stand_in.setEnabled(not work.is_open and not running)
        for box in (self.port, self.speaks, self.baud, self.framing, self.look):
            box.setEnabled(not work.is_open and not running)
        self.fault.setVisible(work.stand_in is not None)
        self.in_loop.setVisible(work.is_open or running)
        if running:
            self.in_loop.setText(f"Stop the run, {work.looped.share * 100.0:.0f} %")
            self.said.setText("The board decides on simulated counts; its own outputs are off.")
        else:
            self.in_loop.setText("Run the trial with it")
            self.said.setText(work.said)
        set_role(self.said, "role", "problem" if work.is_trouble and not running else "")

    def look_for_ports(self) -> None:
        """List the serial ports there are."""
        now = self.port.currentText()
        self.port.clear()
        for one in ports():
            self.port.addItem(one.name)
            self.port.setItemData(self.port.count() - 1, one.what, 3)
        if now:
            self.port.setEditText(now)
        line = self.port.lineEdit()
        if line is not None:
            line.setPlaceholderText("no serial port found")
        self._recall(self.port.currentText())

    def _recall(self, port: str) -> None:
        """As it was chosen for this port last."""
        baud, framing, speaks = self._work.chosen_for(port)
        self.baud.setCurrentIndex(self.baud.findData(baud if baud in BAUDS else USUAL_BAUD))
        self.framing.setCurrentIndex(max(self.framing.findData(framing), 0))
        if self.speaks.findData(speaks) < 0:
            self.speaks.insertItem(self.speaks.count() - 1, f"Modbus: {Path(speaks).stem}", speaks)
        self.speaks.setCurrentIndex(self.speaks.findData(speaks))

    def _choose_map(self, at: int) -> None:
        """Speed and framing are the map's; a map of one's own is a file."""
        speaks = str(self.speaks.itemData(at))
        if speaks == OTHER:
            name, _ = QFileDialog.getOpenFileName(self, "Map of a controller", str(Path.home()), "Maps (*.toml)")
            speaks = name or LINES
            if name and self.speaks.findData(speaks) < 0:
                self.speaks.insertItem(at, f"Modbus: {Path(name).stem}", speaks)
        if speaks != LINES:
            try:
                own = read_map(speaks)
            except CalorError as error:
                self._desk.say("error", str(error))
                self.speaks.removeItem(self.speaks.findData(speaks))
                speaks = LINES
            else:
                self.baud.setCurrentIndex(max(self.baud.findData(own.baud), 0))
                self.framing.setCurrentIndex(max(self.framing.findData(own.framing), 0))
        self.speaks.setCurrentIndex(self.speaks.findData(speaks))

    def connect_or_not(self) -> None:
        """Connect to what is chosen, or close what is open."""
        port = self.port.currentText().strip()
        if self._work.is_open:
            self._work.close()
        elif port:
            baud = int(self.baud.currentData() or USUAL_BAUD)
            self._work.connect_to(port, baud, str(self.framing.currentData()), str(self.speaks.currentData()))
        else:
            self._desk.say("error", NO_PORT)

    def _loop_or_stop(self) -> None:
        if self._work.looped.is_running:
            self._work.looped.stop()
        else:
            self._work.run_in_loop()

    def _throw(self, at: int) -> None:
        word = self.fault.itemData(at)
        if word and self._work.stand_in is not None:
            self._work.stand_in.throw(word)
        self.fault.setCurrentIndex(0)
