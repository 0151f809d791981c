"""A range of a file measured without a session: `combpace measure`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from combpace.batch.files import Progress, analyse_named, opened
from combpace.core.analysis.take import Analysis
from combpace.core.audio import Source
from combpace.core.tempo.measure import Measured, measure
from combpace.core.tempo.proposal import LIMIT_MS
from combpace.media.mapfiles import six
from combpace.session import words


def measured(source: Source, heard: Analysis, edges: tuple[float, float] | None, bars: int | None, limit_ms: float = LIMIT_MS) -> Measured:
    """Measure a range of an analysed take; edges None: the first frame to the last, as they stand. Raises ParameterError."""
    pace, whole = heard.pace, edges is None
    from_s, to_s = edges or (0.0, source.frames / source.sample_rate_hz)
    rough, beats_per_bar = None, 4
    if pace is not None:
        beats_per_bar = pace.meter_of(pace.bar_of(pace.place(from_s) + 0.25)).beats
        inside = pace.times_s[(pace.times_s > from_s - 0.1) & (pace.times_s < to_s + 0.1)]
        rough = float(60.0 / np.median(np.diff(inside))) if len(inside) > 2 else heard.steady.bpm if heard.steady else None
    return measure(
        source,
        heard.onsets,
        from_s,
        to_s,
        rough_bpm=rough,
        beats_per_bar=beats_per_bar,
        bars=bars,
        catch=not whole,
        limit_ms=limit_ms,
        beats_s=None if pace is None else pace.times_s,
    )


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
        "proposal": {"bpm": round(found.proposal.bpm, 4), "why": found.proposal.why, "end_offset_ms": _ms(found.proposal.end_offset_ms)},
        "candidates": [{"bpm": round(one.bpm, 4), "source": one.source, "end_offset_ms": _ms(one.end_offset_ms)} for one in found.proposal.offered],
        "sentence": measured_sentence(found),
    }


def measured_sentence(found: Measured) -> str:
    clean = "the seam is clean" if found.seam.clean else "the seam is rough: it will be heard where it loops"
    return (
        f"From {words.clock(found.from_s)} to {words.clock(found.to_s)} {'is' if found.bars == 1 else 'are'} {words.count(found.bars, 'bar')}: "
        f"{found.bpm:.4f} BPM ± {found.plus_minus_bpm:.4f}; {clean}. Use {round(found.proposal.bpm, 4):.8g}: {found.proposal.why}."
    )


def _ms(value: float | None) -> float | None:
    return None if value is None else round(value, 1)


def measure_file(path: Path, edges: tuple[float, float] | None, bars: int | None, limit_ms: float, on_progress: Progress) -> dict[str, Any]:
    """Decode, listen and measure."""
    with opened(path, on_progress) as (source, _):
        return measured_document(measured(source, analyse_named(source, path, on_progress), edges, bars, limit_ms))
