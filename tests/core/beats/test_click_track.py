import unittest

import numpy as np

from combpace.core.analysis.take import Analysis, Hints, analyse
from combpace.core.audio import Audio
from combpace.core.beats.candidates import TempoSpan
from combpace.core.beats.click_track import click_train
from combpace.core.onsets.detect import detect_onsets
from combpace.core.spectra import onset_strength
from rig.sounds import RATE, source, struck


def accents(count: int, every: int) -> list[float]:
    return [0.9 if k % every == 0 else 0.5 for k in range(count)]


def read(times: np.ndarray, levels: list[float] | None = None, hints: Hints | None = None) -> Analysis:
    return analyse(source(struck(times, float(times[-1]) + 1.0, levels=levels)), hints)


def train_of(audio: Audio) -> np.ndarray | None:
    heard = onset_strength(source(audio))
    return click_train(heard, detect_onsets(source(audio), heard))


class ClickTrainTest(unittest.TestCase):
    def test_each_click_is_a_beat_at_any_tempo(self) -> None:
        # 60 000 divided by BPM is the distance in milliseconds (common practice): 2000, 1333.3, 1000, 500,
        # 333.3, 250, 200 ms.
        for bpm, milliseconds in (
            (30, 2000),
            (45, 4000 / 3),
            (60, 1000),
            (120, 500),
            (180, 1000 / 3),
            (240, 250),
            (300, 200),
        ):
            with self.subTest(bpm=bpm):
                times = 0.4 + np.arange(24) * milliseconds / 1000
                found = read(times, accents(24, 4))
                assert found.steady is not None
                self.assertAlmostEqual(found.steady.bpm, bpm, delta=0.02)
                np.testing.assert_allclose(found.beats.times, times, atol=0.003)

    def test_what_is_rare_of_music_is_not_said_with_certainty(self) -> None:
        sure = {
            bpm: read(0.4 + np.arange(32) * 60 / bpm).beats.counted for bpm in (30, 45, 100, 130, 240, 300)
        }
        self.assertGreater(min(sure[100], sure[130]), 0.9)
        self.assertLess(max(sure[30], sure[45], sure[240], sure[300]), 0.5)

    def test_a_change_of_tempo_is_followed_to_the_click(self) -> None:
        times = 0.5 + np.concatenate([np.arange(16) * 0.5, 8.0 + np.arange(16) * 0.4])
        np.testing.assert_allclose(read(times).beats.times, times, atol=0.003)

    def test_clicks_that_are_left_out_are_beats(self) -> None:
        whole = 0.5 + np.arange(32) * 0.5
        heard = np.delete(whole, [9, 20, 21])
        found = train_of(struck(heard, 17.0))
        assert found is not None
        np.testing.assert_allclose(found, whole, atol=0.002)

    def test_what_is_stated_comes_first(self) -> None:
        times = 0.5 + np.arange(40) * 0.25
        found = read(times, hints=Hints(tempi=(TempoSpan(100.0, 140.0),)))
        assert found.steady is not None
        self.assertAlmostEqual(found.steady.bpm, 120.0, delta=0.05)
        held = read(times, hints=Hints(downbeats=(float(times[3]),)))
        np.testing.assert_allclose(held.beats.times, times, atol=0.003)
        assert held.pace is not None
        lines = held.pace.to_seconds(held.pace.bar_lines(0, 4))
        self.assertLess(float(np.min(np.abs(lines - times[3]))), 1e-3)

    def test_music_is_no_click(self) -> None:
        even = 0.5 + np.arange(24) * 0.5
        rings = np.exp(-((np.arange(round(13.0 * RATE)) / RATE - 0.5) % 0.5) / 0.3)
        tone = np.sin(2 * np.pi * 196 * np.arange(len(rings)) / RATE) * rings
        cases = {
            "notes that ring": Audio((0.5 * tone).astype(np.float32), RATE),
            "clicks over a held tone": Audio(
                (struck(even, 13.0).samples[0] + 0.1 * np.sin(np.arange(13 * RATE) * 0.06)).astype(
                    np.float32
                ),
                RATE,
            ),
            "loud and soft by turns": struck(
                even, 13.0, levels=[0.8 if k % 2 == 0 else 0.4 for k in range(24)]
            ),
            "a rhythm": struck(np.delete(0.5 + np.arange(96) * 0.125, np.r_[1:96:8, 3:96:8, 5:96:16]), 13.0),
            "too few": struck(even[:7], 5.0),
            "eighths at 180 and faster": struck(0.5 + np.arange(60) * 60 / 360, 11.0),
        }
        for name, audio in cases.items():
            with self.subTest(name):
                self.assertIsNone(train_of(audio))


if __name__ == "__main__":
    unittest.main()
