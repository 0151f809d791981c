import json
from dataclasses import replace

import numpy as np

from combpace.core.audio import Audio
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets
from combpace.drawing import picture
from combpace.drawing.picture import shown_bars
from combpace.session import fits, words
from combpace.session.analysis_store import write_analysis
from combpace.session.decisions import Change, record
from combpace.session.document import parts as forms
from combpace.session.state import session_state
from combpace.session.take_names import clean_name, guessed_kind
from combpace.stations.fit.station import fit_sentence
from combpace.stations.onsets.station import mic_name
from combpace.stations.pace.station import pace_facts
from combpace.stations.registry import STATIONS, findings, heard
from combpace.stations.station import Place
from combpace.stations.takes import importing
from combpace.stations.takes.station import take_lines
from combpace.store import rows
from combpace.store.models import TakeRow
from rig.places import PlaceTest, breathing, bring_in, look
from rig.sounds import struck


class LookTest(PlaceTest):
    def places(self, station: str, focus: str | None = None) -> list[Place]:
        return look(self.seen(), station, focus)

    def test_a_bar_off_its_attack_is_proposed_to_move_there(self) -> None:
        # Bars 3 and 5 held, bar 4 between them on a place without attack, not fixed: its first attack lies
        # beside the line.
        line = self.seen().need_map()
        heard = self.seen().own_pace(self.lead)
        assert heard is not None
        knots = list(heard.knots)
        at = next(k for k, knot in enumerate(knots) if abs(knot.quarters - line.bar_line(3)) < 1e-9)
        knots[at] = replace(knots[at], time_s=knots[at].time_s + 0.03)
        part = forms.pace_part(replace(heard, knots=tuple(knots)))
        record(self.seen(), self.version, Change({f"pace:{self.lead}": part, "map": {"kind": "own"}}, "bent"))
        found = self.places("bars")
        first = next(place for place in found if place.where == "bar 4")
        self.assertIn("30 ms before the line", first.title)
        assert first.do is not None and first.keep is not None
        self.assertEqual(first.do.label, "Move bar 4 by −30.0 ms")
        self.assertIn("the attacks support it more than the line as it stands", first.reason)
        others = [self.line(bar) for bar in (0, 1, 2, 4, 5, 6)]
        self.act(first.do.name, **first.do.args)
        # Taking it moves what it names, and nothing else.
        np.testing.assert_allclose([self.line(bar) for bar in (0, 1, 2, 4, 5, 6)], others, atol=1e-9)
        self.assertNotIn("bar 4", [place.where for place in self.places("bars")])

    def test_no_line_is_proposed_to_move_where_less_speaks_for_it(self) -> None:
        # Bar 4 has no attack on its line, but one a fifth of a beat after it: there the beats beside it
        # would be uneven. One that is 15 ms late would be worth it.
        self.act("onset-remove", take=self.lead, times_s=[self.line(3)])
        for late_s, listed in ((0.1, False), (0.015, True)):
            self.act("onset-add", take=self.lead, time_s=self.line(3) + late_s)
            drift = next(row["drift"] for row in shown_bars(self.seen()) if row["n"] == 4)
            self.assertAlmostEqual(drift or 0.0, 1000 * late_s, delta=1.0)
            moves = [place.title for place in self.places("bars") if place.about == "off-line"]
            self.assertEqual(
                any(title.startswith(f"First attack {1000 * late_s:.0f}") for title in moves), listed
            )
            self.act("onset-remove", take=self.lead, times_s=[self.line(3) + late_s])

    def test_nothing_is_called_right_before_it_was_listened_to(self) -> None:
        for one in STATIONS.values():
            self.assertTrue(heard(self.seen(), one, self.lead), one.id)
        rows.change_take(self.place.database, self.lead, state="listening")
        for one in STATIONS.values():
            self.assertFalse(heard(self.seen(), one, self.lead), one.id)

    def test_it_is_right_lock_it_takes_it_off_the_list(self) -> None:
        line = self.seen().need_map()
        # The second beat where the ear has the first: all bars are doubtful then.
        self.act("pull", time_s=self.line(4) + 0.06, quarters=line.bar_line(4) + 1.0, free=True)
        before = {place.where for place in self.places("bars")}
        self.assertTrue(before)
        for place in self.places("bars"):
            if place.keep:
                self.act("lock", quarters=place.keep.args["quarters"], locked=True)
        self.assertFalse(before & {place.where for place in self.places("bars")})

    def test_a_take_heard_by_an_earlier_version_is_offered_again_and_decisions_stay(self) -> None:
        self.assertNotIn("Heard by an earlier ear", [place.title for place in self.places("takes")])
        self.act("downbeat", time_s=self.line(2))
        decided = self.seen().own_pace(self.lead)
        heard = self.seen().analysis(self.lead)
        assert heard is not None
        path = self.place.blobs.new_path(".npz")
        write_analysis(path, heard.onsets, heard.pace, heard.activation, {**heard.facts, "version": 1})
        sha = self.place.blobs.adopt(path)
        with self.place.database.writing() as db:
            db.get(TakeRow, self.lead).analysis_sha = sha  # type: ignore[union-attr]
        offer = next(place for place in self.places("takes") if place.title == "Heard by an earlier ear")
        assert offer.do is not None
        self.assertEqual((offer.do.name, offer.do.args), ("listen-again", {"take": self.lead}))
        importing.listen_again(self.place, self.session, self.lead)
        importing.import_take(self.place, {"take": self.lead}, lambda phase, share: None)
        self.assertNotIn("Heard by an earlier ear", [place.title for place in self.places("takes")])
        self.assertEqual(self.seen().own_pace(self.lead), decided)

    def test_doubtful_marks_worst_first_until_they_are_settled(self) -> None:
        # The ear's own doubt is set here, so that the list is tested and not the ear.
        heard = self.seen().analysis(self.lead)
        assert heard is not None
        doubt = np.full(len(heard.onsets), 0.99)
        doubt[[3, 7]] = 0.4, 0.2
        path = self.place.blobs.new_path(".npz")
        write_analysis(
            path,
            Onsets(heard.onsets.times, heard.onsets.strength, doubt),
            heard.pace,
            heard.activation,
            heard.facts,
        )
        sha = self.place.blobs.adopt(path)
        with self.place.database.writing() as db:
            db.get(TakeRow, self.lead).analysis_sha = sha  # type: ignore[union-attr]
        found = self.places("onsets", self.lead)
        self.assertEqual(
            [place.time_s for place in found], [float(heard.onsets.times[7]), float(heard.onsets.times[3])]
        )
        assert found[0].do is not None and found[0].keep is not None
        count = len(self.seen().onsets(self.lead))
        self.act("onset-lock", take=self.lead, times_s=found[0].keep.args["times_s"])
        self.assertEqual(len(self.places("onsets", self.lead)), 1)
        self.assertEqual(len(self.seen().onsets(self.lead)), count)
        self.act("onset-remove", take=self.lead, times_s=found[1].do.args["times_s"])  # type: ignore[union-attr]
        self.assertEqual(self.places("onsets", self.lead), [])

    def test_beyond_the_limit_is_listed_and_can_ride(self) -> None:
        # A tone sounds on under the strokes: there is no pause that could take the change.
        audio = struck(self.beats, float(self.beats[-1]) + 1)
        tone = 0.05 * np.sin(2 * np.pi * 220 * np.arange(audio.frames) / audio.sample_rate_hz)
        audio = Audio((audio.samples + tone).astype(np.float32), audio.sample_rate_hz)
        loose = bring_in(self.place, self.session, audio, "organ.wav")
        mark = float(self.seen().onsets(loose).times[8])
        # The next onset is held by hand, so it does not give way.
        self.act("as-played", take=loose, times_s=[float(self.seen().onsets(loose).times[9])])
        target = self.seen().need_map().place(mark) + 0.62
        self.act("peg", take=loose, take_s=mark, quarters=target, session_s=None)
        found = self.places("fit", loose)
        self.assertTrue(
            any("Squeezed" in place.title and "limit 0.5" in place.title for place in found), found
        )
        do = next(place.do for place in found if place.do)
        assert do is not None
        self.act("ride", take=loose, times_s=do.args["times_s"])
        self.assertEqual(self.places("fit", loose), [])

    def test_a_steady_tempo_that_is_wrong_is_named_with_the_better_one(self) -> None:
        even = bring_in(self.place, self.session, struck(0.5 + np.arange(64) * 0.5, 33), "programmed kit.wav")
        self.act("take", take=even, field="role", value="lead")
        self.assertEqual(self.seen().map_choice().kind, "steady")
        self.assertEqual(
            [place for place in self.places("pace") if place.do and place.do.name == "steady"], []
        )
        self.act("steady", bpm=119.8, bar_1_s=0.5)
        end = self.places("pace")[0]
        self.assertIn("earlier", end.title)
        self.assertIn("too slow", end.reason)
        assert end.do is not None
        self.assertAlmostEqual(end.do.args["bpm"], 120.0, delta=0.02)

    def test_takes_that_look_recorded_together_are_proposed(self) -> None:
        _, audio = breathing()
        bring_in(self.place, self.session, audio, "tub kit room.wav")
        place = next(place for place in self.places("takes") if place.do and place.do.name == "bundle")
        assert place.do is not None
        self.act("bundle", takes=place.do.args["takes"], name=place.do.args["name"])
        self.assertEqual([p for p in self.places("takes") if p.do and p.do.name == "bundle"], [])
        seen = self.seen()
        self.assertEqual(len(seen.document.bundle_of(self.lead)), 2)
        # The job that this queued hears both as one performance.
        ids = [take.id for take in seen.document.bundle_of(self.lead)]
        before = seen.analysis(self.lead)
        self.assertEqual(
            importing.import_take(
                self.place, {"take": self.lead, "together": ids}, lambda phase, share: None
            ),
            {"takes": ids},
        )
        found = [self.seen().analysis(take) for take in ids]
        assert found[0] is not None and found[1] is not None and before is not None
        self.assertEqual(found[0].pace, found[1].pace)
        self.assertEqual(
            importing.hear_together(self.place, ids[:1], lambda phase, share: None), {"takes": []}
        )
        self.assertEqual(seen.document.timing_take(seen.document.takes[1].id), self.lead)
        # What is struck is that of both, on the clock of the one that asks; how well a corrected pace
        # explains it is asked of both.
        heard, both = [self.seen().onsets(take) for take in ids], self.seen().struck(self.lead)
        self.assertEqual(len(both), sum(map(len, heard)))
        self.assertTrue((np.diff(both.times) >= 0).all())
        apart = self.seen().document.take(ids[1]).offset_s - self.seen().document.take(self.lead).offset_s
        self.assertTrue(set(np.round(heard[1].times + apart, 9)) <= set(np.round(both.times, 9)))
        # One sentence moves both, and the station says so.
        self.act("rule", take=ids[1], field="grid", value="1/8")
        finding = next(
            station["finding"] for station in findings(self.seen(), None) if station["id"] == "fit"
        )
        self.assertIn("2 takes to 1/8", finding)
        # And whose onsets are counted: each station may look at another take.
        for take in self.seen().document.takes:
            finding = next(
                station["finding"] for station in findings(self.seen(), take.id) if station["id"] == "onsets"
            )
            self.assertRegex(
                finding, rf"^{len(self.seen().onsets(take.id))}, \w+ doubtful in {mic_name(take)}$"
            )

    def test_a_mic_is_named_without_its_bundle(self) -> None:
        lead = self.seen().document.takes[0]
        for bundle, name, short in (
            ("Shed", "Shed - left mic", "left mic"), ("Shed", "Shed_oh", "oh"), ("Shed", "Shedding",
            "Shedding"), ("Shed", "Shed", "Shed"),
            ("Shed", "oh", "oh"), ("", "Shed - left mic", "Shed - left mic"),
        ):  # fmt: skip
            with self.subTest(name=name):
                self.assertEqual(mic_name(replace(lead, bundle=bundle, name=name)), short)

    def test_the_same_strokes_make_a_bundle_and_doubles_do_not(self) -> None:
        _, audio = breathing()
        rng = np.random.default_rng(6)
        beats = self.beats + rng.normal(0, 0.012, len(self.beats))
        double = struck(beats, float(self.beats[-1]) + 1.0, low_every=4)
        for name, sound in (
            ("night_2_kick.wav", audio),
            ("other oh.wav", double),
            ("night_2_oh.wav", audio),
            ("night_2_snare.wav", audio),
        ):
            bring_in(self.place, self.session, sound, name)
        self.act("take-remove", take=self.lead)
        place = next(place for place in self.places("takes") if place.do and place.do.name == "bundle")
        assert place.do is not None and place.keep is not None
        self.assertEqual(place.reason, "night_2_kick, night_2_oh, night_2_snare")
        self.assertEqual(place.do.args["name"], "night_2")
        # Refused, it is not proposed again, in whole or in part.
        self.act(place.keep.name, **place.keep.args)
        self.assertEqual(
            [place for place in self.places("takes") if place.do and place.do.name == "bundle"], []
        )
        self.act("undo")
        self.assertTrue([place for place in self.places("takes") if place.do and place.do.name == "bundle"])


