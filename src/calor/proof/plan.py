"""All runs of a proof, numbered: a number alone tells what is run, whichever others are.

First each trial as designed, then each with one fault, then each with one tolerance at one of its ends, then each with
all tolerances drawn together: the points of a scrambled Sobol' sequence, trial by trial. The drawn ones are the last,
so that there may be any number of them.
Source: I. M. Sobol', USSR Computational Mathematics and Mathematical Physics 7 (1967); scrambled by A. B. Owen's
method as scipy.stats.qmc does it.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from functools import cached_property
from typing import Any, NamedTuple

from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.proof.faults import Fault, faults_of, instants_s
from calor.proof.tolerances import nominal, tolerances_of

DESIGNED, FAULT, CORNER, DRAWN = "designed", "fault", "corner", "drawn"
BLOCK, MOST_BLOCKS = 64, 64
"""So many points of the sequence are made at a time, and so many times that are held."""
LARGEST_SEED = 2**31 - 1


class Case(NamedTuple):
    """One run: its number, what kind it is, in which trial (from 0), and what is different in it.

    `name` is the fault's or the tolerance's, with the end it is at; `values` are all tolerances; `seed` the noise's.
    """

    number: int
    kind: str
    trial: int
    name: str
    title: str
    values: tuple[float, ...]
    seed: int
    fault: Fault | None = None
    at_s: float = 0.0


class Plan:
    """The runs of a design's proof."""

    def __init__(self, design: Design, seed: int | None = None) -> None:
        self.design = design
        self.seed = design.proof.seed if seed is None else seed
        self.tolerances = tolerances_of(design)
        self.faults, self.not_tried = faults_of(design)
        self.healthy: dict[int, Any] = {}
        """What each trial comes to as designed, by its number, as far as it was run."""
        self._lock = threading.Lock()
        self._blocks: dict[int, Any] = {}
        self._sequence: Any = None
        self._next = 0

    @cached_property
    def fixed(self) -> tuple[Case, ...]:
        """All runs but the drawn ones, in the order of their numbers."""
        listed: list[Case] = []
        usual = nominal(self.design)

        def add(kind: str, trial: int, name: str, title: str, **more: Any) -> None:
            values = more.pop("values", usual)
            listed.append(
                Case(len(listed) + 1, kind, trial, name, title, values, self.design.trial[trial].seed, **more)
            )

        for trial in range(len(self.design.trial)):
            add(DESIGNED, trial, DESIGNED, "As designed")
        for trial, own in enumerate(self.design.trial):
            for fault in self.faults:
                for at_s in instants_s(fault, self.design, own):
                    add(FAULT, trial, fault.name, fault.title, fault=fault, at_s=at_s)
        for trial in range(len(self.design.trial)):
            for place, one in enumerate(self.tolerances):
                for end, value in (("low", one.low), ("high", one.high)):
                    if value == one.nominal:
                        continue
                    values = (*usual[:place], value, *usual[place + 1 :])
                    add(CORNER, trial, f"{one.name}:{end}", f"{one.title} {one.shown(value)}", values=values)
        return tuple(listed)

    def case(self, number: int) -> Case:
        """The run of a number. Raises CalorError where there is none."""
        if number < 1 or number - len(self.fixed) > 100_000_000:
            raise CalorError("proof run", "is numbered from 1", str(number), "calor prove --json lists the numbers")
        if number <= len(self.fixed):
            return self.fixed[number - 1]
        place, trial = divmod(number - len(self.fixed) - 1, len(self.design.trial))
        seed = (self.design.trial[trial].seed + number) % (LARGEST_SEED + 1)
        return Case(number, DRAWN, trial, DRAWN, f"Draw {place + 1}", self._values(place), seed)

    def _values(self, place: int) -> tuple[float, ...]:
        """All tolerances of a draw, from 0."""
        if not self.tolerances:
            return ()
        levels = self._block(place // BLOCK)[place % BLOCK]
        return tuple(one.value_at(float(level)) for one, level in zip(self.tolerances, levels, strict=True))

    def _block(self, number: int) -> Any:
        """Points of the sequence, so many at a time; of those made only the last ones are held.

        A run may be opened while others are drawn: the sequence goes on for one of them at a time.
        """
        with self._lock:
            return self._drawn(number)

    def _drawn(self, number: int) -> Any:
        if number not in self._blocks:
            if self._sequence is None or self._next != number:
                self._sequence = self._new_sequence()
                if number:
                    self._sequence.fast_forward(number * BLOCK)
            self._blocks[number] = self._sequence.random(BLOCK)
            self._next = number + 1
            if len(self._blocks) > MOST_BLOCKS:
                self._blocks.pop(next(iter(self._blocks)))
        return self._blocks[number]

    def _new_sequence(self) -> Any:
        import numpy as np
        from scipy.stats import qmc

        return qmc.Sobol(len(self.tolerances), scramble=True, rng=np.random.default_rng(self.seed))

    def chosen(self, runs: int, faults: bool = True, tolerances: bool = True) -> Iterator[Case]:
        """The runs with faults, or with tolerances, or both; each trial as designed goes before them."""
        for one in self.fixed:
            if one.kind == DESIGNED or (faults if one.kind == FAULT else tolerances):
                yield one
        if tolerances:
            first = len(self.fixed) + 1
            yield from (self.case(number) for number in range(first, first + runs * len(self.design.trial)))

    def count(self, runs: int, faults: bool = True, tolerances: bool = True) -> int:
        """How many runs these are."""
        fixed = sum(one.kind == DESIGNED or (faults if one.kind == FAULT else tolerances) for one in self.fixed)
        return fixed + (runs * len(self.design.trial) if tolerances else 0)

    def trial_of(self, case: Case) -> Trial:
        """The trial that a run is in, without its fault."""
        return self.design.trial[case.trial]
