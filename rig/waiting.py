"""Waiting for what must come: an event, with a limit that only a hang reaches on the slowest machine."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

# Nothing that is not stuck takes so long, also where eight others share a processor.
HANG_S = 300.0
HANG_MS = 1000 * HANG_S
LOOK_S = 0.02

Found = TypeVar("Found")


def until(look: Callable[[], Found], what: str = "") -> Found:
    """Ask until the answer is true; it is returned. Raises AssertionError where it never becomes so."""
    end = time.monotonic() + HANG_S
    while not (found := look()):
        if time.monotonic() > end:
            raise AssertionError(f"after {HANG_S:.0f} s still not: {what or look}")
        time.sleep(LOOK_S)
    return found
