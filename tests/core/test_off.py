"""Off is off, and what was set belongs to its firmware: scenarios on the generated C alone, in float and in fixed point,
on the host and on an emulated AVR, where int has 16 bits."""

from __future__ import annotations

import subprocess
from pathlib import Path
from typing import Any

import pytest

from calor.design.model import Design
from calor.firmware.run import avr, host
from calor.firmware.run.device import BLANK, WHOLE, Device, device
from calor.firmware.sources.form import Form
from calor.firmware.sources.generate import generate
from calor.firmware.sources.outward import by_hand
from tests.conftest import made
from tests.core.test_link_code import given_row

FIXED = Form(fixed=True, table=True, link=True, panel=8)
FORMS = {"float": WHOLE, "fixed": FIXED}

# THE_COLD is a code of the cabinet's probe below its setpoint, THE_WARM 37.5 °C, THE_HOT beyond its cut-out
SCENARIO = """\
#include "own_link.h"

static own_state state;
static own_parameters parameters;
static own_link link_;
static own_panel panel;
static own_state pins;
static char line[OWN_LINK_LONGEST];
static void say(char letter);

static void check(uint8_t number, bool holds)
{
    static const char digits[17] = "0123456789ABCDEF";
    if (!holds) {
        say(digits[number >> 4]);
        say(digits[number & 15u]);
    }
}

static bool said(const char *command, const char *answer)
{
    uint32_t count = 0u;
    for (; *command != '\\0'; command++) {
        (void)own_link_feed(&link_, *command, line, sizeof line);
    }
    count = own_link_feed(&link_, '\\n', line, sizeof line);
    for (uint32_t k = 0u; answer[k] != '\\0'; k++) {
        if (k >= count || line[k] != answer[k]) {
            return false;
        }
    }
    return true;
}

static void begin(void)
{
    own_init(&state, &own_defaults);
    own_init(&pins, &own_defaults);
    own_parameters_init(&parameters, &state, 0);
    own_link_init(&link_, &parameters);
    own_panel_init(&panel, &parameters);
    link_.panel = &panel;
}

static void step(uint32_t counts)
{
    (void)own_link_step(&link_, counts, THE_PERIOD);
}

static void keys(bool up, bool set, uint32_t ms)
{
    own_keys contacts = { up, false, set };
    for (uint32_t k = 0u; k < ms; k += 10u) {
        own_panel_keys(&panel, contacts, 10u);
    }
}

static void hold_set(bool up)
{
    keys(up, true, 1600u);
    keys(up, false, 60u);
}

/* Whether a switch is on at its next tick: on the thermostat's own state, and handed over to an interrupt's. */
static bool is_on(void)
{
    own_asked asked;
    own_ask(&state, &asked);
    own_obey(&pins, &asked);
    const bool own = own_switch(&state, THE_TICK), handed = own_switch(&pins, THE_TICK);
    check(1u, own == handed);
    return own;
}

/* Whether it comes on within a window. */
static bool comes_on(void)
{
    bool on = false;
    for (uint16_t tick = 0u; tick < 1010u; tick++) {
        on = is_on() || on;
    }
    return on;
}

static void scenario(void)
{
    /* off acts at once, by every way */
    for (uint8_t way = 0u; way < 3u; way++) {
        begin();
        step(THE_COLD);
        check(2u, is_on());
        if (way == 0u) {
            own_set_off(&state, true);
        } else if (way == 1u) {
            check(3u, said("stop", "ok stop outputs off"));
        } else {
            check(4u, said("step counts=1700 n=0", "ok step n=0"));
        }
        check(5u, !is_on());
    }
    /* off at the front is off: in the loop, after it, and for what the line says */
    begin();
    step(THE_COLD);
    check(6u, said("step counts=1700 n=0", "ok step n=0") && state.off == OWN_OFF_IN_LOOP);
    check(7u, said("get", "ok get mode=loop"));
    hold_set(false);
    for (uint8_t k = 0u; k < 20u; k++) {
        step(THE_COLD);
        check(8u, !is_on());
    }
    check(9u, state.off == OWN_OFF_BY_HAND && said("get", "ok get mode=stopped"));
    check(10u, said("auto", "err auto off at the device") && said("hand 1", "err hand off at the device"));
    check(11u, said("step counts=1700 n=0", "ok step n=0") && said("auto", "err auto") && said("stop", "ok stop"));
    step(THE_COLD);
    check(12u, !comes_on());
    check(13u, said("undo", "err undo takes front off") && said("undo front off now", "err undo"));
    check(14u, said("undo front off", "ok undo front off") && state.off == OWN_OFF_BY_LINE);
    check(15u, said("auto", "ok auto") && state.off == 0u);
    step(THE_COLD);
    check(16u, comes_on());
    /* a stop over the line is left over the line, or at the front */
    check(17u, said("stop", "ok stop"));
    hold_set(false);
    step(THE_COLD);
    check(18u, state.off == 0u && comes_on());
    /* set held is off whatever else is closed, and stays off */
    hold_set(true);
    check(19u, state.off == OWN_OFF_BY_HAND);
    hold_set(true);
    check(20u, state.off == OWN_OFF_BY_HAND);
    keys(false, false, 60u);
    hold_set(false);
    check(21u, state.off == 0u);
    /* so it is with a key that is held over the line by somebody who is gone; and that lets go by time */
    check(22u, said("front up", "ok front"));
    keys(false, false, 100u);
    hold_set(false);
    check(23u, state.off == OWN_OFF_BY_HAND);
    keys(false, false, 3000u);
    check(24u, !panel.by_line.up && !panel.held.up);
    keys(false, false, 21000u);
    hold_set(false);
    check(25u, state.off == 0u);
    /* on a page set held leads home, and held on it is off */
    keys(false, true, 60u);
    keys(false, false, 60u);
    check(26u, panel.page == 1u);
    keys(false, true, 2000u);
    check(27u, panel.page == 0u && state.off == 0u);
    keys(false, true, 3000u);
    check(28u, state.off == OWN_OFF_BY_HAND);
    keys(false, false, 60u);
    hold_set(false);
    /* a contact that sticks never switches on */
    keys(false, true, 60000u);
    check(29u, state.off == OWN_OFF_BY_HAND);
    /* a cut-out is let go of by the line: asked for twice, the reading below */
    begin();
    check(30u, said("release", "err release nothing is latched"));
    step(THE_HOT);
    check(31u, state.cut_out && said("release", "err release") && said("release", "err release"));
    step(THE_COLD);
    check(32u, !comes_on() && said("release", "ok release once more") && state.cut_out);
    for (uint8_t k = 0u; k < 25u; k++) {
        step(THE_COLD);
    }
    check(33u, said("release", "ok release once more") && said("release", "ok release let go") && !state.cut_out);
    step(THE_COLD);
    check(34u, comes_on());
    /* and at the front */
    step(THE_HOT);
    keys(false, true, 60u);
    keys(false, false, 60u);
    keys(true, false, 60u);
    keys(false, false, 60u);
    keys(false, true, 60u);
    keys(false, false, 60u);
    check(35u, state.cut_out); /* the reading is not back */
    step(THE_WARM);
    keys(true, false, 60u);
    keys(false, false, 60u);
    keys(false, true, 60u);
    keys(false, false, 60u);
    check(36u, state.cut_out);
    keys(false, true, 60u);
    keys(false, false, 60u);
    check(37u, !state.cut_out && panel.page == 0u);
    /* a board that restarts again and again gives no more than is asked */
    uint32_t on = 0u;
    for (uint8_t again = 0u; again < 20u; again++) {
        begin();
        state.demand = THE_SHARE;
        for (uint8_t tick = 0u; tick < 100u; tick++) {
            on += own_switch(&state, THE_TICK) ? 1u : 0u;
        }
    }
    check(38u, on <= 2000u / 100u * 17u);
    begin(); /* and left alone it gives what is asked */
    on = 0u;
    state.demand = THE_SHARE;
    for (uint16_t tick = 0u; tick < 20000u; tick++) {
        on += own_switch(&state, THE_TICK) ? 1u : 0u;
    }
    check(39u, on >= 3360u && on <= 3400u);
    say('F');
    say('A');
    say('C');
    say('E');
}
"""
MAINS = {
    "host": "#include <stdio.h>\nstatic void say(char letter)\n{\n    (void)putchar(letter);\n}\n\nint main(void)\n{\n"
    "    scenario();\n    return 0;\n}\n",
    "avr": "#include <avr/interrupt.h>\n#include <avr/io.h>\n#include <avr/sleep.h>\nstatic void say(char letter)\n{\n"
    "    while ((UCSR0A & (1u << UDRE0)) == 0u) {\n    }\n    UDR0 = (uint8_t)letter;\n}\n\nint main(void)\n{\n"
    "    UCSR0B = 1u << TXEN0;\n    scenario();\n    say('\\n');\n    cli();\n    sleep_enable();\n    sleep_cpu();\n}\n",
}


