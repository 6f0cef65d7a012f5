"""pydantic without a search for plugins, of which Calor has none.

Where plugins are switched off, pydantic still imports what it would look for them with: some thirty modules of the
standard library, a twentieth of a short command.
"""

from __future__ import annotations

import importlib
import os
import sys
from types import ModuleType
from typing import Any

LOADER = "pydantic.plugin._loader"


class _NoPlugins(ModuleType):
    """Stands for pydantic's own module until more is asked of it than which plugins there are."""

    @staticmethod
    def get_plugins() -> tuple[()]:
        """None."""
        return ()

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):  # what the import system looks for, and does without
            raise AttributeError(name)
        if sys.modules.get(LOADER) is self:
            del sys.modules[LOADER]
        return getattr(importlib.import_module(LOADER), name)


def unplug() -> None:
    """Have pydantic look for no plugins, unless the environment says which are wanted."""
    if os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "1") == "1":
        sys.modules.setdefault(LOADER, _NoPlugins(LOADER))
