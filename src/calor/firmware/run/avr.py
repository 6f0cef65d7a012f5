"""The generated C on an emulated 8-bit AVR, where int has 16 bits: built by its compiler, run by simavr.

Both are of the distribution, and left out where they are not installed. Inputs lie in program memory, answers come as
hexadecimal digits, so that no file and no debugger is needed.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import tempfile
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware.run import host
from calor.firmware.run.adapter import adapter_code
from calor.firmware.run.c_numbers import Numbers
from calor.firmware.run.exchange import row_width
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.generate import generate, outputs_of, tick_s
from calor.firmware.sources.templating import Sources

PART, CLOCK_HZ = "atmega1284p", 16_000_000
MOST_STEPS = 1_000
"""As many inputs as its first 64 KiB of program memory hold beside the program."""
LONGEST_S = 300.0
_FLAGS = (
    "-std=c99",
    "-ffp-contract=off",
    "-Os",
    "-Wall",
    "-Wextra",
    "-Werror",
    "-ffunction-sections",
    "-fdata-sections",
)
_PROGRAM = """\
static void start(void);
static void timed(unsigned char what);
#define CALOR_TIMED(call) do {{ start(); call; timed(0u); }} while (0)
{adapter}
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/pgmspace.h>
#include <avr/sleep.h>

{inputs}

static void put(uint8_t value)
{{
    const uint8_t digits[2] = {{ (uint8_t)(value >> 4), (uint8_t)(value & 15u) }};
    for (uint8_t k = 0u; k < 2u; k++) {{
        while ((UCSR0A & (1u << UDRE0)) == 0u) {{
        }}
        UDR0 = (uint8_t)(digits[k] + (digits[k] < 10u ? 48u : 55u));
    }}
}}

static {prefix}_state state;

/* Clock cycles of a piece of code by a timer that counts them, up to 131 071. */
static uint32_t seen_cycles, most_cycles[2], all_cycles[2];
static uint16_t counted[2];

static void timed(uint8_t what)
{{
    uint32_t cycles = TCNT1;
    cycles += (TIFR1 & (1u << TOV1)) != 0u ? 65536u : 0u;
    cycles = cycles > seen_cycles ? cycles - seen_cycles : 0u;
    most_cycles[what] = cycles > most_cycles[what] ? cycles : most_cycles[what];
    all_cycles[what] += cycles;
    counted[what]++;
}}

static void start(void)
{{
    TCNT1 = 0u;
    TIFR1 = 1u << TOV1;
}}

static void run(const uint8_t *inputs, uint16_t steps)
{{
    calor_input given;
    float row[{width}];
    for (uint16_t k = 0u; k < steps; k++) {{
        memcpy_P(&given, inputs + (uint16_t)(k * sizeof given), sizeof given);
        calor_decide(&state, &given);
        calor_report(&state, row, true);
        for (uint8_t at = 0u; at < sizeof row; at++) {{
            put(((const uint8_t *)row)[at]);
        }}
        UDR0 = 10u;
    }}
}}

