"""Tempo maps as files. mido reads what we write; the bound is the one of docs/formats.md."""

import json
import tempfile
import unittest
from pathlib import Path

import mido
import numpy as np

from combpace.core.clocks import SessionTimes
from combpace.core.errors import MediaError
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter
from combpace.media.mapfiles import map_document, read_json_map, write_json
from combpace.media.midi import read_map, us_per_quarter, write_map


def mido_seconds(path: Path) -> dict[str, list[tuple[float, mido.MetaMessage]]]:
    """Every message by kind with its time in seconds, as mido itself adds them up."""
    file = mido.MidiFile(path)
    now, tempo, found = 0.0, 500_000, {}  # type: ignore[var-annotated]
    for message in mido.merge_tracks(file.tracks):
        now += mido.tick2second(message.time, file.ticks_per_beat, tempo)
        if message.type == "set_tempo":
            tempo = message.tempo
        found.setdefault(message.type, []).append((now, message))
    return found


def mido_bars(path: Path) -> list[float]:
    """Times of all bar lines: ticks by the time signatures, seconds by the tempo events."""
    file = mido.MidiFile(path)
    per = file.ticks_per_beat
    tempi, signatures, now, end = {0: 500_000}, {}, 0, 0
    for message in mido.merge_tracks(file.tracks):
        now += message.time
        if message.type == "set_tempo":
            tempi[now] = message.tempo
        if message.type == "time_signature":
            signatures[now] = message.numerator * 4 * per // message.denominator
        end = now
    changes = sorted(tempi)

    def second(tick: int) -> float:
        total = 0.0
        for a, b in zip(changes, [*changes[1:], 10**12], strict=True):
            if tick > a:
                total += (min(tick, b) - a) * tempi[a] / per / 1e6
        return total

    lines, tick, length = [], 0, 4 * per
    while tick <= end:
        length = signatures.get(tick, length)
        lines.append(second(tick))
        tick += length
    return lines


