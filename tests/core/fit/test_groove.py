import json
import unittest

import numpy as np

from combpace.core.clocks import Quarters
from combpace.core.errors import ParameterError
from combpace.core.fit.follow import following
from combpace.core.fit.groove import (
    GrooveGrid,
    fits_bars,
    groove_document,
    groove_from,
    names_apart,
    take_groove,
)
from combpace.core.fit.pegs import fit
from combpace.core.fit.rule import Rule
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter
from rig.sounds import marks

# 120 BPM from 1 s: an eighth is 250 ms. The second eighth of each beat is 30 ms late, beat 3 is 10 ms early,
# beat 4 is not struck.
LATE_S = {0.0: 0.0, 0.5: 0.030, 1.0: 0.0, 1.5: 0.030, 2.0: -0.010, 2.5: 0.030, 3.5: 0.030}
LINE = steady_map(120.0, 1.0, (Meter(1, 4, 4),))


def bars(count: int, first: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """(strokes of bars first to first + count - 1, their levels: beat 1 is 6 dB above the others)."""
    found = [
        (1.0 + 2.0 * bar + 0.5 * place + late, 0.0 if place else 6.0)
        for bar in range(first, first + count)
        for place, late in LATE_S.items()
    ]
    return np.array([time for time, _ in found]), np.array([level for _, level in found])


class TakenTest(unittest.TestCase):
    def test_lateness_accent_and_how_often(self) -> None:
        made = take_groove(*bars(4), LINE, (0, 3), Grid(8))
        (row,) = made.bars
        self.assertEqual([one.struck for one in row], [4, 4, 4, 4, 4, 4, 0, 4])
        np.testing.assert_allclose([one.late_ms for one in row], [0, 30, 0, 30, -10, 30, 0, 30], atol=1e-9)
        np.testing.assert_allclose(
            [one.late for one in row], [0, 0.12, 0, 0.12, -0.04, 0.12, 0, 0.12], atol=1e-12
        )
        # Of seven strokes a bar one is 6 dB louder: the mean lies 6/7 dB above the soft ones.
        np.testing.assert_allclose(
            [row[0].accent_db, row[1].accent_db, row[6].accent_db], [6 - 6 / 7, -6 / 7, 0.0]
        )
        self.assertAlmostEqual(made.bpm, 120.0)

    def test_averaged_over_bars_with_their_scatter(self) -> None:
        times, levels = bars(2)
        # The same place 20 ms later in bar 2 than in bar 1.
        times[8] += 0.020
        place = take_groove(times, levels, LINE, (0, 1), Grid(8)).bars[0][1]
        np.testing.assert_allclose([place.late_ms, place.scatter_ms], [40.0, 10.0], atol=1e-9)
        one, two = take_groove(times, levels, LINE, (0, 1), Grid(8), pattern_bars=2).bars
        np.testing.assert_allclose([one[1].late_ms, two[1].late_ms], [30.0, 50.0], atol=1e-9)

    def test_an_early_downbeat_is_its_own_bars(self) -> None:
        times = np.array([0.99, 1.5, 2.0, 2.5, 2.99])
        made = take_groove(times, np.zeros(5), LINE, (0, 0), Grid(4))
        np.testing.assert_allclose([one.late_ms for one in made.bars[0]], [-10, 0, 0, 0], atol=1e-9)

    def test_what_is_no_pattern_is_refused(self) -> None:
        mixed = steady_map(120.0, 1.0, (Meter(1, 4, 4), Meter(2, 3, 4)))
        for call in (
            lambda: take_groove(*bars(4), LINE, (0, 2), Grid(8), pattern_bars=2),
            lambda: take_groove(*bars(4), mixed, (0, 1), Grid(8)),
            lambda: take_groove(*bars(1), LINE, (5, 6), Grid(8)),
        ):
            with self.assertRaises(ParameterError):
                call()


class AsGridTest(unittest.TestCase):
    def test_on_the_bar_it_came_from_nothing_moves(self) -> None:
        times, levels = bars(4)
        grid = GrooveGrid(take_groove(times, levels, LINE, (0, 0), Grid(8)))
        made = fit(marks(times), LINE, following(LINE, LINE, 0.0, 12.0), LINE, 12.0, Rule.onto(grid))  # type: ignore[arg-type]
        np.testing.assert_allclose(made.time_map.to_target(times), times, atol=1e-4)
        self.assertEqual(len([peg for peg in made.pegs if peg.kind == "pulled"]), len(times))

    def test_at_another_tempo_by_the_share_of_the_step(self) -> None:
        grid = GrooveGrid(take_groove(*bars(4), LINE, (0, 3), Grid(8)))
        slow = steady_map(60.0, 0.0, (Meter(1, 4, 4),))
        made = fit(
            marks([0.02, 0.49, 1.03, 2.01]), slow, following(slow, slow, 0.0, 5.0), slow, 5.0, Rule.onto(grid)
        )  # type: ignore[arg-type]
        np.testing.assert_allclose([peg.target_s for peg in made.pegs], [0.0, 0.56, 1.0, 1.98], atol=1e-9)

    def test_several_bars_count_from_its_start(self) -> None:
        times, levels = bars(2)
        times[8] += 0.020
        groove = take_groove(times, levels, LINE, (0, 1), Grid(8), pattern_bars=2)
        near = Quarters(np.array([0.5, 4.5, 8.5]))
        np.testing.assert_allclose(
            np.asarray(GrooveGrid(groove).nearest(near, LINE)) - near, [0.06, 0.10, 0.06], atol=1e-9
        )
        np.testing.assert_allclose(
            np.asarray(GrooveGrid(groove, start=1).nearest(near, LINE)) - near, [0.10, 0.06, 0.10], atol=1e-9
        )

    def test_three_bars_begin_with_their_first_on_the_start(self) -> None:
        # The second eighth is 30, 50 and 70 ms late in bars 1, 2, 3 of the pattern, which begins on bar 2.
        times, levels = bars(3)
        times[8] += 0.020
        times[15] += 0.040
        groove = take_groove(times, levels, LINE, (0, 2), Grid(8), pattern_bars=3)
        late = [float(GrooveGrid(groove, start=1).places_of(index, 4.0)[1]) - 0.5 for index in range(-1, 5)]
        np.testing.assert_allclose(late, [0.10, 0.14, 0.06, 0.10, 0.14, 0.06], atol=1e-9)

    def test_bars_of_another_length_have_the_plain_grid_and_are_named(self) -> None:
        groove = take_groove(*bars(4), LINE, (0, 3), Grid(8))
        mixed: TempoMap = steady_map(120.0, 1.0, (Meter(1, 4, 4), Meter(3, 3, 4)))  # type: ignore[type-arg]
        np.testing.assert_allclose(GrooveGrid(groove).nearest(Quarters(np.array([8.5])), mixed), [8.5])
        self.assertEqual(fits_bars(groove, mixed, 0, 1), "")
        self.assertIn("Bar 3 has 3 quarters", fits_bars(groove, mixed, 0, 2))

    def test_against_equal_division_between_lines(self) -> None:
        # Lines at 0, 2.2 and 4 s; a stroke 20 ms after the middle of the first bar.
        line = TempoMap((Knot(0.0, 0.0), Knot(2.2, 4.0), Knot(4.0, 8.0)), (Meter(1, 4, 4),))
        made = take_groove(np.array([0.0, 1.12]), np.zeros(2), line, (0, 0), Grid(4))
        self.assertAlmostEqual(made.bars[0][2].late_ms, 20.0)


class DocumentTest(unittest.TestCase):
    def test_there_and_back(self) -> None:
        made = take_groove(*bars(4), LINE, (0, 3), Grid(8), "yard shuffle")
        back = groove_from(json.loads(json.dumps(groove_document(made))))
        self.assertEqual((back.name, back.grid, len(back.bars[0])), ("yard shuffle", Grid(8), 8))
        np.testing.assert_allclose(
            [one.late for one in back.bars[0]], [one.late for one in made.bars[0]], atol=1e-9
        )

    def test_whatever_is_none_is_refused_in_a_sentence(self) -> None:
        good = groove_document(take_groove(*bars(4), LINE, (0, 3), Grid(8)))
        place = dict(good["bars"][0][0])
        for bad in (
            None, [], {}, {**good, "version": 9}, {**good, "grid": "1/7"}, {**good, "bars": []}, {**good,
            "bars": [[]]}, {**good, "bpm": 0},
            {**good, "bar_quarters": float("nan")}, {**good, "bars": [[{**place, "late": 0.9},
            *good["bars"][0][1:]]]}, {**good, "bars": [[{}] * 8]},
        ):  # fmt: skip
            with self.assertRaises(ParameterError):
                groove_from(bad)

    def test_names_apart(self) -> None:
        self.assertEqual(names_apart("  yard   shuffle ", []), "yard shuffle")
        self.assertEqual(names_apart("Shuffle", ["shuffle", "shuffle 2"]), "Shuffle 3")


if __name__ == "__main__":
    unittest.main()
