"""Which column of a log is what, and in which unit: told from its header."""

from __future__ import annotations

import re
from typing import Literal

from calor.units import TemperatureUnit

Role = Literal["time", "date", "temperature", "setpoint", "output"]

# the first pattern that matches any header wins, so the surest names come first
_PATTERNS: dict[Role, tuple[str, ...]] = {
    "time": (r"^time_s$", r"time ?stamp", r"date ?time", r"^(elapsed|uptime)", r"^time\b|^time_", r"^t$|^t[ _(\[]", r"\btime\b",
             r"^(s|sec|secs|seconds|ms|millis|minutes|min)$", r"^seconds?\b", r"zeit|uhrzeit"),
    "date": (r"^date$|^day$|^datum$",),
    "temperature": (r"^measured_celsius$", r"measured", r"^temp", r"temp(erature)?", r"^t ?[(\[](°?c|°?f|k)[)\]]", r"celsius|fahrenheit|kelvin", r"°|\bdeg",
                    r"^(c|f|k)$", r"reading|sensor|probe"),
    "setpoint": (r"^setpoint", r"set.?point|set.?value|target", r"^sp$|^set$"),
    "output": (r"^recorded_output$", r"^delivered$", r"output|duty|pwm", r"heater|relay|fan|ssr|switch|valve|compressor", r"power|drive|^on$",
               r"^demand"),
}  # fmt: skip

_SECONDS_PER: tuple[tuple[str, float], ...] = (
    (r"ms\b|milli", 1e-3), (r"[(\[ _](min|minutes?)[)\]]?$|^min(utes)?$", 60.0), (r"[(\[ _](h|hours?)[)\]]?$", 3600.0)
)  # fmt: skip


def recognise(headers: list[str]) -> dict[Role, str]:
    """The header of each role that is found. One column serves one role."""
    found: dict[Role, str] = {}
    for role in ("setpoint", "output", "date", "time", "temperature"):
        free = [header for header in headers if header not in found.values()]
        for pattern in _PATTERNS[role]:
            match = next((header for header in free if re.search(pattern, header.strip().lower())), None)
            if match is not None:
                found[role] = match
                break
    if "date" in found and "time" not in found:
        found["time"] = found.pop("date")
    return found


def temperatures(headers: list[str], taken: list[str]) -> list[str]:
    """All headers that name a temperature and serve no other role, in their order."""
    free = [header for header in headers if header not in taken]
    headings = [h for h in free if any(re.search(pattern, h.strip().lower()) for pattern in _PATTERNS["temperature"])]
    return headings or []


def temperature_unit(header: str) -> TemperatureUnit:
    """The unit a temperature column's header names; °C where it names none."""
    text = header.strip().lower()
    if "fahrenheit" in text or re.search(r"°\s*f|[(\[ _]f[)\]]?$|^f$|degf", text):
        return "°F"
    if "kelvin" in text or re.search(r"[(\[ _]k[)\]]?$|^k$", text):
        return "K"
    return "°C"


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
    return 100.0 if largest <= 100.0 else 255.0
