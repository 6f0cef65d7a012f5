"""The contained process that controller code of the user's own runs in: asked over pipes, watched, and ended."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import subprocess
import threading
import time
from pathlib import Path

import numpy as np
import numpy.typing as npt

from calor.contained import protection
from calor.contained.process import Limits, begin, command_of, end, signal_of

LONGEST_ANSWER_S = 1.5
LONGEST_START_S = 8.0
"""The first answer waits for the program to be read and begun too."""
LONGEST_RUN_S = 3600.0
MOST_MEMORY_BYTES = 512 * 2**20
MOST_FILE_BYTES = 8 * 2**20
MOST_KEPT_BYTES = 32 * 2**20
MOST_SAID_BYTES = 8_000
ANSWER_BYTES = 24
LOOK_S = 0.05
LIMITS = Limits(MOST_MEMORY_BYTES, MOST_FILE_BYTES, int(LONGEST_RUN_S))
SIGNALS = {
    signal.SIGSEGV: "crashed: it touched memory that is not its own", signal.SIGABRT: "crashed: it gave up",
    signal.SIGFPE: "crashed: a whole number divided by 0", signal.SIGKILL: "was ended by the system",
    signal.SIGXCPU: "computed for too long",
    signal.SIGXFSZ: f"wrote more than {MOST_FILE_BYTES // 2**20} MiB into a file",
}  # fmt: skip


class Trouble(Exception):  # noqa: N818 - what happened to a program, in words; the caller says where
    """What went wrong with it."""


class OwnProcess:
    """One program: begun, asked step by step, and ended as often as that is wanted.

    While it is there a thread reads what it prints, keeps the end of that, and looks after its folder, its time, and
    whether the run was asked to stop.
    """

    def __init__(self, command: list[str], code: Path, own: Path, control: npt.NDArray[np.int64] | None = None) -> None:
        self._command, self._code, self._own, self._control = command, code, own, control
        self._protection = protection.found()
        self._process: subprocess.Popen[bytes] | None = None
        self._questions = self._answers = -1
        self._watcher: threading.Thread | None = None
        self._said, self._ended_for = b"", ""
        self._began_s, self._has_answered = time.monotonic(), False

    @property
    def is_there(self) -> bool:
        """Whether it has been begun."""
        return self._process is not None

    def begin(self) -> None:
        """Begin it afresh."""
        self.end()
        asked, self._questions = os.pipe()
        self._answers, answers = os.pipe()
        os.set_blocking(self._questions, False)
        command = command_of(
            [*self._command[:1], *self._with_pipes(asked, answers)], [str(self._code)], [], self._own, LIMITS,
            self._protection.means,
        )  # fmt: skip
        self._said, self._ended_for, self._has_answered = b"", "", False
        try:
            self._process = begin(command, self._own, (asked, answers))
        except OSError as error:
            raise Trouble(f"could not be begun ({error.strerror or error})") from None
        finally:
            os.close(asked)
            os.close(answers)
        self._watcher = threading.Thread(target=self._watch, args=(self._process,), name="own code", daemon=True)
        self._watcher.start()

    def _with_pipes(self, asked: int, answers: int) -> list[str]:
        """The rest of the command, with the numbers of its pipes before what else it is given."""
        options = [word for word in self._command[1:] if word.startswith("-")]
        words = [word for word in self._command[1:] if not word.startswith("-")]
        if not words:  # a program of C
            return [str(asked), str(answers)]
        return [*options, words[0], str(asked), str(answers), *words[1:]]

    def end(self) -> None:
        """End it, if there is one."""
        if self._process is None:
            return
        end(self._process)
        if self._watcher is not None:
            self._watcher.join()
        for number in (self._questions, self._answers):
            os.close(number)
        if self._process.stdout is not None:
            self._process.stdout.close()
        self._process = None

    def ask(self, question: bytes) -> bytes:
        """Its answer to a question. Raises Trouble."""
        if self._process is None:
            raise Trouble("is not there")
        longest_s = LONGEST_ANSWER_S if self._has_answered else LONGEST_START_S
        data, until_s = b"", time.monotonic() + longest_s
        try:
            if self._has_answered and select.select([self._answers], [], [], 0.0)[0]:
                if not os.read(self._answers, 1):
                    raise self._how_it_ended()
                raise Trouble("answered more than it was asked")
            os.write(self._questions, question)
            while len(data) < ANSWER_BYTES:
                left_s = until_s - time.monotonic()
                if left_s <= 0.0 or not select.select([self._answers], [], [], left_s)[0]:
                    raise Trouble(f"did not answer within {longest_s:g} s and was stopped")
                part = os.read(self._answers, ANSWER_BYTES - len(data))
                if not part:
                    raise self._how_it_ended()
                data += part
        except BlockingIOError:
            raise Trouble("does not read what it is asked") from None
        except BrokenPipeError:
            raise self._how_it_ended() from None
        self._has_answered = True
        return data

    def _how_it_ended(self) -> Trouble:
        """In words. It may have closed its pipes and go on: then it is ended."""
        process = self._process
        assert process is not None
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(1.0)
        code = end(process)
        if self._watcher is not None:
            self._watcher.join()
        if self._ended_for:
            return Trouble(self._ended_for)
        said = self._said.decode(errors="replace").strip().splitlines()
        if any("MemoryError" in line or "no more memory" in line for line in said):
            return Trouble(f"wanted more than {MOST_MEMORY_BYTES // 2**20} MiB of memory")
        number = signal_of(code, self._protection.means)
        if number:
            name = signal.Signals(number).name if number in set(signal.Signals) else f"signal {number}"
            return Trouble(f"{SIGNALS.get(number, 'crashed')} ({name})")  # type: ignore[call-overload]
        return Trouble(f"ended by itself with code {code}" + (f": {said[-1]}" if said else ""))

    def _watch(self, process: subprocess.Popen[bytes]) -> None:
        stream = process.stdout
        assert stream is not None
        looked_s, is_open = 0.0, True
        while is_open or process.poll() is None:  # it may close what it prints to, and go on
            if not is_open:
                time.sleep(LOOK_S / 10.0)
            elif select.select([stream], [], [], LOOK_S)[0]:
                part = os.read(stream.fileno(), 65536)
                is_open = bool(part)
                self._said = (self._said + part)[-MOST_SAID_BYTES:]
            now_s = time.monotonic()
            if now_s - looked_s < LOOK_S:
                continue
            looked_s = now_s
            why = self._too_much(now_s)
            if why:
                self._ended_for = why
                with contextlib.suppress(ProcessLookupError, PermissionError):
                    os.killpg(process.pid, signal.SIGKILL)

    def _too_much(self, now_s: float) -> str:
        if self._control is not None and self._control[0]:
            return "was stopped"
        if now_s - self._began_s > LONGEST_RUN_S:
            return f"took more than {LONGEST_RUN_S / 60.0:g} min in all and was stopped"
        if not self._protection.means.bwrap and _kept_bytes(self._own) > MOST_KEPT_BYTES:
            return f"wrote more than {MOST_KEPT_BYTES // 2**20} MiB and was stopped"
        return ""


def _kept_bytes(folder: Path) -> int:
    """What lies in a folder, as far as it can be seen."""
    total = 0
    for place, _, names in os.walk(folder):
        for name in names:
            with contextlib.suppress(OSError):
                total += (Path(place) / name).lstat().st_blocks * 512
    return total
