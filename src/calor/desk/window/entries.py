"""Everything Ctrl+K finds: commands, trials, benches, kinds, settings, units, designs."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from calor.demo import DEMOS
from calor.design.model import BLOCK_KINDS
from calor.design.model import BLOCKS as ORDER
from calor.desk.bench.sections import Setting, every_setting
from calor.desk.room import Entry
from calor.desk.widgets.words import BLOCKS
from calor.settings import kind_word
from calor.units import TEMPERATURE_UNITS

if TYPE_CHECKING:
    from calor.desk.window.window import Window


def entries_of(window: Window) -> list[Entry]:
    """All of it, as the window is now."""
    desk, files = window.desk, window.files
    document, view = desk.document, desk.view
    entries = [
        Entry(command.name, f"command {command.keys}".strip(), command.act)
        for command in window.commands.all
        if command.name != "Find" and command.allowed()
    ]
    elsewhere: list[Entry] = []
    for number, trial in enumerate(document.design.trial):
        entries.append(Entry(trial.name, "trial", partial(document.choose_trial, number)))
    for block in ORDER:
        entries.append(Entry(BLOCKS[block], "bench", partial(window.go_to, block)))
        if len(BLOCK_KINDS[block]) > 1:
            entries += [
                Entry(kind_word(model), f"kind of {BLOCKS[block].lower()}", partial(choose_kind, window, block, kind))
                for kind, model in BLOCK_KINDS[block].items()
            ]
        present, others = _settings(window, block)
        entries += present
        elsewhere += others
    # what the design has comes before what other kinds of its blocks would have
    entries += elsewhere
    for unit in TEMPERATURE_UNITS:
        entries.append(Entry(f"Show {unit}", "unit", partial(view.set_unit, unit)))
    for room in window.rooms:
        entries += room.entries()
    for path in desk.remembered.recent():
        entries.append(Entry(path.name, "recent design", partial(files.open, path)))
    for number, demo in enumerate(DEMOS):
        entries.append(Entry(demo.title, "demo design", partial(files.open_demo, number)))
    return entries


def choose_kind(window: Window, block: str, kind: str) -> None:
    """Open a block's bench and choose another kind there."""
    window.desk.view.choose_bench(block)
    window.bench.choose_kind(block, kind)


def _settings(window: Window, block: str) -> tuple[list[Entry], list[Entry]]:
    """(settings of the block as it is, those of the kinds it might have, which are chosen on the way)."""
    view = window.desk.view
    now = getattr(window.desk.document.design, block).kind
    present, others = [], []
    for setting in every_setting(window.desk.document.design, block):
        where = BLOCKS[block].lower() if setting.part != "limits" else "limits"
        if setting.kind in ("", now):
            present.append(Entry(
                setting.title, f"setting of {where}",
                partial(view.choose_bench, block, f"{setting.part}.{setting.key}"),
            ))  # fmt: skip
            continue
        lead = partial(_lead_to, window, block, setting)
        others.append(
            Entry(setting.title, f"of the {kind_word(BLOCK_KINDS[block][setting.kind]).lower()} {block}", lead)
        )
    return present, others


def _lead_to(window: Window, block: str, setting: Setting) -> None:
    choose_kind(window, block, setting.kind)
    window.desk.view.choose_bench(block, f"{setting.part}.{setting.key}")
