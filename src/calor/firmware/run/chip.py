"""The generated C on emulated chips: cross-built, run step by step, compared to the bit, counted and sized.

Three targets by a compiler from the package index and a CPU emulator; both belong to the extra [chip]. What is
counted are instructions, not cycles: a time derived from them is an estimate. Inputs and answers pass through memory,
so no question of how floats are handed to a function arises.
"""

from __future__ import annotations

import shutil
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware.run import host
from calor.firmware.run.emulator import (
    ANSWERS,
    FLASH,
    FLASH_BYTES,
    INPUTS,
    RAM,
    RAM_BYTES,
    Counter,
    Machine,
    Program,
    Target,
)
from calor.firmware.run.exchange import row_width
from calor.firmware.run.seat_code import seat_code
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.generate import generate
from calor.firmware.sources.templating import Sources, render

MISSING = (
    "the chips need the packages ziglang, unicorn and pyelftools, which are not installed; install them beside Calor:"
    " pip install ziglang unicorn pyelftools"
)
PAINT = 0xA5
COUNTED_STEPS = 600
"""Steps of which instructions are counted one by one and the switch is run too; the rest run at full speed."""


TARGETS: dict[str, Target] = {
    target.name: target
    for target in (
        Target("cortex-m0plus", "thumb-freestanding-eabi", "cortex_m0plus", True),
        Target("cortex-m4f", "thumb-freestanding-eabihf", "cortex_m4+vfp4d16sp", True),
        Target("rv32imc", "riscv32-freestanding-none", "generic_rv32+m+c", False),
    )
}

BY_GCC = (
    Target("cortex-m0plus-gcc", "", "cortex_m0plus", True, ("arm-none-eabi-gcc", "-mcpu=cortex-m0plus", "-mthumb")),
    Target(
        "cortex-m4f-gcc", "", "cortex_m4", True,
        ("arm-none-eabi-gcc", "-mcpu=cortex-m4", "-mthumb", "-mfloat-abi=hard", "-mfpu=fpv4-sp-d16"),
    ),
)  # fmt: skip
"""The same chips by the distribution's compiler, where it is installed."""


def found_targets() -> dict[str, Target]:
    """The targets there are on this machine: those of the packaged compiler, and those of compilers found beside it."""
    return TARGETS | {target.name: target for target in BY_GCC if shutil.which(target.compiler[0])}


_HARNESS = """\
{adapter}

static {prefix}_state harness_state;

__attribute__((section(".entry"), used)) void harness_begin(void);
__attribute__((section(".entry"), used)) void harness_decide(const calor_input *given);
__attribute__((section(".entry"), used)) void harness_report(float *row);
__attribute__((section(".entry"), used)) void harness_run(const calor_input *given, float *rows, uint32_t steps);

__attribute__((section(".entry"), used)) void harness_sit(const float *given, float *row);

void harness_sit(const float *given, float *row)
{{
    calor_sit(&harness_state, given, row);
}}

void harness_begin(void)
{{
    {prefix}_init(&harness_state, &{prefix}_defaults);
}}

void harness_decide(const calor_input *given)
{{
    calor_decide(&harness_state, given);
}}

void harness_report(float *row)
{{
    calor_report(&harness_state, row, true);
}}

void harness_run(const calor_input *given, float *rows, uint32_t steps)
{{
    for (uint32_t k = 0u; k < steps; k++) {{
        calor_decide(&harness_state, given + k);
        calor_report(&harness_state, rows + {width}u * k, false);
    }}
}}
"""
LINKER = f"""\
MEMORY {{
    FLASH (rx) : ORIGIN = {FLASH:#x}, LENGTH = {FLASH_BYTES:#x}
    RAM (rwx) : ORIGIN = {RAM:#x}, LENGTH = {RAM_BYTES:#x}
}}
SECTIONS {{
    .text : {{ KEEP(*(.entry)) *(.text .text.*) *(.rodata .rodata.*) *(.srodata .srodata.*) }} > FLASH
    .data : {{ *(.data .data.* .sdata .sdata.*) }} > RAM AT> FLASH
    .bss : {{ *(.bss .bss.* .sbss .sbss.* COMMON) }} > RAM
    /DISCARD/ : {{ *(.ARM.exidx*) *(.ARM.extab*) *(.comment) *(.eh_frame*) *(.note*) }}
}}
"""


