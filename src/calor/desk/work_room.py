"""A room with work of its own, which is made when it is first needed and goes on when the room is left."""

from __future__ import annotations

from typing import Any, Generic, Protocol, TypeVar

from calor.desk.room import Room
from calor.desk.state.desk import Desk


class RoomWork(Protocol):
    """What a room is at: off the GUI thread, or on a line."""

    changed: Any
    """The signal of what is on, how far it is, or what came of it."""

    @property
    def is_busy(self) -> bool:
        """Whether something is going on."""
        ...

    def close(self) -> None:
        """End all of it: the window closes."""


W = TypeVar("W", bound=RoomWork)


class WorkRoom(Room, Generic[W]):
    """Neither ribbon nor benches stand beside it."""

    has_ribbon, has_bench = False, False

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._work: W | None = None

    def make_work(self) -> W:
        """Make what does the work; its module is read no sooner."""
        raise NotImplementedError

    @property
    def work(self) -> W:
        """What is going on, and what came of it."""
        if self._work is None:
            self._work = self.make_work()
            self._work.changed.connect(self.work_changed)
        return self._work

    @property
    def at_work(self) -> bool:
        return self._work is not None and self._work.is_busy

    def close_down(self) -> None:
        if self._work is not None:
            self._work.close()
