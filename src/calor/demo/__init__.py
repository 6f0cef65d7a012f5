"""The shipped designs and recorded runs. All of it is made up."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

FOLDER = Path(__file__).parent


class Demo(NamedTuple):
    """A shipped design, what it is about, and the recorded run that goes with it, if there is one."""

    title: str
    about: str
    design: Path
    log: Path | None = None


DEMOS = (
    Demo(
        "Hatching cabinet", "A mat heater, a PID law and a solid-state relay hold 37.5 °C.",
        FOLDER / "hatching_cabinet.toml", FOLDER / "hatching_cabinet_log.csv",
    ),
    Demo(
        "Radio-link hut", "A fan on two thresholds keeps an equipment shelf cool.",
        FOLDER / "radio_hut.toml", FOLDER / "radio_hut_log.csv",
    ),
    Demo(
        "Radio-link hut, two fans", "A four-wire fan on a curve, a second one above it.",
        FOLDER / "radio_hut_fans.toml",
    ),
    Demo("Film bath", "Six litres of water within 0.15 °C, by a platinum RTD.", FOLDER / "film_bath.toml"),
    Demo("Dew heater", "PWM holds a telescope's glass just above the dew point.", FOLDER / "dew_heater.toml"),
    Demo("Wax melter", "Ramp and soak, held back while the wax melts.", FOLDER / "wax_melter.toml"),
    Demo("Observatory camera", "Two thermoelectric stages, far below zero.", FOLDER / "camera_cooler.toml"),
    Demo("Foam cutter", "A hot wire without a sensor, dosed by a timer.", FOLDER / "foam_cutter.toml"),
)  # fmt: skip
CABINET, HUT = FOLDER / "hatching_cabinet_log.csv", FOLDER / "radio_hut_log.csv"
BATH, WAX = FOLDER / "film_bath_monitor.txt", FOLDER / "wax_melter_log.csv"
BEFORE, AFTER = FOLDER / "radio_hut_one_fan.csv", FOLDER / "radio_hut_two_fans.csv"


class Recorded(NamedTuple):
    """A shipped record, or two of them to be compared, and what it is about."""

    title: str
    about: str
    paths: tuple[Path, ...]


RECORDS = (
    Recorded("Hatching cabinet", "On and off from cold, ten minutes missing, a door.", (CABINET,)),
    Recorded("Film bath, warming", "What a serial monitor caught; the board started again.", (BATH,)),
    Recorded("Wax melter", "Two thresholds in Fahrenheit, with spikes.", (WAX,)),
    Recorded("Radio hut, one fan and two", "Two days before a second fan, two after.", (BEFORE, AFTER)),
    Recorded("Radio hut, a fan on and off", "Six hours, decimal commas.", (HUT,)),
)  # fmt: skip
STARTER = FOLDER / "starter.toml"
