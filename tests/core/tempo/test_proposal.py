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
        (119.7498, 0.0005, 119.75),
        (111.98, 0.03, 112.0),
    )

    def test_a_tempo_that_the_file_states_is_as_good_as_the_roundest(self) -> None:
        stated = [(119.98, "stated by its file name")]
        self.assertEqual(propose(119.982, 0.03, lambda bpm: 0.0, stated=stated).bpm, 119.98)
        # Where it does not hold to the end, or is another tempo, it is not.
        at_end = lambda bpm: 0.0 if bpm == 120.0 else 90.0  # noqa: E731
        self.assertEqual(propose(119.99, 0.03, at_end, stated=stated).bpm, 120.0)
        self.assertEqual(propose(119.99, 0.03, lambda bpm: 0.0, stated=[(60.0, "tags")]).bpm, 120.0)

    def test_the_roundest_value_inside_the_uncertainty(self) -> None:
        for measured, plus_minus, used in self.PRACTICE:
            with self.subTest(measured=measured):
                self.assertAlmostEqual(propose(measured, plus_minus, lambda bpm: None).bpm, used)

    def test_the_end_of_the_audio_decides(self) -> None:
        def at_end(bpm: float) -> float:
            return 1000 * 600 * (60 / 119.787 - 60 / bpm)

        found = propose(119.79, 0.3, at_end)
        self.assertEqual(found.bpm, 119.79)
        assert found.wished is not None
        self.assertEqual(found.wished.bpm, 120.0)
        self.assertGreater(abs(found.wished.end_offset_ms or 0), 400)
        self.assertIn("holds to the end", found.why)
        # A wider limit of its own lets it pass.
        self.assertEqual(propose(119.79, 0.3, at_end, limit_ms=700.0).bpm, 120.0)

    def test_only_what_lies_beyond_the_limit_is_not_close_enough(self) -> None:
        near = propose(101.3, 0.5, lambda bpm: 8.0)
        self.assertIsNone(near.wished)
        far = propose(101.3, 0.5, lambda bpm: 12.0 if bpm == 101.0 else 0.0)
        assert far.wished is not None
        self.assertEqual((far.wished.bpm, far.wished.end_offset_ms), (101.0, 12.0))

    def test_it_says_why(self) -> None:
        found = propose(140.9899, 0.0121, lambda bpm: 0.4)
        self.assertEqual(
            found.why, "measured 140.9899 ± 0.0121; at the end of the audio attacks lie 0.4 ms from the grid"
        )
