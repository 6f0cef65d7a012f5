"""The whole program for a bare chip, built as its Makefile builds it and run beside the load of its design: it must
switch its pins as the simulation switches its outputs."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from calor import loop
from calor.compiled.compiler import environment
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import FirmwareError
from calor.firmware.run import board_avr, chip, host, sizes
from calor.firmware.run.bare_board import Bench, Board
from calor.firmware.run.board_m0plus import M0PlusBoard
from calor.firmware.run.c_numbers import needs_other
from calor.firmware.sources import made_up_chip
from calor.firmware.sources.ports import AVR_PARTS, Port, reading_of, usual_part
from calor.firmware.sources.templating import Sources
from calor.sense.knob import share_at
from calor.sense.registry import has_converter

RUN_S = 60.0
LEVEL_WITHIN = 0.2
CELSIUS_WITHIN, OF_ITS_WAY_WITHIN, STEPS_WITHIN = 1.0, 0.1, 1.5
"""How far pins and temperature may be from the simulation's: thresholds are met a little earlier or later."""
NEARLY_FULL = 0.9
PRESSED_S = 0.1
DOES_NOT_FIT = ("not within region", "will not fit", "overflowed", "no room is left")
"""Words of linkers, one of them ours."""
M0PLUS_COMPILER = "arm-none-eabi-gcc"


def data(design: Design, sources: Sources, port: Port) -> dict[str, Any]:
    """Sizes of the program, what it did beside the load, and what of it is wrong, as plain data.

    `sources` are those of the whole folder.
    """
    said: dict[str, Any] = {"name": port.name, "run_s": 0.0, "problems": []}
    missing = _missing(port)
    if missing:
        return said | {"note": missing}
    with tempfile.TemporaryDirectory() as place:
        try:
            program, part = built(sources, port, Path(place))
        except FirmwareError as error:
            return said | {"problems": [str(error)]}
        size = sizes.of_file(program)
        flash, ram = _memories(port, part)
        said |= {
            "part": part, "flash_bytes": size.flash_bytes, "flash_of_bytes": flash, "ram_bytes": size.ram_bytes,
            "ram_of_bytes": ram,
        }  # fmt: skip
        if size.flash_bytes > NEARLY_FULL * flash:
            said["warning"] = f"{100.0 * size.flash_bytes / flash:.0f} % of the flash is taken"
        try:
            driver = board_avr.driver_built(Path(place)) if port.name == "avr" else None
        except FirmwareError as error:
            return said | {"note": f"not run: {host.cause(error)}"}
        try:
            with powered(design, program, port, part, driver) as board:
                return said | _beside_load(design, board, port)
        except FirmwareError as error:
            return said | {"problems": [str(error)]}


def built(sources: Sources, port: Port, place: Path) -> tuple[Path, str]:
    """The program of a port, linked in `place` by its Makefile, and the part it is for. Raises FirmwareError."""
    for name, text in sources.files.items():
        (place / name).parent.mkdir(exist_ok=True)
        (place / name).write_text(text)
    program = place / port.name / f"{sources.prefix}.elf"
    command = ["make", "-C", str(program.parent), program.name, "CFLAGS_MORE=-Werror"]
    if port.name == "m0plus" and shutil.which(M0PLUS_COMPILER) is None:
        target = chip.TARGETS["cortex-m0plus"]
        packaged = f"{sys.executable} -m ziglang cc -target {target.triple}"
        command += [f"CC={packaged}", f"CHIP=-mcpu={target.cpu}", "ROUTINES="]
    done = subprocess.run(command, capture_output=True, text=True, check=False, env=environment())
    if done.returncode != 0 and any(word in done.stderr for word in DOES_NOT_FIT):
        raise FirmwareError("", f"the program does not fit {part_of(sources, port)} with a stack beside it")
    if done.returncode != 0:
        said = host.cause(FirmwareError("", f"does not build: {done.stderr.strip()}"))
        raise FirmwareError("", f"the program for {port.words} {said}")
    return program, part_of(sources, port)


def part_of(sources: Sources, port: Port) -> str:
    """The part that the Makefile of a port builds for."""
    return usual_part(sources.form).name if port.name == "avr" else "a made-up chip"


