"""`calor run`: a trial simulated and judged."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import typer

from calor.cli.common import AS_JSON, DESIGN_FILE, chosen_trial, open_design, print_json, write_csv
from calor.cli.exit_codes import FAIL, PASS
from calor.cli.outputs import FORCE, is_nothing_of_ours, is_picture, is_run, may_write
from calor.errors import CalorError, unwritable

HELP = "Simulate a trial and judge it: exit 0 pass or nothing judged, 1 fail, 2 bad input."
PICTURES = (".svg", ".png")
OPTIONS = {"controller": "--with"}
"""What the core calls what is given, as options."""


def command(
    file: Path = DESIGN_FILE,
    trial: str = typer.Option(None, "--trial", metavar="NAME", help="Which trial; the first where left out."),
    csv: Path = typer.Option(None, "--csv", metavar="OUT", help="Write the run's columns."),
    plot: Path = typer.Option(None, "--plot", metavar="OUT.svg|png", help="Write a picture of the run."),
    seat: str = typer.Option(
        "python",
        "--with",
        metavar="NAME",
        help="Controller under test: python, host, a chip, FILE.c or FILE.py, or a serial port.",
    ),
    baud: int = typer.Option(115_200, "--baud", metavar="N", help="With a serial port: bits in a second."),
    allow_code: bool = typer.Option(False, "--allow-code", help="Allow the code that the design names, from now on."),
    keep_tuned: Path = typer.Option(
        None, "--keep-tuned", metavar="DESIGN", help="Write the design with the gains that self-tuning found."
    ),
    proof_run: int = typer.Option(
        None, "--proof-run", metavar="N", help="The run of calor prove with this number: its parts and its fault."
    ),
    seed: int = typer.Option(None, "--seed", metavar="S", help="With --proof-run: that of the proof."),
    force: bool = FORCE,
    as_json: bool = AS_JSON,
) -> int:
    from calor import loop
    from calor.board.in_loop import described, run_with_board
    from calor.cli.in_the_loop import is_port
    from calor.cli.progress import watched
    from calor.design.file import files_of
    from calor.firmware.controller import consent
    from calor.firmware.controller.own_source import is_own, read_source
    from calor.firmware.controller.seat import own_file, seated
    from calor.judge.verdict import report
    from calor.loop.simulate import steps_of

    if keep_tuned is not None and keep_tuned.suffix.lower() != ".toml":
        raise CalorError(
            "calor run: --keep-tuned", "writes a design, and takes the name of a .toml file", str(keep_tuned)
        )
    code = Path(seat) if is_own(seat) else None
    may_write("calor run: --csv", csv, (file, code), force, is_run)
    design = open_design(file)
    read_too = files_of(design)
    if plot is not None and plot.suffix.lower() not in PICTURES:
        raise CalorError("calor run: --plot", "writes a picture, SVG or PNG", str(plot), "let it end in .svg or .png")
    may_write("calor run: --plot", plot, (file, code, csv, *read_too), force, is_picture)
    may_write("calor run: --csv", csv, read_too, force, is_run)
    if seed is not None and (proof_run is None or not 0 <= seed < 2**31):
        raise CalorError("calor run: --seed", "goes with --proof-run, and is a whole number from 0", str(seed))
    if proof_run is not None and (trial is not None or keep_tuned is not None):
        raise CalorError("calor run: --proof-run", "goes without --trial and --keep-tuned: the number says it all")
    proof = None
    if proof_run is not None:
        from calor.cli.proof_run import ProofRun

        proof = ProofRun(design, file, proof_run, seed, seat)
    chosen = chosen_trial(design, file, trial) if proof is None else proof.trial
    law: Any = design.law
    if allow_code and law.kind == "code":
        consent.allow(read_source(own_file(law)))
    named = read_source(code) if code is not None else None  # whoever names a file has agreed to what it holds now
    in_the_loop: dict[str, Any] = {}
    with watched(steps_of(design, chosen)) as control:
        if proof is not None:
            trace = proof.run(seat, named, control)
        elif is_port(seat):
            trace, in_the_loop = run_with_board(design, chosen, seat, control, baud)
        else:
            with seated(design, seat, control=control, consented=named) as taken:
                trace = loop.run(design, chosen, control, taken)
    data = report(design, chosen, trace) | ({"with": seat} if seat != "python" else {})
    if proof is not None:
        data |= proof.data()
    data |= in_the_loop
    if named is not None or law.kind == "code":
        data |= protection_of(str(named.path if named is not None else law.file))
    if csv is not None:
        write_csv(trace, csv)
    if plot is not None:
        from calor.report.plot import write as write_plot

        write_plot(trace, design.limits.band_celsius, plot)
    if keep_tuned is not None and any(one["applied"] for one in data.get("tuning", [])):
        read_too += [code] if code is not None else []
        may_write(
            "calor run: --keep-tuned", keep_tuned, read_too if force else [file, *read_too], force, is_nothing_of_ours
        )
    if keep_tuned is not None:
        _keep(design, file, data.get("tuning", []), keep_tuned)
    if as_json:
        print_json(data)
    else:
        from calor.judge.text import print_report

        if proof is not None:
            from calor.proof.text import print_proof_run

            print_proof_run(data)
        print_report(data)
        if in_the_loop:
            print(f"board: {described(in_the_loop)}")
    return FAIL if data["pass"] is False else PASS


def protection_of(path: str) -> dict[str, Any]:
    """What contained the code that decided; where something was open to it, a line says so."""
    from calor.contained import protection

    found = protection.found()
    if not found.is_whole:
        print(f"calor: {path}: {found.words}", file=sys.stderr)
    return {"protection": found.name, "protection_text": found.words}


def _keep(design: Any, file: Path, tunings: list[dict[str, Any]], place: Path) -> None:
    """Write the design with the gains of the last self-tuning that found some. Raises CalorError where none did."""
    from calor.design.edit import with_block, with_values
    from calor.design.writing import write
    from calor.files import save_atomically

    found = [one for one in tunings if one["applied"]]
    if not found:
        said = tunings[-1]["text"] if tunings else "the trial has no event of kind tune"
        raise CalorError("calor run: --keep-tuned", "self-tuning found no gains", said)
    keys = ("gain_per_celsius", "integral_time_s", "derivative_time_s")
    law = with_values(design.law, {key: float(f"{found[-1][key]:.4g}") for key in keys})
    text = write(with_block(design, "law", law, 0), file.read_text(encoding="utf-8"), place.parent)
    try:
        save_atomically(place, text)
    except OSError as error:
        raise unwritable(CalorError, place, error) from None
