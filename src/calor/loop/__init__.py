"""The loop: a design run under a trial, step by step, and what came of it."""

from calor.loop.simulate import Stopped, new_control, replay, run, steps_of
from calor.loop.trace import Flag, Trace

__all__ = ["Flag", "Stopped", "Trace", "new_control", "replay", "run", "steps_of"]
