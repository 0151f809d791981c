"""The shared excerpts with exact truth, where this checkout has them beside it."""

from __future__ import annotations

from pathlib import Path

OPEN = Path(__file__).resolve().parents[2].parent / "shared" / "bench" / "beats" / "open"
THERE = OPEN.is_dir()
WHY_NOT = "the shared excerpts are not beside this checkout"
