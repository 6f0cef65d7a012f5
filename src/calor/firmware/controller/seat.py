"""The generated C in the seat of the law, in the same trial: on the host at native speed, or on an emulated chip."""

from __future__ import annotations

import ctypes
import tempfile
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware.controller import consent
from calor.firmware.controller.names import BUILT_IN
from calor.firmware.controller.own_code import own_law_seated
from calor.firmware.controller.own_source import OwnSource, is_own, read_source
from calor.firmware.run import chip, emulator, host
from calor.firmware.run.exchange import row_width
from calor.firmware.run.seat_code import seat_code
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.generate import generate
from calor.law.code import Code
from calor.loop.seat import GIVEN, Seat, seat_of

NAMES = (BUILT_IN, "host", *chip.TARGETS)
"""What can decide in a run: the built-in law, or the C on the host or on a chip."""

_SHARED = """\
{seat}
uint32_t calor_state_bytes(void);
void calor_begin(void *state);
void calor_step(void *state, const float *given, float *row);

uint32_t calor_state_bytes(void)
{{
    return (uint32_t)sizeof({prefix}_state);
}}

void calor_begin(void *state)
{{
    {prefix}_init(({prefix}_state *)state, &{prefix}_defaults);
}}

void calor_step(void *state, const float *given, float *row)
{{
    calor_sit(({prefix}_state *)state, given, row);
}}
"""


def own_file(law: Code) -> Path:
    """The file of a law of the user's own. Raises FirmwareError where none is named."""
    if not law.file:
        raise FirmwareError("law.file", "names no file yet", "", "give it one in C (.c) or Python (.py)")
    return Path(law.file)


@contextmanager
def seated(
    design: Design,
    name: str,
    form: Form = PLAIN,
    control: npt.NDArray[np.int64] | None = None,
    consented: OwnSource | None = None,
) -> Iterator[Seat | None]:
    """The seat that the program called `name` takes, as long as it is needed; None for the built-in law.

    `form` is how the C on the host computes; `control` that of the run, by which controller code of the user's own is
    stopped too; `consented` such code that the user has just named, and that needs no other consent.
    Raises FirmwareError where it is not known, or cannot be built.
    """
    if name == BUILT_IN and isinstance(design.law, Code):
        source = read_source(own_file(design.law))
        consent.check(source)
        with own_law_seated(design, source, control) as seat:
            yield seat
    elif name == BUILT_IN:
        yield None
    elif name == "host":
        with tempfile.TemporaryDirectory() as place:
            library = _library(design, Path(place), form)
        with _on_host(library) as seat:
            yield seat
    elif is_own(name):
        source = consented if consented is not None else read_source(Path(name))
        if consented is None:
            consent.check(source)
        with own_law_seated(design, source, control) as seat:
            yield seat
    elif name in chip.found_targets():
        yield from _on_chip(design, chip.found_targets()[name])
    else:
        raise FirmwareError(
            "controller",
            f"must be one of {', '.join(NAMES)}, or your own controller code, as my_law.c or my_law.py",
            f"{name!r}",
        )


@contextmanager
def seats(
    design: Design, name: str, consented: OwnSource | None = None
) -> Iterator[Callable[[npt.NDArray[np.int64]], AbstractContextManager[Seat | None]]]:
    """A function that gives a fresh seat for each of many runs, by the run's control; runs may be side by side.

    The C on the host or on a chip is built once for all of them. Raises FirmwareError as `seated` does, then or at the
    first seat.
    """
    if name in chip.found_targets():
        target = chip.found_targets()[name]
        with tempfile.TemporaryDirectory() as place:
            program = chip.build(design, target, Path(place))
        yield lambda control: contextmanager(_on_machine)(design, target, program)
        return
    if name != "host":
        yield lambda control: seated(design, name, control=control, consented=consented)
        return
    with tempfile.TemporaryDirectory() as place:
        library = _library(design, Path(place), PLAIN)

    def fresh(control: npt.NDArray[np.int64]) -> AbstractContextManager[Seat | None]:
        del control
        return _on_host(library)

    yield fresh


@contextmanager
def _on_host(library: ctypes.CDLL) -> Iterator[Seat | None]:
    """A seat for a library, its state begun afresh."""
    state = ctypes.create_string_buffer(library.calor_state_bytes())
    library.calor_begin(state)
    address = ctypes.cast(library.calor_step, ctypes.c_void_p).value or 0
    yield seat_of(address, ctypes.addressof(state))


def _library(design: Design, folder: Path, form: Form) -> ctypes.CDLL:
    sources = generate(design, form=form)
    sources.put(folder)
    seat = seat_code(design, sources)
    (folder / "seat.c").write_text(sources.as_called(_SHARED.format(seat=seat, prefix=sources.prefix)))
    path = folder / "seat.so"
    host.built([
        *host.compiler(), *host.USUAL_FLAGS, "-shared", "-fPIC", *host.STRICT_FLAGS,
        host.whole(folder, *sources.built, "seat.c"), "-o", str(path),
    ])  # fmt: skip
    library = ctypes.CDLL(str(path))
    library.calor_state_bytes.restype = ctypes.c_uint32
    return library


def _on_chip(design: Design, target: emulator.Target) -> Iterator[Seat]:
    """A chip that is emulated step by step, called back from the run."""
    with tempfile.TemporaryDirectory() as place:
        program = chip.build(design, target, Path(place))
    yield from _on_machine(design, target, program)


def _on_machine(design: Design, target: emulator.Target, program: Any) -> Iterator[Seat]:
    """A chip with a program in it, begun afresh."""
    width = row_width(design)
    machine = emulator.Machine(target, program, bytes(4 * len(GIVEN)), 4 * width)
    machine.call("harness_begin")
    trouble: list[FirmwareError] = []

    @ctypes.CFUNCTYPE(None, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)  # type: ignore[untyped-decorator, unused-ignore]
    def step(state: Any, given: Any, row: Any) -> None:
        del state
        if trouble:
            return
        machine.write(emulator.INPUTS, ctypes.string_at(given, 4 * len(GIVEN)))
        try:
            machine.call("harness_sit", emulator.INPUTS, emulator.ANSWERS)
        except FirmwareError as error:  # the run cannot be left from here: it is said when it has ended
            trouble.append(error)
            return
        ctypes.memmove(row, machine.read(emulator.ANSWERS, 4 * width), 4 * width)

    yield seat_of(ctypes.cast(step, ctypes.c_void_p).value or 0, 0)
    if trouble:
        raise trouble[0]
