"""Whether the C is bit-identical: with the reference in its own numbers, between builds of the host, on every chip.

How far both are from the simulation, which computes in double precision, is said beside it.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware.check import coverage, every_branch, reference
from calor.firmware.check.conversed import Conversed, conversed
from calor.firmware.check.form_difference import BOUND, beyond, difference
from calor.firmware.check.recorded import Recorded, recorded
from calor.firmware.run import avr, chip, emulator, host, sizes
from calor.firmware.sources import outward
from calor.firmware.sources.form import PLAIN, Form
from calor.loop import answer_row

AVR = "avr5"
"""The name of an 8-bit AVR, as its compiler calls the family."""
MOST_APART = 5e-3
"""A demand further from the simulation's than this is another decision."""
MOST_OTHER_SHARE = 1e-3
"""A greater share of other decisions is told: readings a rounding from a threshold fall on either side of it."""


class CheckStopped(Exception):  # noqa: N818 - a check that was asked to stop did not fail
    """The check was ended early, as asked."""


def reference_difference(design: Design, record: Recorded, rows: npt.NDArray[np.float32]) -> dict[str, float]:
    """How far the C's answers are from the simulation's: demand, °C, and the share of other decisions."""
    trace, at = record.trace, record.rows
    demands = np.array([output.demand[at] for output in trace.outputs] or [trace.demand[at]])
    apart = np.abs(answer_row.demands(rows).T - demands).max(axis=0)
    if any(event.sets_setpoint for event in record.trial.events):
        # set from outside: the C is told by a call, which the recorded inputs do not hold
        moved = rows[:, answer_row.SETPOINT] != trace.setpoint_celsius[at].astype(np.float32)
        apart = apart[~np.maximum.accumulate(moved)]
    measured = trace.measured_celsius[at]
    known = np.isfinite(measured)
    celsius = np.abs(rows[known, answer_row.MEASURED] - measured[known])
    return {
        "demand": float(apart.max(initial=0.0)),
        "measured_celsius": float(celsius.max(initial=0.0)),
        "other_decisions_fraction": float(np.mean(apart > MOST_APART)) if len(apart) else 0.0,
    }


def first_difference(
    record: Recorded, one: npt.NDArray[np.float32], other: npt.NDArray[np.float32], between: str
) -> dict[str, Any] | None:
    """The first step at which two programs differ by a bit, with its input and both rows; None where none does.

    A row holds measured, setpoint, flags and alarms, then demand and ticks of each output. Zeros of either sign are
    one. `between` says whose rows they are, in their order.
    """
    differ = ((one + 0.0).view(np.uint32) != (other + 0.0).view(np.uint32)).any(axis=1)
    if not differ.any():
        return None
    step = int(np.argmax(differ))
    return {
        "between": between,
        "trial": record.trial.name,
        "step": step,
        "time_s": float(record.trace.time_s[record.rows[step]]),
        "reading": float(record.given["reading"][step]),
        "rows": [[float(value) for value in rows[step]] for rows in (one, other)],
    }


def without_ticks(rows: npt.NDArray[np.float32]) -> npt.NDArray[np.float32]:
    """Rows as the reference has them: what a switch makes of a demand is not in it."""
    return plain_rows(rows, 0)


def _reference_rows(
    design: Design, record: Recorded, form: Form, goes_on: Callable[[str], bool], counts_ticks: bool = False
) -> npt.NDArray[np.float32]:
    """The reference on a trial's inputs. Raises CheckStopped, FirmwareError."""
    part = f"reference: {record.trial.name}"
    _ask(goes_on, part)
    rows = reference.rows(design, record.given, record.readings, lambda: goes_on(part), counts_ticks, form)
    if rows is None:
        raise CheckStopped
    return rows


def plain_rows(rows: npt.NDArray[np.float32], counted: int) -> npt.NDArray[np.float32]:
    """Rows as a chip has them: the ticks of the switch only in the steps that were counted."""
    plain = rows.copy()
    answer_row.ticks(plain)[counted:] = answer_row.handed_ticks(plain)[counted:] = 0.0
    return plain