int main(void)
{{
    UCSR0B = 1u << TXEN0;
    {prefix}_init(&state, &{prefix}_defaults);
    TCCR1B = 1u << CS10;
    start();
    timed(0u); /* what looking at the clock takes */
    seen_cycles = most_cycles[0];
    most_cycles[0] = all_cycles[0] = 0u;
    counted[0] = 0u;
{calls}
{ticks}
    for (uint8_t what = 0u; what < 2u; what++) {{
        const uint32_t mean = counted[what] > 0u ? all_cycles[what] / counted[what] : 0u;
        for (uint8_t at = 0u; at < 4u; at++) {{
            put((uint8_t)(mean >> (8u * at)));
        }}
        for (uint8_t at = 0u; at < 4u; at++) {{
            put((uint8_t)(most_cycles[what] >> (8u * at)));
        }}
    }}
    UDR0 = 10u;
    cli();
    sleep_enable();
    sleep_cpu();
    return 0;
}}
"""


def available() -> bool:
    """Whether compiler and emulator are installed."""
    return shutil.which("avr-gcc") is not None and shutil.which("simavr") is not None


class Cycles(NamedTuple):
    """Clock cycles of a control step and of a tick of a switch, in the mean and at most; 0 where it has none."""

    step_mean: int
    step_worst: int
    tick_mean: int
    tick_worst: int


def rows(design: Design, given: npt.NDArray[Any], form: Form = PLAIN) -> tuple[npt.NDArray[np.float32], Cycles]:
    """The rows of answers (steps×width) of the C of `design` to inputs, MOST_STEPS of them at most, and its cycles.

    Raises FirmwareError where it does not build, or does not end.
    """
    given = given[:MOST_STEPS]
    sources = generate(design, form=form)
    size = given.dtype.itemsize
    # no array may be larger than an int counts
    parts = np.array_split(np.arange(len(given)), max(1, -(-len(given) * size // 30_000)))
    arrays = [
        f"static const uint8_t PART_{n}[{len(part) * size}] PROGMEM = {{\n{_bytes(given[part].tobytes())}\n}};"
        for n, part in enumerate(parts)
    ]
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        sources.put(folder)
        calls = "\n".join(f"    run(PART_{n}, {len(part)}u);" for n, part in enumerate(parts))
        program = _PROGRAM.format(
            adapter=adapter_code(design, sources), prefix=sources.prefix, width=row_width(design),
            inputs="\n".join(arrays), calls=calls, ticks=_ticks(design, sources),
        )  # fmt: skip
        (folder / "main.c").write_text(sources.as_called(program))
        command = [
            "avr-gcc",
            f"-mmcu={PART}",
            *_FLAGS,
            host.whole(folder, *sources.built, "main.c"),
            "-lm",
            "-Wl,--gc-sections",
            "-o",
            str(folder / "avr.elf"),
        ]
        host.built(command, f" for {PART}")
        digits = printed(folder / "avr.elf")
    data = bytes.fromhex(digits[: len(digits) // 2 * 2])
    size = len(given) * 4 * row_width(design)
    if len(data) != size + 16:
        raise FirmwareError("", f"the firmware gave {len(data)} bytes of its answers on {PART} and then no more")
    cycles = Cycles(*(int(one) for one in np.frombuffer(data[size:], np.uint32)))
    return np.frombuffer(data[:size], np.float32).reshape(-1, row_width(design)), cycles


def _ticks(design: Design, sources: Sources) -> str:
    """C that times the first switch at a demand of 30 %, over more than a window."""
    output = next((one for one in outputs_of(design) if one.switches and one.timing is None), None)
    if output is None:
        return ""
    tick = Numbers(sources.form.fixed).constant(tick_s(design))
    demand = Numbers(sources.form.fixed).constant(0.3)
    return (
        f"    {sources.prefix}_init(&state, &{sources.prefix}_defaults);\n    state.{output.prefix}demand = {demand};\n"
        f"    for (uint16_t k = 0u; k < 3000u; k++) {{\n        start();\n"
        f"        (void){sources.prefix}_{output.prefix}switch(&state, {tick});\n        timed(1u);\n    }}"
    )


def printed(program: Path) -> str:
    """The hexadecimal digits that a program sends over its serial line until it sleeps. Raises FirmwareError where it
    does not end.
    """
    emulator = ["simavr", "-m", PART, "-f", str(CLOCK_HZ), str(program)]
    try:
        done = subprocess.run(emulator, capture_output=True, text=True, timeout=LONGEST_S, check=False)
    except subprocess.TimeoutExpired:
        raise FirmwareError("", f"the firmware did not end within {LONGEST_S:g} s on {PART}") from None
    return "".join(re.findall(r"\x1b\[32m([0-9A-F]*)", done.stdout + done.stderr))


def _bytes(data: bytes) -> str:
    """Bytes as C writes them, many on a line."""
    return ",\n".join(",".join(str(one) for one in data[k : k + 40]) for k in range(0, len(data), 40))
