"""Whether pieces click: `.venv/bin/python -m bench.fit.pieces_spike [--count 40] [--fade-ms 5]`.

The first 20 s of excerpts of ../shared/bench/beats/open are cut at their onsets, as they are heard, and laid
up to 40 ms beside where
they were, and with every third one a beat later, so that pieces meet, overlap and leave gaps. `spike` as
../shared/bench/stretch has it:
the largest second difference of the result over what the ideal has within 4 ms, at least 3 % of the ideal's
largest, in dB. The ideal at
a place is the source of each piece that sounds there, of a tail the last 120 ms of its piece but for the very
end, where the next attack
may begin. A lone click is 20 dB or more; 8 dB is asked at most.
`--fade-ms 0` shows what cuts without fades have, so that the measure is seen to see clicks.
"""

from __future__ import annotations

import argparse
import itertools
from concurrent.futures import ProcessPoolExecutor

import numpy as np
import soundfile as sf
from scipy.ndimage import maximum_filter1d

from combpace.core.analysis.opening import listen
from combpace.core.audio import ArraySource, Audio
from combpace.core.pieces.cutting import cut_frames
from combpace.core.pieces.laying import FADE_S, FILLS, MEETINGS, Piece, Pieces
from rig.shared import OPEN, needed

LENGTH_S, BESIDE_S, LATER_S = 20.0, 0.040, 0.5
NEAR_S, FLOOR = 0.008, 0.03
TAIL_S, END_S = 0.120, 0.006


def spike_db(made: Pieces, source: np.ndarray, pieces: list[Piece], lead: int, tails: bool) -> float:
    """How far the largest second difference stands above what the source has there, dB."""
    out = made.read(0, made.frames)[0].astype(float)
    rises = np.abs(np.diff(source.astype(float), 2))
    ideal = np.zeros(len(out) - 2)
    for piece in pieces:
        first, last = max(0, piece.start - lead), min(len(rises), piece.stop)
        at = piece.at - (piece.start - first)
        skip = max(0, -at)
        part = rises[first + skip : last][: max(0, len(ideal) - at - skip)]
        here = slice(at + skip, at + skip + len(part))
        ideal[here] = np.maximum(ideal[here], part)
        # In its tail, which is made of its end. Where none sounds this allows nothing: there the result is
        # silence.
        rate = made.sample_rate_hz
        end, last_s = (
            slice(
                max(piece.start, piece.stop - round(TAIL_S * rate)),
                max(piece.start + 1, piece.stop - round(END_S * rate)),
            ),
            piece.at + piece.frames,
        )
        if tails:
            ideal[max(0, last_s) :][: round(5 * rate)] = np.maximum(
                ideal[max(0, last_s) :][: round(5 * rate)], rises[end].max(initial=0.0)
            )
    near = np.maximum(maximum_filter1d(ideal, int(NEAR_S * made.sample_rate_hz)), FLOOR * ideal.max())
    return float(20 * np.log10((np.abs(np.diff(out, 2)) / near).max() + 1e-9))


def one(job: tuple[str, float]) -> tuple[str, int, dict[str, float]]:
    name, fade_s = job
    samples, rate = sf.read(OPEN / f"{name}.flac", dtype="float32", always_2d=True)
    audio = Audio(samples[: round(LENGTH_S * rate), :1].T.copy(), rate)
    source = ArraySource(audio)
    marks = np.asarray(listen(source, None, lambda share: None).onsets.times)
    cuts = [0, *(int(frame) for frame in cut_frames(source, marks)), source.frames]
    rng = np.random.default_rng(24)
    pieces = []
    for k, (start, stop) in enumerate(itertools.pairwise(cuts)):
        by = float(rng.uniform(-BESIDE_S, BESIDE_S)) + (LATER_S if k % 3 == 2 else 0.0)
        pieces.append(Piece(start, stop, max(0, start + round(by * rate))))
    found = {}
    for fill, meeting in itertools.product(FILLS, MEETINGS):
        made = Pieces(source, pieces, fade_s=fade_s, fill=fill, meeting=meeting)
        found[f"{fill}, {meeting}"] = spike_db(
            made, audio.samples[0], pieces, round(fade_s * rate), fill == "tail"
        )
    return name, len(pieces), found


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--fade-ms", type=float, default=1000 * FADE_S)
    options = parser.parse_args()
    names = sorted(path.stem for path in needed(OPEN).glob("*.flac"))[: options.count]
    with ProcessPoolExecutor(2) as pool:
        rows = list(pool.map(one, [(name, options.fade_ms / 1000) for name in names]))
    print(f"{len(rows)} excerpts, {sum(row[1] for row in rows)} pieces, fades of {options.fade_ms:g} ms\n")
    print("| fill, meeting | spike: median / 95 % / worst, dB | above 8 dB | worst in |\n|---|---|---|---|")
    for key in rows[0][2]:
        values = np.array([row[2][key] for row in rows])
        worst = rows[int(np.argmax(values))][0]
        print(
            f"| {key} | {np.median(values):.1f} / {np.quantile(values, 0.95):.1f} / "
            f"{values.max():.1f} | {int((values > 8).sum())} | {worst} |"
        )


if __name__ == "__main__":
    main()
