"""What all tests share: own directories, a design to vary, and a desk that is closed again."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from calor.demo import DEMOS
from calor.design.file import parse, read
from calor.design.model import Design

if not os.environ.get("DISPLAY"):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

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


@pytest.fixture(autouse=True)
def own_directories(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Settings and unsaved edits of a test stay in the test."""
    place = tmp_path_factory.mktemp("home")
    for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
        monkeypatch.setenv(name, str(place / name.lower()))
    return place


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
    from calor.desk.model import Model
    from calor.desk.places import Remembered
    from calor.desk.simulator import Simulator
    from calor.desk.window import Window

    make_application()
    windows: list[Any] = []

    def open_desk(path: Path | None = None) -> Any:
        window = Window(Model(Simulator(), Remembered()))
        windows.append(window)
        window.resize(1280, 800)
        window.show()
        window.activateWindow()  # without it, shortcuts and focus go nowhere
        qtbot.waitUntil(lambda: QApplication.activeWindow() is window, timeout=5000)
        window.open_first(path, demo=path is None)
        ran(qtbot, window)
        return window

    yield open_desk
    for window in windows:
        window.model.undo_stack.setClean()
        window.close()
        assert not window.model.simulator._thread.is_alive()
        window.deleteLater()
    qtbot.wait(1)


def ran(qtbot: Any, window: Any) -> None:
    """Wait until the desk shows the run of the design as it is now."""
    model = window.model
    qtbot.waitUntil(
        lambda: (
            model.result is not None
            and model.result.request.design == model.design
            and model.result.request.trial == model.trial
            and model.result.request.number == model._requests
        ),
        timeout=60_000,
    )
