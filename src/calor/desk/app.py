"""Starting the desk."""

from __future__ import annotations

import signal
import sys
from pathlib import Path

from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication

from calor.desk import theme

ICON = Path(__file__).parent / "calor.svg"


def make_application() -> QApplication:
    """The Qt application with Calor's name, icon and fonts."""
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        app = QApplication(sys.argv[:1])
    app.setApplicationName("calor")
    app.setApplicationDisplayName("Calor")
    app.setDesktopFileName("calor")
    app.setWindowIcon(QIcon(str(ICON)))
    theme.load_fonts()
    return app


def start(path: Path | None, demo: bool) -> int:
    """Open the desk and stay until it is closed; the exit code."""
    app = make_application()
    from calor.desk.model import Model
    from calor.desk.places import Remembered
    from calor.desk.simulator import Simulator
    from calor.desk.window import Window

    simulator = Simulator()
    window = Window(Model(simulator, Remembered()))
    # the window comes first and says what it prepares; while the loop is compiled, it gets its turn often
    sys.setswitchinterval(0.001)
    window.show()
    app.processEvents()
    window.open_first(path, demo)
    signal.signal(signal.SIGINT, lambda *_: window.close())
    # Python sees a signal only when it runs: let it, five times a second
    ticking = QTimer(window, interval=200)
    ticking.timeout.connect(lambda: None)
    ticking.start()
    return app.exec()
