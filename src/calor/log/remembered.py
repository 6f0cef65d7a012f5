"""Corrections of how a log was understood, remembered for files with the same columns."""

from __future__ import annotations

import contextlib
import json
from dataclasses import fields
from pathlib import Path
from typing import Any

import platformdirs

from calor.errors import CalorError, unwritable
from calor.files import save_atomically
from calor.log.recognise import TIME_UNITS, Corrections
from calor.log.text import Table
from calor.units import TEMPERATURE_UNITS

MOST_KEPT = 200


def store() -> Path:
    """The file they are kept in."""
    return Path(platformdirs.user_config_dir("calor")) / "log_columns.json"


def key_of(table: Table) -> str:
    """What makes two files alike: how they are written and the names of their columns."""
    return json.dumps([table.form, table.separator, table.has_header, *table.headers], ensure_ascii=False)


def remembered(table: Table) -> Corrections:
    """What was set right in a file with the same columns; nothing where the store is damaged or there is none."""
    entry = _all().get(key_of(table), {})
    known = {item.name for item in fields(Corrections)}
    values = {name: value for name, value in entry.items() if name in known} if isinstance(entry, dict) else {}
    numbers, words = ("output_scale", "every_s"), known - {"output_scale", "every_s"}
    sound: dict[str, Any] = {n: value for n, value in values.items() if isinstance(value, str) and n in words}
    sound |= {n: value for n, value in values.items() if n in numbers and isinstance(value, float | int) and value > 0}
    if sound.get("unit") not in (None, *TEMPERATURE_UNITS) or sound.get("time_unit") not in (None, *TIME_UNITS):
        return Corrections()
    return Corrections(**sound)


def remember(table: Table, corrections: Corrections) -> None:
    """Keep corrections for files with the same columns; none takes away what was kept. Raises CalorError."""
    entries = _all()
    key = key_of(table)
    entries.pop(key, None)
    if corrections.given:
        entries[key] = corrections.given
    while len(entries) > MOST_KEPT:
        del entries[next(iter(entries))]
    try:
        store().parent.mkdir(parents=True, exist_ok=True)
        save_atomically(store(), json.dumps(entries, indent=1, ensure_ascii=False))
    except OSError as error:
        raise unwritable(CalorError, store(), error) from None


def _all() -> dict[str, Any]:
    with contextlib.suppress(OSError, ValueError):
        entries = json.loads(store().read_text(encoding="utf-8"))
        return entries if isinstance(entries, dict) else {}
    return {}
