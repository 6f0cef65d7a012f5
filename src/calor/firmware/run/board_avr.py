"""The program for a bare AVR on an emulator with its peripherals: converter, timers, pins, line, EEPROM, watchdog.

The emulator's library is driven by a small program of its own, which is built by this machine's compiler.
"""

from __future__ import annotations

import ctypes.util
import importlib.util
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from calor.errors import FirmwareError
from calor.firmware.run import host
from calor.firmware.run.bare_board import Pins
from calor.firmware.run.board_avr_driver import DRIVER
from calor.firmware.sources.ports import AVR_PARTS, PORTS, AvrPart

REGISTERS = ("DDRB", "DDRD", "TCCR1A", "TCCR1B", "ICR1L", "ICR1H", "OCR1AL", "OCR1AH", "OCR1BL", "OCR1BH")
"""Those that the driver tells, in its order."""
MISSING = "not run: it needs avr-gcc with its C library, simavr, and the package pyelftools; install them"


def available() -> bool:
    """Whether the compiler for an AVR, the emulator's library, and what reads a program's sizes are there."""
    tools = shutil.which("avr-gcc") is not None and ctypes.util.find_library("simavr") is not None
    return tools and importlib.util.find_spec("elftools") is not None


class AvrBoard:
    """A program for a bare AVR that runs."""

    def __init__(self, driver: subprocess.Popen[str], part: AvrPart) -> None:
        self._driver, self._part = driver, part
        self._letters, self._keys, self._restarts = b"", 0, False
        self.said, self.resets = b"", 0

    def send(self, letters: bytes) -> None:
        """Letters that come over its line in the next stretch."""
        self._letters += letters

    def press(self, *keys: str) -> None:
        """Which contacts are closed from here on: up, down, set, button."""
        self._keys = sum(1 << 2 + ("up", "down", "set", "button").index(key) for key in keys)

    def restart(self) -> None:
        """Reset it before the next stretch; what it keeps stays."""
        self._restarts = True

    def run(self, milliseconds: int, shares: tuple[float, float], full_volt: float) -> Pins:
        """Run it for a while with these shares of the reference at sensor and knob.

        Raises FirmwareError where it ends.
        """
        volts = " ".join(str(round(1e6 * full_volt * share)) for share in shares)
        assert self._driver.stdin
        assert self._driver.stdout
        try:
            self._driver.stdin.write(f"{milliseconds} {volts} {self._keys} {self._restarts:d} {self._letters.hex()}\n")
            self._driver.stdin.flush()
            answer = self._driver.stdout.readline()
        except BrokenPipeError:
            answer = ""
        if not answer.endswith("\n"):
            raise FirmwareError("", f"the program ended on {self._part.name}")
        self._letters, self._restarts = b"", False
        shown, _, said = answer.partition("-")
        self.said += bytes.fromhex(said.strip())
        words = shown.split()
        levels, registers, self.resets = [float(one) for one in words[:32]], words[32:-1], int(words[-1])
        return self._pins(levels, dict(zip(REGISTERS, map(int, registers), strict=True)))

    def _pins(self, levels: list[float], registers: dict[str, int]) -> Pins:
        """What pins that are outputs were at: levels of the ports A to D, pulse widths by the registers of timer 1."""
        part = self._part.pins
        ports = {letter: levels[8 * k : 8 * k + 8] for k, letter in enumerate("ABCD")}

        def driven(port: str, bit: int) -> bool:
            return bool(registers[f"DDR{port}"] >> bit & 1)

        top = registers["ICR1L"] + 256 * registers["ICR1H"] + 1
        in_mode_14 = registers["TCCR1A"] & 3 == 2 and registers["TCCR1B"] & 0x18 == 0x18 and registers["TCCR1B"] & 7
        widths = []
        for channel, bit in zip("AB", part.pwm_bits, strict=True):
            counts = registers[f"OCR1{channel}L"] + 256 * registers[f"OCR1{channel}H"] + 1
            is_connected = in_mode_14 and registers["TCCR1A"] >> (6 if channel == "A" else 4) & 3 == 2
            is_driven = driven(part.pwm, bit)
            widths.append(min(counts / top, 1.0) if is_connected and is_driven else ports[part.pwm][bit] * is_driven)
        switched = range(part.first_output, part.first_output + 4)
        return Pins(
            tuple(ports[part.outputs][bit] * driven(part.outputs, bit) for bit in switched),
            tuple(widths),
            tuple(ports["D"][bit] * driven("D", bit) for bit in (2, 3)),
        )


def driver_built(place: Path) -> Path:
    """The program that drives the emulator, built in `place`. Raises FirmwareError where it does not build."""
    library = ctypes.util.find_library("simavr")
    if library is None:
        raise FirmwareError("", MISSING)
    (place / "driver.c").write_text(DRIVER)
    words = [*host.compiler(), "-O2", "-rdynamic", "-o", str(place / "driver"), str(place / "driver.c")]
    host.built([*words, f"-l:{library}"], " for the emulated AVR")
    return place / "driver"


@contextmanager
def running(driver: Path, program: Path, part: str, full_volt: float) -> Iterator[AvrBoard]:
    """A linked program on an emulated part."""
    words = [str(driver), str(program), part, str(PORTS["avr"].clock_hz), str(round(1000.0 * full_volt))]
    with subprocess.Popen(
        words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    ) as driven:
        try:
            yield AvrBoard(driven, next(one for one in AVR_PARTS if one.name == part))
        finally:
            driven.kill()
