"""What was heard in a file is kept by content: the same bytes are decoded and listened to once."""

from __future__ import annotations

import io
import json
import threading
import unittest
from unittest import mock

import numpy as np
import soundfile as sf

from combpace.core.audio import Audio
from combpace.core.onsets.detect import ANALYSIS_VERSION
from combpace.session import archive, keys, known, shelf
from combpace.session.data_folder import DataFolder
from combpace.session.state import session_state
from combpace.stations.takes import hearing, importing
from combpace.store import rows
from rig.places import PlaceTest, breathing, bring_in
from rig.sounds import struck


def quiet(phase: str, share: float) -> None:
    """No progress."""


class KnownTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.other = shelf.create(self.place, "The next night")
        # Whoever decodes or listens is counted; the work itself is done.
        self.decoded = self.counted(importing, "decode_to_wav")
        self.listened = self.counted(hearing, "_listen")

    def counted(self, module: object, name: str) -> mock.Mock:
        patch = mock.patch.object(module, name, side_effect=getattr(module, name))
        self.addCleanup(patch.stop)
        return patch.start()

    def drop(self, audio: Audio, name: str, session: str = "") -> str:
        path = self.place.blobs.new_path(".wav")
        sf.write(path, audio.samples.T, audio.sample_rate_hz, subtype="PCM_24")
        return importing.add_upload(self.place, session or self.other, path, name)

    def test_the_same_file_is_there_at_once_and_no_job_begins(self) -> None:
        take = self.drop(breathing()[1], "tub kit.wav")
        row, first = self.place.take_row(take), self.place.take_row(self.lead)
        self.assertEqual(row.state, "ready")
        self.assertEqual(
            (row.analysis_sha, row.decoded_sha, row.peaks_sha, row.frames, row.notes, row.decoder),
            (
                first.analysis_sha,
                first.decoded_sha,
                first.peaks_sha,
                first.frames,
                first.notes,
                first.decoder,
            ),
        )
        self.assertEqual(rows.jobs_changed(self.place.database, self.other, 0.0), [])
        self.assertEqual((self.decoded.call_count, self.listened.call_count), (0, 0))

    def test_a_name_that_says_something_else_is_heard_anew(self) -> None:
        # A loop is heard as one, and a tempo in the name is a candidate: neither is what was heard before.
        for name in ("tub kit loop.wav", "tub kit 93bpm.wav"):
            with self.subTest(name=name):
                take = self.drop(breathing()[1], name)
                self.assertEqual(self.place.take_row(take).state, "waiting")
                before = self.listened.call_count
                importing.import_take(self.place, {"take": take}, quiet)
                self.assertEqual(self.listened.call_count, before + 1)
        self.assertEqual(self.decoded.call_count, 0, "the sound itself is the same")

    def test_listen_again_always_listens(self) -> None:
        importing.listen_again(self.place, self.session, self.lead)
        queued = rows.jobs_changed(self.place.database, self.session, 0.0)[-1]
        self.assertEqual(queued.args, json.dumps({"again": True, "take": self.lead}))
        importing.import_take(self.place, {"take": self.lead, "again": True}, quiet)
        self.assertEqual((self.decoded.call_count, self.listened.call_count), (1, 1))

    def test_the_order_of_mics_and_the_versions_are_in_the_key(self) -> None:
        said = [{"stated": [], "padding": None}] * 2
        first = keys.analyses_key(["a" * 64, "b" * 64], False, said)
        self.assertNotEqual(first, keys.analyses_key(["b" * 64, "a" * 64], False, said))
        self.assertNotEqual(first, keys.analyses_key(["a" * 64, "b" * 64], True, said))
        with mock.patch.dict(keys.VERSIONS, analyses=(ANALYSIS_VERSION + 1,)):
            self.assertNotEqual(first, keys.analyses_key(["a" * 64, "b" * 64], False, said))
        sound = keys.sound_key("c" * 64)
        with mock.patch.dict(keys.VERSIONS, sound=("another",)):
            self.assertNotEqual(sound, keys.sound_key("c" * 64))

    def test_what_an_archive_brings_never_enters(self) -> None:
        packed = io.BytesIO()
        archive.write_archive(self.place, self.session, packed)
        path = self.folder / "night.combpace"
        path.write_bytes(packed.getvalue())
        fresh = DataFolder(self.place.settings.with_command_line(None, None, str(self.folder / "elsewhere")))
        fresh.prepare()
        self.addCleanup(fresh.close)
        session = archive.read_archive(fresh, path)
        (row,) = fresh.take_rows(session).values()
        self.assertEqual(row.state, "ready")
        self.assertIsNone(known.sound_of(fresh, row.source_sha))
        self.place = fresh
        self.decoded.reset_mock()
        take = self.drop(breathing()[1], "tub kit.wav", session)
        self.assertEqual(fresh.take_row(take).state, "waiting")
        importing.import_take(fresh, {"take": take}, quiet)
        self.assertEqual((self.decoded.call_count, self.listened.call_count), (1, 1))

    def test_a_damaged_sound_is_decoded_again(self) -> None:
        row = self.place.take_row(self.lead)
        path = self.place.blob(row.decoded_sha)
        whole = path.read_bytes()
        path.write_bytes(whole[:-1] + bytes([whole[-1] ^ 1]))
        take = self.drop(breathing()[1], "tub kit.wav")
        self.assertEqual(self.place.take_row(take).state, "waiting")
        importing.import_take(self.place, {"take": take}, quiet)
        self.assertEqual(path.read_bytes(), whole)

    def test_two_imports_at_once_listen_once(self) -> None:
        sound = struck([0.5 + 0.5 * k for k in range(8)], 5.0)
        takes = [self.drop(sound, "copper.wav") for _ in range(2)]
        threads = [
            threading.Thread(target=importing.import_take, args=(self.place, {"take": take}, quiet))
            for take in takes
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual({self.place.take_row(take).state for take in takes}, {"ready"})
        self.assertEqual((self.decoded.call_count, self.listened.call_count), (1, 1))

    def test_what_no_take_names_is_forgotten_and_the_rest_outlives_a_start(self) -> None:
        row = self.place.take_row(self.lead)
        self.assertIsNotNone(known.sound_of(self.place, row.source_sha))
        known.keep_analyses(self.place, "f" * 64, ["e" * 64], ["d" * 64])
        self.place.prepare()
        self.assertIsNotNone(known.sound_of(self.place, row.source_sha))
        self.assertIsNone(rows.heard(self.place.database, "f" * 64))


if __name__ == "__main__":
    unittest.main()


class TogetherTest(PlaceTest):
    def test_undone_a_bundle_leaves_the_marks_as_they_were(self) -> None:
        rng = np.random.default_rng(4)
        late = struck(self.beats + 0.012, float(self.beats[-1]) + 1.0, low_every=4)
        noise = (late.samples + 0.004 * rng.standard_normal(late.samples.shape)).astype(np.float32)
        mate = bring_in(self.place, self.session, Audio(noise, late.sample_rate_hz), "room.wav")
        both = [self.lead, mate]

        def marks() -> list[list[float]]:
            return [[float(time) for time in self.seen().onsets(take).times] for take in both]

        alone, heard = marks(), [self.seen().rows[take].analysis_sha for take in both]
        self.act("bundle", takes=both, name="kit")
        importing.import_take(self.place, {"take": self.lead, "together": both}, quiet)
        together = [self.seen().rows[take].analysis_sha for take in both]
        self.assertNotEqual(together, heard)
        self.act("undo")
        self.assertEqual((marks(), [self.seen().rows[take].analysis_sha for take in both]), (alone, heard))
        self.act("redo")
        self.assertEqual([self.seen().rows[take].analysis_sha for take in both], together)
        # Nothing of either is swept or freed.
        named = rows.blobs_of_takes_and_files(self.place.database)
        self.assertLessEqual({*heard, *together}, named)
        copy = session_state(self.place, shelf.duplicate(self.place, self.session))
        self.assertEqual([copy.rows[take.id].analysis_sha for take in copy.document.takes], together)
        # Heard again by itself it is that alone.
        self.act("undo")
        importing.listen_again(self.place, self.session, mate)
        importing.import_take(self.place, {"take": mate, "again": True}, quiet)
        self.assertIsNone(self.place.take_row(mate).alone)
