"""What stands between generated C and whoever runs it: one input and one row of answers for each control step.

The same few lines of C serve the host and every chip, so that all of them are asked and read alike.
"""

from __future__ import annotations

from calor.design.model import Design
from calor.firmware.run.c_numbers import (
    CONVERSIONS,
    IS_NAN,
    Numbers,
    changes_gains,
    setpoint_is_put_in,
    takes_hand,
    tunes_itself,
)
from calor.firmware.run.exchange import (
    CHANGES,
    CLOSED,
    ENDS,
    NONE,
    OFF,
    RELEASES,
    RESUMES,
    SKIPS,
    STARTS,
    TUNES,
    TURNED,
)
from calor.firmware.sources.generate import outputs_of, tick_s
from calor.firmware.sources.templating import Sources
from calor.law.fan_curve import FanCurve
from calor.loop import answer_row

_ADAPTER = """\
#include "{header}"

#define CALOR_NONE ({none}f)
#ifndef CALOR_TIMED
#define CALOR_TIMED(call) call
#endif
/* By their bits: a processor without a floating-point unit compares floats at length. */
__attribute__((unused)) static bool calor_given(float x)
{{
    const union {{ float x; uint32_t bits; }} seen = {{ x }}, none = {{ CALOR_NONE }};
    return seen.bits != none.bits;
}}

{is_nan}
{conversions}
typedef struct {{
    {reading} reading;
    float other_celsius;
    float hand_output;
    uint32_t restart;
    float dt_s;
    float put_in_celsius;
    float clock_s;
    float humidity;
    float asked;
    uint32_t knob;
    uint32_t calls;
}} calor_input;

{statics}
/* What stands in memory before something is begun is anything. */
static void calor_fill({prefix}_state *state)
{{
    uint8_t *bytes = (uint8_t *)state;
    for (uint32_t k = 0u; k < sizeof *state; k++) {{
        bytes[k] = 0xA5u;
    }}
}}

static void calor_decide({prefix}_state *state, const calor_input *given)
{{
    const bool begins = given->restart != 0u || !harness_begun;
    if (begins) {{
        calor_fill(state);
        {prefix}_init(state, &{prefix}_defaults);
{begin}
    }}
    if ((given->calls & {RELEASES}u) != 0u) {{
        {prefix}_release(state);
    }}
{calls}
{inputs}
{hands_asked}
    CALOR_TIMED((void){prefix}_step(state, {given}, calor_is_nan(given->dt_s) ? {period} : {dt}));
}}

static void calor_report({prefix}_state *state, float *row, bool with_ticks)
{{
    {prefix}_record record;
    {prefix}_record_of(state, &record);
    row[{row.MEASURED}] = {measured};
    row[{row.SETPOINT}] = {setpoint};
    row[{row.FLAGS}] = (float)((record.fault != 0u ? {row.PROBE_FAULT_FLAG} : 0)
        + (record.cut_out ? {row.CUT_OUT_FLAG} : 0)
        + (record.fault ? (int32_t)({row.FIRST_FAULT_FLAG} / 2) << record.fault : 0));
    row[{row.ALARMS}] = {alarms};
    row[{row.KNOB}] = {knob};
    row[{row.DEW_POINT}] = {dew_point};
    row[{row.STATUS}] = (float)((record.off ? {row.OFF_BIT} : 0){status});
{tuned}
    (void)with_ticks;
{outputs}
}}
"""
OTHER_GAIN, OTHER_WEIGHT = 1.5, 0.5
"""What the gain and the setpoint's weight of the other settings are, in proportion to the design's."""
_SWITCHING = """\
    row[{at}] = row[{at} + 1] = 0.0f;
    for (int tick = 0; with_ticks && tick < {ticks}; tick++) {{
        row[{at}] += {on} ? 1.0f : 0.0f;
        row[{at} + 1] += {handed} ? 1.0f : 0.0f;
    }}"""
_COUNTING = """\
    row[{at}] = row[{at} + 1] = 0.0f;
    if (with_ticks) {{
        row[{at}] = {on};
        row[{at} + 1] = {handed};
    }}"""


