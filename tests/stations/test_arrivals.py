import numpy as np

from combpace.core.audio import Audio
from combpace.core.errors import ParameterError
from combpace.media.decode import FileSource
from combpace.playback.sound import sounding
from combpace.session import fits, shelf
from combpace.session.decisions import decide
from combpace.session.sounding import how_it_sounds
from combpace.session.state import session_state
from combpace.stations.takes.arriving import arrival_lines
from combpace.stations.takes.station import take_lines
from rig.places import PlaceTest, breathing, bring_in
from rig.sounds import burst, struck

RATE = 44100


def two_bars(bpm: float = 120.0) -> Audio:
    """Two bars of 4/4, a low stroke on each, from the first frame on."""
    beat = 60.0 / bpm
    return struck(beat * np.arange(8), 8 * beat, low_every=4)


class ArrivalTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.loop = bring_in(self.place, self.session, two_bars(), "pipe loop.wav", keep=False)

    def test_a_loop_is_an_arrival_and_no_take_yet(self) -> None:
        self.assertEqual([take.id for take in self.seen().document.takes], [self.lead])
        self.assertEqual([one.id for one in self.seen().document.arrivals], [self.loop])
        self.assertNotIn(self.loop, [line["id"] for line in take_lines(self.seen())])
        (line,) = arrival_lines(self.seen())
        self.assertRegex(line["said"], r"2 bars at its own 120\.\d, follows the session from bar 1")

    def test_they_stand_in_the_order_in_which_they_came_whichever_is_heard_first(self) -> None:
        others = [
            bring_in(self.place, self.session, two_bars(bpm), f"{name} loop.wav", keep=False)
            for name, bpm in (("lid", 133.0), ("cup", 110.0))
        ]
        self.assertEqual([one.id for one in self.seen().document.arrivals], [self.loop, *others])
        # Also after a decision about takes.
        self.act("take", take=self.lead, field="name", value="kit")
        self.assertEqual([one.id for one in self.seen().document.arrivals], [self.loop, *others])

    def test_it_sounds_in_session_time_round_and_round_to_the_sessions_end(self) -> None:
        time_map = fits.take_fit(self.seen(), self.loop).fit.time_map
        lines = np.array([self.line(bar) for bar in range(9)])
        np.testing.assert_allclose(time_map.to_target(4.0 * np.arange(5)), lines[::2], atol=0.5 / RATE)
        row = self.seen().rows[self.loop]
        with FileSource(self.place.blob(row.decoded_sha)) as source:
            out = sounding(source, how_it_sounds(self.seen(), self.loop, fitted=True, speed=1.0), RATE)
            heard = out.read(0, out.frames)[0]
        for line in lines[[0, 2, 4, 6]]:
            at = round(line * RATE)
            loud = np.flatnonzero(np.abs(heard[at - 400 : at + 400]) > 0.2)
            self.assertLess(abs(int(loud[0]) - 400), 90)

    def test_kept_it_is_a_take_that_lies_as_it_was_heard(self) -> None:
        before = fits.take_fit(self.seen(), self.loop).fit.time_map
        note = self.act("arrival-keep", take=self.loop).note
        self.assertIn("from bar 1 until bar 10", note)
        self.assertEqual(self.seen().document.arrivals, ())
        after = fits.take_fit(self.seen(), self.loop).fit.time_map
        np.testing.assert_array_equal(before.target_s, after.target_s)
        with self.assertRaisesRegex(ParameterError, "is no arrival"):
            self.act("arrival-keep", take=self.loop)
        self.act("undo")
        self.assertEqual([one.id for one in self.seen().document.arrivals], [self.loop])

    def test_dropped_it_is_gone_and_undo_brings_it_back(self) -> None:
        self.act("arrival-drop", take=self.loop)
        self.assertEqual(self.seen().document.arrivals, ())
        self.act("undo")
        self.assertEqual([one.id for one in self.seen().document.arrivals], [self.loop])

    def test_what_is_decided_of_takes_leaves_arrivals_there_also_after_a_restart(self) -> None:
        self.act("take", take=self.lead, field="name", value="Copper tubs")
        again = session_state(self.place, self.session)
        self.assertEqual([one.id for one in again.document.arrivals], [self.loop])
        self.act("take-remove", take=self.loop)
        self.assertEqual(self.seen().document.arrivals, ())
        self.assertEqual([take.name for take in self.seen().document.takes], ["Copper tubs"])

    def test_a_copy_of_the_session_has_it_too(self) -> None:
        copy = session_state(self.place, shelf.duplicate(self.place, self.session))
        (one,) = copy.document.arrivals
        self.assertNotEqual(one.id, self.loop)
        self.assertEqual((one.name, one.pace), ("pipe loop", "own"))
        np.testing.assert_array_equal(
            fits.take_fit(copy, one.id).fit.time_map.target_s,
            fits.take_fit(self.seen(), self.loop).fit.time_map.target_s,
        )

    def test_it_is_neither_lead_nor_bundled_before_it_is_kept(self) -> None:
        for name, args in (
            ("take", {"take": self.loop, "field": "role", "value": "lead"}),
            ("take", {"take": self.loop, "field": "bundle", "value": "yard"}),
            ("bundle", {"takes": [self.lead, self.loop]}),
        ):
            with self.subTest(name=name), self.assertRaisesRegex(ParameterError, "keep it first"):
                self.act(name, **args)

    def test_its_own_tempo_is_corrected_before_it_is_kept(self) -> None:
        self.act("own-bars", take=self.loop, what="bars", value="4")
        (line,) = arrival_lines(self.seen())
        self.assertIn("4 bars", line["said"])
        time_map = fits.take_fit(self.seen(), self.loop).fit.time_map
        np.testing.assert_allclose(
            time_map.to_target(np.array([0.0, 4.0])), [self.line(0), self.line(4)], atol=0.5 / RATE
        )

    def test_where_arrivals_stay_as_they_are_it_sounds_at_its_own_speed_and_is_kept_once(self) -> None:
        self.assertIn("stay as they are", self.act("arriving", value="stay").note)
        time_map = fits.take_fit(self.seen(), self.loop).fit.time_map
        np.testing.assert_allclose(np.diff(time_map.target_s), np.diff(time_map.source_s))
        self.assertAlmostEqual(float(time_map.target_s[0]), self.line(0))
        self.assertGreaterEqual(float(time_map.target_s[-1]), self.seen().end_s())
        self.act("arrival-keep", take=self.loop)
        kept = self.seen().document.take(self.loop)
        self.assertEqual((kept.keeps, kept.times, kept.until_bar), ("time", 1, None))
        self.assertAlmostEqual(kept.offset_s, self.line(0))
        with self.assertRaises(ParameterError):
            decide(self.place, self.session, "arriving", self.version, {"value": "whatever"})


