import json
from dataclasses import replace
from pathlib import Path

import mido
import numpy as np

from combpace.core.errors import MediaError, ParameterError
from combpace.core.fit.groove import take_groove
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import steady_map
from combpace.drawing import picture
from combpace.session import notes, shelf
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import considered
from combpace.session.foresight import foreseen
from combpace.session.grooves import GrooveLibrary, groove_taken
from combpace.session.state import session_state
from combpace.settings import Settings
from combpace.stations.handoff.ordering import Wish, order
from combpace.stations.handoff.write import files_of, write_handoff
from combpace.stations.takes import parts
from combpace.store.models import JobRow
from rig.places import PlaceTest, look


def tune(path: Path, *, late: int = 0, tempi: tuple[int, ...] = (500_000,)) -> Path:
    """Four quarters of a reed with a pickup of an eighth, bar 1 at its marker, and a stick on each beat; beat
    3 so many ticks of 480 late.
    """
    file = mido.MidiFile(type=1, ticks_per_beat=480)
    first = mido.MidiTrack(
        [
            mido.MetaMessage("set_tempo", tempo=tempo, time=0 if k == 0 else 1920)
            for k, tempo in enumerate(tempi)
        ]
    )
    first.insert(1, mido.MetaMessage("marker", text="bar 1", time=480))
    reed = mido.MidiTrack(
        [mido.MetaMessage("track_name", name="reed"), mido.Message("program_change", program=20)]
    )
    reed += [
        mido.Message("note_on", note=57, velocity=80, time=240),
        mido.Message("note_off", note=57, time=240),
    ]
    sticks = mido.MidiTrack([mido.MetaMessage("track_name", name="sticks")])
    for k in range(4):
        reed += [
            mido.Message("note_on", note=60 + k, velocity=90, time=0 if k == 0 else 240),
            mido.Message("note_off", note=60 + k, time=240),
        ]
        extra = late if k == 2 else 0
        sticks += [
            mido.Message("note_on", channel=9, note=38, velocity=100, time=(480 if k == 0 else 360) + extra)
        ]
        sticks += [mido.Message("note_off", channel=9, note=38, time=120 - extra)]
    file.tracks += [first, reed, sticks]
    file.save(path)
    return path


class PartTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        path = tune(self.place.blobs.new_path(".mid"))
        self.reed, self.sticks = parts.add_parts(self.place, self.session, path, "yard tune.mid")

    def starts(self, part: str, key: int | None = None) -> np.ndarray:
        return np.array([note.start_s for note in notes.heard(self.seen(), part) if key in (None, note.key)])

    def test_the_groove_of_a_part_is_taken_from_its_notes(self) -> None:
        path = tune(self.place.blobs.new_path(".mid"), late=48)
        _, late = parts.add_parts(self.place, self.session, path, "late tune.mid")
        groove = groove_taken(self.seen(), late, (1, 1), "1/4", "")
        self.assertEqual(
            (groove.name, [one.struck for one in groove.bars[0]]), ("sticks 2, bar 1", [1, 1, 1, 1])
        )
        # 48 ticks of 480 are a tenth of a quarter.
        np.testing.assert_allclose([one.late for one in groove.bars[0]], [0, 0, 0.1, 0], atol=1e-3)

    def test_a_note_pulled_by_hand_stays_there_and_goes_along_with_its_part(self) -> None:
        line = self.seen().need_map()
        self.act("part", part=self.reed, field="times", value="2")
        said = self.act("note-pull", part=self.reed, own=1.0, quarters=1.5).note
        self.assertIn("1 note of reed goes to 1·2.5,", said)
        self.assertAlmostEqual(float(self.starts(self.reed, 61)[0]), line.second(1.5), places=9)
        # The other round has its own place, and the rule leaves what is pulled by hand.
        self.assertAlmostEqual(float(self.starts(self.reed, 61)[1]), line.second(5.0), places=9)
        self.act("part", part=self.reed, field="grid", value="1/4")
        self.assertAlmostEqual(float(self.starts(self.reed, 61)[0]), line.second(1.5), places=9)
        facts = notes.facts(self.seen(), self.seen().document.part(self.reed))
        self.assertEqual((facts["hand"], [note[5] for note in facts["notes"]].count(1)), (1, 1))
        self.act("part", part=self.reed, field="first_bar", value="3")
        self.assertAlmostEqual(float(self.starts(self.reed, 61)[0]), line.second(9.5), places=9)
        self.act("note-release", part=self.reed, own=1.0)
        self.assertAlmostEqual(float(self.starts(self.reed, 61)[0]), line.second(9.0), places=9)
        for own in (1.0, 2.3):
            with self.assertRaises(ParameterError):
                self.act("note-release", part=self.reed, own=own)
        with self.assertRaisesRegex(ParameterError, "No note"):
            self.act("note-pull", part=self.reed, own=2.3, quarters=3.0)

    def test_what_a_change_of_the_map_moves_names_parts_too(self) -> None:
        def said(name: str, /, **args: object) -> str:
            return foreseen(*considered(self.place, self.session, name, self.version, args)).sentence

        args = {"time_s": float(self.beats[0]) + 0.03, "quarters": 0.0, "free": True}
        self.assertRegex(said("pull", **args), r"^Bars? .* 2 parts move by up to 45\.1 ms\.$")
        self.act("part", part=self.sticks, field="keeps", value="time")
        self.assertRegex(said("pull", **args), r" reed moves by up to 45\.1 ms\. sticks keeps its time\.$")
        before = self.starts(self.reed)
        self.act("pull", **args)
        # Its upbeat lies before the first beat of the map, which is steeper there now.
        self.assertAlmostEqual(float(np.abs(self.starts(self.reed) - before).max()), 0.0451, places=4)
        self.assertEqual(said("limit", ms=20), "No bar line moves.")

    def test_each_track_is_a_part_that_follows_the_map(self) -> None:
        self.assertEqual([part.name for part in self.seen().document.notes], ["reed", "sticks"])
        line = self.seen().need_map()
        np.testing.assert_allclose(
            self.starts(self.reed), np.asarray(line.to_seconds(np.array([-0.5, 0, 1, 2, 3]))), atol=1e-9
        )  # type: ignore[arg-type]
        # A beat moved in the breathing map moves its notes.
        self.act("pull", time_s=line.second(5.0) + 0.03, quarters=5.0, free=True)
        self.act("part", part=self.sticks, field="first_bar", value="2")
        self.assertAlmostEqual(
            float(self.starts(self.sticks)[1]), self.seen().need_map().second(5.0), places=9
        )
        self.act("undo")
        self.act("undo")
        self.assertAlmostEqual(float(self.starts(self.sticks)[0]), line.second(0.0), places=9)

    def test_again_until_a_bar_and_keeping_its_time(self) -> None:
        self.act("part", part=self.sticks, field="times", value="3")
        np.testing.assert_allclose(
            self.starts(self.sticks)[::4], [self.line(0), self.line(1), self.line(2)], atol=1e-9
        )
        self.assertIn("until bar 5", self.act("part", part=self.sticks, field="times", value="until 5").note)
        self.assertEqual(len(self.starts(self.sticks)), 16)
        self.act("part", part=self.sticks, field="keeps", value="time")
        # At its file's 120 BPM from where it began, once.
        np.testing.assert_allclose(self.starts(self.sticks), self.line(0) + 0.5 * np.arange(4), atol=1e-9)
        before = self.starts(self.sticks)
        self.act("scale", factor=2)
        np.testing.assert_allclose(self.starts(self.sticks), before, atol=1e-9)

    def test_pulled_onto_a_groove_exactly(self) -> None:
        groove = take_groove(
            np.array([0.0, 0.52, 1.0, 1.5]),
            np.array([6.0, 0, 0, 0]),
            steady_map(120.0, 0.0),
            (0, 0),
            Grid(4),
            "yard",
        )
        kept = GrooveLibrary(self.place).add(groove)
        self.act("part", part=self.sticks, field="grid", value=f"groove:{kept.id}")
        self.act("part", part=self.sticks, field="accent", value="100")
        found, line = notes.heard(self.seen(), self.sticks), self.seen().need_map()
        np.testing.assert_allclose(
            [note.start_s for note in found], [line.second(q) for q in (0, 1.04, 2, 3)], atol=1e-9
        )
        self.assertEqual([note.velocity for note in found], [127, 84, 84, 84])
        self.act("part", part=self.sticks, field="strength", value="50")
        self.assertAlmostEqual(float(self.starts(self.sticks)[1]), line.second(1.02), places=9)
        self.act("part", part=self.sticks, field="grid", value="nothing")
        self.assertAlmostEqual(float(self.starts(self.sticks)[1]), line.second(1.0), places=9)

    def test_what_is_heard_is_what_is_handed_off(self) -> None:
        self.act("part", part=self.reed, field="times", value="2")
        job = order(
            self.place,
            self.session,
            Wish(takes=[self.reed], kind="wav32f", start="lead-in", extras=["parts", "midi"]),
        )
        with self.place.database.reading() as db:
            args = json.loads(db.get(JobRow, job).args)  # type: ignore[union-attr]
        write_handoff(self.place, args, lambda phase, share: None)
        files = {file.name.rsplit(" - ", 1)[-1]: file for file in files_of(self.place, self.session)}
        midi = next(file for name, file in files.items() if name.endswith("parts.mid"))
        path = self.folder / "back.mid"
        path.write_bytes(self.place.blobs.path(midi.sha).read_bytes())
        times, now = [], 0.0
        for message in mido.MidiFile(path):
            now += message.time
            if message.type == "note_on" and message.velocity and message.channel == 0:
                times.append(now)
        np.testing.assert_allclose(times, self.starts(self.reed), atol=0.0005)

    def test_after_a_restart_and_in_a_copy(self) -> None:
        self.act("part", part=self.reed, field="times", value="2")
        again = DataFolder(replace(Settings(), data_dir=self.folder / "data"))
        self.addCleanup(again.close)
        again.prepare()
        seen = session_state(again, self.session)
        self.assertEqual(len(notes.heard(seen, self.reed)), 9)
        copy = shelf.duplicate(again, self.session)
        self.assertEqual(len(notes.heard(session_state(again, copy), self.reed)), 9)

    def test_the_files_own_map_is_offered_and_not_taken(self) -> None:
        before = self.seen().need_map()
        slow = tune(self.place.blobs.new_path(".mid"), tempi=(600_000, 500_000))
        parts.add_parts(self.place, self.session, slow, "slow tune.mid")
        self.assertEqual(self.seen().need_map(), before)
        offer = next(place for place in look(self.seen(), "takes") if "tempo map of its own" in place.title)
        assert offer.do is not None
        self.act(offer.do.name, **offer.do.args)
        # 100 BPM where the file begins.
        self.assertAlmostEqual(self.seen().need_map().bpm_at(0.1), 100.0, places=6)

    def test_the_picture_has_their_notes(self) -> None:
        made = picture.picture(self.seen(), None)["parts"]
        self.assertEqual([part["name"] for part in made], ["reed", "sticks"])
        self.assertEqual(len(made[0]["notes"]), 5)
        self.act("part-remove", part=self.reed)
        self.assertEqual(len(picture.picture(self.seen(), None)["parts"]), 1)
        self.act("undo")
        self.assertEqual(len(picture.picture(self.seen(), None)["parts"]), 2)

    def test_bad_files_and_bad_values_are_refused_and_change_nothing(self) -> None:
        bad = self.place.blobs.new_path(".mid")
        bad.write_bytes(b"MThd\x00\x00\x00\x06\x00\x01\x00\x01\x00\x00")
        with self.assertRaisesRegex(MediaError, "division of 0"):
            parts.add_parts(self.place, self.session, bad, "bad.mid")
        for field, value in (("first_bar", "0"), ("first_bar", "x"), ("times", "0"), ("times", "until 1"),
        ("keeps", "both"), ("grid", "1/7"),
                             ("accent", "200"), ("lengths", "long"), ("swing", "20"), ("colour",
                             "1")):  # fmt: skip
            with self.subTest(field=field, value=value), self.assertRaises(ParameterError):
                self.act("part", part=self.reed, field=field, value=value)
        self.assertEqual(len(self.seen().document.notes), 2)
