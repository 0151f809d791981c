import unittest

import numpy as np

from combpace.core.beats.activations import FRAMES_PER_S
from combpace.core.beats.note_events import NAMES, NoteEvents

BEAT_S, FIRST_S, COUNT = 0.5, 1.0, 32


def strokes_at(times: np.ndarray, strength: np.ndarray | float = 1.0) -> NoteEvents:
    """As if something were struck at these moments and nowhere else."""
    frames = round((times.max() + 2.0) * FRAMES_PER_S)
    attacks = np.zeros(frames)
    attacks[np.round(times * FRAMES_PER_S).astype(int)] = strength
    return NoteEvents(attacks)


class StrokesTest(unittest.TestCase):
    def setUp(self) -> None:
        self.row = FIRST_S + BEAT_S * np.arange(COUNT)
        self.gaps = np.full(COUNT, BEAT_S)

    def seen(
        self, strokes: NoteEvents, late_s: float = 0.0, downbeat: np.ndarray | None = None
    ) -> dict[str, float]:
        values = strokes.seen(self.row + late_s, self.gaps, np.zeros(COUNT) if downbeat is None else downbeat)
        self.assertEqual(len(values), len(NAMES))
        self.assertTrue(np.isfinite(values).all())
        return dict(zip(NAMES, values, strict=True))

    def test_long_notes_and_rests_tell_the_beat_from_half_way(self) -> None:
        # Each beat: one that lasts for three quarters of it, then a short one that leads to the next.
        times = np.sort(np.concatenate([self.row, self.row + 0.75 * BEAT_S]))
        right, off = self.seen(strokes_at(times)), self.seen(strokes_at(times), late_s=0.75 * BEAT_S)
        self.assertGreater(right["lasts longer on beats"], 0.1)
        self.assertLess(off["lasts longer on beats"], -0.1)
        self.assertGreater(right["lasting on beats"], right["lasting at quarters"])
        # What comes after a rest there is the short one.
        self.assertLess(right["rests longer before beats"], off["rests longer before beats"])

    def test_where_the_first_and_the_last_stroke_lie(self) -> None:
        strokes = strokes_at(self.row)
        right, off = self.seen(strokes), self.seen(strokes, late_s=-0.5 * BEAT_S)
        for name in ("first near a beat", "last near a beat"):
            self.assertAlmostEqual(right[name], 1.0, places=6)
            self.assertAlmostEqual(off[name], -1.0, places=6)
        opens = np.where(np.arange(COUNT) % 4 == 0, 3.0, -3.0)
        self.assertGreater(self.seen(strokes, downbeat=opens)["first opens a bar"], 3.0)
        self.assertLess(self.seen(strokes, downbeat=np.roll(opens, 1))["first opens a bar"], 0.0)

    def test_nothing_struck_or_nothing_within_the_beats_is_nothing(self) -> None:
        far = strokes_at(np.array([0.2, 0.4]))
        self.assertEqual(set(self.seen(far).values()), {0.0})
        silent = strokes_at(np.array([1.0]), 0.0)
        self.assertEqual(set(self.seen(silent).values()), {0.0})


if __name__ == "__main__":
    unittest.main()
