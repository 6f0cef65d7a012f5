"""The program for a bare Cortex-M0+ on an emulator with the peripherals of the made-up chip, the core's tick and
interrupts.

The processor is emulated instruction by instruction, one counted as one cycle; while it sleeps time jumps to the next
event. Between its stretches interrupts are entered and left as the core does (ARMv6-M, exception entry and return).
"""

from __future__ import annotations

import itertools
import math
import struct
from collections import deque
from pathlib import Path
from typing import Any

from calor.errors import FirmwareError
from calor.firmware.run import chip
from calor.firmware.run.bare_board import Pins
from calor.firmware.run.emulator import Counter
from calor.firmware.sources import made_up_chip as made_up

CORE_AT, PAGE = 0xE000_E000, 0x1000
TICK_STATE, TICK_RELOAD, LETS_THROUGH = 0x010, 0x014, 0x100
RETURN = 0x1000_0000
"""Where an exception returns to: to no code, so that it is seen."""
TICK, FIRST_INTERRUPT = 15, 16
FRAME = ("R0", "R1", "R2", "R3", "R12", "LR")
LETTER_CAME, MAY_SEND = 1, 2
MOST_AT_ONCE = made_up.CLOCK_HZ // 10
NOISE_COUNTS = (0.1, 0.7, 0.3, 0.9, 0.0, 0.6, 0.4, 0.8)
"""At the converter, one after another, as averaging needs it."""


