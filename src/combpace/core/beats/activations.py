"""How music marks its beats and downbeats: features of a take, and a small network that weighs them.

A temporal convolution network with dilations (van den Oord et al. 2016; Davies and Böck 2019 use one for
beats), learnt by `bench/ear/learn.py` from music that this project composes and synthesises itself
(`bench/ear/songs.py`). It says how likely a beat and a downbeat are at each moment and which meter is heard;
`beats.py` and `bars.py` decode that.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from combpace.core.audio import Source
from combpace.core.clocks import FloatArray, IntArray
from combpace.core.networks.weights import weights_of
from combpace.core.spectra import Float32Array, OnsetStrength, rise_of

FRAMES_PER_S = 100.0
# The network works on pairs of frames.
PAIR = 2
RISES, LEVELS = 8, 4
CHROMA_HOP_S, CHROMA_WINDOW_S = 0.05, 0.25
NOVELTY_S = (0.4, 1.2)
# The network was learnt with all of these: none may change without it.
# What is loud is the highest within LOUD_S, averaged over USUAL_S; never less than LEAST_LOUD of the loud
# places of the whole take (quantile LOUD). No rise counts for more than MOST_RISE times that.
LOUD_S, USUAL_S, LEAST_LOUD, LOUD, MOST_RISE = 1.0, 4.0, 0.35, 0.97, 3.0
# Levels of bands over LEVEL_S, in spreads about their own mean; no spread is less than this, none counts
# beyond that.
LEVEL_S, LEAST_SPREAD, MOST_SPREADS = 0.02, 0.05, 3
# The level of all over WHOLE_S against that of loud places.
WHOLE_S, LOUD_WHOLE, MOST_WHOLE = 0.3, 0.9, 2.0
# Chroma: from where to where pitches are folded into an octave, up to where they are bass, how near to a
# semitone counts, and from which share of a frame's highest peak on. BELOW_HALF: of the rate.
LOWEST_HZ, HIGHEST_HZ, BELOW_HALF, BASS_HZ, IN_TUNE, PEAK = 60.0, 2100.0, 0.45, 270.0, 0.3, 0.02
# So much on either side of a moment belongs to neither chord.
CHANGES_S = 0.10
INPUTS = RISES * PAIR + LEVELS + 1 + 2 * len(NOVELTY_S)
METERS = ("4/4", "3/4", "5/4", "6/8", "7/8")
WEIGHTS = "pulse_weights.npz"


@dataclass(frozen=True, slots=True, eq=False)
class Activations:
    """What the network says, at FRAMES_PER_S.

    beat      probability that a beat falls on each frame, shape (frames,)
    downbeat  probability that a downbeat does, shape (frames,)
    meter     probability of each of METERS, shape (frames, len(METERS))
    inputs    what it was said from, as `inputs_of` gives it
    """

    beat: Float32Array
    downbeat: Float32Array
    meter: Float32Array
    inputs: Float32Array


def inputs_of(source: Source, heard: OnsetStrength) -> Float32Array:
    """Features at half of FRAMES_PER_S, shape (pairs, INPUTS); the same for any gain, finite for any
    sound.
    """
    seconds = source.frames / source.sample_rate_hz
    pairs = max(1, int(np.ceil(seconds * FRAMES_PER_S / PAIR)))
    count = pairs * PAIR
    rate = heard.frame_rate_hz
    rise = rise_of(heard.bands)
    width = rise.shape[1] // RISES
    groups = np.stack([rise[:, k * width : (k + 1) * width].mean(axis=1) for k in range(RISES)], axis=1)
    # Half a frame early, so that a rise found in the 5 ms after a frame's time counts for it.
    place = np.clip(np.floor(np.arange(len(groups)) / rate * FRAMES_PER_S + 0.5).astype(int), 0, count - 1)
    pooled = np.zeros((count, RISES), np.float32)
    np.maximum.at(pooled, place, groups)
    total = pooled.mean(axis=1)
    loud = ndimage.maximum_filter1d(total, round(LOUD_S * FRAMES_PER_S))
    loud = ndimage.uniform_filter1d(loud, round(USUAL_S * FRAMES_PER_S), mode="nearest")
    least = LEAST_LOUD * float(np.quantile(total[total > 0], LOUD)) if np.any(total > 0) else 1.0
    reference = np.maximum(loud, least)[:, None]
    rises = np.sqrt(np.minimum(pooled / reference, MOST_RISE)).reshape(pairs, PAIR * RISES)
    width = heard.bands.shape[1] // LEVELS
    levels = np.stack(
        [heard.bands[:, k * width : (k + 1) * width].mean(axis=1) for k in range(LEVELS)], axis=1
    )
    at = np.clip((np.arange(pairs) * PAIR / FRAMES_PER_S * rate + 0.5).astype(int), 0, len(levels) - 1)
    levels = ndimage.uniform_filter1d(levels, max(1, round(LEVEL_S * rate)), axis=0)[at]
    usual = ndimage.uniform_filter1d(levels, round(USUAL_S * FRAMES_PER_S / PAIR), axis=0, mode="nearest")
    square = ndimage.uniform_filter1d(
        (levels - usual) ** 2, round(USUAL_S * FRAMES_PER_S / PAIR), axis=0, mode="nearest"
    )
    spread = np.sqrt(np.maximum(square, 0.0)) + LEAST_SPREAD
    # Running means may end a hair below zero.
    whole = np.maximum(ndimage.uniform_filter1d(heard.level, max(1, round(WHOLE_S * rate)))[at], 0.0)
    share = np.sqrt(np.minimum(whole / max(float(np.quantile(whole, LOUD_WHOLE)), 1e-7), MOST_WHOLE))
    return _halved(
        np.concatenate(
            [
                rises,
                np.clip((levels - usual) / spread, -MOST_SPREADS, MOST_SPREADS),
                share[:, None],
                harmonic_novelty(source, pairs),
            ],
            axis=1,
            dtype=np.float32,
        )
    )


def harmonic_novelty(source: Source, pairs: int) -> Float32Array:
    """How much the chords after each moment differ from those before, 0-1: all and bass chroma at each of
    NOVELTY_S.

    pairs    how many moments, PAIR frames apart
    Returns  shape (pairs, 2 * len(NOVELTY_S)); 0 where less sound is left on one side than is asked for
    """
    rate = source.sample_rate_hz
    hop, size = round(CHROMA_HOP_S * rate), fft.next_fast_len(round(CHROMA_WINDOW_S * rate), real=True)
    frames = source.frames // hop + 1
    freqs = fft.rfftfreq(size, 1 / rate)
    lo, hi = np.searchsorted(freqs, (LOWEST_HZ, min(HIGHEST_HZ, BELOW_HALF * rate)))
    pitch = 69 + 12 * np.log2(freqs[lo:hi] / 440.0)
    fold = np.zeros((hi - lo, 24), np.float32)
    near = np.exp(-0.5 * ((pitch - np.round(pitch)) / IN_TUNE) ** 2)
    fold[np.arange(hi - lo), np.round(pitch).astype(int) % 12] = near
    bass = freqs[lo:hi] < BASS_HZ
    fold[np.flatnonzero(bass), 12 + np.round(pitch[bass]).astype(int) % 12] = near[bass]
    window = np.hanning(size).astype(np.float32)
    chroma = np.zeros((frames, 24), np.float32)
    step = 256
    for first in range(0, frames, step):
        n = min(step, frames - first)
        start = first * hop - size // 2
        block = source.read(start, start + (n - 1) * hop + size).mean(axis=0, dtype=np.float32)
        view = np.lib.stride_tricks.sliding_window_view(block, size)[::hop]
        spectrum = np.abs(fft.rfft(view * window, axis=1))[:, lo - 1 : hi + 1]
        middle = spectrum[:, 1:-1]
        # Only peaks count: noise between them has no pitch.
        peak = (
            (middle > spectrum[:, :-2])
            & (middle >= spectrum[:, 2:])
            & (middle > PEAK * middle.max(axis=1, keepdims=True))
        )
        chroma[first : first + n] = np.where(peak, middle, 0.0) @ fold
    out = []
    energy = np.cumsum(np.concatenate([np.zeros((1, 24)), chroma]), axis=0)
    gap = round(CHANGES_S / CHROMA_HOP_S)
    index = np.arange(frames)
    for seconds in NOVELTY_S:
        reach = round(seconds / CHROMA_HOP_S)

        def between(a: IntArray, b: IntArray) -> FloatArray:
            result: FloatArray = energy[np.clip(b, 0, frames)] - energy[np.clip(a, 0, frames)]
            return result

        after, before = between(index + gap, index + gap + reach), between(index - gap - reach, index - gap)
        for part in (slice(0, 12), slice(12, 24)):
            a, b = np.sqrt(after[:, part]), np.sqrt(before[:, part])
            norm = np.linalg.norm(a, axis=1) * np.linalg.norm(b, axis=1)
            out.append(np.where(norm > 1e-9, 1 - (a * b).sum(axis=1) / np.maximum(norm, 1e-9), 0.0))
    stacked = np.stack(out, axis=1)
    where = np.arange(pairs) * PAIR / FRAMES_PER_S / CHROMA_HOP_S
    return np.stack([np.interp(where, index, stacked[:, k]) for k in range(stacked.shape[1])], axis=1).astype(
        np.float32
    )


def hear_activations(source: Source, heard: OnsetStrength) -> Activations:
    """What the network says of a whole source; deterministic. `heard` is its onset strength."""
    return activations_from(inputs_of(source, heard))


def activations_from(inputs: Float32Array) -> Activations:
    """What the network says of features that `inputs_of` made.

    inputs   shape (frames, features)
    Returns  pulse of as many frames
    """
    out = network(inputs, weights_of(WEIGHTS))
    beat, down = (_halved(sigmoid(out[:, k * PAIR : (k + 1) * PAIR]).reshape(-1)) for k in (0, 1))
    return Activations(beat, down, np.repeat(_halved(softmax(out[:, 2 * PAIR :])), PAIR, axis=0), inputs)


def kept_activations(pulse: Activations) -> dict[str, NDArray[np.float16]]:
    """Arrays of half precision that `activations_kept` makes the same pulse from.

    Returns  name -> array, shapes as in `Activations`
    """
    named = {
        "beat": pulse.beat,
        "downbeat": pulse.downbeat,
        "meter": pulse.meter[::PAIR],
        "inputs": pulse.inputs,
    }
    return {name: rows.astype(np.float16) for name, rows in named.items()}


def activations_kept(kept: Mapping[str, NDArray[np.float16]]) -> Activations:
    """The pulse that `kept_activations` kept, to the bit."""
    beat, downbeat, meter, inputs = (
        kept[name].astype(np.float32) for name in ("beat", "downbeat", "meter", "inputs")
    )
    return Activations(beat, downbeat, np.repeat(meter, PAIR, axis=0), inputs)


def _halved(rows: Float32Array) -> Float32Array:
    """At half precision, so that what is kept of a pulse is all of it."""
    return rows.astype(np.float16).astype(np.float32)


def network(inputs: Float32Array, w: dict[str, Float32Array]) -> Float32Array:
    """Logits for each row of inputs: gated convolutions with dilations 1, 2, 4 ..., residual and skip
    sums.

    inputs   shape (frames, features); w: weights by name (`networks.weights.weights_of`)
    Returns  shape (frames, outputs)
    """
    h = np.tanh(_convolved((inputs - w["centre"]) / w["spread"], w["in_w"], 3, 1) + w["in_b"])
    total = np.zeros_like(h)
    layer = 0
    while f"w{layer}" in w:
        kernel = w[f"w{layer}"]
        z = _convolved(h, kernel, len(kernel) // h.shape[1], 2**layer) + w[f"b{layer}"]
        half = z.shape[1] // 2
        z = (np.tanh(z[:, :half]) * sigmoid(z[:, half:])) @ w[f"v{layer}"]
        h = h + z
        total += z
        layer += 1
    result: Float32Array = np.tanh(total + h) @ w["out_w"] + w["out_b"]
    return result


def softmax(logits: Float32Array) -> Float32Array:
    """Probabilities of each row.

    logits   shape (n, classes), finite
    Returns  the same shape; each row sums up to 1
    """
    raised = np.exp(logits - logits.max(axis=1, keepdims=True))
    result: Float32Array = (raised / raised.sum(axis=1, keepdims=True)).astype(np.float32)
    return result


def _convolved(x: Float32Array, kernel: Float32Array, taps: int, dilation: int) -> Float32Array:
    """Sum over taps of x, moved by multiples of `dilation` with zeros beyond the ends, times its rows of the
    kernel.
    """
    frames, channels = x.shape
    out = np.zeros((frames, kernel.shape[1]), np.float32)
    for tap in range(taps):
        shift = (tap - taps // 2) * dilation
        a, b = max(0, -shift), min(frames, frames - shift)
        if a < b:
            out[a:b] += x[a + shift : b + shift] @ kernel[tap * channels : (tap + 1) * channels]
    return out


def sigmoid(x: Float32Array) -> Float32Array:
    """1 / (1 + exp(-x)), without overflow.

    Returns  the shape of x
    """
    result: Float32Array = 0.5 * (1.0 + np.tanh(0.5 * x))
    return result
