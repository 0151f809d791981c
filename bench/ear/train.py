"""Learn which rises are attacks and when they start: `PYTHONPATH=.:src python -m bench.ear.train [--rows
FILE]`.

Needs jax and optax, as `bench.ear.learn` does. Of generated songs, short pieces and bare strokes
(bench/ear/songs.py, material.py, plain.py) every candidate is compared with the notes that were played: one
network (core/onsets/candidates.py) learns which are attacks, another and a linear model
(core/onsets/refine.py) which change of the sound about one is its start. Reports on what was held out, and
writes `attack_weights.npz` and `start_weights.npz` into `src/combpace/core/networks`. Twelve minutes on two
cores, four with `--rows` made.
"""

from __future__ import annotations

import argparse
import pickle
import warnings
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from scipy import optimize

from bench.ear.material import piece
from bench.ear.plain import noise, plain
from bench.ear.songs import song
from bench.ear.two_layers import fit
from combpace.core.audio import ArraySource, Audio
from combpace.core.networks.layers import outputs
from combpace.core.onsets.candidates import WEIGHTS as ATTACK_WEIGHTS
from combpace.core.onsets.candidates import about, candidates, features, recurrence
from combpace.core.onsets.refine import BANDS_HZ, BATCH, EARLY_S, PICTURE_S, PICTURE_STEPS, Near, StartFinder
from combpace.core.onsets.refine import WEIGHTS as START_WEIGHTS
from combpace.core.onsets.refine import features as start_features
from combpace.core.spectra import onset_strength

WEIGHTS_DIR = Path(__file__).resolve().parents[2] / "src" / "combpace" / "core" / "networks"
FIRST = 2_000_000
# Notes this near sound as one attack. A candidate this near to one may mean it, and one this near to another
# that does is none.
TOGETHER_S, REACH_S, BESIDE_S, NEAR_S = 0.030, 0.025, 0.045, 0.040
# A start this near to the first note that is not optional is right; the network learns it with a spread.
RIGHT_S, SPREAD_S = 0.003, 0.001
HELD_OUT = 5


@dataclass(frozen=True, slots=True, eq=False)
class Rows:
    """Of one song or piece: what is seen of each candidate; 1 attack, 0 none, -1 not asked; how many attacks
    were asked for; and of those that are there what lies about each, without its sound, and when it truly
    starts."""

    kind: str
    seen: np.ndarray
    label: np.ndarray
    asked: int
    starts: list[tuple[Near, float]]


def attacks_of(onsets: list[tuple[float, bool]]) -> tuple[np.ndarray, np.ndarray]:
    """(times, asked for) of attacks: of notes that sound together the first that is not optional."""
    out: list[list[float | bool]] = []
    start = -9.0
    for time, optional in sorted(onsets):
        if time - start < TOGETHER_S:
            if out[-1][1] and not optional:
                out[-1] = [time, False]
        else:
            out.append([time, optional])
            start = time
    return np.array([time for time, _ in out]), np.array([not optional for _, optional in out], dtype=bool)


def compared(kind: str, audio: Audio, onsets: list[tuple[float, bool]]) -> Rows:
    source = ArraySource(audio)
    heard = onset_strength(source)
    frames = candidates(heard)
    strength, times = heard.total[frames], frames / heard.frame_rate_hz
    label = np.zeros(len(frames), np.int8)
    attacks, asked = attacks_of(onsets)
    meant: dict[int, float] = {}
    for time in attacks[asked]:
        near = np.flatnonzero(np.abs(times - time) < REACH_S)
        if len(near):
            meant[int(near[np.argmax(strength[near])])] = float(time)
    label[list(meant)] = 1
    sure = times[label == 1]
    every = np.array([time for time, _ in onsets])
    for k in np.flatnonzero(label == 0):
        # Beside an attack it would be heard twice; beside a note that nobody asked for it is neither right
        # nor wrong.
        if (
            np.abs(every - times[k]).min(initial=9.0) < NEAR_S
            and np.abs(sure - times[k]).min(initial=9.0) >= BESIDE_S
        ):
            label[k] = -1
    seen = np.hstack([features(heard, frames), recurrence(heard, frames), about(heard, frames)]).astype(
        np.float16
    )
    finder = StartFinder(source)
    seen_near = [
        near
        for part in np.split(times[sorted(meant)], range(BATCH, len(meant), BATCH))
        if len(part)
        for near in finder.near(part)
    ]
    starts = [
        (replace(near, mix=np.zeros(0)), meant[k]) for near, k in zip(seen_near, sorted(meant), strict=True)
    ]
    return Rows(kind, seen, label, int(asked.sum()), starts)


def one(job: tuple[str, int]) -> Rows:
    warnings.simplefilter("ignore")
    name, seed = job
    if name == "song":
        made = song(FIRST + seed)
        return compared(made.kind, made.audio, made.onsets)
    if name == "plain":
        return compared(name, *plain(seed))
    if name == "noise":
        return compared(name, noise(seed), [])
    short = piece(seed)
    return compared(f"piece of {short.kind}", short.audio, short.onsets)


def learnt_attacks(rows: list[Rows]) -> dict[str, np.ndarray]:
    # Bare strokes teach when an attack starts; which rises are attacks is learnt from music.
    rows = [row for row in rows if row.kind != "plain"]
    seen = np.concatenate([row.seen[row.label >= 0] for row in rows]).astype(np.float32)
    label = np.concatenate([row.label[row.label >= 0] for row in rows])
    return fit(seen, label[:, None], 64, 6, decay=0.3, dropped=0.3)


