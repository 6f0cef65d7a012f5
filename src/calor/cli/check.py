"""`calor check`: each problem of a design in one line."""

from __future__ import annotations

from pathlib import Path

from calor.cli.common import AS_JSON, DESIGN_FILE, open_design, print_json
from calor.cli.exit_codes import BAD_INPUT, PASS
from calor.errors import DesignError, as_seen

HELP = "Check a design; each problem in one line, exit 2 where there are any."


def command(file: Path = DESIGN_FILE, as_json: bool = AS_JSON) -> int:
    try:
        design = open_design(file)
    except DesignError as error:
        if not as_json:
            raise
        problems = [{"where": p.where, "rule": p.rule, "received": p.received} for p in error.problems]
        print_json({"file": str(file), "valid": False, "problems": problems})
        return BAD_INPUT
    from calor.design.cautions import cautions
    from calor.firmware.check.resolution import resolution_warning

    warnings = [*cautions(design), *filter(None, (resolution_warning(design),))]
    if as_json:
        print_json({"file": str(file), "valid": True, "problems": [], "warnings": warnings})
    else:
        trials = f"{len(design.trial)} trial{'s' * (len(design.trial) != 1)}"
        print(
            f"{file}: {as_seen(design.name)}: {design.law.kind} law, {design.load.kind} load, {trials}; nothing wrong"
        )
        for warning in warnings:
            print(f"{file}: note: {as_seen(warning)}")
    return PASS
