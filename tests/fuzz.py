"""Odd input made by chance, from a seed: designs, tables, command lines. `python -m tests.fuzz KIND MINUTES` by hand.

Whatever is given, what comes of it is a result or one clear line; an exception of any other kind is a mistake.
"""

from __future__ import annotations

import contextlib
import io
import random
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import numpy as np

from calor import loop
from calor.cli import invoke
from calor.cli.application import DESK_VERBS, VERBS
from calor.demo import DEMOS
from calor.design.file import parse
from calor.errors import CalorError

FOLDER = DEMOS[0].design.parent
TEXTS = [demo.design.read_text(encoding="utf-8") for demo in DEMOS]
LOGS = sorted(FOLDER.glob("*.csv"))
VALUES = (
    "0", "-1", "1e-300", "1e300", "-1e6", "inf", "nan", "true", '""', '"pid"', "[]", "[1, 2]", "{}", "3", "0.5", "1e9", '"[/nope]"',
    '"<b>"', "9999999999999999999999", "-0.0", '"\\u001b[31m"', "1979-05-27",
)  # fmt: skip
LONGEST_RUN_S = 3.0


def mutated_design(random_: random.Random) -> str:
    """A demo's text with a few of its lines or values changed, left out, repeated or moved."""
    lines = random_.choice(TEXTS).splitlines()
    for _ in range(random_.randint(1, 4)):
        at = random_.randrange(len(lines))
        act = random_.randrange(6)
        if act == 0 and "=" in lines[at]:
            lines[at] = f"{lines[at].split('=')[0]}= {random_.choice(VALUES)}"
        elif act == 1 and "=" in lines[at]:
            with contextlib.suppress(ValueError):
                value = float(lines[at].split("=")[1].split("#")[0])
                lines[at] = f"{lines[at].split('=')[0]}= {value * 10 ** random_.uniform(-4, 4):.6g}"
        elif act == 2:
            del lines[at]
        elif act == 3:
            lines.insert(random_.randrange(len(lines) + 1), lines[at])
        elif act == 4 and lines[at]:
            place = random_.randrange(len(lines[at]))
            lines[at] = (
                lines[at][:place]
                + chr(random_.choice((0, 9, 27, 34, 91, 93, 61, 35, 0xD9, 0x1F600)))
                + lines[at][place + 1 :]
            )
        else:
            other = random_.choice(TEXTS).splitlines()
            lines.insert(at, random_.choice(other))
        if not lines:
            return ""
    return "\n".join(lines)


def try_design(random_: random.Random) -> str:
    """What comes of a mutated design: refused, cannot be, stopped, or ran."""
    text = mutated_design(random_)
    try:
        design = parse(text, "fuzzed.toml", FOLDER)
    except CalorError as error:
        return "refused" if str(error).strip() else "no line"
    control = loop.new_control()
    stopper = threading.Timer(LONGEST_RUN_S, lambda: control.__setitem__(0, 1))
    stopper.start()
    try:
        trace = loop.run(design, random_.choice(design.trial), control)
    except CalorError as error:
        return "cannot be run" if str(error) and "\n" not in str(error) else "no line"
    except loop.Stopped:
        return "stopped"
    finally:
        stopper.cancel()
    assert np.isfinite(trace.true_celsius).all() and trace.true_celsius.min() >= -273.15, text
    assert np.isfinite(trace.demand).all(), text
    return "ran"


def mutated_table(random_: random.Random) -> bytes:
    """A recorded run with some of its bytes, rows and signs changed, and cut to some hundred rows."""
    rows = random_.choice(LOGS).read_bytes().splitlines()[: random_.choice((3, 60, 300))]
    for _ in range(random_.randint(0, 5)):
        at = random_.randrange(len(rows)) if rows else 0
        act = random_.randrange(8)
        if not rows:
            break
        if act == 0:
            rows[at] = rows[at].replace(b",", random_.choice((b";", b"\t", b"|", b" ", b",,", b"=")))
        elif act == 1:
            rows = [row.replace(b",", random_.choice((b";", b"\t")), 9) for row in rows]
        elif act == 2:
            rows[at] = bytes(random_.randrange(256) for _ in range(random_.choice((1, 8, 2000))))
        elif act == 3:
            rows.insert(
                at, random_.choice((rows[0], b"", b"#", b'"', b"reset", b"err,err,err", b"x" * 70_000, b"\xd9"))
            )
        elif act == 4:
            parts = rows[at].split(b",")
            parts[random_.randrange(len(parts))] = random_.choice(
                (b"", b"nan", b"inf", b"1e400", b"-", b"OPEN", b"9" * 400, b"2026-13-45", b'"', b"1,5", b"<b>")
            )
            rows[at] = b",".join(parts)
        elif act == 5:
            rows.reverse()
        elif act == 6:
            rows = rows[: at + 1]
        else:
            del rows[at]
    return random_.choice((b"\n", b"\r\n", b"\r")).join(rows)


