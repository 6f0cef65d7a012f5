"""How fast the stand-in is in the loop, how soon a board answers, and what a long record costs the window."""

from __future__ import annotations

import statistics
import time

from rich.table import Table

from calor import loop
from calor.board.in_loop import board_seated
from calor.board.link import Link
from calor.board.live import LiveRows
from calor.board.stand_in import StandIn
from calor.demo import DEMOS
from calor.design.file import read

MANY, ROWS_PER_S, DRAWS_PER_S = 1_000_000, 50, 4


def board_table() -> Table:
    """The cabinet's stand-in on the host, and a record of a million rows."""
    out = Table("stand-in on the host", "", "goal", title="Board")
    design = read(DEMOS[0].design).design
    trial = design.trial[0].model_copy(update={"span_s": 3600.0})
    board, control = StandIn(design), loop.new_control()
    board.start()
    with board_seated(design, board.port, control) as (seat, _):
        short = trial.model_copy(update={"span_s": 10.0})
        loop.run(design, short, control, seat)  # until it is built
        control[:] = 0
        began = time.perf_counter()
        trace = loop.run(design, trial, control, seat)
        taken = time.perf_counter() - began
    out.add_row("in the loop, steps in a second", f"{trace.steps / taken:.0f}", "≥ 2 000")
    link = Link(board.port)
    took = []
    for _ in range(200):
        began = time.perf_counter()
        link.ask("get")
        took.append(1e3 * (time.perf_counter() - began))
    out.add_row("command to answer, ms: median; worst", f"{statistics.median(took):.2f}; {max(took):.2f}", "≤ 50")
    link.close()
    board.close()
    return out


def live_table() -> Table:
    """The Board room over a record of a million rows that grows."""
    from PyQt6.QtWidgets import QApplication

    from calor.desk.app import make_application
    from calor.desk.state.desk import Desk
    from calor.desk.state.places import Remembered
    from calor.desk.state.simulator import Simulator
    from calor.desk.window.window import Window

    out = Table("a record of a million rows, 50 rows/s", "ms", "goal", title="Board room")
    app = QApplication.instance() or make_application()
    window = Window(Desk(Simulator(), Remembered()))
    window.resize(1280, 800)
    window.show()
    window.desk.view.choose_room("board")
    room = window.room("board")
    rows: LiveRows = room.work.rows
    began = time.perf_counter()
    for k in range(MANY):
        rows.add({"time_s": k / ROWS_PER_S, "measured_celsius": 37.0 + k % 977 * 1e-3, "demand": k % 100 / 100}, 0.0)
    adding = (time.perf_counter() - began) / MANY
    draws = []
    for _ in range(12):
        began = time.perf_counter()
        room.page._draw()
        app.processEvents()
        draws.append(time.perf_counter() - began)
    for_a_row = statistics.median(draws) * DRAWS_PER_S / ROWS_PER_S + adding
    out.add_row("the window's time for an arriving row", f"{1e3 * for_a_row:.2f}", "≤ 5")
    out.add_row("at once, median", f"{1e3 * statistics.median(draws):.0f}", "")
    window.desk.document.undo_stack.setClean()
    window.close()
    return out
