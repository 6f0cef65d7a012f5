"""Thermocouples by letter on the ITS-90 scale: millivolt at a temperature, against 0 °C, and back.

Source: NIST Monograph 175 (1993), the reference functions of the letters B E J K N R S T, the same as IEC 60584-1,
and their inverse polynomials, which err by up to 0.06 °C as the standard states.
"""

from __future__ import annotations

import math
from typing import Literal, get_args

import numpy as np

from calor.compiled import compiled
from calor.sense.its90_tables import FORWARD, GAUSSIAN, INVERSE

SLACK_MILLIVOLT = 1e-3
"""So far beyond the ends of the inverse polynomials still counts as the end: they are given rounded."""
Letter = Literal["B", "E", "J", "K", "N", "R", "S", "T"]
LETTERS: tuple[Letter, ...] = get_args(Letter)

# arrays that compiled code takes as constants: [letter, piece, number]
_MOST_FORWARD, _MOST_INVERSE = max(map(len, FORWARD.values())), max(map(len, INVERSE.values()))
_ENDS = np.full((len(LETTERS), _MOST_FORWARD + 1), np.inf)
_POLYNOMIALS = np.zeros((len(LETTERS), _MOST_FORWARD, max(len(p[2]) for f in FORWARD.values() for p in f)))
_GAUSSIAN = np.array([GAUSSIAN.get(letter, (0.0, 0.0, 0.0)) for letter in LETTERS])
_BACK_ENDS = np.full((len(LETTERS), _MOST_INVERSE + 1), np.inf)
_BACK_SHAPE = np.ones((len(LETTERS), _MOST_INVERSE, 2))
_BACK = np.zeros((len(LETTERS), _MOST_INVERSE, max(len(p[4]) for f in INVERSE.values() for p in f)))
_PIECES = np.array([(len(FORWARD[letter]), len(INVERSE[letter])) for letter in LETTERS])
for _k, _letter in enumerate(LETTERS):
    for _j, (_low, _high, _given) in enumerate(FORWARD[_letter]):
        _ENDS[_k, _j : _j + 2] = _low, _high
        _POLYNOMIALS[_k, _j, : len(_given)] = _given
    for _j, (_low, _high, _middle, _half, _given) in enumerate(INVERSE[_letter]):
        _BACK_ENDS[_k, _j : _j + 2] = _low, _high
        _BACK_SHAPE[_k, _j] = _middle, 1.0 / _half
        _BACK[_k, _j, : len(_given)] = _given


def celsius_range(letter: Letter) -> tuple[float, float]:
    """Temperatures over which the reference function is defined, °C."""
    return FORWARD[letter][0][0], FORWARD[letter][-1][1]


def readable_range(letter: Letter) -> tuple[float, float]:
    """Temperatures that can be told from a voltage, °C: type B has nearly none near room temperature."""
    low, high = celsius_range(letter)
    return max(low, 50.0) if letter == "B" else low, high


@compiled
def celsius_to_millivolt(letter: int, celsius: float) -> float:
    """Voltage in mV against 0 °C; beyond the standard's range the value at its end goes on with its last slope."""
    pieces = _PIECES[letter, 0]
    held = min(max(celsius, _ENDS[letter, 0]), _ENDS[letter, pieces])
    piece = 0
    while piece < pieces - 1 and held > _ENDS[letter, piece + 1]:
        piece += 1
    total, slope = 0.0, 0.0
    for k in range(_POLYNOMIALS.shape[2] - 1, -1, -1):
        slope = slope * held + total
        total = total * held + _POLYNOMIALS[letter, piece, k]
    if _GAUSSIAN[letter, 0] != 0.0 and held > 0.0:
        away = held - _GAUSSIAN[letter, 2]
        bump = _GAUSSIAN[letter, 0] * math.exp(_GAUSSIAN[letter, 1] * away * away)
        total += bump
        slope += 2.0 * _GAUSSIAN[letter, 1] * away * bump
    return float(total + slope * (celsius - held))


@compiled
def millivolt_to_celsius(letter: int, millivolt: float) -> float:
    """Temperature in °C of a voltage against 0 °C; not a number outside the range of the inverse polynomials."""
    pieces = _PIECES[letter, 1]
    if not (_BACK_ENDS[letter, 0] - SLACK_MILLIVOLT <= millivolt <= _BACK_ENDS[letter, pieces] + SLACK_MILLIVOLT):
        return np.nan
    piece = 0
    while piece < pieces - 1 and millivolt > _BACK_ENDS[letter, piece + 1]:
        piece += 1
    x = (millivolt - _BACK_SHAPE[letter, piece, 0]) * _BACK_SHAPE[letter, piece, 1]
    total = 0.0
    for k in range(_BACK.shape[2] - 1, -1, -1):
        total = total * x + _BACK[letter, piece, k]
    return total
