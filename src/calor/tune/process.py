"""What is to be tuned, linear around a working point: from the demand of one control step to the reading of the next.

Load and probe are stepped by the very functions of the loop, a little to each side of the working point, so that any
load is taken as it is: the matrices are those of its exact sampling under a held output. The load's dead time and half
a window of the drive are delays; the filter's own response comes on top. Source: K. J. Åström and B. Wittenmark,
Computer-Controlled Systems (1997), chapter 2.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, fields
from functools import cached_property, lru_cache
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.drive.relay import Relay
from calor.drive.time_proportional import TimeProportional
from calor.errors import CalorError
from calor.load import registry as loads
from calor.load.registry import AnyLoad, LoadNumbers
from calor.load.state import LoadState, Surroundings
from calor.loop.advance import advance
from calor.sense import filters
from calor.sense.filters import ExponentialFilter, MeanFilter, MedianFilter

Matrix = npt.NDArray[np.float64]
Complex = npt.NDArray[np.complex128]
PLACES = 4
"""What is followed: the load's three temperatures, and the probe's."""
ASIDE_CELSIUS, ASIDE_OUTPUT = 1e-3, 1e-4
LOOK_S = 1.0
POINTS = 3000
SLOWEST_SHARE = 1e-5
"""At so many frequencies a loop is looked at, from such a share of half the sampling on."""


class Working(NamedTuple):
    """Where it is tuned: the temperature, the output that holds it (below 0 it cools), the ambient."""

    celsius: float
    output: float
    ambient_celsius: float


@dataclass(frozen=True, eq=False)
class Process:
    """A sampled linear process around a working point.

    x ← transition·x + early·u(k − d − 1) + late·u(k − d), y = the probe's place; °C per full output. `rise_celsius` is
    what full output would change in the end, infinite where it integrates. Two are equal where all their numbers are.
    """

    at: Working
    period_s: float
    dead_time_s: float
    transition: Matrix
    early: Matrix
    late: Matrix
    delay_steps: int
    filter: Any
    rise_celsius: float
    time_constant_s: float

    @cached_property
    def _content(self) -> tuple[Any, ...]:
        parts = (getattr(self, one.name) for one in fields(self))
        return tuple(part.tobytes() if isinstance(part, np.ndarray) else part for part in parts)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Process) and self._content == other._content

    def __hash__(self) -> int:
        return hash(self._content)

    @property
    def integrates(self) -> bool:
        """Whether it settles nowhere by itself."""
        return not math.isfinite(self.rise_celsius)

    def response(self, omega: npt.NDArray[np.float64]) -> Complex:
        """°C of reading, filtered, per full output at angular frequencies `omega` below half the sampling, 1/s."""
        z = np.exp(1j * omega * self.period_s)
        system = z[:, None, None] * np.eye(PLACES) - self.transition
        given = self.late[None, :] + self.early[None, :] / z[:, None]
        place = np.linalg.solve(system, given[:, :, None])[:, PLACES - 1, 0]
        return np.asarray(place * z ** (-self.delay_steps) * _filtered(self.filter, z, self.period_s))

    @cached_property
    def frequencies(self) -> npt.NDArray[np.float64]:
        """Angular frequencies at which a loop is looked at, up to half the sampling, 1/s."""
        top = math.pi / self.period_s
        slow = 0.02 / self.time_constant_s if math.isfinite(self.time_constant_s) and self.time_constant_s else top
        low = min(SLOWEST_SHARE * top, slow, 0.01 / max(self.dead_time_s, self.period_s))
        return np.geomspace(low, top * (1.0 - 1e-9), POINTS)

    @cached_property
    def frequency_response(self) -> Complex:
        """The response at its frequencies: the same whatever gains are tried on it."""
        return self.response(self.frequencies)

    def step(self, size: float, steps: int) -> npt.NDArray[np.float64]:
        """What a step of the output at row 0 changes in the unfiltered reading, °C, row by row."""
        x, out = np.zeros(PLACES), np.zeros(steps)
        for k in range(steps):
            out[k] = x[PLACES - 1]
            x = self.transition @ x
            if k >= self.delay_steps:
                x = x + self.late * size
            if k >= self.delay_steps + 1:
                x = x + self.early * size
        return out


def _filtered(settings: Any, z: Complex, period_s: float) -> Complex:
    """The response of the filter on the readings; a median counts as its delay."""
    if isinstance(settings, ExponentialFilter):
        share = period_s / (settings.time_constant_s + period_s)
        return np.asarray(share / (1.0 - (1.0 - share) / z))
    if isinstance(settings, MeanFilter):
        total: Complex = np.zeros_like(z)
        for k in range(settings.readings):
            total = total + z ** (-k)
        return total / settings.readings
    if isinstance(settings, MedianFilter):
        return np.asarray(z ** (-filters.delay_s(settings, period_s) / period_s))
    return np.ones_like(z)


RELAY_WINDOW_S = 20.0
"""The window of a relay that is to give shares: the shortest that is usual (common practice)."""


def proportional(design: Design) -> Design:
    """The design with windows in place of relays that give all or nothing: gains want shares of full output."""
    changed: dict[str, Any] = {}
    for key in ("drive", "second_drive"):
        drive = getattr(design, key)
        if isinstance(drive, Relay):
            kept = {name: value for name, value in drive.model_dump().items() if name in TimeProportional.model_fields}
            own = {"kind": "time_proportional", "window_s": RELAY_WINDOW_S, "switch": "relay"}
            changed[key] = TimeProportional.model_validate(kept | own)
    return design.model_copy(update=changed) if changed else design


def inputs_of(design: Design, output: float) -> tuple[float, float]:
    """What an output, below 0 to cooling, gives to the load's two inputs."""
    first, second = design.output_weights()
    both = design.law.action == "heat_cool" and len(first) > 1
    given = [max(output, 0.0), max(-output, 0.0)] if both else [output]
    if design.law.kind == "stages":
        given = [output] * len(first)
    return (
        sum(weight * share for weight, share in zip(first, given, strict=False)),
        sum(weight * share for weight, share in zip(second, given, strict=False)),
    )


