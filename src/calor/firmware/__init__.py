"""Firmware: C99 of a design, run on the host and on emulated chips, and held against the simulation."""
