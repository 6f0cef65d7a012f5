"""What a design's C takes on a processor: as its linker lays it out, library and copied constants included.

A program is linked that does nothing but call the thermostat in a loop, without what it does not call; the same without
the thermostat is taken off.
"""

from __future__ import annotations

import shutil
import tempfile
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware.run import chip, emulator, host
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.generate import generate, outputs_of, tick_s
from calor.firmware.sources.ports import AVR_PARTS
from calor.firmware.sources.templating import Sources, c_float

AVR_PART, AVR_FLASH_BYTES, AVR_RAM_BYTES, _ = AVR_PARTS[0]
"""The usual small 8-bit part, as its compiler calls it."""
_AVR = (
    "avr-gcc", f"-mmcu={AVR_PART}", "-std=c99", "-ffp-contract=off", "-Os", "-Wall", "-Wextra", "-Werror",
    "-ffunction-sections", "-fdata-sections", "-Wl,--gc-sections", "-flto",
    "-Wl,--defsym=__TEXT_REGION_LENGTH__=0x20000",  # what does not fit is sized, too
)  # fmt: skip
_EMPTY = (
    "void *volatile calor_seen;\nvolatile unsigned char calor_out;\n"
    "int main(void) { calor_seen = 0; for (;;) { calor_out = 1u; } }\n"
)


class Size(NamedTuple):
    """Bytes of flash, initial values of variables among them, and of RAM, the stack apart."""

    flash_bytes: int
    ram_bytes: int


@lru_cache(maxsize=64)
def of_chip(design: Design, target: emulator.Target, form: Form = PLAIN) -> Size:
    """What the C takes on a chip. Raises FirmwareError where it does not build."""
    sources = generate(design, form=form)
    return _linked({**sources.files, "main.c": _main(design, sources)}, ["main.c", *sources.built], target)


def avr_compiler() -> bool:
    """Whether the compiler for an 8-bit AVR is found."""
    return shutil.which(_AVR[0]) is not None


@lru_cache(maxsize=16)
def of_avr(design: Design, form: Form = PLAIN) -> Size:
    """What the C takes on an 8-bit AVR. Raises FirmwareError where it does not build."""
    sources = generate(design, form=form)
    return _linked({**sources.files, "main.c": _main(design, sources)}, ["main.c", *sources.built], None)


def of_program(text: str, target: emulator.Target | None) -> Size:
    """What a program of one file takes, on a chip or on an 8-bit AVR where `target` is None. Raises FirmwareError."""
    return _linked({"main.c": text}, ["main.c"], target)


def unable(target: emulator.Target | None) -> str:
    """Why a compiler builds not even a program that does nothing, for a chip or for an AVR; empty where it does."""
    try:
        _sized({"empty.c": _EMPTY}, ["empty.c"], target)
    except FirmwareError as error:
        return host.cause(error)
    return ""


def fits_avr(size: Size) -> str:
    """What of a size does not fit the usual small part; empty where it all does."""
    over = [
        f"{taken} of {most} B of {name}"
        for name, taken, most in (("flash", size.flash_bytes, AVR_FLASH_BYTES), ("RAM", size.ram_bytes, AVR_RAM_BYTES))
        if taken > most
    ]
    return f"does not fit {AVR_PART}: {', '.join(over)}" if over else ""


def _linked(files: dict[str, str], names: list[str], target: emulator.Target | None) -> Size:
    """The size of a program of some files, less that of one that does nothing."""
    # the empty one in a folder of its own, so that it is the same for every design and built once
    whole, empty = _sized(files, names, target), _sized({"empty.c": _EMPTY}, ["empty.c"], target)
    return Size(whole.flash_bytes - empty.flash_bytes, whole.ram_bytes - empty.ram_bytes)


