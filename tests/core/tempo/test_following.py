import unittest

import numpy as np

from combpace.core.audio import ArraySource, Audio
from combpace.core.errors import ParameterError
from combpace.core.stretch import StretchedSource
from combpace.core.tempo.following import Repeated, follow
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter
from rig.sounds import struck

RATE = 44100
# 4/4, a bar of 2 s, one of 2.4, one of 1.9, then as the last.
BREATHING = TempoMap((Knot(0.5, 0.0), Knot(2.5, 4.0), Knot(4.9, 8.0), Knot(6.8, 12.0)), (Meter(1, 4, 4),))


class FollowTest(unittest.TestCase):
    def test_each_bar_line_is_met_each_time_round(self) -> None:
        # One bar of 1.6 s, three times from bar 1.
        laid = follow(1.6, 4.0, BREATHING, 0, times=3)
        self.assertEqual(laid.times, 3)
        np.testing.assert_allclose(
            laid.time_map.to_target(np.array([0.0, 1.6, 3.2, 4.8])), [0.5, 2.5, 4.9, 6.8], atol=1e-9
        )
        # The third beat of its second round: half of the bar of 2.4 s.
        np.testing.assert_allclose(laid.time_map.to_target(np.array([1.6 + 0.8])), [3.7], atol=1e-9)

    def test_until_a_bar_it_ends_on_its_line(self) -> None:
        # Two bars from bar 1 until bar 4: one round and a half.
        laid = follow(3.2, 8.0, BREATHING, 0, until_bar=3)
        self.assertEqual(laid.times, 2)
        self.assertAlmostEqual(float(laid.time_map.target_s[-1]), 6.8)
        self.assertAlmostEqual(float(laid.time_map.source_s[-1]), 4.8)

    def test_frames_are_those_of_the_lines_and_it_is_silent_before(self) -> None:
        audio = struck([0.0, 0.4, 0.8, 1.2], 1.6, low_every=4)
        laid = follow(1.6, 4.0, BREATHING, 1, times=2)
        repeated = Repeated(ArraySource(audio), 0, audio.frames, laid.times)
        for method in ("cut", "strike"):
            made = StretchedSource(repeated, laid.time_map, method)
            self.assertEqual((made.first_frame, made.frames), (round(2.5 * RATE), round(6.8 * RATE)))
            out = np.abs(made.read(0, made.frames)[0])
            self.assertEqual(float(out[: round(2.5 * RATE) - 200].max()), 0.0)
            for line in (2.5, 4.9):
                at = round(line * RATE)
                loud = np.flatnonzero(out[at - 400 : at + 400] > 0.15)
                self.assertLess(abs(int(loud[0]) - 400), 90, f"{method} {line}")

    def test_no_step_where_it_comes_round(self) -> None:
        # A ramp that ends at .8 and begins at 0: a step of .8 without the fades.
        ramp = np.linspace(0.0, 0.8, 4410, dtype=np.float32)
        repeated = Repeated(ArraySource(Audio(ramp[None], RATE)), 0, 4410, 3)
        whole = repeated.read(0, repeated.frames)[0]
        self.assertLess(float(np.abs(np.diff(whole)).max()), 0.01)
        np.testing.assert_array_equal(whole[:4000], ramp[:4000])
        self.assertEqual(float(whole[-1]), np.float32(0.8))
        for lo, hi in ((0, 100), (4300, 4500), (-50, 30), (13200, 13300)):
            wanted = np.zeros(hi - lo, np.float32)
            inside = slice(max(lo, 0), min(hi, len(whole)))
            wanted[inside.start - lo : inside.stop - lo] = whole[inside]
            np.testing.assert_array_equal(repeated.read(lo, hi)[0], wanted)

    def test_what_cannot_be_is_refused(self) -> None:
        line: TempoMap = steady_map(120.0, 0.0)  # type: ignore[type-arg]
        for more in ({"times": 0}, {"until_bar": 0}, {"times": 100_000}):
            with self.assertRaises(ParameterError):
                follow(2.0, 4.0, line, 0, **more)  # type: ignore[arg-type]
        with self.assertRaises(ParameterError):
            follow(0.0, 4.0, line, 0)


if __name__ == "__main__":
    unittest.main()
