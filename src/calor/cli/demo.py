"""`calor demo`: the desk with the demo designs."""

from __future__ import annotations

from calor.cli.desk import open_desk

HELP = "Open the desk with the demo designs."


def command() -> int:
    return open_desk(["demo"])
