"""The material with exact truth that lies beside this checkout, where it does: ../shared/bench."""

from __future__ import annotations

import sys
from pathlib import Path

# What a command ends with whose material is missing: it has measured nothing, and failed at nothing.
MISSING = 77
BENCH = Path(__file__).resolve().parents[2] / "shared" / "bench"
OPEN = BENCH / "beats" / "open"
STRETCH = BENCH / "stretch"
THERE = OPEN.is_dir()
WHY_NOT = "the shared excerpts are not beside this checkout"


def needed(path: Path) -> Path:
    """The same path, if it is there; else the program says so and ends with MISSING."""
    if not path.exists():
        print(f"{path} is not beside this checkout. Nothing was measured.", file=sys.stderr)
        raise SystemExit(MISSING)
    return path
