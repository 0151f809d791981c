"""What the user stated holds in every form of the map, and what comes after never undoes it."""

import json
import unittest
from pathlib import Path

import numpy as np

from combpace.core.analysis.take import Hints, analyse
from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo.recount import is_line
from combpace.drawing.picture import statement_rows
from combpace.media.decode import FileSource
from combpace.session import shelf
from combpace.session.document.model import FORMAT
from combpace.session.document.stated import BarStatement, DownbeatStatement, name_of
from combpace.session.state import session_state
from combpace.stations.takes import importing
from rig.places import PlaceTest, bring_in, look
from rig.shared import OPEN, THERE, WHY_NOT
from rig.sounds import struck


class BreathingTest(PlaceTest):
    def confirmed(self) -> list[float]:
        return list(self.seen().stated.downbeats) + [time for time, _ in self.seen().stated.bars]

    def assert_confirmed(self) -> None:
        line = self.seen().need_map()
        for time in self.confirmed():
            self.assertTrue(is_line(line, round(line.place(time), 6)), time)

    def test_a_meter_for_the_whole_map_keeps_confirmed_downbeats(self) -> None:
        for beat in (0, 8, 20):
            self.act("downbeat", time_s=float(self.beats[beat]))
        self.assertEqual(len(self.confirmed()), 3)
        note = self.act("meter", meter="3/4").note
        self.assertIn("so that every downbeat you confirmed opens a bar", note)
        self.assert_confirmed()
        self.assertTrue(
            [
                place
                for place in look(self.seen(), "bars")
                if "of 2/4" in place.title or "of 4/4" in place.title
            ]
        )
        # Marking them again is no contradiction.
        for beat in (0, 8, 20):
            self.act("downbeat", time_s=float(self.beats[beat]))
        self.act("meter", meter="4/4")
        self.assert_confirmed()
        self.assertEqual([str(meter) for meter in self.seen().need_map().meters], ["4/4"])

    def test_steady_and_back_lose_no_statement(self) -> None:
        self.act("bar-1", time_s=float(self.beats[4]))
        self.act("downbeat", time_s=float(self.beats[12]))
        start = self.line(0)
        self.act("steady", bpm=96.0)
        self.assertEqual(self.line(0), start)
        self.act("steady", bpm=95.9, nudged=True)
        self.assertEqual(self.line(0), start)
        self.assertIn("95.90 BPM is kept", self.act("breathing").note)
        self.assertEqual(self.line(0), start)
        self.assert_confirmed()
        self.act("steady")
        self.assertAlmostEqual(self.seen().need_map().bpm_at(0.0), 95.9)

    def test_a_bar_1_stated_in_a_steady_map_holds_when_it_breathes(self) -> None:
        self.act("steady", bpm=96.0)
        self.act("bar-1", time_s=float(self.beats[2]))
        self.act("breathing")
        self.assertAlmostEqual(self.line(0), float(self.beats[2]), delta=0.002)

    def test_a_downbeat_never_moves_a_stated_bar_1(self) -> None:
        for form in ("steady", "breathing"):
            self.act(form)
            self.act("bar-1", time_s=float(self.beats[0]))
            start = self.line(0)
            for beat in (1, 5, 9, 14):
                try:
                    self.act("downbeat", time_s=float(self.beats[beat]))
                except MapConflictError as error:
                    self.assertIn("bar 1 at", str(error))
                self.assertEqual(self.line(0), start)
            with self.assertRaisesRegex(ParameterError, "one bar line.*Nothing was changed"):
                self.act("downbeat", time_s=start + 0.1)

    def test_a_newer_statement_about_the_same_place_says_what_it_replaces(self) -> None:
        self.act("bar-1", time_s=float(self.beats[0]))
        self.assertIn("This replaces bar 1 at", self.act("bar-1", time_s=float(self.beats[4])).note)
        self.act("downbeat", time_s=float(self.beats[12]))
        self.assertIn(
            "This replaces the downbeat at", self.act("downbeat", time_s=float(self.beats[13])).note
        )
        self.assertEqual(
            [type(one) for one in self.seen().document.map.statements], [BarStatement, DownbeatStatement]
        )
        self.assertEqual(len([knot for knot in self.seen().need_map().knots if knot.fixed]), 2)

    def test_read_again_holds_what_was_stated_and_keeps_bar_1_where_nothing_was(self) -> None:
        tempo = self.seen().need_map().bpm_at(8.0)
        before = self.line(0)
        self.act("read-again", about_bpm=tempo / 2)
        self.assertLess(abs(self.line(0) - before), 4 * 60 / tempo)
        self.act("undo")
        self.act("bar-1", time_s=float(self.beats[4]))
        self.act("read-again", about_bpm=tempo / 2)
        self.assertAlmostEqual(self.line(0), float(self.beats[4]), delta=0.002)

    def test_twice_as_fast_keeps_it_breathing_and_going_steady_says_so(self) -> None:
        from combpace.stations.pace.station import pace_facts

        facts = pace_facts(self.seen())
        assert facts is not None
        double = next(line for line in facts["lines"] if line.source.startswith("double"))
        self.act(double.do.name, **double.do.args)
        self.assertEqual(self.seen().map_choice().kind, "own")
        for line in facts["lines"]:
            if line.do.name == "steady":
                self.assertEqual(line.do.label, "Go steady")
        self.assertIn("no longer as tub kit was played", self.act("steady").note)

    def test_a_bar_1_before_the_audio_is_taken_everywhere_and_far_away_nowhere(self) -> None:
        for form in ("breathing", "steady"):
            self.act(form)
            self.act("bar-1", time_s=-1.5)
            self.assertAlmostEqual(self.line(0), -1.5)
            for call in (
                ("bar-1", {"time_s": 85000.0}),
                ("pull", {"time_s": 2.0, "quarters": 556251.0}),
                ("bar", {"time_s": -9999.0, "bar": 3}),
                ("bar", {"time_s": 1.0, "bar": 90000}),
            ):
                with self.assertRaisesRegex(ParameterError, "more than an hour outside.*Nothing was changed"):
                    self.act(call[0], **call[1])
        with self.assertRaisesRegex(ParameterError, "more than an hour outside"):
            self.act("steady", bpm=100.0, bar_1_s=85000.0)

    def test_a_typed_tempo_ends_the_doubt(self) -> None:
        self.act("steady")
        self.assertIn(
            "Follow it as played", [place.do.label for place in look(self.seen(), "pace") if place.do]
        )
        self.act("steady", bpm=self.seen().need_map().bpm_at(0.0) + 1e-3)
        self.assertNotIn(
            "Follow it as played", [place.do.label for place in look(self.seen(), "pace") if place.do]
        )

    def test_a_lead_that_moves_takes_what_was_stated_along(self) -> None:
        self.act("bar-1", time_s=float(self.beats[4]))
        self.act("take", take=self.lead, field="start", value="2.5")
        self.assertAlmostEqual(self.seen().stated.bars[0][0], float(self.beats[4]) + 2.5, delta=0.002)
        self.act("meter", meter="3/4")
        self.assertAlmostEqual(self.line(0), float(self.beats[4]) + 2.5, delta=0.002)

    def test_a_pulled_line_turns_a_steady_map_about_what_was_stated(self) -> None:
        self.act("steady")
        self.act("bar-1", time_s=float(self.beats[0]))
        start, place = self.line(0), self.seen().need_map().bar_line(5)
        self.act("pull", time_s=self.line(5) + 0.02, quarters=place, free=True)
        self.assertEqual(self.line(0), start)
        with self.assertRaisesRegex(MapConflictError, "stated 96.00 BPM.*The map is unchanged"):
            self.act("steady", bpm=96.0)


