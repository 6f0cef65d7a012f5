"""Random numbers for compiled steps: the same series, by the same seed, in Python and in C.

The generator is MT19937 with pairs of the polar method, as NumPy's RandomState has them; each thread has its own.
"""

from __future__ import annotations

import threading

import numpy as np

from calor.compiled.foreign import in_c
from calor.compiled.kinds import NOTHING, REAL

_OWN = threading.local()


@in_c("noise_seed", NOTHING)
def seed(number: int) -> None:
    """Begin the series of `number`, 0 to 2³² − 1."""
    _OWN.numbers = np.random.RandomState(number)


@in_c("noise_normal", REAL)
def normal() -> float:
    """The next number of a normal distribution of mean 0 and standard deviation 1."""
    return float(_OWN.numbers.standard_normal())
