"""Steps that use every construct of the subset, each beside an entry that runs it over columns."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from calor.compiled import Column, Counts, Flags, Singles, Table, compiled, entry, noise

LIMIT, TIMES, OFF = 1.5, 3, False
FAR = -1e18
TABLE_OF = np.array([[1.0, 2.0, np.inf], [0.1, -4.0, 5e-324]])
WHOLE_OF = np.array([3, 1, 2])
Three = tuple[float, float, float]


class Small(NamedTuple):
    """Two numbers and a truth value."""

    a: float
    n: int
    on: bool


class Large(NamedTuple):
    """More than is handed on by value."""

    first: Small
    second: Small
    weights: Three
    flags: tuple[bool, bool]
    double: float


@compiled
def arithmetic(a: float, b: float, n: int, m: int) -> float:
    """Sums and products keep their order; brackets only where they matter."""
    total = a - (b - a) - b * (a + b) - -a
    total -= (a - b) * 2.0
    total = total + n * a - (n - m) - n * (m + 1)
    return total / (a * a + 1.0)


@compiled
def division(a: float, b: float, n: int, m: int) -> float:
    """By zero too: an infinity or NaN."""
    both = float(n) / (abs(m) + 1)
    return a / b + n / (abs(m) + 1) - both


@compiled
def wholes(a: float, b: float, n: int, m: int) -> float:
    """Division of whole numbers goes towards minus infinity, for every sign."""
    divisor = m if m != 0 else 7
    return float((n // divisor) * 1000 + n % divisor + abs(n) - abs(-m))


@compiled
def rest(a: float, b: float, n: int, m: int) -> float:
    """The rest of fractions has the sign of the divisor."""
    return a % (b if b != 0.0 else 1.0)


@compiled
def powers(a: float, b: float, n: int, m: int) -> float:
    """Of numbers that have one."""
    return (abs(a) + 0.5) ** min(max(b, -3.0), 3.0) + min(max(a, -9.0), 9.0) ** 2


@compiled
def extremes(a: float, b: float, n: int, m: int) -> float:
    """The first argument stays where neither is smaller, NaN among them."""
    return min(a, b) + 2.0 * max(a, b, LIMIT) + min(n, m, TIMES) + max(n, a)


@compiled
def comparisons(a: float, b: float, n: int, m: int) -> float:
    """Chains, tuples in place, and truth values side by side."""
    inside = -1.0 <= a < b and n != m
    either = a > b or n in (1, 2, 3) or (a != a and b == np.inf)
    same = inside == either
    return (1.0 if inside else 0.0) + (2.0 if either else 0.0) + (4.0 if same != OFF else 0.0)


@compiled
def conditions(a: float, b: float, n: int, m: int) -> float:
    """Branches, also within a line, and a name of int and float."""
    value = n
    if a > 1.0:
        value = 1.5
    elif a > 0.0 and not b > 0.0:
        value = n if m > 0 else -n
    elif np.isnan(a):
        value = FAR
    else:
        value = value + (m if b > 0.0 else 0.25)
    return value


@compiled
def rounding(a: float, b: float, n: int, m: int) -> float:
    """To whole numbers, down, up and towards zero."""
    held = min(max(a, -1e9), 1e9) if not np.isnan(a) else 0.0
    return math.floor(held) + 10.0 * int(held) + 100.0 * int(np.ceil(held)) + float(n)


@compiled
def functions(a: float, b: float, n: int, m: int) -> float:
    """The maths library, as Python asks it."""
    held = min(max(a, -300.0), 300.0) if not np.isnan(a) else 0.0
    positive = abs(held) + 1e-3
    waves = math.sin(held) + math.cos(held)
    return math.exp(held / 7.0) + math.expm1(held / 9.0) + math.log(positive) + math.sqrt(positive) + waves


@compiled
def loops(a: float, b: float, n: int, m: int) -> float:
    """Up, down, left early, gone on; a name that lives from one round to the next."""
    total, rounds = 0.0, 0
    for k in range(abs(n) % 7):
        if k == 5:
            break
        if k % 2 == 1:
            continue
        total += a * k
    for k in range(TIMES, -1, -1):
        total = total * 0.5 + k
    for _ in range(2, 4):
        total += 1.0
        if rounds > 0:
            total += last  # noqa: F821
        last = total  # noqa: F841
        rounds += 1
    while rounds < 5:
        rounds += 1
    return total + rounds


@compiled
def exchanged(a: float, b: float, n: int, m: int) -> float:
    """Values are worked out before any is given."""
    x, y = a, b
    x, y = y, x
    n, m = m, n + 1
    return x - 3.0 * y + n - 2 * m


@compiled
def shifted(small: Small, by: float) -> Small:
    """An argument that is given another value leaves the caller's alone."""
    if by > 0.0:
        small = Small(small.a + by, n=small.n + 1, on=not small.on)
    return small


