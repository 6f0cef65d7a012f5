"""Which column of a log is what, and in which unit: told from its header, and where that says nothing, from its values."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Literal

import numpy as np

from calor.compiled import Column
from calor.log.text import SWITCHED
from calor.units import TemperatureUnit

if TYPE_CHECKING:
    import pandas as pd

Role = Literal["time", "date", "temperature", "setpoint", "output", "ambient"]
ROLES: tuple[Role, ...] = ("time", "date", "temperature", "setpoint", "output", "ambient")

# the first pattern that matches any header wins, so the surest names come first
_PATTERNS: dict[Role, tuple[str, ...]] = {
    "time": (r"^time_s$", r"time ?stamp", r"date ?time", r"^(elapsed|uptime)", r"^time\b|^time_", r"^t$|^t[ _(\[]", r"\btime\b",
             r"^(s|sec|secs|seconds|ms|us|µs|millis|minutes|min)$", r"^seconds?\b", r"millis|micros", r"zeit|uhrzeit"),
    "date": (r"^date$|^day$|^datum$",),
    "temperature": (r"^measured_celsius$", r"measured", r"^temp", r"temp(erature)?", r"^t ?[(\[](°?c|°?f|k)[)\]]", r"celsius|fahrenheit|kelvin", r"°|\bdeg", r"[(\[ _]°?[cfk][)\]]?$",
                    r"^(c|f|k|t|pv)$", r"reading|sensor|probe"),
    "setpoint": (r"^setpoint", r"^setp?$", r"set.?point|set.?value|target", r"^sp$|^set$|^goal$"),
    "output": (r"^recorded_output$", r"^delivered$", r"output|duty|pwm", r"heater|relay|fan|ssr|switch|valve|compressor", r"power|drive|^on$|^out$|^u$|^mv$|heizung",
               r"^demand"),
    "ambient": (r"^ambient", r"ambient|outside|outdoor|surround|umgebung", r"^(room|air)\b|^(room|air)_"),
}  # fmt: skip

_SECONDS_PER: tuple[tuple[str, float], ...] = (
    (r"ms\b|milli", 1e-3), (r"(^|[(\[ _])(us|µs)[)\]]?$|micros", 1e-6),
    (r"[(\[ _](min|minutes?)[)\]]?$|^min(utes)?$", 60.0), (r"[(\[ _](h|hours?)[)\]]?$", 3600.0),
)  # fmt: skip


def recognise(headers: list[str]) -> dict[Role, str]:
    """The header of each role that is found. One column serves one role."""
    taken: dict[Role, str] = {}
    for role in ("setpoint", "output", "date", "time", "ambient", "temperature"):
        free = [header for header in headers if header not in taken.values()]
        for pattern in _PATTERNS[role]:
            match = next((header for header in free if re.search(pattern, header.strip().lower())), None)
            if match is not None:
                taken[role] = match
                break
    if "date" in taken and "time" not in taken:
        taken["time"] = taken.pop("date")
    # the only temperature there is is the one that is controlled
    if "ambient" in taken and "temperature" not in taken:
        taken["temperature"] = taken.pop("ambient")
    return taken


def temperatures(headers: list[str], taken: list[str]) -> list[str]:
    """All headers that name a temperature and serve no other role, in their order."""
    patterns = (*_PATTERNS["temperature"], *_PATTERNS["ambient"])
    return [h for h in headers if h not in taken and any(re.search(pattern, h.strip().lower()) for pattern in patterns)]


def temperature_unit(header: str) -> TemperatureUnit:
    """The unit a temperature column's header names; °C where it names none."""
    text = header.strip().lower()
    if "fahrenheit" in text or re.search(r"°\s*f|[(\[ _]f[)\]]?$|^f$|degf", text):
        return "°F"
    if "kelvin" in text or re.search(r"[(\[ _]k[)\]]?$|^k$", text):
        return "K"
    return "°C"


def names_unit(header: str) -> bool:
    """Whether the header of a temperature column says in which unit it is."""
    return (
        re.search(r"°\s*[cf]|celsius|fahrenheit|kelvin|[(\[ _]°?[cfk][)\]]?$|^[cfk]$|deg[cf]", header.strip().lower())
        is not None
    )


def seconds_per_unit(header: str) -> float:
    """Seconds in one unit of a numeric time column; seconds where its header names none."""
    text = header.strip().lower()
    return next((factor for pattern, factor in _SECONDS_PER if re.search(pattern, text)), 1.0)


def output_scale(header: str, largest: float) -> float:
    """What a recorded output is divided by to be a fraction: 1, 100 (percent) or 255 (8-bit PWM)."""
    if "%" in header or "percent" in header.lower():
        return 100.0
    if largest <= 1.0:
        return 1.0
    return next((scale for scale in (100.0, 255.0, 1023.0, 4095.0, 65_535.0) if largest <= scale), largest)


# ---- by what is in them

FEWEST_ROWS = 3


def is_date(text: str) -> bool:
    """Whether a text is a date, without the time of day."""
    return re.fullmatch(r"(\d{4}[-/.]\d\d?[-/.]\d\d?|\d{1,2}[-./]\d{1,2}[-./]\d{2,4})", text.strip()) is not None


