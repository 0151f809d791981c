import unittest

from combpace.core.errors import ParameterError
from combpace.core.parts.cells import CellEdit, bars_pushed, with_edit
from combpace.core.parts.part import Laying, Note, Part, laid
from combpace.core.tempo.map import steady_map
from combpace.core.tempo.meters import Meter

LINE = steady_map(120.0, 0.0)
# Eight quarters, the third of them held for two.
TUNE = laid(
    Part("reed", tuple(Note(float(k), 2.0 if k == 2 else 0.9, 60 + k, 90) for k in range(8))), LINE, Laying()
)


class CellTest(unittest.TestCase):
    def places(self, notes: list) -> list[tuple[float, float, int]]:  # type: ignore[type-arg]
        return [(round(note.start_q, 6), round(note.end_q, 6), note.key) for note in notes]

    def test_a_silenced_stretch_ends_what_is_held_into_it(self) -> None:
        left = with_edit(TUNE, CellEdit(3.0, 5.0), LINE)
        self.assertEqual([note.key for note in left], [60, 61, 62, 65, 66, 67])
        self.assertEqual(self.places(left)[2], (2.0, 3.0, 62))
        self.assertAlmostEqual(left[2].end_s, 1.5)

    def test_a_copy_takes_the_place_of_what_was_there(self) -> None:
        made = with_edit(TUNE, CellEdit(0.0, 2.0, (4.0, 6.0)), LINE)
        self.assertEqual([note.key for note in made], [60, 61, 62, 63, 60, 61, 60, 61])
        self.assertEqual([note.start_q for note in made], [float(k) for k in range(8)])
        self.assertAlmostEqual(made[4].start_s, 2.0)

    def test_pushed_later_by_whole_bars(self) -> None:
        made = with_edit(TUNE, CellEdit(0.0, 4.0, (4.0,), push=True), LINE)
        self.assertEqual([note.key for note in made], [60, 61, 62, 63] * 2 + [64, 65, 66, 67])
        self.assertEqual([note.start_q for note in made], [float(k) for k in range(12)])
        for edit in (
            CellEdit(0.0, 2.0, (4.0,), push=True),
            CellEdit(0.0, 4.0, (5.0,), push=True),
            CellEdit(0.0, 4.0, (), push=True),
        ):
            with self.assertRaises(ParameterError):
                bars_pushed(LINE, edit)

    def test_where_meters_differ_it_goes_from_line_to_line(self) -> None:
        mixed = steady_map(120.0, 0.0, (Meter(1, 4, 4), Meter(3, 3, 4)))
        notes = laid(Part("reed", (Note(8.0, 0.5, 60, 90), Note(12.0, 0.5, 61, 90))), mixed, Laying())
        made = with_edit(notes, CellEdit(0.0, 4.0, (4.0,), push=True), mixed)
        # Bars of 4, 4, 3, 3 ... quarters: what lay on beats 1 of bar 3 and 2 of bar 4 lies a bar later on the
        # same beats.
        self.assertEqual([note.start_q for note in made], [11.0, 15.0])
