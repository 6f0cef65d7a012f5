"""Write src/calor/sense/its90_tables.py from the coefficients that the package thermocouple-its90 carries.

The standard's inverse polynomials are written in a variable that runs from −1 to 1 over each piece, so that a 32-bit
float is enough to evaluate them; the polynomials stay the same. Below the reach of the standard's inverses the
inverse of the reference function itself is fitted.
"""

from __future__ import annotations

import itertools
from fractions import Fraction
from math import comb
from pathlib import Path
from textwrap import TextWrapper
from typing import Any

import numpy as np
from numpy.polynomial import Chebyshev, Polynomial
from thermocouple_its90 import get
from thermocouple_its90._data import TYPES

TARGET = Path(__file__).parent.parent / "src" / "calor" / "sense" / "its90_tables.py"
BELOW = {"E": (-270.0, -250.0, -200.0), "K": (-270.0, -255.0, -235.0, -200.0), "N": (-270.0, -255.0, -235.0, -200.0),
         "T": (-270.0, -250.0, -200.0), "B": (50.0, 75.0, 120.0, 250.0)}  # fmt: skip
DEGREE = 10
WRAP = TextWrapper(118, subsequent_indent="     ", break_long_words=False, drop_whitespace=True)
HEAD = '''"""Coefficients of the ITS-90 reference functions and of their inverses, by letter.

Source: NIST Monograph 175 (1993) as distributed in NIST Standard Reference Database 60, a work of the United States
government without copyright. Written by tools/make_its90.py. FORWARD: pieces of (lowest °C, highest °C, coefficients
of millivolt in °C, from the constant on). GAUSSIAN: the letter's a0, a1, a2 of a0·exp(a1·(t − a2)²), added above 0 °C.
INVERSE: pieces of (lowest mV, highest mV, middle mV, half width mV, coefficients of °C in x = (mV − middle)/half
width): the standard's own inverse polynomials, and below their reach a fit of the reference function's inverse.
"""

from __future__ import annotations

# fmt: off
Forward = tuple[float, float, tuple[float, ...]]
Inverse = tuple[float, float, float, float, tuple[float, ...]]

'''


def normalised(coefficients: list[float], low: float, high: float) -> list[float]:
    """The polynomial in x = (mV − middle)/half width, worked in fractions."""
    middle, half = (Fraction(low) + Fraction(high)) / 2, (Fraction(high) - Fraction(low)) / 2
    given = [Fraction(repr(c)) for c in coefficients]
    degree = len(given)
    return [
        float(half**k * sum(given[n] * comb(n, k) * middle ** (n - k) for n in range(k, degree))) for k in range(degree)
    ]


def fitted(letter: str, low_celsius: float, high_celsius: float) -> tuple[float, float, list[float], float]:
    """(mV, mV, coefficients, worst error in °C) of a fit to the inverse between two temperatures."""
    emf = np.vectorize(get(letter).emf)
    celsius = low_celsius + (high_celsius - low_celsius) * (1 - np.cos(np.linspace(0, np.pi, 4001))) / 2
    millivolt = emf(celsius)
    low, high = float(millivolt[0]), float(millivolt[-1])
    x = (millivolt - (low + high) / 2) / ((high - low) / 2)
    found = Chebyshev.fit(x, celsius, DEGREE, domain=[-1, 1], w=1 / np.sqrt(np.gradient(celsius, x)))
    error = float(np.abs(found(x) - celsius).max())
    return low, high, [float(c) for c in found.convert(kind=Polynomial).coef], error


def tuple_text(numbers: list[float]) -> str:
    """Numbers as a tuple, a few on a line."""
    return "(" + ", ".join(f"{number!r}" for number in numbers) + ")"


def main() -> None:
    """Write the tables."""
    forward, gaussian, inverse = [], [], []
    for letter, spec in sorted(TYPES.items()):
        data: Any = spec
        pieces = [f"({r['t_min_c']}, {r['t_max_c']}, {tuple_text(r['coeffs'])})" for r in data["forward"]]
        forward.append(f"    {letter!r}: ({', '.join(pieces)},),")
        for r in data["forward"]:
            if r.get("exponential"):
                extra = r["exponential"]
                gaussian.append(f"    {letter!r}: ({extra['a0']!r}, {extra['a1']!r}, {extra['a2']!r}),")
        back = []
        ends = BELOW.get(letter, ())
        for low, high in itertools.pairwise(ends):
            low_mv, high_mv, own, error = fitted(letter, low, high)
            print(f"{letter} {low:g} to {high:g} °C: fitted within {error:.4f} °C")
            back.append((low_mv, high_mv, own))
        for number, r in enumerate(data["inverse"]):
            low_mv = back[-1][1] if number == 0 and back else r["mv_min"]
            # a piece of the standard may begin a rounding away from where the fit ends: they meet
            back.append((low_mv, r["mv_max"], normalised(r["coeffs"], low_mv, r["mv_max"])))
        rows = [
            f"({low!r}, {high!r}, {(low + high) / 2!r}, {(high - low) / 2!r}, {tuple_text(own)})"
            for low, high, own in back
        ]
        inverse.append(f"    {letter!r}: ({', '.join(rows)},),")
    text = HEAD + "FORWARD: dict[str, tuple[Forward, ...]] = {\n" + "\n".join(forward) + "\n}\n\n"
    text += "GAUSSIAN: dict[str, tuple[float, float, float]] = {\n" + "\n".join(gaussian) + "\n}\n\n"
    text += "INVERSE: dict[str, tuple[Inverse, ...]] = {\n" + "\n".join(inverse) + "\n}\n"
    lines = [line for row in text.split("\n") for line in (WRAP.wrap(row) if row.startswith("    ") else [row])]
    TARGET.write_text("\n".join(lines), encoding="utf-8")


if __name__ == "__main__":
    main()
