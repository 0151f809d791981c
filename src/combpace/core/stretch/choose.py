"""Which method suits a sound: by what the take is said to be, else by what is heard between its attacks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from combpace.core.audio import Source
from combpace.core.clocks import IntArray
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch.pitch import periods

# What still sounds right before the next attack, against the attack itself.
DIED_AWAY_DB = -26.0
# One voice is that much like itself a period later, and this much of its power stands in peaks.
ONE_VOICE, ONE_VOICE_TONAL, LOW_PARTIAL = 0.9, 0.8, 3.5
# Share of the power in spectral peaks from which on there are notes rather than hits.
NOTES = 0.55
# Outside of this a stretch is heard as one, whatever the method.
GOOD_FACTORS = (0.8, 1.25)
MOST_PLACES = 32
# Shorter spans are not heard as stretched.
SHORTEST_S = 0.03
# What sounds before an attack is measured over this long, and ends so long before it.
BEFORE_S, EARLY_S = 0.012, 0.003
# From when to when after an attack a voice is asked for its period.
VOICED_S = (0.03, 0.16)
# Partials are looked for in a window of this length that begins so long after an attack, between these; each
# bin beside so many on either side.
WINDOW_S, SETTLED_S, PARTIALS_HZ, ABOUT = 0.0929, 0.023, (100, 5000), 24


@dataclass(frozen=True, slots=True)
class Choice:
    """A method and, in one sentence, why."""

    method: str
    reason: str


def choose_method(source: Source, time_map: TimeMap, kind: str = "unknown") -> Choice:
    """Propose a method.

    kind  what the take is: "drums", "single line", "voice", "chords", "full mix"; anything else is judged by
          ear
    """
    if kind == "single line":
        return Choice("line", "It is a single line, so it is stretched by its periods (Line).")
    if kind == "voice":
        return Choice("line", "It is a voice, so it is stretched by its periods (Line).")
    if kind in ("chords", "full mix"):
        return Choice(
            "chord",
            f"It {'plays chords' if kind == 'chords' else 'is a full mix'}, so many notes are stretched "
            "at once (Chord).",
        )
    frames = np.round(time_map.source_s[1:-1] * source.sample_rate_hz).astype(np.int64)
    frames = frames[:: max(1, -(-len(frames) // MOST_PLACES))]
    if not len(frames):
        return Choice("chord", "No attacks are pulled, so the sound is stretched as a whole (Chord).")
    level = _before(source, frames)
    tonal = 0.0 if kind == "drums" else _in_peaks(source, frames)
    alike = _periodic(source, frames) if tonal > ONE_VOICE_TONAL else 0.0
    if alike > ONE_VOICE:
        return Choice(
            "line",
            f"It is one voice: {100 * alike:.0f} % like itself from one period to the next, so it "
            "is stretched by its periods (Line).",
        )
    if level < DIED_AWAY_DB:
        return Choice(
            "cut",
            f"Sounds have died away by {-level:.0f} dB before the next attack, so they can be moved "
            "without stretching (Cut).",
        )
    if tonal < NOTES:
        return Choice(
            "strike",
            f"Hits still ring {max(0.0, -level):.0f} dB below the next one when it comes, so only "
            "their tails are stretched (Strike).",
        )
    return Choice(
        "chord",
        f"Notes still ring {max(0.0, -level):.0f} dB below the next one when it starts, so they are "
        "stretched together (Chord).",
    )


def far_stretched(time_map: TimeMap, quiet_from_s: Sequence[float] = ()) -> str:
    """A sentence that names factors outside of the good range, or nothing. Spans below 30 ms do not count,
    nor those that begin where it is quiet.
    """
    long = (np.diff(time_map.source_s) > SHORTEST_S) & ~np.isin(
        np.round(time_map.source_s[:-1], 6), np.round(np.asarray(quiet_from_s), 6)
    )
    factors = time_map.factors[long]
    low, high = GOOD_FACTORS
    far = factors[(factors < low) | (factors > high)]
    if not len(far):
        return ""
    worst = far[np.argmax(np.abs(np.log(far)))]
    spans = "1 span is" if len(far) == 1 else f"{len(far)} spans are"
    return f"{spans} stretched beyond x{low:g} to x{high:g} (as far as x{worst:.2f}), which will be heard."


def _before(source: Source, frames: IntArray) -> float:
    rate = source.sample_rate_hz
    span = round(BEFORE_S * rate)
    levels = []
    for at in frames:
        before = source.read(int(at) - span - round(EARLY_S * rate), int(at) - round(EARLY_S * rate))
        after = source.read(int(at), int(at) + 3 * span)
        loud = float(np.sqrt(np.mean(np.square(after)))) + 1e-9
        levels.append(20 * np.log10((float(np.sqrt(np.mean(np.square(before)))) + 1e-9) / loud))
    return float(np.median(levels))


def _periodic(source: Source, frames: IntArray) -> float:
    """How much the sound is like itself one period on, 30 to 160 ms after attacks; 0 where its strongest
    partial is high.

    Notes of a chord have a common period too, but a deep one, of which none of them is a low partial.
    """
    rate = source.sample_rate_hz
    found = []
    for at in frames[:: max(1, len(frames) // 12)]:
        lo, hi = int(at) + round(VOICED_S[0] * rate), int(at) + round(VOICED_S[1] * rate)
        _, period, alike = periods(source, lo, hi)
        sound = source.read(lo, hi).mean(axis=0)
        strongest = int(np.argmax(np.abs(np.fft.rfft(sound * np.hanning(len(sound))))[1:])) + 1
        partial = strongest / len(sound) * float(np.median(period))
        found.append(float(np.median(alike)) if partial < LOW_PARTIAL else 0.0)
    return float(np.median(found))


def _in_peaks(source: Source, frames: IntArray) -> float:
    """Share of the power, 100 Hz to 5 kHz and tilted by 3 dB an octave, that stands 10 dB above its
    surroundings.
    """
    rate = source.sample_rate_hz
    size = 1 << round(np.log2(WINDOW_S * rate))
    window = np.hanning(size)
    lo, hi = max(1, round(PARTIALS_HZ[0] * size / rate)), min(size // 2, round(PARTIALS_HZ[1] * size / rate))
    shares = []
    for at in frames:
        sound = source.read(int(at) + round(SETTLED_S * rate), int(at) + round(SETTLED_S * rate) + size).mean(
            axis=0
        )
        power = np.square(np.abs(np.fft.rfft(sound * window)))[lo:hi] * np.arange(lo, hi)
        about = np.median(
            np.lib.stride_tricks.sliding_window_view(np.pad(power, ABOUT, mode="reflect"), 2 * ABOUT + 1),
            axis=1,
        )[: len(power)]
        total = float(power.sum())
        if total > 0:
            shares.append(float(power[power > 10 * about].sum()) / total)
    return float(np.median(shares)) if shares else 0.0
