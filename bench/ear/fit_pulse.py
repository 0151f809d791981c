"""The training loop of `bench/ear/learn.py` in jax; the shape of the network is that of
`core/beats/activations.py`.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import jax
import jax.numpy as jnp
import numpy as np
import optax

from combpace.core.beats.activations import METERS, PAIR

Params = dict[str, Any]


def keep(
    path: Path,
    number: int,
    params: Params,
    centre: np.ndarray,
    spread: np.ndarray,
    trained: np.ndarray,
    held_out: np.ndarray,
) -> None:
    """After a pass: say how it went, and write the weights as float16 with the inputs' centre and spread."""
    print(f"pass {number}: trained {trained.round(4)}, held out {held_out.round(4)}", flush=True)
    stored = {name: np.asarray(value, np.float16) for name, value in params.items()}
    np.savez_compressed(path, centre=centre.astype(np.float32), spread=spread.astype(np.float32), **stored)


def start(key: jax.Array, inputs: int, bias: jax.Array, channels: int, layers: int, taps: int) -> Params:
    """Weights to begin with; `bias` is that of the outputs."""

    def weight(key: jax.Array, rows: int, columns: int, gain: float = 1.0) -> jax.Array:
        return gain * jax.random.normal(key, (rows, columns)) / np.sqrt(rows)

    keys = jax.random.split(key, 2 * layers + 3)
    params: Params = {
        "in_w": weight(keys[0], 3 * inputs, channels),
        "in_b": jnp.zeros(channels),
        "out_w": weight(keys[1], channels, len(bias), 0.5),
        "out_b": bias,
    }
    for k in range(layers):
        params[f"w{k}"] = weight(keys[2 + 2 * k], taps * channels, 2 * channels)
        params[f"b{k}"] = jnp.zeros(2 * channels)
        params[f"v{k}"] = weight(keys[3 + 2 * k], channels, channels, 0.5)
    return params


