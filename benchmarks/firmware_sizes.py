"""What the generated C of the hatching cabinet takes beside the same thermostat written by hand."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path
from typing import NamedTuple

import numpy as np
from rich.table import Table

from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.firmware.check.recorded import recorded
from calor.firmware.run import chip, emulator, host, sizes
from calor.firmware.sources.form import form_of

HERE = Path(__file__).parent
M0 = chip.TARGETS["cortex-m0plus"]
STEPS = 600
_MAIN = "int main(void) { for (;;) { by_hand_step(reading); out = by_hand_switch(); } }\n"
_ENTRIES = """
__attribute__((section(".entry"), used)) void harness_decide(const uint32_t *given);
void harness_decide(const uint32_t *given) { by_hand_step((uint16_t)*given); }
"""


class Taken(NamedTuple):
    """Bytes of an 8-bit AVR and of an M0+, and the M0+'s instructions a step; None where they are not measured."""

    avr: sizes.Size | None
    m0: sizes.Size | None
    instructions: float | None


def by_hand(name: str, counts: np.ndarray) -> Taken:
    """What one of the thermostats written by hand takes."""
    text = (HERE / f"cabinet_by_hand_{name}.c").read_text()
    on_avr = sizes.of_program(text + _MAIN, None) if shutil.which("avr-gcc") else None
    if "math.h" in text:
        return Taken(on_avr, None, None)  # a chip by itself has no library of mathematics
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "chip.ld").write_text(chip.LINKER)
        (folder / "own.c").write_text(text + _ENTRIES)
        out = folder / "own.elf"
        command = [*chip.command(M0), "-Wl,-e,harness_decide", f"-Wl,-T,{folder / 'chip.ld'}", str(folder / "own.c")]
        host.built([*command, "-o", str(out)])
        given = counts.astype(np.uint32)
        machine = emulator.Machine(M0, chip.read_program(out), given.tobytes(), 4)
        count = emulator.counted_calls(machine, "harness_decide", len(given), 4)
    return Taken(on_avr, sizes.of_program(text + _MAIN, M0), float(count.mean()))


def generated(design: Design, fixed: bool, constant: bool) -> Taken:
    """What the generated C takes in a form."""
    form = form_of(design.probe, fixed, False, constant)
    run = chip.run(design, M0, recorded(design, design.trial[0]).given[:STEPS], STEPS, form)
    return Taken(sizes.of_avr(design, form), sizes.of_chip(design, M0, form), float(run.instructions.mean()))


def size_table() -> Table:
    """Flash, RAM and instructions, and flash and instructions over those of the same by hand."""
    design = read(DEMOS[0].design).design
    record = recorded(design, design.trial[0])
    table = Table(
        "hatching cabinet", "AVR flash, RAM", "over by hand", "M0+ flash, RAM", "over by hand", "instr. a step",
        "over by hand", title="The C by hand and generated, bytes as the linker lays them out (goal: within 1.5)",
    )  # fmt: skip
    for kind in ("float", "integers"):
        hand = by_hand(kind, record.given["reading"][:STEPS])
        rows = [
            (f"{kind}, by hand", hand),
            *(
                (f"{'fixed point' if kind == 'integers' else kind}{', compiled in' if constant else ''}",
                 generated(design, kind == "integers", constant))
                for constant in (False, True)
            ),
        ]  # fmt: skip
        for name, own in rows:
            table.add_row(
                name, _bytes(own.avr), _ratio(own.avr and own.avr.flash_bytes, hand.avr and hand.avr.flash_bytes),
                _bytes(own.m0), _ratio(own.m0 and own.m0.flash_bytes, hand.m0 and hand.m0.flash_bytes),
                "–" if own.instructions is None else f"{own.instructions:.0f}",
                _ratio(own.instructions, hand.instructions),
            )  # fmt: skip
    return table


def _bytes(size: sizes.Size | None) -> str:
    return "–" if size is None else f"{size.flash_bytes}, {size.ram_bytes}"


def _ratio(own: float | None, hand: float | None) -> str:
    return "–" if not own or not hand else f"{own / hand:.2f}"
