"""The decimal tempo of programmed audio: `.venv/bin/python -m bench.ear.steady [--songs N]`.

Programmed songs of bench/ear/songs.py at tempi with decimals, half of them through a lossy MP3 at 96-320
kbit/s; the shift that coding brings is measured against the original by correlation. Prints the error of the
tempo and of the downbeats.
"""

from __future__ import annotations

import argparse
import tempfile
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import av
import numpy as np
import soundfile as sf
from scipy import signal

from bench.ear.songs import Song, song
from combpace.batch.files import analyse_file
from combpace.core.analysis.take import Hints
from combpace.core.audio import Audio
from combpace.media.decode import FileSource, decode_to_wav

FIRST = 4_000_000


def programmed(count: int) -> Iterator[tuple[int, float]]:
    """(seed, beats per minute) of songs with one tempo and one meter."""
    seed = FIRST
    while count:
        made = song(seed, 40.0)
        gaps = np.diff([time for bar in made.bars for time in bar.beats])
        if (
            made.kind in ("drums", "band", "loud", "pair", "sparse", "chug", "riff")
            and np.ptp(gaps) < 1e-9
            and len({bar.meter for bar in made.bars}) == 1
        ):
            count -= 1
            yield seed, 60 / float(gaps[0])
        seed += 1


def through_mp3(audio: Audio, path: Path, kbit: int) -> float:
    """Write an MP3; returns by how many seconds decoding it brings the sound later."""
    with av.open(str(path), "w") as out:
        stream = out.add_stream("libmp3lame", rate=audio.sample_rate_hz, bit_rate=1000 * kbit, layout="mono")
        frame = av.AudioFrame.from_ndarray(
            np.ascontiguousarray(audio.samples[:1].astype(np.float32)), format="fltp", layout="mono"
        )
        frame.sample_rate = audio.sample_rate_hz
        for packet in [*stream.encode(frame), *stream.encode(None)]:
            out.mux(packet)
    wav = path.with_suffix(".decoded.wav")
    decode_to_wav(path, wav, name=path.name)
    with FileSource(wav) as source:
        decoded = source.read(0, source.frames)[0]
    reach = min(len(decoded), audio.frames, 20 * audio.sample_rate_hz)
    both = signal.correlate(decoded[:reach], audio.samples[0][:reach], "full", method="fft")
    return (int(np.argmax(both)) - (reach - 1)) / audio.sample_rate_hz


def one(job: tuple[int, float]) -> tuple[str, float, float, float, str]:
    """(kind, tempo read / tempo, its error in BPM where it is the same, error of the downbeat in ms,
    verdict).
    """
    seed, bpm = job
    made: Song = song(seed, 40.0)
    with tempfile.TemporaryDirectory() as folder:
        path, shift = Path(folder) / "take.wav", 0.0
        if seed % 2:
            path = path.with_suffix(".mp3")
            shift = through_mp3(made.audio, path, (96, 128, 192, 320)[seed // 2 % 4])
        else:
            sf.write(path, made.audio.samples.T, made.audio.sample_rate_hz, subtype="FLOAT")
        heard = analyse_file(path, Hints())
    steady = heard.document["steady"]
    if steady is None:
        return made.kind, 0.0, 9.0, 999.0, "none"
    ratio = steady["bpm"] / bpm
    near = min((1.0, 2.0, 0.5, 3.0, 1 / 3, 1.5, 2 / 3), key=lambda r: abs(np.log(ratio / r)))
    lines = np.array([bar.start_s for bar in made.bars]) + shift
    off = float(np.min(np.abs(lines - steady["first_downbeat_s"])))
    return (
        f"{made.kind}{' mp3' if seed % 2 else ''}",
        near,
        float(abs(steady["bpm"] / near - bpm)),
        1000 * off,
        steady["verdict"],
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--songs", type=int, default=48)
    options = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        found = list(pool.map(one, programmed(options.songs)))
    same = [row for row in found if row[1] == 1.0]
    errors, offs = np.array([row[2] for row in found]), np.array([row[3] for row in same])
    print(
        f"{len(found)} songs, {len(same)} at the tempo itself, "
        f"{sum(row[4] == 'steady' for row in found)} called steady"
    )
    print(
        f"tempo error BPM: median {np.median(errors):.4f}, within 0.005: "
        f"{np.mean(errors <= 0.005):.2f}, within 0.01: {np.mean(errors <= 0.01):.2f}"
    )
    on = offs[offs < 60]
    print(
        f"downbeat within 60 ms: {len(on)} of {len(offs)}; their error ms: median "
        f"{np.median(on):.2f}, within 2 ms: {np.mean(on <= 2):.2f}"
    )
    for row in sorted(found, key=lambda r: -r[2])[:8]:
        print(f"  {row[0]:<10} x{row[1]:.2f} {row[2]:.4f} BPM, downbeat {row[3]:.2f} ms, {row[4]}")


if __name__ == "__main__":
    main()
