"""A chip of nobody's: the core is a Cortex-M0+, its peripherals are made up. The header of the program that is written
for it and the emulator that runs it are both made from these lists."""

from __future__ import annotations

import math
from typing import NamedTuple

CLOCK_HZ = 48_000_000
ADC_BITS = 12
PWM_CHANNELS = 4
FLASH_AT, FLASH_BYTES = 0x0000_0000, 0x1_0000
RAM_AT, RAM_BYTES = 0x2000_0000, 0x2000
PERIPHERALS_AT = 0x4000_0000
KEPT_AT, KEPT_PAGE_BYTES, KEPT_PAGES = 0x0800_0000, 512, 4
"""Flash for what is kept: read as memory, erased by pages, written by words."""
LINE_INTERRUPT = 0


class Register(NamedTuple):
    """A register of 32 bits: its name, how far it is from the first, and what it is for."""

    name: str
    at: int
    what: str


REGISTERS = (
    Register("PIN_OUTPUTS", 0x00, "bits: which pins are outputs"),
    Register("PIN_PULL_UPS", 0x04, "bits: which inputs are pulled up"),
    Register("PIN_SET", 0x08, "writing a bit sets its pin high"),
    Register("PIN_CLEAR", 0x0C, "writing a bit sets its pin low"),
    Register("PIN_LEVELS", 0x10, "bits: the levels at the pins"),
    Register("ADC_START", 0x20, "writing a channel's number converts it"),
    Register("ADC_DONE", 0x24, "1 once it is done"),
    Register("ADC_CODE", 0x28, f"the code, {ADC_BITS} bits"),
    Register("LINE_RATE", 0x30, "bits in a second, 8N1"),
    Register("LINE_STATE", 0x34, "bit 0: a letter has come; bit 1: another may be written"),
    Register("LINE_LETTER", 0x38, "read: the letter that came; written: one to send"),
    Register("LINE_ASKS", 0x3C, "bits: which of the two states interrupts"),
    Register("WATCHDOG_MS", 0x40, "writing starts it: resets after so long without a feed"),
    Register("WATCHDOG_FEED", 0x44, "writing feeds it"),
    Register("KEPT_ERASE", 0x50, "writing a place erases its page to ones"),
    Register("KEPT_PLACE", 0x54, "the place of the next word"),
    Register("KEPT_WORD", 0x58, "writing clears the bits that are 0 in it, at that place"),
    *(
        Register(f"PWM{k}_{name}", 0x80 + 0x10 * k + at, what)
        for k in range(PWM_CHANNELS)
        for name, at, what in (
            ("PRESCALER", 0, "what the clock is divided by"),
            ("TOP", 4, "counts in a period"),
            ("COMPARE", 8, "counts that its pin is high: 0 never, TOP always"),
        )
    ),
)
PLACES = {one.name: PERIPHERALS_AT + one.at for one in REGISTERS}


def whole_pages(count: int) -> int:
    """The bytes of as many pages as are needed for so many bytes."""
    return math.ceil(count / KEPT_PAGE_BYTES) * KEPT_PAGE_BYTES


OUTPUT_PINS, SUPPLY_PINS = (0, 1, 2, 3), (4, 5, 6, 7)
KEY_PINS = {"up": 8, "down": 9, "set": 10}
BUTTON_PIN = 11
SENSOR_CHANNEL, KNOB_CHANNEL = 0, 1
