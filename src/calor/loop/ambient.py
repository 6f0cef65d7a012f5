"""The ambient of a trial: one temperature, a daily swing, or a recorded column; and the dew point of its air."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.design.recorded_ambient import read_record
from calor.design.trial import Trial
from calor.law.dew_point import dew_point_celsius, vapour_pascal

SWING_STEPS, MOST_SWING_ROWS = 288, 20_000
"""A day is followed in steps of 5 minutes; a very long trial in coarser ones."""


class Weather(NamedTuple):
    """The air from each instant (s) to the next: temperature and dew point in °C, relative humidity 0 to 1."""

    at_s: Column
    celsius: Column
    dew_point_celsius: Column
    humidity: Column


def swing_celsius(trial: Trial, at_s: Column) -> Column:
    """What the daily swing adds to the ambient from each instant to the next: the cosine at its middle."""
    if trial.swing_celsius == 0.0:
        return np.zeros(len(at_s))
    ends = np.append(at_s[1:], trial.span_s)
    middle = 0.5 * (np.minimum(at_s, trial.span_s) + np.minimum(ends, trial.span_s))
    turn = 2.0 * np.pi * (middle - trial.warmest_at_s) / trial.swing_period_s
    return np.asarray(trial.swing_celsius * np.cos(turn), dtype=np.float64)


def start_celsius(trial: Trial, mean_celsius: float) -> float:
    """What everything is at where a trial names no start: the ambient at that instant. Raises CalorError as weather."""
    if trial.ambient_csv is not None:
        record = read_record(trial.ambient_csv, trial.ambient_column, trial.humidity_column)
        return float(np.interp(0.0, record.time_s, record.celsius))
    turn = 2.0 * np.pi * trial.warmest_at_s / trial.swing_period_s
    return mean_celsius + trial.swing_celsius * float(np.cos(turn))


def instants(trial: Trial) -> set[float]:
    """The instants at which the ambient changes, beside the start."""
    pace_s = 0.0
    if trial.ambient_csv is not None:
        record = read_record(trial.ambient_csv, trial.ambient_column, trial.humidity_column)
        gaps = np.diff(record.time_s)
        pace_s = float(np.median(gaps)) if len(gaps) else trial.span_s
        pace_s = min(max(pace_s / 4.0, 1.0), 300.0)  # followed between its rows, as the weather goes
    elif trial.swing_celsius > 0.0:
        pace_s = trial.swing_period_s / SWING_STEPS
    if pace_s <= 0.0:
        return set()
    return set(np.arange(0.0, trial.span_s, max(pace_s, trial.span_s / MOST_SWING_ROWS)).tolist())


@lru_cache(maxsize=64)
def _steady(celsius: float, humidity: float) -> tuple[float, float]:
    """(dew point in °C, relative humidity) of air that stays as it is: what any trial asks for again and again."""
    dew_celsius = min(float(dew_point_celsius(celsius, humidity)), celsius)
    return dew_celsius, float(np.clip(vapour_pascal(dew_celsius) / vapour_pascal(celsius), 0.0, 1.0))


def weather(trial: Trial, mean_celsius: float, at_s: Column, warmer_celsius: float = 0.0) -> Weather:
    """The air from each of some instants on, warmer by `warmer_celsius` than the trial says, of the same relative
    humidity. Raises CalorError where a recorded one cannot be read.

    A record that ends before the trial does keeps its last row. With a swing the air holds the water it has at its mean
    temperature; where it cools below its dew point, the dew point follows.
    """
    if trial.ambient_csv is None and trial.swing_celsius == 0.0:
        steady_celsius, rows = mean_celsius + warmer_celsius, len(at_s)
        dew_celsius, held = _steady(steady_celsius, trial.humidity)
        return Weather(at_s, np.full(rows, steady_celsius), np.full(rows, dew_celsius), np.full(rows, held))
    humidity = np.full(len(at_s), trial.humidity)
    if trial.ambient_csv is not None:
        record = read_record(trial.ambient_csv, trial.ambient_column, trial.humidity_column)
        ends = np.append(at_s[1:], trial.span_s)
        middle = 0.5 * (np.minimum(at_s, trial.span_s) + np.minimum(ends, trial.span_s))
        celsius = np.interp(middle, record.time_s, record.celsius) + warmer_celsius
        if np.isfinite(record.humidity).any():
            known = np.isfinite(record.humidity)
            humidity = np.clip(np.interp(middle, record.time_s[known], record.humidity[known]), 0.0, 1.0)
            return Weather(at_s, celsius, dew_point_celsius(celsius, humidity), humidity)
        dew = np.full(
            len(at_s), float(dew_point_celsius(float(record.celsius.mean()) + warmer_celsius, trial.humidity))
        )
    else:
        mean_celsius += warmer_celsius
        celsius = np.full(len(at_s), mean_celsius) + swing_celsius(trial, at_s)
        dew = np.full(len(at_s), float(dew_point_celsius(mean_celsius, trial.humidity)))
    dew = np.minimum(dew, celsius)
    return Weather(at_s, celsius, dew, np.asarray(np.clip(vapour_pascal(dew) / vapour_pascal(celsius), 0.0, 1.0)))
