"""The command line. Every verb that prints figures takes --json; errors are one line on standard error."""

from __future__ import annotations

import os
import sys
from importlib import import_module

from calor import __version__
from calor.cli.application import DESK_VERBS, VERBS, application
from calor.cli.exit_codes import BAD_INPUT, COMPLETE, PASS
from calor.cli.spreading import spread
from calor.errors import CalorError, ConsentError, as_seen


def main() -> None:
    """Entry point: `calor [FILE]` opens the desk, `calor VERB …` works without one."""
    # the matrices here are small: threads of the linear algebra only cost time at the start
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    arguments = sys.argv[1:]
    if COMPLETE in os.environ:
        application(completes=True)(prog_name="calor", complete_var=COMPLETE)
    if not arguments or (arguments[0] not in VERBS and not arguments[0].startswith("-")):
        arguments = ["open", *arguments]
    sys.exit(invoke(arguments))


def worded(error: CalorError, verb: str) -> str:
    """An error in the words of the command line: what was given is called by its option."""
    if isinstance(error, ConsentError):
        return f"{error}: calor run --allow-code"
    if verb in VERBS:
        options: dict[str, str] = getattr(import_module(f"calor.cli.{verb}"), "OPTIONS", {})
        name = next((name for name in options if error.where == name or error.where.startswith(f"{name} ")), "")
        if name:
            return f"calor {verb}: {options[name]}{error.where[len(name) :]}: {error.said}"
    return str(error)


def invoke(arguments: list[str]) -> int:
    """Run one command line; its exit code. Errors are printed, never raised."""
    if arguments == ["--version"]:
        print(f"calor {__version__}")
        return PASS
    try:
        if arguments[0] in DESK_VERBS and "--help" not in arguments:
            from calor.cli.desk import open_desk

            return open_desk(arguments, invoke)
        verbs = (arguments[0],) if arguments[0] in VERBS else VERBS
        result = application(verbs)(args=spread(arguments), standalone_mode=False)
        return int(result or PASS)
    except CalorError as error:
        print(as_seen(worded(error, arguments[0])), file=sys.stderr)
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
