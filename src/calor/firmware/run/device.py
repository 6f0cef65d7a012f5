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
from calor.firmware.run import chip, host
from calor.firmware.run.adapter import CONVERSIONS, IS_NAN, Numbers, reading_code
from calor.firmware.run.exchange import row_width
from calor.firmware.sources.form import Form
from calor.firmware.sources.generate import generate, outputs_of
from calor.firmware.sources.outward import by_hand
from calor.firmware.sources.templating import Sources
from calor.law.fan_curve import FanCurve
from calor.loop import answer_row, seat

WHOLE = Form(link=True, panel=16)
"""The form of a device with all that it can have to the outside."""
MEMORY_BYTES, MOST_GIVEN, MOST_ANSWERED = 1024, 512, 8192
ENTRY = "harness_device_begin"
BLANK = b"\xff" * MEMORY_BYTES
"""Memory that nothing was written into yet."""

_CODE = """\
#include "{prefix}_link.h"

{conversions}
static {prefix}_state device_state;
static {prefix}_parameters device_parameters;
static {prefix}_link device_link;
{panel}
static uint8_t device_memory[{memory_bytes}];
static uint32_t device_writes_left;

static bool read_memory(void *context, uint32_t at, uint8_t *bytes, uint32_t count)
{{
    (void)context;
    for (uint32_t k = 0u; k < count; k++) {{
        if (at + k >= sizeof device_memory) {{
            return false;
        }}
        bytes[k] = device_memory[at + k];
    }}
    return true;
}}

/* Byte by byte; where the power goes, the byte that is being written comes out as anything. */
static bool write_memory(void *context, uint32_t at, const uint8_t *bytes, uint32_t count)
{{
    (void)context;
    for (uint32_t k = 0u; k < count; k++) {{
        if (at + k >= sizeof device_memory || device_writes_left == 0u) {{
            return false;
        }}
        device_writes_left--;
        if (device_writes_left == 0u) {{
            device_memory[at + k] = (uint8_t)(bytes[k] ^ 0x5Au);
            return false;
        }}
        device_memory[at + k] = bytes[k];
    }}
    return true;
}}

static const {prefix}_memory device_keeps = {{ 0, read_memory, write_memory }};

{attribute}void harness_device_begin(void);
{attribute}void harness_device_step(const float *given, uint32_t *answer);
{attribute}void harness_device_feed(const uint32_t *given, uint32_t *answer);
{attribute}void harness_device_keys(const uint32_t *given);
{attribute}void harness_device_memory(const uint32_t *given, uint32_t *answer);

/* From switching on: what was kept is taken up. */
void harness_device_begin(void)
{{
    device_writes_left = 0xFFFFFFFFu;
    {prefix}_init(&device_state, &{prefix}_defaults);
    {prefix}_parameters_init(&device_parameters, &device_state, &device_keeps);
    {prefix}_link_init(&device_link, &device_parameters);
{panel_init}
}}

/* A control step: the row of a run, then its line with its length before it. */
void harness_device_step(const float *given, uint32_t *answer)
{{
    float *row = (float *)(void *)(answer + 1);
    {prefix}_state *state = &device_state;
{other}
    (void){prefix}_link_step(&device_link, {reading}, {period});
    for (uint32_t k = 0u; k < {width}u; k++) {{
        row[k] = 0.0f;
    }}
    row[{row.MEASURED}] = {measured};
    row[{row.SETPOINT}] = {setpoint};
    row[{row.FLAGS}] = (float)((state->probe_fault ? {row.PROBE_FAULT_FLAG}u : 0u)
        + (state->cut_out ? {row.CUT_OUT_FLAG}u : 0u)
        + (state->fault != 0u ? ({row.FIRST_FAULT_FLAG}u / 2u) << state->fault : 0u));
    row[{row.ALARMS}] = {alarms};
{demands}
    answer[0] = {prefix}_link_row(&device_link, (char *)(row + {width}), {prefix_upper}_LINK_LONGEST);
}}

/* Letters that came, their number before them; the answer likewise, of the last line in them. */
void harness_device_feed(const uint32_t *given, uint32_t *answer)
{{
    const char *letters = (const char *)(given + 1);
    uint32_t count = 0u;
    answer[0] = 0u;
    for (uint32_t k = 0u; k < given[0]; k++) {{
        count = {prefix}_link_feed(&device_link, letters[k], (char *)(answer + 1), {prefix_upper}_LINK_LONGEST);
        answer[0] = count > 0u ? count : answer[0];
    }}
}}

/* Which keys are closed, a bit each, and how many milliseconds pass. */
void harness_device_keys(const uint32_t *given)
{{
{keys}
}}

/* 0: its memory; 1: put there what follows; 2: so many bytes more until the power goes; 3: the greeting. */
void harness_device_memory(const uint32_t *given, uint32_t *answer)
{{
    if (given[0] == 2u) {{
        device_writes_left = given[1];
    }}
    if (given[0] == 3u) {{
        answer[0] = {prefix}_link_greeting(&device_link, (char *)(answer + 1), {prefix_upper}_LINK_LONGEST);
        return;
    }}
    for (uint32_t k = 0u; k < sizeof device_memory; k++) {{
        if (given[0] == 1u) {{
            device_memory[k] = ((const uint8_t *)(given + 1))[k];
        }}
        ((uint8_t *)answer)[k] = device_memory[k];
    }}
}}
"""


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