class StationsTest(PlaceTest):
    def test_pace_on_offer(self) -> None:
        facts = pace_facts(self.seen())
        assert facts is not None
        self.assertNotIn("is steady", facts["verdict"])
        self.assertEqual(facts["map_advice"], "let the map follow it")
        sources = [line.source for line in facts["lines"]]
        self.assertTrue(any("nearest tenth" in source for source in sources))
        self.assertFalse(any(line.do is None for line in facts["lines"]))
        self.act("steady", bpm=facts["lines"][0].bpm, bar_1_s=1.0)
        facts = pace_facts(self.seen())
        assert facts is not None
        self.assertEqual([line.do for line in facts["lines"]].count(None), 1)

    def test_the_ledger_in_words(self) -> None:
        loop = bring_in(self.place, self.session, struck(np.arange(8) * 0.58, 4.64), "pipe loop.wav")
        lines = {line["id"]: line for line in take_lines(self.seen())}
        self.assertIn("the map is read from it", lines[self.lead]["tempo"])
        self.assertIn("own tempo 103.4, follows the session", lines[loop]["tempo"])
        self.assertEqual((lines[loop]["form"], lines[loop]["start"]), ("44.1 kHz mono", "0:00.000"))

    def test_a_loop_begins_on_the_bar_that_is_said(self) -> None:
        loop = bring_in(self.place, self.session, struck(np.arange(8) * 0.58, 4.64), "pipe loop.wav")
        self.act("take", take=loop, field="first_bar", value="3")
        made = fits.take_fit(self.seen(), loop)
        self.assertAlmostEqual(
            float(made.fit.time_map.to_target(self.seen().onsets(loop).times[0])[0]), self.line(2), delta=0.01
        )
        with self.assertRaises(ParameterError):
            self.act("take", take=loop, field="first_bar", value="0")

    def test_fit_sentence_counts_what_it_does(self) -> None:
        rng = np.random.default_rng(2)
        loose = bring_in(
            self.place,
            self.session,
            struck(self.beats + rng.uniform(-0.03, 0.03, len(self.beats)), 25),
            "organ.wav",
        )
        self.act("rule", take=loose, field="ignore", value="400")
        said = fit_sentence(self.seen(), loose)
        self.assertTrue(said["ignore_idle"])
        self.assertLess(said["spread_ms"]["before"], 60)
        self.assertEqual(said["spread_ms"]["after"], 100)

    def test_pictures_are_plain_json_and_follow_the_revision(self) -> None:
        first = json.dumps(picture.picture(self.seen(), None), allow_nan=False)
        self.act("meter", meter="3/4")
        self.assertNotEqual(first, json.dumps(picture.picture(self.seen(), None), allow_nan=False))
        self.assertEqual(picture.picture(self.seen(), "0" * 16)["focus"], self.lead)