class _Flow:
    """Load and probe after some time from any place and output, by the loop's own steps."""

    def __init__(self, design: Design, ambient_celsius: float) -> None:
        self._design = design
        self._load: LoadNumbers = loads.numbers(design.load)
        self._lag_s = float(getattr(design.probe, "time_constant_s", 0.0))
        self._around = Surroundings(ambient_celsius, 0.0, design.trial[0].humidity if design.trial else 0.6, 0.0)

    def after(self, place: Matrix, output: float, dt_s: float) -> Matrix:
        """The place after `dt_s`."""
        if dt_s <= 0.0:
            return place
        state = LoadState(float(place[0]), float(place[1]), float(place[2]), 0.0)
        level, second = inputs_of(self._design, output)
        state, probe = advance(self._load, state, self._lag_s, float(place[3]), level, second, self._around, dt_s)
        return np.array([state.celsius, state.source_celsius, state.store_celsius, probe])

    def by_place(self, place: Matrix, output: float, dt_s: float) -> Matrix:
        """How the place after `dt_s` changes with the place before."""
        sides = ASIDE_CELSIUS * np.eye(PLACES)
        columns = [(self.after(place + d, output, dt_s) - self.after(place - d, output, dt_s)) for d in sides]
        return np.column_stack(columns) / (2.0 * ASIDE_CELSIUS)

    def by_output(self, place: Matrix, output: float, dt_s: float) -> Matrix:
        """How the place after `dt_s` changes with the output over it."""
        above, below = output + ASIDE_OUTPUT, output - ASIDE_OUTPUT
        return (self.after(place, above, dt_s) - self.after(place, below, dt_s)) / (2.0 * ASIDE_OUTPUT)


def _at_rest(flow: _Flow, celsius: float, output: float, look_s: float) -> tuple[Matrix, float] | None:
    """The place at rest at a temperature and the output that holds it, sought from an output; None: not found."""
    place = np.array([celsius, celsius, celsius, celsius])
    for _ in range(30):
        away = flow.after(place, output, look_s) - place
        slopes = np.column_stack(
            (flow.by_place(place, output, look_s) - np.eye(PLACES), flow.by_output(place, output, look_s))
        )
        free = [1, 2, 3, 4]  # the temperature itself stays
        by, *_ = np.linalg.lstsq(slopes[:, free], -away, rcond=1e-10)
        by[3] = float(np.clip(by[3], -0.5, 0.5))
        place, output = place + np.array([0.0, by[0], by[1], by[2]]), float(output + by[3])
        if not np.all(np.isfinite(place)) or abs(output) > 5.0:
            return None
        if np.abs(by).max() < 1e-8 * max(1.0, abs(celsius)):
            break
    away = flow.after(place, output, look_s) - place
    return (place, output) if np.abs(away).max() < 1e-5 * max(1.0, look_s) else None


