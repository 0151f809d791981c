"""A spectrogram as PNG, grey on black, 1.2 s about a place, with a thin line at the place itself."""

from __future__ import annotations

import struct
import zlib
from pathlib import Path

import numpy as np
from scipy import signal

ABOUT_S, WINDOW, HOP, RANGE_DB = 0.6, 1024, 64, 80.0


def spectrogram(samples: np.ndarray, rate: int, centre_s: float, path: Path) -> None:
    """samples  shape (frames,); frequency upwards to half the rate, 80 dB from black to white."""
    lo = max(0, int((centre_s - ABOUT_S) * rate))
    part = samples[lo : lo + int(2 * ABOUT_S * rate)]
    part = np.pad(part, (0, max(0, WINDOW - len(part))))
    _, times, power = signal.spectrogram(part, rate, "hann", WINDOW, WINDOW - HOP, mode="psd")
    level = 10 * np.log10(power + 1e-14)
    grey = np.clip(255 * (1 + (level - level.max()) / RANGE_DB), 0, 255).astype(np.uint8)[::-1]
    grey[:, int(np.argmin(np.abs(times + lo / rate - centre_s)))] |= 64
    _png(grey, path)


def _png(grey: np.ndarray, path: Path) -> None:
    """PNG, one byte a pixel (ISO/IEC 15948)."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    height, width = grey.shape
    lines = b"".join(b"\0" + grey[row].tobytes() for row in range(height))
    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    path.write_bytes(
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", head)
        + chunk(b"IDAT", zlib.compress(lines))
        + chunk(b"IEND", b"")
    )
