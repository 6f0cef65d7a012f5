"""The keys of a device's front, pressed: every page, every value up and down, held, locked, in both units, with a probe
that fails and a cut-out that trips, and at random. After each press its lines are those of the model."""

from __future__ import annotations

import random

import numpy as np

from calor.firmware.check.front_model import FrontModel, thermostat_of
from calor.firmware.check.talked import Talk, numbers_in
from calor.loop import answer_row
from calor.sense.checks import NO_FAULT

TICK_MS, SHORT_MS, IDLE_MS = 10, 60, 20_300
AT_RANDOM = 150


class Presses:
    """Somebody before the front of a device, and what it should do."""

    def __init__(self, talk: Talk) -> None:
        self._talk, self.model = talk, FrontModel(talk.design, talk.form)
        self._device = talk.own
        self.step(float(talk.readings[0]))

    def step(self, reading: float) -> None:
        """A control step; what it made of the thermostat the model is told."""
        own, talk = self.model.thermostat, self._talk
        row, told = talk.step(reading)
        cut_out, low = talk.design.guard.cut_out_celsius, talk.design.guard.cut_out_low_celsius
        starts, stops = self.model.starts, self.model.stops
        thermostat_of(own, row, told, self.model.both)
        cools = talk.design.law.action == "cool"
        measured = np.float32(row[answer_row.MEASURED])
        tripping = own.fault != NO_FAULT and (cut_out is not None or low is not None)
        tripping |= cut_out is not None and bool(measured < cut_out if cools else measured > cut_out)
        tripping |= low is not None and not cools and bool(measured < low)
        latched = own.cut_out or bool(own.alarms & self.model.latching)
        self.model.can_release = latched and not tripping
        if starts and not stops and own.hand is None and not own.off and own.fault == NO_FAULT and not own.cut_out:
            talk.expect(own.tuning, "self-tuning was asked for at the front and is not on")
        self.model.starts = self.model.stops = False

    def hold(self, keys: str, ms: int) -> None:
        """Hold keys ("up", "down", "set", several with +, or none) for so long."""
        held = keys.split("+")
        contacts = ("up" in held, "down" in held, "set" in held)
        for _ in range(ms // TICK_MS):
            self._device.keys(*contacts, TICK_MS)
            self.model.keys(contacts, TICK_MS)

    def press(self, keys: str, times: int = 1) -> None:
        """Press and let go."""
        for _ in range(times):
            self.hold(keys, SHORT_MS)
            self.hold("", SHORT_MS)
            self.look(keys)

    def look(self, after: str) -> None:
        """Compare the lines, and who has it off."""
        talk, width = self._talk, self._talk.form.panel
        text = talk.ask("front").removeprefix("ok front ")
        top, _, bottom = text.partition("|")
        shown = (top, bottom.ljust(width))
        talk.expect(
            shown == self.model.lines(),
            f"front after {after}, page {self.model.page}: {shown}, not {self.model.lines()}",
        )
        answer = talk.ask("get")
        mode = ("auto", "hand", "stopped")[self.model.mode]
        talk.expect(f"mode={mode}" in answer.split(), f"after {after} at the front: {answer!r}, not {mode}")

    def values(self) -> None:
        """Compare every value that can be set."""
        for one, value in zip(self._talk.parameters, self.model.values, strict=True):
            wanted = self.model.thermostat.setpoint_celsius if one.key == "setpoint_celsius" else value
            told = numbers_in(self._talk.ask(f"get {one.key}")).get(one.key, 1e9)
            near = abs(told - wanted) <= (2e-3 if self._talk.form.fixed else 1e-5) * abs(wanted) + 1e-4
            self._talk.expect(near, f"{one.key} is {told:g} after the front set {wanted:g}")


def pressed(talk: Talk) -> None:
    """Press every key on every page; what is wrong the talk is told."""
    talk.own.put_memory(b"\xff" * len(talk.own.memory()))
    talk.own.begin()
    at = Presses(talk)
    pages = len(at.model.pages)
    for _ in range(pages + 1):
        at.press("set")
    at.hold("", IDLE_MS)
    for page in range(1, pages):
        _changed(at, page, float(talk.readings[page % len(talk.readings)]))
    _locked(at, pages - 1)
    _off_and_on(at)
    _left_at_the_front(at, talk)
    _tripped(at, talk)
    at.press("set", at.model.pages.index("unit"))
    at.press("up")
    at.press("set", 2 + len(at.model.pages))  # all pages in the other unit
    at.hold("", IDLE_MS)
    for reading in (talk.cold, float("nan") if talk.design.probe.kind == "ideal" else 0.0, float(talk.readings[0])):
        at.step(reading)
        for _ in range(8):
            at.hold("", 1_000)
            at.look("a while")
    dice = random.Random(7)
    for _ in range(AT_RANDOM):
        at.hold(
            dice.choice(("", "up", "down", "set", "up+down", "up+set", "down+set")),
            dice.choice((10, 30, 60, 60, 60, 700, 1700, 5000)),
        )
        if dice.random() < 0.4:
            at.hold("", 60)
        if dice.random() < 0.2:
            at.step(float(dice.choice(talk.readings.tolist())))
        at.look("a press at random")


def _changed(at: Presses, page: int, reading: float) -> None:
    """A page's value up, held up, down and taken over; then home by itself."""
    at.press("set", page)
    at.press("up")
    at.hold("up", 2_000 if page < len(at.model.pages) - 1 else 300)
    at.look("up held")
    at.press("down", 2)
    at.press("set")
    at.step(reading)
    at.look("a step")
    at.values()
    at.hold("", IDLE_MS)
    at.look("nothing for 20 s")


def _locked(at: Presses, page: int) -> None:
    """With a code everything but off is refused; a wrong one is, too; opened it can be taken off again."""
    if not at.model.code:
        at.press("set", page)
        at.press("up", 3)
        at.press("set")
        at.hold("", IDLE_MS)
    code = at.model.code
    at.press("up")
    at.hold("", IDLE_MS)
    _off_and_on(at)
    for guess in (code + 1, code):
        at.hold("", IDLE_MS)
        at.press("set", page)
        at.press("up", guess)
        at.press("set")
    at.press("down", code)
    at.press("set")
    at.hold("", IDLE_MS)
    at.look("unlocked")


def _tripped(at: Presses, talk: Talk) -> None:
    """A cut-out that trips is let go of on its page, asked for twice, where the reading is back."""
    cut_out = talk.design.guard.cut_out_celsius
    if cut_out is None:
        return
    cools = talk.design.law.action == "cool"
    beyond = talk.stretch.reading_at(float(cut_out) + (-3.0 if cools else 3.0))
    for reading in (beyond, float(talk.readings[0])):
        at.step(reading)
        at.press("set")
        at.press("down")
        at.press("set")
        at.press("up")
        at.press("set", 2)
        at.step(float(talk.readings[0]) if reading != beyond else beyond)
        at.look("the cut-out's page")
        at.hold("", IDLE_MS)


def _left_at_the_front(at: Presses, talk: Talk) -> None:
    """Off at the front is left there alone, or by the command that says so; held on from a page set is off, too."""
    at.press("set")
    at.hold("set", 5_000)
    at.hold("", SHORT_MS)
    at.look("set held from a page on")
    talk.own.begin()  # the power goes, and it stays off
    talk.says("get", "ok get mode=stopped")
    at.model.restarted()
    at.step(talk.cold)
    for command in ("auto", "hand 1", "hand 0"):
        talk.says(command, f"err {command.split()[0]} off at the device")
        at.look(command)
    talk.says("stop", "ok stop")
    talk.says("undo front off", "ok undo front off")
    talk.says("get", "ok get mode=stopped")
    talk.says("auto", "ok auto")
    at.model.thermostat.off, at.model.thermostat.hand = False, None
    at.look("auto")


def _off_and_on(at: Presses) -> None:
    """Set held at home: off, and on again where it may; with another key closed off, and nothing more."""
    for keys in ("set", "set", "up+set", "up+set", "set"):
        at.hold(keys, 1_700)
        at.hold("", SHORT_MS)
        at.look(f"{keys} held")
    at.hold("", IDLE_MS)
