"""The generated firmware as the whole device: its thermostat, its line, its front and its memory, on the host or on an
emulated chip. What is given and answered passes through memory, so that both are asked alike."""

from __future__ import annotations

import ctypes
import struct
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware.run import chip, emulator, host
from calor.firmware.run.device_code import MEMORY_BYTES, device_code
from calor.firmware.run.exchange import row_width
from calor.firmware.sources.form import Form
from calor.firmware.sources.generate import generate
from calor.firmware.sources.outward import by_hand
from calor.firmware.sources.templating import Sources

WHOLE = Form(link=True, panel=16)
"""The form of a device with all that it can have to the outside."""
MOST_GIVEN, MOST_ANSWERED = 512, 8192
ENTRY = "harness_device_begin"
BLANK = b"\xff" * MEMORY_BYTES
"""Memory that nothing was written into yet."""


class Stepped(NamedTuple):
    """A control step of a device: its row, as a run has it, and the line that it sends."""

    row: npt.NDArray[np.float32]
    line: bytes


Called = Callable[[str, bytes, int], bytes]
"""Calls a function of the device by its name with what it is given; so many bytes of what it puts down."""


class Device:
    """A device that has been switched on."""

    def __init__(self, call: Called, width: int, memory: bytes = BLANK) -> None:
        self._call, self._width = call, width
        self.put_memory(memory)
        self.begin()

    def begin(self) -> None:
        """Switch it off and on: what it kept is taken up."""
        self._call("harness_device_begin", b"", 0)

    def step(self, given: npt.NDArray[np.float32]) -> Stepped:
        """A control step on what a run gives (`calor.loop.seat.GIVEN`)."""
        answer = self._call("harness_device_step", given.tobytes(), MOST_ANSWERED // 4)
        count, end = struct.unpack_from("<I", answer)[0], 4 + 4 * self._width
        return Stepped(np.frombuffer(answer, np.float32, self._width, 4), answer[end : end + count])

    def feed(self, letters: bytes) -> bytes:
        """Letters that come over its line; what it answers."""
        answer = b""
        for at in range(0, len(letters), MOST_GIVEN - 8):
            part = letters[at : at + MOST_GIVEN - 8]
            told = self._call("harness_device_feed", struct.pack("<I", len(part)) + part, MOST_ANSWERED // 4)
            answer += told[4 : 4 + struct.unpack_from("<I", told)[0]]
        return answer

    def greeting(self) -> bytes:
        """What it says of itself at the start."""
        told = self._call("harness_device_memory", struct.pack("<II", 3, 0), MOST_ANSWERED // 4)
        return told[4 : 4 + struct.unpack_from("<I", told)[0]]

    def keys(self, up: bool, down: bool, set_key: bool, passed_ms: int) -> None:
        """Its three contacts for a while."""
        self._call("harness_device_keys", struct.pack("<II", up + 2 * down + 4 * set_key, passed_ms), 0)

    def memory(self) -> bytes:
        """What it has kept."""
        return self._call("harness_device_memory", struct.pack("<II", 0, 0), MEMORY_BYTES)

    def put_memory(self, memory: bytes) -> None:
        """Put its memory to something."""
        self._call("harness_device_memory", struct.pack("<I", 1) + memory, MEMORY_BYTES)

    def cut_power_after(self, written: int) -> None:
        """Let writing fail after so many bytes more."""
        self._call("harness_device_memory", struct.pack("<II", 2, written), MEMORY_BYTES)


@contextmanager
def device(design: Design, name: str = "host", memory: bytes = BLANK, form: Form = WHOLE) -> Iterator[Device]:
    """The device of a design on the host or on a chip of that name. Raises FirmwareError where it is not known or does
    not build."""
    with tempfile.TemporaryDirectory() as place:
        call = _on_host(design, Path(place), form) if name == "host" else _on_chip(design, name, Path(place), form)
    yield Device(call, row_width(design), memory)


def _sources(design: Design, form: Form) -> tuple[Design, Sources]:
    own = by_hand(design, form)
    return own, generate(own, form=form)


def _on_host(design: Design, folder: Path, form: Form) -> Called:
    own, sources = _sources(design, form)
    sources.put(folder)
    (folder / "device.c").write_text(device_code(own, sources, False))
    path = folder / "device.so"
    host.built([
        *host.compiler(), "-O0", "-shared", "-fPIC", *host.STRICT_FLAGS,
        host.whole(folder, *sources.built, "device.c"), "-o", str(path),
    ])  # fmt: skip
    library = ctypes.CDLL(str(path))
    given, answer = ctypes.create_string_buffer(4 * MEMORY_BYTES), ctypes.create_string_buffer(MOST_ANSWERED)

    def call(name: str, put: bytes, answered: int) -> bytes:
        ctypes.memmove(given, put, len(put))
        getattr(library, name)(given, answer)
        return answer.raw[:answered] if answered else b""

    return call


def _on_chip(design: Design, name: str, folder: Path, form: Form) -> Called:
    found = chip.found_targets()
    if name not in found:
        raise FirmwareError("chip", f"must be one of {', '.join(('host', *found))}", repr(name))
    own, sources = _sources(design, form)
    program = chip.built(sources, {"device.c": device_code(own, sources, True)}, found[name], folder, ENTRY)
    machine = emulator.Machine(found[name], program, bytes(4 * MEMORY_BYTES), MOST_ANSWERED)

    def call(function: str, put: bytes, answered: int) -> bytes:
        machine.write(emulator.INPUTS, put)
        machine.call(function, emulator.INPUTS, emulator.ANSWERS)
        return machine.read(emulator.ANSWERS, answered) if answered else b""

    return call
