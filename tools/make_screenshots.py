"""Take the pictures of docs/screenshots from the demo data, at 1280×800: all, or those named."""

from __future__ import annotations

import datetime
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from pkgutil import resolve_name
from typing import Any

PICTURES = Path(__file__).parent.parent / "docs" / "screenshots"


def unpictured(pictures: list[str]) -> list[str]:
    """The rooms of which there is no picture yet: one is called after its room, or begins with it."""
    from calor.desk.rooms import ROOMS

    names = [resolve_name(place).name for place in ROOMS]
    return [name for name in names if not any(picture.split("-")[0] == name for picture in pictures)]


def entering(name: str) -> Callable[[Any], None]:
    """A scene: the room called `name`."""
    return lambda window: window.desk.view.choose_room(name)


def main() -> None:
    """Open the desk with each scene and grab the window."""
    from PyQt6.QtCore import Qt
    from PyQt6.QtWidgets import QApplication

    from calor.demo import DEMOS
    from calor.desk.app import make_application
    from calor.desk.state.desk import Desk
    from calor.desk.state.places import Remembered
    from calor.desk.state.simulator import Simulator
    from calor.desk.window.window import Window

    app = make_application()
    PICTURES.mkdir(parents=True, exist_ok=True)

    def rest(seconds: float = 1.2) -> None:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            app.processEvents()
            time.sleep(0.005)

    def desk(number: int = 0, text: str = "") -> Window:
        window = Window(Desk(Simulator(), Remembered()))
        window.resize(1280, 800)
        window.show()
        window.activateWindow()
        if text:
            window.desk.document.open_text(text)
        else:
            window.files.open_demo(number)
        end = time.monotonic() + 60
        while window.desk.runs.current is None and time.monotonic() < end:
            app.processEvents()
        window.room("loop").strip.setFocus(Qt.FocusReason.OtherFocusReason)
        rest(2.0)
        return window

    def pid(window: Window) -> None:
        window.room("loop").strip.set_calipers(True)
        window.room("loop").strip.calipers[:] = [1500.0, 3300.0]
        window.room("loop").strip.redraw()

    def on_off(window: Window) -> None:
        window.desk.runs.pin()
        window.desk.document.set_kind("law", "on_off")

    def tried(window: Window) -> None:
        next(card for card in window.room("loop").verdict.cards if card.advice.proposal is not None).try_button.click()

    def overlaid(window: Window) -> None:
        window.desk.document.set_kind("law", "on_off")
        window.room("loop").overlay.take(DEMOS[0].log)
        rest()
        window.room("loop").strip.look_at(1200.0, 6000.0)

    def faults(window: Window) -> None:
        window.desk.document.choose_trial(2)
        window.desk.view.choose_bench("trial")

    def error(window: Window) -> None:
        entry = window.bench.form.fields["law.gain_per_celsius"].entry
        entry.setFocus()
        entry.setText("22,5x")
        entry.setModified(True)
        entry.textEdited.emit("22,5x")
        place = Path(tempfile.mkdtemp()) / "shelf.csv"
        place.write_text("time_s,shelf_celsius\n0,21.5\n10,warm\n")
        window.take(place)

    def dark(window: Window) -> None:
        window.toggle_theme()
        window.desk.view.choose_bench("probe")

    def at(bench: str, trial: int = 0) -> Callable[[Window], None]:
        def scene(window: Window) -> None:
            window.desk.document.choose_trial(trial)
            window.desk.view.choose_bench(bench)

        return scene

    def code(window: Window) -> None:
        window.desk.view.choose_room("code")
        done: list[bool] = []
        window.room("code").page.panel.check.finished.connect(lambda *_: done.append(True))
        for gain in (0.7, 0.8):
            done.clear()
            window.desk.document.set_value("law", "gain_per_celsius", gain)
            window.room("code").page.panel.run_check.click()
            end = time.monotonic() + 600
            while not done and time.monotonic() < end:
                app.processEvents()

    def own_law(window: Window) -> None:
        window.desk.view.choose_room("code")
        room = window.room("code").page
        place = Path(tempfile.mkdtemp()) / "my_law.c"
        room.start_law(place)
        own = room.own[str(place)]
        wrong = own.editor.text().replace("    return demand;", "    return demnad;", 1)
        own.editor.replace_text(wrong)
        end = time.monotonic() + 30
        while not own.diagnostics and time.monotonic() < end:
            app.processEvents()
        own.problems.itemActivated.emit(own.problems.item(0))

    def records(window: Window, title: str, count: int) -> Any:
        window.desk.view.choose_room("logs")
        logs = window.room("logs")
        logs.page.records.open_demo(title)
        end = time.monotonic() + 60
        while (len(logs.shelf.opened) < count or logs.shelf.worker.progress()) and time.monotonic() < end:
            app.processEvents()
        return logs

    def fit(logs: Any, **wanted: Any) -> None:
        logs.shelf.want(**wanted)
        logs.shelf.fit()
        end = time.monotonic() + 60
        while logs.shelf.chosen.fit is None and time.monotonic() < end:
            app.processEvents()

    def fitted(window: Window) -> None:
        logs = records(window, "Hatching cabinet", 1)
        logs.shelf.leave_out(4975.0, 5400.0)
        fit(logs, order="own", free=("loss_w_per_k", "contents_j_per_k", "heater_watt"))

    def columns(window: Window) -> None:
        logs = records(window, "Film bath, warming", 1)
        logs.page.records.columns_button.setChecked(True)
        fit(logs, order="1")

    def two(window: Window) -> None:
        logs = records(window, "Radio hut, one fan and two", 2)
        logs.shelf.align_by("time of day")

    def start(window: Window) -> None:
        window.desk.view.choose_room("start")
        end = time.monotonic() + 60
        while any(card.thumbnail is None for card in window.start.page.cards) and time.monotonic() < end:
            app.processEvents()

    def calibrated(window: Window) -> None:
        comparisons = ((0.0, 0.42, "ice water"), (25.0, 25.31, "glass thermometer"), (37.5, 37.66, "glass thermometer"),
                       (50.0, 49.98, "glass thermometer"))  # fmt: skip
        points = tuple(
            {"true_celsius": t, "reading_celsius": r, "date": datetime.date(2026, 11, 2), "against": against,
             "uncertainty_celsius": 0.05}
            for t, r, against in comparisons
        )  # fmt: skip
        window.desk.document.set_values("probe", {"calibration": points, "filter": {"kind": "mean", "readings": 8}})
        window.desk.view.choose_room("probe")

    def proved(window: Window) -> None:
        window.desk.view.choose_room("proof")
        room = window.room("proof")
        room.work.begin()
        end = time.monotonic() + 120
        while room.work.is_busy and time.monotonic() < end:
            app.processEvents()
        matrix = room.page.matrix
        row = next(at for at in range(matrix.rowCount()) if "Probe fallen out" in matrix.item(at, 0).text())
        matrix.setCurrentCell(row, matrix.columnCount() - 1)

    def kept(window: Window) -> None:
        runs, document = window.desk.kept, window.desk.document
        runs.write(runs.keep_run(), note="Held through the night. Door closed by hand at 1:31.", tags=("mat heater",))
        for key, value, note in (
            ("gain_per_celsius", 0.3, "Stronger: in the band sooner."), ("integral_time_s", 700.0, "Less offset."),
        ):  # fmt: skip
            document.set_value("law", key, value)
            rest()
            runs.write(runs.keep_run(), note=note, tags=("mat heater",))
        runs.write(2, pinned=True)
        document.choose_trial(1)
        rest()
        runs.keep_run()
        runs.keep_record(DEMOS[0].log)
        window.desk.view.choose_room("journal")
        rest()
        window.room("journal").page.list.choose([1, 3])

    def on_the_line(window: Window) -> None:
        window.desk.view.choose_room("board")
        room = window.room("board")
        room.work.start_stand_in()

        def came(rows: int) -> None:
            end = time.monotonic() + 120
            while room.work.rows.count < rows and time.monotonic() < end:
                app.processEvents()

        came(900)
        room.work.mark("door opened")
        room.work.set_value("gain_per_celsius", 0.35)
        room.work.set_value("setpoint_celsius", 36.5)
        came(2400)
        room.work.hold(("up",))
        came(2440)
        room.work.hold(())
        came(2520)

    def tuned(window: Window) -> None:
        window.desk.view.choose_room("tune")
        work = window.room("tune").work
        for method in ("model", "relay"):
            work.want(method, None)
            work.find()
            end = time.monotonic() + 60
            while work.is_busy and time.monotonic() < end:
                app.processEvents()

    scenes: list[tuple[str, int, Callable[[Window], None]]] = [
        ("loop-pid", 0, pid), ("loop-on-off", 0, on_off), ("loop-tried", 0, tried), ("loop-log", 0, overlaid),
        ("loop-trial", 0, faults), ("loop-error", 0, error),
        ("logs-fit", 0, fitted), ("logs-columns", 3, columns), ("logs-two", 2, two),
        ("probe-thermistor", 0, calibrated), ("loop-dark", 1, dark), ("start", 0, start), ("code", 3, code),
        ("code-own-law", 0, own_law),
        ("demo-wax-melter", 5, at("setpoint")),
        ("tune", 0, tuned), ("proof", 0, proved), ("journal", 0, kept), ("board", 0, on_the_line),
    ]  # fmt: skip
    every = [(name, number, "", scene) for name, number, scene in scenes]
    # a room that has no picture of its own yet is shown as it is entered
    every += [(f"room-{name}", 0, "", entering(name)) for name in unpictured([name for name, *_ in every])]
    wanted = sys.argv[1:]
    for name, number, text, scene in every:
        if wanted and name not in wanted:
            continue
        window = desk(number, text)
        scene(window)
        rest()
        window.grab().save(str(PICTURES / f"{name}.png"))
        print(f"docs/screenshots/{name}.png")
        window.desk.view.set_unit("°C")
        if window.theme.name == "dark":  # it is remembered
            window.toggle_theme()
        window.desk.document.undo_stack.setClean()
        for own in window.room("code").unsaved():
            own.save()
        window.close()
    QApplication.processEvents()


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as home:
        os.environ |= {"XDG_CONFIG_HOME": home, "XDG_STATE_HOME": home, "XDG_DATA_HOME": home}
        main()
