"""The loop: a design run under a trial, step by step, and what came of it."""

from calor.loop.run import Stopped, replay, run
from calor.loop.trace import Flag, Trace

__all__ = ["Flag", "Stopped", "Trace", "replay", "run"]
