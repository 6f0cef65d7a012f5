"""Commands asked of a board one after the other, off the window's thread: what was pressed before what is only looked
at."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from typing import NamedTuple

from calor.board.heard import Heard
from calor.board.protocol import Answer
from calor.errors import CalorError


class Asked(NamedTuple):
    """A command and what was answered; None and the trouble where nothing was. Only some are told to the user."""

    command: str
    answer: Answer | None
    trouble: str
    is_told: bool


class Asking:
    """A thread that asks. `answered` is called in it, for each command."""

    def __init__(self, link: Heard, answered: Callable[[Asked], None]) -> None:
        self._link, self._answered = link, answered
        self._wanted: deque[tuple[str, bool]] = deque()
        self._looks: deque[str] = deque()
        self._is_over = False
        self._woken = threading.Condition()
        self._thread = threading.Thread(target=self._work, name="asking", daemon=True)
        self._thread.start()

    def do(self, command: str) -> None:
        """Ask for something that the user wants, and tell what came of it."""
        self._add(command, True)

    def press(self, command: str) -> None:
        """Ask for something at once that need not be told."""
        self._add(command, False)

    def _add(self, command: str, is_told: bool) -> None:
        with self._woken:
            self._wanted.append((command, is_told))
            self._woken.notify()

    def look(self, commands: list[str]) -> None:
        """Ask when there is nothing else to ask."""
        with self._woken:
            self._looks.extend(commands)
            self._woken.notify()

    @property
    def is_behind(self) -> bool:
        """Whether something is still to be looked at."""
        return bool(self._looks)

    def end(self) -> None:
        """Ask nothing more."""
        with self._woken:
            self._is_over = True
            self._woken.notify()

    def _next(self) -> tuple[str, bool] | None:
        with self._woken:
            while not (self._wanted or self._looks or self._is_over):
                self._woken.wait()
            if self._is_over:
                return None
            return self._wanted.popleft() if self._wanted else (self._looks.popleft(), False)

    def _work(self) -> None:
        while (wanted := self._next()) is not None:
            command, is_told = wanted
            try:
                self._answered(Asked(command, self._link.ask(command), "", is_told))
            except CalorError as error:
                self._answered(Asked(command, None, str(error), is_told))
