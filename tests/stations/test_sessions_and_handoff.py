import json
import zipfile
from dataclasses import replace
from pathlib import Path

import mido
import numpy as np
import soundfile as sf

from combpace.core.errors import NotFoundError, ParameterError
from combpace.drawing import picture
from combpace.drawing.weave import weave_of
from combpace.session import fits, pieces, shelf, words
from combpace.session.decisions import decide
from combpace.session.document.model import FORMAT, NewerFormatError
from combpace.session.document.parts import read
from combpace.session.state import session_state
from combpace.stations.handoff import write
from combpace.stations.handoff.ordering import Wish, order
from combpace.stations.registry import STATIONS, findings
from combpace.store.models import JobRow
from rig.places import PlaceTest, breathing, bring_in, look
from rig.sounds import attack_starts, struck


class ShelfTest(PlaceTest):
    def test_find_rename_duplicate_remove_and_back(self) -> None:
        shelf.rename(self.place, self.session, "Steam  hall\n")
        other = shelf.create(self.place, "Mangle press")
        self.assertEqual([entry.name for entry in shelf.shelf(self.place)], ["Mangle press", "Steam hall"])
        self.assertEqual([entry.id for entry in shelf.shelf(self.place, "steam breathing")], [self.session])
        copy = shelf.duplicate(self.place, self.session)
        decide(self.place, copy, "meter", self.place.open(copy).revision.version, {"meter": "3/4"})
        self.assertEqual(str(self.seen().need_map().meters[0]), "4/4")
        shelf.remove(self.place, other)
        self.assertNotIn(other, [entry.id for entry in shelf.shelf(self.place)])
        shelf.restore(self.place, other)
        self.assertIn(other, [entry.id for entry in shelf.shelf(self.place)])
        with self.assertRaises(ParameterError):
            shelf.rename(self.place, other, "   ")
        with self.assertRaises(NotFoundError):
            shelf.rename(self.place, "0" * 16, "x")

    def test_the_sentence_and_the_weave(self) -> None:
        entry = shelf.shelf(self.place)[0]
        self.assertRegex(entry.sentence, r"^4/4, breathing 9\d\.\d–9\d\.\d, bar 1 at 0:0\d\.\d{3}$")
        first, dark = weave_of(self.place, self.session)
        self.assertLessEqual(first, 0)
        self.assertEqual(dark.shape[1], 240)
        # Downbeats stand in a column: the line of each bar is darker than what lies around it.
        at = round(240 * 0.125 / 1.25)
        self.assertGreater(float(dark[1:6, at - 1 : at + 3].max(axis=1).min()), 0.3)
        self.assertLess(float(dark[1:6, at + 12 : at + 25].mean()), 0.2)


