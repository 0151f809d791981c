"""How sure bars are given what was said of them."""

import unittest
from dataclasses import replace

import numpy as np

from combpace.core.analysis.take import Analysis, analyse
from combpace.core.audio import ArraySource
from combpace.core.beats.bars import BarHints, read_bars, sure_of
from combpace.core.clocks import TakeTimes
from combpace.core.tempo import bars_again
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.solve import Heard, solved
from combpace.core.tempo.statements import Stated
from combpace.core.tempo.sure import sure_given
from rig.places import breathing
from tests.core.tempo.test_solve import known_of


class SureTest(unittest.TestCase):
    """A song of 4/4, heard right."""

    known: Heard[TakeTimes]
    heard: Analysis
    beats: np.ndarray

    @classmethod
    def setUpClass(cls) -> None:
        cls.beats, sound = breathing(bars=16)
        cls.heard = analyse(ArraySource(sound))
        cls.known = known_of(cls.heard)

    def sure(self, line: TempoMap[TakeTimes], stated: Stated) -> np.ndarray:
        found = sure_given(line, self.known, stated)
        assert found is not None
        return np.asarray(found)

    def test_with_nothing_said_it_is_what_the_ear_said(self) -> None:
        # Of the bars that were heard the posterior is that of the reading.
        pace = self.known.pace
        pattern = bars_again.hear_row(self.heard.pulse, pace).pattern
        read = read_bars(pattern)
        np.testing.assert_allclose(
            sure_of(pattern, BarHints(), read.starts, read.meters).sure[read.first :],
            read.sure[read.first :],
            atol=1e-9,
        )
        self.assertGreater(self.sure(pace, Stated())[:12].min(), 0.8)

    def test_what_is_confirmed_is_right_and_says_something_of_its_neighbours(self) -> None:
        pace = self.known.pace
        time = pace.second(pace.bar_line(6))
        stated = Stated(downbeats=(time,))
        sure = self.sure(solved(self.known, stated), stated)
        self.assertEqual(sure[6], 1.0)
        self.assertGreaterEqual(sure[5] + 1e-9, self.sure(pace, Stated())[5])

    def test_bars_that_only_a_statement_put_there_are_doubtful(self) -> None:
        # The second beat of every bar is said to open it: nothing but the statement speaks for the others.
        time = float(self.beats[21])
        stated = Stated(downbeats=(time,), reach=((time, "everywhere"),))
        line = solved(self.known, stated)
        sure = self.sure(line, stated)
        index = line.bar_of(line.place(time) + 1e-6)
        self.assertEqual(sure[index], 1.0)
        self.assertLess(max(sure[index - 3], sure[index + 3]), 0.5)
        # Their knots were sure of being beats.
        knots = np.interp(line.bar_lines(0, len(sure)), line.quarters, [one.confidence for one in line.knots])
        self.assertGreater(knots[index + 3], 0.5)

    def test_where_the_ear_kept_nothing_nothing_is_said(self) -> None:
        deaf = replace(self.known, pulse=None, row=None)
        self.assertIsNone(sure_given(self.known.pace, deaf, Stated(downbeats=(1.0,))))

    def test_a_meter_that_was_never_heard_has_a_place(self) -> None:
        stated = Stated(meters=((None, Meter(1, 5, 4)),))
        sure = self.sure(solved(self.known, stated), stated)
        self.assertTrue(np.all((sure >= 0) & (sure <= 1)))


if __name__ == "__main__":
    unittest.main()
