"""The law's seat: what decides in a run in place of the built-in probe scaling, setpoint, law and guards.

A program is called by its address at every control step, through memory: what it is given, and the row it answers.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from llvmlite import ir
from numba import types
from numba.extending import intrinsic

from calor.law.outputs import MOST_OUTPUTS

GIVEN = ("counts", "other_celsius", "hand_output", "setpoint_celsius", "restart")
"""What a program is given, each a float: counts (°C for an ideal probe), a second temperature or signal, the output set
by hand, a setpoint put in from outside (NaN: none), and whether it starts afresh."""
COUNTS, OTHER, BY_HAND, PUT_IN, RESTART = range(len(GIVEN))
MEASURED, SETPOINT, FLAGS, ALARMS, DEMANDS_FROM = range(5)
"""Columns of the row it answers; then demand and ticks of each output."""


class Seat(NamedTuple):
    """A program in the law's seat: the addresses of its function and its state; what it is given and what it
    answers."""

    address: int
    state_address: int
    given: npt.NDArray[np.float32]
    row: npt.NDArray[np.float32]


def seat_of(address: int, state_address: int) -> Seat:
    """A seat for a function `void f(void *state, const float *given, float *row)`."""
    return Seat(
        address, state_address, np.zeros(len(GIVEN), np.float32), np.zeros(DEMANDS_FROM + 2 * MOST_OUTPUTS, np.float32)
    )


def built_in() -> Seat:
    """Nobody: the built-in law decides."""
    return seat_of(0, 0)


@intrinsic  # type: ignore[untyped-decorator, unused-ignore]
def call_address(context: Any, address: Any, state: Any, given: Any, row: Any) -> Any:
    """Call the function at an address with three addresses; on every 64-bit Linux they go as pointers do."""
    del context, address, state, given, row
    word = types.intp

    def code(target: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        del signature
        size = ir.IntType(64)
        function = ir.FunctionType(ir.VoidType(), [size, size, size])
        builder.call(builder.inttoptr(arguments[0], function.as_pointer()), arguments[1:])
        return target.get_dummy_value()

    return types.void(word, word, word, word), code
