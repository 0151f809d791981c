"""One tempo through moments that were put on its beats."""

import unittest
from fractions import Fraction

from combpace.core.clocks import SessionTimes
from combpace.core.errors import MapConflictError
from combpace.core.tempo.map import TempoMap, steady_map
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.one_tempo import one_tempo, place_heard
from combpace.core.tempo.statements import Stated, Tie

FOUR = (Meter(1, 4, 4),)
# 120 BPM: half a second a beat, two a bar, bar 1 at 1 s.
BASE: TempoMap[SessionTimes] = steady_map(120.0, 1.0, FOUR)


def bar(line: TempoMap[SessionTimes], number: int) -> float:
    return line.second(line.bar_line(number - 1))


class OneTempoTest(unittest.TestCase):
    def test_the_first_moment_sets_the_phase(self) -> None:
        line = one_tempo(BASE, Stated(ties=(Tie(5.04, 5.0),)))
        self.assertEqual(line.bpm_at(0.0), 120.0)
        self.assertAlmostEqual(bar(line, 3), 5.04, places=12)

    def test_a_second_sets_the_tempo(self) -> None:
        line = one_tempo(BASE, Stated(ties=(Tie(5.0, 5.0), Tie(25.4, 25.0))))
        # 40 beats in 20.4 s.
        self.assertAlmostEqual(line.bpm_at(0.0), 60 * 40 / 20.4)
        self.assertAlmostEqual(bar(line, 3), 5.0, places=12)
        self.assertAlmostEqual(bar(line, 13), 25.4, places=12)

    def test_more_hold_where_one_tempo_goes_through_all(self) -> None:
        ties = (Tie(5.0, 5.0), Tie(15.2, 15.0), Tie(25.4, 25.0))
        line = one_tempo(BASE, Stated(ties=ties))
        for tie, number in zip(ties, (3, 8, 13), strict=True):
            self.assertAlmostEqual(bar(line, number), tie.time_s, places=9)
        late = (*ties[:1], Tie(15.21, 15.0), *ties[2:])
        with self.assertRaisesRegex(MapConflictError, "follow the playing: all three hold") as refused:
            one_tempo(BASE, Stated(ties=late))
        self.assertLessEqual({5.0, 15.21, 25.4}, set(refused.exception.moments))

    def test_a_stated_tempo_leaves_room_for_one_only(self) -> None:
        line = one_tempo(BASE, Stated(ties=(Tie(5.04, 5.0),), tempo=121.0))
        self.assertAlmostEqual(line.bpm_at(0.0), 121.0)
        self.assertAlmostEqual(bar(line, 3), 5.04, places=12)
        with self.assertRaisesRegex(MapConflictError, "stated 121.00 BPM"):
            one_tempo(BASE, Stated(ties=(Tie(5.0, 5.0), Tie(25.4, 25.0)), tempo=121.0))

    def test_a_tempo_a_tenth_away_is_another_count(self) -> None:
        with self.assertRaisesRegex(MapConflictError, "cannot both hold"):
            one_tempo(BASE, Stated(ties=(Tie(5.0, 5.0), Tie(28.0, 25.0))))

    def test_bar_1_and_a_beat_that_was_put(self) -> None:
        # Bar 1 is said a beat later than it was heard: places of what was put go along.
        line = one_tempo(BASE, Stated(bars=((1.5, 1),), ties=(Tie(9.6, 9.5),)))
        self.assertAlmostEqual(bar(line, 1), 1.5, places=12)
        self.assertAlmostEqual(bar(line, 5), 9.6, places=12)

    def test_what_a_place_is_heard_as_says_it_again(self) -> None:
        stated = Stated(bars=((1.5, 1),), ties=(Tie(9.6, 9.5),), tempo=None)
        line = one_tempo(BASE, stated)
        for place in (4.0, 7.0, 10.5):
            heard = place_heard(BASE, stated, place, line)
            more = Stated(bars=((1.5, 1),), ties=(Tie(line.second(place), heard),))
            self.assertAlmostEqual(one_tempo(BASE, more).second(place), line.second(place), places=9)

    def test_a_level_reads_all_of_it(self) -> None:
        line = one_tempo(BASE, Stated(levels=((None, Fraction(2)),)))
        self.assertEqual((line.bpm_at(0.0), line.second(0.0)), (240.0, 1.0))
        with self.assertRaisesRegex(MapConflictError, "one tempo"):
            one_tempo(BASE, Stated(levels=((5.0, Fraction(2)),)))

    def test_a_meter_keeps_what_is_counted_in_a_minute(self) -> None:
        line = one_tempo(BASE, Stated(meters=((None, Meter(1, 6, 8)),)))
        # 120 dotted quarters a minute are 180 quarters.
        self.assertEqual(line.bpm_at(0.0), 180.0)


if __name__ == "__main__":
    unittest.main()
