"""A measured range as it is written for scripts and said to people."""

from __future__ import annotations

from typing import Any

from combpace.core.tempo.measure import Measured
from combpace.media.mapfiles import six
from combpace.session import words

# A range that holds so much more or less than whole bars is said to.
ODD_BARS = 0.1


def measured_document(found: Measured) -> dict[str, Any]:
    """What `combpace measure --json` prints (docs/formats.md); `sentence` is the same for people."""
    return {
        "from_s": six(found.from_s),
        "to_s": six(found.to_s),
        "bars": found.bars,
        "beats_per_bar": found.beats_per_bar,
        "bpm": round(found.bpm, 4),
        "plus_minus_bpm": round(found.plus_minus_bpm, 4),
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
        "sentence": measured_sentence(found),
    }


def measured_sentence(found: Measured) -> str:
    clean = "the seam is clean" if found.seam.clean else "the seam is rough: it will be heard where it loops"
    odd = ""
    if found.heard_bars is not None and abs(found.heard_bars - found.bars) > ODD_BARS:
        odd = (
            f" By the tempo that was heard this is {found.heard_bars:.2f} bars: move an edge, or say "
            "how many bars it is."
        )
    return (
        f"From {words.clock(found.from_s)} to {words.clock(found.to_s)} "
        f"{'is' if found.bars == 1 else 'are'} {words.count(found.bars, 'bar')}: "
        f"{found.bpm:.4f} BPM ± {found.plus_minus_bpm:.4f}; {clean}. Use "
        f"{round(found.proposal.bpm, 4):.8g}: {found.proposal.why}.{odd}"
    )


def _ms(value: float | None) -> float | None:
    return None if value is None else round(value, 1)