def learnt_starts(rows: list[Rows]) -> dict[str, np.ndarray]:
    rng = np.random.default_rng(0)
    pairs = [pair for row in rows for pair in row.starts if len(pair[0].changes)]
    pairs += [(moved(near, int(rng.choice([-2, -1, 1, 2]))), time) for near, time in pairs]
    step = np.array([(time - near.rough_s + EARLY_S) / PICTURE_S for near, time in pairs])
    inside = (step > 0) & (step < PICTURE_STEPS)
    wanted = np.exp(
        -0.5 * ((np.arange(PICTURE_STEPS) + 0.5 - step[inside, None]) * PICTURE_S / SPREAD_S) ** 2
    )
    pictures = np.array([near.picture for near, _ in pairs])
    w = fit(pictures[inside], wanted / wanted.sum(axis=1, keepdims=True), 64, 12, decay=0.1, dropped=0.1)
    said = outputs(pictures, _single(w))
    x = [start_features(near, logits) for (near, _), logits in zip(pairs, said, strict=True)]
    return {
        **w,
        "linear": best_of(
            [(one, near.changes[:, 2] - time) for one, (near, time) in zip(x, pairs, strict=True)]
        ),
    }


def moved(near: Near, steps: int) -> Near:
    """As if the attack were known some steps later: where the rise is strongest depends on where frames
    happen to lie.
    """
    bands = len(BANDS_HZ)
    levels, peaks = near.picture[:-bands].reshape(bands, PICTURE_STEPS), near.picture[-bands:]
    at = np.clip(np.arange(PICTURE_STEPS) + steps, 0, PICTURE_STEPS - 1)
    return replace(
        near, rough_s=near.rough_s + steps * PICTURE_S, picture=np.concatenate([levels[:, at].ravel(), peaks])
    )


def best_of(rows: list[tuple[np.ndarray, np.ndarray]]) -> np.ndarray:
    """A linear model of (features of changes, their distance from the start) whose largest value names the
    start.
    """
    x, off = np.concatenate([row[0] for row in rows]), np.concatenate([row[1] for row in rows])
    own = np.repeat(np.arange(len(rows)), [len(row[1]) for row in rows])
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
        gradient = (z * ((raised / total[own] - raised * right / good[own]) * has[own])[:, None]).sum(
            axis=0
        ) / has.sum()
        return float(value), gradient + 2e-3 * p

    return np.asarray(optimize.minimize(loss, np.zeros(z.shape[1]), jac=True, method="L-BFGS-B").x / spread)


def _single(w: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    return {name: value.astype(np.float32) for name, value in w.items()}


def report(rows: list[Rows], attacks: dict[str, np.ndarray], starts: dict[str, np.ndarray]) -> None:
    """Per kind of what was held out: how many attacks are found and how many are none, and how far off starts
    are.
    """
    w, v = _single(attacks), _single(starts)
    for kind in sorted({row.kind for row in rows}):
        hits = wrong = asked = 0
        off = []
        for row in (row for row in rows if row.kind == kind):
            taken = outputs(row.seen.astype(np.float32), w)[:, 0] > 0
            hits, wrong, asked = (
                hits + int((taken & (row.label == 1)).sum()),
                wrong + int((taken & (row.label == 0)).sum()),
                asked + row.asked,
            )
            for near, time in row.starts:
                if len(near.changes):
                    x = start_features(near, outputs(near.picture[None], v)[0])
                    off.append(near.changes[np.argmax(x @ v["linear"]), 2] - time)
        far = np.abs(np.array(off))
        precision, recall = hits / max(1, hits + wrong), hits / max(1, asked)
        print(
            f"{kind:16s} precision {precision:.3f}, recall {recall:.3f}; "
            f"starts within 3 ms {np.mean(far < 0.003):.3f}, within 10 ms {np.mean(far < 0.01):.3f}, "
            f"median {1000 * np.median(off):.2f} ms"
        )


def keep(name: str, w: dict[str, np.ndarray]) -> None:
    exact = ("centre", "spread", "linear")
    np.savez_compressed(
        WEIGHTS_DIR / name,
        **{key: value.astype(np.float32 if key in exact else np.float16) for key, value in w.items()},
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--songs", type=int, default=800)
    parser.add_argument("--pieces", type=int, default=300)
    parser.add_argument("--plain", type=int, default=150, help="takes of bare strokes")
    parser.add_argument("--noise", type=int, default=120, help="takes of noise in which nothing is struck")
    parser.add_argument("--rows", type=Path, help="where what is seen of all songs is kept")
    parser.add_argument(
        "--only-fit", action="store_true", help="without the report on songs that are held out"
    )
    options = parser.parse_args()
    if options.rows and options.rows.exists():
        rows = pickle.loads(options.rows.read_bytes())
    else:
        counts = (
            ("song", options.songs),
            ("piece", options.pieces),
            ("plain", options.plain),
            ("noise", options.noise),
        )
        jobs = [(name, seed) for name, count in counts for seed in range(count)]
        with ProcessPoolExecutor(2) as pool:
            rows = list(pool.map(one, jobs, chunksize=4))
        if options.rows:
            options.rows.write_bytes(pickle.dumps(rows))
    if not options.only_fit:
        known = [row for k, row in enumerate(rows) if k % HELD_OUT]
        report(rows[::HELD_OUT], learnt_attacks(known), learnt_starts(known))
    keep(ATTACK_WEIGHTS, learnt_attacks(rows))
    keep(START_WEIGHTS, learnt_starts(rows))


if __name__ == "__main__":
    main()