class M0PlusBoard:
    """A program for the made-up chip that runs. Raises FirmwareError where the emulator is not installed."""

    def __init__(self, program: Path) -> None:
        if not chip.available():
            raise FirmwareError("", chip.MISSING)
        import unicorn
        import unicorn.arm_const as arm

        self._arm, self._failed = arm, unicorn.UcError
        self.uc = uc = unicorn.Uc(unicorn.UC_ARCH_ARM, unicorn.UC_MODE_THUMB | unicorn.UC_MODE_MCLASS)
        uc.ctl_set_cpu_model(arm.UC_CPU_ARM_CORTEX_M0)
        kept_bytes = made_up.KEPT_PAGES * made_up.KEPT_PAGE_BYTES
        for at, size in (
            (made_up.FLASH_AT, made_up.FLASH_BYTES), (made_up.RAM_AT, made_up.RAM_BYTES), (RETURN, PAGE),
            (made_up.KEPT_AT, math.ceil(kept_bytes / PAGE) * PAGE),
        ):  # fmt: skip
            uc.mem_map(at, size)
        for at, data in chip.read_program(program).segments:
            uc.mem_write(at, data)
        uc.mem_write(made_up.KEPT_AT, b"\xff" * kept_bytes)
        uc.mmio_map(made_up.PERIPHERALS_AT, PAGE, self._read, None, self._write, None)
        uc.mmio_map(CORE_AT, PAGE, lambda *_: 0, None, self._write_core, None)
        self._names = {one.at: one.name for one in made_up.REGISTERS}
        self._counter = Counter(uc)
        self.said, self.resets = b"", 0
        self._keys: set[int] = set()
        self._shares, self._noise = (0.0, 0.0), itertools.cycle(NOISE_COUNTS)
        self._slept_cycles, self._began = 0, 0
        self._coming: deque[int] = deque()
        self._begin_again()

    def restart(self) -> None:
        """Reset it; what it keeps stays."""
        self.resets += 1
        self._begin_again()

    def _begin_again(self) -> None:
        self._registers = dict.fromkeys(made_up.PLACES, 0)
        self._registers["LINE_STATE"] = MAY_SEND
        self._levels, self._high_cycles, self._high_since = 0, [0] * 32, [self._now] * 32
        self._tick_cycles, self._tick_due, self._tick_waits = 0, math.inf, False
        self._bites_at, self._sent_at, self._comes_at = math.inf, math.inf, math.inf
        self._lets_through, self._asleep, self._in_exception = 0, False, False
        stack, self._at = struct.unpack("<II", self.uc.mem_read(made_up.FLASH_AT, 8))
        self._put("SP", stack)
        self._put("PRIMASK", 0)

    def send(self, letters: bytes) -> None:
        """Letters that come over its line, one after another at its rate."""
        self._coming.extend(letters)
        if math.isinf(self._comes_at):
            self._comes_at = self._now + self._letter_cycles()

    def press(self, *keys: str) -> None:
        """Which contacts are closed from here on: up, down, set, button."""
        places = made_up.KEY_PINS | {"button": made_up.BUTTON_PIN}
        self._keys = {places[key] for key in keys}

    def run(self, milliseconds: int, shares: tuple[float, float], full_volt: float) -> Pins:
        """Run it for a while with these shares of the reference at sensor and knob.

        Raises FirmwareError where it goes astray.
        """
        del full_volt
        self._shares = shares
        begin = self._now
        end = begin + milliseconds * (made_up.CLOCK_HZ // 1000)
        self._high_cycles, self._high_since = [0] * 32, [begin] * 32
        while self._now < end:
            self._go_on(end)
        self._count_high(self._levels)
        high = [one / (self._now - begin) for one in self._high_cycles]
        return Pins(
            tuple(high[pin] for pin in made_up.OUTPUT_PINS),
            tuple(self._width(k) for k in range(made_up.PWM_CHANNELS)),
            tuple(high[pin] for pin in made_up.SUPPLY_PINS),
        )

    # the processor

    @property
    def _now(self) -> int:
        """Cycles since it was switched on."""
        return self._counter.total + self._slept_cycles

    def _get(self, register: str) -> int:
        return int(self.uc.reg_read(getattr(self._arm, f"UC_ARM_REG_{register}")))

    def _put(self, register: str, value: int) -> None:
        self.uc.reg_write(getattr(self._arm, f"UC_ARM_REG_{register}"), value)

    def _go_on(self, end: int) -> None:
        """To the next event, or as far as it needs to be seen what an interrupt does."""
        self._let_happen()
        waiting = self._waiting()
        if waiting is not None:
            self._asleep = False
            if self._in_exception:
                self._execute(end)
            elif self._get("PRIMASK") & 1:
                self._execute(self._now + 1)
            else:
                self._enter(waiting)
            return
        due = min(end, self._tick_due, self._bites_at, self._sent_at, self._comes_at)
        if self._asleep:
            self._slept_cycles += int(due) - self._now
        else:
            self._execute(int(due))

    def _execute(self, until: int) -> None:
        """Instructions until an instant; fewer where it begins to sleep or leaves an exception."""
        wanted = min(max(until - self._now, 1), MOST_AT_ONCE)
        before = self._counter.total
        try:
            self.uc.emu_start(self._at | 1, RETURN, count=wanted)
        except self._failed as error:
            raise FirmwareError("", f"the program went astray at {self._get('PC'):#x}: {error}") from None
        self._at = self._get("PC")
        if self._at == RETURN:
            self._leave()
        elif self._counter.total - before < wanted:
            self._asleep = True

    def _waiting(self) -> int | None:
        """The exception that waits to be taken."""
        asks = self._registers["LINE_ASKS"] & self._registers["LINE_STATE"]
        if self._tick_waits:
            return TICK
        return FIRST_INTERRUPT + made_up.LINE_INTERRUPT if asks and self._lets_through & 1 else None

    def _enter(self, exception: int) -> None:
        if exception == TICK:
            self._tick_waits = False
        stack = self._get("SP")
        pad = stack & 4
        frame = [self._get(name) for name in FRAME] + [self._at | 1, self._get("XPSR") & ~(1 << 9) | (pad << 7)]
        stack -= pad + 4 * len(frame)
        self.uc.mem_write(stack, struct.pack("<8I", *frame))
        self._put("SP", stack)
        self._put("LR", RETURN | 1)
        self._at = struct.unpack("<I", self.uc.mem_read(made_up.FLASH_AT + 4 * exception, 4))[0] & ~1
        self._in_exception = True

    def _leave(self) -> None:
        stack = self._get("SP")
        *values, at, status = struct.unpack("<8I", self.uc.mem_read(stack, 32))
        for name, value in zip(FRAME, values, strict=True):
            self._put(name, value)
        self._put("XPSR", status & ~(1 << 9))
        self._put("SP", stack + 32 + (status >> 7 & 4))
        self._at, self._in_exception = at & ~1, False

    def _let_happen(self) -> None:
        """What is due: the tick, the watchdog, letters that have gone or come."""
        now = self._now
        if now >= self._tick_due:
            self._tick_due += self._tick_cycles
            self._tick_waits = True
        if now >= self._sent_at:
            self._sent_at = math.inf
            self._registers["LINE_STATE"] |= MAY_SEND
        if now >= self._comes_at:  # one that was not read in time is written over
            self._registers["LINE_LETTER"] = self._coming.popleft()
            self._registers["LINE_STATE"] |= LETTER_CAME
            self._comes_at = now + self._letter_cycles() if self._coming else math.inf
        if now >= self._bites_at:
            self.restart()

    # the peripherals

    def _letter_cycles(self) -> float:
        rate = self._registers["LINE_RATE"]
        return 10 * made_up.CLOCK_HZ // rate if rate else math.inf

    def _read(self, _: Any, at: int, size: int, own: Any) -> int:
        del size, own
        name = self._names.get(at, "")
        if name == "PIN_LEVELS":
            return self._levels | self._registers["PIN_PULL_UPS"] & ~sum(1 << pin for pin in self._keys)
        if name == "LINE_LETTER":
            self._registers["LINE_STATE"] &= ~LETTER_CAME
        return self._registers.get(name, 0)

    def _write(self, _: Any, at: int, size: int, value: int, own: Any) -> None:
        del size, own
        name = self._names.get(at, "")
        if name in ("PIN_SET", "PIN_CLEAR"):
            self._count_high(self._levels)
            self._levels = self._levels | value if name == "PIN_SET" else self._levels & ~value
        elif name == "ADC_START":
            counts = self._shares[value & 1] * 2**made_up.ADC_BITS + next(self._noise) - 0.5
            self._registers["ADC_CODE"] = min(max(math.floor(counts), 0), 2**made_up.ADC_BITS - 1)
            self._registers["ADC_DONE"] = 1
        elif name == "LINE_LETTER":
            self.said += bytes([value & 0xFF])
            self._registers["LINE_STATE"] &= ~MAY_SEND
            self._sent_at = self._now + self._letter_cycles()
        elif name.startswith("WATCHDOG"):
            watchdog_ms = value if name == "WATCHDOG_MS" else self._registers["WATCHDOG_MS"]
            self._registers["WATCHDOG_MS"] = watchdog_ms
            self._bites_at = self._now + watchdog_ms * (made_up.CLOCK_HZ // 1000)
        elif name == "KEPT_ERASE":
            page = value - (value - made_up.KEPT_AT) % made_up.KEPT_PAGE_BYTES
            self.uc.mem_write(page, b"\xff" * made_up.KEPT_PAGE_BYTES)
        elif name == "KEPT_WORD":
            place = self._registers["KEPT_PLACE"]
            there = struct.unpack("<I", self.uc.mem_read(place, 4))[0]
            self.uc.mem_write(place, struct.pack("<I", there & value))
        else:
            self._registers[name] = value

    def _write_core(self, _: Any, at: int, size: int, value: int, own: Any) -> None:
        del size, own
        if at == TICK_RELOAD:
            self._tick_cycles = value + 1
        elif at == TICK_STATE:
            self._tick_due = self._now + self._tick_cycles if value & 1 else math.inf
        elif at == LETS_THROUGH:
            self._lets_through |= value

    def _count_high(self, levels: int) -> None:
        now = self._now
        for pin in (*made_up.OUTPUT_PINS, *made_up.SUPPLY_PINS):
            if levels >> pin & 1:
                self._high_cycles[pin] += now - self._high_since[pin]
            self._high_since[pin] = now

    def _width(self, channel: int) -> float:
        top = self._registers[f"PWM{channel}_TOP"]
        return min(self._registers[f"PWM{channel}_COMPARE"] / top, 1.0) if top else 0.0
