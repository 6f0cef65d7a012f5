"""Calor: a workbench for building a microcontroller thermostat."""

__version__ = "0.1.0"