def shifted(x: jax.Array, taps: int, dilation: int) -> jax.Array:
    """x and its neighbours `dilation` apart, side by side; zeros beyond the ends. Shape (batch, frames, taps
    * channels).
    """
    reach = dilation * (taps // 2)
    padded = jnp.pad(x, ((0, 0), (reach, reach), (0, 0)))
    return jnp.concatenate([padded[:, k * dilation : k * dilation + x.shape[1]] for k in range(taps)], axis=2)


def forward(
    params: Params,
    x: jax.Array,
    layers: int,
    taps: int,
    key: jax.Array | None = None,
    inside: jax.Array | float = 1.0,
) -> jax.Array:
    """Logits; `inside` is 0 where a row lies beyond the end of its example."""
    h = inside * jnp.tanh(shifted(x, 3, 1) @ params["in_w"] + params["in_b"])
    total = jnp.zeros_like(h)
    for k in range(layers):
        z = shifted(h, taps, 2**k) @ params[f"w{k}"] + params[f"b{k}"]
        a, b = jnp.split(z, 2, axis=2)
        z = jnp.tanh(a) * jax.nn.sigmoid(b)
        if key is not None:
            key, now = jax.random.split(key)
            z = z * jax.random.bernoulli(now, 0.9, (z.shape[0], 1, z.shape[2])) / 0.9
        z = inside * (z @ params[f"v{k}"])
        h = h + z
        total = total + z
    return jnp.tanh(total + h) @ params["out_w"] + params["out_b"]


def losses(
    params: Params,
    x: jax.Array,
    y: jax.Array,
    meter: jax.Array,
    layers: int,
    taps: int,
    key: jax.Array | None,
) -> jax.Array:
    out = forward(params, x, layers, taps, key)
    batch, pairs, _ = out.shape
    asked = y[:, 2]
    beat = out[:, :, :PAIR].reshape(batch, pairs * PAIR)
    down = out[:, :, PAIR : 2 * PAIR].reshape(batch, pairs * PAIR)
    entropy = optax.sigmoid_binary_cross_entropy
    a = (entropy(beat, y[:, 0]) * asked).sum() / asked.sum()
    b = (entropy(down, y[:, 1]) * asked).sum() / asked.sum()
    known = (meter >= 0) & (asked[:, ::PAIR] > 0)
    c = optax.softmax_cross_entropy_with_integer_labels(out[:, :, 2 * PAIR :], jnp.maximum(meter, 0))
    c = (c * known).sum() / known.sum()
    return jnp.stack([a, b, c])


def fit(
    x: np.ndarray, y: np.ndarray, meter: np.ndarray, passes: int, path: Path, held_out: int,
    shape: tuple[int, int, int], go_on: bool,
) -> None:  # fmt: skip
    """Train and write the weights (float16) with the inputs' centre and spread; every `held_out`-th song is
    kept back.

    shape  channels, layers, taps
    go_on  from the weights that are there, with smaller steps
    """
    channels, layers, taps = shape
    sample = x[::7].astype(np.float32).reshape(-1, x.shape[2])
    centre, spread = sample.mean(axis=0), sample.std(axis=0) + 1e-3
    test = np.arange(len(x)) % held_out == 0
    train = np.flatnonzero(~test)
    bias = jnp.concatenate([jnp.full(2 * PAIR, -3.0), jnp.zeros(len(METERS))])
    params = start(jax.random.PRNGKey(1), x.shape[2], bias, channels, layers, taps)
    batch = 16
    steps = passes * (len(train) // batch)
    if go_on:
        with np.load(path) as kept:
            params = {
                name: jnp.asarray(kept[name], jnp.float32)
                for name in kept.files
                if name not in ("centre", "spread")
            }
            centre, spread = kept["centre"], kept["spread"]
    schedule = optax.warmup_cosine_decay_schedule(1e-4, 1.5e-3 if go_on else 4e-3, 200, steps, 2e-5)
    optimiser = optax.chain(optax.clip_by_global_norm(1.0), optax.adamw(schedule, weight_decay=1e-4))
    state = optimiser.init(params)
    # A meter holds for many frames that say the same: its weight is small, but not so small that it is not
    # learnt.
    scale = jnp.array([1.0, 1.5, 0.15])

    @jax.jit
    def step(
        params: Params, state: Any, x: jax.Array, y: jax.Array, m: jax.Array, key: jax.Array
    ) -> tuple[Params, Any, jax.Array]:
        def loss(params: Params) -> tuple[jax.Array, jax.Array]:
            parts = losses(params, x, y, m, layers, taps, key)
            return (parts * scale).sum(), parts

        (_, parts), gradient = jax.value_and_grad(loss, has_aux=True)(params)
        updates, state = optimiser.update(gradient, state, params)
        return optax.apply_updates(params, updates), state, parts

    judge = jax.jit(lambda params, x, y, m: losses(params, x, y, m, layers, taps, None))
    rng = np.random.default_rng(0)
    key = jax.random.PRNGKey(2)

    def given(index: np.ndarray, vary: bool) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        inputs = x[index].astype(np.float32)
        if vary:
            # Other mixes of the same playing: bands louder or softer, the harmony unheard, a little noise.
            bands = np.exp(0.25 * rng.standard_normal((len(index), 1, 8)))
            inputs[:, :, :16] *= np.concatenate([bands, bands], axis=2)
            inputs[:, :, 16:20] *= np.exp(0.2 * rng.standard_normal((len(index), 1, 4)))
            inputs[:, :, 21:] *= rng.random((len(index), 1, 1)) > 0.1
            inputs += 0.03 * rng.standard_normal((len(index), 1, inputs.shape[2])) * spread
        return (inputs - centre) / spread, y[index].astype(np.float32), meter[index].astype(np.int32)

    for one in range(passes):
        order = rng.permutation(train)
        seen = []
        for first in range(0, len(order) - batch + 1, batch):
            key, now = jax.random.split(key)
            params, state, parts = step(
                params, state, *given(np.sort(order[first : first + batch]), True), now
            )
            seen.append(parts)
        kept = [
            np.asarray(judge(params, *given(part, False)))
            for part in np.array_split(np.flatnonzero(test), max(1, test.sum() // 32))
        ]
        keep(path, one + 1, params, centre, spread, np.mean(np.array(seen), axis=0), np.mean(kept, axis=0))