class OneTempoTest(PlaceTest):
    """What is put on moments of a steady map: one sets its phase, two its tempo, a third has to fit."""

    def setUp(self) -> None:
        super().setUp()
        self.act("steady")
        self.heard = self.seen().need_map()

    def pulled(self, bar: int, by_s: float) -> float:
        """A line pulled to so much later than it was heard; where it lies then."""
        at = self.heard.second(self.heard.bar_line(bar)) + by_s
        line = self.seen().need_map()
        self.act("pull", time_s=at, quarters=line.bar_line(bar), free=True)
        return at

    def test_a_typed_tempo_is_that_of_the_map_and_taken_back_it_is_as_it_was(self) -> None:
        self.act("steady", bpm=self.heard.bpm_at(0.0) + 2.0)
        self.assertAlmostEqual(self.seen().need_map().bpm_at(0.0), self.heard.bpm_at(0.0) + 2.0, places=9)
        self.assertEqual(self.line(0), self.heard.second(0.0))
        self.act("take-back", id=name_of(self.seen().map_choice().statements[0]))
        self.assertEqual(self.seen().need_map(), self.heard)

    def test_one_sets_the_phase_and_two_the_tempo(self) -> None:
        first = self.pulled(2, 0.012)
        moved = self.seen().need_map()
        self.assertEqual(moved.bpm_at(0.0), self.heard.bpm_at(0.0))
        self.assertAlmostEqual(self.line(2), first, places=9)
        second = self.pulled(6, 0.030)
        self.assertAlmostEqual(self.line(2), first, places=9)
        self.assertAlmostEqual(self.line(6), second, places=9)
        self.assertNotEqual(self.seen().need_map().bpm_at(0.0), self.heard.bpm_at(0.0))
        # The same line once more replaces what was said of it.
        third = self.pulled(6, 0.020)
        self.assertAlmostEqual(self.line(6), third, places=9)
        self.assertEqual(len(self.seen().map_choice().statements), 2)

    def test_a_third_is_refused_with_what_holds_all_three(self) -> None:
        for bar, by in ((2, 0.012), (6, 0.030)):
            self.pulled(bar, by)
        line = self.seen().need_map()
        with self.assertRaisesRegex(MapConflictError, "follow the playing: all three hold") as refused:
            self.pulled(4, 0.040)
        self.assertEqual(self.seen().need_map(), line)
        offers = refused.exception.offers or []
        self.assertEqual([one["do"] for one in offers], ["take-back", "take-back", "breathing"])
        # Either of the two taken back, or the playing followed: then it is taken.
        for offer in offers:
            self.act(offer["do"], **offer["args"])
            at = self.pulled(4, 0.040)
            self.assertAlmostEqual(self.line(4), at, places=9)
            self.act("undo")
            self.act("undo")

    def test_their_order_is_no_matter_and_taken_back_it_is_as_it_was(self) -> None:
        for bar, by in ((2, 0.012), (6, 0.030)):
            self.pulled(bar, by)
        one_way = self.seen().need_map()
        self.act("undo")
        self.act("undo")
        for bar, by in ((6, 0.030), (2, 0.012)):
            self.pulled(bar, by)
        for bar in range(8):
            self.assertAlmostEqual(self.line(bar), one_way.second(one_way.bar_line(bar)), places=9)
        for one in self.seen().map_choice().statements:
            self.act("take-back", id=name_of(one))
        self.assertEqual(self.seen().need_map(), self.heard)

    def test_a_typed_tempo_turns_it_about_what_was_put_there(self) -> None:
        at = self.pulled(4, 0.012)
        bpm = self.heard.bpm_at(0.0) + 0.5
        self.act("steady", bpm=bpm)
        self.assertAlmostEqual(self.line(4), at, places=9)
        self.assertAlmostEqual(self.seen().need_map().bpm_at(0.0), bpm, places=9)
        tempo = next(one for one in self.seen().map_choice().statements if one.what == "tempo")
        self.act("take-back", id=name_of(tempo))
        self.assertAlmostEqual(self.line(4), at, places=9)
        self.assertEqual(self.seen().need_map().bpm_at(0.0), self.heard.bpm_at(0.0))

    def test_what_is_locked_stays_and_holds_as_played(self) -> None:
        self.act("lock", quarters=self.heard.bar_line(2))
        there = self.line(2)
        with self.assertRaisesRegex(MapConflictError, "locked"):
            self.pulled(2, 0.012)
        at = self.pulled(6, 0.030)
        self.assertAlmostEqual(self.line(2), there, places=9)
        self.act("breathing")
        self.assertAlmostEqual(self.line(2), there, places=9)
        self.assertAlmostEqual(self.line(6), at, places=9)
        self.act("steady")
        self.assertAlmostEqual(self.line(2), there, places=9)
        self.assertAlmostEqual(self.line(6), at, places=9)
        self.act("release", quarters=self.seen().need_map().bar_line(6))
        with self.assertRaisesRegex(ParameterError, "locked"):
            self.act("release", quarters=self.seen().need_map().bar_line(2))


