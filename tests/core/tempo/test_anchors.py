import unittest

import numpy as np

from combpace.core.clocks import TakeTimes
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo import anchors, recount
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.solve import Heard, solved
from combpace.core.tempo.statements import Stated
from rig.sounds import marks


def pace(count: int = 33, period: float = 0.5, start: float = 1.0, first: int = 0) -> TempoMap[TakeTimes]:
    return TempoMap(tuple(Knot(start + k * period, float(k - first), confidence=0.8) for k in range(count)))


def lines(line: TempoMap[TakeTimes]) -> list[float]:
    return [round(line.second(line.bar_line(i)), 6) for i in range(4)]


class FixTest(unittest.TestCase):
    def test_a_place_is_exact_and_the_rest_follows_the_attacks(self) -> None:
        old = pace()
        attacks = marks(old.times_s)
        new = anchors.fix_place(old, 5.024, 8.0, attacks)
        self.assertEqual(new.second(8.0), 5.024)
        self.assertTrue(anchors.anchor_at(new, 8.0))
        # Attacks hold their beats: one bar away nothing has moved.
        self.assertAlmostEqual(new.second(4.0), old.second(4.0), places=9)
        self.assertAlmostEqual(new.second(12.0), old.second(12.0), places=9)

    def test_a_correction_never_undoes_an_earlier_one(self) -> None:
        old, attacks = pace(), marks(pace().times_s)
        line = old
        fixed = ((3.02, 4.0), (7.01, 12.0), (4.985, 8.0), (6.03, 10.0))
        for time, place in fixed:
            line = anchors.fix_place(line, time, place, attacks)
        for time, place in fixed:
            self.assertEqual(line.second(place), time)

    def test_beats_change_only_between_the_nearest_anchors(self) -> None:
        line, attacks = pace(), marks(pace().times_s)
        for place in (8.0, 16.0, 24.0):
            line = anchors.lock(line, place, False)
        new = anchors.fix_place(line, 5.0 + 6.03 - 5.0, 10.0, attacks)
        for place in (*range(0, 9), *range(16, 33)):
            self.assertAlmostEqual(new.second(float(place)), line.second(float(place)), places=9)

    def test_contradictions_are_refused_and_both_places_are_named(self) -> None:
        line = anchors.lock(pace(), 8.0, False)
        with self.assertRaises(MapConflictError) as caught:
            anchors.fix_place(line, 4.9, 12.0, marks([]))
        text = str(caught.exception)
        self.assertIn("Bar 4", text)
        self.assertIn("Bar 3", text)
        self.assertIn("unchanged", text)

    def test_a_locked_anchor_does_not_move(self) -> None:
        line = anchors.lock(pace(), 8.0, True)
        with self.assertRaises(MapConflictError):
            anchors.fix_place(line, 5.02, 8.0, marks([]))
        with self.assertRaises(ParameterError):
            anchors.release(line, 8.0, marks([]))
        self.assertEqual(
            anchors.release(anchors.lock(line, 8.0, False), 8.0, marks(line.times_s)).second(8.0), 5.0
        )


def stated_in(line, stated, attacks):  # type: ignore[no-untyped-def]
    """What is stated, counted on: nothing was kept of what the ear heard."""
    return solved(Heard(line, attacks), stated)


def set_bar(line, time, number, attacks):  # type: ignore[no-untyped-def]
    return stated_in(line, Stated(bars=((time, number),)), attacks)


def set_downbeat(line, time, attacks):  # type: ignore[no-untyped-def]
    return stated_in(line, Stated(downbeats=(time,)), attacks)


def set_meter(line, meter):  # type: ignore[no-untyped-def]
    return recount.with_meter(line, meter, recount.confirmed_in(line))


def set_meter_from(line, place, meter):  # type: ignore[no-untyped-def]
    return recount.with_meter_from(line, place, meter, recount.confirmed_in(line))


