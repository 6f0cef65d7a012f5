"""The command line. Every verb that prints figures takes --json; errors are one line on standard error."""

from __future__ import annotations

import contextlib
import difflib
import gc
import os
import sys
from importlib import import_module
from pathlib import Path

from calor import __version__
from calor.cli.application import DESK_VERBS, SHORT_VERBS, VERBS, application
from calor.cli.exit_codes import BAD_INPUT, CLOSED, COMPLETE, PASS, STOPPED
from calor.cli.spreading import spread
from calor.cli.stopping import stoppable
from calor.errors import CalorError, ConsentError, as_seen


def main() -> None:
    """Entry point: `calor [FILE]` opens the desk, `calor VERB …` works without one."""
    # the matrices here are small: threads of the linear algebra only cost time at the start
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    arguments = sys.argv[1:]
    if COMPLETE in os.environ:
        application(completes=True)(prog_name="calor", complete_var=COMPLETE)
    if not arguments or (not arguments[0].startswith("-") and arguments[0] not in VERBS and is_file_name(arguments[0])):
        arguments = ["open", *arguments]
    if arguments[0] in SHORT_VERBS:
        # all that these make is in use to the end: looking for what is not takes a tenth of their time
        gc.disable()
    code = invoke(arguments) if arguments[0] in DESK_VERBS else stoppable(lambda: invoke(arguments))
    sys.exit(_flushed(code))


def is_file_name(word: str) -> bool:
    """Whether a word is meant as a file: one that is there, or that is written like one."""
    return Path(word).exists() or os.sep in word or "." in word


def is_verb(word: str) -> None:
    """Raises CalorError for a word that is neither a verb nor a file."""
    if word in VERBS:
        return
    near = difflib.get_close_matches(word, VERBS, 1)
    raise CalorError(
        "calor", "there is no such verb, and no such file", repr(word),
        f"did you mean {near[0]}?" if near else "calor help lists the verbs",
    )  # fmt: skip


def _flushed(code: int) -> int:
    """The exit code, when all that was printed has arrived; else that of a line that says so."""
    try:
        sys.stdout.flush()
    except OSError as error:
        code = _unprinted("calor", error)
    return code


def _unprinted(verb: str, error: OSError) -> int:
    """Say that standard output takes no more; one who reads no further wants to hear nothing of it."""
    # what is still to be flushed goes nowhere, and complains no more
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    if isinstance(error, BrokenPipeError):
        return CLOSED
    print(f"{verb}: standard output: cannot be written ({error.strerror or error}); make room for it", file=sys.stderr)
    return BAD_INPUT


def worded(error: CalorError, verb: str) -> str:
    """An error in the words of the command line: what was given is called by its option."""
    if isinstance(error, ConsentError):
        return f"{error}: calor run --allow-code"
    if verb in VERBS:
        options: dict[str, str] = getattr(import_module(f"calor.cli.{verb.replace('-', '_')}"), "OPTIONS", {})
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
        if not arguments[0].startswith("-"):
            is_verb(arguments[0])
        if arguments[0] in DESK_VERBS and not {"--help", "-h"} & set(arguments):
            from calor.cli.desk import open_desk

            return open_desk(arguments, invoke)
        verbs = (arguments[0],) if arguments[0] in VERBS else VERBS
        result = application(verbs)(args=spread(arguments), standalone_mode=False)
        return int(result or PASS)
    except CalorError as error:
        print(as_seen(worded(error, arguments[0])), file=sys.stderr)
    except KeyboardInterrupt:
        print("calor: stopped", file=sys.stderr)
        return STOPPED
    except SystemExit:  # the command-line library's, where nobody reads on
        return _unprinted("calor", BrokenPipeError())
    except OSError as error:
        if error.filename is None:
            return _unprinted(f"calor {arguments[0]}", error)
        print(as_seen(f"{error.filename}: {error.strerror or error}; choose another file"), file=sys.stderr)
    except Exception as error:
        # the command-line library's own exceptions are told apart by their name and by what they carry
        if type(error).__name__ in ("Abort", "Stopped"):
            print("calor: stopped", file=sys.stderr)
            return STOPPED
        message = getattr(error, "format_message", None)
        if message is None:
            if os.environ.get("CALOR_DEBUG"):
                raise
            from calor.mistakes import in_words

            print(f"calor {arguments[0]}: {in_words(error)}", file=sys.stderr)
            return BAD_INPUT
        print(f"calor {arguments[0]}: {message()} See calor {arguments[0]} --help.", file=sys.stderr)
    return BAD_INPUT
