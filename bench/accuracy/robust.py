"""Long, empty and extreme takes: `.venv/bin/python -m bench.accuracy.robust`. Prints what is read, how sure,
and what it costs.
"""

from __future__ import annotations

import time

import numpy as np

from bench.ear.songs import song
from combpace.core.analysis.take import analyse
from combpace.core.audio import ArraySource, Audio

RATE = 44100


def clicks(bpm: float, seconds: float) -> Audio:
    """Short bursts of noise, every fourth louder."""
    rng = np.random.default_rng(1)
    out = np.zeros(round(seconds * RATE), np.float32)
    for k, at in enumerate(np.arange(0.4, seconds - 0.2, 60 / bpm)):
        burst = rng.standard_normal(1200) * np.exp(-np.arange(1200) / 200.0) * (0.6 if k % 4 == 0 else 0.35)
        out[round(at * RATE) :][: len(burst)] += burst[: len(out) - round(at * RATE)].astype(np.float32)
    return Audio(out, RATE)


def main() -> None:
    rng = np.random.default_rng(2)
    seconds = np.arange(20 * RATE) / RATE
    cases: dict[str, Audio] = {
        "silence, 20 s": Audio(np.zeros(20 * RATE, np.float32), RATE),
        "noise, 20 s": Audio((0.1 * rng.standard_normal(20 * RATE)).astype(np.float32), RATE),
        "a held chord, 20 s": Audio(
            sum(0.2 * np.sin(2 * np.pi * f * seconds) for f in (220.0, 277.2, 329.6)).astype(np.float32), RATE
        ),  # type: ignore[union-attr]
        "one click": Audio(np.eye(1, 3 * RATE, RATE)[0].astype(np.float32), RATE),
        **{f"clicks at {bpm} BPM": clicks(bpm, 40.0) for bpm in (30, 45, 60, 90, 130, 180, 240, 300)},
        "a band, 10 minutes": song(930_004, 600.0).audio,
    }
    print("| sound | BPM | count sure | bars sure | onsets | CPU s a minute |\n|---|---|---|---|---|---|")
    for name, audio in cases.items():
        begun = time.process_time()
        found = analyse(ArraySource(audio))
        spent = 60 * (time.process_time() - begun) / audio.duration_s
        again = analyse(ArraySource(audio)) if audio.duration_s < 60 else found
        assert np.array_equal(again.beats.times, found.beats.times), "not deterministic"
        assert np.isfinite(np.asarray(found.beats.times)).all()
        bpm = "none" if found.steady is None else f"{found.steady.bpm:.2f}"
        print(
            f"| {name} | {bpm} | {found.beats.counted:.2f} | {found.sure:.2f} | {len(found.onsets)} "
            f"| {spent:.1f} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
