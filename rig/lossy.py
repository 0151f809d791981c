"""Lossy files with and without the header that states their padding."""

from __future__ import annotations

from pathlib import Path

import av
import numpy as np


def write_mp3(
    path: Path, sound: np.ndarray, rate_hz: int, *, header: bool, tags: dict[str, str] | None = None
) -> None:
    """One channel through libmp3lame, with or without the information frame that states its padding."""
    with av.open(str(path), "w", format="mp3", options={} if header else {"write_xing": "0"}) as out:
        out.metadata.update(tags or {})
        stream = out.add_stream("libmp3lame", rate=rate_hz)
        stream.layout, stream.bit_rate = "mono", 192_000
        frame = av.AudioFrame.from_ndarray(sound[None].astype(np.float32), format="fltp", layout="mono")
        frame.sample_rate, frame.pts = rate_hz, 0
        cut = av.AudioResampler(
            format=stream.codec_context.format.name, layout="mono", rate=rate_hz, frame_size=1152
        )
        for part in [*cut.resample(frame), *cut.resample(None)]:
            out.mux(stream.encode(part))
        out.mux(stream.encode(None))
