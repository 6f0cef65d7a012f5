"""Build the compiled loop ahead of its first use: `python -m calor.compiled`."""

from __future__ import annotations

import sys

from calor.compiled.library import listen, prepare


def main() -> int:
    """Prepare the loop and say what came of it; 0 also where it has to run uncompiled."""
    listen(lambda line: print(f"calor: {line}", file=sys.stderr))
    kernel = prepare()
    if kernel.how != "kept":
        print(f"calor: the loop is {kernel.how} ({kernel.took_s:.1f} s)", file=sys.stderr)
    return 0


if __name__ == "__main__":
    sys.exit(main())
