"""The wheel in an empty environment: one line installs it, and its loop is there without a compiler."""

from __future__ import annotations

import ast
import configparser
import json
import os
import re
import shutil
import subprocess
import sys
import sysconfig
import tomllib
import zipfile
from pathlib import Path
from xml.etree import ElementTree

import pytest

from calor import __version__
from calor.cli import VERBS, invoke
from calor.cli.application import application
from calor.cli.manual import page

ROOT = Path(__file__).parent.parent
SHARE = ROOT / "share"
BORROWED = ("ziglang", "click", "control", "hypothesis")
"""Packages of the developer's that an install of Calor alone has not."""
ICONS_PX = (16, 22, 24, 32, 48, 64, 128, 256, 512)


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """As `make dist` builds it, from the sdist."""
    place = tmp_path_factory.mktemp("dist")
    command = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(place), str(ROOT)]
    subprocess.run(command, check=True, capture_output=True)
    assert (place / f"calor-{__version__}.tar.gz").is_file()
    (found,) = place.glob("*.whl")
    return found


@pytest.fixture(scope="module")
def installed(wheel: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An environment of its own with the wheel in it; what it depends on is lent by the one that runs the tests."""
    place = tmp_path_factory.mktemp("environment") / "venv"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(place)], check=True)
    pip = [sys.executable, "-m", "pip", "--python", str(place / "bin" / "python")]
    subprocess.run([*pip, "install", "--quiet", "--no-index", "--no-deps", str(wheel)], check=True, capture_output=True)
    site = next((place / "lib").glob("python*/site-packages"))
    lent = tmp_path_factory.mktemp("lent")
    for part in Path(sysconfig.get_path("purelib")).iterdir():
        if part.name not in BORROWED and "calor" not in part.name and not part.name.endswith(".pth"):
            (lent / part.name).symlink_to(part)
    (site / "lent.pth").write_text(f"{lent}\n")
    return place


def test_the_wheel_brings_its_loop_and_the_desktops_files(wheel: Path) -> None:
    names = zipfile.ZipFile(wheel).namelist()
    assert "linux" in wheel.name and wheel.name.endswith(f"_{os.uname().machine}.whl")
    assert len([name for name in names if name.startswith("calor/compiled/shipped/")]) == 2
    data = f"calor-{__version__}.data/data/share"
    for path in (
        "applications/calor.desktop", "metainfo/calor.metainfo.xml", "man/man1/calor.1",
        *(f"icons/hicolor/{size}x{size}/apps/calor.png" for size in ICONS_PX),
    ):  # fmt: skip
        assert f"{data}/{path}" in names, path
    assert "calor/compiled/runtime.c" in names and "calor/demo/hatching_cabinet.toml" in names


def test_it_runs_where_there_is_python_and_nothing_else(
    installed: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """No compiler on the path, no cache, no home: the loop of the wheel answers as this one does."""
    empty = {"PATH": "/nowhere", "HOME": str(tmp_path), "XDG_CACHE_HOME": str(tmp_path / "cache"), "LANG": "C.UTF-8"}

    def run(*words: str) -> subprocess.CompletedProcess[str]:
        command = [str(installed / "bin" / "python"), "-I", str(installed / "bin" / "calor"), *words]
        return subprocess.run(command, capture_output=True, text=True, check=False, env=empty, cwd=tmp_path)

    assert run("--version").stdout == f"calor {__version__}\n"
    assert run("new", "mine.toml").returncode == 0
    there = run("run", "mine.toml", "--json")
    assert there.stderr == "" and not (tmp_path / "cache").exists()  # nothing was compiled, nothing said
    invoke(["run", str(tmp_path / "mine.toml"), "--json"])
    ours = json.loads(capsys.readouterr().out)
    assert json.loads(there.stdout) == ours
    how = "from calor.compiled import kernel; print(kernel().how)"
    said = subprocess.run(
        [installed / "bin" / "python", "-I", "-c", how], capture_output=True, text=True, env=empty, check=True
    )
    assert said.stdout == "shipped\n"


def test_what_is_imported_is_what_is_declared() -> None:
    """In a fresh environment nothing is there by the grace of somebody else's dependencies."""
    names = {
        "PyQt6": "PyQt6",
        "PyQt6-QScintilla": "PyQt6",
        "elftools": "pyelftools",
        "jinja2": "Jinja2",
        "pydantic_core": "pydantic",
        "serial": "pyserial",
    }
    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    every = project["dependencies"] + project["optional-dependencies"]["chip"]
    declared = {re.split("[>=]", one)[0].lower() for one in every}
    for file in (ROOT / "src").rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            modules = [one.name for one in node.names] if isinstance(node, ast.Import) else []
            modules += [str(node.module)] if isinstance(node, ast.ImportFrom) and not node.level else []
            for top in {module.split(".")[0] for module in modules} - set(sys.stdlib_module_names) - {"calor"}:
                assert names.get(top, top).lower() in declared, f"{file}: {top}"


def test_the_manual_page_is_that_of_the_commands() -> None:
    """`make docs` writes it. Lint: mandoc, where it is there."""
    text = (SHARE / "calor.1").read_text(encoding="utf-8")
    assert text == page(application())
    assert all(f".SS calor {verb}" in text for verb in VERBS) and "\\-\\-csv" in text
    if shutil.which("mandoc"):
        lint = subprocess.run(
            ["mandoc", "-Tlint", "-W", "warning", SHARE / "calor.1"], capture_output=True, text=True, check=False
        )
        assert lint.stdout == "", lint.stdout


@pytest.mark.parametrize(("words", "expected"), [("calor che", "check"), ("calor run --tr", "--trial")])
@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_shells_complete_verbs_and_options(shell: str, words: str, expected: str) -> None:
    environment = {
        **os.environ, "_CALOR_COMPLETE": f"complete_{shell}", "COMP_WORDS": words, "COMP_CWORD": str(words.count(" ")),
        "_TYPER_COMPLETE_ARGS": words, "_TYPER_COMPLETE_FISH_ACTION": "get-args",
    }  # fmt: skip
    command = [sys.executable, "-c", "from calor.cli import main; main()"]
    found = subprocess.run(command, capture_output=True, text=True, check=False, env=environment)
    assert expected in found.stdout, found


def test_completion_is_printed_for_a_known_shell_only(capsys: pytest.CaptureFixture[str]) -> None:
    for shell in ("bash", "zsh", "fish"):
        assert invoke(["completion", shell]) == 0 and "_CALOR_COMPLETE" in capsys.readouterr().out
    assert invoke(["completion", "csh"]) == 2 and "one of bash, zsh, fish (received 'csh')" in capsys.readouterr().err


def test_metadata_is_valid() -> None:
    """Validators: desktop-file-validate and appstreamcli, where they are there; the essentials always."""
    tree = ElementTree.parse(SHARE / "calor.metainfo.xml").getroot()
    entry = configparser.ConfigParser(interpolation=None)
    entry.read(SHARE / "calor.desktop", encoding="utf-8")
    categories = [one.text for one in tree.findall("categories/category")]
    assert entry["Desktop Entry"]["Categories"] == ";".join(str(one) for one in categories) + ";"
    assert tree.findtext("launchable") == "calor.desktop" and tree.findtext("project_license") == "GPL-3.0-or-later"
    assert tree.find("releases/release").get("version") == __version__  # type: ignore[union-attr]
    for command in (
        ["desktop-file-validate", SHARE / "calor.desktop"],
        ["appstreamcli", "validate", "--no-net", SHARE / "calor.metainfo.xml"],
    ):
        if shutil.which(str(command[0])):
            subprocess.run(command, check=True, capture_output=True)


def test_icons_are_drawn_in_every_size() -> None:
    from PyQt6.QtGui import QImage

    for size in ICONS_PX:
        image = QImage(str(ROOT / "src" / "calor" / "desk" / "icons" / f"calor-{size}.png"))
        assert (image.width(), image.height()) == (size, size)
        assert image.pixelColor(size // 2, size // 2).alpha() == 255
