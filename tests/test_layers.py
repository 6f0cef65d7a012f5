"""The house keeps its floors: the contracts hold, each fails when it is violated, and the core loads no Qt."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import grimp
import pytest

ROOT = Path(__file__).parent.parent
FLOORS = [["units", "errors", "files", "caches", "unplugged", "warned", "mistakes", "compiled", "elapsed", "logarithm", "moist_air", "contained", "terminal"], ["settings"], ["scales"], ["sense", "law", "drive", "load"], ["design"], ["loop"], ["demo"],
          ["identify", "log", "firmware"], ["judge"], ["tune", "proof", "board"], ["journal"], ["report"], ["cli", "desk"]]  # fmt: skip
CORE = [name for floor in FLOORS for name in floor if name not in ("cli", "desk")]


def contracts(folder: Path) -> subprocess.CompletedProcess[str]:
    command = [str(Path(sys.executable).parent / "lint-imports"), "--no-cache"]
    return subprocess.run(
        command,
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "PYTHONPATH": str(folder / "src")},
    )


@pytest.fixture(scope="module")
def house(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A copy of the sources, to be spoilt."""
    place = tmp_path_factory.mktemp("house")
    shutil.copytree(ROOT / "src", place / "src", ignore=shutil.ignore_patterns("__pycache__"))
    shutil.copy(ROOT / "pyproject.toml", place)
    return place


def test_the_contracts_hold(house: Path) -> None:
    result = contracts(house)
    assert result.returncode == 0, result.stdout


@pytest.mark.parametrize(
    ("module", "imported", "contract"),
    [
        ("units.py", "calor.settings", "Floors"),
        ("settings.py", "calor.law.pid", "Floors"),
        ("law/pid.py", "calor.load.lump", "Floors"),
        ("sense/adc.py", "calor.design.model", "Floors"),
        ("load/lump.py", "calor.drive.relay", "Floors"),
        ("design/trial.py", "calor.loop", "Floors"),
        ("loop/trace.py", "calor.judge.metrics", "Floors"),
        ("log/read.py", "calor.judge.metrics", "Floors"),
        ("firmware/run/host.py", "calor.log.read", "Floors"),
        ("judge/metrics.py", "calor.cli", "Floors"),
        ("judge/advice.py", "calor.desk.widgets.theme", "Only the desk draws"),
        ("loop/kernel.py", "PyQt6.QtCore", "Only the desk draws"),
        ("log/caliper.py", "PyQt6.QtGui", "Only the desk draws"),
        ("desk/widgets/theme.py", "calor.desk.state.desk", "The desk's own floors"),
        ("desk/state/view.py", "calor.desk.bench.bench", "The desk's own floors"),
        ("desk/probe/page.py", "calor.desk.code.page", "The desk's own floors"),
        ("desk/loop/room.py", "calor.desk.window.window", "The desk's own floors"),
        ("firmware/sources/form.py", "calor.firmware.run.host", "The firmware's own floors"),
        ("firmware/run/kept.py", "calor.firmware.check.ranges", "The firmware's own floors"),
    ],
)
def test_a_violated_contract_fails(house: Path, module: str, imported: str, contract: str) -> None:
    target = house / "src" / "calor" / module
    before = target.read_text(encoding="utf-8")
    target.write_text(
        before.replace(
            "from __future__ import annotations\n", f"from __future__ import annotations\nimport {imported}\n", 1
        )
    )
    try:
        result = contracts(house)
    finally:
        target.write_text(before, encoding="utf-8")
    assert result.returncode == 1 and any(
        contract in line and "BROKEN" in line for line in result.stdout.splitlines()
    ), result.stdout


def test_there_are_no_circles() -> None:
    """No module imports, by way of others, itself; imports for types alone are left out."""
    graph = grimp.build_graph("calor", exclude_type_checking_imports=True)
    below = {module: graph.find_modules_directly_imported_by(module) for module in graph.modules}
    while True:
        ground = {module for module, imported in below.items() if not imported & below.keys()}
        if not ground:
            break
        below = {module: imported for module, imported in below.items() if module not in ground}
    assert not below, f"these import one another: {sorted(below)}"


def test_every_package_has_a_floor() -> None:
    packages = {
        path.stem
        for path in (ROOT / "src" / "calor").iterdir()
        if path.name not in ("__init__.py", "__pycache__", "py.typed")
    }
    assert packages == {name for floor in FLOORS for name in floor}


def test_the_core_loads_no_qt() -> None:
    """In a fresh process, all of the core and the command line, module by module."""
    code = (
        "import importlib, pkgutil, sys, calor\n"
        f"for name in {[*CORE, 'cli']!r}:\n"
        "    module = importlib.import_module('calor.' + name)\n"
        "    for found in pkgutil.walk_packages(getattr(module, '__path__', []), module.__name__ + '.'):\n"
        "        importlib.import_module(found.name)\n"
        "print([name for name in sys.modules if name.split('.')[0] in ('PyQt6', 'pyqtgraph', 'PyQt5', 'PySide6')])\n"
    )
    result = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert result.stdout.strip() == "[]"


@pytest.mark.parametrize(
    "words", ["--help", "convert --gain 0.2 --ti 100", "size --mass 6 --material water --from 20 --to 38 --watt 300"]
)
def test_what_needs_no_design_starts_without_it(words: str) -> None:
    """In a fresh process: neither the design's models nor what computes with arrays is imported for it."""
    code = (
        f"import sys\nsys.argv = ['calor', *{words.split()!r}]\nfrom calor.cli import invoke\n"
        "try:\n    invoke(sys.argv[1:])\nexcept SystemExit:\n    pass\n"
        "print([name for name in ('numpy', 'pandas', 'calor.design.model', 'calor.loop') if name in sys.modules])\n"
    )
    result = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert result.stdout.strip().splitlines()[-1] == "[]" and len(result.stdout) > 100


def test_no_plugins_are_looked_for() -> None:
    """Nor is imported what would look for them; of pydantic's own module everything else is there as before."""
    said = subprocess.run(
        [
            sys.executable,
            "-c",
            "import sys, calor.design.model as m\n"
            "m.Design.model_validate\nm.Guard()\n"
            "print('importlib.metadata' in sys.modules)\n"
            "from pydantic.plugin import _loader\n"
            "print(_loader.get_plugins(), hasattr(_loader, '__path__'), _loader.PYDANTIC_ENTRY_POINT_GROUP)\n"
            "from pydantic.plugin._loader import get_plugins\n"
            "print(sys.modules['pydantic.plugin._loader'] is not _loader, get_plugins())\n",
        ],
        capture_output=True,
        text=True,
        check=True,
    ).stdout.split("\n")
    assert said[:3] == ["False", "() False pydantic", "True ()"]
