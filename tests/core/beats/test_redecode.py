"""Reading again what the user states more of: it holds exactly, and what agrees with it stays."""

import unittest

import numpy as np

from combpace.core.analysis.take import Hints, analyse, read
from combpace.core.beats.activations import FRAMES_PER_S, activations_kept, kept_activations
from combpace.core.beats.candidates import TempoSpan
from combpace.core.beats.decoder import Weights
from combpace.core.beats.redecode import solved_again
from combpace.core.tempo.meters import Meter
from rig.sounds import source, struck

SECONDS = 40.0


def odds(times: np.ndarray) -> np.ndarray:
    row = np.full(round(SECONDS * FRAMES_PER_S), -4.0)
    row[np.round(times * FRAMES_PER_S).astype(int)] = 3.0
    return row


class RowsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.times = np.arange(0.5, SECONDS - 0.5, 0.5)
        self.row = self.times * FRAMES_PER_S

    def again(
        self,
        heard: np.ndarray,
        held: list[float],
        tempi: list[tuple[float, float, float, float]] | None = None,
    ) -> np.ndarray:
        found = solved_again(odds(heard), self.row, np.array(held), tempi or [], Weights())
        assert found is not None
        return found

    def test_what_agrees_changes_nothing(self) -> None:
        np.testing.assert_array_equal(self.again(self.times, [float(self.row[20])]), self.row)

    def test_a_beat_near_what_is_stated_moves_there_alone(self) -> None:
        found = self.again(self.times, [float(self.row[20]) + 3])
        self.assertEqual(found[20], self.row[20] + 3)
        np.testing.assert_array_equal(np.delete(found, 20), np.delete(self.row, 20))

    def test_a_place_far_from_any_beat_is_followed_again_about_it_and_nowhere_else(self) -> None:
        held = float(self.row[40]) + 25
        found = self.again(self.times, [held])
        self.assertIn(held, found)
        far = np.abs(self.row - held) > 8 * 50
        self.assertTrue(np.isin(self.row[far], found).all())
        self.assertTrue((np.diff(found) > 10).all())

    def test_a_stated_tempo_holds_where_it_is_stated(self) -> None:
        # Eighths are there to be heard: between 10 and 20 s the user counts them.
        found = self.again(np.arange(0.5, SECONDS - 0.5, 0.25), [], [(1000.0, 2000.0, 24.0, 26.0)])
        inside = found[(found > 1050) & (found < 1950)]
        self.assertLess(np.abs(np.diff(inside) - 25).max(), 1.5)
        np.testing.assert_array_equal(found[found < 800], self.row[self.row < 800])

    def test_where_most_disagrees_the_take_is_to_be_followed_as_a_whole(self) -> None:
        self.assertIsNone(
            solved_again(odds(self.times), self.row, np.zeros(0), [(0.0, np.inf, 80.0, 90.0)], Weights())
        )


class ReadAgainTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.beats = 0.7 + np.arange(60) * 0.5
        cls.audio = source(struck(cls.beats, 32.0, low_every=4))
        cls.heard = analyse(cls.audio)

    def again(self, hints: Hints):  # type: ignore[no-untyped-def]
        return read(self.heard.pulse, self.heard.onsets, hints, 32.0)

    def test_nothing_stated_reads_the_same(self) -> None:
        beats, pace, _, _ = self.again(Hints())
        np.testing.assert_allclose(beats.times, self.heard.beats.times)
        assert pace is not None and self.heard.pace is not None
        self.assertEqual([str(m) for m in pace.meters], [str(m) for m in self.heard.pace.meters])

    def test_any_number_of_statements_hold_exactly(self) -> None:
        at = [
            float(self.heard.onsets.times[np.argmin(np.abs(self.heard.onsets.times - self.beats[k]))])
            for k in (9, 25, 41)
        ]
        beats, pace, _, _ = self.again(
            Hints(
                bars=((at[0], 1),),
                downbeats=(at[1],),
                meters=((at[2], Meter(1, 3, 4)),),
                others=(at[0] + 0.5,),
            )
        )
        assert pace is not None
        self.assertEqual(pace.second(0.0), at[0])
        self.assertAlmostEqual(pace.address(pace.place(at[1]) + 1e-7)[1], 1.0, places=5)
        self.assertEqual(str(pace.meter_of(pace.bar_of(pace.place(at[2]) + 1e-6))), "3/4")
        self.assertEqual(len(beats), len(self.heard.beats))

    def test_a_tempo_for_the_whole_take(self) -> None:
        beats, _, _, _ = self.again(Hints(tempi=(TempoSpan(55, 65),)))
        self.assertAlmostEqual(float(np.median(np.diff(beats.times))), 1.0, delta=0.01)

    def test_a_tempo_that_no_pulse_has_gives_a_reading_or_none_and_no_error(self) -> None:
        for low, high in ((11, 12), (400, 480), (119.9, 120.1)):
            beats, pace, _, _ = self.again(Hints(tempi=(TempoSpan(low, high),)))
            self.assertEqual(pace is None, len(beats) == 0)

    def test_what_is_kept_of_a_pulse_is_all_of_it(self) -> None:
        made = activations_kept(kept_activations(self.heard.pulse))
        for name in ("beat", "downbeat", "meter", "inputs"):
            np.testing.assert_array_equal(getattr(made, name), getattr(self.heard.pulse, name))