def _sized(files: dict[str, str], names: list[str], target: emulator.Target | None) -> Size:
    """The size of a program of some of the files, with all that is always in one; on an 8-bit AVR where no chip is
    named."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        for name, text in files.items():
            (folder / name).write_text(text)
        paths, program, where = [str(folder / name) for name in names], folder / "sized.elf", " to be sized"
        if target is None:
            host.built([*_AVR, *paths, "-lm", "-o", str(program)], where)
        else:
            chip.link(target, folder, paths, "main", program.name, where)
        return of_file(program)


def _main(design: Design, sources: Sources) -> str:
    """A program that only calls the thermostat: readings and outputs are volatile, so that nothing is worked out."""
    own, form = sources.prefix, sources.form
    number = "q16" if form.fixed else "float"
    kind = number if design.probe.kind == "ideal" else "uint32_t"

    def time(seconds: float) -> str:
        return f"(q16){round(seconds * 65_536.0)}" if form.fixed else c_float(seconds)

    calls = []
    for output in outputs_of(design):
        if output.timing is not None:
            calls.append(f"out = {own}_{output.prefix}pwm_counts(&state);")
        elif output.switches:
            calls.append(f"out = {own}_{output.prefix}switch(&state, {time(tick_s(design))}) ? 1u : 0u;")
        else:
            calls.append(f"out = (uint32_t)state.{output.prefix}demand;")
    declared, begun, step = _outward(sources)
    step = step or f"(void){own}_step(&state, reading, {{time}});"
    calls.insert(0, step.format(time=time(float(design.law.period_s))))
    body = "\n        ".join(calls)
    program = (
        f'#include "{sources.header}"\nstatic {own}_state state;\nvolatile {kind} reading;\nvolatile uint32_t out;\n'
        f"void *volatile calor_seen; /* all of the state may be looked at */\n{declared}int main(void)\n{{\n"
        f"    {own}_init(&state, &{own}_defaults);\n{begun}    calor_seen = &state;\n    for (;;) {{\n"
        f"        {body}\n    }}\n}}\n"
    )
    return sources.as_called(program)


def _outward(sources: Sources) -> tuple[str, str, str]:
    """What of such a program declares, begins and calls the line and the front; nothing where there are none."""
    own, form = sources.prefix, sources.form
    if not form.is_outward:
        return "", "", ""
    includes = [name for name, is_there in (("link", form.link), ("panel", form.panel)) if is_there]
    declared = "".join(f'#include "{own}_{name}.h"\n' for name in includes)
    declared += f"static {own}_parameters parameters;\nconst {own}_memory *volatile memory;\nvolatile char letter;\n"
    begun = f"    {own}_parameters_init(&parameters, &state, memory);\n"
    step = ""
    if form.link:
        declared += f"static {own}_link link;\nstatic char line[{own.upper()}_LINK_LONGEST];\n"
        begun += f"    {own}_link_init(&link, &parameters);\n"
        begun += f"    out = {own}_link_greeting(&link, line, sizeof line);\n"
        step = (
            f"(void){own}_link_step(&link, reading, {{time}}); out = {own}_link_row(&link, line, sizeof line);"
            f" out = {own}_link_feed(&link, letter, line, sizeof line);"
        )
    if form.panel:
        declared += f"static {own}_panel panel;\nvolatile bool key;\n"
        declared += f"static char top[{form.panel + 1}], bottom[{form.panel + 1}];\n"
        begun += f"    {own}_panel_init(&panel, &parameters);\n"
        begun += "    link.panel = &panel;\n" if form.link else ""
        step = step or f"(void){own}_step(&state, reading, {{time}});"
        step += (
            f" {{{{ {own}_keys keys; keys.up = key; keys.down = key; keys.set = key;"
            f" {own}_panel_keys(&panel, keys, 10u); {own}_panel_show(&panel, top, bottom); calor_seen = top; }}}}"
        )
    return declared, begun, step


def of_file(path: Path) -> Size:
    """Flash and RAM of a linked program, by its sections."""
    from elftools.elf.constants import SH_FLAGS
    from elftools.elf.elffile import ELFFile

    flash = ram = 0
    with path.open("rb") as stream:
        for section in ELFFile(stream).iter_sections():
            if not section["sh_flags"] & SH_FLAGS.SHF_ALLOC:
                continue
            is_variable = bool(section["sh_flags"] & SH_FLAGS.SHF_WRITE)
            has_bytes = section["sh_type"] != "SHT_NOBITS"
            flash += int(section["sh_size"]) if has_bytes else 0
            ram += int(section["sh_size"]) if is_variable else 0
    return Size(flash, ram)
