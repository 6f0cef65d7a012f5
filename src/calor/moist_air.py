"""Vapour pressure of water: the one place of its coefficients.

Magnus form with the coefficients of Alduchov & Eskridge (1996), J. Appl. Meteorol. 35, 601–609, as recommended by
Lawrence (2005), Bull. Am. Meteorol. Soc. 86, 225–233: within 0.4 % of the vapour pressure from −40 to 50 °C.
"""

from __future__ import annotations

import math

from calor.compiled import compiled

MAGNUS_B = 17.625
MAGNUS_C_CELSIUS = 243.04
MAGNUS_A_PASCAL = 610.94


@compiled
def saturation_pascal(celsius: float) -> float:
    """Saturation vapour pressure over water, Pa."""
    return MAGNUS_A_PASCAL * math.exp(MAGNUS_B * celsius / (MAGNUS_C_CELSIUS + celsius))
