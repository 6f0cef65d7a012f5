"""The law's seat: what decides in a run in place of the built-in probe scaling, setpoint, law and guards.

A program is called by its address at every control step, through memory: what it is given, and the row it answers.
"""

from __future__ import annotations

import ctypes
from typing import NamedTuple

import numpy as np

from calor.compiled import Singles
from calor.compiled.foreign import in_c
from calor.compiled.kinds import NOTHING
from calor.law.outputs import MOST_OUTPUTS
from calor.loop import answer_row

GIVEN = ("counts", "other_celsius", "hand_output", "setpoint_celsius", "restart", "tune")
"""What a program is given, each a float: counts (°C for an ideal probe), a second temperature or signal, the output set
by hand, a setpoint put in from outside (NaN: none), whether it starts afresh, and whether self-tuning is to start."""
COUNTS, OTHER, BY_HAND, PUT_IN, RESTART, TUNE = range(len(GIVEN))


class Seat(NamedTuple):
    """A program in the law's seat: the addresses of its function and its state; what it is given and what it answers,
    and whether that says which alarms are raised."""

    address: int
    state_address: int
    given: Singles
    row: Singles
    has_alarms: bool


def seat_of(address: int, state_address: int, has_alarms: bool = True) -> Seat:
    """A seat for a function `void f(void *state, const float *given, float *row)`."""
    return Seat(
        address, state_address, np.zeros(len(GIVEN), np.float32), np.zeros(answer_row.width(MOST_OUTPUTS), np.float32),
        has_alarms,
    )  # fmt: skip


def built_in() -> Seat:
    """Nobody: the built-in law decides."""
    return seat_of(0, 0)


@in_c("call_address", NOTHING)
def call_address(address: int, state_address: int, given: Singles, row: Singles) -> None:
    """Call the function at an address with its state, what it is given, and the row it answers."""
    function = ctypes.CFUNCTYPE(None, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)(address)
    function(state_address, given.ctypes.data, row.ctypes.data)