class LostTest(PlaceTest):
    def test_what_does_not_hold_any_more_is_named_and_taken_back(self) -> None:
        # Two bars that no map holds, as another way of listening may leave them.
        said = [{"what": "bar", "time_s": float(self.beats[4 * k]), "bar": 2 - k} for k in (0, 1)]
        parts = {**self.seen().opened.revision.parts, "map": {"kind": "own", "statements": said}}
        self.place.history.begin(self.session, FORMAT, parts, "read elsewhere")
        self.assertEqual([one.what for one in self.seen().lost()], ["bar"])
        found = look(self.seen(), "bars")[0]
        self.assertEqual(found.title, "One thing that you stated does not hold")
        rows = statement_rows(self.seen())
        self.assertEqual(
            [row["words"].endswith("not hold in what is heard now") for row in rows], [False, True]
        )
        self.act(found.choices[0].name, **found.choices[0].args)
        self.assertEqual(self.seen().lost(), ())
        self.assertAlmostEqual(self.line(1), float(self.beats[0]), delta=0.003)


class FirstAttackTest(PlaceTest):
    def test_bar_1_at_the_very_first_attack(self) -> None:
        session = shelf.create(self.place, "At once")
        lead = bring_in(self.place, session, struck(np.arange(32) * 0.5, 17.0, low_every=4), "kit.wav")
        self.session, self.lead = session, lead
        # The onset of an attack that opens its file may be read a hair before its first frame.
        self.act("bar-1", time_s=-4.6e-05)
        self.assertEqual(self.line(0), 0.0)
        self.assertIn("Bar 1 is at 0:00.000", self.seen().opened.revision.note)


