"""The command line. Every verb that prints figures takes --json; errors are one line on standard error."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from calor import __version__
from calor.cli.common import is_number, open_design, print_json, say_of_the_loop
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.loop.trace import Trace

PASS, FAIL, BAD_INPUT = 0, 1, 2
DESK_VERBS = ("open", "demo")
VERBS = (*DESK_VERBS, "new", "check", "run", "probe", "size", "driver", "convert", "replay", "code", "completion")
COMPLETE = "_CALOR_COMPLETE"
"""What a shell sets to have words completed."""


def main() -> None:
    """Entry point: `calor [FILE]` opens the desk, `calor VERB …` works without one."""
    arguments = sys.argv[1:]
    if COMPLETE in os.environ:
        _application(completes=True)(prog_name="calor", complete_var=COMPLETE)
    if not arguments or (arguments[0] not in VERBS and not arguments[0].startswith("-")):
        arguments = ["open", *arguments]
    sys.exit(invoke(arguments))


def invoke(arguments: list[str]) -> int:
    """Run one command line; its exit code. Errors are printed, never raised."""
    if arguments == ["--version"]:
        print(f"calor {__version__}")
        return PASS
    try:
        if arguments[0] in DESK_VERBS and "--help" not in arguments:
            return _desk(arguments)
        say_of_the_loop()
        result = _application()(args=_spread(arguments), standalone_mode=False)
        return int(result or PASS)
    except CalorError as error:
        print(error, file=sys.stderr)
    except Exception as error:
        # the command-line library's own exceptions are told apart by their name and by what they carry
        if type(error).__name__ == "Abort":
            print("calor: stopped", file=sys.stderr)
            return BAD_INPUT
        message = getattr(error, "format_message", None)
        if message is None:
            if os.environ.get("CALOR_DEBUG"):
                raise
            said = f"{type(error).__name__}: {error}".replace("\n", " ")
            print(f"calor {arguments[0]}: Calor made a mistake ({said}); CALOR_DEBUG=1 shows where", file=sys.stderr)
            return BAD_INPUT
        print(f"calor {arguments[0]}: {message()} See calor {arguments[0]} --help.", file=sys.stderr)
    except KeyboardInterrupt:
        print("calor: stopped", file=sys.stderr)
    return BAD_INPUT


def _spread(arguments: list[str]) -> list[str]:
    """Options that take several values: `--celsius 0 25 100` becomes one option for each."""
    spread: list[str] = []
    option = ""
    for argument in arguments:
        name, _, value = argument.partition("=")
        if name in ("--celsius", "--counts"):
            option = "" if value else name
            spread += [f"{name}={part}" for part in value.split(",") if part]
        elif option and (not argument.startswith("-") or is_number(argument.split(",")[0])):
            spread += [f"{option}={part}" for part in argument.split(",") if part]
        else:
            option = ""
            spread.append(argument)
    return spread


def _desk(arguments: list[str]) -> int:
    """Open the desk, or say in one line why there is none and do the demo's main job without it."""
    given = [argument for argument in arguments[1:] if not argument.startswith("-")]
    if len(given) != len(arguments) - 1 or len(given) > 1:
        print(
            f"calor {arguments[0]}: takes at most one FILE and no options (received {arguments[1:]})", file=sys.stderr
        )
        return BAD_INPUT
    has_display = os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")
    if sys.platform.startswith("linux") and not has_display:
        print(
            "calor: there is no display (DISPLAY and WAYLAND_DISPLAY are not set); start it in a graphical session, or"
            " under a virtual one: xvfb-run -a calor demo",
            file=sys.stderr,
        )
        return _demo_without_desk() if arguments[0] == "demo" else BAD_INPUT
    from calor.desk.app import start

    code: int = start(Path(given[0]) if given else None, demo=arguments[0] == "demo")
    return code


def _demo_without_desk() -> int:
    """The demo's main job through the command line: simulate, judge, replay a recorded run, write the C."""
    import tempfile

    from calor.demo import DEMOS

    with tempfile.TemporaryDirectory() as place:
        for demo in DEMOS:
            replay = [["replay", str(demo.design), str(demo.log)]] if demo.log is not None else []
            for arguments in (
                ["run", str(demo.design)],
                *replay,
                ["code", str(demo.design), "--out", str(Path(place) / demo.design.stem)],
            ):
                print(f"$ calor {' '.join(arguments[:2])}" + (" …" if len(arguments) > 2 else ""))
                if invoke(arguments) == BAD_INPUT:
                    return BAD_INPUT
                print()
    return PASS


