"""The shipped designs and recorded runs. All of it is made up."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

FOLDER = Path(__file__).parent


class Demo(NamedTuple):
    """A shipped design and the recorded run that goes with it."""

    title: str
    design: Path
    log: Path


DEMOS = (
    Demo("Hatching cabinet", FOLDER / "hatching_cabinet.toml", FOLDER / "hatching_cabinet_log.csv"),
    Demo("Radio-link hut", FOLDER / "radio_hut.toml", FOLDER / "radio_hut_log.csv"),
)
STARTER = FOLDER / "starter.toml"
