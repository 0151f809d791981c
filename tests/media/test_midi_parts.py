import struct
import tempfile
import unittest
from pathlib import Path

import mido
import numpy as np

from combpace.core.clocks import SessionTimes
from combpace.core.errors import MediaError
from combpace.core.parts.part import Heard, Laying, laid
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter
from combpace.media.midi import read_map, write_parts
from combpace.media.midi_parts import read_parts

BREATHING: TempoMap[SessionTimes] = TempoMap(
    (Knot(0.5, 0.0), Knot(2.5, 4.0), Knot(4.9, 8.0), Knot(6.8, 12.0)), (Meter(1, 4, 4),)
)


def chunk(kind: bytes, data: bytes) -> bytes:
    return kind + struct.pack(">I", len(data)) + data


def smf(*tracks: bytes, kind: int = 1, division: int = 480, count: int | None = None) -> bytes:
    header = struct.pack(">HHH", kind, len(tracks) if count is None else count, division)
    return chunk(b"MThd", header) + b"".join(chunk(b"MTrk", track) for track in tracks)


END = b"\x00\xff\x2f\x00"
# Key 60 for a quarter, by running status: the second event has no status byte and lets go with velocity 0.
RUNNING = b"\x00\x90\x3c\x64\x83\x60\x3c\x00"


class PartsTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def read(self, data: bytes):  # type: ignore[no-untyped-def]
        path = self.folder / "tune.mid"
        path.write_bytes(data)
        return read_parts(path)

    def test_running_status_and_type_0(self) -> None:
        (part,) = self.read(smf(RUNNING + END, kind=0)).parts
        (note,) = part.notes
        self.assertEqual((note.start, note.length, note.key, note.velocity), (0.0, 1.0, 60, 100))

    def test_bar_1_at_its_marker_programs_names_and_meters(self) -> None:
        file = mido.MidiFile(type=1, ticks_per_beat=96)
        marker = [
            mido.MetaMessage("time_signature", numerator=3, denominator=4),
            mido.MetaMessage("marker", text="bar 1", time=96),
        ]
        notes = [
            mido.MetaMessage("track_name", name="reed  organ"),
            mido.Message("program_change", program=20),
            mido.Message("note_on", note=60, velocity=90),
            mido.Message("note_off", note=60, time=48),
            mido.Message("note_on", note=64, velocity=70, time=48),
            mido.Message("note_on", note=64, velocity=0, time=24),
        ]
        drums = [
            mido.Message("note_on", channel=9, note=36, velocity=100),
            mido.Message("note_off", channel=9, note=36, time=10),
        ]
        for track in (marker, notes, drums):
            file.tracks.append(mido.MidiTrack(track))
        file.save(self.folder / "a.mid")
        found = read_parts(self.folder / "a.mid")
        self.assertEqual([part.name for part in found.parts], ["reed organ", "part 3"])
        self.assertEqual(
            [(note.start, note.length, note.program) for note in found.parts[0].notes],
            [(-1.0, 0.5, 20), (0.0, 0.25, 20)],
        )
        self.assertTrue(found.parts[1].notes[0].is_drum)
        self.assertIn("written in 3/4", found.said[0])
        self.assertIsNotNone(found.line)

    def test_frames_are_read_in_seconds_and_keep_their_time(self) -> None:
        # 25 frames of 40 ticks: a tick is a millisecond. The upper byte is minus 25.
        found = self.read(smf(b"\x87\x68" + RUNNING[1:] + END, division=((256 - 25) << 8) | 40))
        (part,) = found.parts
        self.assertTrue(part.in_seconds)
        np.testing.assert_allclose([part.notes[0].start, part.notes[0].length], [1.0, 0.48])
        self.assertIn("counts in frames", found.said[0])
        self.assertIsNone(found.line)

    def test_hostile_files_are_each_a_sentence(self) -> None:
        wait = b"\xff\xff\xff\x7f\x90\x3c\x64"
        for data in (
            b"",
            b"MThd",
            b"RIFF" + bytes(40),
            smf(RUNNING + END, division=0),
            smf(END),
            smf(RUNNING + END, kind=2),
            smf(RUNNING + END, count=65535),
            smf(b"\x00\xff\x01\xff\xff\xff\x7f" + RUNNING + END),
            smf(wait * 12 + END),
            smf(RUNNING + END)[:-6],
            smf(b"\x00\x3c\x64" + END),
            smf(RUNNING + END, division=((256 - 12) << 8) | 40),
            chunk(b"MThd", struct.pack(">HHH", 1, 1, 480)) + b"MTrk" + struct.pack(">I", 2**31) + RUNNING,
        ):
            with self.subTest(data=data[:40]), self.assertRaises(MediaError) as refused:
                self.read(data)
            self.assertIn("Nothing was imported.", str(refused.exception))
        with self.assertRaises(MediaError):
            read_parts(self.folder / "none.mid")

    def test_without_an_end_of_track_and_with_a_note_never_let_go(self) -> None:
        (part,) = self.read(smf(b"\x00\x90\x3c\x64\x83\x60\x40\x64\x83\x60\x40\x00")).parts
        self.assertEqual(
            [(note.key, note.start, note.length) for note in part.notes], [(60, 0.0, 2.0), (64, 1.0, 1.0)]
        )

    def test_a_note_is_let_go_before_the_next_of_its_key_begins(self) -> None:
        notes = [Heard(0.5 + 0.5 * k, 1.0 + 0.5 * k, float(k), float(k + 1), 60, 100, 0, 0) for k in range(3)]
        path = self.folder / "back to back.mid"
        write_parts(BREATHING, 8.0, [("reed", notes)], path)
        kinds = [m.type for m in mido.MidiFile(path).tracks[1] if m.type.startswith("note_o")]
        self.assertEqual(kinds, ["note_on", "note_off"] * 3)

    def test_written_on_a_map_and_read_back(self) -> None:
        (part,) = self.read(smf(b"\x00\xc0\x14" + RUNNING + END)).parts
        notes = laid(part, BREATHING, Laying(times=3))
        out = self.folder / "out.mid"
        write_parts(BREATHING, 7.0, [("reed", notes)], out)
        back, line = read_parts(out).parts[0], read_map(out)
        self.assertEqual(
            [(note.key, note.velocity, note.program) for note in back.notes], [(60, 100, 20)] * 3
        )
        # Its own tempo map says when its notes sound (mido adds the times up).
        times, now = [], 0.0
        for message in mido.MidiFile(out):
            now += message.time
            if message.type == "note_on" and message.velocity:
                times.append(now)
        np.testing.assert_allclose(times, [0.5, 2.5, 4.9], atol=0.0002)
        np.testing.assert_allclose(
            np.asarray(line.to_seconds(line.bar_lines(0, 3))), [0.5, 2.5, 4.9, 6.8], atol=0.0002
        )
        np.testing.assert_allclose([note.start for note in back.notes], [0.0, 4.0, 8.0], atol=1e-9)


if __name__ == "__main__":
    unittest.main()