class NumberingTest(unittest.TestCase):
    def test_bar_1_anywhere_counts_all_bars_from_there(self) -> None:
        old = pace()
        new = anchors.set_bar_1(old, 2.5, marks(old.times_s))
        self.assertEqual(new.second(0.0), 2.5)
        self.assertEqual(lines(new), [2.5, 4.5, 6.5, 8.5])
        self.assertEqual(new.place(1.0), -3.0)

    def test_bar_1_between_beats_moves_the_phase_of_the_whole_take(self) -> None:
        old = pace()
        between = marks(old.times_s + 0.25)
        new = anchors.set_bar_1(old, 3.25, between)
        np.testing.assert_allclose(new.second(8.0), 7.25, atol=1e-9)

    def test_bar_number_stated(self) -> None:
        new = set_bar(pace(), 3.0, 5, marks(pace().times_s))
        self.assertAlmostEqual(new.second(new.bar_line(4)), 3.0)

    def test_downbeat_shifts_the_phase_of_bars(self) -> None:
        new = set_downbeat(pace(), 1.5, marks(pace().times_s))
        self.assertEqual(new.address(new.place(1.5))[1], 1.0)
        self.assertEqual(new.address(new.place(3.5))[1], 1.0)

    def test_downbeat_between_anchors_recounts_only_there(self) -> None:
        line = anchors.lock(pace(), 0.0, False)
        attacks = marks(pace().times_s)
        new = set_downbeat(line, 5.5, attacks)
        self.assertEqual(new.second(0.0), 1.0)
        self.assertAlmostEqual(new.address(new.place(5.5) + 1e-9)[1], 1.0)
        # Beyond the correction the beats keep their times; only their numbers shift.
        self.assertTrue(
            np.all(np.isin(np.round(pace().times_s[pace().times_s > 5.5], 6), np.round(new.times_s, 6)))
        )

    def test_meter_keeps_beats_and_counts_bars_anew(self) -> None:
        new = set_meter(pace(), Meter(1, 3, 4))
        self.assertEqual(lines(new), [1.0, 2.5, 4.0, 5.5])
        six = set_meter(pace(), Meter(1, 6, 8))
        self.assertEqual(lines(six), [1.0, 2.0, 3.0, 4.0])

    def test_meter_from_a_bar_on_leaves_what_is_before(self) -> None:
        new = set_meter_from(pace(), 8.2, Meter(1, 7, 8))
        self.assertEqual([(meter.bar, str(meter)) for meter in new.meters], [(1, "4/4"), (3, "7/8")])
        # Beats keep their times: bar 3 has seven of them.
        self.assertEqual(lines(new), [1.0, 3.0, 5.0, 8.5])
        self.assertEqual(new.times_s.tolist(), pace().times_s.tolist())
        again = set_meter_from(new, new.bar_line(3), Meter(1, 4, 4))
        self.assertEqual(
            [(meter.bar, str(meter)) for meter in again.meters], [(1, "4/4"), (3, "7/8"), (4, "4/4")]
        )
        self.assertAlmostEqual(again.second(again.bar_line(4)), 10.5)
        self.assertEqual(set_meter_from(pace(), 0.0, Meter(1, 3, 4)), set_meter(pace(), Meter(1, 3, 4)))
        back = set_meter(again, Meter(1, 4, 4))
        self.assertEqual(back, pace())

    def test_a_correction_between_eighths_and_quarters_lays_beats_where_they_are_counted(self) -> None:
        mixed = set_meter_from(pace(), 8.0, Meter(1, 7, 8))
        fixed = anchors.fix_place(
            anchors.fix_place(mixed, 3.0, 4.0, marks([])), 12.0, mixed.bar_line(4), marks([])
        )
        self.assertEqual(fixed.second(mixed.bar_line(4)), 12.0)
        for place in fixed.quarters:
            self.assertAlmostEqual(fixed.beat_near(float(place)), float(place))
        self.assertEqual(
            len(fixed.beats_between(4.0, mixed.bar_line(4))),
            int(((fixed.times_s >= 3.0) & (fixed.times_s < 12.0)).sum()),
        )

    def test_downbeat_and_bar_1_with_several_meters(self) -> None:
        mixed = set_meter_from(pace(), 8.0, Meter(1, 3, 4))
        moved = anchors.set_bar_1(mixed, 3.0, marks([]))
        self.assertEqual([(meter.bar, str(meter)) for meter in moved.meters], [(1, "4/4"), (2, "3/4")])
        self.assertEqual(lines(moved), [3.0, 5.0, 6.5, 8.0])
        numbered = set_bar(mixed, 3.0, 5, marks([]))
        self.assertEqual(numbered.second(numbered.bar_line(4)), 3.0)
        self.assertEqual([(meter.bar, str(meter)) for meter in numbered.meters], [(1, "4/4"), (6, "3/4")])
        turned = set_downbeat(mixed, 3.5, marks([]))
        self.assertEqual(lines(turned), [1.5, 3.5, 5.5, 7.0])

    def test_twice_and_half(self) -> None:
        mixed = set_meter_from(pace(), 8.0, Meter(1, 3, 4))
        twice = anchors.scale_tempo(mixed, 2)
        self.assertEqual([(meter.bar, str(meter)) for meter in twice.meters], [(1, "4/4"), (5, "3/4")])
        self.assertEqual(anchors.scale_tempo(twice, -2).meters, mixed.meters)
        self.assertEqual(lines(anchors.scale_tempo(pace(), 2)), [1.0, 2.0, 3.0, 4.0])
        self.assertEqual(lines(anchors.scale_tempo(pace(), -2)), [1.0, 5.0, 9.0, 13.0])

    def test_half_as_fast_two_meters_that_are_alike_and_side_by_side_are_one(self) -> None:
        meters = (Meter(1, 7, 4), Meter(5, 5, 4), Meter(8, 6, 4), Meter(9, 5, 4))
        made = anchors.scale_tempo(TempoMap(pace(70).knots, meters), -2)
        self.assertEqual([(meter.bar, str(meter)) for meter in made.meters], [(1, "7/4"), (3, "5/4")])

    def test_twice_and_half_from_a_bar_on(self) -> None:
        old = pace()
        twice = anchors.scale_tempo(old, 2, old.bar_line(1))
        self.assertEqual(lines(twice), [1.0, 3.0, 4.0, 5.0])
        self.assertAlmostEqual(twice.bpm_at(0.5), old.bpm_at(0.5))
        self.assertAlmostEqual(twice.bpm_at(twice.bar_line(2) + 0.1), 2 * old.bpm_at(0.5))
        self.assertEqual(lines(anchors.scale_tempo(old, -2, old.bar_line(1))), [1.0, 3.0, 7.0, 11.0])
        # What lies before keeps its beats; what was counted twice and then half is counted as it was.
        np.testing.assert_allclose(anchors.scale_tempo(twice, -2, old.bar_line(1)).times_s, old.times_s)
        mixed = set_meter_from(old, 8.0, Meter(1, 3, 4))
        later = anchors.scale_tempo(mixed, 2, mixed.bar_line(1))
        self.assertEqual([(meter.bar, str(meter)) for meter in later.meters], [(1, "4/4"), (4, "3/4")])
        anchored = anchors.lock(old, 8.0, True)
        fixed = [knot for knot in anchors.scale_tempo(anchored, -2, old.bar_line(1)).knots if knot.fixed]
        self.assertEqual([(knot.time_s, knot.quarters) for knot in fixed], [(old.second(8.0), 6.0)])