class UpgradeTest(PlaceTest):
    def test_form_2_is_brought_up_with_what_it_fixed(self) -> None:
        raw = (
            (Path(__file__).parents[1] / "support" / "document_form_2.json")
            .read_text()
            .replace("TAKE", self.lead)
        )
        for kind in ("own", "steady"):
            self.place.history.begin(self.session, 2, json.loads(raw)[kind], "written by the second form")
            stated = self.seen().stated
            with self.subTest(kind=kind):
                self.assertEqual(stated.bars, ((1.5, 1),))
                self.assertEqual(stated.downbeats, (5.5,) if kind == "own" else ())
                self.assertEqual(self.seen().document.map.stated_bpm, None if kind == "own" else 120.0)
                self.assertEqual(self.line(0), 1.5)
                self.act("meter", meter="3/4")
                self.assertEqual(self.place.open(self.session).revision.format, FORMAT)
                self.assertEqual(self.line(0), 1.5)

    def test_form_7_opens_with_the_same_map_to_the_bit(self) -> None:
        # Written by the program as it was then: downbeats, bar 1, meters, an odd bar, a pull and a lock.
        raw = (Path(__file__).parents[1] / "support" / "document_form_7.json").read_text()
        written = json.loads(raw.replace("TAKE", self.lead))
        for kind in ("own", "steady"):
            with self.subTest(kind=kind):
                self.place.history.begin(self.session, 7, written[kind], "written by the seventh form")
                line, chosen = self.seen().need_map(), written[kind]["map"]
                if kind == "own":
                    kept = written[kind][f"pace:{self.lead}"]
                    self.assertEqual([one.time_s for one in line.knots], [row[0] for row in kept["knots"]])
                    self.assertEqual([one.quarters for one in line.knots], [row[1] for row in kept["knots"]])
                    meters = kept["meters"]
                else:
                    self.assertEqual((line.second(0.0), line.bpm_at(0.0)), (chosen["bar_1_s"], chosen["bpm"]))
                    meters = chosen["meters"]
                self.assertEqual([[one.bar, one.numerator, one.denominator] for one in line.meters], meters)
                self.assertTrue(self.seen().document.map.settled)
                # What was decided then is taken back like anything else.
                before = len(self.seen().document.map.statements)
                first = self.seen().document.map.statements[0]
                self.act("take-back", id=name_of(first))
                self.assertEqual(len(self.seen().document.map.statements), before - 1)
                self.act("undo")
                self.assertEqual(self.seen().need_map().knots, line.knots)