class MidiTest(unittest.TestCase):
    # MIDI 1.0, Standard MIDI Files: FF 51 03 tttttt, microseconds per quarter note (from memory)
    PUBLISHED = (
        (0x07A120, 120.0),
        (0x0F4240, 60.0),
    )

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "map.mid"

    def test_tempo_from_published_bytes(self) -> None:
        for value, bpm in self.PUBLISHED:
            with self.subTest(value=hex(value)):
                self.assertAlmostEqual(mido.tempo2bpm(value), bpm, places=9)
                self.assertEqual(us_per_quarter(bpm), value)

    def maps(self) -> dict[str, TempoMap[SessionTimes]]:
        rng = np.random.default_rng(7)
        times = 3.214 + np.concatenate([[0], np.cumsum(60 / rng.uniform(88, 99, 160))])
        breathing: TempoMap[SessionTimes] = TempoMap(
            tuple(Knot(float(t), float(k - 3)) for k, t in enumerate(times))
        )
        off_grid: TempoMap[SessionTimes] = TempoMap(
            (Knot(0.7, 0.0), Knot(2.9, 4.1234), Knot(5.3, 9.0), Knot(8.0, 14.777))
        )
        return {
            "steady from zero": steady_map(97.37, 0.0),
            "steady with lead-in": steady_map(141.0, 12.345),
            "bar 5 at zero": steady_map(120, -8.3),
            "breathing with pickup": breathing,
            "anchors between ticks": off_grid,
            "three four": TempoMap(breathing.knots, (Meter(1, 3, 4),)),
            "meter changes": TempoMap(breathing.knots, (Meter(1, 4, 4), Meter(5, 7, 8), Meter(9, 6, 8))),
            "very slow": steady_map(20, 3.0),
        }

    def test_mido_gives_the_same_bar_times(self) -> None:
        for name, line in self.maps().items():
            write_map(line, 60.0, self.path)
            lines = np.array(mido_bars(self.path))
            marks = [
                time for time, message in mido_seconds(self.path).get("marker", []) if message.text == "bar 1"
            ]
            with self.subTest(map=name):
                first = max(0, line.bar_of(line.place(0.0)) + 1)
                for index in range(first, line.bar_of(line.place(60.0))):
                    due = line.second(line.bar_line(index))
                    self.assertLess(np.min(np.abs(lines - due)), 0.1e-3 + 4 * 8 * 0.5e-6)
                if line.second(0.0) >= 0:
                    self.assertAlmostEqual(marks[0], line.second(0.0), delta=0.2e-3)

    def test_our_own_reader_gives_the_map_back(self) -> None:
        for name, line in self.maps().items():
            write_map(line, 60.0, self.path)
            back = read_map(self.path)
            with self.subTest(map=name):
                if line.second(0.0) < 0:
                    continue
                for index in range(0, line.bar_of(line.place(58.0))):
                    self.assertAlmostEqual(
                        back.second(back.bar_line(index)), line.second(line.bar_line(index)), delta=0.2e-3
                    )

    def test_rounding_does_not_add_up_over_two_thousand_beats(self) -> None:
        # 127.5001 BPM: each tempo event is whole microseconds, up to half of one beside the truth. A knot a
        # beat asks for an event a beat, each to be rounded so that the sum stays true.
        times = 0.4705884 * np.arange(2001)
        line: TempoMap[SessionTimes] = TempoMap(
            tuple(Knot(float(t), float(k)) for k, t in enumerate(times)), (Meter(1, 4, 4),)
        )
        path = self.path
        write_map(line, float(times[-1]), path)
        self.assertLess(abs(mido_bars(path)[500] - line.second(2000.0)), 1e-4)
        self.assertLess(abs(read_map(path).second(2000.0) - times[-1]), 1e-4)

    def test_a_file_without_a_tempo_runs_at_120(self) -> None:
        # MIDI 1.0, Standard MIDI Files: 120 BPM and 4/4 where nothing is said.
        file = mido.MidiFile(type=1, ticks_per_beat=480)
        file.tracks.append(mido.MidiTrack([mido.MetaMessage("end_of_track", time=480 * 8)]))
        path = self.path
        file.save(path)
        line = read_map(path)
        self.assertEqual((line.bpm_at(0.0), str(line.meters[0])), (120.0, "4/4"))

    def test_a_tempo_event_holds_at_most_three_bytes(self) -> None:
        # FF 51 03 tttttt: 16 777 215 us a quarter are 3.58 BPM.
        self.assertEqual(us_per_quarter(1.0), 0xFFFFFF)
        self.assertEqual(us_per_quarter(3.6), 16_666_667)

    def test_what_is_no_midi_file_is_refused(self) -> None:
        for data in (
            b"",
            b"MThd",
            b"RIFF....",
            b"MThd\x00\x00\x00\x06\x00\x01\x00\x01\xe7\x28MTrk\x00\x00\x00\x00",
        ):
            self.path.write_bytes(data)
            with self.subTest(data=data), self.assertRaises(MediaError):
                read_map(self.path)


class JsonTest(unittest.TestCase):
    def test_there_and_back(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "map.json"
            line: TempoMap[SessionTimes] = TempoMap(
                (Knot(0.7, 0.0), Knot(2.9, 4.0, True), Knot(5.3, 9.0)), (Meter(1, 3, 4),)
            )
            document = map_document(line, 0.0, 8.0, np.zeros(0))  # type: ignore[arg-type]
            write_json(document, path)
            back = read_json_map(path)
            np.testing.assert_allclose(back.times_s, line.times_s)
            self.assertEqual(back.meters, line.meters)
            # Without knots the bars are enough: a file of an older or another program.
            for name in ("knots", "beats"):
                document.pop(name)
            write_json(document, path)
            self.assertAlmostEqual(read_json_map(path).second(3.0), line.second(3.0), places=5)
            for text in (
                "",
                "[]",
                "{}",
                json.dumps({"meters": [{"meter": "4/4", "bar": 1}], "bars": [{"bar": 0, "start_s": 1}]}),
            ):
                path.write_text(text)
                with self.subTest(text=text), self.assertRaises(MediaError):
                    read_json_map(path)