class OldDocumentsTest(PlaceTest):
    def test_a_session_of_the_first_form_opens_and_is_kept_in_the_new_one(self) -> None:
        old = json.loads(
            (Path(__file__).parents[1] / "support" / "document_form_1.json")
            .read_text()
            .replace("TAKE", self.lead)
        )
        self.place.history.begin(self.session, 1, old, "written by the first form")
        seen = self.seen()
        self.assertEqual(seen.document.takes[0].offset_s, 0.5)
        self.assertEqual(seen.document.takes[0].first_bar, 1)
        self.act("meter", meter="3/4")
        self.assertEqual(self.place.open(self.session).revision.format, FORMAT)
        self.assertEqual(self.seen().document.rules[self.lead].rule.strength, 80.0)
        self.assertEqual(self.seen().document.rules[self.lead].rule.ignore_beyond_ms, 40.0)

    def test_pieces_of_the_fifth_form_sound_as_they_did(self) -> None:
        raw = (Path(__file__).parents[1] / "support" / "document_form_5.json").read_text()
        raw = raw.replace("TAKE", self.lead).replace("SOUND", str(self.seen().rows[self.lead].decoded_sha))
        self.place.history.begin(self.session, 5, json.loads(raw), "written by the fifth form")
        seen = self.seen()
        first, second = pieces.laid(seen, self.lead)
        self.assertEqual(
            (first.start, first.stop, first.at, first.own, first.curve), (0, 22050, 22050, None, ())
        )
        self.assertEqual((second.at, second.level_db, second.fade_in), (66150, -6.0, 441))
        self.assertEqual((seen.document.arriving, seen.document.take(self.lead).arrival), ("follow", False))
        self.act("piece-level", take=self.lead, number=0, level_db=-3.0)
        self.assertEqual(self.place.open(self.session).revision.format, FORMAT)
        self.assertEqual(
            [one.level_db for one in self.seen().document.pieces[self.lead].pieces], [-3.0, -6.0]
        )

    def test_a_session_of_each_older_form_opens_and_goes_on(self) -> None:
        folder = Path(__file__).parents[1] / "support"
        for form in range(1, FORMAT):
            with self.subTest(form=form):
                raw = (folder / f"document_form_{form}.json").read_text().replace("TAKE", self.lead)
                raw = raw.replace("SOUND", str(self.seen().rows[self.lead].decoded_sha))
                session = shelf.create(self.place, f"Form {form}")
                old = json.loads(raw)
                # Of the second form a breathing and a steady session are kept.
                self.place.history.begin(session, form, old.get("own", old), f"written by form {form}")
                seen = session_state(self.place, session)
                self.assertEqual(seen.document.takes[0].id, self.lead)
                version = seen.opened.revision.version
                named = {"take": self.lead, "field": "name", "value": "copper tub"}
                decide(self.place, session, "take", version, named)
                after = self.place.open(session)
                self.assertEqual(after.revision.format, FORMAT)
                self.assertEqual(after.document.takes[0].name, "copper tub")
                self.assertEqual(after.document.rules, seen.document.rules)

    def test_forms_3_and_4_keep_what_was_decided(self) -> None:
        # Written by the program as it was then: a meter for all, a steady tempo, a mark, a rule, a peg by
        # hand.
        for form in (3, 4):
            with self.subTest(form=form):
                raw = (Path(__file__).parents[1] / "support" / f"document_form_{form}.json").read_text()
                document = read(json.loads(raw), form)
                self.assertEqual((document.map.kind, document.map.bpm), ("steady", 118.0))
                self.assertEqual(str(document.map.steady_meters[0]), "3/4")
                self.assertEqual([round(one, 1) for one in document.edits["TAKE"].added], [0.7])
                self.assertEqual(str(document.rules["OTHER"].rule.places), "1/8")
                self.assertEqual([peg.quarters for peg in document.pegs["OTHER"].pegs], [3.5])

    def test_form_8_says_once_that_its_sentence_sounds_different(self) -> None:
        # Written by the program as it was then: one tempo, half strength, a peg by hand, one as played.
        raw = (Path(__file__).parents[1] / "support" / "document_form_8.json").read_text()
        parts = json.loads(raw.replace("TAKE", self.lead))
        self.place.history.begin(self.session, 8, parts, "written by the eighth form")
        most = fits.differs_ms(self.seen(), self.lead)
        self.assertGreater(most, 0.5)
        found = look(self.seen(), "fit", self.lead)[0]
        self.assertIn(f"sounds different from before, by up to {most:.0f} ms", found.title)
        assert found.keep is not None
        before = self.seen().document.pegs[self.lead]
        self.act(found.keep.name, **found.keep.args)
        self.assertEqual(fits.differs_ms(self.seen(), self.lead), 0.0)
        self.assertEqual(self.seen().document.pegs[self.lead], before)
        self.assertNotIn("before", " ".join(one.title for one in look(self.seen(), "fit", self.lead)))
        with self.assertRaises(ParameterError):
            self.act(found.keep.name, **found.keep.args)

    def test_a_newer_form_is_refused_in_a_sentence(self) -> None:
        with self.assertRaises(NewerFormatError) as caught:
            read({"takes": []}, FORMAT + 1)
        self.assertIn("newer version", str(caught.exception))


