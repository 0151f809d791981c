import unittest

from combpace.core.tempo.proposal import propose


class ProposalTest(unittest.TestCase):
    # Common practice: a measured tempo, half of its 95 % interval, the value that is used.
    PRACTICE = (
        (59.9953, 0.006, 60.0),
        (140.9899, 0.0121, 141.0),
        (140.45, 0.06, 140.5),
        (92.5003, 0.004, 92.5),
        (103.4, 0.001, 103.4),
    )

    def test_the_roundest_value_inside_the_uncertainty(self) -> None:
        for measured, plus_minus, used in self.PRACTICE:
            with self.subTest(measured=measured):
                self.assertAlmostEqual(propose(measured, plus_minus, lambda bpm: None).bpm, used)

    def test_the_end_of_the_audio_decides(self) -> None:
        def at_end(bpm: float) -> float:
            return 1000 * 600 * (60 / 119.752 - 60 / bpm)

        found = propose(119.76, 0.3, at_end)
        self.assertEqual(found.bpm, 119.76)
        assert found.wished is not None
        self.assertEqual(found.wished.bpm, 120.0)
        self.assertGreater(abs(found.wished.end_offset_ms or 0), 500)
        self.assertIn("holds to the end", found.why)
        # A wider limit of its own lets it pass.
        self.assertEqual(propose(119.76, 0.3, at_end, limit_ms=700.0).bpm, 120.0)

    def test_it_says_why(self) -> None:
        found = propose(140.9899, 0.0121, lambda bpm: 0.4)
        self.assertEqual(
            found.why, "measured 140.9899 ± 0.0121; at the end of the audio attacks lie 0.4 ms from the grid"
        )
