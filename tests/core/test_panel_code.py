"""The generated front of the device: what its two lines show, and what its three keys do, press by press."""

from __future__ import annotations

import random
from collections.abc import Iterator

import numpy as np
import pytest

from calor.board.protocol import row_of, unchecked
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.firmware.run.device import WHOLE, Device, device
from calor.firmware.sources.parameters import parameters_of
from calor.loop.seat import GIVEN

DESIGNS = {demo.design.stem: read(demo.design).design for demo in DEMOS}
TICK_MS, SHORT_MS, LONG_MS, IDLE_MS = 10, 60, 1600, 20_200
CODE_37_5, CODE_50 = 1514, 900


class Front:
    """A device with somebody before it."""

    def __init__(self, own: Device, width: int = 16) -> None:
        self.own, self.width = own, width

    def step(self, counts: float = CODE_37_5) -> None:
        row = np.full(len(GIVEN), np.nan, np.float32)
        row[0], row[4:] = counts, 0.0
        self.own.step(row)

    def hold(self, keys: str, ms: int) -> None:
        """Hold keys ("up", "down", "set", several with +, or none) for so long."""
        held = keys.split("+") if keys else []
        for _ in range(ms // TICK_MS):
            self.own.keys("up" in held, "down" in held, "set" in held, TICK_MS)

    def press(self, keys: str, times: int = 1) -> None:
        for _ in range(times):
            self.hold(keys, SHORT_MS)
            self.hold("", SHORT_MS)

    def said(self, command: str) -> str:
        text, is_right = unchecked(self.own.feed(f"{command}\n".encode()).decode().rstrip("\n"))
        assert is_right, text
        return text

    @property
    def lines(self) -> tuple[str, str]:
        """The two lines, without spaces at their ends."""
        top, _, bottom = self.said("front").removeprefix("ok front ").partition("|")
        assert len(top) == self.width and len(bottom) <= self.width
        return " ".join(top.split()), " ".join(bottom.split())

    def value(self, key: str) -> float:
        row = row_of(self.said(f"get {key}").removeprefix("ok get "))
        assert row is not None
        return row.values[key]


@pytest.fixture
def front(cabinet: Design) -> Iterator[Front]:
    with device(cabinet) as own:
        at = Front(own)
        at.step()
        yield at


def test_a_setpoint_by_the_keys(front: Front) -> None:
    """At home up and down change the setpoint; it counts when it is taken over, inside its limits, and is kept."""
    assert front.lines == ("37.5 C 0 %", "37.5 C auto")
    front.press("up", 3)
    assert front.lines == ("setpoint C", "> 37.8") and front.value("setpoint_celsius") == 37.5
    front.press("down")
    front.press("set")
    assert front.lines == ("setpoint C", "37.7") and front.value("setpoint_celsius") == pytest.approx(37.7, abs=1e-5)
    front.hold("up", 6000)  # it runs, faster after a while, and ends at the limit
    assert front.lines == ("setpoint C", "> 39.0")
    front.hold("", IDLE_MS)  # nobody took it over
    assert front.lines[1] == "37.7 C auto"
    front.own.begin()
    front.step()
    assert front.value("setpoint_celsius") == pytest.approx(37.7, abs=1e-5)


def test_keys_bounce_and_do_one_thing(front: Front) -> None:
    """A contact that is closed for less than its rest is none; several keys at once are none; one press is one move."""
    for _ in range(30):
        front.hold("up", 10)
        front.hold("", 10)
    assert front.lines[0] == "37.5 C 0 %"
    front.hold("up+down", 3000)
    front.hold("up", 1000)  # what is left of the two does nothing
    front.hold("", 50)
    assert front.lines[0] == "37.5 C 0 %"
    front.hold("up", 400)
    front.hold("", 50)
    assert front.lines[1] == "> 37.6"
    front.hold("set", LONG_MS + 2000)  # home, once, and not off as well
    front.hold("", 50)
    assert front.lines == ("37.5 C 0 %", "37.5 C auto") and front.value("setpoint_celsius") == 37.5


@pytest.mark.parametrize("moves", [1, 2, 10, 11, 30, 31, 60])
def test_it_runs_while_it_is_held(front: Front, moves: int) -> None:
    """The first move at once, the second after half a second, then eight in a second; by tens and hundreds after a while."""
    front.press("set", 3)
    assert front.lines == ("Ti s", "900")
    front.hold("up", 20 + 10)
    front.hold("up", 0 if moves == 1 else 500 + 120 * (moves - 2))
    size = sum(1 if k < 10 else 10 if k < 30 else 100 for k in range(moves))
    assert front.lines[1] == f"> {900 + size}"


def test_the_pages(front: Front, cabinet: Design) -> None:
    """Every parameter by its short name, then mode, output, unit and code, and home again."""
    names = [one.short for one in parameters_of(cabinet, WHOLE)]
    seen = []
    for _ in range(len(names) + 5):
        front.press("set")
        seen.append(front.lines[0].split(" ")[0] if front.lines[0][0].isalpha() else "home")
    assert seen == [name.split(" ")[0] for name in names] + ["mode", "output", "unit", "code", "home"]


def to_page(front: Front, name: str) -> None:
    front.hold("", IDLE_MS)
    for _ in range(40):
        if front.lines[0].startswith(name):
            return
        front.press("set")
    raise AssertionError(f"no page {name}")


def test_mode_and_output(front: Front) -> None:
    """Automatic, by hand from the output that there is, off; set held is off from home, and on again."""
    to_page(front, "mode")
    front.press("up")
    assert front.lines == ("mode", "> hand")
    front.press("set")
    assert "mode=hand" in front.said("get")
    front.press("set")
    front.press("up", 30)
    front.press("set")
    front.step()
    assert front.lines[0] == "output %" and "demand=0.3" in front.said("get")
    front.hold("", IDLE_MS)
    assert front.lines == ("37.5 C 30 %", "37.5 C hand")
    front.hold("set", LONG_MS)
    front.hold("", 50)
    front.step()
    assert front.lines == ("37.5 C 0 %", "37.5 C off") and "mode=stopped" in front.said("get")
    front.hold("set", LONG_MS)
    front.hold("", 50)
    assert "mode=hand" in front.said("get")


def test_a_code_locks_all_but_off(front: Front) -> None:
    to_page(front, "code")
    front.press("up", 5)
    front.press("set")
    assert front.lines == ("code", "locked")
    front.hold("", IDLE_MS)
    front.press("up")
    assert front.lines == ("setpoint C", "locked")
    front.hold("", 2000)
    assert front.lines == ("setpoint C", "37.5")
    front.hold("set", LONG_MS)
    front.hold("", 50)
    front.hold("set", LONG_MS)  # off always, on not
    front.hold("", 50)
    assert "mode=stopped" in front.said("get")
    front.hold("set", LONG_MS)
    assert front.lines[1] == "locked" and "mode=stopped" in front.said("get")
    to_page(front, "code")
    front.press("up", 4)
    front.press("set")
    assert front.lines[1] == "wrong"
    front.press("up", 5)
    front.press("set")
    assert front.lines == ("code", "5")
    front.press("set")  # home
    front.press("up")
    assert front.lines[1] == "> 37.6"
    front.own.begin()  # it is kept
    front.press("up")
    assert front.lines[1] == "locked"


def test_fahrenheit(front: Front) -> None:
    """Temperatures, differences and gains in the other unit; what is shown is not rounded into what is set."""
    to_page(front, "unit")
    front.press("up")
    front.press("set")
    assert front.lines == ("unit", "F")
    front.hold("", IDLE_MS)
    assert front.lines == ("99.5 F 0 %", "99.5 F auto")
    front.press("up", 5)
    assert front.lines == ("setpoint F", "> 100.0")
    front.press("set")
    assert front.value("setpoint_celsius") == pytest.approx(37.0 + 7.0 / 9.0, abs=1e-4)
    front.press("set")
    assert front.lines == ("gain /F", "0.122")
    front.press("up")
    front.press("down")
    front.press("set")
    assert front.value("gain_per_celsius") == pytest.approx(0.22, abs=1e-7)


@pytest.mark.parametrize(
    ("counts", "steps", "words"),
    [
        (0, 3, {"shorted", "37.5 C auto"}), (4095, 3, {"open", "37.5 C auto"}),
        (CODE_50, 3, {"cut-out", "37.5 C auto"}), (1700, 1400, {"alarm dev low", "37.5 C auto"}),
    ],
)  # fmt: skip
def test_what_is_the_matter_is_said_in_words(cabinet: Design, counts: int, steps: int, words: set[str]) -> None:
    with device(cabinet) as own:
        at = Front(own)
        at.step()
        for _ in range(steps):
            at.step(counts)
        shown = set()
        for _ in range(12):
            at.hold("", 1000)
            shown.add(at.lines[1])
        assert words <= shown, shown
        assert (at.lines[0] == "probe fault") == (counts in (0, 4095))


def test_tuning_is_shown_and_stopped(cabinet: Design) -> None:
    from calor.law.autotune import Autotune

    law = cabinet.law.model_copy(update={"autotune": Autotune(amplitude=0.4)})
    with device(cabinet.model_copy(update={"law": law})) as own:
        at = Front(own)
        at.step()
        to_page(at, "tune")
        at.press("up")
        at.press("set")
        at.step()
        assert at.lines == ("tune", "on")
        at.hold("", IDLE_MS)
        shown = set()
        for _ in range(4):
            at.hold("", 1000)
            shown.add(at.lines[1])
        assert "tuning" in shown
        to_page(at, "tune")
        at.press("down")
        at.press("set")
        at.step()
        assert at.lines == ("tune", "off")


@pytest.mark.parametrize("width", [8, 16])
@pytest.mark.parametrize("name", DESIGNS)
def test_whoever_presses_whatever(name: str, width: int) -> None:
    """Any keys for any time: two whole lines that can be shown, and every value inside its range."""
    design = DESIGNS[name]
    form = WHOLE._replace(panel=width)
    dice = random.Random(width)
    expected = parameters_of(design, form)
    with device(design, form=form) as own:
        at = Front(own, width)
        for _ in range(400):
            at.hold(
                dice.choice(("", "up", "down", "set", "up+down", "up+set")), dice.choice((10, 30, 60, 700, 1700, 4000))
            )
            if dice.random() < 0.3:
                at.hold("", 60)
            if dice.random() < 0.2:
                at.step(dice.choice((0, CODE_50, CODE_37_5, 4095)))
            top, bottom = at.lines
            assert all(" " <= letter <= "~" for letter in top + bottom)
        for one in expected:
            assert one.low - 1e-4 <= at.value(one.key) <= one.high * (1.0 + 1e-6) + 1e-4, one.key