class LayTest(unittest.TestCase):
    def test_beats_go_to_attacks_and_stay_where_there_are_none(self) -> None:
        expected = np.array([1.0, 1.5, 2.0, 2.5])
        laid = anchors.lay_beats(expected, marks([1.02, 1.98, 2.3]), (0.5, 3.0), 0.5)
        np.testing.assert_allclose(laid[[0, 2]], [1.02, 1.98])
        self.assertAlmostEqual(laid[1], 1.5)
        self.assertTrue(np.all(np.diff(laid) > 0))

    def test_many_beats_are_laid_quickly(self) -> None:
        expected = np.arange(800) * 0.4
        laid = anchors.lay_beats(expected, marks(np.arange(3200) * 0.1 + 0.01), (None, None), 0.4)
        self.assertEqual(len(laid), 800)
        self.assertTrue(np.all(np.diff(laid) > 0))


class ReleaseTest(unittest.TestCase):
    def test_beats_go_back_to_where_they_were_found(self) -> None:
        found, attacks = pace(), marks(pace().times_s)
        cases = (
            [(5.02, 8.0)],
            [
                (5.5, 8.5)
            ],  # off the beat, and by a whole half beat: everything is counted differently meanwhile
            [(3.0, 4.0), (5.27, 8.5)],
            [(3.0, 4.0), (5.03, 8.0), (9.0, 16.0)],
        )
        for fixed in cases:
            line = found
            for time, place in fixed:
                line = anchors.fix_place(line, time, place, attacks)
            for _, place in fixed:
                line = anchors.release(line, place, attacks, found)
            with self.subTest(fixed=fixed):
                self.assertFalse(anchors.anchors(line))
                np.testing.assert_allclose(line.times_s, found.times_s, atol=1e-9)