class HandOffTest(PlaceTest):
    def run_order(
        self, takes: list[str], kind: str, start: str, extras: list[str], **more: object
    ) -> dict[str, object]:
        job = order(
            self.place, self.session, Wish(takes=takes, kind=kind, start=start, extras=extras, **more)
        )  # type: ignore[arg-type]
        with self.place.database.reading() as db:
            row = db.get(JobRow, job)
        assert row is not None
        write.write_handoff(self.place, json.loads(row.args), lambda phase, share: None)
        with self.place.database.writing() as db:
            db.get(JobRow, job).state = "done"  # type: ignore[union-attr]
        return {file.name: file for file in write.files_of(self.place, self.session)}

    def test_pauses_of_fitted_takes_are_silenced_where_that_is_asked_for(self) -> None:
        self.act("rule", take=self.lead, field="grid", value="1/4")
        plain = next(
            file
            for name, file in self.run_order([self.lead], "wav24", "bar 1", []).items()
            if name.endswith(".wav")
        )
        self.run_order([self.lead], "wav24", "bar 1", [], silence="45,80")
        newest = next(file for file in write.files_of(self.place, self.session) if file.name.endswith(".wav"))
        quiet: object = newest
        self.assertIn("silenced", json.loads(newest.details)["note"])
        before, after = (sf.read(self.place.blobs.path(file.sha))[0] for file in (plain, quiet))  # type: ignore[attr-defined]
        self.assertEqual(before.shape, after.shape)
        changed = before != after
        self.assertTrue(changed.any())
        self.assertLess(np.abs(before[changed]).max(), 10 ** (-45 / 20) * np.abs(before).max() + 1e-6)

    def test_files_of_equal_length_that_start_at_bar_1(self) -> None:
        _, audio = breathing(rate=48000)
        other = bring_in(self.place, self.session, audio, "room.wav")
        self.act("take", take=other, field="start", value="0.1")
        self.act("bar-1", time_s=float(self.beats[4]))
        self.act("rule", take=other, field="grid", value="1/4")
        files = self.run_order([self.lead, other], "wav24", "bar 1", ["midi", "json", "csv", "click"])
        lengths = set()
        for name, file in files.items():
            if name.endswith(".wav"):
                info = sf.info(self.place.blobs.path(file.sha))  # type: ignore[attr-defined]
                lengths.add((info.frames, info.samplerate))
        self.assertEqual(len(lengths), 1)
        self.assertEqual(next(iter(lengths))[1], 44100)
        lead = next(file for name, file in files.items() if "tub kit" in name)
        samples, rate = sf.read(self.place.blobs.path(lead.sha))  # type: ignore[attr-defined]
        starts = attack_starts(samples, rate)
        # The file begins on the attack of bar 1, so the beats after it lie where they were struck, counted
        # from there.
        for beat in self.beats[5:12]:
            self.assertLess(np.min(np.abs(starts - (beat - self.line(0)))), 0.001)
        click = next(file for name, file in files.items() if name.endswith("click.wav"))
        clicks, _ = sf.read(self.place.blobs.path(click.sha))  # type: ignore[attr-defined]
        line = self.seen().need_map()
        for place in (0.0, 1.0, 6.0):
            at = round((line.second(place) - line.second(0.0)) * 44100)
            self.assertGreater(abs(clicks[at]), 0.5)
        midi = next(file for name, file in files.items() if name.endswith(".mid"))
        track = mido.MidiFile(self.place.blobs.path(midi.sha))  # type: ignore[attr-defined]
        self.assertEqual([message.text for message in track.tracks[0] if message.type == "marker"], ["bar 1"])
        archive = next(file for name, file in files.items() if name.endswith(".zip"))
        with zipfile.ZipFile(self.place.blobs.path(archive.sha)) as pack:  # type: ignore[attr-defined]
            self.assertEqual(set(pack.namelist()), set(files) - {archive.name})  # type: ignore[attr-defined]

    def test_a_steady_session_begins_with_bar_1_in_every_file(self) -> None:
        for start in (1.0, 1.23456789, 0.999999):
            self.act("steady", bpm=96.0, bar_1_s=start)
            files = self.run_order([self.lead], "wav24", "bar 1", ["midi", "json", "csv", "click"])
            path = {
                name.rpartition(".")[2] if "click" not in name else "click": self.place.blobs.path(file.sha)
                for name, file in files.items()
            }  # type: ignore[attr-defined]
            with self.subTest(start=start):
                self.assertTrue(path["csv"].read_text().splitlines()[1].startswith("1,0.000000,"))
                document = json.loads(path["json"].read_text())
                self.assertEqual(
                    (document["bars"][0]["bar"], document["downbeats"][0], document["beats"][0]),
                    (1, 0.0, 0.0),
                )
                self.assertEqual(
                    [
                        message.text
                        for message in mido.MidiFile(path["mid"]).tracks[0]
                        if message.type == "marker"
                    ],
                    ["bar 1"],
                )
                self.assertGreater(abs(sf.read(path["click"])[0][0]), 0.5)

    def test_what_is_written_is_what_was_ordered(self) -> None:
        self.act("steady", bpm=96.0, bar_1_s=1.0)
        job = order(self.place, self.session, Wish(start="bar 1", extras=["json"]))
        # Decided while it waits: the order is not about it.
        self.act("steady", bpm=120.0)
        self.act("meter", meter="3/4")
        with self.place.database.reading() as db:
            row = db.get(JobRow, job)
        assert row is not None
        write.write_handoff(self.place, json.loads(row.args), lambda phase, share: None)
        file = next(file for file in write.files_of(self.place, self.session) if file.name.endswith(".json"))
        document = json.loads(self.place.blobs.path(file.sha).read_text())
        self.assertEqual((document["bpm"], document["meters"][0]["meter"]), (96.0, "4/4"))
        self.assertIn("96 BPM", file.name)

    def test_with_the_lead_in_and_a_take_before_zero(self) -> None:
        early = bring_in(self.place, self.session, struck([0.2], 1.0), "count.wav")
        self.act("take", take=early, field="start", value="-0.5")
        files = self.run_order([self.lead, early], "flac", "lead-in", [])
        for name, file in files.items():
            if name.endswith(".flac"):
                samples, rate = sf.read(self.place.blobs.path(file.sha))  # type: ignore[attr-defined]
                due = 0.2 if "count" in name else float(self.beats[0]) + 0.5
                self.assertAlmostEqual(attack_starts(samples, rate)[0], due, delta=0.001)

    def test_refusals(self) -> None:
        for args in (
            ([], "wav24", "bar 1", []),
            ([self.lead], "mp9", "bar 1", []),
            ([self.lead], "wav24", "bar 9000", []),
            ([self.lead], "wav24", "bar 0", []),
            ([self.lead], "wav24", "tomorrow", []),
            ([self.lead], "wav24", "bar 1", ["x"]),
        ):
            with self.subTest(args=args), self.assertRaises(ParameterError):
                self.run_order(*args)


