"""Probes: from degrees to ohms, volts and counts, and back to the degrees the firmware believes."""