def ran(design: Design, form: Form, where: str, scenario: str, place: Path, **words: Any) -> str:
    """What a scenario on the C of a design says, built without a warning."""
    sources = generate(by_hand(design, form), "own", form)
    sources.put(place)
    literal = (lambda x: f"Q16({x})") if form.fixed else (lambda x: f"{x}f")
    words = {
        "THE_PERIOD": literal(float(design.law.period_s)),
        "THE_TICK": literal(0.01),
        "THE_SHARE": literal(0.17),
    } | words
    (place / "scenario.c").write_text(scenario + MAINS[where])
    flags = [f"-D{word}={value}" for word, value in words.items()]
    built, program = [str(place / name) for name in (*sources.built, "scenario.c")], place / "program"
    if where == "host":
        host.built([*host.compiler(), *host.STRICT_FLAGS, *host.SANITIZER_FLAGS, *flags, *built, "-o", str(program)])
        return subprocess.run([program], capture_output=True, text=True, check=True).stdout
    flags += ["-std=c99", "-ffp-contract=off", "-Os", "-Wall", "-Wextra", "-Werror", "-Wl,--gc-sections"]
    host.built(["avr-gcc", f"-mmcu={avr.PART}", *flags, *built, "-lm", "-o", str(program)])
    return avr.printed(program)


