"""A program for a bare chip beside the load of its design: voltages at its converter, heat from its pins."""

from __future__ import annotations

import math
from collections import deque
from typing import NamedTuple, Protocol

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.design.trial import Trial
from calor.firmware.sources.generate import outputs_of
from calor.load import registry as loads
from calor.load.state import Surroundings
from calor.loop.advance import advance
from calor.sense import reading
from calor.sense.mounting import WHOLE
from calor.sense.registry import has_converter
from calor.sense.registry import numbers as probe_numbers


class Pins(NamedTuple):
    """The share of a stretch in which pins were high: the switched outputs by number, the channels of pulse widths, and
    the supplies that they switch."""

    switched: tuple[float, ...]
    pulse_widths: tuple[float, ...]
    supplies: tuple[float, ...]


class Board(Protocol):
    """A chip with its program; `said` is what it sent over its line, `resets` how often its watchdog restarted it."""

    said: bytes
    resets: int

    def send(self, letters: bytes) -> None:
        """Letters that come over its line in the next stretch."""

    def press(self, *keys: str) -> None:
        """Which contacts are closed from here on: up, down, set, button."""

    def restart(self) -> None:
        """Reset it before the next stretch; what it keeps stays."""

    def run(self, milliseconds: int, shares: tuple[float, float], full_volt: float) -> Pins:
        """Run it for a while with these shares of the reference at sensor and knob."""


class Heated(NamedTuple):
    """The load beside a board: at the end of each stretch its temperature, the share of full of each output in it."""

    time_s: npt.NDArray[np.float64]
    celsius: npt.NDArray[np.float64]
    levels: npt.NDArray[np.float64]


class Bench:
    """A load with a probe, whose outputs a board switches."""

    def __init__(self, design: Design, board: Board, start_celsius: float, stretch_s: float = 0.05) -> None:
        self.design, self.board = design, board
        self._load, self._probe = loads.numbers(design.load), probe_numbers(design.probe)
        self._state = loads.start(start_celsius, design.load)
        self._probe_celsius = start_celsius
        self._outputs, self._weights = outputs_of(design), design.output_weights()
        self._milliseconds = round(1000.0 * stretch_s)
        none = (0.0,) * len(self._outputs)
        self._on_their_way = deque([none] * math.floor(design.load.dead_time_s / stretch_s + 0.5))
        self._around = Surroundings(design.load.ambient_celsius, 0.0, Trial().humidity, 0.0)
        self.wiring, self.time_s, self.knob_share = WHOLE, 0.0, 0.0

    @property
    def celsius(self) -> float:
        """Temperature of the load."""
        return float(self._state.celsius)

    def run(self, seconds: float) -> Heated:
        """Board and load for a while."""
        rows: list[tuple[float, float, tuple[float, ...]]] = []
        for _ in range(round(1000.0 * seconds / self._milliseconds)):
            levels = self._stretch()
            rows.append((self.time_s, self.celsius, levels))
        time_s, celsius, every = zip(*rows, strict=True)
        return Heated(np.array(time_s), np.array(celsius), np.array(every))

    def _stretch(self) -> tuple[float, ...]:
        stretch_s = self._milliseconds / 1000.0
        pins = self.board.run(self._milliseconds, (self._share(), self.knob_share), self._full_volt())
        levels = self._levels(pins)
        self._on_their_way.append(levels)
        first, second = (
            sum(weight * level for weight, level in zip(weights, self._on_their_way[0], strict=True))
            for weights in self._weights
        )
        self._on_their_way.popleft()
        self._state, self._probe_celsius = advance(
            self._load, self._state, self._probe.time_constant_s, self._probe_celsius, first, second, self._around,
            stretch_s,
        )  # fmt: skip
        self.time_s += stretch_s
        return levels

    def _levels(self, pins: Pins) -> tuple[float, ...]:
        """The share of full of each output: what is active low is on at a low level."""
        pulse_widths, supplies = iter(pins.pulse_widths), iter(pins.supplies)
        levels = []
        for number, output in enumerate(self._outputs):
            if output.switches and output.timing is None:
                high = pins.switched[number]
                levels.append(1.0 - high if output.active_low else high)
                continue
            width, supply = next(pulse_widths), next(supplies)
            is_switched = output.timing is not None and output.drive.pwm.supply_switch
            levels.append(width * supply if is_switched else width)
        return tuple(levels)

    def _full_volt(self) -> float:
        return float(self.design.probe.adc.reference_volt) if has_converter(self.design.probe) else 5.0

    def _share(self) -> float:
        """Of the converter's scale, what the probe puts there."""
        if not has_converter(self.design.probe):
            return 0.0
        exact = reading.exact_counts(self._probe, self._probe_celsius, self.wiring)
        return min(max(exact / self._probe.hardware.adc.codes, 0.0), 1.0)
