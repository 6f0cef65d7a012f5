"""A resistance in a divider: its share of the supply, and back."""

from __future__ import annotations

import numpy as np

from calor.compiled import compiled


@compiled
def share(ohm: float, series_ohm: float, high_side: bool) -> float:
    """Share of the supply at the pin. `high_side`: the resistance sits between supply and pin."""
    below = ohm / (ohm + series_ohm) if ohm != np.inf else 1.0
    return 1.0 - below if high_side else below


@compiled
def ohm(share_of_supply: float, series_ohm: float, high_side: bool) -> float:
    """Resistance that gives a share of the supply; 0 and infinite at the ends of the divider."""
    below = 1.0 - share_of_supply if high_side else share_of_supply
    if below <= 0.0:
        return 0.0
    if below >= 1.0:
        return np.inf
    return series_ohm * below / (1.0 - below)