@pytest.mark.parametrize("where", ["host", "avr"])
@pytest.mark.parametrize("form", FORMS.values(), ids=FORMS)
def test_off_is_off(form: Form, where: str, cabinet: Design, tmp_path: Path) -> None:
    if where == "avr" and not avr.available():
        pytest.skip("no AVR compiler and emulator here")
    assert ran(cabinet, form, where, SCENARIO, tmp_path, THE_COLD="1700u", THE_WARM="1514u", THE_HOT="900u") == "FACE"


# ---- what is kept


def said(own: Device, command: str) -> str:
    return own.feed(f"{command}\n".encode()).decode().rpartition(" *")[0]


def with_gain(design: Design, gain: float, **changes: Any) -> Design:
    return design.model_copy(update={"law": design.law.model_copy(update={"gain_per_celsius": gain, **changes})})


@pytest.mark.parametrize("form", FORMS.values(), ids=FORMS)
def test_kept_settings_belong_to_their_firmware(form: Form, cabinet: Design) -> None:
    """Those that were set by hand are taken up by the next firmware, the others are as it has them; none of them by one
    of another form, of other keys or of other ranges."""
    with device(cabinet, form=form) as own:
        said(own, "set setpoint_celsius 38.25")
        assert said(own, "keep") == "ok keep kept"
        memory = own.memory()
        assert said(own, "keep") == "ok keep kept" and own.memory() == memory
    with device(with_gain(cabinet, 0.31), memory=memory, form=form) as own:
        assert said(own, "get setpoint_celsius") == "ok get setpoint_celsius=38.25"
        assert float(said(own, "get gain_per_celsius").partition("=")[2]) == pytest.approx(0.31, abs=1e-4)
        assert "measured" in own.step(given_row(1514.0)).line.decode()
    others = {
        "form": (cabinet, FIXED if form is WHOLE else WHOLE),
        "keys": (with_gain(cabinet, 0.22, slew_per_s=0.5), form),
        "range": (cabinet.model_copy(update={"setpoint": cabinet.setpoint.model_copy(update={"high_limit_celsius": 38.0})}), form),
        "panel": (cabinet, form._replace(panel=0)),
    }  # fmt: skip
    for what, (design, other) in others.items():
        with device(design, memory=memory, form=other) as own:
            assert said(own, "get setpoint_celsius") == "ok get setpoint_celsius=37.5", what


