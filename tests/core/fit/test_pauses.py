"""Pauses between notes silenced."""

import unittest

import numpy as np

from combpace.core.audio import ArraySource, Audio
from combpace.core.errors import ParameterError
from combpace.core.fit.pauses import Pauses, find_pauses, parse_pauses, silenced

RATE = 48_000


def notes(*spans: tuple[float, float, float], noise: float = 0.0005, length_s: float = 3.0) -> Audio:
    """Tones of 200 Hz over a floor of noise (66 dB down): (from, to, level), seconds."""
    rng = np.random.default_rng(3)
    clock = np.arange(round(length_s * RATE)) / RATE
    sound = noise * rng.uniform(-1, 1, len(clock))
    for start, stop, level in spans:
        sound[(clock >= start) & (clock < stop)] += level * np.sin(
            2 * np.pi * 200 * clock[(clock >= start) & (clock < stop)]
        )
    return Audio(sound.astype(np.float32), RATE)


def silence(
    audio: Audio, rule: Pauses, attacks: tuple[float, ...] = ()
) -> tuple[np.ndarray, list[tuple[int, int]]]:
    found = find_pauses(ArraySource(audio), rule, attacks)
    return silenced(audio.samples, 0, found, audio.frames, RATE)[0], found


class PausesTest(unittest.TestCase):
    def test_floor_between_two_notes_is_silent_and_notes_are_the_same_to_the_bit(self) -> None:
        audio = notes((0.0, 1.0, 1.0), (2.0, 3.0, 1.0))
        made, found = silence(audio, Pauses())
        self.assertEqual(len(found), 1)
        start, stop = found[0]
        # 30 ms are held after the first note, and all is as it was 5 ms before the second one.
        self.assertAlmostEqual(start / RATE, 1.030, delta=0.002)
        self.assertAlmostEqual(2.0 - stop / RATE, 0.006, delta=0.0011)
        np.testing.assert_array_equal(made[:start], audio.samples[0, :start])
        np.testing.assert_array_equal(made[stop:], audio.samples[0, stop:])
        self.assertFalse(made[start + round(0.020 * RATE) : stop - round(0.005 * RATE)].any())

    def test_fades_have_no_step(self) -> None:
        audio = Audio(
            np.where((np.arange(RATE) < 4800) | (np.arange(RATE) > 38400), 1.0, 0.002).astype(np.float32),
            RATE,
        )
        made, found = silence(audio, Pauses())
        inside = made[found[0][0] - 5 : found[0][1] + 5]
        self.assertLess(np.abs(np.diff(inside)).max(), 0.002 / 100)

    def test_soft_attack_in_a_pause_is_kept(self) -> None:
        audio = notes((0.0, 1.0, 1.0), (1.5, 1.52, 0.002), (2.0, 3.0, 1.0))
        made, found = silence(audio, Pauses(), (1.5,))
        self.assertEqual(len(found), 2)
        kept = slice(round(1.495 * RATE), round(1.525 * RATE))
        np.testing.assert_array_equal(made[kept], audio.samples[0, kept])
        gone, alone = silence(audio, Pauses())
        self.assertEqual(len(alone), 1)
        self.assertFalse(gone[kept].any())

    def test_limits(self) -> None:
        audio = notes((0.0, 1.0, 1.0), (1.07, 2.0, 1.0), (2.0, 3.0, 1.0))
        self.assertEqual(find_pauses(ArraySource(audio), Pauses()), [])
        self.assertEqual(len(find_pauses(ArraySource(audio), Pauses(50.0, 0.060))), 1)
        tail = notes((0.0, 1.0, 1.0), (1.0, 2.0, 0.005), (2.0, 3.0, 1.0))
        # A tail 46 dB down is heard; with 40 dB it is a pause.
        self.assertEqual(find_pauses(ArraySource(tail), Pauses()), [])
        self.assertEqual(len(find_pauses(ArraySource(tail), Pauses(40.0))), 1)

    def test_whole_silence_begins_and_ends(self) -> None:
        self.assertEqual(find_pauses(ArraySource(Audio(np.zeros(RATE, np.float32), RATE)), Pauses()), [])
        made, found = silence(notes((1.0, 2.0, 1.0)), Pauses())
        self.assertEqual((found[0][0], found[-1][1]), (0, 3 * RATE))
        self.assertFalse(made[: round(0.98 * RATE)].any() or made[round(2.06 * RATE) :].any())

    def test_in_blocks_as_in_one(self) -> None:
        audio = notes((0.0, 1.0, 1.0), (2.0, 3.0, 1.0))
        whole, found = silence(audio, Pauses())
        parts = [
            silenced(audio.samples[:, at : at + 7001], at, found, audio.frames, RATE)[0]
            for at in range(0, audio.frames, 7001)
        ]
        np.testing.assert_array_equal(np.concatenate(parts), whole)

    def test_text(self) -> None:
        self.assertEqual(parse_pauses("40,120"), Pauses(40.0, 0.12))
        for wrong in ("", "50", "50,80,1", "loud,80", "5,80", "50,1", "nan,80"):
            with self.subTest(wrong), self.assertRaises(ParameterError):
                parse_pauses(wrong)