def by_content(
    frame: pd.DataFrame, taken: dict[Role, str], missing: tuple[Role, ...], strict: bool = False
) -> dict[Role, tuple[str, str]]:
    """For each of the `missing` roles the column whose values look like it, and why; columns in `taken` are not asked.

    `strict`: an output is one of nothing and full alone, and the only one there is.
    """
    free = {str(name): _values(frame[name]) for name in frame.columns if str(name) not in taken.values()}
    told: dict[Role, tuple[str, str]] = {}
    if "time" in missing:
        for name, values in free.items():
            why = _why_time(frame[name], values)
            if why:
                told["time"] = (name, why)
                if why == _DATE and "date" not in taken:
                    clock = next((n for n in free if n != name and _why_time(frame[n], free[n]) == _CLOCK), None)
                    if clock is not None:
                        told["date"], told["time"] = (name, _DATE), (clock, _CLOCK)
                break
    numeric = {
        name: values for name, values in free.items()
        if values is not None and name not in [column for column, _ in told.values()]
    }  # fmt: skip
    if "temperature" in missing:
        best = max(numeric, key=lambda name: _like_temperature(numeric[name]), default=None)
        if best is not None and _like_temperature(numeric[best]) > 0.0:
            told["temperature"] = (best, "its values move little from row to row")
            numeric.pop(best)
    if "output" in missing:
        outputs = [name for name, values in numeric.items() if _like_output(values, strict)]
        if outputs and (len(outputs) == 1 or not strict):
            told["output"] = (outputs[0], "its values are those of a switch or of a share")
    return told


_DATE, _CLOCK = "its values are dates", "its values are clock times"


def _values(column: pd.Series) -> Column | None:
    import pandas as pd

    if pd.api.types.is_bool_dtype(column):
        return np.asarray(column, float)
    numeric = pd.to_numeric(column, errors="coerce")
    if not pd.api.types.is_numeric_dtype(column):
        numeric = numeric.fillna(column.astype("string").str.strip().str.lower().map(SWITCHED).astype(float))
    return np.asarray(numeric, float) if numeric.notna().sum() >= max(0.5 * len(column), 2) else None


def rises_evenly(column: pd.Series) -> bool:
    """Whether a column can be one of times by its values."""
    return _why_time(column, _values(column)) != ""


def _why_time(column: pd.Series, values: Column | None) -> str:
    """Why a column can be that of the times; empty where it cannot."""
    if values is None:
        first = str(column.dropna().iloc[0]).strip() if column.notna().any() else ""
        if re.match(r"\d{1,2}:\d\d", first):
            return _CLOCK
        if is_date(first):
            return _DATE
        return (
            "its values are time stamps"
            if re.match(r"(\d{4}-\d\d?-\d\d?|\d{1,2}[./]\d{1,2}[./]\d{2,4})[ T]", first)
            else ""
        )
    known = values[np.isfinite(values)]
    steps = np.diff(known)
    if len(known) < 2 or not np.isfinite(values).mean() > 0.99:
        return ""
    # a counter hardly ever falls, and goes on evenly
    even = np.abs(steps - np.median(steps)) <= 0.6 * abs(np.median(steps))
    rises = np.mean(steps > 0.0) >= 0.9 and np.median(steps) > 0.0
    return "its values rise evenly" if rises and even.mean() >= 0.7 else ""


def _like_temperature(values: Column) -> float:
    """How much a column is like readings of a temperature: 0 where it is not."""
    known = values[np.isfinite(values)]
    if len(known) < FEWEST_ROWS or known.min() < -280.0 or known.max() > 3500.0:
        return 0.0
    span = float(np.ptp(known))
    if span == 0.0 or _like_output(values):
        return 1e-3 if not _like_output(values) and known[0] not in (0.0, 1.0) else 0.0
    smooth = 1.0 - min(float(np.median(np.abs(np.diff(known)))) / span, 1.0)
    return smooth * min(len(np.unique(known)) / 20.0, 1.0)


def _like_output(values: Column, strict: bool = False) -> bool:
    """Whether a column can be an output: nothing and full, or (not where it is `strict`) a share of 1, 100 or 255."""
    known = np.unique(values[np.isfinite(values)])
    if len(known) == 0 or known.min() < 0.0:
        return False
    if set(known.tolist()) in ({0.0, 1.0}, {0.0, 100.0}, {0.0, 255.0}, {0.0}, {1.0}):
        return not strict or len(known) == 2
    if strict:
        return False
    if known.max() <= 1.0:
        return True
    whole = bool(np.all(known == np.floor(known)))
    return whole and known.max() <= 255.0 and known.min() == 0.0


def usual_seconds(values: Column) -> tuple[float, str]:
    """Seconds in one unit of a counter whose header names none, and why."""
    known = values[np.isfinite(values)]
    steps = np.diff(known)
    steps = steps[steps > 0.0]
    if not len(steps):
        return 1.0, "taken as seconds"
    step, largest = float(np.median(steps)), float(np.max(known))
    whole = bool(np.all(known == np.floor(known)))
    if largest > 1e14:
        return 1e-6, "microseconds since 1970"
    if largest > 1e11:
        return 1e-3, "milliseconds since 1970"
    if largest > 1e8 and largest < 4.2e9 and step < 3600.0 and float(np.min(known)) > 1e8:
        return 1.0, "seconds since 1970"
    uneven = bool(np.any(np.abs(steps - 60.0 * np.round(steps / 60.0)) > 1e-9))
    if whole and step >= 200_000.0 and step % 60_000.0:
        return 1e-6, f"microseconds: whole numbers, {step:g} apart"
    if whole and step >= 50.0 and (uneven or step >= 1000.0):
        return 1e-3, f"milliseconds: whole numbers, {step:g} apart"
    return 1.0, "taken as seconds"
