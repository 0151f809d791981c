"""Maps and MIDI files that come to far more than they look: refused in a sentence, and quickly."""

from __future__ import annotations

import json
import tempfile
import time
import unittest
from collections.abc import Callable
from pathlib import Path

import mido

from combpace.core.errors import MediaError
from combpace.media.mapforms import read_any
from combpace.media.midi import MOST_EVENTS, read_map
from combpace.media.midi_parts import read_parts

# A bound that holds on a busy machine: what was refused too late took minutes and gigabytes.
MOST_S = 5.0


def track(events: bytes) -> bytes:
    data = events + b"\x00\xff\x2f\x00"
    return b"MTrk" + len(data).to_bytes(4, "big") + data


def smf(*tracks: bytes) -> bytes:
    return b"MThd\x00\x00\x00\x06\x00\x01" + len(tracks).to_bytes(2, "big") + b"\x01\xe0" + b"".join(tracks)


class BombsTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def refused(self, name: str, data: bytes, read: Callable[[Path], object]) -> str:
        path = self.folder / name
        path.write_bytes(data)
        begun = time.process_time()
        with self.assertRaises(MediaError) as caught:
            read(path)
        self.assertLess(time.process_time() - begun, MOST_S, name)
        self.assertRegex(str(caught.exception), r"“.*” .*\.$")
        return str(caught.exception)

    def test_millions_of_tempi_and_notes(self) -> None:
        tempi = track(b"\x01\xff\x51\x03\x07\xa1\x20" * 2_000_000)
        self.assertIn("events", self.refused("tempi.mid", smf(tempi), read_map))
        self.assertIn("events", self.refused("any.mid", smf(tempi), read_any))
        # By running status a note is three bytes.
        notes = track(b"\x00\x90\x3c\x64" + b"\x01\x3c\x00\x01\x3c\x64" * 2_500_000)
        self.assertIn("events", self.refused("notes.mid", smf(notes), read_parts))
        many = smf(*[track(b"\x00\x90\x3c\x64" + b"\x01\x3c\x00\x01\x3c\x64" * 10_000)] * 40)
        self.assertIn("events", self.refused("tracks.mid", many, read_parts))

    def test_as_many_events_as_are_taken_are_counted_right(self) -> None:
        # Each kind of event, with and without a status of its own.
        each = (
            b"\x00\x90\x3c\x64\x81\x00\x3c\x00\x00\xc0\x05\x00\x06\x00\xe0\x00\x40\x00\xf0\x03\x01\x02\xf7"
            b"\x00\xff\x01\x02hi\x00\xb0\x07\x64\x00\x07\x65"
        )
        good = smf(track(each * 20), track(each))
        path = self.folder / "good.mid"
        path.write_bytes(good)
        self.assertEqual(sum(map(len, mido.MidiFile(path).tracks)), 21 * 9 + 2)
        self.assertEqual(len(read_parts(path).parts), 2)
        over = smf(track(each * (MOST_EVENTS // 9 + 1)))
        self.refused("over.mid", over, read_parts)

    def test_lists_of_beats_without_end(self) -> None:
        lines = b"".join(b"%d.5\n" % k for k in range(1_500_000))
        self.assertIn("lines", self.refused("beats.csv", lines, read_any))
        self.assertIn("larger", self.refused("long.csv", b"1.5\n" * 5_000_000, read_any))
        labels = b"".join(b"%d\t%d\t%d\n" % (k, k, k + 1) for k in range(300_000))
        self.assertIn("lines", self.refused("beats.txt", labels, read_any))

    def test_nested_without_end(self) -> None:
        for opened, closed in ((b"[", b"]"), (b'{"a":', b"}")):
            deep = opened * 100_000 + b"1" + closed * 100_000
            self.assertIn("nested", self.refused("deep.json", deep, read_any))

    def test_more_bars_than_music_has(self) -> None:
        knots = [{"time_s": 0.0, "quarters": 0.0}, {"time_s": 9e5, "quarters": 9e6}]
        long = {"meters": [{"bar": 1, "meter": "1/64"}], "knots": knots, "duration_s": 9e5}
        self.assertIn(
            "more beats, bars or hours", self.refused("far.json", json.dumps(long).encode(), read_any)
        )

    def test_a_stray_quote_is_said(self) -> None:
        for text in (b'time,bar\n0.5,1\n"1.0,2\n1.5,3\n2.0,4\n', b'time,bar\n0.5,1\n"1.0,2\n1.5",3\n2.0,4\n'):
            self.assertIn("quote", self.refused("beats.csv", text, read_any))