class ReadAnotherWayTest(PlaceTest):
    def test_a_loop_that_was_heard_in_five_is_whole_bars_by_its_beats(self) -> None:
        # Sixteen even eighths, one in eight louder: three bars and a fifth of 5/4 as they were heard, four
        # bars of 4/4.
        step = 30.0 / 107
        out = np.zeros(round(16 * step * RATE))
        for k in range(16):
            sound, at = (0.9 if k % 8 == 0 else 0.5) * burst(pitch=1000.0, seed=k), round(k * step * RATE)
            out[at : at + len(sound)] += sound[: len(out) - at]
        audio = Audio(np.asarray(out[None], np.float32), RATE)
        named = bring_in(self.place, self.session, audio, "yard loop.wav", keep=False)
        (line,) = arrival_lines(self.seen())
        self.assertRegex(line["said"], r"^[24] bars")
        self.assertEqual([one.id for one in self.seen().document.arrivals], [named])
        before = fits.take_fit(self.seen(), named).fit.time_map
        self.act("arrival-keep", take=named)
        np.testing.assert_array_equal(
            fits.take_fit(self.seen(), named).fit.time_map.target_s, before.target_s
        )


class NoArrivalTest(PlaceTest):
    def test_a_take_of_free_length_and_the_first_of_a_session_are_takes_at_once(self) -> None:
        other = bring_in(
            self.place, self.session, struck(0.37 + 0.5 * np.arange(9), 5.3), "reed organ.wav", keep=False
        )
        self.assertEqual([take.id for take in self.seen().document.takes], [self.lead, other])
        self.assertEqual(self.seen().document.arrivals, ())

    def test_what_was_recorded_beside_the_lead_is_a_take(self) -> None:
        lead = breathing()[1]
        mate = bring_in(self.place, self.session, lead, "tub kit, room.wav", keep=False)
        self.assertIn(mate, [take.id for take in self.seen().document.takes])