def check(
    design: Design,
    targets: tuple[str, ...] | None = None,
    clock_hz: float | None = None,
    goes_on: Callable[[str], bool] = lambda _: True,
    form: Form = PLAIN,
    seen: Callable[[Recorded, npt.NDArray[np.float32], npt.NDArray[np.float32]], None] | None = None,
) -> dict[str, Any]:
    """Build, run the trials' inputs on host and chips, compare: what `calor code --check --json` prints.

    `targets` names those that must run beside the host; None: all there are, each by itself: one that this machine's
    tools cannot build is a row with its reason. In fixed point, or with a table, the difference from the formula in
    float is bounded too.
    `seen` is given each trial with the rows of the reference and of the host. `goes_on` is told each part before it
    begins, and answers whether to go on.
    Raises FirmwareError where the host cannot build or run it, CheckStopped where it is not to go on.
    """
    design = outward.by_hand(design, form)
    _ask(goes_on, "host: built and run twice")
    records = [recorded(design, trial) for trial in design.trial]
    every = every_branch.made_inputs(design, form)
    host_rows = [host.rows(design, record.given, host.CHECKED_FLAGS, form) for record in (*records, every)]
    plain = [host.rows(design, record.given, ("-O0",), form) for record in (*records, every)]
    differences = [reference_difference(design, record, rows) for record, rows in zip(records, host_rows, strict=False)]
    against = []
    for record, own in zip(records, host_rows, strict=False):
        expected = _reference_rows(design, record, form, goes_on)
        if seen is not None:
            seen(record, expected, own)
        against.append(first_difference(record, without_ticks(own), expected, "host, reference"))
    _ask(goes_on, "every branch: reference and pins")
    expected = _reference_rows(design, every, form, goes_on, counts_ticks=True)
    against.append(first_difference(every, host_rows[-1], expected, "host, reference"))
    spoken: list[Conversed] = []
    if form.is_outward:
        _ask(goes_on, "line and front: talked to")
        spoken.append(conversed(design, form))
    from_float = None
    if not form.is_plain:
        _ask(goes_on, "difference from float")
        from_float = difference(design, form)
    records = [*records, every]
    apart = against + [
        first_difference(record, own, other, "host -O2, host -O0")
        for record, own, other in zip(records, host_rows, plain, strict=True)
    ]
    steps = sum(len(record.given) for record in records[:-1])
    flash_bytes, ram_bytes = chip.host_sizes(design, form) or (None, None)
    found = [
        {
            "target": "host", "bit_equal": not any(apart), "steps": steps, "branch_steps": len(every.given),
            "flash_bytes": flash_bytes, "ram_bytes": ram_bytes,
            "stack_bytes": None, "instructions_mean": None, "instructions_worst": None,
            "first_difference": next((item for item in apart if item), None),
        }
    ]  # fmt: skip
    reached = None
    if coverage.available():
        _ask(goes_on, "branches")
        reached = coverage.measured(design, [record.given for record in records], form)
    known, named = chip.found_targets(), targets or ()
    wanted = target_names()[1:] if targets is None else targets
    skipped = ""
    if wanted and not chip.available():
        skipped = chip.MISSING
        found += [_not_run(name, chip.MISSING) for name in named]
        wanted = ()
    built_only: list[dict[str, Any]] = []
    for name in wanted:
        try:
            if form.is_outward and name in known:
                _ask(goes_on, f"{name}: line and front")
                spoken.append(conversed(design, form, name))
            row = (
                _on_avr(design, form, records, goes_on)
                if name == AVR
                else _on_chip(design, form, known[name], records, host_rows, clock_hz, goes_on)
            )
        except FirmwareError as error:
            row = _failed(name, known.get(name), error)
        is_size = row["bit_equal"] is None and row["flash_bytes"] is not None
        (built_only if is_size else found).append(row)
    worst = {key: max(item[key] for item in differences) for key in differences[0]}
    agrees = not form.is_plain or worst["other_decisions_fraction"] <= MOST_OTHER_SHARE
    data: dict[str, Any] = {
        "design": design.name,
        "trials": [trial.name for trial in design.trial],
        "targets": found,
        "built_only": built_only,
        "form": form.data(),
        "reference": {
            **worst,
            "agrees": agrees,
            "bit_equal": not any(against),
            "steps": steps,
            "branch_steps": len(every.given),
        },
    }
    data["fails"] = [
        f"{row['target']} {why}"
        for row in (*found, *built_only)
        for why, does in (
            ("differs", row["bit_equal"] is False),
            ("does not build or run", bool(row.get("failed"))),
            ("did not run", row["bit_equal"] is None and row["target"] in named and not row.get("failed")),
        )
        if does
    ]
    if spoken:
        data["conversations"] = [one.data() for one in spoken]
        data["fails"] += [f"{one.target}: {problem}" for one in spoken for problem in one.problems]
    if from_float is not None:
        data["difference_from_float"], data["bound"] = from_float.data(), BOUND.data()
        data["fails"] += beyond(from_float)
    data["pass"] = not data["fails"]
    if reached is not None:
        data["coverage"] = {
            "branches": reached.branches, "taken": reached.taken, "never": [one._asdict() for one in reached.never],
        }  # fmt: skip
    if skipped:
        data["skipped"] = skipped
    return data


def target_names() -> tuple[str, ...]:
    """All that can be checked on this machine, by name: the host, the chips, an 8-bit AVR where its compiler is."""
    return ("host", *chip.found_targets(), *((AVR,) if sizes.avr_compiler() else ()))


