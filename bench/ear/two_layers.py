"""Fit a network of two layers (`core/networks/layers.py`): needs jax and optax, for training only."""

from __future__ import annotations

from typing import Any

import numpy as np

from combpace.core.networks.layers import FURTHEST

BATCH, RATE = 1024, 2e-3


def fit(
    rows: np.ndarray, wanted: np.ndarray, hidden: int, passes: int, *, decay: float, dropped: float
) -> dict[str, np.ndarray]:
    """Weights that say `wanted` of `rows`.

    wanted   shape (n, 1): a probability; (n, k): shares of k places that add up to 1
    decay    of the weights; dropped: share of what is seen that is hidden at each step
    """
    import jax
    import jax.numpy as jnp
    import optax

    centre, spread = rows.mean(axis=0), rows.std(axis=0) + 1e-3
    x, y = (
        np.clip((rows - centre) / spread, -FURTHEST, FURTHEST).astype(np.float32),
        wanted.astype(np.float32),
    )
    key, one, two = jax.random.split(jax.random.PRNGKey(0), 3)
    inputs, places = x.shape[1], y.shape[1]
    params = {
        "w1": jax.random.normal(one, (inputs, hidden)) / np.sqrt(inputs), "b1": jnp.zeros(hidden),
        "w2": jax.random.normal(two, (hidden, places)) / np.sqrt(hidden), "b2": jnp.zeros(places),
    }  # fmt: skip

    def loss(p: dict[str, Any], x: Any, y: Any, key: Any) -> Any:
        x = x * jax.random.bernoulli(key, 1 - dropped, x.shape) / (1 - dropped)
        said = jnp.tanh(x @ p["w1"] + p["b1"]) @ p["w2"] + p["b2"]
        return (
            optax.sigmoid_binary_cross_entropy(said, y)
            if places == 1
            else optax.softmax_cross_entropy(said, y)
        ).mean()

    steps = max(1, passes * (len(x) // BATCH))
    optimiser = optax.adamw(optax.cosine_decay_schedule(RATE, steps), weight_decay=decay)
    state = optimiser.init(params)

    @jax.jit
    def step(p: Any, state: Any, x: Any, y: Any, key: Any) -> Any:
        updates, state = optimiser.update(jax.grad(loss)(p, x, y, key), state, p)
        return optax.apply_updates(p, updates), state

    rng = np.random.default_rng(0)
    for _ in range(passes):
        order = rng.permutation(len(x))
        for first in range(0, len(x) - BATCH + 1, BATCH):
            key, now = jax.random.split(key)
            batch = order[first : first + BATCH]
            params, state = step(params, state, x[batch], y[batch], now)
    return {"centre": centre, "spread": spread, **{name: np.asarray(value) for name, value in params.items()}}
