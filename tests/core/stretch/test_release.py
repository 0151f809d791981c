"""Notes that are let go end where the map has it; stiff strings keep the pitch of what is loudest; an attack
is heard once.

A stiff string's partials lie at n f0 sqrt(1 + B n²) (Fletcher, Rossing, The Physics of Musical Instruments,
chapter 2.18: stiff strings; B, levels and rates here are made up).
"""

import unittest

import numpy as np

from combpace.core.audio import ArraySource, Audio, Samples
from combpace.core.clocks import FloatArray
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch import line, stretch
from combpace.core.stretch.plan import Segment
from combpace.core.stretch.release import let_go
from combpace.core.stretch.remembered import Remembered
from rig.sounds import RATE
from tests.core.stretch.test_stretch_methods import frequency

STARTS, END = np.array([0.3, 1.3, 2.3]), 3.3
HELD_S, DYING_S = 0.7, 0.012


def plucked(pitches: tuple[float, ...], held_s: float | None = HELD_S) -> Samples:
    """Notes at STARTS that die away slowly until they are let go, then within some hundredths of a second."""
    time = np.arange(round(END * RATE)) / RATE
    out = np.zeros(len(time))
    for start in STARTS:
        since = time - start
        level = np.where(since >= 0, np.exp(-np.maximum(since, 0) / 0.9), 0)
        if held_s is not None:
            level = level * np.exp(-np.maximum(since - held_s, 0) / DYING_S)
        on = np.minimum(1, np.maximum(since, 0) / 0.0005)
        out += (
            level
            * on
            * sum(0.1 / k * np.sin(2 * np.pi * hz * k * since) for hz in pitches for k in range(1, 7))
        )
    return out[None].astype(np.float32)


def ends_at(sound: Samples, after_s: float) -> tuple[float, float]:
    """(when a note has fallen by 6 dB of what it was 0.1 s after that time, how long it then takes to fall by
    24 more).
    """
    span = round(0.012 * RATE)
    total = np.concatenate([[0.0], np.cumsum(np.square(sound[0].astype(np.float64)))])
    level = 10 * np.log10((total[span:] - total[:-span]) / span + 1e-12)
    first = round((after_s + 0.1) * RATE)
    fallen = [
        first + int(np.argmax(level[first:] < level[first] - db)) for db in (6 + DRIFT_DB, 30 + DRIFT_DB)
    ]
    return (fallen[0] + span / 2) / RATE, (fallen[1] - fallen[0]) / RATE


# What the notes lose by themselves until they are let go.
DRIFT_DB = 6.0


class LetGoTest(unittest.TestCase):
    def test_a_note_is_let_go_where_the_map_has_it_and_dies_as_fast_as_it_did(self) -> None:
        for method, pitches in (("chord", (220.0, 277.18, 329.63)), ("line", (110.0,))):
            sound = plucked(pitches)
            own, dying = ends_at(sound, STARTS[1])
            for factor in (0.75, 0.85, 1.2):
                made = stretch(
                    Audio(sound, RATE),
                    TimeMap(np.array([0.0, *STARTS, END]), factor * np.array([0.0, *STARTS, END])),
                    method,
                ).samples
                got, died = ends_at(made, factor * STARTS[1])
                with self.subTest(method=method, factor=factor):
                    # With half of the note as it is and no more, it would be let go some 50 ms beside.
                    self.assertAlmostEqual(got, factor * STARTS[1] + factor * (own - STARTS[1]), delta=0.012)
                    self.assertAlmostEqual(died, dying, delta=0.008)

    def test_the_moment_is_found_and_is_none_where_nothing_is_let_go(self) -> None:
        span = (round((STARTS[1] - 0.0025) * RATE), round((STARTS[2] - 0.0025) * RATE))
        have = span[1] - span[0]
        segment = Segment(span, (0, round(0.8 * have)), (), (), starts=True, ends=True)
        let = ArraySource(Audio(plucked((220.0,)), RATE))
        for source in (let, Remembered(let)):
            (found, to), (later, to_later) = let_go(source, segment)
            self.assertAlmostEqual(found / RATE, HELD_S + 0.0025, delta=0.012)
            self.assertAlmostEqual(to / found, 0.8, delta=0.001)
            self.assertEqual(later - found, to_later - to)
        for sound in (plucked((220.0,), None), np.zeros((1, round(END * RATE)), np.float32)):
            self.assertEqual(let_go(ArraySource(Audio(sound, RATE)), segment), ())
        # One that comes back was not let go.
        again = plucked((220.0,))
        again[0, span[1] - 6000 : span[1]] = 0.1 * np.sin(np.arange(6000) / 30)
        self.assertEqual(let_go(ArraySource(Audio(again, RATE)), segment), ())


