"""Tempo maps and analyses as JSON and CSV. The fields are a contract (docs/formats.md): added to, never
changed.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping, Sequence
from math import isfinite
from pathlib import Path
from typing import Any

import numpy as np
from scipy.ndimage import median_filter

from combpace import __version__
from combpace.core.analysis.readings import Reading
from combpace.core.analysis.steady_tempo import SteadyTempo
from combpace.core.analysis.take import Analysis
from combpace.core.clocks import ClockT, SessionTimes, TakeTimes
from combpace.core.errors import CombPaceError, MediaError
from combpace.core.onsets.detect import ANALYSIS_VERSION
from combpace.core.tempo.drift import bars_between
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter, bar_index, bar_number, parse_meter
from combpace.media.writing import put_text

FORMAT_VERSION = 1
# What piles up is audible from here on (common practice).
AUDIBLE_S = 0.010


def six(value: float) -> float:
    """Seconds to the microsecond."""
    return round(float(value), 6) + 0.0


def _reading_document(one: Reading) -> dict[str, Any]:
    return {
        "rank": one.rank,
        "bpm": round(one.bpm, 4),
        "meter": one.meter,
        "probability": round(one.probability, 4),
        "beats": [six(time) for time in one.pace.times_s],
        "downbeats": [six(time) for time in one.downbeats()],
    }


def analysis_document(
    analysis: Analysis,
    file: str,
    duration_s: float,
    sample_rate_hz: int,
    counted: Sequence[Reading] = (),
    stated: Mapping[str, Any] | None = None,
) -> dict[str, Any]:
    """What `combpace analyse --json` prints; seconds of decoded take time. `counted`: all readings; `stated`:
    what the file says of itself.
    """
    onsets = analysis.onsets
    document: dict[str, Any] = {
        "version": FORMAT_VERSION,
        "analysis_version": ANALYSIS_VERSION,
        "program": f"combpace {__version__}",
        "file": file,
        "duration_s": six(duration_s),
        "sample_rate_hz": sample_rate_hz,
        "bpm": None,
        "beat_unit": None,
        "tempo_confidence": None,
        "steady": None,
        "meters": [],
        "beats": [],
        "downbeats": [],
        "bars": [],
        "knots": [],
        "stated_bpm": None,
        "encoder_delay_s": None,
        "encoder_delay_from": None,
        **(stated or {}),
        "audible_from_bar": None,
        "readings": [_reading_document(one) for one in counted],
        "onsets": [
            {"time_s": six(time), "strength": round(float(strength), 4), "confidence": round(float(sure), 4)}
            for time, strength, sure in zip(onsets.times, onsets.strength, onsets.confidence, strict=True)
        ],
    }
    if analysis.pace is not None:
        # Beats are what was played: none before the first of them, none after the last.
        pace, played = analysis.pace, analysis.beats.times
        ends = (
            (float(played[0]), float(played[-1]))
            if pace.is_steady
            else (float(pace.times_s[0]), float(pace.times_s[-1]))
        )
        document |= map_document(
            pace, max(0.0, ends[0] - 0.02), min(duration_s, ends[1] + 0.02), onsets.times
        )
        document["tempo_confidence"] = round(float(analysis.beats.counted), 4)
    if analysis.steady is not None:
        document["steady"] = steady_document(analysis.steady)
        document["bpm"] = round(analysis.steady.bpm, 4)
        document["audible_from_bar"] = audible_from_bar(analysis)
        if document["readings"]:
            # The first is what all the rest says.
            document["readings"][0]["bpm"] = document["bpm"]
    return document


def audible_from_bar(analysis: Analysis) -> int | None:
    """The first bar in which the playing has left the one tempo of `steady` by more than AUDIBLE_S; None
    where it never does.

    Judged on the median of nine beats, so that single late strokes are no drift.
    """
    steady, pace = analysis.steady, analysis.pace
    if steady is None or pace is None:
        return None
    late = (
        pace.times_s
        - steady.first_downbeat_s
        - 60.0 / steady.bpm * pace.quarters / pace.meters[0].beat_quarters
    )
    course = median_filter(late, size=9, mode="nearest")
    off = np.abs(course) > AUDIBLE_S
    return bar_number(pace.bar_of(float(pace.quarters[int(np.argmax(off))]) + 1e-6)) if off.any() else None


def steady_document(steady: SteadyTempo) -> dict[str, Any]:
    return {
        "bpm": round(steady.bpm, 4),
        "plus_minus_bpm": round(steady.plus_minus_bpm, 4),
        "first_downbeat_s": six(steady.first_downbeat_s),
        "drift_end_ms": round(steady.drift_end_ms, 1),
        "scatter_ms": round(steady.scatter_ms, 2),
        "verdict": steady.verdict,
        "played": steady.played,
        "candidates": [
            {"bpm": round(c.bpm, 4), "relation": c.relation, "evidence": round(c.evidence, 4)}
            for c in steady.candidates
        ],
    }


def map_document(
    tempo_map: TempoMap[ClockT], start_s: float, end_s: float, attacks: ClockT
) -> dict[str, Any]:
    """The parts of a document that describe a map between two moments."""
    beats, downbeats = beats_between(tempo_map, start_s, end_s)
    lines = bars_between(tempo_map, start_s, end_s, attacks)
    sure = _confidences(tempo_map)
    span = np.median([line.bpm for line in lines]) if lines else tempo_map.bpm_at(0.0)
    first = tempo_map.meters[0]
    return {
        "bpm": round(float(span) / first.beat_quarters, 4),
        "beat_unit": first.beat_unit,
        "meters": [
            {
                "bar": meter.bar,
                "start_s": six(tempo_map.second(tempo_map.bar_line(bar_index(meter.bar)))),
                "meter": str(meter),
                "confidence": _of_meter(
                    tempo_map, number, [sure(line.start_s) for line in lines], [line.index for line in lines]
                ),
            }
            for number, meter in enumerate(tempo_map.meters)
        ],
        "beats": [six(time) for time in beats],
        "downbeats": [six(time) for time in downbeats],
        "bars": [
            {
                "bar": bar_number(line.index),
                "start_s": six(line.start_s),
                "bpm": round(line.bpm, 4),
                "meter": str(tempo_map.meter_of(line.index)),
                "confidence": round(sure(line.start_s), 4),
                "drift_ms": None if line.drift_ms is None else round(line.drift_ms, 1),
            }
            for line in lines
        ],
        "knots": [
            {
                "time_s": float(knot.time_s),
                "quarters": float(knot.quarters),
                "fixed": knot.fixed,
                "confidence": round(knot.confidence, 4),
                **({"locked": True} if knot.locked else {}),
                **({"ramp": float(knot.ramp)} if knot.ramp != 1.0 else {}),
            }
            for knot in tempo_map.knots
        ],
    }


def _of_meter(tempo_map: TempoMap[ClockT], number: int, sure: list[float], bars: list[int]) -> float | None:
    """How sure the bars in one meter are on the mean, each with its line and its meter; None where it has no
    bar.
    """
    first = bar_index(tempo_map.meters[number].bar)
    last = bar_index(tempo_map.meters[number + 1].bar) if number + 1 < len(tempo_map.meters) else np.inf
    inside = [
        value for value, bar in zip(sure, bars, strict=True) if (number == 0 or bar >= first) and bar < last
    ]
    return round(float(np.mean(inside)), 4) if inside else None


def _confidences(tempo_map: TempoMap[ClockT]) -> Any:
    times, values = tempo_map.times_s, np.array([knot.confidence for knot in tempo_map.knots])
    return lambda time: float(np.interp(time, times, values))


def beats_between(
    tempo_map: TempoMap[ClockT], start_s: float, end_s: float
) -> tuple[list[float], list[float]]:
    """(times of all counted beats, of those that open a bar) within [start_s, end_s)."""
    beats: list[float] = []
    downbeats: list[float] = []
    index = tempo_map.bar_of(tempo_map.place(start_s))
    while True:
        line, meter = tempo_map.bar_line(index), tempo_map.meter_of(index)
        if tempo_map.second(line) >= end_s:
            return beats, downbeats
        for beat in range(meter.beats):
            time = tempo_map.second(line + beat * meter.beat_quarters)
            if start_s - 1e-7 <= time < end_s:
                beats.append(time)
                if beat == 0:
                    downbeats.append(time)
        index += 1


def write_json(document: dict[str, Any], path: Path) -> None:
    put_text(path, json.dumps(document, indent=1) + "\n")


def write_bars_csv(document: dict[str, Any], path: Path) -> None:
    """`bars_csv` as a file."""
    put_text(path, bars_csv(document))


def bars_csv(document: dict[str, Any]) -> str:
    """bar,start_s,bpm,meter,confidence,drift_ms: a line a bar, with a header."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["bar", "start_s", "bpm", "meter", "confidence", "drift_ms"])
    for bar in document["bars"]:
        drift = bar.get("drift_ms")
        writer.writerow(
            [
                bar["bar"],
                f"{bar['start_s']:.6f}",
                f"{bar['bpm']:.4f}",
                bar["meter"],
                f"{bar['confidence']:.4f}",
                "" if drift is None else f"{drift:.1f}",
            ]
        )
    return out.getvalue()


