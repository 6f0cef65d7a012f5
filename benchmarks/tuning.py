"""How long tuning takes: the table of rules, the map, the search, and what a second thread gives."""

from __future__ import annotations

import time

from rich.table import Table

from calor.demo import DEMOS
from calor.design.file import read
from calor.tune import table as rules
from calor.tune import verdict_map as maps
from calor.tune.known import known_by
from calor.tune.search import searched


def tuning_table() -> Table:
    """Seconds of each on the hatching cabinet's trial of two hours."""
    out = Table("hatching cabinet, 2 h", "s", "goal", title="Tuning")
    design = read(DEMOS[0].design).design
    trial = design.trial[0]
    began = time.perf_counter()
    known = known_by(design)
    out.add_row("model of first and second order", f"{time.perf_counter() - began:.2f}", "")
    every = rules.ruled(known.model, known.second, known.limit)
    rules.table(design, (trial,), known.process, every[:2])
    taken = {}
    for threads in (1, 2):
        rules.THREADS = threads
        began = time.perf_counter()
        rows = rules.table(design, (trial,), known.process, every)
        taken[threads] = time.perf_counter() - began
    out.add_row(f"table of {len(rows)} rows", f"{taken[2]:.2f}", "≤ 1")
    out.add_row("one thread over two", f"{taken[1] / taken[2]:.2f}", "≥ 1.6")
    middle = rules.present(design)
    assert middle is not None
    first: list[float] = []
    began = time.perf_counter()
    maps.verdict_map(
        design, trial, known.process, middle, watch=lambda share, made: first.append(time.perf_counter() - began)
    )
    out.add_row("map of 40 × 40: first picture", f"{first[0]:.2f}", "≤ 1.5")
    out.add_row("map of 40 × 40", f"{first[-1]:.2f}", "≤ 15")
    began = time.perf_counter()
    found = searched(design, known.process, rows)
    out.add_row(
        f"search: {found.evaluations} settings, {len(design.trial)} trials",
        f"{time.perf_counter() - began:.2f}",
        "≤ 20",
    )
    return out