def _look_s(load: AnyLoad) -> float:
    """A time over which a load moves as its slopes say."""
    return min(LOOK_S, 0.5 * loads.numbers(load).step_s)


@lru_cache(maxsize=32)
def process_of(design: Design, celsius: float | None = None, ambient_celsius: float | None = None) -> Process:
    """What the design's law acts on around `celsius`, the setpoint where it is left out.

    Raises CalorError where no output holds that temperature.
    """
    design = proportional(design)
    at = float(design.setpoint.celsius if celsius is None else celsius)
    ambient = float(design.load.ambient_celsius if ambient_celsius is None else ambient_celsius)
    flow, period_s = _Flow(design, ambient), float(design.law.period_s)
    lowest = -1.0 if design.law.action == "heat_cool" else 0.0
    found = None
    for start in (0.1, 0.5, 0.9, *((-0.3, -0.8) if lowest < 0.0 else ())):
        rest = _at_rest(flow, at, start, _look_s(design.load))
        if rest is not None and lowest - 1e-6 <= rest[1] <= 1.0 + 1e-6:
            found = rest
            break
    if found is None:
        ends = [loads.settled_celsius(design.load, level, ambient) for level in (1.0, 0.0)]
        said = f"full output settles at {ends[0]:.4g} °C, none at {ends[1]:.4g} °C"
        if not all(map(math.isfinite, ends)):
            said = "it drifts by itself the way that the output drives it"
        raise CalorError(
            "working point", f"no output holds {at:g} °C at {ambient:g} °C ambient: {said}", "",
            "choose a setpoint in between, more power, or another ambient",
        )  # fmt: skip
    place, output = found[0], float(np.clip(found[1], lowest, 1.0))
    dead_s = float(design.load.dead_time_s)
    if isinstance(design.drive, TimeProportional):
        dead_s += 0.5 * float(design.drive.window_s)
    whole = math.floor(dead_s / period_s + 1e-9)
    rest_s = max(dead_s - whole * period_s, 0.0)
    transition = flow.by_place(place, output, period_s)
    late = flow.by_output(place, output, period_s - rest_s)
    # what is given over the first part of a step decays over the rest of it
    early = (
        flow.by_place(place, output, period_s - rest_s) @ flow.by_output(place, output, rest_s)
        if rest_s > 0.0
        else np.zeros(PLACES)
    )
    rise, slowest_s = _slow(transition, late + early, period_s)
    return Process(
        Working(at, output, ambient), period_s, dead_s, transition, early, late, whole, design.probe.filter, rise,
        slowest_s,
    )  # fmt: skip


def _slow(transition: Matrix, given: Matrix, period_s: float) -> tuple[float, float]:
    """The rise in the end per full output, and the slowest time constant, s."""
    # a place that the load does not use stays as it is, and counts for nothing
    used = [k for k in range(PLACES) if not _stays(transition, k)]
    part = transition[np.ix_(used, used)]
    values = np.abs(np.linalg.eigvals(part))
    slowest = float(values.max(initial=0.0))
    if slowest > 1.0 - 1e-9:
        return math.inf, math.inf
    place = np.linalg.solve(np.eye(len(used)) - part, given[used])
    time_s = -period_s / math.log(slowest) if slowest > 0.0 else 0.0
    return float(place[-1]), time_s


def _stays(transition: Matrix, k: int) -> bool:
    """Whether a place is moved by nothing, and moves nothing."""
    alone = np.zeros(PLACES)
    alone[k] = 1.0
    return bool(
        k < PLACES - 1
        and np.allclose(transition[k], alone, atol=1e-12)
        and np.allclose(transition[:, k], alone, atol=1e-12)
    )
