"""Learn the weights of `core/beats/activations.py`: `python -m bench.ear.learn --songs 6000 --sampled 2000
--passes 14 [--cache DIR]`.

Needs `pip install jax optax` beside the project (training only; what ships is numpy), with --sampled `mido`,
too. Composes and synthesises songs (bench/ear/songs.py), a part of them on instruments of a sound font
(bench/ear/sampled.py), trains, reports on songs that were held out, and writes
`src/combpace/core/networks/pulse_weights.npz`. Songs are made in two processes, a third of a second each; a
pass over 6000 of them takes about two minutes on two cores.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from bench.ear.sampled import to_learn
from bench.ear.songs import Song, song
from combpace.core.audio import ArraySource
from combpace.core.beats.activations import FRAMES_PER_S, INPUTS, METERS, PAIR, inputs_of
from combpace.core.spectra import onset_strength

OUT = Path(__file__).resolve().parents[2] / "src" / "combpace" / "core" / "networks" / "pulse_weights.npz"
PAIRS = 1200
HELD_OUT = 10
CHANNELS, LAYERS, TAPS = 28, 9, 5
Example = tuple[np.ndarray, np.ndarray, np.ndarray]


def example_sampled(seed: int) -> Example:
    return example_of(to_learn(seed))


def example(seed: int) -> Example:
    return example_of(song(seed))


def example_of(made: Song) -> Example:
    """(inputs, targets per frame: beat and downbeat, meter per pair or -1 where nothing is asked), PAIRS
    long.
    """
    source = ArraySource(made.audio)
    x = inputs_of(source, onset_strength(source))
    frames = PAIRS * PAIR
    y = np.zeros((2, frames), np.float32)
    meter = np.full(PAIRS, -1, np.int8)
    asked = np.ones(frames, np.float32)

    def mark(row: int, time_s: float) -> None:
        at = round(time_s * FRAMES_PER_S)
        for shift, value in ((0, 1.0), (-1, 0.5), (1, 0.5)):
            if 0 <= at + shift < frames:
                y[row, at + shift] = max(y[row, at + shift], value)

    for time_s in made.pickup:
        mark(0, time_s)
    for bar, following in zip(made.bars, [*made.bars[1:], None], strict=True):
        for time_s in bar.beats:
            mark(0, time_s)
        mark(1, bar.start_s)
        end = following.start_s if following else bar.start_s + len(bar.beats) * (bar.beats[1] - bar.beats[0])
        meter[round(bar.start_s * FRAMES_PER_S / PAIR) : round(end * FRAMES_PER_S / PAIR)] = METERS.index(
            bar.meter
        )
    for a, b in made.unasked:
        asked[max(0, round(a * FRAMES_PER_S)) : round(b * FRAMES_PER_S)] = 0
    inputs = np.zeros((PAIRS, INPUTS), np.float16)
    n = min(PAIRS, len(x))
    inputs[:n] = x[:n]
    asked[n * PAIR :] = 0
    return inputs, np.concatenate([y, asked[None]]).astype(np.float16), meter


def data(songs: int, cache: Path, make: Callable[[int], Example], first: int = 0) -> Example:
    cache.mkdir(parents=True, exist_ok=True)
    parts = []
    for chunk in range(first, first + songs, 500):
        path = cache / f"{chunk}.npz"
        if not path.exists():
            begun = time.time()
            with ProcessPoolExecutor(2) as pool:
                made = list(pool.map(make, range(chunk, chunk + 500), chunksize=10))
            np.savez(
                path,
                x=np.stack([m[0] for m in made]),
                y=np.stack([m[1] for m in made]),
                m=np.stack([m[2] for m in made]),
            )
            print(f"songs {chunk}-{chunk + 499} made in {time.time() - begun:.0f} s", flush=True)
        with np.load(path) as kept:
            parts.append((kept["x"], kept["y"], kept["m"]))
    return tuple(np.concatenate([part[k] for part in parts]) for k in range(3))  # type: ignore[return-value]


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--songs", type=int, default=6000)
    parser.add_argument("--first", type=int, default=0, help="seed of the first synthesised song")
    parser.add_argument(
        "--sampled",
        type=int,
        default=0,
        help="songs on instruments of a sound font; kept in the folder sampled of the cache",
    )
    parser.add_argument("--passes", type=int, default=14)
    parser.add_argument("--cache", type=Path, default=Path("/tmp/combpace-songs"))
    parser.add_argument("--only-make", action="store_true")
    parser.add_argument("--go-on", action="store_true", help="from the weights that are there")
    options = parser.parse_args()
    kinds = [data(options.songs, options.cache, example, options.first)]
    if options.sampled:
        kinds.append(data(options.sampled, options.cache / "sampled", example_sampled))
    x, y, meter = (np.concatenate([kind[k] for kind in kinds]) for k in range(3))
    print(x.shape, y.shape)
    if not options.only_make:
        from bench.ear.fit_pulse import fit

        fit(x, y, meter, options.passes, OUT, HELD_OUT, (CHANNELS, LAYERS, TAPS), options.go_on)


if __name__ == "__main__":
    main()
