"""Which of the attacks of a take are marked: those strong enough in what is listened to, far enough apart,
near enough to the grid.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from combpace.core.clocks import FloatArray, SessionTimes
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets
from combpace.core.spectra import OnsetStrength
from combpace.core.tempo.grid import parse_grid
from combpace.core.tempo.map import TempoMap

LISTEN = ("everything", "lows", "highs")
BAND = {"lows": 0, "highs": 2}
ANYWHERE, BARS, BEATS = "anywhere", "bars", "beats"
# An attack on a bar or a beat lies no farther from its line, in beats: what is a sixteenth away is another
# note.
NEAR_BEATS = 0.22
# A rise so near to an attack is its own.
NEAR_S = 0.020
# An attack is heard in a band where it rises at least so much beside the loud ones there: soft hats are, a
# snare's body in the lows is not.
HEARD = {"lows": 0.3, "highs": 0.12}


@dataclass(frozen=True, slots=True)
class Choice:
    """The sentence of a take's marks.

    threshold  0-1, the least strength in what is listened to
    listen     one of LISTEN
    apart_s    the shortest distance; of two nearer ones the stronger is marked
    on         "anywhere", "bars", "beats" or a grid like "1/8": to each place the nearest attack within a
               quarter of the step
    """

    threshold: float = 0.0
    listen: str = "everything"
    apart_s: float = 0.0
    on: str = ANYWHERE

    def __post_init__(self) -> None:
        if self.listen not in LISTEN:
            raise ParameterError(
                f"Listen to {', '.join(LISTEN)}, not to “{self.listen}”. Nothing was changed."
            )
        if not 0.0 <= self.threshold <= 1.0:
            raise ParameterError(
                f"The threshold lies between 0 and 1, not at {self.threshold!r}. Nothing was changed."
            )
        if not 0.0 <= self.apart_s <= 2.0:
            raise ParameterError(
                f"Marks are 0 to 2000 ms apart, not {1000 * self.apart_s:g} ms. Nothing was changed."
            )
        if self.on not in (ANYWHERE, BARS, BEATS):
            parse_grid(self.on)


def band_strengths(heard: OnsetStrength, onsets: Onsets) -> FloatArray:
    """How strong each attack is in the lows, the middle and the highs, shape (n, 3), 0-1 beside the loud ones
    of each band.
    """
    if not len(onsets):
        return np.zeros((0, 3))
    near = 2 * round(NEAR_S * heard.frame_rate_hz) + 1
    rises = ndimage.maximum_filter1d(np.asarray(heard.flux, dtype=np.float64), near, axis=0, mode="constant")
    at = np.clip(np.round(np.asarray(onsets.times) * heard.frame_rate_hz).astype(int), 0, len(rises) - 1)
    found = rises[at]
    loud = np.maximum(np.quantile(found, 0.95, axis=0), 1e-9)
    return np.asarray(np.clip(found / loud, 0.0, 1.0))


def chosen(onsets: Onsets, bands: FloatArray | None, choice: Choice) -> np.ndarray:
    """Which attacks are strong enough and far enough apart, shape (n,). Without `bands` everything is
    listened to.
    """
    strength = np.asarray(onsets.strength)
    if choice.listen != "everything" and bands is not None and len(bands) == len(onsets):
        strength = bands[:, BAND[choice.listen]]
        keep = strength >= max(choice.threshold, HEARD[choice.listen])
    else:
        keep = strength >= choice.threshold
    if choice.apart_s > 0:
        keep = _apart(np.asarray(onsets.times), strength, keep, choice.apart_s)
    return keep


def on_places(
    moments: SessionTimes, strength: FloatArray, session_map: TempoMap[SessionTimes], on: str
) -> np.ndarray:
    """Which attacks are the nearest to a place of a grid, within a quarter of its step and NEAR_BEATS of a
    beat; shape (n,).
    """
    if on == ANYWHERE or not len(moments):
        return np.ones(len(moments), dtype=bool)
    places = session_map.to_quarters(moments)
    first, last = session_map.bar_of(float(places[0])), session_map.bar_of(float(places[-1])) + 1
    grid: list[float] = []
    reaches: list[float] = []
    for index in range(first, last + 1):
        line, meter = session_map.bar_line(index), session_map.meter_of(index)
        inside = (
            np.array([0.0])
            if on == BARS
            else np.arange(meter.beats) * meter.beat_quarters
            if on == BEATS
            else parse_grid(on).in_bar(meter.bar_quarters)[:-1]
        )
        grid += [line + float(place) for place in inside]
        step = meter.beat_quarters if on in (BARS, BEATS) else parse_grid(on).step_quarters
        reaches += [min(step / 4.0, NEAR_BEATS * meter.beat_quarters)] * len(inside)
    targets, reach = np.array(grid), np.array(reaches)
    keep = np.zeros(len(moments), dtype=bool)
    nearest = (
        np.argmin(np.abs(places[:, None] - targets[None, :]), axis=1)
        if len(targets)
        else np.zeros(len(moments), int)
    )
    off = np.abs(places - targets[nearest])
    for target in np.unique(nearest[off <= reach[nearest]]):
        here = np.flatnonzero((nearest == target) & (off <= reach[nearest]))
        # The nearest; of two as near the stronger.
        keep[min(here, key=lambda k: (round(float(off[k]), 6), -float(strength[k])))] = True
    return keep


def _apart(times: FloatArray, strength: FloatArray, keep: np.ndarray, apart_s: float) -> np.ndarray:
    taken: list[float] = []
    made = np.zeros(len(times), dtype=bool)
    for k in sorted(np.flatnonzero(keep), key=lambda k: -float(strength[k])):
        if all(abs(float(times[k]) - other) >= apart_s for other in taken):
            taken.append(float(times[k]))
            made[k] = True
    return made
