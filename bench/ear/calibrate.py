"""Learn how sure the ear may be: `.venv/bin/python -m bench.ear.calibrate [--songs N] [--rows FILE]`.

Generated songs (seeds that nothing else was learnt from) are heard; two logistic models say from the features
of core/beats/confidence.py whether a beat and a bar are right. Writes
`src/combpace/core/beats/confidence_weights.py` and prints a reliability table and Brier skill per kind of
music: every third of the songs is judged by what was learnt from the others. With --sampled nothing is
learnt: what ships is judged on songs that are played on instruments of the sound font that nothing is learnt
from.
"""

from __future__ import annotations

import argparse
import pickle
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
from scipy import optimize

from bench.ear.generated import truth_of
from bench.ear.sampled import to_learn, to_measure
from bench.ear.songs import Song, song
from combpace.core.analysis.take import trust_in
from combpace.core.audio import ArraySource
from combpace.core.beats import confidence_weights
from combpace.core.beats.activations import hear_activations
from combpace.core.beats.bars import BarReading, in_one_unit, read_bars
from combpace.core.beats.confidence import (
    BAR_NAMES,
    BEAT_NAMES,
    bar_confidence,
    bar_features,
    beat_confidence,
    beat_features,
)
from combpace.core.beats.meter_network import Pattern, hear_pattern
from combpace.core.beats.track import track_beats
from combpace.core.onsets.detect import detect_onsets
from combpace.core.spectra import onset_strength

OUT = Path(__file__).resolve().parents[2] / "src" / "combpace" / "core" / "beats" / "confidence_weights.py"
FIRST = 3_000_000
BEAT_S, BAR_S = 0.040, 0.070
RIDGE = 1e-3
# A guitar alone that only chugs, or plays a riff without anything to count by, is a smaller part of what is
# listened to than of the songs; what is said is to be right of whole music.
RARE = {"riff": 0.25, "chug": 0.25}
FOLDS = 3
Part = tuple[np.ndarray, np.ndarray, np.ndarray]
Rows = tuple[str, np.ndarray, np.ndarray, np.ndarray, BarReading, np.ndarray, np.ndarray, Pattern]


def nearest(times: np.ndarray, truth: np.ndarray) -> np.ndarray:
    return np.min(np.abs(times[:, None] - truth[None, :]), axis=1) if len(truth) else np.full(len(times), 9.0)


def one(seed: int) -> Rows | None:
    return rows_of(song(seed))


def one_on_font(seed: int) -> Rows | None:
    return rows_of(to_learn(seed))


def one_sampled(seed: int) -> Rows | None:
    return rows_of(to_measure(seed))


def rows_of(made: Song) -> Rows | None:
    """(kind, features of beats, right, asked, reading of bars, right, asked, what the networks say) of one
    song.
    """
    source = ArraySource(made.audio)
    heard = onset_strength(source)
    onsets, pulse = detect_onsets(source, heard), hear_activations(source, heard)
    beats = track_beats(pulse, onsets)
    if len(beats) < 4:
        return None
    pattern = hear_pattern(pulse, beats.rough)
    reading = in_one_unit(read_bars(pattern, trust=trust_in(pulse, beats)), beats.rough)
    times = np.asarray(beats.times)
    truth, _ = truth_of(made)
    starts = times[np.array(reading.starts)]
    lines = np.array([bar.start_s for bar in made.bars])
    near = np.argmin(np.abs(starts[:, None] - lines[None, :]), axis=1)
    fits = np.array(
        [
            abs(lines[k] - t) < BAR_S and made.bars[k].meter == str(m)
            for k, t, m in zip(near, starts, reading.meters, strict=True)
        ]
    )
    asked, whole = np.ones(len(times), bool), np.ones(len(starts), bool)
    for a, b in made.unasked:
        asked &= (times < a) | (times > b)
        whole &= (starts < a) | (starts > b)
    whole[-1] = False
    return (
        made.kind,
        beat_features(pulse, pattern, beats),
        nearest(times, truth) < BEAT_S,
        asked,
        reading,
        fits,
        whole,
        pattern,
    )


def fitted(x: np.ndarray, y: np.ndarray, counts: np.ndarray) -> tuple[np.ndarray, float]:
    """Weights and bias of a logistic model, a little ridge; each row counts as much as `counts` says."""
    counts = counts / counts.mean()
    centre, spread = x.mean(axis=0), x.std(axis=0) + 1e-6
    z = (x - centre) / spread

    def loss(p: np.ndarray) -> tuple[float, np.ndarray]:
        u = z @ p[:-1] + p[-1]
        q = 1 / (1 + np.exp(-u))
        value = float(np.mean(counts * (np.logaddexp(0, u) - y * u)) + RIDGE * (p[:-1] ** 2).sum())
        return value, np.append(
            z.T @ (counts * (q - y)) / len(y) + 2 * RIDGE * p[:-1], np.mean(counts * (q - y))
        )

    p = optimize.minimize(loss, np.zeros(x.shape[1] + 1), jac=True, method="L-BFGS-B").x
    weights = p[:-1] / spread
    return weights, float(p[-1] - weights @ centre)