def _write_csv(trace: Trace, path: Path) -> None:
    """The trace's columns as CSV; empty where a run has no figure."""
    import pandas as pd

    from calor.design.file import save_atomically

    frame = pd.DataFrame(trace.table())
    frame["flags"] = frame["flags"].astype(int)
    try:
        save_atomically(path, frame.to_csv(index=False, float_format="%.9g"))
    except OSError as error:
        raise CalorError(f"{path}: cannot be written ({error.strerror or error}); choose another place") from None


def _application(completes: bool = False) -> Any:
    """The verbs. Built when a verb runs, so that the desk starts without it; `completes` for a shell that asks."""
    import typer

    app = typer.Typer(
        name="calor", help="Build a microcontroller thermostat: simulate, judge, replay, take the C away.",
        rich_markup_mode=None, pretty_exceptions_enable=False, add_completion=completes, no_args_is_help=True,
    )  # fmt: skip
    file_argument = typer.Argument(..., metavar="FILE", help="Design file (TOML).")
    json_option = typer.Option(False, "--json", help="Print JSON.")

    @app.command("open", help="Open the desk; no FILE: the last design, or the demo.")
    def open_(file: Path = typer.Argument(None, metavar="[FILE]")) -> int:
        return _desk(["open", *([str(file)] if file else [])])

    @app.command(help="Open the desk with the demo designs.")
    def demo() -> int:
        return _desk(["demo"])

    @app.command(help="Write a commented design to start from.")
    def new(
        file: Path = typer.Argument(..., metavar="FILE", help="Where to write it."),
        force: bool = typer.Option(False, "--force", help="Replace a file that is already there."),
    ) -> int:
        from calor.demo import STARTER
        from calor.design.file import save_atomically

        if file.exists() and not force:
            raise CalorError(f"{file}: is already there; choose another name or add --force to replace it")
        try:
            save_atomically(file, STARTER.read_text(encoding="utf-8"))
        except OSError as error:
            raise CalorError(f"{file}: cannot be written ({error.strerror or error}); choose another place") from None
        print(f"wrote {file}; next: calor run {file}")
        return PASS

    @app.command(help="Check a design; each problem in one line, exit 2 where there are any.")
    def check(file: Path = file_argument, as_json: bool = json_option) -> int:
        from calor.errors import DesignError

        try:
            design = open_design(file)
        except DesignError as error:
            if not as_json:
                raise
            problems = [{"where": p.where, "rule": p.rule, "received": p.received} for p in error.problems]
            print_json({"file": str(file), "valid": False, "problems": problems})
            return BAD_INPUT
        if as_json:
            print_json({"file": str(file), "valid": True, "problems": []})
        else:
            trials = f"{len(design.trial)} trial{'s' * (len(design.trial) != 1)}"
            print(f"{file}: {design.name}: {design.law.kind} law, {design.load.kind} load, {trials}; nothing wrong")
        return PASS

    @app.command(help="Simulate a trial and judge it: exit 0 pass, 1 fail, 2 bad input.")
    def run(
        file: Path = file_argument,
        trial: str = typer.Option(None, "--trial", metavar="NAME", help="Which trial; the first where left out."),
        csv: Path = typer.Option(None, "--csv", metavar="OUT", help="Write the run's columns."),
        seat: str = typer.Option(
            "python", "--with", metavar="NAME", help="Who decides: python, host, a chip, or FILE.c or FILE.py."
        ),
        allow_code: bool = typer.Option(
            False, "--allow-code", help="Allow the code that the design names, from now on."
        ),
        as_json: bool = json_option,
    ) -> int:
        from calor import loop
        from calor.firmware import consent
        from calor.firmware.seat import own_file, seated
        from calor.judge.verdict import report
        from calor.loop.simulate import steps_of

        design = open_design(file)
        try:
            chosen = design.find_trial(trial)
        except KeyError:
            names = ", ".join(repr(item.name) for item in design.trial)
            raise CalorError(
                f"{file}: --trial: there is no trial of that name (received {trial!r}); one of {names}"
            ) from None
        if allow_code and design.law.kind == "code":
            consent.allow(own_file(design.law))
        with seated(design, seat) as taken, _progress(steps_of(design, chosen)) as control:
            trace = loop.run(design, chosen, control, taken)
        data = report(design, chosen, trace) | ({"with": seat} if seat != "python" else {})
        if csv is not None:
            _write_csv(trace, csv)
        if as_json:
            print_json(data)
        else:
            from calor.judge.text import print_report

            print_report(data)
        return PASS if data["pass"] else FAIL

    @app.command(help="The probe: at temperatures or counts with its error budget; a table; a fit; two probes.")
    def probe(
        file: Path = typer.Argument(None, metavar="[FILE]", help="Design file (TOML)."),
        celsius: list[str] = typer.Option([], "--celsius", metavar="T…", help="Temperatures, °C."),
        counts: list[str] = typer.Option([], "--counts", metavar="N…", help="Codes of the converter."),
        table: float = typer.Option(None, "--table", metavar="°C", help="The smallest table within this error."),
        low: float = typer.Option(None, "--from", metavar="°C", help="Where the table begins."),
        high: float = typer.Option(None, "--to", metavar="°C", help="Where the table ends."),
        number: str = typer.Option("integer", "--number", metavar="KIND", help="Entries: integer or float."),
        fit: Path = typer.Option(None, "--fit", metavar="POINTS.csv", help="A thermistor's curve from points."),
        compare: Path = typer.Option(None, "--compare", metavar="LOG.csv", help="Two probes of one thing in a log."),
        calibrate: Path = typer.Option(None, "--calibrate", metavar="POINTS.csv", help="Take these points into FILE."),
        formula: bool = typer.Option(False, "--formula", help="The scaling as arithmetic."),
        out: Path = typer.Option(None, "--out", metavar="DIR", help="Write the scaling (or the table) as C99."),
        as_json: bool = json_option,
    ) -> int:
        from calor.cli.probe import command

        return command(file, celsius, counts, table, low, high, number, fit, compare, calibrate, formula, out, as_json)

    @app.command(help="A heater for a warm-up time, or the time for a heater: of a design, or of a mass.")
    def size(
        file: Path = typer.Argument(None, metavar="[FILE]", help="Design whose load is to be warmed."),
        watt: float = typer.Option(None, "--watt", help="Heater, W; of a design its own where left out."),
        time: float = typer.Option(None, "--time", metavar="S", help="Warm-up time, s."),
        mass: float = typer.Option(None, "--mass", metavar="KG", help="Mass, kg."),
        material: str = typer.Option("water", "--material", help="What it is of."),
        capacity: float = typer.Option(None, "--heat-capacity", metavar="J/K", help="In place of mass and material."),
        start: float = typer.Option(None, "--from", metavar="°C", help="Where it begins."),
        target: float = typer.Option(None, "--to", metavar="°C", help="Where it is to go."),
        ambient: float = typer.Option(
            None, "--ambient", metavar="°C", help="What it stands in; where it begins if left out."
        ),
        loss: float = typer.Option(None, "--loss", metavar="W/K", help="Heat lost for each degree above ambient."),
        wall: str = typer.Option(None, "--wall", help="In place of --loss: material, with --area and --thickness."),
        area: float = typer.Option(0.0, "--area", metavar="M2", help="Area of the wall, m²."),
        thickness: float = typer.Option(0.0, "--thickness", metavar="M", help="Thickness of the wall, m."),
        price: float = typer.Option(None, "--price-per-kwh", help="For the cost of holding."),
        as_json: bool = json_option,
    ) -> int:
        from calor.cli import size as sizes
        from calor.load.sizing import Warming, heat_capacity_j_per_k, wall_w_per_k

        if file is not None:
            warming, own_watt = sizes.of_design(file)
            watt = own_watt if watt is None and time is None else watt
        elif start is None or target is None or (mass is None and capacity is None):
            raise CalorError(
                "calor size: give a FILE, or --mass (or --heat-capacity), --from and --to; for example"
                " calor size --mass 6 --material water --from 20 --to 38 --watt 300"
            )
        else:
            warming = Warming(0.0, start, target, start, 0.0)
        if capacity is not None or mass is not None:
            own = capacity if capacity is not None else heat_capacity_j_per_k(material, float(mass))
            warming = warming._replace(heat_capacity_j_per_k=own)
        given = {"start_celsius": start, "target_celsius": target, "ambient_celsius": ambient}
        given["loss_w_per_k"] = wall_w_per_k(wall, area, thickness) if wall is not None else loss
        warming = warming._replace(**{key: value for key, value in given.items() if value is not None})
        data = sizes.report(warming, watt, time, price)
        if as_json:
            print_json(data)
        else:
            sizes.print_text(data)
        return PASS

    @app.command(help="The parts between the pin and the load, checked one by one; exit 1 where one does not hold.")
    def driver(file: Path = file_argument, as_json: bool = json_option) -> int:
        from calor.cli import driver as drivers

        data = drivers.report(open_design(file), str(file))
        if as_json:
            print_json(data)
        else:
            drivers.print_text(data)
        return PASS if data["holds"] else FAIL

    @app.command(help="PID gains from one way of writing them to the others.")
    def convert(
        gain: float = typer.Option(..., "--gain", "--kp", "--band", help="Gain per °C, Kp per °C, or band in °C."),
        ti: float = typer.Option(
            0.0, "--ti", "--ki", "--repeats", help="Integral time s, Ki per °C·s, or repeats/min; 0: none."
        ),
        td: float = typer.Option(0.0, "--td", "--kd", help="Derivative time s, or Kd in s per °C; 0: none."),
        source: str = typer.Option("standard", "--from", metavar="DIALECT", help="standard, parallel, series or band."),
        target: str = typer.Option("", "--to", metavar="DIALECT", help="Which to print; all where left out."),
        as_json: bool = json_option,
    ) -> int:
        from calor.cli.convert import print_gains
        from calor.law.dialect import every_dialect

        gains = every_dialect(source, gain, ti, td)
        if target and target not in gains:
            raise CalorError(f"calor convert: --to: must be one of {', '.join(gains)} (received {target!r})")
        if as_json:
            print_json(gains)
            return PASS
        if target and gains[target] is None:
            raise CalorError(
                "calor convert: --to series: not possible; the series form needs --ti of at least 4 times --td"
            )
        print_gains({target: gains[target]} if target else gains)
        return PASS

    @app.command(help="The law's decisions on a recorded run.")
    def replay(
        file: Path = file_argument,
        log: Path = typer.Argument(..., metavar="LOG.csv", help="Recorded run (CSV with a header)."),
        csv: Path = typer.Option(None, "--csv", metavar="OUT", help="Write the columns, recorded_output among them."),
        as_json: bool = json_option,
    ) -> int:
        from calor import loop
        from calor.judge.text import print_replay
        from calor.log.compare import compare
        from calor.log.read import read_with_layout

        design = open_design(file)
        recorded, layout = read_with_layout(log)
        trace = loop.replay(design, recorded)
        if csv is not None:
            _write_csv(trace, csv)
        data = compare(design, recorded, trace) | {"read_as": str(layout)}
        if as_json:
            print_json(data)
        else:
            print_replay(data)
        return PASS

    @app.command(help="Write the C99 sources of the thermostat, or check them on the host and on emulated chips.")
    def code(
        file: Path = file_argument,
        out: Path = typer.Option(None, "--out", metavar="DIR", help="Folder for the sources."),
        prefix: str = typer.Option("", "--prefix", metavar="NAME", help="What every name begins with."),
        fixed: bool = typer.Option(False, "--fixed", help="Q16.16 fixed point in place of float."),
        table: bool = typer.Option(False, "--table", help="Look the probe up in place of its formula."),
        check: bool = typer.Option(False, "--check", help="Build, run all trials' inputs, compare; exit 1 if not."),
        target: str = typer.Option("", "--target", metavar="NAME", help="With --check: only this chip, or host."),
        clock_hz: float = typer.Option(None, "--clock-hz", help="With --check: for the share of a control step."),
        as_json: bool = json_option,
    ) -> int:
        from calor.cli import code as codes

        if out is None and not check:
            raise CalorError("calor code: give --out DIR for the sources, or --check to build and compare them")
        data: dict[str, Any] = {}
        if out is not None:
            data |= codes.write(file, out, prefix, fixed, table)
        if check:
            data |= codes.check(file, target, clock_hz, fixed, table)
        if as_json:
            print_json(data)
        else:
            if out is not None:
                codes.print_stated(data)
            if check:
                codes.print_text(data)
        return PASS if data.get("pass", True) else FAIL

    @app.command(help="Completion of verbs and options for a shell, printed for a file it reads at its start.")
    def completion(shell: str = typer.Argument(..., metavar="SHELL", help="bash, zsh or fish.")) -> int:
        from typer.completion import get_completion_script  # type: ignore[attr-defined]

        if shell not in ("bash", "zsh", "fish"):
            raise CalorError(f"calor completion: SHELL must be one of bash, zsh, fish (received {shell!r})")
        print(get_completion_script(prog_name="calor", complete_var=COMPLETE, shell=shell))
        return PASS

    return app


def _progress(steps: int) -> Any:
    """A pair for loop.run; a long run at a terminal shows how far it is, and Ctrl+C stops it."""
    from calor.cli.progress import watched

    return watched(steps)