def said(arguments: list[str]) -> tuple[int, str, str]:
    """(exit code, what it printed, what it said of what went wrong) of a command line."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = invoke(arguments)
    return code, out.getvalue(), err.getvalue()


def try_table(random_: random.Random) -> str:
    """What comes of a mutated table, in one of the uses that take one."""
    with tempfile.TemporaryDirectory() as place:
        path, design = Path(place) / "fuzzed.csv", Path(place) / "fuzzed.toml"
        path.write_bytes(mutated_table(random_))
        use = random_.choice(("measure", "replay", "fit", "compare", "points", "ambient", "output"))
        design.write_text(
            '[setpoint]\ncelsius = 50\n[law]\nkind = "pid"\n[drive]\nkind = "linear"\n[load]\nkind = "first_order"\n'
            f'[probe]\nkind = "ideal"\n[[trial]]\nspan_s = 600\n{"output" if use == "output" else "ambient"}_csv = "fuzzed.csv"\n'
        )
        arguments = {
            "measure": ["measure", str(path)], "replay": ["replay", str(DEMOS[0].design), str(path)],
            "fit": ["fit", str(path), "--order", "1"], "compare": ["probe", "--compare", str(path)],
            "points": ["probe", "--fit", str(path)], "ambient": ["run", str(design)], "output": ["run", str(design)],
        }[use]  # fmt: skip
        return f"{use} {judged(arguments)}"


def judged(arguments: list[str]) -> str:
    """Whether a command line ended as one should. A mistake of Calor's raises AssertionError."""
    code, out, err = said(arguments)
    assert code in (0, 1, 2), (arguments, code, err)
    assert "made a mistake" not in err and "Traceback" not in err and "Warning" not in err, (arguments, err)
    assert code != 2 or err.strip() or out.startswith("{"), arguments
    assert "\x1b" not in err, arguments
    return str(code)


WORDS = (
    "--json", "--trial", "Nope", "--csv", "--out", "--from", "--to", "--gain", "0.22", "--ti", "420", "inf", "nan", "-1", "1e-308", "1e400",
    "", "[/nope]", "[red]", "--watt", "300", "--mass", "6", "--celsius", "--counts", "37.5", "4096", "--table", "--with", "host", "my_law.py",
    "--rule", "simc_pi", "--order", "1", "--unit", "C", "--span", "0:400", "--sets", "60,75", "--help", "--", "-h", "--force", "\x1b[31m", "é" * 300,
)  # fmt: skip


def try_command(random_: random.Random) -> str:
    """What comes of a command line put together by chance, in a folder of its own."""
    with tempfile.TemporaryDirectory() as place:
        design, log = Path(place) / "d.toml", Path(place) / "log.csv"  # a verb may well be told to write into them
        design.write_bytes(DEMOS[7].design.read_bytes())
        log.write_bytes(LOGS[0].read_bytes())
        files = [str(design), str(log), f"{place}/none.toml", place, f"{place}/out.csv", "/dev/null"]
        verb = random_.choice([verb for verb in VERBS if verb not in DESK_VERBS])
        words = [random_.choice((*WORDS, *files, *files)) for _ in range(random_.randint(0, 5))]
        with contextlib.chdir(place):
            return f"{verb} {judged([verb, *words])}"


KINDS: dict[str, Callable[[random.Random], str]] = {"designs": try_design, "tables": try_table, "commands": try_command}


def main() -> None:
    """Try one kind for some minutes, each from a seed of its own, which is said where something fails."""
    kind, minutes = sys.argv[1], float(sys.argv[2])
    began, seed, ends = time.monotonic(), int(sys.argv[3]) if len(sys.argv) > 3 else 0, Counter[str]()
    while time.monotonic() - began < 60.0 * minutes:
        try:
            ends[KINDS[kind](random.Random(seed))] += 1
        except Exception as error:
            ends["MISTAKE"] += 1
            print(f"seed {seed}: {type(error).__name__}: {str(error)[:600]}", flush=True)
        seed += 1
    print(f"{kind}: {seed} tried; {dict(sorted(ends.items()))}")


if __name__ == "__main__":
    main()
