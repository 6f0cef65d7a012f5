"""The rooms that there are, in the order of the job: a folder and a line for each."""

from __future__ import annotations

import contextlib
import importlib
from pkgutil import resolve_name

from calor.desk.room import Room
from calor.desk.state.desk import Desk

ROOMS = [
    "calor.desk.loop.room:LoopRoom",
    "calor.desk.probe.room:ProbeRoom",
    "calor.desk.logs.room:LogsRoom",
    "calor.desk.tune.room:TuneRoom",
    "calor.desk.code.room:CodeRoom",
    "calor.desk.proof.room:ProofRoom",
    "calor.desk.board.room:BoardRoom",
    "calor.desk.journal.room:JournalRoom",
]


def rooms_of(desk: Desk) -> list[Room]:
    """A face for each room."""
    rooms = [resolve_name(place)(desk) for place in ROOMS]
    assert all(isinstance(room, Room) for room in rooms)
    return rooms


def import_pages() -> None:
    """Import what the rooms' pages are made of, beside the window: a room entered first has only to be built then."""
    for place in ROOMS:
        folder = place.partition(":")[0].rpartition(".")[0]
        # a room may keep its page elsewhere, or lack a library that it says is missing when it is entered
        with contextlib.suppress(ImportError):
            importlib.import_module(f"{folder}.page")