class WordsTest(PlaceTest):
    def test_clock_and_numbers(self) -> None:
        for seconds, text in (
            (15.842, "0:15.842"),
            (-0.5, "−0:00.500"),
            (61.0, "1:01.000"),
            (0.0, "0:00.000"),
        ):
            self.assertEqual(words.clock(seconds), text)
            self.assertAlmostEqual(words.read_clock(text), seconds)
        self.assertEqual(words.read_clock("15,842"), 15.842)
        self.assertEqual(words.read_number("8,5 ms", "x", 0, 10), 8.5)
        for bad in ("", "abc", "1:2:x"):
            with self.assertRaises(ParameterError):
                words.read_clock(bad)

    def test_every_station_has_its_finding_and_list(self) -> None:
        seen = self.seen()
        found = findings(seen, self.lead)
        self.assertEqual([station["id"] for station in found], list(STATIONS))
        self.assertTrue(all(station["finding"] for station in found))
        for station in STATIONS:
            for place in look(seen, station, self.lead):
                self.assertTrue(place.title and place.where)
        json.dumps(picture.picture(seen, self.lead), allow_nan=False)

    def test_a_doubtful_bar_is_listed_and_its_proposal_mends_it(self) -> None:
        line = self.seen().need_map()
        self.act("pull", time_s=self.line(3) + 0.045, quarters=line.bar_line(3), free=True)
        self.act("release", quarters=line.bar_line(3))
        self.act("pull", time_s=self.line(3) + 0.045, quarters=line.bar_line(3), free=True)
        # An anchor is the user's word: it is not doubted.
        self.assertNotIn("bar 4", [place.where for place in look(self.seen(), "bars", None)])


class LeadChangeTest(PlaceTest):
    def test_another_lead_and_a_removed_lead(self) -> None:
        other = bring_in(self.place, self.session, struck(np.arange(20) * 0.5 + 0.5, 11), "snare.wav")
        self.act("take", take=other, field="role", value="lead")
        self.assertEqual(self.seen().document.lead.id, other)  # type: ignore[union-attr]
        self.act("take-remove", take=other)
        self.assertEqual(self.seen().document.lead.id, self.lead)  # type: ignore[union-attr]
        self.act("undo")
        self.assertEqual(len(self.seen().document.takes), 2)
        self.assertEqual(replace(self.seen().document.takes[0], role="lead").id, self.lead)

    def test_a_loop_that_came_first_leads_no_longer_than_it_is_alone(self) -> None:
        session = shelf.create(self.place, "Loop first")
        sound = struck(np.arange(8) * 0.5 + 0.5, 5)
        loop = bring_in(self.place, session, sound, "a loop.wav")
        self.assertEqual(session_state(self.place, session).document.lead.id, loop)  # type: ignore[union-attr]
        kit = bring_in(self.place, session, sound, "kit.wav")
        bring_in(self.place, session, sound, "other loop.wav")
        seen = session_state(self.place, session).document
        self.assertEqual([take.role for take in seen.takes], ["follower", "lead", "follower"])
        self.assertEqual(seen.lead.id, kit)  # type: ignore[union-attr]
        # A loop that was chosen stays what it was chosen for.
        chosen = shelf.create(self.place, "Loop chosen")
        first = bring_in(self.place, chosen, sound, "a loop.wav")
        decide(
            self.place,
            chosen,
            "take",
            session_state(self.place, chosen).opened.revision.version,
            {"take": first, "field": "role", "value": "lead"},
        )
        bring_in(self.place, chosen, sound, "kit.wav")
        self.assertEqual(session_state(self.place, chosen).document.lead.id, first)  # type: ignore[union-attr]
