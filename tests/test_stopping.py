"""Ctrl-C ends a verb with one line and its own exit code, whatever it is at; so does an output that takes no more."""

from __future__ import annotations

import os
import subprocess
import sys
import textwrap
from pathlib import Path

import pytest

from calor.demo import DEMOS

CABINET = str(DEMOS[0].design)
LONG = """\
[setpoint]
celsius = 50
[law]
kind = "pid"
period_s = 0.05
[drive]
kind = "time_proportional"
[load]
kind = "chamber"
[probe]
kind = "ideal"
[[trial]]
span_s = 450000
"""
INTERRUPTED = """\
    import os, signal, sys, threading, time
    from calor import cli
    from calor.cli import stopping
    from calor.loop import simulate

    stopping.LONGEST_WAIT_S = 60.0  # a busy machine takes its time to leave in good order
    def interrupt():
        while not {holds}:
            time.sleep(0.01)
        {sends}

    signal.signal(signal.SIGINT, signal.default_int_handler)  # a shell may have begun all of this to be deaf to it
    threading.Thread(target=interrupt, daemon=True).start()
    sys.argv = ["calor", *sys.argv[1:]]
    cli.main()
"""
TO_PROCESS, TO_THREAD = (
    "os.kill(os.getpid(), signal.SIGINT)",
    "signal.pthread_kill(threading.get_ident(), signal.SIGINT)",
)
"""As a terminal does it; and as the system may do it, to a thread that is not the one that waits."""
IS_RUNNING = "(simulate._running and simulate._running[0][1] > {rows})"


@pytest.mark.parametrize("deciding", ["built-in", "own"])
def test_ctrl_c_ends_a_simulation(deciding: str, tmp_path: Path) -> None:
    """While it computes, and while code of the user's own is waited for: nothing is judged, nothing stays behind."""
    design, law = tmp_path / "long.toml", tmp_path / "slow.py"
    design.write_text(LONG)
    law.write_text(
        "import time\nclass Law:\n    def step(self, reading, dt):\n        time.sleep(1.2)\n        return 0.5\n"
    )
    words, holds = ["run", str(design), "--csv", str(tmp_path / "out.csv")], IS_RUNNING.format(rows=1000)
    sends = TO_PROCESS
    if deciding == "own":
        words, holds, sends = [*words, "--with", str(law)], "simulate._running", TO_THREAD
    place = tmp_path / "temporary"
    place.mkdir()
    script = textwrap.dedent(INTERRUPTED).format(holds=holds, sends=sends)
    done = subprocess.run(
        [sys.executable, "-c", script, *words], capture_output=True, text=True, check=False,
        env={**os.environ, "TMPDIR": str(place)}, timeout=1200,  # a signal that is lost is a failure, and no hang
    )  # fmt: skip
    assert (done.returncode, done.stdout) == (130, "") and done.stderr.splitlines()[-1] == "calor: stopped", done
    assert not (tmp_path / "out.csv").exists() and list(place.iterdir()) == []


def test_an_output_that_takes_no_more(tmp_path: Path) -> None:
    """A full disk is one line; one who reads no further is told nothing."""
    main = [sys.executable, "-c", "from calor.cli import main; main()", "tune", CABINET, "--rule", "simc_pi", "--json"]
    with Path("/dev/full").open("w") as full:
        done = subprocess.run(main, stdout=full, stderr=subprocess.PIPE, text=True, check=False)
    line = "standard output: cannot be written (No space left on device); make room for it\n"
    assert done.returncode == 2 and done.stderr.endswith(line) and done.stderr.count("\n") == 1
    reading, writing = os.pipe()
    os.close(reading)
    with os.fdopen(writing, "w") as closed:
        done = subprocess.run(main, stdout=closed, stderr=subprocess.PIPE, text=True, check=False)
    assert (done.returncode, done.stderr) == (141, "")
