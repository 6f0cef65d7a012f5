"""What a compiler made is kept by the content of all it was made from, and one process answers for the reference."""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from jinja2 import Environment

from calor import caches
from calor.demo import DEMOS
from calor.design.file import read
from calor.errors import FirmwareError
from calor.firmware.check import agreement, reference
from calor.firmware.run import host, kept
from calor.firmware.sources import templating
from calor.firmware.sources.generate import generate
from tests.conftest import made


@pytest.fixture
def compiled(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> list[list[str]]:
    """The commands that really ran, with an empty cache."""
    ran: list[list[str]] = []
    real = subprocess.run

    def run(command: Any, *args: Any, **kwargs: Any) -> Any:
        ran.append(command)
        return real(command, *args, **kwargs)

    monkeypatch.setattr(kept, "cache_folder", lambda: tmp_path / "builds")
    monkeypatch.setattr(kept.subprocess, "run", run)
    return ran


def build(folder: Path, text: str, *options: str) -> Path:
    folder.mkdir(exist_ok=True)
    (folder / "one.c").write_text('#include "one.h"\nint main(void) { return VALUE; }\n')
    (folder / "one.h").write_text(text)
    output = folder / "one"
    host.built([*host.compiler(), *options, str(folder / "one.c"), "-o", str(output)])
    return output


def test_a_build_is_kept_until_anything_it_is_made_from_changes(
    compiled: list[list[str]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def value(path: Path) -> int:
        return subprocess.run([path], check=False).returncode

    assert value(build(tmp_path / "a", "#define VALUE 3\n")) == 3
    built = [command for command in compiled if "-o" in command]
    assert value(build(tmp_path / "b", "#define VALUE 3\n")) == 3  # another folder, the same content
    assert [command for command in compiled if "-o" in command] == built
    assert value(build(tmp_path / "a", "#define VALUE 4\n")) == 4  # a header that is only included
    assert value(build(tmp_path / "a", "#define VALUE 4\n", "-O2")) == 4  # an option
    assert len([command for command in compiled if "-o" in command]) == 3
    monkeypatch.setattr(kept, "identity_of", lambda _: "another compiler")
    assert value(build(tmp_path / "a", "#define VALUE 4\n")) == 4
    assert len([command for command in compiled if "-o" in command]) == 4
    for path in (tmp_path / "builds").iterdir():
        path.write_bytes(b"damaged")
    assert value(build(tmp_path / "a", "#define VALUE 4\n")) == 4
    assert len([command for command in compiled if "-o" in command]) == 5
    monkeypatch.setattr(kept, "MOST_FILES", 3)
    build(tmp_path / "a", "#define VALUE 5\n")
    assert len(list((tmp_path / "builds").iterdir())) == 2
    monkeypatch.setattr(kept, "cache_folder", lambda: Path("/proc/nowhere"))  # cannot be written: nothing is lost
    assert value(build(tmp_path / "a", "#define VALUE 6\n")) == 6
    with pytest.raises(FirmwareError, match=r"does not build: (.|\n)*error: "):
        build(tmp_path / "a", "#define VALUE nothing\n")


def test_a_design_is_built_once_for_all_its_trials(compiled: list[list[str]]) -> None:
    design = read(DEMOS[7].design).design
    for trial in design.trial:
        host.rows(design, agreement.recorded(design, trial).given[:50])
    assert len([command for command in compiled if "-o" in command]) == 1 < len(design.trial)


def test_one_process_answers_all_questions_and_a_dead_one_is_replaced() -> None:
    design = made()
    record = agreement.recorded(design, design.trial[0])
    first = reference.rows(design, record.given, record.readings)
    (process,) = reference._FREE[False][-1:]
    assert first is not None and np.array_equal(first, reference.rows(design, record.given, record.readings))
    assert reference._FREE[False][-1] is process
    process.kill()
    process.wait()
    with pytest.raises(FirmwareError, match="the reference failed"):
        reference.rows(design, record.given, record.readings)
    assert process not in reference._FREE[False]
    assert np.array_equal(first, reference.rows(design, record.given, record.readings))
    assert reference.rows(design, record.given, record.readings, lambda: False) is None


def test_templates_are_kept_compiled_until_they_change_or_are_damaged(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    design, compiled = read(DEMOS[0].design).design, []
    real = Environment.compile
    monkeypatch.setattr(
        Environment, "compile", lambda self, *given, **how: compiled.append(given[1]) or real(self, *given, **how)
    )

    def generated() -> tuple[dict[str, str], int]:
        """The files, by templates that are read anew, and how many of these were compiled."""
        templating._environment.cache_clear()
        compiled.clear()
        return generate(design).files, len(compiled)

    files, count = generated()
    assert count > 20 and generated() == (files, 0)
    places = sorted((tmp_path / "calor" / "templates").glob("*.compiled"))
    assert len(places) == count
    chance = np.random.default_rng(3)
    for number, place in enumerate(places):
        whole = place.read_bytes()
        at = int(chance.integers(len(whole)))
        place.write_bytes((whole[:at], whole[:at] + bytes([whole[at] ^ 1]) + whole[at + 1 :], b"")[number % 3])
    assert generated() == (files, count) and generated() == (files, 0)
    text = templating._template("law.c.j2")
    monkeypatch.setattr(
        templating,
        "_template",
        lambda name, real=templating._template: f"// mine\n{text}" if name == "law.c.j2" else real(name),
    )
    own, count = generated()
    assert count == 1 and own["hatching_cabinet_law.c"].startswith("// mine")
    monkeypatch.undo()
    templating._environment.cache_clear()
    blocked = tmp_path / "file"
    blocked.write_text("")
    monkeypatch.setenv("XDG_CACHE_HOME", str(blocked))
    # a home that cannot be written: kept among the temporary files, for this user alone
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path / "elsewhere"))
    (tmp_path / "elsewhere").mkdir()
    caches._temporary.cache_clear()
    templating._environment.cache_clear()
    assert generate(design).files == files
    assert len(list((tmp_path / "elsewhere").rglob("*.compiled"))) > 20
    assert [place.stat().st_mode & 0o777 for place in (tmp_path / "elsewhere").iterdir()] == [0o700]
    caches._temporary.cache_clear()
    templating._environment.cache_clear()
