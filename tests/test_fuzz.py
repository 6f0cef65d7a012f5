"""Odd input by chance, from seeds: a result or one clear line, never anything else."""

from __future__ import annotations

import random

import pytest

from tests.fuzz import KINDS

MANY = {"designs": 150, "tables": 60, "commands": 80}


@pytest.mark.parametrize("kind", KINDS)
def test_odd_input_by_chance(kind: str) -> None:
    ends = [KINDS[kind](random.Random(seed)) for seed in range(MANY[kind])]
    assert len(set(ends)) > 1 and "no line" not in ends
