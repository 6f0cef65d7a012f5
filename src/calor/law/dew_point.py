"""Dew point of moist air from temperature and relative humidity, and back.

Source: as calor.moist_air.
"""

from __future__ import annotations

import numpy as np

from calor.compiled import Column
from calor.moist_air import MAGNUS_A_PASCAL, MAGNUS_B, MAGNUS_C_CELSIUS

LEAST_HUMIDITY = 1e-4


def dew_point_celsius(celsius: Column | float, humidity: Column | float) -> Column:
    """Dew point in °C of air at `celsius` with a relative humidity of 0 to 1."""
    t = np.asarray(celsius, dtype=np.float64)
    log_ratio = np.log(np.clip(humidity, LEAST_HUMIDITY, 1.0)) + MAGNUS_B * t / (MAGNUS_C_CELSIUS + t)
    return np.asarray(MAGNUS_C_CELSIUS * log_ratio / (MAGNUS_B - log_ratio))


def vapour_pascal(celsius: Column | float) -> Column:
    """Saturation vapour pressure over water, Pa."""
    t = np.asarray(celsius, dtype=np.float64)
    with np.errstate(all="ignore"):  # far outside its range the formula has a pole, and means nothing
        return np.asarray(MAGNUS_A_PASCAL * np.exp(MAGNUS_B * t / (MAGNUS_C_CELSIUS + t)))
