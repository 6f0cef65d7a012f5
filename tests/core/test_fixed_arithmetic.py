"""The arithmetic of the C in fixed point against whole numbers that have no end, on this machine and an emulated AVR."""

from __future__ import annotations

import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor.firmware.run import avr, host
from calor.firmware.sources import generate
from calor.firmware.sources.form import Form
from tests.conftest import made

PUT = {
    "host": '#include <stdio.h>\nstatic void put(int32_t x) { printf("%08lX", (unsigned long)(uint32_t)x); }',
    "avr": "#include <avr/interrupt.h>\n#include <avr/io.h>\n#include <avr/sleep.h>\n"
    "static void put(int32_t x) { for (int8_t at = 28; at >= 0; at -= 4) {"
    " const uint8_t digit = (uint8_t)((uint32_t)x >> at) & 15u; UDR0 = (uint8_t)(digit + (digit < 10u ? 48u : 55u)); }"
    " UDR0 = (uint8_t)'\\n'; }",
}
BEGIN = {"host": "", "avr": "    UCSR0B = 1u << TXEN0;\n"}
HOW = {"host": [], "halves": ["-D__ARM_ARCH_6M__"]}
END = {"host": "", "avr": "    cli();\n    sleep_enable();\n    sleep_cpu();\n"}
"""How a program prints its answers as hexadecimal digits."""


def held(value: int) -> int:
    """A whole number as Q16.16 holds it."""
    return max(-(2**31), min(2**31 - 1, value))


def cut(numerator: int, denominator: int) -> int:
    """A quotient without what is left over, as C divides."""
    size = abs(numerator) // abs(denominator)
    return -size if (numerator < 0) != (denominator < 0) else size


def rounded(value: int) -> int:
    """A product of two Q16.16 numbers, to the nearest and away from 0 in the middle."""
    size = (abs(value) + 32_768) >> 16
    return -size if value < 0 else size


ARITHMETIC: dict[str, Any] = {
    "q_add(a, b)": lambda a, b: held(a + b),
    "q_sub(a, b)": lambda a, b: held(a - b),
    "q_mul(a, b)": lambda a, b: held(rounded(a * b)),
    "q_div(a, b)": lambda a, b: held(cut(a << 16, b)) if b else (-(2**31) if a < 0 else 2**31 - 1),
    "q_times(a, b)": lambda a, b: held(a * b),
    "q_times((int64_t)a * 65536, b)": lambda a, b: held(held(a * 65_536) * b),
    "q_from(a)": lambda a, b: held(a * 65_536),
    "q_parts(a, 6400)": lambda a, b: held(cut(a * 65_536, 6400)),
    "q_parts((int64_t)a * 128, 6400)": lambda a, b: held(cut(a * 128 * 65_536, 6400)),
    "q_parts((int64_t)a * 65536, 100000)": lambda a, b: held(cut(a * 2**32, 100_000)),
    "q_counts(a, 640)": lambda a, b: (a * 640 + 32_768) >> 16 if a > 0 else 0,
}
"""Each operation of the header, and the same with Python's whole numbers, which have no end."""


@pytest.mark.parametrize("how", ["host", "halves", "avr"])
def test_the_arithmetic_is_exact_and_held(how: str, tmp_path: Path) -> None:
    """At every end and corner and at random: the same as whole numbers without end, held at the range's ends.
    `halves`: as a processor multiplies whose products have 32 bits."""
    compiler = "avr" if how == "avr" else "host"
    corners = [0, 1, 2, 65_535, 65_536, 98_304, 2**30, 2**31 - 65_536, 2**31 - 1]
    random = np.random.default_rng(3).integers(-(2**31), 2**31, 60) >> np.random.default_rng(4).integers(0, 31, 60)
    numbers = sorted({sign * one for one in corners for sign in (1, -1)} | {-(2**31)} | {int(one) for one in random})
    if compiler == "avr":
        if not avr.available():
            pytest.skip("no avr-gcc or simavr")
        numbers = numbers[::4]
    pairs = [(a, b) for a in numbers for b in numbers]
    (tmp_path / "q16.h").write_text(generate.generate(made(), form=Form(True, False)).files["untitled_q16.h"])
    functions = "".join(
        f"static int32_t f{n}(int32_t a, int32_t b) {{ (void)b; return (int32_t)({text}); }}\n"
        for n, text in enumerate(ARITHMETIC)
    )
    calls = "".join(f"        put(f{n}(NUMBERS[i], NUMBERS[k]));\n" for n in range(len(ARITHMETIC)))
    listed = ", ".join(f"(int32_t)0x{one & 0xFFFFFFFF:08X}u" for one in numbers)
    text = (
        f'#include "q16.h"\n{PUT[compiler]}\n{functions}static const int32_t NUMBERS[] = {{ {listed} }};\n'
        f"int main(void)\n{{\n{BEGIN[compiler]}"
        f"    for (int i = 0; i < {len(numbers)}; i++) {{ for (int k = 0; k < {len(numbers)}; k++) {{\n{calls}    }} }}\n"
        f"{END[compiler]}    return 0;\n}}\n"
    )
    (tmp_path / "main.c").write_text(text)
    strict = ["-std=c99", "-Wall", "-Wextra", "-Werror", str(tmp_path / "main.c"), "-o", str(tmp_path / "run")]
    if compiler == "host":
        subprocess.run(
            [*host.compiler(), *strict, *HOW[how], "-fsanitize=undefined", "-fno-sanitize-recover"], check=True
        )
        printed = subprocess.check_output([tmp_path / "run"], text=True)
    else:
        subprocess.run(["avr-gcc", f"-mmcu={avr.PART}", "-Os", *strict], check=True)
        printed = avr.printed(tmp_path / "run")
    answers = np.array([int(printed[k : k + 8], 16) for k in range(0, len(printed), 8)], np.uint32).astype(np.int64)
    answers = np.where(answers >= 2**31, answers - 2**32, answers).reshape(len(pairs), len(ARITHMETIC))
    for n, (text, exact) in enumerate(ARITHMETIC.items()):
        expected = np.array([exact(a, b) for a, b in pairs])
        wrong = np.flatnonzero(answers[:, n] != expected)
        assert not len(wrong), (text, pairs[wrong[0]], answers[wrong[0], n], expected[wrong[0]])
