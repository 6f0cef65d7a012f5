"""What is done with what comes from a board, however it comes: counted, recorded, told; and its clock compared."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from calor.board.protocol import Answer, Greeting, Item, Row
from calor.board.recorder import Recorder
from calor.errors import CalorError

TIME_KEYS = ("time_s", "time", "t")
LEAST_DRIFT_S = 10.0
MOST_PAIRS = 20_000
TIMES_OFF, OFF_WAIT_S = 3, 0.7
GONE = "the port is gone; it is opened again when it is back"


class Heard:
    """What has come. `told` is called for each thing, in the link's own thread, and for each change of `state`: "open",
    or what is the matter. `garbage` counts what was nothing, `losses` how often the port was gone."""

    def __init__(self, port: str, out: Path | None, told: Callable[[Item | str], None]) -> None:
        self.port, self._told = port, told
        self.greeting: Greeting | None = None
        self.last: Row | None = None
        self.rows, self.losses = 0, 0
        self.state = "open"
        self.trouble: CalorError | None = None
        self.records = True
        """Whether what comes is recorded, where there is a record."""
        self.began = time.monotonic()
        self._recorder = None if out is None else Recorder(out)
        self._pairs: list[tuple[float, float]] = []
        self._ended = threading.Event()
        self._thread: threading.Thread | None = None

    def _follow(self, work: Callable[[], None]) -> None:
        """Do the link's own work in a thread until it is closed."""
        self._thread = threading.Thread(target=work, name="link", daemon=True)
        self._thread.start()

    def _row(self, row: Row) -> None:
        now_s = time.monotonic() - self.began
        self.rows += 1
        self.last = row
        own = next((row.values[key] for key in TIME_KEYS if key in row.values), None)
        if own is not None:
            if self._pairs and own < self._pairs[-1][0]:
                self._pairs.clear()  # the board began afresh
            if len(self._pairs) < MOST_PAIRS:
                self._pairs.append((own, now_s))
            else:
                self._pairs[-1] = (own, now_s)
        if self._recorder is not None and self.records:
            values = row.values if own is not None else {"time_s": now_s, **row.values}
            self._recorder.add(values, now_s)
        self._told(row)

    def mark(self, text: str) -> None:
        """Write down in the record that something happened now."""
        if self._recorder is not None:
            self._recorder.mark(text)

    def _say(self, state: str) -> None:
        self.state = state
        self._told(state)

    def _end(self, longest_s: float) -> None:
        """End the thread and the record; what was recorded is on disk."""
        self._ended.set()
        if self._thread is not None:
            self._thread.join(longest_s)
        if self._recorder is not None:
            self._recorder.close()

    @property
    def garbage(self) -> int:
        """How much came that was nothing."""
        raise NotImplementedError

    @property
    def last_garbage(self) -> str:
        """The last of it."""
        return ""

    def ask(self, command: str, wait_s: float | None = None) -> Answer:
        """Send a command of the line, and wait for its answer. Raises CalorError where none comes."""
        raise NotImplementedError

    def at_once(self, command: str) -> None:
        """Send a command beside one that still waits for its answer, where that can be."""

    def off(self) -> Answer | None:
        """Outputs off, whatever else is on: sent at once, and until it is answered; None where nothing answers."""
        self.at_once("stop")
        for _ in range(TIMES_OFF):
            with contextlib.suppress(CalorError):
                return self.ask("stop", OFF_WAIT_S)
        return None

    def close(self) -> None:
        """End the link; what was recorded is on disk."""
        raise NotImplementedError

    @property
    def drift_ppm(self) -> float | None:
        """By how much the board's clock is faster than this machine's, parts in a million; None where it is too soon to
        tell, or it sends no time."""
        pairs = self._pairs[:]
        if len(pairs) < 10 or pairs[-1][1] - pairs[0][1] < LEAST_DRIFT_S:
            return None
        own, ours = np.array(pairs).T
        return float((np.polyfit(ours - ours[0], own - own[0], 1)[0] - 1.0) * 1e6)
