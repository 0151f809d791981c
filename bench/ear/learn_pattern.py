"""Learn the weights of `core/beats/meter_network.py`: `python -m bench.ear.learn_pattern --first 1500 --songs
3000 [--second] [--cache DIR]`.

After `bench.ear.learn`, with what it left in its cache and the weights it wrote. A song gives several rows of
beats: the true ones, a little off, and those that the decoder offers.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from combpace.core.beats.activations import FRAMES_PER_S, METERS, PAIR, activations_from
from combpace.core.beats.candidates import whole_readings
from combpace.core.beats.decoder import Weights
from combpace.core.beats.meter_network import INPUTS, SECOND, WEIGHTS, inputs_of_beats
from combpace.core.beats.sections import SHARED_S, changed

WEIGHTS_DIR = Path(__file__).resolve().parents[2] / "src" / "combpace" / "core" / "networks"
BEATS = 128
ROWS, PARTLY = 12, 2
CHANNELS, LAYERS, TAPS = 40, 6, 5
HELD_OUT = 10
Example = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]


def examples(job: tuple[int, np.ndarray, np.ndarray, np.ndarray]) -> list[Example]:
    """(features, is a downbeat, meter or -1, counted right, inside) of up to ROWS rows of beats of one song.

    The true beats, a little off; these with a section that is counted as the decoder offers it; and the ways
    to count that it offers, right and wrong. A beat is counted right when it lies on a true one and a
    neighbour lies on the true one's neighbour.
    """
    seed, x, y, meters = job
    rng = np.random.default_rng([seed, 5])
    beats = np.flatnonzero(y[0] >= 1.0) / FRAMES_PER_S
    if len(beats) < 8:
        return []
    lines = np.flatnonzero(y[1] >= 1.0) / FRAMES_PER_S
    pulse = activations_from(x.astype(np.float32))
    down = np.min(np.abs(beats[:, None] - lines[None, :]), axis=1) < 0.015
    meter = meters[np.clip(np.round(beats * FRAMES_PER_S / PAIR + 1).astype(int), 0, len(meters) - 1)]
    offered = [way.row for way in whole_readings(pulse, (), np.zeros(0), Weights())]
    order = [0, *(1 + rng.permutation(len(offered) - 1)).tolist()] if offered else []
    a, b = int(rng.integers(0, 4)), len(beats) - int(rng.integers(0, 4))
    rows = [
        beats,
        beats[a:b],
        *_partly(beats, [offered[k] for k in order[1:]], rng),
        *(offered[k] for k in order),
    ][:ROWS]
    out = []
    for chosen in rows:
        chosen = chosen[:BEATS]
        if len(chosen) < 4:
            continue
        n = len(chosen)
        off = np.clip(rng.normal(0, rng.uniform(0.001, 0.012), n), -0.025, 0.025)
        moved = np.maximum.accumulate(chosen + off + 1e-4 * np.arange(n))
        near = np.argmin(np.abs(chosen[:, None] - beats[None, :]), axis=1)
        on = np.abs(chosen - beats[near]) < 0.045
        following = np.append(on[1:] & (np.diff(near) == 1), False)
        right = on & (following | np.append(False, following[:-1]))
        features = np.zeros((BEATS, INPUTS), np.float16)
        features[:n] = inputs_of_beats(pulse, moved)
        marks = [np.zeros(BEATS, np.float32) for _ in range(3)]
        said = np.full(BEATS, -1, np.int8)
        asked = y[2][np.clip(np.round(chosen * FRAMES_PER_S).astype(int), 0, y.shape[1] - 1)] > 0
        marks[0][:n], marks[1][:n], marks[2][:n], said[:n] = down[near] & right, right, asked, meter[near]
        out.append((features, marks[0], said, marks[1], marks[2]))
    return out


def _partly(beats: np.ndarray, others: list[np.ndarray], rng: np.random.Generator) -> list[np.ndarray]:
    """The true beats with a section that another row counts, from one shared beat on or up to one: PARTLY
    rows.
    """
    out: list[np.ndarray] = []
    for other in others:
        shared = beats[np.abs(beats[:, None] - other[None, :]).min(axis=1) < SHARED_S]
        shared = shared[(shared > beats[4]) & (shared < beats[-4])]
        if len(out) == PARTLY or not len(shared):
            continue
        at = float(rng.choice(shared))
        out.append(changed(beats, other, *((0.0, at) if rng.random() < 0.5 else (at, np.inf))))
    return out


def data(first: int, songs: int, cache: Path) -> list[np.ndarray]:
    made: list[Example] = []
    owner: list[int] = []
    with ProcessPoolExecutor(2) as pool:
        for chunk in range(first, first + songs, 500):
            with np.load(cache / f"{chunk}.npz") as kept:
                x, y, m = kept["x"], kept["y"].astype(np.float32), kept["m"]
            jobs = [(chunk + k, x[k], y[k], m[k]) for k in range(len(x))]
            for job, rows in zip(jobs, pool.map(examples, jobs, chunksize=25), strict=True):
                made += rows
                owner += [job[0]] * len(rows)
            print(f"songs to {chunk + 500}: {len(made)} rows", flush=True)
    return [np.stack([rows[k] for rows in made]) for k in range(5)] + [np.array(owner)]


def fit(parts: list[np.ndarray], passes: int, path: Path, go_on: bool) -> None:
    """Train and write the weights.

    go_on  from those that are there, with smaller steps, and then half-way back: of songs that were held out
           such weights knew more than those of either end (as Wortsman et al. 2022, Robust fine-tuning of
           zero-shot models, found of larger networks)
    """
    import jax
    import jax.numpy as jnp
    import optax

    from bench.ear.fit_pulse import forward, keep, start

    x, down, meter, level, inside, owner = parts
    sample = x[::5][inside[::5] > 0].astype(np.float32)
    centre, spread = sample.mean(axis=0), sample.std(axis=0) + 1e-3
    bias = jnp.concatenate([jnp.array([-1.0]), jnp.zeros(len(METERS) + 1)])
    params = start(jax.random.PRNGKey(3), INPUTS, bias, CHANNELS, LAYERS, TAPS)
    if go_on:
        with np.load(path) as kept:
            params = {
                name: jnp.asarray(kept[name], jnp.float32)
                for name in kept.files
                if name not in ("centre", "spread")
            }
            centre, spread = kept["centre"], kept["spread"]
    begun = params
    test = owner % HELD_OUT == 0
    train = np.flatnonzero(~test)
    batch = 32
    steps = passes * (len(train) // batch)
    optimiser = optax.chain(
        optax.clip_by_global_norm(1.0),
        optax.adamw(
            optax.warmup_cosine_decay_schedule(1e-4, 1.5e-3 if go_on else 4e-3, 200, steps, 2e-5),
            weight_decay=1e-3,
        ),
    )
    state = optimiser.init(params)
    scale = jnp.array([1.0, 0.5, 1.0])

    def losses(
        params: dict,
        x: jax.Array,
        d: jax.Array,
        m: jax.Array,
        v: jax.Array,
        inside: jax.Array,
        key: jax.Array | None,
    ) -> jax.Array:
        out = forward(params, x, LAYERS, TAPS, key, inside[:, :, None])
        right = inside * v
        a = (optax.sigmoid_binary_cross_entropy(out[:, :, 0], d) * right).sum() / right.sum()
        known = right * (m >= 0)
        b = (
            optax.softmax_cross_entropy_with_integer_labels(out[:, :, 1 : 1 + len(METERS)], jnp.maximum(m, 0))
            * known
        ).sum() / known.sum()
        c = (optax.sigmoid_binary_cross_entropy(out[:, :, 1 + len(METERS)], v) * inside).sum() / inside.sum()
        return jnp.stack([a, b, c])

    @jax.jit
    def step(
        params: dict, state: object, key: jax.Array, *given: jax.Array
    ) -> tuple[dict, object, jax.Array]:
        def loss(params: dict) -> tuple[jax.Array, jax.Array]:
            found = losses(params, *given, key)
            return (found * scale).sum(), found

        (_, found), gradient = jax.value_and_grad(loss, has_aux=True)(params)
        updates, state = optimiser.update(gradient, state, params)
        return optax.apply_updates(params, updates), state, found

    judge = jax.jit(lambda params, *given: losses(params, *given, None))
    # What is there was learnt in one order; going on takes another.
    rng, key = np.random.default_rng(int(go_on)), jax.random.PRNGKey(4 + int(go_on))

    def given(index: np.ndarray, vary: bool) -> tuple[np.ndarray, ...]:
        rows = (x[index].astype(np.float32) - centre) / spread
        if vary:
            rows += 0.1 * rng.standard_normal(rows.shape)
        return (
            rows * inside[index][:, :, None],
            down[index],
            meter[index].astype(np.int32),
            level[index],
            inside[index],
        )

    for one in range(passes):
        order, seen = rng.permutation(train), []
        for first in range(0, len(order) - batch + 1, batch):
            key, now = jax.random.split(key)
            params, state, found = step(
                params, state, now, *given(np.sort(order[first : first + batch]), True)
            )
            seen.append(found)
        if go_on and one + 1 == passes:
            params = jax.tree.map(lambda a, b: (a + b) / 2, begun, params)
        kept = [
            np.asarray(judge(params, *given(part, False)))
            for part in np.array_split(np.flatnonzero(test), max(1, test.sum() // 64))
        ]
        keep(path, one + 1, params, centre, spread, np.mean(np.array(seen), axis=0), np.mean(kept, axis=0))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--songs", type=int, default=4500)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--passes", type=int, default=12)
    parser.add_argument("--go-on", action="store_true", help="from the weights that are there")
    parser.add_argument(
        "--second", action="store_true", help="the second of the two networks whose mean counts"
    )
    parser.add_argument("--cache", type=Path, default=Path("/tmp/combpace-songs"))
    parser.add_argument("--rows", type=Path, help="where the rows of all songs are kept")
    options = parser.parse_args()
    if options.rows and options.rows.exists():
        with np.load(options.rows) as kept:
            parts = [kept[f"part{k}"] for k in range(6)]
    else:
        parts = data(options.first, options.songs, options.cache)
        if options.rows:
            np.savez(options.rows, **{f"part{k}": part for k, part in enumerate(parts)})
    fit(parts, options.passes, WEIGHTS_DIR / (SECOND if options.second else WEIGHTS), options.go_on)


if __name__ == "__main__":
    main()
