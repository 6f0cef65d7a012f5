"""`calor demo`: the desk with the demo designs."""

from __future__ import annotations

HELP = "Open the desk with the demo designs."


def command() -> int:
    raise NotImplementedError("the desk is opened before the command line is read; this is its help")
