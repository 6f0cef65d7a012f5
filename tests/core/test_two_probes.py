"""Two probes of one thing: what was put into made logs is found again, and no more is claimed than they tell."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from calor.errors import LogError
from calor.log.two_probes import compare, compare_log, in_words


def thing(time_s: np.ndarray, on: np.ndarray) -> np.ndarray:
    """A temperature that a switched heater moves, first order, 300 s."""
    celsius, now = np.empty(len(time_s)), 24.0
    for k in range(len(time_s)):
        celsius[k] = now
        now += (20.0 + 40.0 * on[k] - now) * (time_s[1] - time_s[0]) / 300.0
    return celsius


def test_what_was_put_in_is_found_as_closely_as_is_claimed() -> None:
    """Over 30 made logs. A lag and a step with the output look alike in them, so that errors are stated, and hold."""
    chance = np.random.default_rng(4)
    far, wrong = 0, 0
    for number in range(30):
        pace_s, shift = (1.0, 2.0, 4.0)[number % 3], (0.0, 0.5, -0.9)[number // 10]
        offset, gain, lag_s = chance.uniform(-4, 4), chance.uniform(0.9, 1.1), chance.uniform(-25, 25)
        time_s = np.arange(0.0, 4000.0, pace_s)
        on = ((time_s // 240.0) % 2 == 0).astype(float)
        first = thing(time_s, on)
        second = offset + gain * np.interp(time_s - lag_s, time_s, first) + shift * on
        first, second = (column + chance.normal(0, 0.01, len(time_s)) for column in (first, second))
        found = compare(time_s, first, second, on)
        assert found.offset_celsius == pytest.approx(
            offset + (gain - 1.0) * found.at_celsius + shift * on.mean(), abs=0.1
        )
        assert found.gain == pytest.approx(gain, abs=0.01) and found.residual_celsius < 0.03
        far += abs(found.lag_s - lag_s) > 0.05 * pace_s + 3.0 * found.lag_error_s
        far += abs(found.step_celsius - shift) > 0.01 + 3.0 * found.step_error_celsius
        wrong += found.follows_output is not (shift != 0.0)
    assert far <= 2 and wrong <= 2


def test_a_log_that_cannot_tell_says_so() -> None:
    time_s = np.arange(0.0, 600.0, 2.0)
    chance = np.random.default_rng(1)
    flat = 30.0 + chance.normal(0, 0.02, len(time_s))
    found = compare(time_s, flat, flat + 0.3)
    assert found.offset_celsius == pytest.approx(0.3) and math.isnan(found.gain) and "hardly moves" in found.why
    assert found.follows_output is None
    with pytest.raises(ValueError, match="has 5 rows in which both probes read"):
        compare(time_s[:5], flat[:5], flat[:5])


def test_from_a_file(tmp_path: Path) -> None:
    time_s = np.arange(0.0, 3000.0, 2.0)
    on = ((time_s // 200.0) % 2 == 0).astype(float)
    inside = thing(time_s, on)
    log = tmp_path / "two.csv"
    rows = [
        f"{t:g},{a:.3f},{b * 1.8 + 32:.3f},{o:g}" for t, a, b, o in zip(time_s, inside, inside + 0.5, on, strict=True)
    ]
    log.write_text("time_s,inside_celsius,lid_temp_f,heater\n" + "\n".join(rows) + "\n")
    found = compare_log(log)
    assert (found["first"], found["second"]) == ("inside_celsius", "lid_temp_f")
    assert found["offset_celsius"] == pytest.approx(0.5, abs=0.05) and found["gain"] == pytest.approx(1.0, abs=5e-3)
    assert abs(found["lag_s"]) < 4.0 * found["lag_error_s"] + 0.1 and found["follows_output"] is False
    words = in_words(found, "°C")
    assert f"{found['offset_celsius']:.3f} °C above inside_celsius" in words and "times as far" in words
    assert f"{found['offset_celsius'] * 1.8:.3f} °F above" in in_words(found, "°F")
    log.write_text("time_s,inside_celsius\n0,20\n1,21\n2,22\n")
    with pytest.raises(LogError, match="has 1 column of temperatures"):
        compare_log(log)
