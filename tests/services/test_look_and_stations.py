import json
from dataclasses import replace

import numpy as np

from combpace.core.audio import Audio
from combpace.core.errors import ParameterError
from combpace.core.onsets.detect import Onsets
from combpace.services import bars, fit, look, onsets, picture, stations, takes, words
from combpace.services.workplace import session_state, write_analysis
from combpace.store.models import TakeRow
from tests.support.places import PlaceTest, breathing, bring_in
from tests.support.sounds import struck


class LookTest(PlaceTest):
    def places(self, station: str, focus: str | None = None) -> list[look.Place]:
        return look.places(self.seen(), station, focus)

    def test_a_bar_off_its_attack_is_proposed_to_move_there(self) -> None:
        # Bars 3 and 5 held, bar 4 between them on a place without attack, not fixed: its first attack lies beside the line.
        line = self.seen().need_map()
        heard = self.seen().own_pace(self.lead)
        assert heard is not None
        knots = list(heard.knots)
        at = next(k for k, knot in enumerate(knots) if abs(knot.quarters - line.bar_line(3)) < 1e-9)
        from dataclasses import replace

        from combpace.services import document as forms

        knots[at] = replace(knots[at], time_s=knots[at].time_s + 0.03)
        part = forms.pace_part(replace(heard, knots=tuple(knots)))
        self.place.decide(self.seen().opened, self.version, {f"pace:{self.lead}": part, "map": {"kind": "own"}}, "bent")
        found = self.places("bars")
        first = next(place for place in found if place.where == "bar 4")
        self.assertIn("30 ms before the line", first.title)
        assert first.do is not None and first.keep is not None
        self.assertEqual(first.do.label, "Move bar 4 by −30.0 ms")
        bars.pull(self.place, self.session, self.version, first.do.args["time_s"], first.do.args["quarters"])
        self.assertNotIn("bar 4", [place.where for place in self.places("bars")])

    def test_it_is_right_lock_it_takes_it_off_the_list(self) -> None:
        line = self.seen().need_map()
        bars.pull(self.place, self.session, self.version, self.line(4) + 0.06, line.bar_line(4) + 1.0, caught_on=False)
        before = {place.where for place in self.places("bars")}
        for place in self.places("bars"):
            if place.keep:
                bars.lock(self.place, self.session, self.version, place.keep.args["quarters"], True)
        self.assertFalse(before & {place.where for place in self.places("bars")})

    def test_a_take_heard_by_an_earlier_version_is_offered_again_and_decisions_stay(self) -> None:
        self.assertNotIn("Heard by an earlier ear", [place.title for place in self.places("takes")])
        bars.set_downbeat(self.place, self.session, self.version, self.line(2))
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
        takes.listen_again(self.place, self.session, self.lead)
        takes.import_take(self.place, {"take": self.lead}, lambda phase, share: None)
        self.assertNotIn("Heard by an earlier ear", [place.title for place in self.places("takes")])
        self.assertEqual(self.seen().own_pace(self.lead), decided)

    def test_doubtful_marks_worst_first_until_they_are_settled(self) -> None:
        # The ear's own doubt is set here, so that the list is tested and not the ear.
        heard = self.seen().analysis(self.lead)
        assert heard is not None
        doubt = np.full(len(heard.onsets), 0.99)
        doubt[[3, 7]] = 0.4, 0.2
        path = self.place.blobs.new_path(".npz")
        write_analysis(path, Onsets(heard.onsets.times, heard.onsets.strength, doubt), heard.pace, heard.activation, heard.facts)
        sha = self.place.blobs.adopt(path)
        with self.place.database.writing() as db:
            db.get(TakeRow, self.lead).analysis_sha = sha  # type: ignore[union-attr]
        found = self.places("onsets", self.lead)
        self.assertEqual([place.time_s for place in found], [float(heard.onsets.times[7]), float(heard.onsets.times[3])])
        assert found[0].do is not None and found[0].keep is not None
        count = len(self.seen().onsets(self.lead))
        onsets.lock(self.place, self.session, self.version, self.lead, found[0].keep.args["times_s"])
        self.assertEqual(len(self.places("onsets", self.lead)), 1)
        self.assertEqual(len(self.seen().onsets(self.lead)), count)
        onsets.remove(self.place, self.session, self.version, self.lead, found[1].do.args["times_s"])  # type: ignore[union-attr]
        self.assertEqual(self.places("onsets", self.lead), [])

    def test_beyond_the_limit_is_listed_and_can_ride(self) -> None:
        loose = bring_in(self.place, self.session, struck(self.beats, float(self.beats[-1]) + 1), "organ.wav")
        mark = float(self.seen().onsets(loose).times[8])
        target = self.seen().need_map().place(mark) + 0.62
        fit.add_peg(self.place, self.session, self.version, loose, mark, target, None)
        found = self.places("fit", loose)
        self.assertTrue(any("Squeezed" in place.title and "limit 0.5" in place.title for place in found), found)
        do = next(place.do for place in found if place.do)
        assert do is not None
        fit.let_ride(self.place, self.session, self.version, loose, do.args["times_s"])
        self.assertEqual(self.places("fit", loose), [])

    def test_a_steady_tempo_that_is_wrong_is_named_with_the_better_one(self) -> None:
        even = bring_in(self.place, self.session, struck(0.5 + np.arange(64) * 0.5, 33), "programmed kit.wav")
        takes.change_take(self.place, self.session, self.version, even, "role", "lead")
        self.assertEqual(self.seen().map_choice().kind, "steady")
        self.assertEqual([place for place in self.places("pace") if place.where == "end"], [])
        bars.make_steady(self.place, self.session, self.version, 119.8, 0.5)
        end = next(place for place in self.places("pace") if place.where == "end")
        self.assertIn("earlier", end.title)
        self.assertIn("too slow", end.reason)
        assert end.do is not None
        self.assertAlmostEqual(end.do.args["bpm"], 120.0, delta=0.02)

    def test_takes_that_look_recorded_together_are_proposed(self) -> None:
        _, audio = breathing()
        bring_in(self.place, self.session, audio, "tub kit room.wav")
        place = next(place for place in self.places("takes") if place.do and place.do.name == "bundle")
        assert place.do is not None
        takes.bundle(self.place, self.session, self.version, place.do.args["takes"], place.do.args["name"])
        self.assertEqual([p for p in self.places("takes") if p.do and p.do.name == "bundle"], [])
        seen = self.seen()
        self.assertEqual(len(seen.document.bundle_of(self.lead)), 2)
        # The job that this queued hears both as one performance.
        ids = [take.id for take in seen.document.bundle_of(self.lead)]
        before = seen.analysis(self.lead)
        self.assertEqual(takes.import_take(self.place, {"take": self.lead, "together": ids}, lambda phase, share: None), {"takes": ids})
        found = [self.seen().analysis(take) for take in ids]
        assert found[0] is not None and found[1] is not None and before is not None
        self.assertEqual(found[0].pace, found[1].pace)
        self.assertEqual(takes.hear_together(self.place, ids[:1], lambda phase, share: None), {"takes": []})
        self.assertEqual(seen.document.timing_take(seen.document.takes[1].id), self.lead)
        # What is struck is that of both, on the clock of the one that asks; how well a corrected pace explains it is asked of both.
        heard, both = [self.seen().onsets(take) for take in ids], self.seen().struck(self.lead)
        self.assertEqual(len(both), sum(map(len, heard)))
        self.assertTrue((np.diff(both.times) >= 0).all())
        apart = self.seen().document.take(ids[1]).offset_s - self.seen().document.take(self.lead).offset_s
        self.assertTrue(set(np.round(heard[1].times + apart, 9)) <= set(np.round(both.times, 9)))
        # One sentence moves both, and the station says so.
        fit.change_rule(self.place, self.session, self.version, ids[1], "grid", "1/8")
        finding = next(station.finding for station in stations.findings(self.seen(), None) if station.id == "fit")
        self.assertIn("2 takes to 1/8", finding)
        # And whose onsets are counted: each station may look at another take.
        for take in self.seen().document.takes:
            finding = next(station.finding for station in stations.findings(self.seen(), take.id) if station.id == "onsets")
            self.assertRegex(finding, rf"^{len(self.seen().onsets(take.id))}, \w+ doubtful in {stations.mic_name(take)}$")

    def test_a_mic_is_named_without_its_bundle(self) -> None:
        lead = self.seen().document.takes[0]
        for bundle, name, short in (
            ("Shed", "Shed - left mic", "left mic"), ("Shed", "Shed_oh", "oh"), ("Shed", "Shedding", "Shedding"), ("Shed", "Shed", "Shed"),
            ("Shed", "oh", "oh"), ("", "Shed - left mic", "Shed - left mic"),
        ):  # fmt: skip
            with self.subTest(name=name):
                self.assertEqual(stations.mic_name(replace(lead, bundle=bundle, name=name)), short)

    def test_a_take_of_unknown_kind_is_proposed_with_those_its_name_begins_like(self) -> None:
        _, audio = breathing()
        for name in ("night_2_kick.wav", "night_2_oh.wav", "night_2_snare.wav", "other oh.wav"):
            bring_in(self.place, self.session, audio, name)
        takes.remove_take(self.place, self.session, self.version, self.lead)
        place = next(place for place in self.places("takes") if place.do and place.do.name == "bundle")
        assert place.do is not None
        self.assertEqual(place.reason, "night_2_kick, night_2_oh, night_2_snare")
        self.assertEqual(place.do.args["name"], "night_2")


