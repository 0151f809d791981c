"""The best pulse through what the network heard: dynamic programming over (beat, gap before it).

As Ellis (2007) links beats by dynamic programming, but with the gap before a beat as part of the state, so
that tempo drifts by degrees; a pulse may also stop and start again, which is how free intros, pauses and
endings stay without beats.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from combpace.core.beats.activations import FRAMES_PER_S
from combpace.core.clocks import FloatArray, IntArray

# Gaps of 333 down to 28 BPM, in frames; where a beat is long, single frames do not matter.
GAPS = np.concatenate([np.arange(18, 100), np.arange(100, 215, 2)])
SHORTEST, LONGEST = int(GAPS[0]), int(GAPS[-1])
NEVER = -1e9
MOST_READY = 20_000
# A change of gap that would cost more nats than this is never made.
DEAREST = 8.0


@dataclass(frozen=True, slots=True)
class Weights:
    """What the course of a pulse costs, in nats; found on generated songs, see docs/decisions/ear.md.

    second      gained for each second under a pulse
    lift        added to the log odds of each beat
    floor, top  bounds of the log odds of one beat
    drift       change of gap that costs half a nat, as a share, plus `grain` frames for the grid of frames
    stop        cost of a pulse that stops and starts again
    """

    second: float = 1.5
    lift: float = 0.15
    floor: float = -3.0
    top: float = 3.0
    drift: float = 0.06
    grain: float = 0.6
    stop: float = 12.0


def follow(
    odds: FloatArray,
    weights: Weights | None = None,
    tempi: Sequence[tuple[float, float, float, float]] = (),
    held: FloatArray | None = None,
    between: tuple[float, float] = (SHORTEST, LONGEST),
) -> list[FloatArray]:
    """The best pulse, as runs of beats.

    odds     log odds of a beat at each frame of FRAMES_PER_S, shape (frames,)
    tempi    (from frame, to frame, shortest gap, longest gap): gaps that end within must be of this length
    held     frames that are beats
    between  shortest and longest gap that are looked at at all
    Returns  runs in order of time, each an increasing array of frames; none where no pulse pays
    """
    w = weights or Weights()
    gaps = GAPS[(between[0] <= GAPS) & (between[1] >= GAPS)]
    frames, count = len(odds), len(gaps)
    # No beat of a block depends on another of it, for no gap is shorter.
    block, longest = int(gaps[0]), int(gaps[-1])
    gain = np.clip(odds + w.lift, w.floor, w.top).astype(np.float32)
    # The last held frame before each frame, -1 where there is none.
    since = np.full(frames + 1, -1)
    if held is not None and len(held):
        at = np.unique(np.clip(np.round(held).astype(int), 0, frames - 1))
        gain[at] = w.top
        since[at + 1] = at
        since = np.maximum.accumulate(since)
    pay = (w.second / FRAMES_PER_S * gaps).astype(np.float32)
    move, reach = _moves(w, gaps)
    # Where little is heard, every third frame is enough for a beat.
    live = (gain > w.floor + 1.0) | (np.arange(frames) % 3 == 0)
    # ready[t + longest - gone, g]: the best path with a beat at t that goes on with gap g; link: the gap
    # before that beat. Rows that no gap reaches back to any more are let go, MOST_READY at a time: of two
    # hours they were 300 MB.
    gone, kept = 0, min(frames, MOST_READY) + longest + block
    ready = np.full((kept, count), NEVER, np.float32)
    link = np.zeros((frames, count), np.uint8)
    fresh = np.zeros((frames, count), bool)
    best, best_gap = np.full(frames, NEVER), np.zeros(frames, np.uint8)
    stopped = np.full(frames, -1)
    silent, silent_from = 0.0, -1
    columns = np.arange(count)
    is_held = bool(since[-1] >= 0)
    # Room for the totals of a block with gaps that do not exist on either side, seen through one window for
    # all blocks.
    room = np.full((block, count + 2 * reach), NEVER, np.float32)
    windows = np.lib.stride_tricks.sliding_window_view(room, 2 * reach + 1, axis=1)
    earlier = longest - gaps[None, :]
    for first in range(0, frames, block):
        rows = np.arange(first, min(first + block, frames))
        # A pulse may start where another stopped at least the shortest gap ago, and no beat was held since.
        ends = rows - block
        over = np.where(ends >= np.maximum(0, since[rows]), best[np.maximum(ends, 0)] - w.stop, NEVER)
        reset = np.flatnonzero(np.diff(since[max(first - 1, 0) : rows[-1] + 1]) > 0) + (first == 0)
        quiet, origin = np.empty(len(rows)), np.empty(len(rows), int)
        for a, z in itertools.pairwise([0, *reset.tolist(), len(rows)]):
            if a in reset:
                silent, silent_from = NEVER, -1
            if a == z:
                continue
            row = np.append(silent, over[a:z])
            highest = np.maximum.accumulate(row)
            # The first place that reached what is the highest so far.
            which = np.maximum.accumulate(
                np.where(np.append(True, row[1:] > highest[:-1]), np.arange(len(row)), 0)
            )[1:]
            quiet[a:z], origin[a:z] = (
                highest[1:],
                np.where(which > 0, ends[a:z][np.maximum(which - 1, 0)], silent_from),
            )
            silent, silent_from = float(quiet[z - 1]), int(origin[z - 1])
        stopped[rows] = origin
        quiet = quiet.astype(np.float32)
        if rows[-1] + longest - gone >= kept:
            ready[:longest] = ready[first - gone : first - gone + longest]
            ready[longest:] = NEVER
            gone = first
        rows, quiet = rows[live[rows]], quiet[live[rows]]
        carried = ready[rows[:, None] - gone + earlier, columns] + pay
        if is_held:
            carried[gaps[None, :] > np.where(since[rows] >= 0, rows - since[rows], longest + 1)[:, None]] = (
                NEVER
            )
        fresh[rows] = quiet[:, None] >= carried
        total = np.maximum(carried, quiet[:, None]) + gain[rows][:, None]
        for start, stop, low, high in tempi:
            within = (rows >= start) & (rows <= stop)
            total[np.ix_(within, (low > gaps) | (high < gaps))] = NEVER
        best_gap[rows] = np.argmax(total, axis=1)
        best[rows] = total.max(axis=1)
        room[: len(rows), reach : reach + count] = total
        into = windows[: len(rows)] + move
        chosen = into.argmax(axis=2)
        link[rows] = np.minimum(np.maximum(columns + chosen - reach, 0), count - 1)
        ready[longest - gone + rows] = into.max(axis=2)
    begin = max(0, int(since[frames]))
    t = begin + int(np.argmax(best[begin:]))
    if best[t] <= 0 and since[frames] < 0:
        return []
    runs: list[FloatArray] = []
    while t >= 0:
        gap, run = int(best_gap[t]), [t]
        while not fresh[t, gap]:
            t -= int(gaps[gap])
            gap = int(link[t, gap])
            run.append(t)
        runs.append(np.array(run[::-1], np.float64))
        t = int(stopped[t])
    return runs[::-1]


def joined(runs: list[FloatArray]) -> FloatArray:
    """One row of beats: where the pulse stopped and started again, beats are counted through.

    runs     frames of beats of each stretch, in order; none is empty
    Returns  shape (n,), increasing
    """
    if not runs:
        return np.zeros(0)
    out = [runs[0]]
    for before, after in itertools.pairwise(runs):
        gaps = np.concatenate([np.diff(before[-4:]), np.diff(after[:4])])
        gap = after[0] - before[-1]
        usual = float(np.median(gaps)) if len(gaps) else gap
        count = max(1, round(gap / usual))
        out += [before[-1] + gap * np.arange(1, count) / count, after]
    return np.concatenate(out)


def _moves(w: Weights, gaps: IntArray) -> tuple[FloatArray, int]:
    """What each change of gap costs, as negative numbers, shape (next gap, 2 * reach + 1) about the same gap;
    and reach.
    """
    wide = w.drift + w.grain / np.minimum.outer(gaps, gaps)
    cost = 0.5 * (np.log(gaps[:, None] / gaps[None, :]) / wide) ** 2
    possible = cost < DEAREST
    index = np.arange(len(gaps))
    reach = int(np.abs(index[:, None] - index[None, :])[possible].max())
    at = index[:, None] + np.arange(-reach, reach + 1)[None, :]
    inside = (at >= 0) & (at < len(gaps))
    at = np.clip(at, 0, len(gaps) - 1)
    result: FloatArray = np.where(
        inside & possible[index[:, None], at], -cost[index[:, None], at], NEVER
    ).astype(np.float32)
    return result, reach
