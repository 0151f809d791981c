"""Learn which change point is an attack's start: `.venv/bin/python -m bench.ear.train_starts [--songs N]`.

For every attack found in generated songs, the change points near it are compared by a linear model whose largest value
names the start (a softmax over them, so that they compete). Writes `src/combpace/core/start_weights.py` and prints how
far off the starts are on songs that were held out, per kind of music, before and after.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
from scipy import optimize

from bench.ear.songs import song
from combpace.core.attacks import candidates, features, probability
from combpace.core.audio import ArraySource
from combpace.core.onsets import least_probability
from combpace.core.spectra import onset_strength
from combpace.core.starts import NAMES, StartFinder
from combpace.core.starts import features as start_features

OUT = Path(__file__).resolve().parents[2] / "src" / "combpace" / "core" / "start_weights.py"
FIRST = 2_000_000
# Notes this near sound as one attack; a start this near to the first that is not optional is right.
TOGETHER_S, RIGHT_S = 0.030, 0.003


def attacks_of(onsets: list[tuple[float, bool]]) -> np.ndarray:
    """Times of attacks: of notes that sound together the first that is not optional."""
    out: list[list[float | bool]] = []
    start = -9.0
    for time, optional in sorted(onsets):
        if time - start < TOGETHER_S:
            if out[-1][1] and not optional:
                out[-1] = [time, False]
        else:
            out.append([time, optional])
            start = time
    return np.array([time for time, _ in out])


def one(seed: int) -> list[tuple[str, np.ndarray, np.ndarray]]:
    """(kind, features of the change points, their distance from the start) of every attack of a song."""
    made = song(seed)
    source = ArraySource(made.audio)
    heard = onset_strength(source)
    finder, truth = StartFinder(source), attacks_of(made.onsets)
    frames = candidates(heard)
    frames = frames[probability(features(heard, frames)) > least_probability(0.3)] if len(frames) else frames
    out = []
    for rough in frames / heard.frame_rate_hz:
        near = float(truth[np.argmin(np.abs(truth - rough))]) if len(truth) else 99.0
        found, _, _ = finder.candidates(float(rough))
        if abs(near - rough) < 0.035 and len(found):
            out.append((made.kind, start_features(found, float(rough)), found[:, 2] - near))
    return out


def fitted(rows: list[tuple[str, np.ndarray, np.ndarray]]) -> np.ndarray:
    x, off = np.concatenate([row[1] for row in rows]), np.concatenate([row[2] for row in rows])
    own = np.repeat(np.arange(len(rows)), [len(row[2]) for row in rows])
    right = (np.abs(off) < RIGHT_S).astype(float)
    has = np.bincount(own, right) > 0
    spread = x.std(axis=0) + 1e-6
    z = x / spread

    def loss(p: np.ndarray) -> tuple[float, np.ndarray]:
        score = z @ p
        most = np.full(len(rows), -np.inf)
        np.maximum.at(most, own, score)
        raised = np.exp(score - most[own])
        total, good = np.bincount(own, raised), np.maximum(np.bincount(own, raised * right), 1e-12)
        value = -np.log(good / total)[has].mean() + 1e-3 * (p**2).sum()
        gradient = (z * ((raised / total[own] - raised * right / good[own]) * has[own])[:, None]).sum(axis=0) / has.sum()
        return float(value), gradient + 2e-3 * p

    return optimize.minimize(loss, np.zeros(z.shape[1]), jac=True, method="L-BFGS-B").x / spread


def report(name: str, rows: list[tuple[str, np.ndarray, np.ndarray]], weights: np.ndarray) -> None:
    off = np.array([row[2][np.argmax(row[1] @ weights)] for row in rows])
    kinds = np.array([row[0] for row in rows])
    per = ", ".join(f"{kind} {np.mean(np.abs(off[kinds == kind]) < 0.01):.2f}" for kind in sorted(set(kinds)))
    near, far = np.mean(np.abs(off) < 0.003), np.mean(np.abs(off) < 0.01)
    print(f"{name}: within 3 ms {near:.3f}, within 10 ms {far:.3f}, median {1000 * np.median(off):.2f} ms; {per}")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--songs", type=int, default=120)
    options = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        rows = [row for found in pool.map(one, range(FIRST, FIRST + options.songs), chunksize=4) for row in found]
    test, train = rows[::3], [row for k, row in enumerate(rows) if k % 3]
    weights = fitted(train)
    largest = np.zeros(len(NAMES))
    largest[NAMES.index("gain")], largest[NAMES.index("is before a main change")] = 1.0, -1000.0
    report("largest change alone", test, largest)
    report("learnt", test, weights)
    head = '"""Made by `.venv/bin/python -m bench.ear.train_starts`; do not edit."""\n\n# fmt: off\nWEIGHTS = (\n'
    OUT.write_text(head + "".join(f"    {w:.5g},\n" for w in weights) + ")\n")


if __name__ == "__main__":
    main()