@contextmanager
def powered(
    design: Design, program: Path, port: Port, part: str, driver: Path | None = None
) -> Iterator[M0PlusBoard | board_avr.AvrBoard]:
    """A linked program on the emulator of its chip, an AVR's by its driver."""
    if driver is None:
        yield M0PlusBoard(program)
        return
    full_volt = float(design.probe.adc.reference_volt) if has_converter(design.probe) else 5.0
    with board_avr.running(driver, program, part, full_volt) as board:
        yield board


def _missing(port: Port) -> str:
    """What is not installed and would be needed to build and run it; empty where all is there."""
    if shutil.which("make") is None:
        return "not run: make is not installed"
    if port.name == "avr":
        return "" if board_avr.available() else board_avr.MISSING
    return "" if chip.available() else chip.MISSING


def _memories(port: Port, part: str) -> tuple[int, int]:
    if port.name == "m0plus":
        return made_up_chip.FLASH_BYTES, made_up_chip.RAM_BYTES
    own = next(one for one in AVR_PARTS if one.name == part)
    return own.flash_bytes, own.ram_bytes


def _beside_load(design: Design, board: Board, port: Port) -> dict[str, Any]:
    """What it did beside the load, against a run of the simulation from the same start."""
    first = design.find_trial(None)
    start = first.start_celsius if first.start_celsius is not None else design.load.ambient_celsius
    trial = Trial(name="beside the load", span_s=RUN_S, start_celsius=start)
    bench = Bench(design, board, start)
    levels = [float(one) for one in _run(design, bench, board).mean(axis=0)]
    said: dict[str, Any] = {
        "run_s": RUN_S, "start_celsius": start, "end_celsius": bench.celsius, "mean_level": levels,
        "resets": board.resets,
    }  # fmt: skip
    problems = [f"its watchdog restarted it {board.resets} times in {RUN_S:g} s"] if board.resets else []
    unread = _unread(design, port)
    if unread and design.law.kind != "timer":
        return said | {"problems": problems, "note": f"not compared with the simulation: {unread} is yours to read"}
    trace = loop.run(design, trial)
    # a decision that falls on the other side of a threshold lasts for a step
    step_celsius, step_share = float(np.abs(np.diff(trace.true_celsius)).max()), float(design.law.period_s) / RUN_S
    simulated = [float(np.abs(one.delivered).mean()) for one in trace.outputs or (trace,)]
    there = float(trace.true_celsius[-1])
    said |= {"simulated_end_celsius": there, "simulated_mean_level": simulated}
    within = max(CELSIUS_WITHIN, OF_ITS_WAY_WITHIN * abs(there - start), STEPS_WITHIN * step_celsius)
    if abs(said["end_celsius"] - there) > within:
        problems.append(
            f"it ends at {said['end_celsius']:.2f} °C, the simulation at {there:.2f}: more than {within:.2g} °C apart"
        )
    problems += [
        f"its {name} is on for {level * 100.0:.0f} % of the time, the simulation's for {other * 100.0:.0f} %"
        for name, level, other in zip(design.outputs, levels, simulated, strict=True)
        if abs(level - other) > max(LEVEL_WITHIN, STEPS_WITHIN * step_share)
    ]
    return said | {"problems": problems}


def _run(design: Design, bench: Bench, board: Board) -> npt.NDArray[np.float64]:
    """The shares of full of each stretch, with its knob at the setpoint and its button pressed where it starts off."""
    knob, button = design.knob, design.button
    if knob is not None:
        bench.knob_share = share_at(knob, getattr(design.setpoint, "celsius", knob.low_celsius))
    pressed_s = 0.0 if button is None or button.starts_on else 2.0 * button.debounce_s + PRESSED_S
    if pressed_s:
        board.press("button")
        bench.run(pressed_s)
        board.press()
    return bench.run(RUN_S - bench.time_s).levels


def _unread(design: Design, port: Port) -> str:
    """What its own code has to read before the program can be compared; empty where the chip's converter reads all."""
    if not has_converter(design.probe) or reading_of(design.probe.adc.bits, port) is None:
        return "the sensor"
    return "a second temperature" if needs_other(design) else ""
