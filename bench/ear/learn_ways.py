"""Learn which way to count is right: `PYTHONPATH=.:src python -m bench.ear.learn_ways [--songs N] [--sampled
N] [--rows FILE]`.

Needs jax and optax, as `bench.ear.learn` does. Of generated songs that nothing else was learnt from, all ways
to count that `core/beats/track.py` offers are compared with the truth; a small network (the mean of MEMBERS
of them, core/beats/readings.py) learns to put the best first. A part of the songs is heard through a spoilt
pulse, as music is that the pulse network does not know: what it says is flattened, shifted and mixed with
attacks that are no beats.
"""

from __future__ import annotations

import argparse
import pickle
import warnings
from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import mir_eval
import numpy as np

from bench.ear.sampled import to_learn
from bench.ear.songs import Song, song
from combpace.core.audio import ArraySource
from combpace.core.beats.activations import Activations, hear_activations
from combpace.core.beats.candidates import offered_readings
from combpace.core.beats.decoder import Weights
from combpace.core.beats.readings import INPUTS, WEIGHTS, Reading, features, rows_of, take_of
from combpace.core.spectra import onset_strength

OUT = Path(__file__).resolve().parents[2] / "src" / "combpace" / "core" / "networks" / WEIGHTS
FIRST = 930_000
HIDDEN, MEMBERS, STEPS, BATCH, MOST = 16, 8, 1500, 64, 72
# What a unit of quality is worth in nats: beats within 70 ms (F), and in the longest right stretch counted as
# they are (CMLt).
SHARP, CONTINUITY = 10.0, 0.5
HELD_OUT = 4
Example = tuple[str, list[Reading], np.ndarray, np.ndarray]


