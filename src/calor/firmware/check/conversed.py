"""The line and the front of a device, where its form has them: talked to and pressed, on the host or on a chip."""

from __future__ import annotations

from typing import Any, NamedTuple

from calor.design.model import Design
from calor.firmware.check.pressed import pressed
from calor.firmware.check.talked import talked
from calor.firmware.run.device import device
from calor.firmware.sources.form import Form


class Conversed(NamedTuple):
    """Where a device was talked to, how many commands and presses it was given, and what was wrong."""

    target: str
    commands: int
    problems: tuple[str, ...]

    def data(self) -> dict[str, Any]:
        """It as plain data."""
        return {**self._asdict(), "problems": list(self.problems)}


def conversed(design: Design, form: Form, target: str = "host") -> Conversed:
    """Talk to the device of a design. Raises FirmwareError where it does not build or is not known."""
    # a front alone is looked at over a line, too
    whole = form._replace(link=True)
    with device(design, target, form=whole) as own:
        talk = talked(design, whole, own)
        if form.panel:
            pressed(talk)
    return Conversed(target, talk.commands, tuple(talk.problems))
