"""Tempo maps in all forms, there and back, and what is no map."""

import tempfile
import unittest
from pathlib import Path

import mido
import numpy as np

from combpace.batch.maps import convert_map, tidy_map
from combpace.core.clocks import SessionTimes, quarters
from combpace.core.errors import MediaError
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter
from combpace.media.mapforms import FoundMap, labels_text, read_any, write_any


def breathing(bars: int = 12) -> TempoMap[SessionTimes]:
    rng = np.random.default_rng(3)
    times = 1.2 + np.concatenate([[0], np.cumsum(60 / rng.uniform(88, 104, 4 * bars))])
    return TempoMap(
        tuple(Knot(float(t), float(k), k == 8, k == 8) for k, t in enumerate(times)),
        (Meter(1, 4, 4), Meter(5, 3, 4), Meter(9, 4, 4)),
    )


def ramped() -> TempoMap[SessionTimes]:
    return TempoMap(
        (Knot(0.5, 0.0, ramp=1.4), Knot(20.0, 32.0, True), Knot(30.0, 50.0, ramp=0.7), Knot(52.0, 84.0)),
        (Meter(1, 4, 4),),
    )


class FormsTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def there_and_back(
        self, line: TempoMap[SessionTimes], name: str, end_s: float | None = None
    ) -> TempoMap[SessionTimes]:
        write_any(FoundMap(line, end_s or float(line.times_s[-1])), self.folder / name)
        return read_any(self.folder / name).line

    def test_json_is_exact_with_ramps_anchors_and_locks(self) -> None:
        for line in (breathing(), ramped()):
            back = self.there_and_back(line, "map.json")
            self.assertEqual(back.meters, line.meters)
            self.assertEqual(
                [(k.time_s, k.quarters, k.fixed, k.locked, k.ramp) for k in back.knots],
                [(k.time_s, k.quarters, k.fixed, k.locked, k.ramp) for k in line.knots],
            )

    def test_midi_keeps_every_bar_line_also_in_a_ramp(self) -> None:
        for line, bars in ((breathing(), 11), (ramped(), 20)):
            write_any(FoundMap(line, float(line.times_s[-1])), self.folder / "map.mid")
            # mido adds up the ticks, not we.
            at, now, tempo, tick = {}, 0.0, 500_000, 0
            file = mido.MidiFile(self.folder / "map.mid")
            events, bar_1 = [], 0
            for message in mido.merge_tracks(file.tracks):
                tick += message.time
                events.append((tick, message))
                bar_1 = tick if message.type == "marker" and message.text == "bar 1" else bar_1
            targets = {bar_1 + round(line.bar_line(bar) * file.ticks_per_beat): bar for bar in range(bars)}
            tick = 0
            for there, message in [*events, (max(targets), mido.MetaMessage("text"))]:
                for target in sorted(targets):
                    if tick <= target <= there and targets[target] not in at:
                        at[targets[target]] = now + mido.tick2second(
                            target - tick, file.ticks_per_beat, tempo
                        )
                now += mido.tick2second(there - tick, file.ticks_per_beat, tempo)
                tick = there
                tempo = message.tempo if message.type == "set_tempo" else tempo
            for bar in range(bars):
                self.assertAlmostEqual(at[bar], line.second(line.bar_line(bar)), delta=0.1e-3 + 4 * 0.5e-6)

    def test_midi_of_another_resolution_and_in_frames(self) -> None:
        file = mido.MidiFile(type=1, ticks_per_beat=24)
        file.tracks.append(
            mido.MidiTrack(
                [
                    mido.MetaMessage("set_tempo", tempo=500_000),
                    mido.MetaMessage("set_tempo", tempo=400_000, time=96),
                    mido.MetaMessage("end_of_track", time=96),
                ]
            )
        )
        file.save(self.folder / "coarse.mid")
        line = read_any(self.folder / "coarse.mid").line
        self.assertAlmostEqual(line.second(4.0), 2.0, places=9)
        self.assertAlmostEqual(line.second(8.0), 3.6, places=9)
        # SMPTE division: minus 25 frames a second, 40 ticks a frame (Standard MIDI Files 1.0, header chunk).
        raw = bytearray((self.folder / "coarse.mid").read_bytes())
        raw[12:14] = bytes([0xE7, 40])
        (self.folder / "frames.mid").write_bytes(bytes(raw))
        with self.assertRaisesRegex(MediaError, "counts in frames"):
            read_any(self.folder / "frames.mid")

    def test_csv_and_labels_carry_lines(self) -> None:
        line = breathing()
        lines = quarters([line.bar_line(bar) for bar in range(10)])
        for name in ("map.csv", "map.txt"):
            back = self.there_and_back(line, name)
            self.assertEqual([str(meter) for meter in back.meters], ["4/4", "3/4", "4/4"])
            np.testing.assert_allclose(back.to_seconds(lines), line.to_seconds(lines), atol=2e-6)
        # Labels have the beats as well.
        beats = quarters(np.arange(0, 30.0))
        np.testing.assert_allclose(back.to_seconds(beats), line.to_seconds(beats), atol=2e-6)

    def test_labels_are_bars_and_beats(self) -> None:
        text = labels_text(FoundMap(breathing(2), 3.0))
        self.assertEqual([row.split("\t")[2] for row in text.splitlines()[:4]], ["-1.4", "1", "1.2", "1.3"])
        (self.folder / "own.txt").write_text(
            "2.0\t2.0\t7\n2.5\t2.5\t7.2\n3.0\t3.0\t7.3\n3.5\t3.5\t8\n4.0\t4.0\t8.2\n4.5\t4.6\t8.3\n5.0\t5.0\t9\n"
        )
        found = read_any(self.folder / "own.txt")
        self.assertEqual(str(found.line.meters[0]), "3/4")
        self.assertAlmostEqual(found.line.second(found.line.bar_line(6)), 2.0)
        self.assertAlmostEqual(found.line.second(found.line.bar_line(8)), 5.0)
        # Bar 1 lies where the tempo of the first bars puts it.
        self.assertAlmostEqual(found.line.second(0.0), 2.0 - 6 * 1.5)

    # Beats and their place in the bar, as open data sets of beats are kept (time, beat in the bar); times
    # alone; our bars; a comma as decimal point.
    TABLES = (
        ("0.50 3\n1.00 4\n1.50 1\n2.00 2\n2.50 3\n3.00 4\n3.50 1\n4.00 2\n", 1.5, "4/4", 0.5),
        ("0.5\n1.0\n1.5\n2.0\n", 0.5, "4/4", 0.5),
        ("time_s\n0.5\n2.5\n4.5\n", 0.5, "4/4", 0.5),
        ("bar,start_s,bpm,meter\n1,0.5,120,3/4\n2,2.0,120,3/4\n3,3.5,120,3/4\n", 0.5, "3/4", 0.5),
        ("time_s;bar;beat\n0,5;1;1\n1,0;1;2\n1,5;2;1\n2,0;2;2\n2,5;3;1\n", 0.5, "2/4", 0.5),
        ("0.5,1\n2.5,2\n4.5,3\n", 0.5, "4/4", 0.5),
    )

    def test_tables_of_beats_and_bars(self) -> None:
        for text, bar_1_s, meter, quarter_s in self.TABLES:
            with self.subTest(text=text[:12]):
                (self.folder / "beats.csv").write_text(text)
                found = read_any(self.folder / "beats.csv")
                self.assertAlmostEqual(found.line.second(0.0), bar_1_s)
                self.assertEqual(str(found.line.meters[0]), meter)
                self.assertAlmostEqual(found.line.second(1.0) - found.line.second(0.0), quarter_s)

    NO_MAPS = (
        ("x.csv", "", "empty"),
        ("x.csv", "0.5\n", "at least two"),
        ("x.csv", "0.5\n0.4\n", "does not come after"),
        ("x.csv", "0.5,a\n1.0,b\n", "not a time and a bar or beat"),
        ("x.csv", "name,size\na,1\n", "no column of times"),
        ("x.csv", "bar,start_s\n1,0.5\n3,2.5\n", "must follow each other"),
        ("x.csv", "bar,start_s\n0,0.5\n1,2.5\n", "no bar 0"),
        ("x.txt", "0.5\t0.5\tverse\n", "label like 7"),
        ("x.json", "{}", "not a tempo map"),
        ("x.mid", "MThd", "not a standard MIDI file"),
        ("x.wav", "", "not a form"),
    )

    def test_what_is_no_map_is_refused_in_a_sentence(self) -> None:
        for name, text, why in self.NO_MAPS:
            with self.subTest(text=text):
                (self.folder / name).write_text(text)
                with self.assertRaisesRegex(MediaError, why):
                    read_any(self.folder / name)
        with self.assertRaises(MediaError):
            read_any(self.folder / "none.json")
        with self.assertRaisesRegex(MediaError, "names no form"):
            write_any(FoundMap(ramped(), 52.0), self.folder / "map.doc")

    def test_convert_and_tidy_say_what_they_did(self) -> None:
        write_any(FoundMap(breathing(40), 100.0), self.folder / "a.json")
        self.assertIn("bar 1 at 1.200 s", convert_map(self.folder / "a.json", self.folder / "a.mid"))
        said = tidy_map(self.folder / "a.json", self.folder / "b.json", 20.0)
        self.assertRegex(said, r"159 tempo changes became \d+, every bar line within (20\.0|1\d\.\d)")
        line, back = read_any(self.folder / "a.json").line, read_any(self.folder / "b.json").line
        lines = quarters([line.bar_line(bar) for bar in range(40)])
        self.assertLessEqual(float(np.abs(back.to_seconds(lines) - line.to_seconds(lines)).max()), 0.020001)
        self.assertTrue(
            any(knot.fixed and knot.locked and knot.time_s == line.second(8.0) for knot in back.knots)
        )
        self.assertIn(
            "ramp",
            tidy_map(self.folder / "a.json", self.folder / "c.json", 20.0, ramps=True)
            + (self.folder / "c.json").read_text(),
        )
