"""Where the rules of a map and of its anchors end: each bound a hair inside and a hair outside."""

import unittest

import numpy as np

from combpace.core.clocks import TakeTimes, take_times
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo import anchors
from combpace.core.tempo.drift import bars_between
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.lay import lay_beats
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.statements import Stated
from rig.sounds import marks

NOTHING = marks([])


def pace(beats: int = 33) -> TempoMap[TakeTimes]:
    """120 BPM from 1 s on, a found knot on each beat."""
    return TempoMap(tuple(Knot(1.0 + 0.5 * k, float(k), confidence=0.8) for k in range(beats)))


def one_span(bpm: float, ramp: float = 1.0) -> TempoMap[TakeTimes]:
    return TempoMap((Knot(0.0, 0.0, ramp=ramp), Knot(60.0 * 8 / bpm, 8.0)))


class MapTest(unittest.TestCase):
    def test_a_map_holds_5_to_1000_bpm(self) -> None:
        for bpm in (5.1, 990.0):
            self.assertAlmostEqual(one_span(bpm).bpm_at(0.0), bpm)
        for bpm in (4.9, 1010.0):
            with self.assertRaisesRegex(ParameterError, "5 to 1000 is what a map can hold"):
                one_span(bpm)

    def test_the_fast_end_of_a_ramp_counts_as_well(self) -> None:
        # The whole span runs at 600 BPM; its end, four times as fast as its start, at some 1100.
        with self.assertRaisesRegex(ParameterError, "is what a map can hold"):
            one_span(600.0, ramp=4.0)

    def test_knots_follow_each_other_in_time_and_in_beats(self) -> None:
        for times, places in (((1.0, 1.0), (0.0, 4.0)), ((2.0, 1.0), (0.0, 4.0)), ((1.0, 2.0), (4.0, 4.0))):
            with self.assertRaisesRegex(ParameterError, "follow each other in time and in beats"):
                TempoMap(tuple(Knot(t, q) for t, q in zip(times, places, strict=True)))

    def test_meters_begin_at_bar_1_and_follow_each_other(self) -> None:
        knots = (Knot(0.0, 0.0), Knot(4.0, 8.0))
        TempoMap(knots, (Meter(1, 4, 4), Meter(2, 3, 4)))
        with self.assertRaisesRegex(ParameterError, "first meter starts at bar 1"):
            TempoMap(knots, (Meter(2, 4, 4),))
        for bars in ((1, 1), (1, 3, 2), (1, 2, 2)):
            with self.assertRaisesRegex(ParameterError, "one for each bar at most"):
                TempoMap(knots, tuple(Meter(bar, 4, 4) for bar in bars))

    def test_every_knot_is_exact_to_the_last_digit_the_last_one_too(self) -> None:
        rng = np.random.default_rng(27)
        for _ in range(200):
            times = np.cumsum(rng.uniform(0.3, 0.9, 12))
            places = np.cumsum(rng.uniform(0.5, 1.5, 12))
            line: TempoMap[TakeTimes] = TempoMap(
                tuple(Knot(float(t), float(q)) for t, q in zip(times, places, strict=True))
            )
            self.assertEqual([line.second(q) for q in places], times.tolist())
            self.assertEqual([line.place(t) for t in times], places.tolist())
            # A span from a lead-in over bar 1: its length has less exact digits than its end.
            first, last = -rng.uniform(0.7, 1.0), rng.uniform(0.7, 1.0)
            over: TempoMap[TakeTimes] = TempoMap((Knot(first, first), Knot(last, last)))
            self.assertEqual((over.second(last), over.place(last)), (last, last))
            self.assertEqual((over.second(first), over.place(first)), (first, first))


class CorrectionTest(unittest.TestCase):
    """No attacks: beats lie where the rules alone put them."""

    def moved(self, by_s: float, place: float = 8.0) -> TempoMap[TakeTimes]:
        return anchors.fix_place(pace(), 1.0 + 0.5 * place + by_s, place, NOTHING)

    def test_a_small_correction_fades_out_over_four_bars(self) -> None:
        line = self.moved(0.05)
        for beats, share in ((1, 15 / 16), (4, 3 / 4), (8, 1 / 2), (15, 1 / 16), (16, 0.0), (20, 0.0)):
            at = 8.0 + beats
            self.assertAlmostEqual(line.second(at), 1.0 + 0.5 * at + 0.05 * share, places=6)

    def test_beyond_a_quarter_of_a_beat_it_is_a_matter_of_phase(self) -> None:
        near, far = self.moved(0.12), self.moved(0.13)
        self.assertAlmostEqual(near.second(28.0), 15.0, places=6)
        self.assertAlmostEqual(far.second(28.0), 15.13, places=6)

    def test_between_two_anchors_at_most_2_6_times_as_fast(self) -> None:
        line = anchors.lock(pace(), 8.0, True)
        # Four beats in .8 s are 2.5 times as fast as the map, in .74 s 2.7 times.
        self.assertEqual(anchors.fix_place(line, 5.8, 12.0, NOTHING).second(12.0), 5.8)
        with self.assertRaises(MapConflictError):
            anchors.fix_place(line, 5.74, 12.0, NOTHING)
        # And as slow: in 5 s, and in 5.4 s.
        self.assertEqual(anchors.fix_place(line, 10.0, 12.0, NOTHING).second(12.0), 10.0)
        with self.assertRaises(MapConflictError):
            anchors.fix_place(line, 10.4, 12.0, NOTHING)


class LayTest(unittest.TestCase):
    EXPECTED = np.array([1.0, 1.5, 2.0, 2.5, 3.0])

    def laid(self, attacks: list[float]) -> list[float]:
        return [round(float(t), 6) for t in lay_beats(self.EXPECTED, marks(attacks), (None, None), 0.5)]

    def test_one_attack_off_the_others_must_not_bend_the_beat_far(self) -> None:
        others = [1.0, 1.5, 2.5, 3.0]
        self.assertEqual(self.laid(sorted([*others, 2.01]))[2], 2.01)
        self.assertEqual(self.laid(sorted([*others, 2.03]))[2], 2.0)

    def test_a_beat_reaches_for_attacks_within_18_percent_of_itself(self) -> None:
        late = (self.EXPECTED + 0.06).round(6).tolist()
        self.assertEqual(self.laid(late), late)
        self.assertEqual(self.laid((self.EXPECTED + 0.1).tolist()), self.EXPECTED.tolist())


class TieTest(unittest.TestCase):
    def test_half_way_between_two_places_the_earlier_one_is_nearest(self) -> None:
        line: TempoMap[TakeTimes] = steady_map(120, 0.0)
        near = Grid(4).nearest(line.to_quarters(take_times([0.25, 1.25, 1.26])), line)
        self.assertEqual(list(np.asarray(near)), [0.0, 2.0, 3.0])

    def test_stated_meters_come_in_order_of_time(self) -> None:
        three, five = Meter(1, 3, 4), Meter(1, 5, 4)
        stated = Stated(meters=((8.0, five), (None, Meter(1, 4, 4)), (4.0, three)))
        self.assertEqual(stated.changes, [(4.0, three), (8.0, five)])

    def test_a_bar_drifts_by_the_attack_nearest_to_its_line_not_by_the_first(self) -> None:
        line: TempoMap[TakeTimes] = steady_map(120, 0.0)
        bars = bars_between(line, 1.9, 3.9, take_times([1.96, 2.01]))
        self.assertEqual(len(bars), 1)
        self.assertAlmostEqual(bars[0].drift_ms or 0.0, 10.0, places=6)


if __name__ == "__main__":
    unittest.main()