def _not_run(name: str, note: str, size: sizes.Size | None = None) -> dict[str, Any]:
    """A target that did not run: why, and its size where it is built."""
    data: dict[str, Any] = {
        "target": name, "bit_equal": None, "steps": 0, "branch_steps": 0,
        "flash_bytes": size.flash_bytes if size else None, "ram_bytes": size.ram_bytes if size else None,
        "stack_bytes": None, "instructions_mean": None, "instructions_worst": None, "first_difference": None,
    }  # fmt: skip
    return data | {"note": note} if note else data


def _failed(name: str, target: emulator.Target | None, error: FirmwareError) -> dict[str, Any]:
    """A target on which the C does not build or run. That fails the check, unless the fault lies with the compiler,
    which builds nothing at all."""
    unable = sizes.unable(target)
    if unable:
        return _not_run(name, f"its compiler builds nothing on this machine: {unable}")
    return _not_run(name, host.cause(error)) | {"failed": True}


def _on_avr(design: Design, form: Form, records: list[Recorded], goes_on: Callable[[str], bool]) -> dict[str, Any]:
    """The emulated AVR over the begin of the first trial and the last of the inputs made for every branch, as many as
    its memory holds; only its size where there is no emulator."""
    _ask(goes_on, f"{AVR}: built")
    size = sizes.of_avr(design, form)
    note = sizes.fits_avr(size)
    if not avr.available():
        return _not_run(AVR, "; ".join(filter(None, ("built only: simavr is not installed", note))), size)
    difference, counted, cycles = None, [], []
    first, every = records[0], records[-1]
    for record, rows in (
        (first, slice(0, avr.MOST_STEPS)), (every, slice(max(len(every.given) - avr.MOST_STEPS, 0), None))
    ):  # fmt: skip
        _ask(goes_on, f"{AVR}: {record.trial.name}")
        part = replace(record, rows=record.rows[rows], given=record.given[rows], readings=record.readings[rows])
        own = host.rows(design, part.given, host.CHECKED_FLAGS, form)
        there, took = avr.rows(design, part.given, form)
        cycles.append(took)
        difference = difference or first_difference(part, own, there, f"host, {AVR}")
        counted.append(len(part.given))
    worst = avr.Cycles(*(max(both) for both in zip(*cycles, strict=True)))
    return _not_run(AVR, note, size) | {
        "cycles": worst._asdict(), "bit_equal": difference is None, "steps": counted[0], "branch_steps": counted[1],
        "first_difference": difference,
    }  # fmt: skip


def _ask(goes_on: Callable[[str], bool], part: str) -> None:
    if not goes_on(part):
        raise CheckStopped


def _on_chip(
    design: Design, form: Form, target: emulator.Target, records: list[Recorded],
    host_rows: list[npt.NDArray[np.float32]], clock_hz: float | None, goes_on: Callable[[str], bool],
) -> dict[str, Any]:  # fmt: skip
    """One chip over all trials."""
    _ask(goes_on, f"{target.name}: built")
    with tempfile.TemporaryDirectory() as place:
        program = chip.build(design, target, Path(place), form)
    size = sizes.of_chip(design, target, form)
    counts: list[npt.NDArray[np.int64]] = []
    difference, stack_bytes, worst_at, worst = None, 0, None, -1
    for record, own in zip(records, host_rows, strict=True):
        _ask(goes_on, f"{target.name}: {record.trial.name}")
        chip_rows = chip.run_program(design, target, program, record.given)
        counts.append(chip_rows.instructions)
        stack_bytes = max(stack_bytes, chip_rows.stack_bytes)
        difference = difference or first_difference(
            record, plain_rows(own, chip_rows.counted), chip_rows.rows, f"host, {target.name}"
        )
        if chip_rows.counted and int(chip_rows.instructions.max()) > worst:
            step = int(np.argmax(chip_rows.instructions))
            worst = int(chip_rows.instructions[step])
            worst_at = {
                "trial": record.trial.name,
                "time_s": float(record.trace.time_s[record.rows[step]]),
                "reading": float(record.given["reading"][step]),
            }
    every = np.concatenate(counts)
    data = {
        "target": target.name,
        "bit_equal": difference is None,
        "steps": sum(len(record.given) for record in records[:-1]),
        "branch_steps": len(records[-1].given),
        "flash_bytes": size.flash_bytes,
        "ram_bytes": size.ram_bytes,
        "stack_bytes": stack_bytes,
        "instructions_mean": float(every.mean()),
        "instructions_worst": int(every.max()),
        "worst_at": worst_at,
        "counted_steps": len(every),
        "first_difference": difference,
    }
    if clock_hz:
        data["period_share_estimate"] = float(every.max()) / clock_hz / float(design.law.period_s)
    return data
