"""An emulated chip: a linked program put into its memory, functions called one by one, instructions counted."""

from __future__ import annotations

import ctypes
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from calor.compiled import kernel
from calor.errors import FirmwareError

FLASH, RAM, RAM_BYTES, FLASH_BYTES = 0x0001_0000, 0x2000_0000, 0x4_0000, 0x10_0000
INPUTS, ANSWERS, RETURN = 0x3000_0000, 0x5000_0000, 0x8000
PAGE = 0x1000


class Target(NamedTuple):
    """A chip: what the packaged compiler calls it, whether it is an Arm, and the command of another compiler for it."""

    name: str
    triple: str
    cpu: str
    is_arm: bool
    compiler: tuple[str, ...] = ()


@dataclass(frozen=True)
class Program:
    """A linked program: what to load where, and where its functions are."""

    segments: tuple[tuple[int, bytes], ...]
    entries: dict[str, int]


class Machine:
    """One emulated chip with a program in it."""

    def __init__(self, target: Target, program: Program, given: bytes, answer_bytes: int) -> None:
        import unicorn
        import unicorn.arm_const as arm
        import unicorn.riscv_const as riscv

        self.target, self.program = target, program
        if target.is_arm:
            self.uc = unicorn.Uc(unicorn.UC_ARCH_ARM, unicorn.UC_MODE_THUMB | unicorn.UC_MODE_MCLASS)
            m4 = "m4" in target.cpu
            self.uc.ctl_set_cpu_model(arm.UC_CPU_ARM_CORTEX_M4 if m4 else arm.UC_CPU_ARM_CORTEX_M0)
            self._arguments = (arm.UC_ARM_REG_R0, arm.UC_ARM_REG_R1, arm.UC_ARM_REG_R2)
            self._stack, self._link, self._mode = arm.UC_ARM_REG_SP, arm.UC_ARM_REG_LR, 1
        else:
            self.uc = unicorn.Uc(unicorn.UC_ARCH_RISCV, unicorn.UC_MODE_RISCV32)
            self._arguments = (riscv.UC_RISCV_REG_A0, riscv.UC_RISCV_REG_A1, riscv.UC_RISCV_REG_A2)
            self._stack, self._link, self._mode = riscv.UC_RISCV_REG_SP, riscv.UC_RISCV_REG_RA, 0
        for base, size in (
            (FLASH, FLASH_BYTES), (RAM, RAM_BYTES), (RETURN, PAGE), (INPUTS, len(given)), (ANSWERS, answer_bytes)
        ):  # fmt: skip
            self.uc.mem_map(base, (size // PAGE + 1) * PAGE)
        for at, data in program.segments:
            self.uc.mem_write(at, data)
        self.uc.mem_write(INPUTS, given)
        if target.is_arm and "m4" in target.cpu:
            self.uc.reg_write(arm.UC_ARM_REG_FPEXC, 0x4000_0000)

    def write(self, at: int, data: bytes) -> None:
        """Put bytes into memory."""
        self.uc.mem_write(at, data)

    def read(self, at: int, count: int) -> bytes:
        """Bytes of memory."""
        return bytes(self.uc.mem_read(at, count))

    def call(self, name: str, *arguments: int) -> None:
        """Run one function to its end. Raises FirmwareError where it goes astray."""
        import unicorn

        self.uc.reg_write(self._stack, RAM + RAM_BYTES - 16)
        self.uc.reg_write(self._link, RETURN | self._mode)
        for register, value in zip(self._arguments, arguments, strict=False):
            self.uc.reg_write(register, value)
        try:
            self.uc.emu_start(self.program.entries[name] | self._mode, RETURN)
        except unicorn.UcError as error:
            raise FirmwareError("", f"the firmware went astray on {self.target.name} in {name}: {error}") from None


class Counter:
    """Counts instructions by a compiled callback: one in Python would cost a thousand times as much."""

    def __init__(self, uc: Any) -> None:
        import unicorn
        from unicorn.unicorn_py3.unicorn import uclib

        self._total = (ctypes.c_int64 * 1)(0)
        self._library, self._uc = uclib, uc
        self._hook = ctypes.c_size_t(0)
        uclib.uc_hook_add(
            uc._uch, ctypes.byref(self._hook), unicorn.UC_HOOK_CODE, kernel().address("calor_count"),
            ctypes.cast(self._total, ctypes.c_void_p), ctypes.c_uint64(1), ctypes.c_uint64(0),
        )  # fmt: skip
        uc.ctl_flush_tb()

    @property
    def total(self) -> int:
        """Instructions since it was begun."""
        return int(self._total[0])

    def end(self) -> None:
        """Count no more; what runs from here on runs at full speed."""
        self._library.uc_hook_del(self._uc._uch, self._hook)
        self._uc.ctl_flush_tb()


def counted_calls(machine: Machine, name: str, calls: int, stride: int) -> npt.NDArray[np.int64]:
    """Instructions of each of so many calls of a function; its argument is the place of an input, `stride` bytes on."""
    counter, instructions = Counter(machine.uc), np.zeros(calls, np.int64)
    for k in range(calls):
        before = counter.total
        machine.call(name, INPUTS + k * stride)
        instructions[k] = counter.total - before
    counter.end()
    return instructions
