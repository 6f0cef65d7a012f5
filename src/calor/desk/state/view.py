"""What of the design is looked at, and how: the unit of temperatures, the open bench, the room."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from calor.desk.state.places import Remembered
from calor.units import TEMPERATURE_UNITS, TemperatureUnit


class View(QObject):
    """Unit, bench and room."""

    unit_changed = pyqtSignal()
    bench_chosen = pyqtSignal(str, str)
    """A block's bench, and the setting on it that is asked for; empty: none."""
    room_chosen = pyqtSignal(str)
    command_asked = pyqtSignal(str)
    """A command by its name: what one part of the window wants of another."""

    design_offered = pyqtSignal(str, str, object, str)
    """A design without a file: its text, where it is from, the folder of the files it names, and a trial of it."""

    record_offered = pyqtSignal(object)
    """A recorded run, by its path, for the room that reads such."""

    def __init__(self, remembered: Remembered) -> None:
        super().__init__()
        self._remembered = remembered
        unit = remembered.get("unit", "°C")
        self.unit: TemperatureUnit = unit if unit in TEMPERATURE_UNITS else "°C"
        self.bench = "law"
        self.room = ""
        self._room_before = ""

    def set_unit(self, unit: TemperatureUnit) -> None:
        """Show all temperatures in `unit`."""
        if unit != self.unit:
            self.unit = unit
            self._remembered.put("unit", unit)
            self.unit_changed.emit()

    def next_unit(self) -> None:
        """The next of °C, °F and K."""
        self.set_unit(TEMPERATURE_UNITS[(TEMPERATURE_UNITS.index(self.unit) + 1) % len(TEMPERATURE_UNITS)])

    def choose_bench(self, block: str, key: str = "") -> None:
        """Open a block's bench, at one of its settings where `key` is given."""
        self.bench = block
        self.bench_chosen.emit(block, key)

    def choose_room(self, name: str) -> None:
        """Go into another room."""
        if name != self.room:
            self._room_before, self.room = self.room, name
            self.room_chosen.emit(name)

    def go_back(self) -> None:
        """Go into the room that was left last."""
        if self._room_before:
            self.choose_room(self._room_before)

    def offer_design(self, text: str, name: str, folder: Path, trial: str) -> None:
        """Have a design opened that has no file yet, after asking about what is unsaved."""
        self.design_offered.emit(text, name, folder, trial)

    def offer_record(self, path: Path) -> None:
        """Have a recorded run opened in the Logs room."""
        self.record_offered.emit(path)

    def ask(self, command: str) -> None:
        """Have a command carried out."""
        self.command_asked.emit(command)
