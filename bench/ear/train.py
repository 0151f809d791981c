"""Learn the weights of `core/attacks.py`: `.venv/bin/python -m bench.ear.train [--pieces N]`.

Trains on synthesised pieces (bench/ear/material.py), reports on pieces that were held out, writes
`src/combpace/core/attack_weights.py`. Deterministic; takes a few minutes.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
from scipy import optimize

from bench.ear.material import piece
from combpace.core.attacks import NAMES, candidates, features
from combpace.core.audio import ArraySource
from combpace.core.spectra import onset_strength

OUT = Path(__file__).resolve().parents[2] / "src" / "combpace" / "core" / "attack_weights.py"
REACH_S, NEAR_S = 0.025, 0.040


def rows_of(seed: int) -> tuple[str, np.ndarray, np.ndarray, int]:
    """(kind, features, labels, demanded onsets); label 1 an attack, 0 none, -1 neither demanded nor punished."""
    made = piece(seed)
    heard = onset_strength(ArraySource(made.audio))
    frames = candidates(heard)
    rows = features(heard, frames)
    times = frames / heard.frame_rate_hz
    label = np.zeros(len(times), int)
    every = np.array([time for time, _ in made.onsets])
    for k, time in enumerate(times):
        if len(every) and np.min(np.abs(every - time)) < NEAR_S:
            label[k] = -1
    demanded, last = 0, -1.0
    for time, optional in made.onsets:
        if optional or time - last < 0.03:
            continue
        last = time
        near = np.flatnonzero(np.abs(times - time) < REACH_S)
        demanded += 1
        if len(near):
            label[near[np.argmax(rows[near, 0])]] = 1
    return made.kind, rows, label, demanded


def fit(rows: np.ndarray, label: np.ndarray, strength: float = 1e-3) -> tuple[np.ndarray, np.ndarray, np.ndarray, float]:
    """Logistic regression with a small ridge, by L-BFGS."""
    centre, spread = rows.mean(axis=0), rows.std(axis=0) + 1e-6
    x = np.clip((rows - centre) / spread, -5, 5)
    sign = 2.0 * label - 1

    def loss(w: np.ndarray) -> tuple[float, np.ndarray]:
        z = sign * (x @ w[:-1] + w[-1])
        p = 1 / (1 + np.exp(np.clip(z, -50, 50)))
        gradient = -(sign * p) @ np.column_stack([x, np.ones(len(x))]) / len(x)
        gradient[:-1] += strength * w[:-1]
        return float(np.mean(np.logaddexp(0, -z)) + 0.5 * strength * w[:-1] @ w[:-1]), gradient

    found = optimize.minimize(loss, np.zeros(x.shape[1] + 1), jac=True, method="L-BFGS-B").x
    return centre, spread, found[:-1], float(found[-1])


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--pieces", type=int, default=240)
    options = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        made = list(pool.map(rows_of, range(options.pieces), chunksize=4))
    held = [k for k in range(len(made)) if k % 5 == 4 or k % 7 == 3]
    learnt = [k for k in range(len(made)) if k not in held]
    rows = np.concatenate([made[k][1][made[k][2] >= 0] for k in learnt])
    label = np.concatenate([made[k][2][made[k][2] >= 0] for k in learnt])
    centre, spread, weights, bias = fit(rows, label)
    print(f"{len(learnt)} pieces, {len(rows)} candidates, {label.mean():.2f} of them attacks")
    for kind in ("kit", "line", "chords", "band"):
        scores = []
        for k in held:
            if made[k][0] != kind:
                continue
            chance = 1 / (1 + np.exp(-(np.clip((made[k][1] - centre) / spread, -5, 5) @ weights + bias)))
            taken = chance > 0.45
            hits, wrong = int((taken & (made[k][2] == 1)).sum()), int((taken & (made[k][2] == 0)).sum())
            scores.append((hits / max(1, hits + wrong), hits / max(1, made[k][3])))
        precision, recall = np.mean(scores, axis=0)
        print(f"held out, {kind:<7} precision {precision:.3f} recall {recall:.3f} ({len(scores)} pieces)")
    for name, weight in sorted(zip(NAMES, weights, strict=True), key=lambda pair: -abs(pair[1])):
        print(f"  {weight:+.2f}  {name}")

    def listed(values: np.ndarray) -> str:
        return "(" + ", ".join(f"{value:.5g}" for value in values) + ")"

    OUT.write_text(
        '"""Made by `.venv/bin/python -m bench.ear.train`; do not edit."""\n\n# fmt: off\n'
        f"CENTRE = {listed(centre)}\nSPREAD = {listed(spread)}\nWEIGHTS = {listed(weights)}\nBIAS = {bias:.5g}\n"
    )


if __name__ == "__main__":
    main()
