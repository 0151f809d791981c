"""What is struck, stroke by stroke: how long each lasts, what rests before it, and where in the beat that
falls.

Strong beats coincide with long notes and with what comes after rests (Lerdahl and Jackendoff 1983, preference
rules of length and event; a note's accent by its length as in Parncutt 1994); players begin and end on beats
more often than between them.
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from combpace.core.beats.activations import FRAMES_PER_S
from combpace.core.clocks import FloatArray, IntArray

# A stroke rises at least so far against typical strong ones, and is a strong one from here on.
FAINT, STRONG = 0.15, 0.4
# Of a note's length counts what the ear keeps of it: seconds, and power (Parncutt 1994); the first and last
# stand alone so long.
KEPT_S, KEPT_POWER, ALONE_S = 0.5, 2.8, 1.0
# A stroke is on a place of the beat within so many seconds, and never more of the beat than that.
ON_S, ON_SHARE = 0.04, 0.12
PLACES = ((0.0,), (0.5,), (1 / 3, 2 / 3), (0.25, 0.75))
NAMES = (
    *(
        "lasting on beats",
        "lasting half-way",
        "lasting at thirds",
        "lasting at quarters",
        "lasts longer on beats",
    ),
    *(
        "after rests on beats",
        "after rests half-way",
        "after rests at thirds",
        "after rests at quarters",
        "rests longer before beats",
    ),
    *(
        "first near a beat",
        "first half-way",
        "last near a beat",
        "last half-way",
        "first opens a bar",
        "last opens a bar",
        "what lasts opens bars",
    ),
)


class NoteEvents:
    """The strokes of a take, in order of time."""

    def __init__(self, attacks: FloatArray) -> None:
        """Of the strength of attacks at each frame, as `attack_pulse.attacks_of` gives it."""
        peak = (attacks == ndimage.maximum_filter1d(attacks, 5)) & (attacks > FAINT)
        frames: IntArray = np.flatnonzero(peak)
        self.times = frames / FRAMES_PER_S
        self.strength = attacks[frames]
        gaps = np.diff(self.times)
        alone = np.full(min(1, len(frames)), ALONE_S)
        self.lasting, self.rested = _kept(np.concatenate([gaps, alone])), _kept(np.concatenate([alone, gaps]))

    def seen(self, row: FloatArray, gaps: FloatArray, downbeat: FloatArray) -> list[float]:
        """One value for each of NAMES, of a row of beats.

        row       seconds, at least two, strictly increasing
        gaps      seconds to the next beat of each, shape as `row`
        downbeat  log odds that each opens a bar
        """
        nothing = [0.0] * len(NAMES)
        if not len(self.times):
            return nothing
        index = np.clip(np.searchsorted(row, self.times, "right") - 1, 0, len(row) - 1)
        phase = (self.times - row[index]) / gaps[index]
        inside = (self.times > row[0] - 0.05) & (self.times < row[-1] + gaps[-1])
        if not inside.any():
            return nothing
        reach = np.minimum(ON_S / gaps[index], ON_SHARE)
        sets = [
            inside & np.any([np.abs((phase - place + 0.5) % 1.0 - 0.5) < reach for place in places], axis=0)
            for places in PLACES
        ]
        on = sets[0]
        out: list[float] = []
        for value in (self.lasting, self.rested):
            weight = value * self.strength
            total = float(weight[inside].sum()) + 1e-6
            out += [float(np.log(weight[there].sum() / total + 0.05)) for there in sets]
            out.append(_mean(value[on]) - _mean(value[inside & ~on]))
        strong = np.flatnonzero(inside & (self.strength > STRONG))
        ends = (strong if len(strong) else np.flatnonzero(inside))[[0, -1]]
        for k in ends:
            out += [float(np.cos(2 * np.pi * phase[k])), float(np.cos(4 * np.pi * phase[k]))]
        nearest = np.clip(index + (phase > 0.5), 0, len(row) - 1)
        opens = downbeat[nearest] - float(np.mean(downbeat))
        out += [float(opens[k]) for k in ends]
        out.append(
            float((opens[on] * (self.lasting[on] - self.lasting[on].mean())).mean()) if on.any() else 0.0
        )
        return out


def _kept(seconds: FloatArray) -> FloatArray:
    """What the ear keeps of a note that lasts so long, 0-1."""
    result: FloatArray = (1 - np.exp(-seconds / KEPT_S)) ** KEPT_POWER
    return result


def _mean(values: FloatArray) -> float:
    return float(values.mean()) if len(values) else 0.0
