"""Calor: a workbench for building a microcontroller thermostat."""

import os

__version__ = "0.1.0"

# looking for plugins of pydantic's reads the metadata of every installed package, at each start
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "1")
