"""A measured range as it is written for scripts and said to people."""

from __future__ import annotations

from typing import Any

from combpace.core.tempo.measure import Measured
from combpace.media.mapfiles import six
from combpace.session import words


def measured_document(found: Measured, offset_s: float = 0.0) -> dict[str, Any]:
    """What `combpace measure --json` prints (docs/formats.md); `sentence` is the same for people. All times
    are so much later than those of the take.
    """
    return {
        "from_s": six(found.from_s + offset_s),
        "to_s": six(found.to_s + offset_s),
        "bars": found.bars,
        "beats_per_bar": found.beats_per_bar,
        "bpm": round(found.bpm, 4),
        "plus_minus_bpm": round(found.plus_minus_bpm, 4),
        "whole": found.whole,
        "heard_bars": None if found.heard_bars is None else round(found.heard_bars, 4),
        "heard_bpm": None if found.heard_bpm is None else round(found.heard_bpm, 4),
        "next_s": None if found.next_s is None else six(found.next_s + offset_s),
        "seam": {"clean": found.seam.clean, "score": round(found.seam.score, 4)},
        "proposal": {
            "bpm": round(found.proposal.bpm, 4),
            "why": found.proposal.why,
            "end_offset_ms": _ms(found.proposal.end_offset_ms),
        },
        "candidates": [
            {"bpm": round(one.bpm, 4), "source": one.source, "end_offset_ms": _ms(one.end_offset_ms)}
            for one in found.proposal.offered
        ],
        "sentence": measured_sentence(found, offset_s),
    }


def measured_sentence(found: Measured, offset_s: float = 0.0) -> str:
    clean = "the seam is clean" if found.seam.clean else "the seam is rough: it will be heard where it loops"
    start, end = words.clock(found.from_s + offset_s), words.clock(found.to_s + offset_s)
    if not found.whole and found.heard_bars is not None and found.heard_bpm is not None:
        line = "" if found.next_s is None else f", {words.clock(found.next_s + offset_s)},"
        return (
            f"{_short(found.heard_bars)} bars of {_short(found.heard_bpm)}: from {start} to {end} is no "
            f"whole number of bars; {clean}. Move the end to the next bar line{line} or say how many bars it "
            f"is. Taken as {words.count(found.bars, 'bar')} it would be {found.bpm:.4f} BPM."
        )
    return (
        f"From {start} to {end} {'is' if found.bars == 1 else 'are'} {words.count(found.bars, 'bar')}: "
        f"{found.bpm:.4f} BPM ± {found.plus_minus_bpm:.4f}; {clean}. Use "
        f"{round(found.proposal.bpm, 4):.8g}: {found.proposal.why}."
    )


def _short(value: float) -> str:
    """At most two decimals, none that say nothing."""
    return f"{value:.2f}".rstrip("0").rstrip(".")


def _ms(value: float | None) -> float | None:
    return None if value is None else round(value, 1)
