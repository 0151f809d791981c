import unittest

import numpy as np

from combpace.core.audio import Audio
from combpace.core.bars import read_bars
from combpace.core.beats import track_beats
from combpace.core.harmony import beat_chroma, change_of
from combpace.core.onsets import detect_onsets
from combpace.core.spectra import onset_strength
from tests.support.sounds import source, struck


def tones(pitches: list[tuple[float, ...]], beat_s: float = 0.5) -> Audio:
    """One chord a beat, each held for the whole beat."""
    t = np.arange(round(beat_s * 44100)) / 44100
    shape = np.minimum(1, t / 0.005) * np.exp(-t / 0.6)
    parts = [sum(np.sin(2 * np.pi * f * t) for f in chord) * shape / max(1, len(chord)) if chord else np.zeros(len(t)) for chord in pitches]
    return Audio(np.asarray(0.6 * np.concatenate(parts), np.float32), 44100)


C, F = (261.63, 329.63, 392.00), (349.23, 440.00, 523.25)


class ChromaTest(unittest.TestCase):
    # Equal temperament, A4 = 440 Hz (ISO 16): C is column 0, A is column 9.
    def test_pitch_classes(self) -> None:
        times = np.array([0.0, 0.5, 1.0])
        rows = beat_chroma(source(tones([(440.0,), (261.63,), C])), times)
        self.assertEqual((int(rows[0].argmax()), int(rows[1].argmax())), (9, 0))
        self.assertEqual(set(np.argsort(rows[2])[-3:]), {0, 4, 7})
        np.testing.assert_allclose(np.linalg.norm(rows, axis=1), 1.0)

    def test_change_is_large_where_the_chord_changes(self) -> None:
        change = change_of(beat_chroma(source(tones([C, C, F, F, C])), np.arange(5) * 0.5))
        self.assertLess(max(change[1], change[3]), 0.05)
        self.assertGreater(min(change[2], change[4]), 0.3)

    def test_silence_and_single_beats(self) -> None:
        self.assertEqual(float(np.abs(beat_chroma(source(Audio(np.zeros(44100, np.float32), 44100)), np.array([0.0, 0.5]))).sum()), 0.0)
        self.assertEqual(list(change_of(np.zeros((1, 12)))), [0.0])


class BarsByHarmonyTest(unittest.TestCase):
    def test_chords_that_change_every_four_beats_give_the_bars(self) -> None:
        # Every beat struck alike: only the harmony tells. Two beats stand before the first change.
        chords = [F] * 2 + ([C] * 4 + [F] * 4) * 5
        held, hits = tones(chords), struck(np.arange(len(chords)) * 0.5 + 1e-4, len(chords) * 0.5)
        audio = Audio(held.samples + 0.6 * hits.samples[:, : held.frames], 44100)
        heard = onset_strength(source(audio))
        beats = track_beats(heard, detect_onsets(source(audio), heard))
        change = change_of(beat_chroma(source(audio), np.asarray(beats.times)))
        reading = read_bars(heard, beats, None, change)
        first = int(np.argmin(np.abs(np.asarray(beats.times) - 1.0)))
        self.assertEqual((reading.beats_in_bar, reading.phase), (4, first % 4))
