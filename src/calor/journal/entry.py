"""One kept run: what it was, what came of it, and what was written about it."""

from __future__ import annotations

import datetime
import json
import math
import uuid
from dataclasses import asdict, dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from calor.compiled import Column
from calor.judge.metrics import Metrics
from calor.loop.trace import Trace

SIMULATED, RECORDED = "simulated", "recorded"
CURVE_POINTS = 160
"""So many columns, each with its lowest and highest reading, a kept curve has: for a small picture and for export."""
MOST_NOTE, MOST_TAG, MOST_TAGS = 20_000, 60, 40


def now() -> str:
    """The time now, in UTC, to the second."""
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")


@dataclass(frozen=True)
class Curve:
    """A run reduced to columns of equal time: the lowest and highest reading in each, °C; NaN where there is none."""

    span_s: float
    low_celsius: Column
    high_celsius: Column

    @classmethod
    def of(cls, trace: Trace) -> Curve:
        """The curve of a run."""
        begin_s = float(trace.time_s[0]) if trace.steps else 0.0
        span_s = max(float(trace.span_s) - begin_s, 1e-9)
        edges = begin_s + np.linspace(0.0, span_s, CURVE_POINTS + 1)
        first = np.minimum(np.searchsorted(trace.time_s, edges[:-1]), max(trace.steps - 1, 0))
        if not trace.steps:
            empty = np.full(CURVE_POINTS, np.nan)
            return cls(span_s, empty, empty)
        measured = trace.measured_celsius
        return cls(span_s, np.fmin.reduceat(measured, first), np.fmax.reduceat(measured, first))

    def packed(self) -> bytes:
        """The columns as bytes: single precision, lowest first."""
        return np.concatenate((self.low_celsius, self.high_celsius)).astype("<f4").tobytes()

    @classmethod
    def unpacked(cls, span_s: float, data: bytes) -> Curve:
        """The curve from its bytes; an empty one where they are damaged."""
        values = np.frombuffer(data[: len(data) // 8 * 8], "<f4").astype(np.float64)
        return cls(span_s, values[: len(values) // 2], values[len(values) // 2 :])


@dataclass(frozen=True)
class Kept:
    """A kept run without its texts and bytes: those are fetched when it is opened.

    `number` is its place in this journal, `uid` its name in all; `made` when it was kept, in UTC. `passes` is None
    where nothing was judged. `limits` are (name, limit, figure, passes).
    """

    kind: str
    design: str
    trial: str
    span_s: float
    metrics: dict[str, Any]
    curve: Curve
    limits: tuple[tuple[str, float, float | None, bool], ...] = ()
    passes: bool | None = None
    seed: int | None = None
    controller: str = "python"
    version: str = ""
    note: str = ""
    tags: tuple[str, ...] = ()
    pinned: bool = False
    made: str = field(default_factory=now)
    uid: str = field(default_factory=lambda: uuid.uuid4().hex)
    number: int = 0

    @cached_property
    def words(self) -> str:
        """All that it can be found by, in small letters."""
        words = (str(self.number), self.design, self.trial, self.note, *self.tags, self.verdict, self.kind, self.made)
        return "\n".join(words).lower()

    @property
    def verdict(self) -> str:
        """The verdict in a word."""
        return "not judged" if self.passes is None else "pass" if self.passes else "fail"

    def plain(self) -> dict[str, Any]:
        """It as data, without its curve."""
        return {
            "number": self.number, "uid": self.uid, "made": self.made, "kind": self.kind, "design": self.design,
            "trial": self.trial, "span_s": self.span_s, "seed": self.seed, "with": self.controller,
            "version": self.version, "pass": self.passes, "pinned": self.pinned, "note": self.note,
            "tags": list(self.tags), "metrics": self.metrics,
            "limits": [
                {"name": name, "limit": limit, "value": value, "pass": keeps}
                for name, limit, value, keeps in self.limits
            ],
        }  # fmt: skip


class Stored(Kept):
    """A kept run as the journal has it: its figures, limits, tags and curve are decoded when they are first asked for,
    so that thousands are listed at once."""

    @classmethod
    def of(cls, values: dict[str, Any], metrics: str, limits: str, tags: str, curve: bytes) -> Stored:
        """A run from its plain values, and the texts and bytes of the others."""
        one = object.__new__(cls)
        one.__dict__.update(values, _stored=(metrics, limits, tags, curve))
        return one

    @cached_property
    def metrics(self) -> dict[str, Any]:
        """Its figures."""
        found: dict[str, Any] = json.loads(self.__dict__["_stored"][0])
        return found

    @cached_property
    def limits(self) -> tuple[tuple[str, float, float | None, bool], ...]:
        """Its limits."""
        return tuple(tuple(one) for one in json.loads(self.__dict__["_stored"][1]))

    @cached_property
    def tags(self) -> tuple[str, ...]:
        """Its tags."""
        return tuple(json.loads(self.__dict__["_stored"][2]))

    @cached_property
    def curve(self) -> Curve:
        """Its curve."""
        return Curve.unpacked(self.span_s, self.__dict__["_stored"][3])


def figures(metrics: Metrics) -> dict[str, Any]:
    """The figures of a run as they are kept: None for what is none."""
    data = asdict(metrics)
    data["recovery_s"] = list(metrics.recovery_s)
    return {key: _finite(value) for key, value in data.items()}


def _finite(value: Any) -> Any:
    if isinstance(value, list):
        return [_finite(item) for item in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


def tags_of(text: str) -> tuple[str, ...]:
    """Tags from a text: words between commas, each once."""
    words = [" ".join(word.split())[:MOST_TAG] for word in text.split(",")]
    return tuple(dict.fromkeys(word for word in words if word))[:MOST_TAGS]
