"""The C around a device's sources: it is switched on, steps, is fed letters and keys, and has a memory, each by a
function that is called from outside with what it is given."""

from __future__ import annotations

from calor.design.model import Design
from calor.firmware.run.c_numbers import CONVERSIONS, IS_NAN, Numbers
from calor.firmware.run.exchange import row_width
from calor.firmware.run.seat_code import reading_code
from calor.firmware.sources.generate import outputs_of
from calor.firmware.sources.templating import Sources
from calor.law.fan_curve import FanCurve
from calor.loop import answer_row, seat

MEMORY_BYTES = 1024
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
