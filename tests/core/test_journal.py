"""The journal: nothing kept is lost by a kill, a full disk or damage; found, compared, taken elsewhere and run again."""

from __future__ import annotations

import contextlib
import json
import random
import shutil
import sqlite3
import subprocess
import sys
import zipfile
from dataclasses import replace as replaced
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.cli import invoke
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.errors import CalorError
from calor.journal import exchange, keeping, schema
from calor.journal.entry import Kept, tags_of
from calor.journal.find import Wanted, compared, ordered
from calor.journal.store import Journal

LOG = DEMOS[0].design.parent / "hatching_cabinet_log.csv"


def kept_run(design: Design, note: str = "", tags: tuple[str, ...] = ()) -> tuple[Kept, dict[str, bytes]]:
    trial = design.trial[0].model_copy(update={"span_s": 600.0})
    short = design.model_copy(update={"trial": (trial, *design.trial[1:])})
    return keeping.simulated(short, trial, loop.run(short, trial), note=note, tags=tags)


WRITER = """
import os, signal, sys, random, time
from pathlib import Path
from calor.journal.store import Journal
from calor.journal.entry import Kept, Curve
import numpy as np

place, rounds, seed = Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3])
chance = random.Random(seed)
flat = np.zeros(160)
Journal(place).close()
told = []
for turn in range(rounds):
    ours, theirs = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(ours)
        book = Journal(place)
        number = 0
        while True:
            number += 1
            uid = f"{turn}-{number}"
            entry = Kept("simulated", "D", "T", 1.0, {"x": float(number)}, Curve(1.0, flat, flat), uid=uid)
            book.keep(entry, {"design.toml": uid.encode() * 300})
            os.write(theirs, (uid + "\\n").encode())
    os.close(theirs)
    time.sleep(chance.random() * 0.04)
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    said = b""
    while block := os.read(ours, 65536):
        said += block
    os.close(ours)
    told += said.decode().split("\\n")[:-1]
print("\\n".join(told))
"""


def test_nothing_kept_is_lost_at_200_kills(tmp_path: Path) -> None:
    """A process is killed at a random instant while it keeps runs, 200 times over; whatever it had told is there."""
    place = tmp_path / "journal.sqlite"
    seed = random.randrange(10**6)
    result = subprocess.run(
        [sys.executable, "-c", WRITER, str(place), "200", str(seed)], capture_output=True, text=True, check=True
    )
    told = result.stdout.split()
    with Journal(place) as book:
        assert book.said == []
        there = {entry.uid: entry.number for entry in book.rows()}
        assert set(told) <= set(there) and len(told) > 100, seed
        # what was on its way when it was killed is there whole, or not at all
        for uid, number in random.Random(seed).sample(sorted(there.items()), 50):
            assert book.parts(number) == {"design.toml": uid.encode() * 300}


FULL = """
import resource, signal, sys
from pathlib import Path
from calor.errors import CalorError
from calor.journal.store import Journal
from calor.journal.entry import Kept, Curve
import numpy as np

signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
book = Journal(Path(sys.argv[1]))
resource.setrlimit(resource.RLIMIT_FSIZE, (400_000, 400_000))
flat = np.zeros(160)
kept = 0
try:
    while kept < 10_000:
        entry = Kept("simulated", "D", "T", 1.0, {}, Curve(1.0, flat, flat), uid=str(kept))
        book.keep(entry, {"design.toml": str(kept).encode() * 2000})
        kept += 1
except CalorError as error:
    print(kept)
    print(error)
"""


def test_a_full_disk_refuses_a_run_and_loses_none(tmp_path: Path) -> None:
    place = tmp_path / "journal.sqlite"
    result = subprocess.run([sys.executable, "-c", FULL, str(place)], capture_output=True, text=True, check=True)
    count, said = result.stdout.splitlines()
    assert 5 < int(count) < 10_000 and "the journal cannot be used" in said
    with Journal(place) as book:
        assert {entry.uid for entry in book.rows()} == {str(number) for number in range(int(count))} and book.said == []
        book.keep(*kept_run(read(DEMOS[0].design).design))


