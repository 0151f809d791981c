"""Which attacks are marked: by strength, band, distance, and by the grid."""

import unittest

import numpy as np

from combpace.core.audio import ArraySource
from combpace.core.clocks import SessionTimes, session_times
from combpace.core.errors import ParameterError
from combpace.core.onsets.choose import Choice, band_strengths, chosen, on_places
from combpace.core.onsets.detect import detect_onsets
from combpace.core.spectra import OnsetStrength, onset_strength
from combpace.core.tempo.map import TempoMap, steady_map
from combpace.core.tempo.meters import Meter
from rig.sounds import marks
from tests.core.analysis.test_hats import ride


class ChooseTest(unittest.TestCase):
    def test_lows_and_highs_of_a_kit(self) -> None:
        # A deep stroke on every beat, two hats to the beat: 40 and 80.
        source = ArraySource(ride(2))
        heard = onset_strength(source)
        onsets = detect_onsets(source, heard)
        bands = band_strengths(heard, onsets)
        self.assertEqual(bands.shape, (len(onsets), 3))
        lows, highs = (
            int(chosen(onsets, bands, Choice(listen=listen)).sum()) for listen in ("lows", "highs")
        )
        self.assertAlmostEqual(lows, 40, delta=2)
        self.assertAlmostEqual(highs, 80, delta=4)

    def test_marks_are_at_most_two_seconds_apart(self) -> None:
        Choice(apart_s=2.0)
        with self.assertRaisesRegex(ParameterError, "0 to 2000 ms apart, not 2100 ms"):
            Choice(apart_s=2.1)

    def test_strength_in_a_band_is_beside_its_loud_attacks_not_its_usual_ones(self) -> None:
        # 21 attacks, each 1 to 21 times as strong in the lows: their .95 quantile is 20.
        rises = np.zeros((220, 3), dtype=np.float32)
        rises[5 + 10 * np.arange(21), 0] = np.arange(1, 22)
        heard = OnsetStrength(100.0, np.zeros((220, 4), np.float32), rises, np.zeros(220, np.float32))
        found = band_strengths(heard, marks(0.05 + 0.1 * np.arange(21)))
        np.testing.assert_allclose(found[:, 0], np.minimum(np.arange(1, 22) / 20.0, 1.0), atol=1e-6)
        self.assertFalse(found[:, 1:].any())

    def test_strength_and_distance(self) -> None:
        onsets = marks([0.0, 0.05, 0.5, 0.56, 1.0])
        onsets.strength[:] = [0.9, 0.4, 0.3, 0.8, 0.05]
        self.assertEqual(
            chosen(onsets, None, Choice(threshold=0.1)).tolist(), [True, True, True, True, False]
        )
        # Of two nearer than 80 ms the stronger.
        self.assertEqual(
            chosen(onsets, None, Choice(apart_s=0.08)).tolist(), [True, False, False, True, True]
        )

    def test_the_nearest_to_each_place_within_a_quarter_of_the_step(self) -> None:
        line: TempoMap[SessionTimes] = steady_map(120, 0.0, (Meter(1, 4, 4),))
        moments = session_times([0.01, 0.05, 0.26, 0.5, 0.63, 2.02, 2.4])
        strength = np.ones(7)
        # At 120 BPM a beat is .5 s, a quarter of it .125; an eighth .25 and .0625; a bar 2 and .5.
        self.assertEqual(
            on_places(moments, strength, line, "beats").tolist(),
            [True, False, False, True, False, True, True],
        )
        self.assertEqual(
            on_places(moments, strength, line, "1/8").tolist(), [True, False, True, True, False, True, False]
        )
        self.assertEqual(
            on_places(moments, strength, line, "bars").tolist(),
            [True, False, False, False, False, True, False],
        )
        self.assertTrue(on_places(moments, strength, line, "anywhere").all())
        # Where nothing is struck on a line, what is half a beat or a sixteenth away is not on it.
        beside = session_times([0.0, 1.75, 1.876, 4.02])
        for on, marked in (
            ("bars", [True, False, False, True]),
            ("1/4", [True, False, False, True]),
            ("beats", [True, False, False, True]),
        ):
            self.assertEqual(on_places(beside, np.ones(4), line, on).tolist(), marked)

    def test_nonsense_is_refused(self) -> None:
        for bad in ({"listen": "mids"}, {"threshold": 2.0}, {"apart_s": -1.0}, {"on": "1/7"}, {"on": "x"}):
            with self.assertRaises(ParameterError):
                Choice(**bad)  # type: ignore[arg-type]
