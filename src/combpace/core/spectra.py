"""Band-wise spectra and onset strength, computed block by block.

A frame every 5 ms; its time is the centre of its window. Bands are spaced by the mel scale (O'Shaughnessy
1987, 2595 log10(1 + f / 700)); onset strength is the half-wave rectified rise of log magnitude against a
frequency-maximum of an earlier frame (Böck and Widmer 2013, "Maximum filter vibrato suppression for onset
detection").
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from combpace.core.audio import Samples, Source
from combpace.core.clocks import FloatArray

Float32Array = NDArray[np.float32]

HOP_S = 0.005
WINDOW_S = 0.0232
BANDS = 48
LOW_HZ, HIGH_HZ = 30.0, 16000.0
# Lows hold kick-like sounds, highs hold hats and the edges of snares; what lies between is the middle.
LOW_EDGE_HZ, HIGH_EDGE_HZ = 180.0, 5000.0
LAG_FRAMES = 2
# Compression of magnitudes (full scale sine = 1): large enough that soft attacks count, small enough that
# noise does not.
COMPRESSION = 300.0
RISE_FRAMES = 65536
BLOCK_FRAMES = 4096


@dataclass(frozen=True, slots=True)
class OnsetStrength:
    """What the ear of the program keeps of a take.

    frame_rate_hz  frames per second; frame k is centred at k / frame_rate_hz seconds
    bands          log magnitude per frame and band, shape (frames, BANDS), float32
    flux           rise per frame: columns low, middle, high, shape (frames, 3), float32
    level          RMS of each frame, shape (frames,)
    """

    frame_rate_hz: float
    bands: Float32Array
    flux: Float32Array
    level: Float32Array

    @property
    def total(self) -> Float32Array:
        return np.asarray(self.flux.sum(axis=1), dtype=np.float32)


# Mel scale: MEL * log10(1 + f / MEL_HZ) (D. O'Shaughnessy, Speech Communication, 1987; from memory).
MEL, MEL_HZ = 2595.0, 700.0
# The highest band ends a little below half the rate.
HIGHEST = 0.48


def mel_edges_hz(bands: int, low_hz: float, high_hz: float) -> FloatArray:
    """Edges of `bands` overlapping triangular bands, shape (bands + 2,)."""
    low, high = MEL * np.log10(1.0 + np.array([low_hz, high_hz]) / MEL_HZ)
    edges: FloatArray = MEL_HZ * (10.0 ** (np.linspace(low, high, bands + 2) / MEL) - 1.0)
    return edges


def band_weights(sample_rate_hz: int, size: int) -> tuple[Float32Array, FloatArray]:
    """Triangular weights, shape (size // 2 + 1, BANDS), each with unit sum, and the bands' centres in Hz."""
    edges = mel_edges_hz(BANDS, LOW_HZ, min(HIGH_HZ, HIGHEST * sample_rate_hz))
    bins = np.arange(size // 2 + 1) * sample_rate_hz / size
    # A band is never narrower than one bin, or it would be empty.
    least = sample_rate_hz / size
    centre = edges[1:-1]
    left = np.maximum(centre - edges[:-2], least)
    right = np.maximum(edges[2:] - centre, least)
    distance = bins[:, None] - centre[None, :]
    weight = np.clip(np.where(distance < 0, 1 + distance / left, 1 - distance / right), 0, None)
    weight /= np.maximum(weight.sum(axis=0), 1e-12)
    return weight.astype(np.float32), centre


def onset_strength(source: Source, on_progress: Callable[[float], None] | None = None) -> OnsetStrength:
    """Log band magnitudes and their rise for a whole source, read in blocks.

    source       any length; silence gives zeros, an empty source gives one silent frame
    on_progress  called with the share done, 0-1
    Returns      frames on a fixed hop near 5 ms; finite whatever the input's level
    """
    rate = source.sample_rate_hz
    hop = max(1, round(HOP_S * rate))
    size = fft.next_fast_len(max(16, round(WINDOW_S * rate)), real=True)
    window = np.hanning(size + 1)[:size].astype(np.float32)
    scale = 2.0 / float(window.sum())
    weights, centres = band_weights(rate, size)
    frames = source.frames // hop + 1
    bands = np.empty((frames, BANDS), np.float32)
    level = np.empty(frames, np.float32)
    for first in range(0, frames, BLOCK_FRAMES):
        count = min(BLOCK_FRAMES, frames - first)
        start = first * hop - size // 2
        block = _mono(source.read(start, start + (count - 1) * hop + size))
        view = np.lib.stride_tricks.sliding_window_view(block, size)[::hop]
        magnitude = np.abs(fft.rfft(view * window, axis=1)) * scale
        bands[first : first + count] = np.log1p(COMPRESSION * (magnitude @ weights))
        level[first : first + count] = np.sqrt(np.mean(np.square(view), axis=1))
        if on_progress:
            on_progress((first + count) / frames)
    rise = rise_of(bands)
    groups = np.digitize(centres, (LOW_EDGE_HZ, HIGH_EDGE_HZ))
    flux = np.stack([rise[:, groups == group].sum(axis=1) for group in range(3)], axis=1).astype(np.float32)
    return OnsetStrength(rate / hop, bands, flux, level)


def rise_of(bands: Float32Array) -> Float32Array:
    """How much each band rises against an earlier frame's largest neighbour, shape as `bands`; falls are
    0.
    """
    rise = np.zeros_like(bands)
    # In blocks: of two hours what lies between would be half a gigabyte.
    for first in range(LAG_FRAMES, len(bands), RISE_FRAMES):
        last = min(first + RISE_FRAMES, len(bands))
        spread = ndimage.maximum_filter1d(
            bands[first - LAG_FRAMES : last - LAG_FRAMES], 3, axis=1, mode="nearest"
        )
        np.maximum(bands[first:last] - spread, 0, out=rise[first:last])
    # Every start from nothing is an attack too: the frames before the first are silence.
    rise[:LAG_FRAMES] = bands[:LAG_FRAMES]
    return rise


def _mono(samples: Samples) -> Samples:
    return samples[0] if len(samples) == 1 else np.asarray(samples.mean(axis=0), dtype=np.float32)
