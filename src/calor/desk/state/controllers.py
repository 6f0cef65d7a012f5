"""Which controller is under test, in words."""

from __future__ import annotations

from calor.design.model import Design
from calor.firmware.controller.names import BUILT_IN
from calor.law.code import Code

CONTROLLERS: dict[str, str] = {
    BUILT_IN: "Built-in law", "host": "Generated C, this machine", "cortex-m0plus": "Generated C, Cortex-M0+",
    "cortex-m4f": "Generated C, Cortex-M4F", "rv32imc": "Generated C, RV32IMC",
}  # fmt: skip


def controller_word(name: str, design: Design | None = None) -> str:
    """A controller in words: your own code by the name of its file."""
    if name == BUILT_IN and design is not None and isinstance(design.law, Code):
        name = design.law.file
    return CONTROLLERS.get(name, f"Your code, {name.rsplit('/', 1)[-1]}")
