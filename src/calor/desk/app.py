"""Starting the desk."""

from __future__ import annotations

import gc
import signal
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication

from calor.desk.state.desk import Desk
from calor.desk.widgets import theme
from calor.desk.widgets.keys import timer
from calor.mistakes import in_words

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
    # before any widget is made: some keep the font they were made with
    app.setFont(theme.font())
    return app


def report(desk: Desk, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
    """Say in one line that something in the desk itself went wrong; the details go to a file, the desk goes on."""
    del kind, trace
    desk.say("error", f"Your design is untouched; save it. {in_words(error)}".replace("\n", " "))


def _when_drawn(desk: Desk, act: Callable[[], None]) -> None:
    """Do something once, when the first run is on the screen and the window has nothing else to do."""
    runs = desk.runs

    def first() -> None:
        runs.changed.disconnect(first)
        QTimer.singleShot(0, act)

    if runs.current is not None:
        act()
    else:
        runs.changed.connect(first)


def start(path: Path | None, demo: bool) -> int:
    """Open the desk and stay until it is closed; the exit code. Garbage is collected from then on."""
    app = make_application()
    from calor.compiled import built_elsewhere
    from calor.desk.rooms import import_pages
    from calor.desk.state.places import Remembered
    from calor.desk.state.simulator import Simulator
    from calor.desk.window.window import Window

    simulator = Simulator()
    window = Window(Desk(simulator, Remembered()))
    built_elsewhere()
    # the window comes first and says what it prepares; while the loop is compiled, it gets its turn often
    sys.setswitchinterval(0.0002)
    window.show()
    app.processEvents()
    window.open_first(path, demo)
    if demo or (path is None and window.desk.document.path is None):
        window.desk.view.choose_room(window.start.name)

    def get_rooms_ready() -> None:
        imports = threading.Thread(target=import_pages, name="rooms", daemon=True)
        imports.start()
        window.ahead.begin(lambda: not imports.is_alive())

    _when_drawn(window.desk, get_rooms_ready)
    # nor later, when it would hold the window up for a tenth of a second
    window.ahead.done.connect(gc.freeze)
    gc.freeze()
    gc.enable()
    sys.excepthook = lambda kind, error, trace: report(window.desk, kind, error, trace)
    signal.signal(signal.SIGINT, lambda *_: window.close())
    # Python sees a signal only when it runs: let it, five times a second
    timer(window, 200, lambda: None).start()
    return app.exec()
