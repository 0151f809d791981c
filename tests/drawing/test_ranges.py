"""A long session's picture in ranges is the same picture: put together again it is what the whole one
says.
"""

import struct
from base64 import b64decode
from dataclasses import replace

import numpy as np

from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter
from combpace.drawing import picture, ranges
from combpace.session import shelf
from combpace.session.state import session_state
from rig.places import PlaceTest


class PackingTest(PlaceTest):
    def test_floats_come_back_to_the_last_bit(self) -> None:
        values = np.array([0.1, -1e-300, 7200.123456789012, np.pi])
        self.assertEqual(list(struct.unpack("<4d", b64decode(ranges.packed_floats(values)))), values.tolist())

    def test_even_steps_are_counted_and_anything_else_is_kept_as_it_is(self) -> None:
        even = np.concatenate([np.arange(0.0, 400.0), 400.0 + 0.75 * np.arange(300)])
        made = ranges.packed_steps(even)
        assert isinstance(made, dict)
        self.assertEqual(made["steps"], [[1.0, 400], [0.75, 299]])
        self.assertIsInstance(
            ranges.packed_steps(np.cumsum(np.random.default_rng(1).uniform(0.1, 1.0, 50))), str
        )
        # Thirds do not add up to themselves in binary fractions.
        thirds = np.arange(1, 30) / 3
        packed = ranges.packed_steps(thirds)
        back = (
            list(struct.unpack(f"<{len(thirds)}d", b64decode(packed)))
            if isinstance(packed, str)
            else np.cumsum(
                [packed["from"], *(step for step, often in packed["steps"] for _ in range(often))]
            ).tolist()
        )
        self.assertEqual(back, thirds.tolist())


class RangesTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.place.settings = replace(self.place.settings, range_s=3)

    def test_a_session_of_a_songs_length_goes_whole(self) -> None:
        self.place.settings = replace(self.place.settings, range_s=300)
        self.assertEqual(ranges.in_short(self.seen(), None), picture.picture(self.seen(), None))
        self.assertNotIn("ranged", ranges.in_short(self.seen(), None))

    def test_ranges_put_together_are_the_whole(self) -> None:
        self.act("breathing")
        seen = self.seen()
        whole, short = picture.picture(seen, None), ranges.in_short(seen, None)
        count = short["ranged"]["count"]
        self.assertGreater(count, 3)
        self.assertEqual(list(short["ranged"]["parts"]), ["0"], "only what is seen first")
        parts = ranges.parts(seen, None, range(count), fit=True)
        for name in ("t", "s", "c"):
            self.assertEqual(
                [one for part in parts.values() for one in part["onsets"][self.lead][name]],
                whole["onsets"][self.lead][name],
            )
        for name in ranges.ALONG:
            self.assertEqual(
                [row for part in parts.values() for row in part["fit"][name]], whole["fit"][name]
            )
        self.assertTrue(whole["fit"]["pegs"])
        points = {
            source: target
            for part in parts.values()
            for source, target in zip(part["fit"]["source"], part["fit"]["target"], strict=True)
        }
        self.assertEqual(
            (list(points), list(points.values())), (whole["fit"]["source"], whole["fit"]["target"])
        )
        # Where ranges meet both know the points on either side: nothing between them is guessed.
        for k in range(count - 1):
            a, b = parts[str(k)]["fit"]["source"], parts[str(k + 1)]["fit"]["source"]
            self.assertGreater(a[-1], 3 * (k + 1))
            self.assertLess(b[0], 3 * (k + 1))

    def test_bars_as_columns_say_what_the_rows_say(self) -> None:
        rows = picture.shown_bars(self.seen())
        short = ranges.short_bars(rows)
        self.assertEqual([short["i"] + k for k in range(len(rows))], [row["i"] for row in rows])
        self.assertEqual([*short["s"][1:], short["e"]], [row["e"] for row in rows])
        for name in ("s", "bpm", "drift", "sure"):
            self.assertEqual(short[name], [row[name] for row in rows])
        self.assertEqual(ranges.short_bars([])["s"], [])

    def test_what_is_asked_beyond_the_ends_is_nothing_and_no_fit_where_none_is_wanted(self) -> None:
        self.assertEqual(ranges.parts(self.seen(), None, [99, 10**12], fit=True), {})
        self.assertIsNone(ranges.parts(self.seen(), None, [0], fit=False)["0"]["fit"])
        self.assertIsNone(ranges.in_short(self.seen(), None, fit=False)["fit"])

    def test_the_range_of_bar_1_comes_at_once(self) -> None:
        self.act("bar-1", time_s=float(self.beats[16]))
        self.assertEqual(
            list(ranges.in_short(self.seen(), None)["ranged"]["parts"]), ["0", str(int(self.beats[16] // 3))]
        )

    def test_an_empty_session(self) -> None:
        made = ranges.in_short(session_state(self.place, shelf.create(self.place, "Nothing yet")), None)
        self.assertEqual((made["takes"], made["bars"], made["onsets"]), ([], [], {}))


class ShortMapTest(PlaceTest):
    def test_a_map_with_meters_and_ramps(self) -> None:
        knots = tuple(
            Knot(0.37 * k + 0.01 * (k % 3), float(k), ramp=1.2 if k == 5 else 1.0) for k in range(60)
        )
        table = picture.map_table(TempoMap(knots, (Meter(1, 4, 4), Meter(3, 3, 4))))  # type: ignore[arg-type]
        short = ranges.short_map(table)
        self.assertEqual(short["meters"], table["meters"])
        for name in ("times", "bends"):
            self.assertEqual(
                list(struct.unpack(f"<{len(table[name])}d", b64decode(short[name]))), table[name]
            )
        self.assertEqual(short["quarters"], {"from": 0.0, "steps": [[1.0, 59]]})
