import unittest

import numpy as np

from combpace.core.clocks import SessionTimes
from combpace.core.errors import ParameterError
from combpace.core.fit.groove import GrooveGrid, take_groove
from combpace.core.fit.rule import HandPeg, Rule
from combpace.core.parts.part import Laying, Note, Part, laid
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter

# Bars of 2, 2.4, 1.9 and 1.9 s from half a second on.
BREATHING: TempoMap[SessionTimes] = TempoMap(
    (Knot(0.5, 0.0), Knot(2.5, 4.0), Knot(4.9, 8.0), Knot(6.8, 12.0)), (Meter(1, 4, 4),)
)
TUNE = Part(
    "reed",
    (Note(-0.5, 0.5, 60, 80), Note(0.0, 1.0, 62, 100), Note(1.03, 0.5, 64, 90), Note(2.48, 1.0, 65, 70)),
)


class LaidTest(unittest.TestCase):
    def starts(self, how: Laying, part: Part = TUNE) -> np.ndarray:
        return np.array([note.start_s for note in laid(part, BREATHING, how)])

    def test_it_follows_the_map_from_a_bar_on(self) -> None:
        # Bar 2 begins at 2.5 s and lasts 2.4; the pickup of half a quarter lies in bar 1, a quarter of which
        # is half a second.
        np.testing.assert_allclose(
            self.starts(Laying(first_bar=1)), [2.25, 2.5, 2.5 + 1.03 * 0.6, 2.5 + 2.48 * 0.6]
        )

    def test_again_and_again_each_from_a_bar_line(self) -> None:
        notes = laid(TUNE, BREATHING, Laying(times=3))
        self.assertEqual(len(notes), 4 + 3 + 3)
        np.testing.assert_allclose([note.start_s for note in notes if note.key == 62], [0.5, 2.5, 4.9])
        until = laid(TUNE, BREATHING, Laying(until_bar=2))
        np.testing.assert_allclose([note.start_s for note in until if note.key == 62], [0.5, 2.5])
        # What lasts beyond the end ends there.
        long = laid(Part("pad", (Note(3.0, 4.0, 60, 80),)), BREATHING, Laying(until_bar=1))
        self.assertAlmostEqual(long[0].end_s, 2.5)

    def test_a_rule_pulls_starts_and_keeps_lengths(self) -> None:
        notes = laid(TUNE, BREATHING, Laying(rule=Rule(grid="1/8", strength=100)))
        np.testing.assert_allclose([note.start_q for note in notes], [-0.5, 0.0, 1.0, 2.5])
        np.testing.assert_allclose([note.end_q - note.start_q for note in notes], [0.5, 1.0, 0.5, 1.0])
        half = laid(TUNE, BREATHING, Laying(rule=Rule(grid="1/8", strength=50)))
        np.testing.assert_allclose([note.start_q for note in half], [-0.5, 0.0, 1.015, 2.49])
        apart = laid(TUNE, BREATHING, Laying(rule=Rule(grid="1/8"), lengths="until the next"))
        np.testing.assert_allclose([note.end_q for note in apart], [0.0, 1.0, 2.5, 3.5])

    def test_a_peg_by_hand_wins(self) -> None:
        notes = laid(TUNE, BREATHING, Laying(rule=Rule(grid="1/8"), hand=(HandPeg(1.03, quarters=1.25),)))
        np.testing.assert_allclose([note.start_q for note in notes], [-0.5, 0.0, 1.25, 2.5])

    def test_a_groove_is_laid_on_exactly_with_its_accents(self) -> None:
        line = steady_map(120.0, 0.0)
        groove = take_groove(
            np.array([0.0, 0.52, 1.0, 1.49]), np.array([6.0, 0.0, 0.0, 0.0]), line, (0, 0), Grid(4)
        )
        part = Part("sticks", tuple(Note(float(k), 0.2, 38, 64, 9) for k in range(4)))
        notes = laid(part, line, Laying(rule=Rule.onto(GrooveGrid(groove)), accent=1.0))  # type: ignore[arg-type]
        np.testing.assert_allclose([note.start_s for note in notes], [0.0, 0.52, 1.0, 1.49], atol=1e-12)
        # 4.5 dB above the mean and 1.5 below it.
        self.assertEqual(
            [note.velocity for note in notes],
            [round(64 * 10 ** (4.5 / 20))] + [round(64 * 10 ** (-1.5 / 20))] * 3,
        )
        self.assertEqual(
            [note.velocity for note in laid(part, line, Laying(rule=Rule.onto(GrooveGrid(groove))))], [64] * 4
        )  # type: ignore[arg-type]

    def test_in_seconds_it_keeps_its_time(self) -> None:
        part = Part("cue", (Note(0.25, 0.5, 60, 80), Note(1.0, 0.1, 60, 80)), in_seconds=True)
        np.testing.assert_allclose(self.starts(Laying(first_bar=1, rule=Rule(grid="1/4")), part), [2.75, 3.5])

    def test_what_cannot_be_is_refused(self) -> None:
        for make in (
            lambda: Laying(times=0),
            lambda: Laying(lengths="long"),
            lambda: Laying(accent=2.0),
            lambda: laid(TUNE, BREATHING, Laying(first_bar=2, until_bar=1)),
        ):
            with self.assertRaises(ParameterError):
                make()
        self.assertEqual(laid(Part("none", ()), BREATHING, Laying()), [])


if __name__ == "__main__":
    unittest.main()