@dataclass(frozen=True)
class ChipRun:
    """What a chip answered (steps×width; ticks only in the first `counted` steps), and what it cost."""

    rows: npt.NDArray[np.float32]
    instructions: npt.NDArray[np.int64]
    stack_bytes: int
    program: Program

    @property
    def counted(self) -> int:
        """How many steps were counted."""
        return len(self.instructions)


def available() -> bool:
    """Whether the packages of the extra are there."""
    import importlib.util

    return all(importlib.util.find_spec(name) is not None for name in ("ziglang", "unicorn", "elftools"))


def command(target: Target) -> list[str]:
    """The compiler of a chip with its options, but for what is linked and how."""
    packaged = [sys.executable, "-m", "ziglang", "cc", "-target", target.triple, f"-mcpu={target.cpu}"]
    return [
        *([*target.compiler, "-nostdlib", "-ffreestanding"] if target.compiler else packaged), "-Os", "-g",
        "-std=c99", "-ffp-contract=off", "-ffunction-sections", "-fdata-sections", "-Wall", "-Wextra", "-Werror",
        "-Wl,--gc-sections", "-flto",
    ]  # fmt: skip


def build(design: Design, target: Target, folder: Path, form: Form = PLAIN) -> Program:
    """The design's C with its harness, built for a chip. Raises FirmwareError with the diagnostics."""
    sources = generate(design, form=form)
    seat = seat_code(design, sources)
    harness = _HARNESS.format(adapter=seat, prefix=sources.prefix, width=row_width(design))
    return built(sources, {"harness.c": sources.as_called(harness)}, target, folder, "harness_run")


def link(target: Target, folder: Path, sources: list[str], entry: str, output: str, where: str = "") -> Path:
    """A program for a chip, linked in `folder` from C files; what the compiler calls of itself is linked too.

    Raises FirmwareError with the diagnostics.
    """
    (folder / "chip.ld").write_text(LINKER)
    routines: list[str] = []
    if target.compiler:  # the packaged compiler brings its own
        (folder / "memory.c").write_text(render("memory.c.j2", {}))
        apart = [*target.compiler, "-Os", "-ffreestanding", "-fno-tree-loop-distribute-patterns", "-ffunction-sections"]
        host.built([*apart, "-c", str(folder / "memory.c"), "-o", str(folder / "memory.o")], where)
        routines = [str(folder / "memory.o"), "-lgcc"]
    program = folder / output
    host.built([
        *command(target), f"-Wl,-e,{entry}", "-Wl,-T," + str(folder / "chip.ld"), *sources, *routines,
        "-o", str(program),
    ], where)  # fmt: skip
    return program


def built(sources: Sources, around: dict[str, str], target: Target, folder: Path, entry: str) -> Program:
    """Sources with the C around them, files by name, built for a chip; functions that are called begin with harness_
    and are kept in the section .entry, `entry` among them. Raises FirmwareError with the diagnostics."""
    if not available():
        raise FirmwareError("", MISSING)
    sources.put(folder)
    for name, text in around.items():
        (folder / name).write_text(text)
    whole = host.whole(folder, *sources.built, *around)
    return read_program(link(target, folder, [whole], entry, f"{target.name}.elf", f" for {target.name}"))


def host_sizes(design: Design, form: Form = PLAIN) -> tuple[int, int] | None:
    """(flash, RAM) that the thermostat would take as this machine's own code, bytes; None without the extra.

    Raises FirmwareError where it does not build.
    """
    return _sizes(design, form, [*host.compiler(), *host.STRICT_FLAGS]) if available() else None