def device_code(design: Design, sources: Sources, is_chip: bool) -> str:
    """The C around a device's sources."""
    made, prefix = Numbers(sources.form.fixed), sources.prefix
    panel = sources.form.panel > 0
    reading = reading_code(design)
    demands = [
        f"    row[{answer_row.demand_at(k)}] = {made.plain(f'state->{output.prefix}demand')};"
        for k, output in enumerate(outputs_of(design))
    ]
    keys = (
        f"    {prefix}_keys contacts;\n    contacts.up = (given[0] & 1u) != 0u;\n"
        f"    contacts.down = (given[0] & 2u) != 0u;\n    contacts.set = (given[0] & 4u) != 0u;\n"
        f"    {prefix}_panel_keys(&device_panel, contacts, given[1]);"
    )
    return sources.as_called(
        _CODE.format(
            prefix=prefix,
            prefix_upper=prefix.upper(),
            row=answer_row,
            width=row_width(design),
            memory_bytes=MEMORY_BYTES,
            conversions=IS_NAN + CONVERSIONS if sources.form.fixed else "",
            attribute='__attribute__((section(".entry"), used)) ' if is_chip else "",
            panel=f"static {prefix}_panel device_panel;" if panel else "",
            panel_init=f"    {prefix}_panel_init(&device_panel, &device_parameters);\n"
            "    device_link.panel = &device_panel;"
            if panel
            else "",
            keys=keys if panel else "    (void)given;",
            reading=made.own(f"({reading})") if design.probe.kind == "ideal" else f"({reading})",
            period=made.constant(float(design.law.period_s)),
            measured=made.plain("state->measured_celsius"),
            setpoint=made.plain("state->setpoint_celsius"),
            alarms="(float)state->alarms" if design.guard.alarms else "0.0f",
            demands="\n".join(demands),
            other=_other(design, made),
        )
    )


def _other(design: Design, made: Numbers) -> str:
    """C that hands a second temperature or a signal on."""
    other = f"given[{seat.OTHER}]"
    if isinstance(design.law, FanCurve) and design.law.follows == "difference":
        return f"    state->other_celsius = {made.own(other)};"
    if design.setpoint.kind == "follow":
        return (
            f"    state->has_signal = {other} == {other};\n"
            f"    state->signal_celsius = state->has_signal ? {made.own(other)} : 0;"
        )
    return "    (void)given;"


def _sources(design: Design, form: Form) -> tuple[Design, Sources]:
    own = by_hand(design, form)
    return own, generate(own, form=form)


def _on_host(design: Design, folder: Path, form: Form) -> Called:
    own, sources = _sources(design, form)
    sources.put(folder)
    (folder / "device.c").write_text(device_code(own, sources, False))
    path = folder / "device.so"
    host.built([
        *host.compiler(), "-O2", "-shared", "-fPIC", *host.STRICT_FLAGS, str(folder / "device.c"),
        *(str(folder / name) for name in sources.built), "-o", str(path),
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
    machine = chip.Machine(found[name], program, bytes(4 * MEMORY_BYTES), MOST_ANSWERED)

    def call(function: str, put: bytes, answered: int) -> bytes:
        machine.write(chip.INPUTS, put)
        machine.call(function, chip.INPUTS, chip.ANSWERS)
        return machine.read(chip.ANSWERS, answered) if answered else b""

    return call
