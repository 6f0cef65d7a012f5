"""The check talks to line, front and memory: all is right as it is, and each slip put into their templates is told."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest

from calor.demo import DEMOS
from calor.design.model import Design
from calor.firmware.check.conversed import conversed
from calor.firmware.sources.form import Form, form_of
from calor.firmware.sources.outward import by_hand
from tests.core.test_mutations import ODD, Slip, pool, putting_in

WHOLE, NARROW, COLD = Form(link=True, panel=16), Form(fixed=True, link=True, panel=8), Form(link=True, panel=8)
NAMES = [*(demo.design.stem for demo in DEMOS), *ODD]


def told(design: Design, form: Form) -> tuple[str, ...]:
    own = form_of(design.probe, *form)
    return conversed(by_hand(design, own), own).problems


@pytest.mark.parametrize("number", range(len(NAMES)), ids=NAMES)
def test_all_is_right_as_it_is(number: int) -> None:
    """Every design, in one of the forms."""
    forms = (WHOLE, NARROW, Form(constant=True, link=True, panel=8), Form(fixed=True, constant=True, link=True))
    assert told(pool()[NAMES[number]], forms[number % 4]) == ()


SLIPS = tuple(
    Slip(template, what, becomes, form=form)
    for template, what, becomes, form in (
        # line
        ("link.c.j2", "    return crc == said;", "    return crc == said || crc != said;", WHOLE),
        ("link.c.j2", "crc = (crc & 0x8000u) != 0u ? (crc << 1) ^ 0x1021u : crc << 1;", "crc = (crc & 0x8000u) != 0u ? (crc << 1) ^ 0x1023u : crc << 1;", WHOLE),
        ("link.c.j2", "    if (link->has_stepped) {\n", "    if (link->has_stepped) {\n        link->microseconds += STEP_MICROSECONDS;\n", WHOLE),
        ("link.c.j2", "{{ P }}_OFF_IN_LOOP, true);", "{{ P }}_OFF_IN_LOOP, false);", WHOLE),
        ("link.c.j2", "    link->in_loop_steps = IN_LOOP_STEPS;", "    link->in_loop_steps = 5u * IN_LOOP_STEPS;", WHOLE),
        ("link.c.j2", "{{ P }}_OFF_IN_LOOP, link->in_loop_steps > 0u);", "{{ P }}_OFF_IN_LOOP, false);", WHOLE),
        ("link.c.j2", "if (!link->has_begun || restart > 0u || (has_number && number == 0u)) {", "if (!link->has_begun) {", WHOLE),
        ("link.c.j2", "number >= low && number <= high;", "number >= low;", WHOLE),
        ("link.c.j2", "{{ prefix }}_switch_off(state, {{ P }}_OFF_BY_LINE, true);", "{{ prefix }}_switch_off(state, {{ P }}_OFF_BY_LINE, false);", WHOLE),
        ("link.c.j2", "            {{ prefix }}_set_automatic(state);", "            (void)state;", WHOLE),
        ("link.c.j2", "} else if (link->release_steps == 0u) {", "} else if (link->release_steps > 9000u) {", WHOLE),
        ("link.c.j2", "    if (letter >= '0' && letter <= '9') {", "    if (letter >= '0' && letter <= '8') {", WHOLE),
        ("link.c.j2", "    if ((state->off & ({{ P }}_OFF_BY_HAND | {{ P }}_OFF_BY_BUTTON)) != 0u) {", "    if (false) {", WHOLE),
        ("link.c.j2", 'put_count(text, off, state->off);', 'put_count(text, off, 0u);', WHOLE),
        ("text.c.j2", "    if (parts < 0) {\n", "    if (parts < -9000000) {\n", COLD),
        ("thermostat.c.j2", "    state->off = (uint8_t)(state->off & ~who);", "    state->off = 0u;", WHOLE),
        ("link.c.j2", "number >= low && number <= high;", "number > high && number < low;", WHOLE),
        # what is set, and kept
        ("parameters.c.j2", "settings->{{ put.field }} = value;", "settings->{{ put.field }} = 0.5f * value;", WHOLE),
        ("parameters.c.j2", "return time_s > 0 ? {{ over(fine_number, \"time_s\") }} : {{ n(0.0) }};", "return time_s > 0 ? {{ over(fine_number, \"time_s\") }} / 2 : {{ n(0.0) }};", NARROW),
        ("parameters.c.j2", "    parameters->state->settings = &parameters->settings;\n}", "    parameters->state->settings = parameters->defaults;\n}", WHOLE),
        ("parameters.c.j2", "read_word(memory, copy, WORDS, &word) && word == crc;", "read_word(memory, copy, WORDS, &word);", WHOLE),
        ("parameters.c.j2", "(k == 0u && word != KEPT_VERSION)", "(k == 9u && word != KEPT_VERSION)", WHOLE),
        ("parameters.c.j2", "const uint8_t copy = last == 0 ? 1u : 0u;", "const uint8_t copy = 0u;", WHOLE),
        ("parameters.c.j2", "        return true; /* nothing is written", "        is_there = false; /* nothing is written", WHOLE),
        ("parameters.c.j2", "        if ((by_hand & ((uint32_t)1 << place)) == 0u) {", "        if ((by_hand & ((uint32_t)1 << place)) != 0u) {", WHOLE),
        ("parameters.c.j2", "    if ((front & 0x20000u) != 0u) {", "    if ((front & 0x80000u) != 0u) {", WHOLE),
        ("parameters.c.j2", "return is_written && is_whole(memory, copy, &number) && number == next;", "return true;", WHOLE),
        # front
        ("panel.c.j2", "enum { REST_MS = 20,", "enum { REST_MS = 80,", WHOLE),
        ("panel.c.j2", "LONG_MS = 1500, OFF_MS = 4500,", "LONG_MS = 1500, OFF_MS = 45000,", WHOLE),
        ("panel.c.j2", "set_off(panel, true); /* always, locked or not */", "set_off(panel, !is_locked(panel)); /* always, locked or not */", WHOLE),
        ("panel.c.j2", "(has_others ||", "((has_others && panel->set_ms > 90000u) ||", WHOLE),
        ("panel.c.j2", "        panel->is_open = panel->edited == parameters->lock_code;", "        panel->is_open = true;", WHOLE),
        ("panel.c.j2", "        *over = 9;\n        *under = 5;", "        *over = 2;\n        *under = 1;", WHOLE),
        ("panel.c.j2", "panel->edited = moved < low ? low : moved > high ? high : (int32_t)moved;", "panel->edited = moved < low ? low : (int32_t)moved;", WHOLE),
        ("panel.c.j2", "    } else if (!panel->is_asked) {", "    } else if (false) {", WHOLE),
        ("panel.c.j2", "    if (!{{ prefix }}_can_release(state)) {", "    if (false) {", WHOLE),
        ("panel.c.j2", "panel->moves < TEN_AFTER ? 1", "panel->moves < TEN_AFTER ? 2", NARROW),
        ("panel.c.j2", "        parameters->unit = (uint8_t)(panel->edited & 1);", "        parameters->unit = 0u;", NARROW),
        ("panel.c.j2", "        (void){{ prefix }}_set_manual(state, value_of(panel, face_of(OUTPUT), panel->edited));", "        (void){{ prefix }}_set_manual(state, {{ n(0.0) }});", WHOLE),
        ("panel.c.j2", "        if (panel->idle_ms >= IDLE_MS) {", "        if (panel->idle_ms >= 2u * IDLE_MS) {", WHOLE),
        ("panel.c.j2", "if (turn > 0u && put_matter(state, bottom, turn - 1u)) {", "if (turn > 9u && put_matter(state, bottom, turn - 1u)) {", WHOLE),
    )
)  # fmt: skip


@pytest.fixture
def put_in(monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[[Slip], None]]:
    yield from putting_in(monkeypatch)


@pytest.mark.parametrize("slip", SLIPS, ids=lambda slip: f"{slip.template}: {slip.becomes[:40]!r}")
def test_a_slip_is_told(slip: Slip, put_in: Callable[[Slip], None]) -> None:
    put_in(slip)
    # the other one works below zero
    name = "camera_cooler" if slip.form is COLD else "hatching_cabinet"
    assert told(pool()[name], slip.form), "all is said to be right"
