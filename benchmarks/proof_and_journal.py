"""How long a proof takes, what memory its runs leave behind, and how soon a journal of ten thousand runs is there."""

from __future__ import annotations

import gc
import tempfile
import time
from dataclasses import replace
from pathlib import Path

from rich.table import Table

from calor import loop
from calor.demo import DEMOS
from calor.design.file import read
from calor.journal.find import Wanted
from calor.journal.keeping import simulated
from calor.journal.store import Journal
from calor.proof.plan import Plan
from calor.proof.work import Progress, Work

MANY = 10_000


def resident_mb() -> float:
    """What this process holds of memory, MB."""
    pages = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[1])
    return pages * 4096 / 1e6


def proof_table() -> Table:
    """A thousand drawn runs of the cabinet's two-hour trial, and as many again."""
    out = Table("hatching cabinet, 2 h", "", "goal", title="Proof")
    design = read(DEMOS[0].design).design
    design = design.model_copy(update={"trial": design.trial[:1]})
    progress = Progress(Plan(design))
    first: list[float] = []
    began = time.perf_counter()
    Work().run(
        progress, progress.plan.chosen(1, tolerances=False), told=lambda *_: first.append(time.perf_counter() - began)
    )
    out.add_row("first cell, s", f"{first[0]:.2f}", "≤ 0.5")
    Work().run(progress, progress.plan.chosen(1))
    held = []
    for runs in (1001, 2001, 3001):
        began = time.perf_counter()
        Work().run(progress, progress.plan.chosen(runs))
        taken = time.perf_counter() - began
        gc.collect()
        held.append(resident_mb())
        if runs == 1001:
            out.add_row("1 000 drawn runs with judging, s", f"{taken:.1f}", "≤ 10")
    out.add_row("memory for 1 000 runs more, MB", f"{held[2] - held[1]:.1f}", "")
    return out


def journal_table() -> Table:
    """A journal of ten thousand runs: opened with its check, listed, looked through."""
    out = Table("10 000 kept runs", "s", "goal", title="Journal")
    design = read(DEMOS[0].design).design
    entry, parts = simulated(design, design.trial[0], loop.run(design, design.trial[0]), note="held through the night")
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "journal.sqlite"
        with Journal(place) as book:
            book._connection.execute("PRAGMA synchronous = OFF")  # a disk is not what is measured
            for number in range(MANY):
                text = parts["design.toml"] + f"# {number // 5}\n".encode()
                book.keep(replace(entry, uid=str(number), note=f"run {number} {entry.note}"), {"design.toml": text})
        began = time.perf_counter()
        with Journal(place) as book:
            rows = book.rows()
            out.add_row("opened, checked and listed", f"{time.perf_counter() - began:.2f}", "≤ 0.5")
        for words in ("h", "held", "held 9999"):
            began = time.perf_counter()
            found = Wanted(words).among(rows)
            out.add_row(f"found “{words}”: {len(found)}", f"{time.perf_counter() - began:.2f}", "as one types")
    return out
