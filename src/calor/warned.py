"""Warnings of libraries, let by, raised or caught by one thread at a time: Python keeps one setting for all threads."""

from __future__ import annotations

import threading
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Literal

_LOCK = threading.RLock()


@contextmanager
def warnings_as(
    action: Literal["ignore", "error", "always"], category: type[Warning] = Warning
) -> Iterator[list[warnings.WarningMessage]]:
    """Inside, warnings of a category are ignored, raised, or kept in the list that is given."""
    with _LOCK, warnings.catch_warnings(record=action == "always") as caught:
        warnings.simplefilter(action, category)
        yield caught or []
