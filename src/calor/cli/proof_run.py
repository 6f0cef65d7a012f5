"""One run of a proof by its number, for `calor run --proof-run`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.firmware.controller.own_source import OwnSource
from calor.firmware.controller.seat import seats
from calor.loop.trace import Trace
from calor.proof import kept
from calor.proof.outcome import Outcome, margin_of
from calor.proof.plan import Plan
from calor.proof.running import made, ready


class ProofRun:
    """A run of a proof: its trial with what is put into it, and what comes of it."""

    def __init__(self, design: Design, file: Path, number: int, seed: int | None, controller: str) -> None:
        if seed is None:  # that of the result beside the design, where it is this design's
            found = kept.read(kept.place_of(file))
            if found is not None and found.key == kept.sum_of(design, controller):
                seed = found.seed
        self._plan = Plan(design, seed)
        self._case = self._plan.case(number)
        self.trial: Trial = ready(self._plan, self._case).trial
        self._outcome: Outcome | None = None

    def run(self, controller: str, consented: OwnSource | None, control: npt.NDArray[np.int64]) -> Trace:
        """The run. Raises CalorError where it cannot go on to its end."""
        with seats(self._plan.design, controller, consented) as fresh:
            one = made(self._plan, self._case, fresh, control)
        self._outcome = one.outcome
        if one.trace is None:
            raise CalorError(f"proof run {self._case.number}", one.outcome.failed)
        return one.trace

    def data(self) -> dict[str, Any]:
        """What it is and what came of it, as plain data; `pass` is the proof's."""
        case, outcome = self._case, self._outcome
        assert outcome is not None
        return {
            "pass": outcome.passes if outcome.is_judged else None,
            "proof_run": {
                "number": case.number, "seed": self._plan.seed, "kind": case.kind, "name": case.name,
                "title": case.title, "at_s": outcome.at_s, "noise_seed": case.seed,
                "pass": outcome.passes if outcome.is_judged else None,
                "tolerances": {
                    one.name: value for one, value in zip(self._plan.tolerances, case.values, strict=True)
                },
                "limits": [
                    {
                        "name": one.name, "limit": one.limit, "value": one.value, "pass": one.passes,
                        "margin": margin_of(one),
                    }
                    for one in outcome.limits
                ],
                "highest_celsius": outcome.highest_celsius, "lowest_celsius": outcome.lowest_celsius,
            },
        }  # fmt: skip