class StationsTest(PlaceTest):
    def test_pace_on_offer(self) -> None:
        facts = stations.pace_facts(self.seen())
        assert facts is not None
        self.assertNotIn("is steady", facts["verdict"])
        self.assertEqual(facts["map_advice"], "let the map follow it")
        sources = [line.source for line in facts["lines"]]
        self.assertTrue(any("nearest tenth" in source for source in sources))
        self.assertFalse(any(line.in_force for line in facts["lines"]))
        bars.make_steady(self.place, self.session, self.version, facts["lines"][0].bpm, 1.0)
        facts = stations.pace_facts(self.seen())
        assert facts is not None
        self.assertEqual([line.in_force for line in facts["lines"]].count(True), 1)

    def test_the_ledger_in_words(self) -> None:
        loop = bring_in(self.place, self.session, struck(np.arange(8) * 0.58, 4.64), "pipe loop.wav")
        lines = {line["id"]: line for line in stations.take_lines(self.seen())}
        self.assertIn("the map is read from it", lines[self.lead]["tempo"])
        self.assertIn("own tempo 103.4, follows the session", lines[loop]["tempo"])
        self.assertEqual((lines[loop]["form"], lines[loop]["start"]), ("44.1 kHz mono", "0:00.000"))

    def test_a_loop_begins_on_the_bar_that_is_said(self) -> None:
        loop = bring_in(self.place, self.session, struck(np.arange(8) * 0.58, 4.64), "pipe loop.wav")
        takes.change_take(self.place, self.session, self.version, loop, "first_bar", "3")
        made = fit.take_fit(self.seen(), loop)
        self.assertAlmostEqual(float(made.fit.time_map.to_target(self.seen().onsets(loop).times[0])[0]), self.line(2), delta=0.01)
        with self.assertRaises(ParameterError):
            takes.change_take(self.place, self.session, self.version, loop, "first_bar", "0")

    def test_fit_sentence_counts_what_it_does(self) -> None:
        rng = np.random.default_rng(2)
        loose = bring_in(self.place, self.session, struck(self.beats + rng.uniform(-0.03, 0.03, len(self.beats)), 25), "organ.wav")
        fit.change_rule(self.place, self.session, self.version, loose, "ignore", "400")
        said = stations.fit_sentence(self.seen(), loose)
        self.assertTrue(said["ignore_idle"])
        self.assertLess(said["spread_ms"]["before"], 60)
        self.assertEqual(said["spread_ms"]["after"], 100)

    def test_pictures_are_plain_json_and_follow_the_revision(self) -> None:
        first = json.dumps(picture.picture(self.seen(), None), allow_nan=False)
        bars.set_meter(self.place, self.session, self.version, "3/4")
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
                self.assertEqual(takes.guessed_kind(name), kind)

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
        self.assertEqual(takes.clean_name("..\\..\\a\x00b\x07.wav"), "ab.wav")
        self.assertEqual(takes.clean_name("/"), "take")
        self.assertEqual(len(takes.clean_name("x" * 999)), 120)

    def test_places_in_words(self) -> None:
        line = self.seen().need_map()
        self.assertEqual(words.place(line, 5.5), "2·2.5")
        self.assertEqual(words.place(line, -1.0), "lead-in −1·4")
        self.assertEqual(words.signed_ms(-24.13), "−24.1")
        self.assertEqual((words.count(1, "take"), words.count(3, "take")), ("1 take", "3 takes"))

    def test_a_take_without_pulse_says_so(self) -> None:
        quiet = bring_in(self.place, self.session, Audio(np.zeros(44100, np.float32), 44100), "quiet loop.wav")
        seen = session_state(self.place, self.session)
        self.assertIsNone(seen.own_pace(quiet))
        found = [place for place in look.places(seen, "takes", None) if place.where == "quiet loop"]
        self.assertEqual({place.title for place in found}, {"As it came", "No pulse found"})
        with self.assertRaises(ParameterError):
            fit.take_fit(seen, quiet)