def _sizes(design: Design, form: Form, compiler: list[str]) -> tuple[int, int]:
    from elftools.elf.elffile import ELFFile

    sources = generate(design, form=form)
    with tempfile.TemporaryDirectory() as place:
        sources.put(Path(place))
        # the size of its state, as a symbol of that size
        (Path(place) / "size.c").write_text(
            f'#include "{sources.header}"\nchar calor_state[sizeof({sources.prefix}_state)];\n'
        )
        sizes = []
        for name in (*sources.built, "size.c"):
            object_file = Path(place) / "one.o"
            command = [*compiler, "-Os", "-c", str(Path(place) / name), "-o", str(object_file)]
            host.built(command)
            with object_file.open("rb") as stream:
                symbols = list(ELFFile(stream).get_section_by_name(".symtab").iter_symbols())
            sizes.append(sum(int(s["st_size"]) for s in symbols if s["st_info"]["type"] in ("STT_FUNC", "STT_OBJECT")))
    return sum(sizes[:-1]), sizes[-1]


def read_program(path: Path) -> Program:
    """A linked program as its file has it."""
    from elftools.elf.elffile import ELFFile

    with path.open("rb") as stream:
        elf = ELFFile(stream)
        segments = tuple(
            (int(segment["p_paddr"]), bytes(segment.data()))
            for segment in elf.iter_segments()
            if segment["p_type"] == "PT_LOAD" and segment["p_filesz"]
        )
        table = elf.get_section_by_name(".symtab")  # without -g the packaged compiler leaves it out
        symbols = [] if table is None else [symbol for symbol in table.iter_symbols() if symbol.name]
    entries = {s.name: int(s["st_value"]) & ~1 for s in symbols if s.name.startswith("harness_")}
    return Program(segments, entries)


def run(
    design: Design, target: Target, given: npt.NDArray[Any], counted: int = COUNTED_STEPS, form: Form = PLAIN
) -> ChipRun:
    """The C of `design` on a chip, on inputs of the adapter. Raises FirmwareError."""
    with tempfile.TemporaryDirectory() as place:
        program = build(design, target, Path(place), form)
    return run_program(design, target, program, given, counted)


def run_program(
    design: Design, target: Target, program: Program, given: npt.NDArray[Any], counted: int = COUNTED_STEPS
) -> ChipRun:
    """A built program on inputs of the adapter: the first `counted` steps one by one, the others in one go."""
    width, steps = row_width(design), len(given)
    counted = min(counted, steps)
    machine = Machine(target, program, given.tobytes(), 4 * width * max(steps, 1))
    top = RAM + RAM_BYTES - 16
    low = RAM + RAM_BYTES // 2
    machine.uc.mem_write(low, bytes([PAINT]) * (top - low))
    machine.call("harness_begin")
    instructions = np.zeros(counted, np.int64)
    size = given.dtype.itemsize
    for k in range(counted):
        if k == 0:
            counter = Counter(machine.uc)
        before = counter.total
        machine.call("harness_decide", INPUTS + k * size)
        instructions[k] = counter.total - before
        machine.call("harness_report", ANSWERS + 4 * width * k)
    if counted:
        counter.end()
    if steps > counted:
        machine.call("harness_run", INPUTS + counted * size, ANSWERS + 4 * width * counted, steps - counted)
    painted = np.frombuffer(bytes(machine.uc.mem_read(low, top - low)), np.uint8)
    touched = np.flatnonzero(painted != PAINT)
    stack_bytes = int(top - low - touched[0]) if len(touched) else 0
    answers = np.frombuffer(bytes(machine.uc.mem_read(ANSWERS, 4 * width * steps)), np.float32).reshape(steps, width)
    return ChipRun(answers, instructions, stack_bytes, program)