def adapter_code(design: Design, sources: Sources) -> str:
    """The C that asks the thermostat and writes its answers down."""
    made = Numbers(sources.form.fixed)
    ideal = design.probe.kind == "ideal"
    tick = made.constant(tick_s(design))
    statics, begin = [], []
    if design.knob is not None:
        statics.append(f"static {sources.prefix}_knob harness_knob;\nstatic float harness_knob_celsius;")
        begin.append(f"        {sources.prefix}_knob_init(&harness_knob);\n        harness_knob_celsius = 0.0f;")
    if design.button is not None:
        statics.append(f"static {sources.prefix}_button harness_button;")
        begin.append(f"        {sources.prefix}_button_init(&harness_button);")
    switches = any(output.switches for output in outputs_of(design))
    timed = any(output.timing is not None for output in outputs_of(design))
    if switches or timed:
        # beside the thermostat's own, as where the pins are set by an interrupt, which has a state of its own
        statics.append(f"static {sources.prefix}_state harness_pins;\nstatic float harness_asked;")
        begin.append("        calor_fill(&harness_pins);")
        begin.append(f"        {sources.prefix}_init(&harness_pins, &{sources.prefix}_defaults);")
    if not sources.form.constant:
        statics.append(f"static {sources.prefix}_settings harness_other;\nstatic bool harness_is_other;")
        begin.append("        harness_is_other = false;")
    dew_point = design.setpoint.kind == "follow" and design.setpoint.signal == "dew_point" and not sources.form.fixed
    if dew_point:
        statics.append("static float harness_dew_point;")
        begin.append("        harness_dew_point = 0.0f;")
    status = {
        "follow": f" + (state->signal_fault ? {answer_row.NO_SIGNAL_BIT} : 0)",
        "program": f" + (state->program_over ? {answer_row.PROGRAM_OVER_BIT} : 0)",
    }.get(design.setpoint.kind, "")
    if takes_hand(design, sources.form):
        status += f" + (record.by_hand ? {answer_row.BY_HAND_BIT} : 0)"
    if tunes_itself(design):
        status += f" + {answer_row.TUNING_FROM} * state->tuning"
    return _ADAPTER.format(
        row=answer_row,
        none=NONE,
        statics="\n".join(["static bool harness_begun;", *statics]),
        begin="\n".join(["        harness_begun = true;", *begin]),
        calls=_calls_code(design, sources, made),
        RELEASES=RELEASES,
        dt=made.own("given->dt_s"),
        knob="harness_knob_celsius" if design.knob is not None else "0.0f",
        dew_point="harness_dew_point" if dew_point else "0.0f",
        status=status,
        tuned=_tuned_code(design, made),
        header=sources.header,
        is_nan=IS_NAN,
        conversions=CONVERSIONS if sources.form.fixed else "",
        prefix=sources.prefix,
        reading="float" if ideal else "uint32_t",
        given=made.own("given->reading") if ideal else "given->reading",
        measured=made.plain("record.measured_celsius"),
        setpoint=made.plain("record.setpoint_celsius"),
        period=made.constant(float(design.law.period_s)),
        inputs=_inputs_code(design, sources.prefix, made, dew_point, tick, takes_hand(design, sources.form)),
        outputs=_outputs_code(design, sources.prefix, made),
        hands_asked="    harness_asked = given->asked;" if switches or timed else "",
        alarms="(float)record.alarms",
    )


def _tuned_code(design: Design, made: Numbers) -> str:
    """C that writes the gains down that self-tuning found."""
    gain, rate, time_s = (f"row[{at}]" for at in (answer_row.TUNED_GAIN, answer_row.TUNED_RATE, answer_row.TUNED_TIME))
    if not tunes_itself(design):
        return f"    {gain} = {rate} = {time_s} = 0.0f;"
    rated = made.plain("state->tuned_rate_per_s") + made.per_fine
    return "\n".join(
        (
            f"    {gain} = {made.plain('state->tuned_gain_per_celsius')};",
            f"    {rate} = {rated};",
            f"    {time_s} = {made.plain('state->tuned_derivative_time_s')};",
        )
    )


def _calls_code(design: Design, sources: Sources, made: Numbers) -> str:
    """C that leads a program and changes the settings where an input asks for it."""
    prefix, lines = sources.prefix, []
    if design.setpoint.kind == "program":
        resume = f"{prefix}_program_resume(state, given->knob, {made.own('given->clock_s')})"
        for bit, call in (
            (STARTS, f"{prefix}_program_start(state)"), (SKIPS, f"(void){prefix}_program_skip(state)"),
            (RESUMES, f"(void){resume}"),
        ):  # fmt: skip
            lines += [f"if ((given->calls & {bit}u) != 0u) {{", f"    {call};", "}"]
    if tunes_itself(design):
        for bit, call in ((TUNES, "start"), (ENDS, "stop")):
            lines += [f"if ((given->calls & {bit}u) != 0u) {{", f"    {prefix}_{call}_tuning(state);", "}"]
    if not sources.form.constant:
        lines += [f"if ((given->calls & {CHANGES}u) != 0u) {{", f"    harness_other = {prefix}_defaults;"]
        if changes_gains(design):
            for name, share in (("gain_per_celsius", OTHER_GAIN), ("setpoint_weight", OTHER_WEIGHT)):
                product = (
                    f"harness_other.{name}, Q16({share})" if sources.form.fixed else f"harness_other.{name} * {share}f"
                )
                lines.append(f"    harness_other.{name} = {f'q_mul({product})' if sources.form.fixed else product};")
        lines += [
            "    harness_is_other = !harness_is_other;",
            f"    {prefix}_change_settings(state, harness_is_other ? &harness_other : &{prefix}_defaults);", "}",
        ]  # fmt: skip
    return "\n".join("    " + line for line in lines)


