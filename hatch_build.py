"""Build hook of the wheel: the loop, compiled for this kind of machine, goes into it.

With the packaged compiler it is made for every Linux with glibc from 2.17 on, else by the machine's own for this one.
Where neither is there, or what the steps need is not installed, the wheel has no loop in it and is one for any
machine: the loop is compiled at its first use.
"""

from __future__ import annotations

import os
import platform
import sys
import tempfile
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

OLDEST_GLIBC = "2.17"


class LoopBuildHook(BuildHookInterface):  # type: ignore[type-arg]
    """Adds the compiled loop to a wheel."""

    PLUGIN_NAME = "custom"

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Compile, and take what was made into the wheel. An editable install has its loop from the set-up."""
        if version == "editable" or os.environ.get("CALOR_PURE_WHEEL"):
            return
        sys.path.insert(0, str(Path(self.root) / "src"))
        try:
            from calor.compiled import build
            from calor.compiled.compiler import compilers
        except ImportError as error:
            self.app.display_warning(f"the wheel has no compiled loop in it: {error}")
            return
        finally:
            sys.path.pop(0)
        machine, tag, chosen = platform.machine(), "", None
        for compiler in compilers():
            if "ziglang" in compiler.command:
                target = ("-target", f"{machine}-linux-gnu.{OLDEST_GLIBC}")
                chosen = compiler._replace(command=(*compiler.command, *target))
                tag = f"py3-none-manylinux_{OLDEST_GLIBC.replace('.', '_')}_{machine}"
            elif chosen is None:
                chosen, tag = compiler, f"py3-none-linux_{machine}"
        if chosen is None:
            self.app.display_warning("the wheel has no compiled loop in it: there is no C compiler")
            return
        self._folder = tempfile.TemporaryDirectory()
        folder = Path(self._folder.name)
        built = build.build(folder, build.sources_key(), chosen)
        for file in (built.path, *folder.glob("*.json")):
            build_data["force_include"][str(file)] = f"calor/compiled/shipped/{file.name}"
        build_data["pure_python"] = False
        build_data["tag"] = tag

    def finalize(self, version: str, build_data: dict[str, Any], artifact_path: str) -> None:
        """Remove what was made for the wheel."""
        del version, build_data, artifact_path
        if hasattr(self, "_folder"):
            self._folder.cleanup()