LOADS = """\
#include "own_parameters.h"

static own_state state;
static own_parameters parameters;
static uint8_t bytes_of[512];
static uint32_t writes;
static bool is_aligned = true;
static void say(char letter);

static bool reads(void *context, uint32_t at, uint8_t *bytes, uint32_t count)
{
    (void)context;
    for (uint32_t k = 0u; k < count; k++) {
        bytes[k] = bytes_of[at + k];
    }
    return true;
}

/* Flash that takes eight bytes at once. */
static bool writes_eight(void *context, uint32_t at, const uint8_t *bytes, uint32_t count)
{
    (void)context;
    is_aligned = is_aligned && count == 8u && at % 8u == 0u;
    writes++;
    for (uint32_t k = 0u; k < count; k++) {
        bytes_of[at + k] = bytes[k];
    }
    return true;
}

static const own_memory memory = { 0, reads, writes_eight };

static void check(bool holds, char letter)
{
    if (!holds) {
        say(letter);
    }
}

static void scenario(void)
{
    own_init(&state, &own_defaults);
    own_parameters_init(&parameters, &state, &memory);
    check(own_parameter_set(&parameters, OWN_AT_OUTPUT_LOW, THE_LOW), '1');
    check(own_parameter_set(&parameters, OWN_AT_GAIN_PER_CELSIUS, THE_GAIN), '2');
    check(own_parameters_keep(&parameters) && is_aligned && writes > 2u, '3');
    own_init(&state, &own_defaults);
    own_parameters_init(&parameters, &state, &memory);
    check(own_parameter_value(&parameters, OWN_AT_OUTPUT_LOW) == THE_LOW, '4');
    /* kept values that no longer lie in order: nothing of them is taken */
    own_settings other = own_defaults;
    other.output_high = THE_HALF_OF_LOW;
    own_init(&state, &other);
    own_parameters_init(&parameters, &state, &memory);
    check(!own_parameters_load(&parameters), '5');
    check(own_parameter_value(&parameters, OWN_AT_GAIN_PER_CELSIUS) == own_defaults.gain_per_celsius, '6');
    check(own_parameter_value(&parameters, OWN_AT_OUTPUT_LOW) == own_defaults.output_low && parameters.by_hand == 0u, '7');
    say('F');
    say('A');
    say('C');
    say('E');
}
"""


@pytest.mark.parametrize("where", ["host", "avr"])
@pytest.mark.parametrize("form", FORMS.values(), ids=FORMS)
def test_all_is_taken_or_nothing(form: Form, where: str, tmp_path: Path) -> None:
    """And flash that takes eight bytes at once is given eight."""
    if where == "avr" and not avr.available():
        pytest.skip("no AVR compiler and emulator here")
    design = made(law='kind = "pid"\nintegral_time_s = 60', probe='kind = "digital"')
    literal = (lambda x: f"Q16({x})") if form.fixed else (lambda x: f"{x}f")
    words = {
        "THE_HALF_OF_LOW": literal(0.125),
        "THE_LOW": literal(0.25),
        "THE_GAIN": literal(0.75),
        "OWN_WRITE_BYTES": "8u",
    }
    assert ran(design, form._replace(table=False), where, LOADS, tmp_path, **words) == "FACE"


def test_a_memory_that_loses_what_is_written_is_told(cabinet: Design) -> None:
    with device(cabinet) as own:
        said(own, "set setpoint_celsius 38")
        own.cut_power_after(9)
        assert said(own, "keep").startswith("err keep") and own.memory() != BLANK