def test_from_the_first_schema(tmp_path: Path, cabinet: Design) -> None:
    """A journal of version 1 is brought up to today's, after a copy of it was made; its runs are as they were."""
    place = tmp_path / "journal.sqlite"
    entry, parts = kept_run(cabinet, "of old")
    with contextlib.closing(sqlite3.connect(place)) as old:
        old.executescript(schema.FIRST + "PRAGMA user_version = 1;")
        old.execute(
            "INSERT INTO runs (uid, made, kind, design, trial, span_s, seed, controller, version, passes, note, metrics,"
            " limits, curve) VALUES ('u', '2026-03-01T10:00:00+00:00', 'simulated', ?, ?, ?, 1, 'python', '0.0.1', 1,"
            " 'of old', ?, ?, ?)",
            (
                entry.design,
                entry.trial,
                entry.span_s,
                json.dumps(entry.metrics),
                json.dumps(entry.limits),
                entry.curve.packed(),
            ),
        )
        for name, data in parts.items():
            old.execute("INSERT INTO contents VALUES (?, ?)", (name, data))
            old.execute("INSERT INTO parts VALUES (1, ?, ?)", (name, name))
        old.commit()
    with Journal(place) as book:
        assert "a copy of what it was is" in book.said[0]
        (found,) = book.rows()
        assert (found.note, found.tags, found.pinned, found.metrics) == ("of old", (), False, entry.metrics)
        book.write(found.number, pinned=True, tags=("kept",))
        assert book.parts(1) == parts
        one = keeping.opened(found, parts, tmp_path / "open")
        assert one.differences == ()
    copy = next(tmp_path.glob("journal-version-1-*"))
    with contextlib.closing(sqlite3.connect(copy)) as old:
        assert old.execute("PRAGMA user_version").fetchone() == (1,) and old.execute("SELECT note FROM runs").fetchall()
    with Journal(place) as book:
        assert book.said == [] and book.rows()[0].tags == ("kept",)