class StiffStringTest(unittest.TestCase):
    def test_the_loudest_partial_keeps_its_pitch(self) -> None:
        f0, stiff, starts = 98.0, 8e-4, np.array([0.2, 0.38, 0.56, 0.74])
        partials = [n * f0 * np.sqrt(1 + stiff * n * n) for n in range(1, 9)]
        levels = (0.5, 0.6, 1.0, 0.4, 0.3, 0.25, 0.2, 0.15)
        time = np.arange(round(1.0 * RATE)) / RATE
        out = np.zeros(len(time))
        for start in starts:
            since = np.maximum(time - start, 0)
            here = (time >= start) & (time < start + 0.18)
            out += here * sum(
                0.15 * level * np.sin(2 * np.pi * hz * since) * np.exp(-since * 3)
                for hz, level in zip(partials, levels, strict=True)
            )
        for factor in (0.88, 1.15):
            targets = 0.2 + factor * (starts - 0.2)
            end = float(targets[-1] + factor * 0.26)
            made = stretch(
                Audio(out[None].astype(np.float32), RATE),
                TimeMap(np.array([0.0, *starts, 1.0]), np.array([0.0, *targets, end])),
                "line",
            )
            cents = [self._third(made.samples[0], at, 0.18 * factor, partials[2]) for at in targets[:3]]
            with self.subTest(factor=factor):
                # By periods of its wave form alone the worst is 1.2 and 1.1 cents beside.
                self.assertLess(float(np.abs(cents).max()), 0.25)

    @staticmethod
    def _third(sound: FloatArray, start: float, length: float, hz: float) -> float:
        part = sound[round((start + 0.05) * RATE) : round((start + length - 0.02) * RATE)].astype(np.float64)
        return float(1200 * np.log2(frequency(part, hz) / hz))


class EarlyAttackTest(unittest.TestCase):
    def test_an_attack_just_before_a_segments_end_is_heard_once(self) -> None:
        sound = np.concatenate([plucked((110.0,), None), np.zeros((1, RATE), np.float32)], axis=1)
        attack = round(STARTS[2] * RATE)
        # A mark 4 ms late.
        span = (round((STARTS[1] - 0.0025) * RATE), attack + round(0.004 * RATE))
        source = ArraySource(Audio(sound, RATE))
        # A soft note with a bright start.
        rng = np.random.default_rng(2)
        sound[0, attack : attack + 900] += (
            0.08 * rng.standard_normal(900) * np.exp(-np.arange(900) / 200)
        ).astype(np.float32)
        for longer in (150, 500):
            have = span[1] - span[0]
            made = line.fill(source, Segment(span, (0, have + longer), (), (), starts=True, ends=True))[0]
            bright = np.abs(np.diff(made, 2))
            until = have + longer - (span[1] - attack) - 4
            own = np.abs(np.diff(sound[0, span[0] : attack - 4], 2))
            with self.subTest(longer=longer):
                self.assertLess(float(bright[until - 1500 : until].max()), 2 * float(own[-1500:].max()))


if __name__ == "__main__":
    unittest.main()
