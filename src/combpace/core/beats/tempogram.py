"""The tempi of a whole take at once: what is played to a click is coherent from end to end, however little is
struck on its beats.

A Fourier transform of onset strength over the whole take (a tempogram, Grosche and Müller 2011, with one
window for all of it); a tempo counts by how far its multiples stand out together, for beats in halves and
quarters or in thirds and sixths.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

import numpy as np
from scipy import fft, ndimage

from combpace.core.beats.activations import FRAMES_PER_S, PAIR, RISES, Activations
from combpace.core.clocks import FloatArray

SLOWEST_HZ, FASTEST_HZ = 0.45, 5.0
# How much each multiple of the beat counts.
DUPLE = {1: 0.7, 2: 1.0, 4: 1.0, 8: 0.5}
TRIPLE = {1: 0.7, 3: 1.0, 6: 1.0}
HIGHEST = max(*DUPLE, *TRIPLE)
# Frequencies for each that the length of the take tells apart.
FINE = 8
# Tempi closer than this are one; a tempo that drifts spreads over this share of it.
APART, SPREAD = 0.04, 0.03
PHASES, PHASES_APART = 24, 0.12
# How much a tempo far from the usual one counts less, per octave squared.
USUAL_BPM, RARE = 108.0, 2.0
# What the spectrum of all bands together counts, and those of each alone.
TOGETHER, EACH = 0.5, 1.2
# What attacks on its beats are worth to a phase, and what was heard of beats there; the softest row has this.
STRUCK, HEARD, LEAST_STRUCK = 2.0, 0.5, 0.02
# No beat begins so near to the end.
ENDS_S = 0.02
# As in `attack_decoder`: what is about a rise, what is usual and what is loud.
ABOUT_S, USUAL_S, LEAST_LOUD, LOUD = 0.3, 4, 0.3, 0.97


class TempoSpectrum:
    """How far each tempo stands out in a take.

    click  0-1: how much of what is periodic about the best tempo lies at one tempo exactly, as what is played
           to a click does
    """

    def __init__(self, pulse: Activations) -> None:
        """Of at least four seconds with an attack in them; of less nothing stands out."""
        strength = _strength(pulse)
        self.click = 0.0
        self._standing = np.zeros(0)
        if len(strength) < 4 * FRAMES_PER_S or not strength.any():
            return
        size = fft.next_fast_len(FINE * len(strength), real=True)
        self._step_hz = FRAMES_PER_S / size
        # All bands together, and each alone: what is noise has a mean of about 1. Band by band: of two hours
        # all at once were half a gigabyte.
        energies = np.square(strength).sum(axis=0) + 1e-12
        power = TOGETHER * _power(strength[:, -1], size, energies[-1])
        power += EACH * (
            _summed([partial(_power, strength[:, k], size, energies[k]) for k in range(RISES)]) / RISES
        )
        nats = np.log1p(power)
        self._first = int(np.ceil(SLOWEST_HZ / self._step_hz))
        at = np.arange(self._first, min(int(FASTEST_HZ / self._step_hz), (len(nats) - 1) // HIGHEST))
        duple, triple = (
            np.sum([weight * nats[k * at] for k, weight in kind.items()], axis=0) for kind in (DUPLE, TRIPLE)
        )
        self._standing = np.maximum(duple, triple)
        if len(at):
            self.click = self._clicked(power, int(at[np.argmax(self._standing)]))

    def _clicked(self, power: FloatArray, best: int) -> float:
        """Power within the width of one tempo against that within SPREAD of it, over the multiples."""
        inside, about = 0.0, 0.0
        for k in {*DUPLE, *TRIPLE}:
            middle, reach = k * best, max(FINE, int(SPREAD * k * best))
            inside += float(power[max(middle - FINE // 2, 0) : middle + FINE // 2 + 1].sum())
            about += float(power[max(middle - reach, 0) : middle + reach + 1].sum())
        return inside / max(about, 1e-12)

    @property
    def most(self) -> float:
        return float(self._standing.max()) if len(self._standing) else 0.0

    def standing(self, hz: float, within: float = 0.02) -> float:
        """How far a tempo in beats a second stands out, in nats; the best within a share of it."""
        if not len(self._standing):
            return 0.0
        low = max(int(hz * (1 - within) / self._step_hz) - self._first, 0)
        high = int(hz * (1 + within) / self._step_hz) + 2 - self._first
        return float(self._standing[low:high].max()) if low < min(high, len(self._standing)) else 0.0

    def tempi(self, count: int) -> list[float]:
        """The tempi that stand out most, in beats a second, usual ones before rare ones, each once."""
        s = self._standing
        if len(s) < 3:
            return []
        peak = np.flatnonzero((s[1:-1] > s[:-2]) & (s[1:-1] >= s[2:])) + 1
        hz = (peak + self._first) * self._step_hz
        order = np.argsort(-(s[peak] - RARE * np.log2(60.0 * hz / USUAL_BPM) ** 2))
        found: list[float] = []
        for tempo in hz[order]:
            if all(abs(np.log(tempo / other)) > APART for other in found):
                found.append(float(tempo))
            if len(found) == count:
                break
        return found


def steady_rows(
    hz: float, duration_s: float, struck: FloatArray, heard: FloatArray, count: int
) -> list[FloatArray]:
    """Beats at one tempo in the phases that suit best what is struck and heard, in seconds.

    struck, heard  strength of attacks, and log odds of a beat, at each frame of FRAMES_PER_S
    Returns  at most `count` rows, each of shape (beats,), increasing
    """
    rows = [np.arange(q / PHASES / hz, duration_s - ENDS_S, 1 / hz) for q in range(PHASES)]
    frames = [np.minimum(np.round(row * FRAMES_PER_S).astype(int), len(struck) - 1) for row in rows]
    worth = [
        STRUCK * float(np.log(struck[at].mean() + LEAST_STRUCK)) + HEARD * float(heard[at].mean())
        if len(at)
        else -np.inf
        for at in frames
    ]
    chosen: list[int] = []
    for q in np.argsort(-np.array(worth)):
        if all(PHASES_APART * PHASES < abs(int(q) - other) < (1 - PHASES_APART) * PHASES for other in chosen):
            chosen.append(int(q))
    return [rows[q] for q in chosen[:count] if len(rows[q]) > 3]


def _power(band: FloatArray, size: int, energy: float) -> FloatArray:
    power: FloatArray = np.abs(fft.rfft(band, size)) ** 2 / energy
    return power


def _summed(made: Sequence[Callable[[], FloatArray]]) -> FloatArray:
    """The sum of arrays that are made one by one, added in pairs as numpy adds a row of eight."""
    if len(made) == 1:
        return made[0]()
    half = len(made) // 2
    return _summed(made[:half]) + _summed(made[half:])


def _strength(pulse: Activations) -> FloatArray:
    """Onset strength of each band at FRAMES_PER_S over what is usual about it, shape (frames, RISES + 1), the
    last column all bands.
    """
    rises = pulse.inputs[:, : PAIR * RISES].reshape(-1, RISES).astype(np.float64) ** 2
    rises = np.concatenate([rises, rises.mean(axis=1, keepdims=True)], axis=1)
    rises = np.maximum(
        rises - ndimage.uniform_filter1d(rises, round(ABOUT_S * FRAMES_PER_S), axis=0, mode="nearest"), 0.0
    )
    loudest = ndimage.maximum_filter1d(rises, round(FRAMES_PER_S), axis=0)
    loud = ndimage.uniform_filter1d(loudest, round(USUAL_S * FRAMES_PER_S), axis=0, mode="nearest")
    levelled: FloatArray = rises / np.maximum(loud, LEAST_LOUD * np.quantile(rises, LOUD, axis=0) + 1e-9)
    centred: FloatArray = levelled - levelled.mean(axis=0)
    return centred