def read_json_map(path: Path) -> TempoMap[SessionTimes]:
    """Read a map out of what `analyse --json` or the hand-off wrote.

    Raises MediaError, in a sentence, for anything else.
    """
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
        meters = tuple(
            parse_meter(str(entry["meter"]), int(entry["bar"])) for entry in document["meters"]
        ) or (Meter(1, 4, 4),)
        return TempoMap(_knots(document, meters), meters)
    except CombPaceError as error:
        raise MediaError(f"“{path.name}” holds no usable tempo map: {error}") from error
    except (OSError, ValueError, KeyError, TypeError, UnicodeDecodeError) as error:
        raise MediaError(f"“{path.name}” is not a tempo map as “analyse --json” writes it.") from error


def read_json_ends(path: Path) -> float | None:
    """Where what a map's JSON describes ends: its duration, else the end of its last bar; None where it says
    neither.
    """
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
        if document.get("duration_s"):
            return float(document["duration_s"])
        last = document["bars"][-1]
        meter = parse_meter(str(last.get("meter", "4/4")))
        return float(last["start_s"]) + 60.0 * meter.bar_quarters / float(last["bpm"])
    except (OSError, ValueError, KeyError, TypeError, IndexError, CombPaceError):
        return None


def read_json_start(path: Path) -> tuple[str, float] | None:
    """(name of the session that handed a map off, the moment of it at which its files began); None where the
    file does not say so.
    """
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
        name, start_s = str(document["session"]), float(document["start_session_s"])
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return (name, start_s) if isfinite(start_s) else None


def _knots(document: dict[str, Any], meters: tuple[Meter, ...]) -> tuple[Knot, ...]:
    if len(document.get("knots") or ()) >= 2:
        return tuple(
            Knot(
                float(k["time_s"]),
                float(k["quarters"]),
                bool(k.get("fixed", False)),
                bool(k.get("locked", False)),
                float(k.get("confidence", 1.0)),
                float(k.get("ramp", 1.0)),
            )
            for k in document["knots"]
        )
    frame: TempoMap[TakeTimes] = TempoMap((Knot(0.0, 0.0), Knot(1.0, 2.0)), meters)
    bars = [(float(bar["start_s"]), frame.bar_line(bar_index(int(bar["bar"])))) for bar in document["bars"]]
    if len(bars) == 1:
        bars.append((bars[0][0] + 240.0 / float(document["bars"][0]["bpm"]), bars[0][1] + 4.0))
    return tuple(Knot(time, place) for time, place in bars)
