"""What all tests share: own directories, a design to vary, and a desk that is closed again."""

from __future__ import annotations

import os

# one thread for each test: with two workers a library's own threads wait for one another
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from calor.compiled import prepare
from calor.demo import DEMOS
from calor.design.file import parse, read
from calor.design.model import Design

if not os.environ.get("DISPLAY"):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

# how fast the machine is decides nothing: neither a deadline, nor how long an example takes to be drawn
settings.register_profile("calor", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("calor")

QUICK = ('"-O1", "-std=gnu11"', '"-O0", "-std=gnu11"')
"""In a copy of the sources: the loop built in a quarter of the time, where how fast it runs does not matter."""
TEN_LINES = """\
[setpoint]
celsius = 50
[law]
kind = "on_off"
[drive]
kind = "relay"
[load]
kind = "first_order"
[probe]
kind = "ideal"
"""


PROBES: dict[str, str] = {
    "thermistor": 'kind = "thermistor"',
    "thermistor, high side": 'kind = "thermistor"\nplaced = "high_side"\nadc = { bits = 10, divider_volt = 3.0, divide_by = "2^n-1" }',
    "thermistor, A B C": 'kind = "thermistor"\nsteinhart_hart = [1.125308852e-3, 2.347118633e-4, 8.5663516e-8]',
    "thermistor, points": 'kind = "thermistor"\npoints = [[0, 32650], [25, 10000], [50, 3603], [85, 1070]]',
    "rtd": 'kind = "rtd"\nr0_ohm = 1000.0\nseries_ohm = 1000.0\nwires = 2\nlead_ohm = 0.0',
    "rtd, current source": 'kind = "rtd"\ncircuit = "current"\namplifier_gain = 8.0\nadc = { bits = 16 }',
    "rtd, bridge": 'kind = "rtd"\ncircuit = "bridge"\nreference_ohm = 18.0\namplifier_gain = 10.0\nadc = { bits = 14 }',
    "rtd, ratiometric": 'kind = "rtd"\ncircuit = "ratiometric"\nadc = { bits = 15 }',
    **{
        f"thermocouple {letter}": f'kind = "thermocouple"\nletter = "{letter}"\namplifier_gain = {gain}\n'
        "amplifier_offset_volt = 0.4\nadc = { bits = 14 }"
        for letter, gain in (("B", 200.0), ("E", 35.0), ("J", 40.0), ("K", 50.0), ("N", 55.0), ("R", 130.0), ("S", 140.0), ("T", 130.0))
    },
    "chip": 'kind = "thermocouple"\nconverter_celsius_per_code = 0.25\nword_shift = 18\nfault_mask = 7',
    "analog voltage": 'kind = "analog_voltage"',
    "analog current": 'kind = "analog_current"\nadc = { bits = 12, reference_volt = 0.6 }',
    "digital": 'kind = "digital"',
}  # fmt: skip
"""A probe of every kind and circuit, as a design file has it."""


def probe_of(name: str, **changes: Any) -> Any:
    """The probe called `name`, with some of its settings changed."""
    probe = made(probe=PROBES[name]).probe
    return type(probe).model_validate({**probe.model_dump(), **changes})


IN_MEMORY, LEAST_FREE_BYTES = Path("/dev/shm"), 4 << 30


@pytest.hookimpl(tryfirst=True)
def pytest_configure(config: pytest.Config) -> None:
    """Temporary files lie in memory where there is room: some disks take milliseconds to remove one, and the tests make
    some ten thousands of them. Workers have it from the process that starts them."""
    is_worker, is_asked = hasattr(config, "workerinput"), "TMPDIR" in os.environ
    if is_worker or is_asked or not os.access(IN_MEMORY, os.W_OK):
        return
    if shutil.disk_usage(IN_MEMORY).free < LEAST_FREE_BYTES:
        return
    for left in IN_MEMORY.glob("calor-tests-*"):
        if left.stat().st_mtime < time.time() - 86_400.0:  # a run that was killed
            shutil.rmtree(left, ignore_errors=True)
    place = tempfile.mkdtemp(prefix="calor-tests-", dir=IN_MEMORY)
    os.environ["TMPDIR"] = tempfile.tempdir = place
    config.add_cleanup(lambda: shutil.rmtree(place, ignore_errors=True))


@pytest.fixture(autouse=True)
def own_directories(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Settings and unsaved edits of a test stay in the test."""
    place = tmp_path_factory.mktemp("home")
    for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
        monkeypatch.setenv(name, str(place / name.lower()))
    return place


@pytest.fixture(scope="session", autouse=True)
def compiled_loop() -> None:
    """The loop is there before the first test: none of them is the one that has it compiled, and says so."""
    prepare()


@pytest.fixture(scope="session")
def cabinet() -> Design:
    """The hatching cabinet."""
    return read(DEMOS[0].design).design


@pytest.fixture(scope="session")
def hut() -> Design:
    """The radio-link hut."""
    return read(DEMOS[1].design).design


def made(text: str = "", **blocks: str) -> Design:
    """A design from `text`, or the ten-line one with the text of some of its blocks replaced."""
    if text:
        return parse(text)
    own = {
        "setpoint": "celsius = 50", "law": 'kind = "on_off"', "drive": 'kind = "relay"',
        "load": 'kind = "first_order"', "probe": 'kind = "ideal"',
    } | blocks  # fmt: skip
    lines = [f"[[{name}]]\n{body}" if name == "trial" else f"[{name}]\n{body}" for name, body in own.items()]
    return parse("\n".join(lines))


@pytest.fixture
def desk(qtbot: Any) -> Iterator[Callable[..., Any]]:
    """Opens desks, waits for their first run, and closes them without asking."""
    from PyQt6.QtWidgets import QApplication

    from calor.desk.app import make_application
    from calor.desk.state.desk import Desk as State
    from calor.desk.state.places import Remembered
    from calor.desk.state.simulator import Simulator
    from calor.desk.window.window import Window

    make_application()
    windows: list[Any] = []

    def open_desk(path: Path | None = None) -> Any:
        window = Window(State(Simulator(), Remembered()))
        windows.append(window)
        window.resize(1280, 800)
        window.show()
        window.activateWindow()  # without it, shortcuts and focus go nowhere
        qtbot.waitUntil(lambda: QApplication.activeWindow() is window, timeout=60_000)
        window.open_first(path, demo=path is None)
        ran(qtbot, window)
        return window

    yield open_desk
    for window in windows:
        window.desk.document.undo_stack.setClean()
        window.close()
        assert not window.desk.simulator._thread.is_alive()
        window.deleteLater()
    qtbot.wait(1)


@pytest.fixture(scope="module")
def standing(qapp: Any, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    """One window with the demo, for all cases of a table: each sets what it looks at."""
    from calor.desk.app import make_application
    from calor.desk.state.desk import Desk as State
    from calor.desk.state.places import Remembered
    from calor.desk.state.simulator import Simulator
    from calor.desk.window.window import Window

    with pytest.MonkeyPatch.context() as patch:
        for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
            patch.setenv(name, str(tmp_path_factory.mktemp("standing") / name.lower()))
        make_application()
        window = Window(State(Simulator(), Remembered()))
        window.resize(1280, 800)
        window.show()
        window.open_first(None, demo=True)
        end = time.monotonic() + 60.0
        while not is_current(window.desk) and time.monotonic() < end:
            qapp.processEvents()
    yield window
    window.desk.document.undo_stack.setClean()
    window.close()
    assert not window.desk.simulator._thread.is_alive()
    window.deleteLater()
    qapp.processEvents()


def is_current(desk: Any) -> bool:
    """Whether the desk shows the run of the design as it is now."""
    return bool(
        desk.runs.current is not None
        and desk.runs.current.request.design == desk.document.design
        and desk.runs.current.request.trial == desk.document.trial
        and desk.runs.current.request.number == desk.runs.requests
    )


def ran(qtbot: Any, window: Any) -> None:
    """Wait until the desk shows the run of the design as it is now."""
    qtbot.waitUntil(lambda: is_current(window.desk), timeout=60_000)