def test_a_damaged_journal_is_set_aside_and_what_can_be_read_is_saved(tmp_path: Path, cabinet: Design) -> None:
    place = tmp_path / "journal.sqlite"
    entry, parts = kept_run(cabinet)
    with Journal(place) as book:
        for number in range(60):
            book.keep(
                replaced(entry, uid=str(number), note="n" * 900),
                parts | {"files/x": str(number).encode() * 2000},
            )
    whole = place.read_bytes()
    for begin in (len(whole) // 2, 3 * len(whole) // 4):
        data = bytearray(whole)
        data[begin : begin + 6000] = b"\xff" * 6000
        place.write_bytes(bytes(data))
        with Journal(place) as book:
            assert "set aside as journal-damaged-" in book.said[0]
            assert 0 < len(book.rows()) <= 60
            for found in book.rows():
                assert found.metrics == entry.metrics
        aside = max(tmp_path.glob("journal-damaged-*.sqlite"), key=lambda path: path.stat().st_mtime_ns)
        assert aside.read_bytes()[begin : begin + 6000] == b"\xff" * 6000
        with Journal(place) as book:
            assert book.said == []
    place.write_bytes(b"not a journal at all, but some text" * 100)
    with Journal(place) as book:
        assert "0 runs that could be read" in book.said[0] and book.rows() == []
    place.unlink()
    with contextlib.closing(sqlite3.connect(place)) as newer:
        newer.execute("PRAGMA user_version = 99")
    with pytest.raises(CalorError, match="newer Calor"):
        Journal(place)


def test_two_at_once(tmp_path: Path, cabinet: Design) -> None:
    """Two processes, or a desk and a command, keep into one journal."""
    place = tmp_path / "journal.sqlite"
    entry, parts = kept_run(cabinet)
    with Journal(place) as one, Journal(place) as other:
        for number in range(20):
            (one, other)[number % 2].keep(replaced(entry, uid=str(number)), parts)
        assert len(one.rows()) == len(other.rows()) == 20
        one.remove([1, 2, 3])
        assert len(other.rows()) == 17 and other.parts(4) == parts
        with pytest.raises(CalorError, match="no run of that number"):
            one.remove([5, 1])
        assert len(other.rows()) == 17


@pytest.mark.parametrize("demo", DEMOS, ids=lambda demo: demo.design.stem)
def test_every_demo_is_kept_and_is_the_same_again(demo: Any, tmp_path: Path) -> None:
    design = read(demo.design).design
    trial = design.trial[-1]
    trace = loop.run(design, trial)
    text = demo.design.read_text(encoding="utf-8")
    with Journal(tmp_path / "j.sqlite") as book:
        number = book.keep(*keeping.simulated(design, trial, trace, text=text))
        entry, parts = book.read(number), book.parts(number)
    again = keeping.opened(entry, parts, tmp_path / "there")
    assert again.differences == ()
    np.testing.assert_array_equal(again.trace.measured_celsius, trace.measured_celsius)
    assert text.splitlines()[0] in parts[keeping.DESIGN].decode()
    other = replaced(entry, metrics={**entry.metrics, "peak_celsius": 1.0, "recovery_s": [1.0]})
    said = keeping.opened(other, parts, tmp_path / "there").differences
    assert [line.split(":")[0] for line in said] == ["peak_celsius", "recovery_s"]


def test_found_sorted_and_compared(tmp_path: Path, cabinet: Design, hut: Design) -> None:
    with Journal(tmp_path / "j.sqlite") as book:
        other = cabinet.model_copy(update={"law": cabinet.law.model_copy(update={"gain_per_celsius": 0.3})})
        for design, note, tags in (
            (cabinet, "As it was in March", ("good", "Egg")),
            (other, "stronger", ()),
            (hut, "", ("fan",)),
        ):
            book.keep(*kept_run(design, note, tags))
        rows = book.rows()
        texts = [keeping.design_of(book.parts(entry.number)) for entry in sorted(rows, key=lambda one: one.number)]
    day = rows[0].made[:10]
    cases = [
        (Wanted(), {1, 2, 3}), (Wanted("march WAS"), {1}), (Wanted("hut"), {3}), (Wanted(tag="egg"), {1}),
        (Wanted(design="cabinet"), {1, 2}), (Wanted(verdict="pass", since=day), {row.number for row in rows if row.passes}),
        (Wanted(until="2020-01-01"), set()), (Wanted(since=day, until=day), {1, 2, 3}), (Wanted("nothing"), set()),
    ]  # fmt: skip
    for wanted, numbers in cases:
        assert {entry.number for entry in wanted.among(rows)} == numbers, wanted
    with pytest.raises(CalorError, match="takes a day"):
        Wanted(since="March")
    peaks = [entry.metrics["peak_celsius"] for entry in ordered(rows, "peak_celsius", is_falling=True)]
    assert peaks == sorted(peaks, reverse=True)
    without = replaced(rows[0], metrics={**rows[0].metrics, "peak_celsius": None})
    assert ordered([without, *rows[1:]], "peak_celsius")[-1] is without, "one without a figure comes last"
    with pytest.raises(CalorError, match="takes one of number"):
        ordered(rows, "beauty")
    by_number = {entry.number: entry for entry in rows}
    found = compared(by_number[1], by_number[2], texts[0], texts[1])
    assert [(one.key, one.before, one.after) for one in found.changes] == [("law.gain_per_celsius", 0.22, 0.3)]
    # in words always from the older run to the newer, whichever was chosen first
    turned = compared(replaced(by_number[2], made="2031-01-02"), by_number[1], texts[1], texts[0])
    assert found.in_words("°C") == turned.in_words("°C") == ["Gain 22 → 30 % per °C"]
    assert {name: one for name, one, _ in found.figures}["peak_celsius"] == by_number[1].metrics["peak_celsius"]
    assert tags_of(" a, b ,,a") == ("a", "b")


@pytest.mark.parametrize("name", ["there", "there.zip"])
def test_taken_elsewhere(name: str, tmp_path: Path, cabinet: Design) -> None:
    """A folder or a zip, taken in by another journal: all is as it was, twice is once; a record keeps its own bytes."""
    design = read(DEMOS[2].design).design
    with Journal(tmp_path / "one.sqlite") as book, Journal(tmp_path / "other.sqlite") as other:
        book.keep(*kept_run(cabinet, "a note, of “two”\nlines", ("x", "y")))
        night = (
            design.find_trial("A recorded night")
            if any(t.name == "A recorded night" for t in design.trial)
            else design.trial[0]
        )
        book.keep(*keeping.simulated(design, night, loop.run(design, night)))
        from calor.log.read import read_record

        number = book.keep(*keeping.recorded(LOG, read_record(LOG), cabinet))
        book.write(number, pinned=True)
        out = tmp_path / name
        assert exchange.export(book, book.rows(), out) == 3
        assert exchange.take_in(other, out) == (3, 0) and exchange.take_in(other, out) == (0, 3)
        for entry in book.rows():
            (same,) = [one for one in other.rows() if one.uid == entry.uid]
            assert {**same.plain(), "number": 0} == {**entry.plain(), "number": 0}
            assert other.parts(same.number) == book.parts(entry.number)
            np.testing.assert_allclose(same.curve.high_celsius, entry.curve.high_celsius, rtol=1e-5)
        (record,) = [one for one in other.rows() if one.kind == "recorded"]
        assert other.parts(record.number)[f"record/{LOG.name}"] == LOG.read_bytes()
        assert keeping.opened(record, other.parts(record.number), tmp_path / "o").trace.steps > 1000


def test_a_damaged_or_strange_import_is_said(tmp_path: Path, cabinet: Design) -> None:
    out = tmp_path / "there"
    with Journal(tmp_path / "one.sqlite") as book:
        book.keep(*kept_run(cabinet))
        exchange.export(book, book.rows(), out)
        (run,) = out.glob("run-*/run.json")
        good = run.read_text()
        for text, says in (
            ("{", "is no JSON"), ("[]", "is not what an export holds"), (good.replace('"kind": "simulated"', '"kind": "x"'), "is not"),
            (good.replace('"uid"', '"udi"'), "lacks 'uid'"), (good.replace('"span_s": 600.0', '"span_s": NaN'), "is no number"),
        ):  # fmt: skip
            run.write_text(text)
            with pytest.raises(CalorError, match=says):
                exchange.take_in(book, out)
        run.write_text(good)
        (out / "journal.json").write_text('{"calor_journal": 9}')
        with pytest.raises(CalorError, match="does not read"):
            exchange.take_in(book, out)
        for place, says in (
            (tmp_path / "none.zip", "there is no such file"),
            (LOG, "is no zip"),
            (tmp_path, "holds no journal.json"),
        ):
            with pytest.raises(CalorError, match=says):
                exchange.take_in(book, place)
        # names that lead out of where they are unpacked are nothing of a run
        with zipfile.ZipFile(tmp_path / "evil.zip", "w") as archive:
            archive.writestr("journal.json", '{"calor_journal": 1, "runs": []}')
            archive.writestr("run-1/run.json", good.replace('"uid": "', '"uid": "9'))
            archive.writestr("run-1/files/../../../x", "out")
            archive.writestr("run-1/design.toml", "name = 'x'")
        exchange.take_in(book, tmp_path / "evil.zip")
        assert set(book.parts(book.rows()[0].number) | book.parts(book.rows()[-1].number)) == {"design.toml"}
        with pytest.raises(ValueError, match="is no name of a part"):
            keeping.put({"../x": b""}, tmp_path / "o")


def answer(capsys: pytest.CaptureFixture[str], *arguments: object) -> tuple[int, Any, str]:
    code = invoke([str(word) for word in arguments])
    said = capsys.readouterr()
    return code, json.loads(said.out) if said.out.startswith("{") else said.out, said.err


def test_the_commands(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    design = tmp_path / "cabinet.toml"
    shutil.copy(DEMOS[0].design, design)
    assert "No kept runs" in answer(capsys, "journal", "list")[1]
    _, first, _ = answer(
        capsys, "journal", "keep", design, "--note", "as it was", "--tag", "a", "--tag", "b,c", "--json"
    )
    assert (first["number"], first["tags"], first["pass"]) == (1, ["a", "b", "c"], False)
    _, run, _ = answer(capsys, "run", design, "--json")
    assert first["metrics"] == run["metrics"]
    assert answer(capsys, "journal", "keep", LOG, "--limits-of", design)[0] == 0
    answer(capsys, "journal", "keep", design, "--with", "host", "--trial", "Cold room and weak mains")
    _, listed, _ = answer(capsys, "journal", "list", "--json", "--sort", "number")
    assert [one["number"] for one in listed["runs"]] == [1, 2, 3] and listed["runs"][2]["with"] == "host"
    code, shown, _ = answer(
        capsys, "journal", "show", 1, "--again", "--csv", tmp_path / "o.csv", "--design", tmp_path / "o.toml", "--json"
    )
    assert code == 0 and shown["run_again"] and shown["differences"] == [] and (tmp_path / "o.csv").is_file()
    assert read(tmp_path / "o.toml").design == read(design).design
    assert answer(capsys, "journal", "show", 3, "--again", "--json")[1]["differences"] == []
    _, both, _ = answer(capsys, "journal", "compare", 1, 3, "--json")
    assert both["design"] == [] and {one["name"] for one in both["figures"]} >= {"peak_celsius", "recovery_s"}
    assert "One of them has no design" not in answer(capsys, "journal", "compare", 1, 2)[1]
    out = tmp_path / "all.zip"
    assert answer(capsys, "journal", "export", out, "--tag", "a", "--json")[1]["exported"] == 1
    code, _, said = answer(capsys, "journal", "export", out)
    assert code == 2 and "is there already" in said
    other = tmp_path / "other.sqlite"
    assert answer(capsys, "journal", "import", out, "--journal", other, "--json")[1] == {"new": 1, "there_already": 0}
    answer(capsys, "journal", "note", 1, "--pin", "--note", "better", "--tags", "z")
    code, _, said = answer(capsys, "journal", "remove", 3, 1)
    assert code == 2 and "is pinned" in said
    answer(capsys, "journal", "note", 1, "--unpin")
    assert answer(capsys, "journal", "remove", 3, 1, "--json")[1] == {"removed": [3, 1]}
    assert [one["note"] for one in answer(capsys, "journal", "list", "--json")[1]["runs"]] == [""]
    for words, says in (
        (["show", 77], "no run of that number"), (["list", "--verdict", "good"], "takes pass or fail"),
        (["list", "--sort", "beauty"], "takes one of"), (["keep", design, "--trial", "x"], "no trial of that name"),
        (["keep", LOG, "--trial", "x"], "go with a design"), (["import", tmp_path / "no"], "there is no such file"),
        (["list", "--since", "then"], "takes a day"), (["export", LOG], "is no folder"), (["show", 2, "--design", tmp_path / "x.toml"], ""),
    ):  # fmt: skip
        code, _, said = answer(capsys, "journal", *words)
        assert says in said and (code == 2) == bool(says), words