class NamesTest(PlaceTest):
    KINDS = (
        ("Tubs kit - room.wav", "drums"),
        ("pipe loop 103.wav", "loop"),
        ("Reed Organ.flac", "chords"),
        ("bass box.wav", "single line"),
        ("final mix.mp3", "full mix"),
        ("x.wav", "unknown"),
    )

    def test_kinds_are_guessed_from_names(self) -> None:
        for name, kind in self.KINDS:
            with self.subTest(name=name):
                self.assertEqual(guessed_kind(name), kind)

    def test_what_names_begin_with(self) -> None:
        for names, shared in (
            (("Tubs kit - copper tub", "Tubs kit - room"), "Tubs kit"),
            (("a_1_kick", "a_1_snare", "a_1_oh"), "a_1"),
            (("harbour low", "harbour lower"), "harbour"),
            (("kick", "kick two"), "kick"),
            (("kick", "snare"), ""),
            (("Room 12", "Room 13"), "Room"),
        ):
            with self.subTest(names=names):
                self.assertEqual(words.shared_beginning(names), shared)

    def test_names_lose_folders_and_control_characters(self) -> None:
        self.assertEqual(clean_name("..\\..\\a\x00b\x07.wav"), "ab.wav")
        self.assertEqual(clean_name("/"), "take")
        self.assertEqual(len(clean_name("x" * 999)), 120)

    def test_places_in_words(self) -> None:
        line = self.seen().need_map()
        self.assertEqual(words.place(line, 5.5), "2·2.5")
        self.assertEqual(words.place(line, -1.0), "lead-in −1·4")
        self.assertEqual(words.place(line, -0.004), "1·1")
        self.assertEqual(words.place(line, 3.994), "1·4.99")
        self.assertEqual(words.signed_ms(-24.13), "−24.1")
        self.assertEqual((words.count(1, "take"), words.count(3, "take")), ("1 take", "3 takes"))

    def test_a_take_without_pulse_says_so(self) -> None:
        quiet = bring_in(
            self.place, self.session, Audio(np.zeros(44100, np.float32), 44100), "quiet loop.wav"
        )
        seen = session_state(self.place, self.session)
        self.assertIsNone(seen.own_pace(quiet))
        found = [place for place in look(seen, "takes", None) if place.where == "quiet loop"]
        self.assertEqual({place.title for place in found}, {"As it came", "No pulse found"})
        with self.assertRaises(ParameterError):
            fits.take_fit(seen, quiet)
