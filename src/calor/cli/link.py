"""`calor link`: a board on a serial port read, recorded, and told what to do."""

from __future__ import annotations

import math
import queue
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from calor.cli.common import AS_JSON, open_design, print_json
from calor.cli.exit_codes import FAIL, PASS
from calor.cli.outputs import FORCE, may_write
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.board.heard import Heard

HELP = "Read a board on a serial port, record it, and set what it lets one set; exit 1 where it refuses."
AT_END = ("as-is", "off")
SHOW_EVERY_S, GREETING_S = 1.0, 5.0
CAUTION = "calor link: nobody leaves a first run alone; what heats needs a cut-out of its own"


def command(
    port: str = typer.Argument(None, metavar="PORT", help="Serial port, as --list shows them."),
    baud: int = typer.Option(None, "--baud", metavar="N", help="Bits in a second; 115200, or the map's."),
    framing: str = typer.Option(None, "--framing", metavar="8N1", help="Bits, parity, stop bits; 8N1, or the map's."),
    modbus: str = typer.Option(None, "--modbus", metavar="MAP", help="A panel controller, by its map (file or name)."),
    out: Path = typer.Option(None, "--out", metavar="LOG.csv", help="Record what comes; the Logs room opens it."),
    setting: list[str] = typer.Option([], "--set", metavar="KEY=VALUE", help="Set it, and say what it answers."),
    design_file: Path = typer.Option(None, "--design", metavar="FILE", help="Its setpoint limits hold on the way out."),
    seconds: float = typer.Option(None, "--for", metavar="S", help="End after so long; else at Ctrl-C."),
    at_end: str = typer.Option("as-is", "--at-end", metavar="off|as-is", help="What becomes of the output at the end."),
    listed: bool = typer.Option(False, "--list", help="List the serial ports, and end."),
    force: bool = FORCE, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    from calor.board.link import BAUDS, FRAMINGS, USUAL_BAUD, USUAL_FRAMING, Link
    from calor.board.modbus import ModbusLink
    from calor.board.modbus_map import read_map

    if listed:
        return _list(as_json)
    if port is None:
        raise CalorError("calor link: PORT", "is missing", "", "calor link --list shows the ports")
    if baud is not None and baud not in BAUDS:
        raise CalorError("calor link: --baud", f"takes one of {', '.join(map(str, BAUDS))}", str(baud))
    if framing is not None and framing not in FRAMINGS:
        raise CalorError("calor link: --framing", f"takes one of {', '.join(FRAMINGS)}", repr(framing))
    own_map = None if modbus is None else read_map(modbus)
    if at_end not in AT_END:
        raise CalorError("calor link: --at-end", "takes off or as-is", repr(at_end))
    if seconds is not None and not 0.0 < seconds <= 1e8:
        raise CalorError("calor link: --for", "takes a number of seconds above 0", f"{seconds:g}")
    wanted = [_setting(text) for text in setting]
    if design_file is not None:
        _within_limits(design_file, wanted)
    may_write("calor link: --out", out, (design_file,), force, lambda head: "arrived_s" in head)
    items: queue.Queue[Any] = queue.Queue()
    link: Heard
    if own_map is None:
        link = Link(port, baud or USUAL_BAUD, out, items.put, framing or USUAL_FRAMING)
    else:
        link = ModbusLink(port, own_map, baud, out, items.put, framing)
    print(CAUTION, file=sys.stderr)
    refused = 0
    try:
        if wanted:
            refused = _set_all(link, wanted)
        _follow(link, items, seconds, as_json)
    finally:
        is_off = at_end != "off" or _switched_off(link)
        link.close()
    if link.trouble is not None:
        raise link.trouble
    _tell(link, out, as_json)
    return FAIL if refused or not is_off else PASS


def _switched_off(link: Heard) -> bool:
    """Switch the outputs off, and say what came of it: after Ctrl-C, too."""
    ended = link.off()
    is_off = ended is not None and ended.ok
    said = ended.text if ended is not None and ended.ok else "the board did not answer: switch it off by hand"
    print(f"calor link: output off: {said}", file=sys.stderr)
    return is_off


def _list(as_json: bool) -> int:
    from calor.board.link import ports

    found = ports()
    if as_json:
        print_json({"ports": [{"port": one.name, "what": one.what} for one in found]})
    elif not found:
        print("No serial ports. calor stand-in FILE opens one that behaves like a board.")
    else:
        for one in found:
            print(f"{one.name}  {one.what}")
    return PASS


def _setting(text: str) -> tuple[str, float]:
    """A key and its value from KEY=VALUE. Raises CalorError."""
    from calor.board.protocol import number

    key, mark, value = text.partition("=")
    given = number(value.strip())
    if not mark or not key.strip() or given is None or not math.isfinite(given):
        raise CalorError("calor link: --set", "takes KEY=VALUE with a number", repr(text), "setpoint_celsius=38")
    return key.strip(), given


def _within_limits(path: Path, wanted: list[tuple[str, float]]) -> None:
    """Raises CalorError for a setpoint beyond a design's limits: it is not sent."""
    setpoint = open_design(path).setpoint
    low, high = setpoint.low_limit_celsius, setpoint.high_limit_celsius
    for key, value in wanted:
        outside = (low is not None and value < low) or (high is not None and value > high)
        if key == "setpoint_celsius" and outside:
            raise CalorError("calor link: --set", f"the design's limits are {low} to {high} °C", f"{value:g}")


def _set_all(link: Heard, wanted: list[tuple[str, float]]) -> int:
    """Send each setting, and say what is answered; how many were refused."""
    end = time.monotonic() + GREETING_S
    while link.greeting is None and time.monotonic() < end:
        time.sleep(0.02)
    refused = 0
    for key, value in wanted:
        bounds = None if link.greeting is None else link.greeting.can.get(key)
        if bounds is not None and not bounds.low <= value <= bounds.high:
            print(f"calor link: {key}: the board takes {bounds.low:g} to {bounds.high:g}; not sent", file=sys.stderr)
            refused += 1
            continue
        answer = link.ask(f"set {key} {value:.7g}")
        print(f"calor link: {key}: {'ok' if answer.ok else 'err'} {answer.text}", file=sys.stderr)
        refused += not answer.ok
    return refused


def _follow(link: Heard, items: queue.Queue[Any], seconds: float | None, quiet: bool) -> None:
    """Show what comes, a row a second, until the time is over."""
    from calor.board.protocol import Greeting, Row, row_line

    end = None if seconds is None else time.monotonic() + seconds
    shown_at = 0.0
    while (end is None or time.monotonic() < end) and link.trouble is None:
        try:
            item = items.get(timeout=0.1)
        except queue.Empty:
            continue
        if isinstance(item, Row):
            if not quiet and time.monotonic() - shown_at >= SHOW_EVERY_S:
                shown_at = time.monotonic()
                print(row_line(item.values), flush=True)
        elif isinstance(item, Greeting):
            print(f"calor link: {item.name}, version {item.version}, step {item.step_s:g} s", file=sys.stderr)
        elif isinstance(item, str):
            print(f"calor link: {link.port}: {item}", file=sys.stderr)


def _tell(link: Heard, out: Path | None, as_json: bool) -> None:
    """What came of it all."""
    data = {
        "port": link.port, "rows": link.rows, "garbage_lines": link.garbage, "losses": link.losses,
        "drift_ppm": link.drift_ppm, "out": None if out is None else str(out),
        "board": None if link.greeting is None else link.greeting.name,
        "last": None if link.last is None else link.last.values,
    }  # fmt: skip
    if as_json:
        print_json(data)
        return
    drift = "" if link.drift_ppm is None else f", its clock {link.drift_ppm:+.0f} ppm from this machine's"
    print(
        f"{link.rows} rows, {link.garbage} lines of garbage, {link.losses} times gone{drift}", file=sys.stderr
    )  # fmt: skip