@unittest.skipUnless(THERE, WHY_NOT)
class ExcerptTest(PlaceTest):
    """Reported on these excerpts; the truth is beside them."""

    def bring(self, name: str) -> list[float]:
        self.session = shelf.create(self.place, name)
        path = self.place.blobs.new_path(".flac")
        path.write_bytes((OPEN / f"{name}.flac").read_bytes())
        self.lead = importing.add_upload(self.place, self.session, path, f"{name}.flac")
        importing.import_take(self.place, {"take": self.lead}, lambda phase, share: None)
        truth: list[float] = json.loads((OPEN / f"{name}.json").read_text())["downbeats"]
        return truth

    def right(self, truth: list[float]) -> int:
        line = session_state(self.place, self.session).need_map()
        lines = np.array(line.to_seconds(line.bar_lines(-4, 60)))
        return sum(float(np.abs(lines - time).min()) < 0.035 for time in truth)

    def test_marked_downbeats_of_picked_lines_survive_a_meter(self) -> None:
        truth = self.bring("a_picked2")
        for time in truth:
            self.act("downbeat", time_s=time)
        for meter in ("4/4", "3/4", "4/4"):
            self.act("meter", meter=meter)
            self.assertEqual(self.right(truth), len(truth), meter)

    def test_a_true_hint_does_not_lose_the_pulse(self) -> None:
        truth = self.bring("a_picked1")
        row = session_state(self.place, self.session).rows[self.lead]
        with FileSource(self.place.blob(row.decoded_sha)) as source:
            from combpace.core.tempo.meters import Meter

            found = analyse(source, Hints(bars=((0.497, 1),), meter=Meter(1, 4, 4)))
        assert found.pace is not None
        lines = np.array(found.pace.to_seconds(found.pace.bar_lines(0, 12)))
        self.assertTrue(all(float(np.abs(lines - time).min()) < 0.035 for time in truth))

    def test_enter_on_look_here_never_ruins_a_right_map(self) -> None:
        truth = self.bring("a_picked1")
        self.act("meter", meter="4/4")
        self.act("bar-1", time_s=truth[0])
        before = self.right(truth)
        self.assertEqual(before, len(truth))
        for _ in range(12):
            place = next((place for place in look(self.seen(), "bars") if place.do), None)
            if place is None or place.do is None:
                break
            self.act(place.do.name, **place.do.args)
            self.assertGreaterEqual(self.right(truth), before)
