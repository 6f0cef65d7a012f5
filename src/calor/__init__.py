"""Calor: a workbench for building a microcontroller thermostat."""

from calor.unplugged import unplug

__version__ = "0.1.0"

unplug()