def spoilt(pulse: Activations, rng: np.random.Generator) -> Activations:
    """As music is heard that is unlike what the network learnt from."""
    attacks, frames = take_of(pulse).attacks, len(pulse.beat)

    def odds(p: np.ndarray) -> np.ndarray:
        p = np.clip(p.astype(np.float64), 1e-5, 1 - 1e-5)
        return np.log(p / (1 - p))

    def likely(z: np.ndarray) -> np.ndarray:
        return (1 / (1 + np.exp(-np.clip(z, -12, 12)))).astype(np.float32)

    share, lower = rng.uniform(0.15, 0.7), rng.uniform(-1.5, 0.2)
    some = np.repeat(rng.random(frames // 9 + 1) < 0.5, 9)[:frames]
    false = np.zeros(frames)
    count = min(frames, len(attacks))
    false[:count] = rng.uniform(0, 2.5) * attacks[:count] * some[:count]
    beat = odds(pulse.beat)
    beat = -4 + share * (beat + 4) + lower * (beat > -2.5) + false + rng.normal(0, 0.5, frames)
    down = -5 + share * (odds(pulse.downbeat) + 5) + 0.6 * false + rng.normal(0, 0.5, frames)
    known = rng.uniform(0.2, 0.7)
    meter = known * pulse.meter + (1 - known) * pulse.meter.mean(axis=0)
    return Activations(likely(beat), likely(down), meter.astype(np.float32), pulse.inputs)


def compared(kind: str, pulse: Activations, truth: np.ndarray) -> Example:
    """(kind of song, ways, features, quality of each)."""
    truth = mir_eval.beat.trim_beats(truth)
    ways, values, quality = [], [], []
    for way in offered_readings(pulse, (), np.zeros(0), Weights()):
        if len(way.row) < 4:
            continue
        said = mir_eval.beat.trim_beats(way.row)
        ways.append(way)
        values.append(features(take_of(pulse), way))
        f = mir_eval.beat.f_measure(truth, said)
        quality.append((f, mir_eval.beat.continuity(truth, said)[1] if len(said) > 1 else 0.0))
    return kind, ways, np.array(values), np.array(quality)


def examples(seed: int, pulse: Activations, truth: np.ndarray, kind: str) -> list[Example]:
    rng = np.random.default_rng([seed, 9])
    made = [compared(kind, pulse, truth)]
    return made if seed % 5 == 4 else [*made, compared(kind, spoilt(pulse, rng), truth)]


def one(seed: int) -> list[Example]:
    return of_song(seed, song(seed))


def one_sampled(seed: int) -> list[Example]:
    return of_song(seed, to_learn(seed))


def of_song(seed: int, made: Song) -> list[Example]:
    warnings.simplefilter("ignore")
    source = ArraySource(made.audio)
    truth = np.array([*made.pickup, *(time for bar in made.bars for time in bar.beats)])
    return examples(seed, hear_activations(source, onset_strength(source)), truth, made.kind)


def arrays(
    rows: Iterable[list[Example]],
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """(inputs, quality, which are ways, kind of song, which song), the first three of MOST ways."""
    flat = [(index, row) for index, made in enumerate(rows) for row in made if len(row[1])]
    x = np.zeros((len(flat), MOST, INPUTS), np.float32)
    quality, there = np.zeros((len(flat), MOST, 2), np.float32), np.zeros((len(flat), MOST), bool)
    for i, (_, (_, ways, values, good)) in enumerate(flat):
        n = min(MOST, len(ways))
        x[i, :n], quality[i, :n], there[i, :n] = (
            rows_of(values, [way.kind for way in ways])[:n],
            good[:n],
            True,
        )
    return x, quality, there, np.array([row[0] for _, row in flat]), np.array([index for index, _ in flat])


def fit(x: np.ndarray, quality: np.ndarray, there: np.ndarray, member: int) -> dict[str, np.ndarray]:
    import jax
    import jax.numpy as jnp
    import optax

    keys = jax.random.split(jax.random.PRNGKey(member))
    width = x.shape[-1]
    params = {
        "w1": jax.random.normal(keys[0], (width, HIDDEN)) * 0.5 / np.sqrt(width), "b1": jnp.zeros(HIDDEN),
        "w2": 0.3 * jax.random.normal(keys[1], (HIDDEN,)), "v": jnp.zeros(width),
    }  # fmt: skip
    wanted = SHARP * (quality[..., 0] + CONTINUITY * quality[..., 1])

    def loss(p: dict[str, Any], x: Any, wanted: Any, there: Any) -> Any:
        said = jnp.where(there, jnp.tanh(x @ p["w1"] + p["b1"]) @ p["w2"] + x @ p["v"], -1e9)
        target = jax.nn.softmax(jnp.where(there, wanted, -1e9))
        cost = -(target * jnp.where(there, jax.nn.log_softmax(said), 0)).sum(axis=-1).mean()
        return cost + 1e-2 * ((p["w1"] ** 2).sum() + (p["w2"] ** 2).sum()) + 5e-3 * (p["v"] ** 2).sum()

    optimiser = optax.adam(optax.cosine_decay_schedule(5e-3, STEPS))
    state = optimiser.init(params)

    @jax.jit
    def step(p: Any, state: Any, x: Any, wanted: Any, there: Any) -> Any:
        updates, state = optimiser.update(jax.grad(loss)(p, x, wanted, there), state, p)
        return optax.apply_updates(p, updates), state

    rng = np.random.default_rng(member)
    for _ in range(STEPS):
        batch = rng.choice(len(x), BATCH)
        noisy = x[batch] + 0.1 * rng.standard_normal(x[batch].shape).astype(np.float32)
        params, state = step(params, state, noisy, wanted[batch], there[batch])
    return {name: np.asarray(value) for name, value in params.items()}


def learnt(x: np.ndarray, quality: np.ndarray, there: np.ndarray) -> dict[str, np.ndarray]:
    flat = x[there]
    centre, spread = flat.mean(axis=0), flat.std(axis=0) + 1e-3
    z = np.where(there[..., None], np.clip((x - centre) / spread, -6, 6), 0).astype(np.float32)
    members = [fit(z, quality, there, member) for member in range(MEMBERS)]
    return {
        "centre": centre,
        "spread": spread,
        **{name: np.stack([m[name] for m in members]) for name in members[0]},
    }


def chosen(w: dict[str, np.ndarray], x: np.ndarray, there: np.ndarray) -> np.ndarray:
    z = np.clip((x - w["centre"]) / w["spread"], -6, 6)
    said = np.mean(
        [np.tanh(z @ w["w1"][k] + w["b1"][k]) @ w["w2"][k] + z @ w["v"][k] for k in range(MEMBERS)], axis=0
    )
    return np.argmax(np.where(there, said, -np.inf), axis=1)


def report(
    x: np.ndarray, quality: np.ndarray, there: np.ndarray, kinds: np.ndarray, songs: np.ndarray
) -> None:
    """How good the chosen ways of songs are that were held out, and the best that was offered."""
    got = np.zeros((len(x), 2))
    for part in range(HELD_OUT):
        test = songs % HELD_OUT == part
        w = learnt(x[~test], quality[~test], there[~test])
        got[test] = quality[test][np.arange(test.sum()), chosen(w, x[test], there[test])]
    best = np.where(there, quality[..., 0], 0).max(axis=1)
    ways, f, c = there.sum(axis=1).mean(), got[:, 0].mean(), got[:, 1].mean()
    print(f"{len(x)} takes, {ways:.0f} ways each, four-fold: F {f:.3f}, CMLt {c:.3f}; best {best.mean():.3f}")
    for kind in sorted(set(kinds)):
        of = kinds == kind
        print(
            f"  {kind:8s} {of.sum():4d}: F {got[of, 0].mean():.3f}, CMLt {got[of, 1].mean():.3f}; "
            f"best {best[of].mean():.3f}"
        )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--songs", type=int, default=2000)
    parser.add_argument(
        "--sampled", type=int, default=0, help="so many more songs on instruments of a sound font"
    )
    parser.add_argument("--rows", type=Path, help="where the ways of all songs are kept")
    parser.add_argument(
        "--only-fit", action="store_true", help="without the report on songs that are held out"
    )
    options = parser.parse_args()
    if options.rows and options.rows.exists():
        made = pickle.loads(options.rows.read_bytes())
    else:
        with ProcessPoolExecutor(2) as pool:
            made = [*pool.map(one, range(FIRST, FIRST + options.songs), chunksize=5)]
            made += pool.map(one_sampled, range(FIRST, FIRST + options.sampled), chunksize=5)
        if options.rows:
            options.rows.write_bytes(pickle.dumps(made))
    x, quality, there, kinds, songs = arrays(made)
    if not options.only_fit:
        report(x, quality, there, kinds, songs)
    weights = learnt(x, quality, there)
    np.savez_compressed(
        OUT,
        **{
            name: value.astype(np.float16 if name not in ("centre", "spread") else np.float32)
            for name, value in weights.items()
        },
    )


if __name__ == "__main__":
    main()