@compiled
def weighed(large: Large, n: int) -> tuple[float, int, Small]:
    """Parts of what is given by address, and a tuple indexed by a number that is worked out."""
    first, second = large.first, large.second
    chosen = first if n > 0 else second
    share = large.weights[abs(n) % 3] + large.weights[1]
    return share * chosen.a, chosen.n + (1 if large.flags[0] else 0), Small(second.a, first.n, large.flags[1])


@compiled
def tuples(a: float, b: float, n: int, m: int) -> float:
    """Named and plain tuples, nested, taken apart, handed on by value and by address."""
    small = Small(a, n, b > 0.0)
    large = Large(small, Small(b, m, True), (a, b, 0.5), (a > b, n > m), 0.0)
    moved = shifted(large.first, b)
    share, count, last = weighed(large, n)
    kept = large.second
    large = Large(moved, kept, large.weights, (True, moved.on), a)
    again, _, _ = weighed(large, -n)
    return share + 2.0 * count + (last.a if last.on else 0.25) + again + small.a + kept.a + large.first.n


@compiled
def constants(a: float, b: float, n: int, m: int) -> float:
    """Numbers and arrays of a module."""
    total = 0.0
    for k in range(TABLE_OF.shape[1]):
        total += min(TABLE_OF[abs(n) % 2, k], 1e6) * WHOLE_OF[k]
    return total + LIMIT + math.pi


@compiled
def default(a: float, b: float, n: int, m: int) -> float:
    """Names that are words of C."""
    double, int_, register, exp = a, n, b, m
    short = double + register
    return math.exp(min(max(short, -1.0), 1.0)) + int_ + exp


SCALAR = (
    arithmetic, division, wholes, rest, powers, extremes, comparisons, conditions, rounding, functions, loops,
    exchanged, tuples, constants, default,
)  # fmt: skip


@entry
def all_of_them(which: int, a: Column, b: Column, n: Counts, m: Counts, out: Column) -> None:
    """One of the steps over columns."""
    for k in range(len(a)):
        if which == 0:
            out[k] = arithmetic(a[k], b[k], n[k], m[k])
        elif which == 1:
            out[k] = division(a[k], b[k], n[k], m[k])
        elif which == 2:
            out[k] = wholes(a[k], b[k], n[k], m[k])
        elif which == 3:
            out[k] = rest(a[k], b[k], n[k], m[k])
        elif which == 4:
            out[k] = powers(a[k], b[k], n[k], m[k])
        elif which == 5:
            out[k] = extremes(a[k], b[k], n[k], m[k])
        elif which == 6:
            out[k] = comparisons(a[k], b[k], n[k], m[k])
        elif which == 7:
            out[k] = conditions(a[k], b[k], n[k], m[k])
        elif which == 8:
            out[k] = rounding(a[k], b[k], n[k], m[k])
        elif which == 9:
            out[k] = functions(a[k], b[k], n[k], m[k])
        elif which == 10:
            out[k] = loops(a[k], b[k], n[k], m[k])
        elif which == 11:
            out[k] = exchanged(a[k], b[k], n[k], m[k])
        elif which == 12:
            out[k] = tuples(a[k], b[k], n[k], m[k])
        elif which == 13:
            out[k] = constants(a[k], b[k], n[k], m[k])
        else:
            out[k] = default(a[k], b[k], n[k], m[k])


@entry
def rows(grid: Table, memory: Column, marks: Flags, counted: Counts, single: Singles, seed: int) -> float:
    """Tables, ends of rows, whole numbers, truth values, single precision and random numbers."""
    noise.seed(seed)
    memory[:] = 0.25
    memory[2:] = grid[0, 1]
    for k in range(grid.shape[0]):
        line = grid[k]
        line[0] += noise.normal()
        memory[0], memory[1] = memory[1], memory[0] + line[0]
        marks[k] = line[0] > 0.0
        counted[k] += k // 2
        single[k] = line[0] / 3.0
    tail = memory[1:]
    return tail[0] + len(tail) + float(single[0]) + counted[1]


@entry
def with_tuples(large: Large, small: Small, on: bool, times: int) -> int:
    """Tuples as Python hands them over."""
    found = 0
    for k in range(times):
        share, count, _ = weighed(large, k)
        found += count + (1 if share > small.a and on else 0)
    return found
