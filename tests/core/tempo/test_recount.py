import unittest
from dataclasses import replace

from combpace.core.clocks import TakeTimes
from combpace.core.errors import MapConflictError
from combpace.core.tempo import recount
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter
from tests.core.tempo.test_anchors import pace

FOUR, THREE = Meter(1, 4, 4), Meter(1, 3, 4)


def meters(line: TempoMap[TakeTimes]) -> list[tuple[int, str]]:
    return [(meter.bar, str(meter)) for meter in line.meters]


class FilledTest(unittest.TestCase):
    CASES = (  # beats between two lines, meter, bars that fill them
        (8, FOUR, ["4/4", "4/4"]),
        (6, FOUR, ["4/4", "2/4"]),
        (5, FOUR, ["5/4"]),
        (9, FOUR, ["4/4", "5/4"]),
        (1, FOUR, ["1/4"]),
        (7, THREE, ["3/4", "4/4"]),
        (3.5, Meter(1, 7, 8), ["7/8"]),
        (4.0, Meter(1, 7, 8), ["8/8"]),
    )

    def test_what_is_left_over_is_one_bar_of_another_length(self) -> None:
        for beats, meter, bars in self.CASES:
            with self.subTest(beats=beats, meter=str(meter)):
                found = recount.filled(2.0, 2.0 + beats, meter)
                self.assertEqual([str(one) for _, one in found], bars)
                self.assertEqual(found[0][0], 2.0)
                self.assertEqual(found[-1][0] + found[-1][1].bar_quarters, 2.0 + beats)


class DownbeatTest(unittest.TestCase):
    def test_between_confirmed_downbeats_one_odd_bar_makes_the_count_come_out(self) -> None:
        counted, place = recount.with_downbeat(pace(), 10.0, [0.0, 16.0])
        self.assertEqual(place, 10.0)
        self.assertEqual(meters(counted), [(1, "4/4"), (3, "2/4"), (4, "4/4"), (5, "2/4"), (6, "4/4")])
        for line in (0.0, 10.0, 16.0, 20.0):
            self.assertTrue(recount.is_line(counted, line))
        self.assertEqual(counted.times_s.tolist(), pace().times_s.tolist())
        self.assertEqual([odd[:2] for odd in recount.odd_bars(counted)], [(3, 3), (5, 5)])

    def test_two_odd_bars_beside_each_other_are_both_named(self) -> None:
        four, one, three = (Meter(1, beats, 4) for beats in (4, 1, 3))
        line = replace(
            pace(), meters=(four, replace(one, bar=3), replace(three, bar=4), replace(four, bar=5))
        )
        self.assertEqual([odd[:2] for odd in recount.odd_bars(line)], [(3, 3), (4, 4)])
        # Two bars of three are a change of meter, and so is what does not come back.
        line = replace(pace(), meters=(four, replace(three, bar=3), replace(four, bar=5)))
        self.assertEqual(recount.odd_bars(line), [])
        line = replace(pace(), meters=(four, replace(one, bar=3), replace(three, bar=4)))
        self.assertEqual(recount.odd_bars(line), [])

    def test_with_nothing_confirmed_before_it_the_bars_before_follow(self) -> None:
        counted, place = recount.with_downbeat(pace(), 9.0, [16.0])
        self.assertEqual(counted.second(place), pace().second(9.0))
        # Bar 1 moved by a beat, the confirmed one is a line still.
        self.assertEqual(counted.second(0.0), pace().second(1.0))
        self.assertTrue(recount.is_line(counted, counted.place(pace().second(16.0))))

    def test_before_a_stated_bar_1_only_whole_bars_have_room(self) -> None:
        line = pace(first=8)
        with self.assertRaises(MapConflictError) as caught:
            recount.with_downbeat(line, -3.0, [0.0])
        self.assertIn("whole bars", str(caught.exception))
        # Where its number was only found, bar 1 gives way.
        counted, place = recount.with_downbeat(line, -3.0, [0.0], numbered=False)
        self.assertEqual(place, 0.0)
        self.assertEqual(counted.second(0.0), line.second(-3.0))
        self.assertTrue(recount.is_line(counted, 3.0))

    def test_later_changes_of_meter_stay_where_they_were(self) -> None:
        mixed = recount.with_meter_from(pace(), 16.0, THREE, [])
        counted, _ = recount.with_downbeat(mixed, 6.0, [0.0, 8.0])
        self.assertEqual(meters(counted), [(1, "4/4"), (2, "2/4"), (4, "4/4"), (6, "3/4")])


class MeterTest(unittest.TestCase):
    def test_confirmed_downbeats_open_bars_in_every_meter(self) -> None:
        for text in ("3/4", "4/4", "5/4", "7/8", "6/8"):
            top, _, bottom = text.partition("/")
            meter = Meter(1, int(top), int(bottom))
            counted = recount.with_meter(pace(), meter, [0.0, 8.0, 20.0])
            with self.subTest(meter=text):
                for line in (0.0, 8.0, 20.0):
                    self.assertTrue(recount.is_line(counted, counted.place(pace().second(line))), line)
                self.assertEqual(counted.times_s.tolist(), pace().times_s.tolist())

    def test_bars_of_another_length_than_stated_are_named(self) -> None:
        counted = recount.with_meter(pace(), THREE, [0.0, 4.0, 8.0, 12.0])
        self.assertEqual(
            [(first, last, str(meter)) for first, last, meter in recount.odd_bars(counted, THREE, 9)],
            [(1, 3, "4/4")],
        )

    def test_from_a_bar_on_up_to_what_was_stated_later(self) -> None:
        later = recount.with_meter_from(pace(), 16.0, Meter(1, 2, 4), [])
        counted = recount.with_meter_from(later, 4.0, THREE, [0.0], until=16.0)
        self.assertEqual(meters(counted), [(1, "4/4"), (2, "3/4"), (6, "2/4")])
        self.assertEqual(counted.second(counted.bar_line(5)), pace().second(16.0))

    def test_a_steady_map_keeps_its_quarters(self) -> None:
        steady: TempoMap[TakeTimes] = TempoMap((Knot(1.0, 0.0), Knot(1.0 + 2048.0, 4096.0)))
        counted = recount.with_meter_from(steady, 8.0, Meter(1, 7, 8), [0.0])
        self.assertTrue(counted.is_steady)
        self.assertEqual([counted.second(counted.bar_line(index)) for index in (2, 3)], [5.0, 6.75])