def _inputs_code(design: Design, prefix: str, made: Numbers, dew_point: bool, tick: str, hand: bool) -> str:
    """C that hands the inputs beside the reading on: a second temperature, a signal, what is set by hand, the calls."""
    lines = []
    if setpoint_is_put_in(design):
        lines.append("if (calor_given(given->put_in_celsius)) {")
        lines.append(f"    (void){prefix}_set_setpoint(state, {made.own('given->put_in_celsius')});")
        lines.append("}")
    if design.setpoint.kind == "day_night":
        lines.append("if (calor_given(given->clock_s)) {")
        lines.append(f"    (void){prefix}_set_clock(state, {made.own('given->clock_s')});")
        lines.append("}")
    if design.knob is not None:
        turned = f"{prefix}_knob_step(&harness_knob, given->knob)"
        lines.append(f"if ((given->calls & {TURNED}u) != 0u) {{")
        lines.append(f"    harness_knob_celsius = {made.plain(turned)};")
        if setpoint_is_put_in(design):
            lines.append(f"    (void){prefix}_set_setpoint(state, {made.own('harness_knob_celsius')});")
        lines.append("}")
    if design.button is not None:
        step = f"{prefix}_button_step(&harness_button, (given->calls & {CLOSED}u) != 0u, {tick})"
        off = f"!{step} && (given->calls & {OFF}u) != 0u"
    else:
        off = f"(given->calls & {OFF}u) != 0u"
    lines += [f"const bool off = {off};", "if (!begins) {", f"    {prefix}_set_off(state, off);", "}"]
    other = made.own("given->other_celsius")
    if isinstance(design.law, FanCurve) and design.law.follows == "difference":
        lines.append(f"state->other_celsius = {other};")
    if design.setpoint.kind == "follow":
        lines.append("state->has_signal = !calor_is_nan(given->other_celsius);  /* a NaN is no signal */")
        lines.append(f"state->signal_celsius = state->has_signal ? {other} : 0;")
        if dew_point:
            lines.append("if (calor_given(given->humidity)) {")
            lines.append(f"    harness_dew_point = {prefix}_dew_point(given->other_celsius, given->humidity);")
            lines.append("    state->signal_celsius = harness_dew_point;")
            lines.append("    state->has_signal = true;")
            lines.append("}")
    if hand:
        lines.append("if (begins) {")
        lines.append("    ;  /* as it was begun */")
        lines.append("} else if (calor_is_nan(given->hand_output)) {")
        lines.append(f"    {prefix}_set_automatic(state);")
        lines.append("} else {")
        lines.append(f"    (void){prefix}_set_manual(state, {made.own('given->hand_output')});")
        lines.append("}")
    return "\n".join("    " + line for line in lines)


def _outputs_code(design: Design, prefix: str, made: Numbers) -> str:
    """C that writes the demand of each output, and what its switch or timer makes of it."""
    tick, outputs = made.constant(tick_s(design)), outputs_of(design)
    ticks = round(design.law.period_s / tick_s(design))
    lines = []
    if any(output.switches for output in outputs):
        lines += [
            f"    {prefix}_asked asked;", f"    {prefix}_ask(state, &asked);",
            "    if (!calor_is_nan(harness_asked)) {",
            *(f"        asked.{output.prefix}demand = {made.own('harness_asked')};" for output in outputs), "    }",
            f"    {prefix}_obey(&harness_pins, &asked);",
        ]  # fmt: skip
    for number, output in enumerate(outputs):
        demand_at, ticks_at = answer_row.demand_at(number), answer_row.ticks_at(number)
        own = f"state->{output.prefix}demand"
        lines.append(f"    row[{demand_at}] = {made.plain(own)};")
        name = f"{prefix}_{output.prefix}"
        if output.timing is not None:
            handed = f"harness_pins.{output.prefix}demand"
            lines.append(f"    {handed} = calor_is_nan(harness_asked) ? {own} : {made.own('harness_asked')};")
            on, twin = (_counts_code(name, of, output.drive.pwm.supply_switch) for of in ("state", "&harness_pins"))
            lines.append(_COUNTING.format(at=ticks_at, on=on, handed=twin))
        elif output.switches:
            on, twin = (f"{name}switch({of}, {tick})" for of in ("state", "&harness_pins"))
            if output.active_low:
                on, twin = f"!{name}pin({on})", f"!{name}pin({twin})"
            lines.append(_SWITCHING.format(at=ticks_at, ticks=ticks, on=on, handed=twin))
        else:
            lines.append(f"    row[{ticks_at}] = row[{ticks_at} + 1] = 0.0f;")
    return "\n".join(lines)


def _counts_code(name: str, of: str, has_supply: bool) -> str:
    """C of a timer's counts; where its supply is off they stand below 0, one lower."""
    counts = f"(float){name}pwm_counts({of})"
    return f"{name}supply_on({of}) ? {counts} : -1.0f - {counts}" if has_supply else counts
