"""Ways to count a take, and which of them is right.

The decoder offers several rows of beats: the best pulse at any tempo and in bands of tempo, the best through
attacks alone, these counted otherwise, and steady rows at the tempi that stand out in the whole take.
Features of each (those of single strokes are in `note_events.py`), and of how it compares with the others, go
through a small network learnt by `bench/ear/learn_ways.py` from generated songs; a part of them is heard
through a spoilt pulse there, as music is that the pulse network does not know.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy import ndimage

from combpace.core.beats import note_events
from combpace.core.beats.activations import FRAMES_PER_S, LEVELS, METERS, NOVELTY_S, PAIR, RISES, Activations
from combpace.core.beats.attack_decoder import attacks_of
from combpace.core.beats.meter_network import LAGS, LIKENESS, Pattern, inputs_of_beats, log_odds, pattern_from
from combpace.core.beats.note_events import NoteEvents
from combpace.core.beats.tempogram import TempoSpectrum, steady_rows
from combpace.core.clocks import FloatArray
from combpace.core.networks.weights import weights_of
from combpace.core.spectra import Float32Array
from combpace.core.tempo.meters import parse_meter

WEIGHTS = "ways_weights.npz"
KINDS = ("first", "band", "attacks", "steady", "counted otherwise", "joined")
RISE_GROUPS = 4
USUAL_BPM = 108.0
# A jump of the pulse is looked for in sixteen gaps: six before it, four in which it happens, six after it.
GAPS_BEFORE, GAPS_DURING, GAPS_AFTER = 6, 4, 6
# The tempo is the same after it (natural logarithm), but the beats are off by this part of a beat, and one
# gap of the four is uneven by this share.
GOES_ON, JUMPS, UNEVEN = 0.06, 0.38, 0.08
# Rows of beats nearer to each other than this are one.
ONE_ROW_S = 0.03
QUARTERS_A_BEAT = tuple(parse_meter(name).beat_quarters for name in METERS)
STEADY_TEMPI, STEADY_PHASES = 4, 3
NAMES = (
    *("level over the take", "level", "level of the worst quarter"),
    *("heard", "heard in the worst quarter", "heard half-way", "heard at thirds"),
    *("struck", "struck half-way", "struck at thirds", "struck at quarters"),
    *(f"band {k} struck" for k in range(RISE_GROUPS)),
    *(f"band {k} struck half-way" for k in range(RISE_GROUPS)),
    *(f"harmony {k} changes more than half-way" for k in range(2 * len(NOVELTY_S))),
    *("attacks on quarters", "attacks on thirds"),
    *(
        "octaves from usual",
        "octaves squared",
        "octaves of beats squared",
        "stands out less than the best",
        "stands out",
    ),
    *("click", "unsteady", "click and unsteady", "covered", "jumps", "gaps change", "gaps change at most"),
    *("sure of a meter", "sure of downbeats", "downbeats", "best downbeats"),
    *(f"alike {lag} apart" for lag in LAGS),
    "beats",
    *note_events.NAMES,
)
# Each feature, the same against the best of all ways, where the way comes from, and whether a steady one
# meets a click.
INPUTS = 2 * len(NAMES) + len(KINDS) + 1


@dataclass(frozen=True, slots=True, eq=False)
class Reading:
    """A row of beats in seconds, and where it comes from (one of KINDS)."""

    kind: str
    row: FloatArray


def same_row(a: FloatArray, b: FloatArray) -> bool:
    """Whether two rows of beats are one, but for some hundredths of a second.

    a, b     seconds, shapes (n,) and (m,)
    """
    return len(a) == len(b) and bool(np.allclose(a, b, atol=ONE_ROW_S))


class Take:
    """What all ways to count one take are seen through."""

    def __init__(self, pulse: Activations) -> None:
        self.pulse = pulse
        self.duration_s = len(pulse.beat) / FRAMES_PER_S
        self.attacks = attacks_of(pulse)
        self.struck = ndimage.maximum_filter1d(self.attacks, 3)
        self.heard = ndimage.maximum_filter1d(log_odds(pulse.beat.astype(np.float64), 4.0), 5)
        rises = (
            pulse.inputs[:, : PAIR * RISES]
            .reshape(-1, RISE_GROUPS, RISES // RISE_GROUPS)
            .astype(np.float64)
            .mean(axis=2)
        )
        self.bands = ndimage.maximum_filter1d(rises, 3, axis=0)
        self.novelty = ndimage.maximum_filter1d(
            pulse.inputs[:, PAIR * RISES + LEVELS + 1 :].astype(np.float64), 5, axis=0
        )
        self.strokes = NoteEvents(self.attacks)
        self.spectrum = TempoSpectrum(pulse)
        self._patterns: dict[bytes, tuple[Float32Array, Pattern]] = {}

    def frames(self, times: FloatArray) -> np.ndarray:
        at: np.ndarray = np.clip(
            np.round(times * FRAMES_PER_S).astype(int), 0, min(len(self.struck), len(self.heard)) - 1
        )
        return at

    def beats(self, row: FloatArray) -> tuple[Float32Array, Pattern]:
        """What the pattern is heard from in a row of beats, and what it says; remembered."""
        key = row.tobytes()
        if key not in self._patterns:
            inputs = inputs_of_beats(self.pulse, row)
            self._patterns[key] = inputs, pattern_from(inputs)
        return self._patterns[key]

    def pattern(self, row: FloatArray) -> Pattern:
        """What the pattern says of a row of beats."""
        return self.beats(row)[1]

    def steady(self) -> Iterator[Reading]:
        """Rows at the tempi that stand out."""
        for hz in self.spectrum.tempi(STEADY_TEMPI):
            for row in steady_rows(hz, self.duration_s, self.struck, self.heard, STEADY_PHASES):
                yield Reading("steady", row)


@lru_cache(maxsize=1)
def take_of(pulse: Activations) -> Take:
    """The take of a pulse, made once for all its ways."""
    return Take(pulse)


def features(take: Take, way: Reading) -> FloatArray:
    """One value for each of NAMES, of a row of at least four beats.

    Returns  shape (len(NAMES),), finite
    """
    row = way.row
    gaps = np.diff(row)
    usual = float(np.median(gaps))
    gaps = np.append(gaps, usual)
    inputs, pattern = take.beats(row)
    level = log_odds(pattern.level.astype(np.float64), 4.0)
    parts = {share: take.frames(row + share * gaps) for share in (0.0, 0.25, 1 / 3, 0.5, 2 / 3, 0.75)}
    on, half = parts[0.0], parts[0.5]
    struck = {share: float(take.struck[at].mean()) for share, at in parts.items()}
    heard = take.heard[on]
    covered = min(1.0, float(gaps.sum()) / take.duration_s)
    meter = pattern.meter.mean(axis=0)
    quarters = QUARTERS_A_BEAT[int(np.argmax(meter))]
    octaves = float(np.log2(60.0 * quarters / usual / USUAL_BPM))
    down = log_odds(pattern.downbeat.astype(np.float64), 4.0)
    moved = np.abs(np.diff(np.log(np.maximum(gaps, 1e-3))))
    steps = np.arange(len(row)) - 0.5 * (len(row) - 1)
    # About the line of least squares.
    slope = float(steps @ row) / float(steps @ steps)
    unsteady = min(1.0, float(np.std(row - slope * steps)) / usual * 4.0)
    standing = take.spectrum.standing(1.0 / usual)
    novelty = take.novelty[on // PAIR].mean(axis=0) - take.novelty[half // PAIR].mean(axis=0)
    values = [
        *(
            float((level * gaps).sum()) / take.duration_s,
            float(level.mean()),
            float(np.quantile(level, 0.25)),
        ),
        *(float(heard.mean()), float(np.quantile(heard, 0.25)), float(take.heard[half].mean())),
        0.5 * float(take.heard[parts[1 / 3]].mean() + take.heard[parts[2 / 3]].mean()),
        *(
            np.log(x + 0.02)
            for x in (
                struck[0.0],
                struck[0.5],
                0.5 * (struck[1 / 3] + struck[2 / 3]),
                0.5 * (struck[0.25] + struck[0.75]),
            )
        ),
        *take.bands[on].mean(axis=0),
        *take.bands[half].mean(axis=0),
        *novelty,
        *(_explained(take, row, gaps, count) for count in (4, 3)),
        *(
            octaves,
            octaves**2,
            float(np.log2(60.0 / usual / USUAL_BPM)) ** 2,
            standing - take.spectrum.most,
            standing,
        ),
        *(
            take.spectrum.click,
            unsteady,
            take.spectrum.click * unsteady,
            covered,
            float(min(3, jumps_of(row))),
        ),
        *(float(moved.mean()), float(np.quantile(moved, 0.9))),
        *(
            float(meter.max()),
            float(np.abs(down).mean()),
            float((down > 0).mean()),
            float(np.quantile(down, 0.85)),
        ),
        *inputs[:, LIKENESS].mean(axis=0).astype(np.float64),
        float(np.log1p(len(row))),
        *take.strokes.seen(row, gaps, down),
    ]
    return np.array(values)


def _explained(take: Take, row: FloatArray, gaps: FloatArray, parts: int) -> float:
    """How much more of what is struck lies within 25 ms of the beats and their parts than by chance, in
    nats.
    """
    places = (row[:, None] + gaps[:, None] * np.arange(parts) / parts).ravel()
    near = np.zeros(len(take.attacks), bool)
    near[take.frames(places)] = True
    near = ndimage.maximum_filter1d(near.view(np.uint8), 5) > 0
    share, chance = float(take.attacks[near].sum()) / max(float(take.attacks.sum()), 1e-9), float(near.mean())
    return float(np.log((share + 0.05) / (chance + 0.05)))


def rows_of(values: FloatArray, kinds: Sequence[str]) -> FloatArray:
    """What the network sees of all ways of one take, shape (ways, INPUTS): features, the same against the
    best of all, kinds.
    """
    flags = np.array([[float(kind == name) for name in KINDS] for kind in kinds])
    click = values[:, [NAMES.index("click")]] * flags[:, [KINDS.index("steady")]]
    return np.concatenate([values, values - values.max(axis=0), flags, click], axis=1)


def worth_of(values: FloatArray, kinds: Sequence[str]) -> FloatArray:
    """How much speaks for each way, in nats against the others.

    values   shape (ways, len(NAMES)); kinds: of each way how it came about
    Returns  shape (ways,)
    """
    w = weights_of(WEIGHTS)
    x = np.clip((rows_of(values, kinds) - w["centre"]) / w["spread"], -6, 6)
    result: FloatArray = np.mean(
        [np.tanh(x @ w["w1"][k] + w["b1"][k]) @ w["w2"][k] + x @ w["v"][k] for k in range(len(w["w1"]))],
        axis=0,
    )
    return result


def jumps_of(row: FloatArray) -> int:
    """How often a pulse moves by more than a third of a beat within four beats and then goes on as before:
    musicians do not.

    row      seconds, shape (n,)
    """
    gaps = np.diff(row)
    if len(gaps) < GAPS_BEFORE + GAPS_DURING + GAPS_AFTER:
        return 0
    ahead = np.lib.stride_tricks.sliding_window_view(gaps, GAPS_DURING)
    usual = np.median(np.lib.stride_tricks.sliding_window_view(gaps, GAPS_BEFORE), axis=1)
    count, first = len(gaps) - (GAPS_BEFORE + GAPS_DURING + GAPS_AFTER) + 1, GAPS_BEFORE + GAPS_DURING
    before, during, after = usual[:count], ahead[GAPS_BEFORE:][:count], usual[first:][:count]
    usual_here = 0.5 * (before + after)
    off = np.abs(during / usual_here[:, None] - 1.0).max(axis=1)
    moved = during.sum(axis=1) / usual_here - GAPS_DURING
    jumped = (
        (np.abs(np.log(after / before)) < GOES_ON)
        & (np.abs(moved - np.round(moved)) > JUMPS)
        & (off > UNEVEN)
    )
    return int((np.diff(np.append(0, jumped.astype(int))) > 0).sum())