def report(name: str, said: np.ndarray, right: np.ndarray, kinds: np.ndarray) -> None:
    print(
        f"\n{name}: {len(right)} of which {100 * right.mean():.1f} % are right\n\n| said | how many "
        "| right |\n|---|---|---|"
    )
    for lo, hi in ((0, 0.3), (0.3, 0.5), (0.5, 0.7), (0.7, 0.8), (0.8, 0.9), (0.9, 0.95), (0.95, 1.01)):
        inside = (said >= lo) & (said < hi)
        if inside.any():
            print(f"| {lo:.2f}-{min(hi, 1):.2f} | {inside.sum()} | {right[inside].mean():.2f} |")
    worst = np.argsort(said)[: max(1, len(said) // 10)]
    print(
        f"\nThe worst tenth holds {100 * (~right[worst]).sum() / max(1, (~right).sum()):.0f} % of the errors."
    )
    base = np.mean((right - right.mean()) ** 2)
    print(f"Brier skill {1 - np.mean((said - right) ** 2) / max(base, 1e-9):.2f}; by kind:", end=" ")
    for kind in sorted(set(kinds)):
        of = kinds == kind
        usual = np.mean((right[of] - right[of].mean()) ** 2)
        print(
            f"{kind} {1 - np.mean((said[of] - right[of]) ** 2) / usual:.2f}" if usual > 1e-3 else f"{kind} -",
            end=", ",
        )
    print()


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--songs", type=int, default=400)
    parser.add_argument(
        "--more", type=int, default=0, help="so many more songs on the sound font that is learnt from"
    )
    parser.add_argument("--rows", type=Path, help="where what was heard of all songs is kept")
    parser.add_argument("--sampled", action="store_true", help="judge what ships on sampled instruments")
    options = parser.parse_args()
    if options.rows and options.rows.exists():
        made = pickle.loads(options.rows.read_bytes())
    else:
        with ProcessPoolExecutor(2) as pool:
            heard = [
                *pool.map(
                    one_sampled if options.sampled else one, range(FIRST, FIRST + options.songs), chunksize=4
                )
            ]
            heard += pool.map(one_on_font, range(FIRST, FIRST + options.more), chunksize=4)
            made = [rows for rows in heard if rows]
        if options.rows:
            options.rows.write_bytes(pickle.dumps(made))
    kinds = np.array([rows[0] for rows in made])
    print(f"{len(made)} songs: {', '.join(f'{(kinds == kind).sum()} {kind}' for kind in sorted(set(kinds)))}")
    if options.sampled:
        for name, (model, (features, right, each)) in zip(("Beats", "Bars"), _seen(made), strict=True):
            report(name, model(features), right, each)
        return
    third = np.arange(len(made)) % FOLDS
    judged = []
    for fold in range(FOLDS):
        learn([rows for rows, own in zip(made, third, strict=True) if own != fold])
        rest = [rows for rows, own in zip(made, third, strict=True) if own == fold]
        judged.append([(model(features), right, each) for model, (features, right, each) in _seen(rest)])
    for name, parts in zip(("Beats", "Bars"), zip(*judged, strict=True), strict=True):
        report(name, *(np.concatenate(part) for part in zip(*parts, strict=True)))
    lines = ['"""Made by `.venv/bin/python -m bench.ear.calibrate`; do not edit."""\n\n# fmt: off\n']
    for name, (weights, bias) in learn(made).items():
        lines.append(f"{name} = (({', '.join(f'{w:.4f}' for w in weights)}), {bias:.4f})\n")
    OUT.write_text("".join(lines))


def beats_of(songs: list[Rows]) -> Part:
    """(features, right, kind) of all beats that are asked for."""
    kinds = np.concatenate([np.full(rows[3].sum(), rows[0]) for rows in songs])
    return (
        np.concatenate([rows[1][rows[3]] for rows in songs]),
        np.concatenate([rows[2][rows[3]] for rows in songs]),
        kinds,
    )


def bars_of(songs: list[Rows]) -> Part:
    """As `beats_of`, of bars; how sure their beats are is one of the features."""
    kinds = np.concatenate([np.full(rows[6].sum(), rows[0]) for rows in songs])
    features = [bar_features(rows[7], rows[4], beat_confidence(rows[1]))[rows[6]] for rows in songs]
    return np.concatenate(features), np.concatenate([rows[5][rows[6]] for rows in songs]), kinds


def _seen(songs: list[Rows]) -> list[tuple[Callable[[np.ndarray], np.ndarray], Part]]:
    return [(beat_confidence, beats_of(songs)), (bar_confidence, bars_of(songs))]


def learn(songs: list[Rows]) -> dict[str, tuple[tuple[float, ...], float]]:
    """Both models from these songs, set in `confidence_weights` as they are learnt: bars are judged by how
    sure their beats are.
    """
    made = {}
    for name, names, parts in (("BEATS", BEAT_NAMES, beats_of), ("BARS", BAR_NAMES, bars_of)):
        features, right, each = parts(songs)
        weights, bias = fitted(
            features, right.astype(float), np.array([RARE.get(kind, 1.0) for kind in each])
        )
        assert len(weights) == len(names)
        made[name] = tuple(float(w) for w in weights), bias
        setattr(confidence_weights, name, made[name])
    return made


if __name__ == "__main__":
    main()
