"""The command line: the contract that scripts use."""

import contextlib
import io
import json
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import mido
import numpy as np
import soundfile as sf

from combpace.batch import files
from combpace.cli import main
from combpace.media.midi import read_map
from rig import heard
from rig.places import breathing
from rig.sounds import attack_starts, struck
from tests.core.analysis.test_opening import eighths


class CliTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        patch = mock.patch.object(files, "analyse", heard.analyse_once)
        patch.start()
        self.addCleanup(patch.stop)
        self.folder = Path(folder.name)
        self.beats, audio = breathing()
        self.file = self.write("tub kit.wav", audio.samples.T, audio.sample_rate_hz)

    def write(self, name: str, samples: np.ndarray, rate: int) -> str:
        path = self.folder / name
        sf.write(path, samples, rate, subtype="PCM_24")
        return str(path)

    def run_main(self, *arguments: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            status = main(list(arguments))
        return status, out.getvalue(), err.getvalue()

    def path(self, name: str) -> str:
        return str(self.folder / name)


class AnalyseTest(CliTest):
    FIELDS = (
        "version",
        "analysis_version",
        "file",
        "duration_s",
        "sample_rate_hz",
        "bpm",
        "beat_unit",
        "steady",
        "meters",
        "beats",
        "downbeats",
        "bars",
        "onsets",
    )

    def test_json_holds_every_field_of_the_contract(self) -> None:
        status, out, err = self.run_main("analyse", self.file, "--json", "-")
        self.assertEqual((status, err), (0, ""))
        document = json.loads(out)
        for name in self.FIELDS:
            self.assertIn(name, document)
        self.assertEqual(
            set(document["steady"]) >= {"bpm", "first_downbeat_s", "drift_end_ms", "candidates"}, True
        )
        self.assertEqual(set(document["bars"][0]) >= {"bar", "start_s", "bpm", "meter", "confidence"}, True)
        self.assertEqual(set(document["onsets"][0]), {"time_s", "strength", "confidence"})
        self.assertEqual((document["beat_unit"], document["meters"][0]["meter"]), ("1/4", "4/4"))
        self.assertGreater(document["tempo_confidence"], 0.5)
        self.assertTrue(0 < document["meters"][0]["confidence"] <= 1)
        for time in (*document["beats"], document["duration_s"]):
            self.assertEqual(time, round(time, 6))

    def test_midi_csv_and_hints(self) -> None:
        moment = float(self.beats[4]) + 0.03
        status, _, err = self.run_main(
            "analyse",
            self.file,
            "--json",
            self.path("a.json"),
            "--midi",
            self.path("a.mid"),
            "--csv",
            self.path("a.csv"),
            "--bar",
            f"{moment}=1",
        )
        self.assertEqual((status, err), (0, ""))
        document = json.loads((self.folder / "a.json").read_text())
        bars = {bar["bar"]: bar["start_s"] for bar in document["bars"]}
        self.assertAlmostEqual(bars[1], float(self.beats[4]), delta=0.002)
        line = read_map(self.folder / "a.mid")
        for number in (1, 2, 5):
            self.assertAlmostEqual(line.second(line.bar_line(number - 1)), bars[number], delta=0.0002)
        rows = (self.folder / "a.csv").read_text().splitlines()
        self.assertTrue(rows[0].startswith("bar,start_s,bpm,meter,confidence"))
        self.assertEqual(len(rows) - 1, len(document["bars"]))

    def test_the_line_that_is_printed_names_every_meter(self) -> None:
        status, out, _ = self.run_main(
            "analyse",
            self.file,
            "--bar",
            f"{self.beats[0]}=1",
            "--meter",
            "4/4",
            "--meter",
            f"{self.beats[16]}=3/4",
        )
        self.assertEqual(status, 0)
        self.assertRegex(
            out,
            r"^tub kit\.wav: \d+\.\d\d BPM, [a-z ]+, 4/4, 3/4 from bar 5, bar 1 at 1\.\d+ s, \d+ "
            r"bars, \d+ onsets\n",
        )

    def test_silence_is_an_answer(self) -> None:
        silent = self.write("silent.wav", np.zeros(44100), 44100)
        status, out, _ = self.run_main("analyse", silent, "--json", "-")
        document = json.loads(out)
        self.assertEqual((status, document["bpm"], document["bars"], document["onsets"]), (0, None, [], []))


class FitTest(CliTest):
    def test_onto_the_map_of_another_file(self) -> None:
        rng = np.random.default_rng(5)
        played = self.beats + rng.uniform(-0.025, 0.025, len(self.beats))
        loose = self.write("loose.wav", struck(played, float(played[-1]) + 1).samples.T, 44100)
        self.run_main("analyse", self.file, "--json", self.path("a.json"), "--midi", self.path("a.mid"))
        document = json.loads((self.folder / "a.json").read_text())
        first = next(bar["start_s"] for bar in document["bars"] if bar["bar"] == 1)
        lines = np.array(document["beats"])
        for name in ("a.json", "a.mid"):
            status, _, err = self.run_main(
                "fit",
                loose,
                "-o",
                self.path("out.wav"),
                "--map",
                self.path(name),
                "--grid",
                "1/4",
                "--bar",
                f"{first}=1",
                "--report",
                self.path("r.json"),
            )
            self.assertEqual((status, err), (0, ""))
            samples, rate = sf.read(self.path("out.wav"))
            starts = attack_starts(samples, rate)
            off = np.min(np.abs(starts[:, None] - lines[None, :]), axis=1)
            with self.subTest(map=name):
                self.assertGreater(len(starts), 28)
                self.assertLess(float(np.quantile(off, 0.9)), 0.002)
        report = json.loads((self.folder / "r.json").read_text())
        self.assertGreater(len(report["pegs"]), 20)
        *segments, end = report["segments"]
        self.assertTrue(all(segment["factor"] > 0 for segment in segments))
        self.assertIsNone(end["factor"])
        # What a report says can be given to `stretch`: the same sound comes out.
        status, _, err = self.run_main(
            "stretch",
            loose,
            "--points",
            self.path("r.json"),
            "-o",
            self.path("again.wav"),
            "--method",
            report["method"],
        )
        self.assertEqual((status, err), (0, ""))
        np.testing.assert_array_equal(sf.read(self.path("again.wav"))[0], sf.read(self.path("out.wav"))[0])

    def test_a_report_that_is_none_is_named(self) -> None:
        for text in (
            "{}",
            '{"segments": [{"source_s": 1}]}',
            '{"segments": [{"source_s": 0.5, "target_s": 0}, {"source_s": 1, "target_s": 2}]}',
        ):
            (self.folder / "bad.json").write_text(text)
            status, _, err = self.run_main(
                "stretch", self.file, "--points", self.path("bad.json"), "-o", self.path("x.wav")
            )
            self.assertEqual(status, 2)
            self.assertIn("bad.json", err)

    def test_a_loop_of_two_bars_has_the_frames_of_two_bars(self) -> None:
        for rate in (44100, 48000):
            loop = self.write(f"two bars loop {rate}.wav", eighths(rate=rate).samples.T, rate)
            for bpm in (100, 87.31, 133):
                status, _, err = self.run_main(
                    "fit", loop, "-o", self.path("out.wav"), "--bpm", str(bpm), "--first-downbeat", "0"
                )
                self.assertEqual((status, err), (0, ""))
                with self.subTest(rate=rate, bpm=bpm):
                    self.assertEqual(sf.info(self.path("out.wav")).frames, round(8 * 60 / bpm * rate))

    def test_onto_a_steady_tempo_with_bar_1_where_it_is_wanted(self) -> None:
        status, _, err = self.run_main(
            "fit",
            self.file,
            "-o",
            self.path("out.wav"),
            "--bpm",
            "100",
            "--first-downbeat",
            "0.5",
            "--grid",
            "1/4",
        )
        self.assertEqual((status, err), (0, ""))
        samples, rate = sf.read(self.path("out.wav"))
        starts = attack_starts(samples, rate)
        np.testing.assert_allclose(starts[:16], 0.5 + 0.6 * np.arange(16), atol=0.003)

    def test_own_pace_moves_only_what_the_rule_moves(self) -> None:
        self.run_main(
            "fit", self.file, "-o", self.path("out.wav"), "--own", "--grid", "1/4", "--leave-alone-ms", "40"
        )
        before, after = sf.read(self.file)[0], sf.read(self.path("out.wav"))[0]
        self.assertEqual(len(before), len(after))
        np.testing.assert_allclose(after, before, atol=1e-5)

    def test_rules_of_some_bars_count_in_them_and_nowhere_else(self) -> None:
        beats = 0.5 + 0.6 * np.arange(32) + np.random.default_rng(4).uniform(-0.02, 0.02, 32)
        loose = self.path("loose.wav")
        sf.write(loose, struck(beats, float(beats[-1]) + 1.0, low_every=4).samples.T, 44100)
        to = ("--bpm", "100", "--first-downbeat", "0.5", "--grid", "1/4", "--leave-alone-ms", "0")
        lies = {}
        for name, more in (
            ("whole", ()),
            ("some", ("--rule", "3-4: strength=0", "--rule", "4: strength=50")),
            ("none", ("--strength", "0")),
            ("half", ("--strength", "50")),
        ):
            status, _, err = self.run_main("fit", loose, "-o", self.path(f"{name}.wav"), *to, *more)
            self.assertEqual((status, err), (0, ""))
            lies[name] = attack_starts(*sf.read(self.path(f"{name}.wav")))[:16]
        lines = 0.5 + 0.6 * np.arange(16)
        self.assertGreater(np.abs(lies["none"] - lines).max(), 0.005)
        np.testing.assert_allclose(lies["some"][:8], lies["whole"][:8], atol=0.0005)
        np.testing.assert_allclose(lies["some"][8:12], lies["none"][8:12], atol=0.0015)
        np.testing.assert_allclose(lies["some"][12:16], lies["half"][12:16], atol=0.0015)

    def test_rules_that_no_bars_can_have_write_nothing(self) -> None:
        for rule, words in (
            ("0: strength=1", "no bar 0"),
            ("4-3: strength=1", "run backwards"),
            ("2-900: strength=1", "beyond the take"),
            ("900: strength=1", "beyond the take"),
            ("strength=85", "--rule takes bars"),
            ("2: volume=1", "no “volume”"),
            ("2: strength=120", "Strength lies between 0 and 100 %"),
        ):
            with self.subTest(rule=rule):
                status, _, err = self.run_main(
                    "fit", self.file, "-o", self.path("out.wav"), "--own", "--rule", rule
                )
                self.assertEqual(status, 2)
                self.assertIn(words, err)
                self.assertIn("Nothing was written.", err)
                self.assertFalse((self.folder / "out.wav").exists())


class StretchTest(CliTest):
    def test_length_and_places(self) -> None:
        duration = sf.info(self.file).duration
        (self.folder / "p.csv").write_text(
            f"0,0\n{self.beats[4]},{self.beats[4] + 0.1}\n{duration},{duration * 1.1}\n"
        )
        status, _, err = self.run_main(
            "stretch",
            self.file,
            "--points",
            self.path("p.csv"),
            "-o",
            self.path("out.wav"),
            "--method",
            "chord",
        )
        self.assertEqual((status, err), (0, ""))
        self.assertEqual(sf.info(self.path("out.wav")).frames, round(duration * 1.1 * 44100))
        starts = attack_starts(*sf.read(self.path("out.wav")))
        self.assertLess(float(np.min(np.abs(starts - self.beats[4] - 0.1))), 0.001)

    def test_mics_of_one_performance_keep_their_phase_and_it_is_said_why(self) -> None:
        samples, rate = sf.read(self.file, dtype="float32")
        late = 37
        sf.write(
            self.path("far.wav"),
            np.concatenate([np.zeros(late, np.float32), samples[:-late]]),
            rate,
            subtype="FLOAT",
        )
        duration = len(samples) / rate
        (self.folder / "p.csv").write_text(
            f"0,0\n{self.beats[4]},{self.beats[4] + 0.05}\n{duration},{duration * 1.05}\n"
        )
        status, said, err = self.run_main(
            "stretch",
            self.file,
            self.path("far.wav"),
            "--points",
            self.path("p.csv"),
            "-o",
            self.path("both"),
        )
        self.assertEqual((status, err), (0, ""))
        self.assertRegex(said, r"\((Cut|Strike|Chord|Line)\)\.")
        near, far = (
            sf.read(self.path(f"both/{Path(name).stem}.wav"), dtype="float32")[0]
            for name in (self.file, "far.wav")
        )
        self.assertEqual(len(near), round(duration * 1.05 * rate))
        both = np.fft.irfft(np.fft.rfft(far, 2 * len(far)) * np.conj(np.fft.rfft(near, 2 * len(near))))
        self.assertEqual(int(np.argmax(both)), late)

    def test_several_files_are_not_written_over_themselves_nor_over_each_other(self) -> None:
        (self.folder / "p.csv").write_text("0,0\n1,1\n")
        before = Path(self.file).read_bytes()
        for given, out in (
            ((self.file, self.file), "both"),
            ((self.file, self.path("x/" + Path(self.file).name)), "."),
            ((self.file, self.file), "p.csv"),
        ):
            with self.subTest(out=out):
                status, _, err = self.run_main(
                    "stretch", *given, "--points", self.path("p.csv"), "-o", self.path(out)
                )
                self.assertEqual((status, err.count("\n")), (2, 1))
        self.assertEqual(Path(self.file).read_bytes(), before)


class RefusalTest(CliTest):
    def test_one_clear_line_and_status_2(self) -> None:
        bad = self.folder / "bad.wav"
        bad.write_text("no sound")
        (self.folder / "p.csv").write_text("0,0\n1,x\n")
        out = ("-o", self.path("out.wav"))
        for arguments in (
            ("analyse", self.path("nowhere.wav")),
            ("analyse", str(bad)),
            ("analyse", self.file, "--bar", "soon"),
            ("analyse", self.file, "--bar", "1=0"),
            ("analyse", self.file, "--downbeat", "9999"),
            ("analyse", self.file, "--meter", "4/5"),
            ("analyse", self.file, "--bpm-range", "fast"),
            ("fit", self.file, *out),
            ("fit", self.file, *out, "--bpm", "120"),
            ("fit", self.file, *out, "--own", "--method", "magic"),
            ("fit", self.file, *out, "--own", "--grid", "1/5"),
            ("fit", self.file, *out, "--map", str(bad)),
            ("fit", self.file, "-o", self.path("no/where.wav"), "--own"),
            ("stretch", self.file, *out, "--points", self.path("p.csv")),
            ("dance",),
        ):
            with self.subTest(arguments=arguments):
                status, _, err = self.run_main(*arguments)
                self.assertEqual(status, 2)
                self.assertEqual(err.count("\n"), 1, err)
                self.assertNotIn("Traceback", err)
        self.assertFalse((self.folder / "out.wav").exists())


class MeasureTest(CliTest):
    FIELDS = (
        "from_s",
        "to_s",
        "bars",
        "beats_per_bar",
        "bpm",
        "plus_minus_bpm",
        "seam",
        "proposal",
        "candidates",
    )

    def steady_beat(self) -> str:
        audio = struck(0.5 + 0.5 * np.arange(40), 21.0, low_every=4)
        return self.write("beat 120bpm.wav", audio.samples.T, audio.sample_rate_hz)

    def test_a_rough_range_is_caught_counted_and_rounded(self) -> None:
        status, out, _ = self.run_main("measure", self.steady_beat(), "--range", "4.46-8.57", "--json", "-")
        self.assertEqual(status, 0)
        found = json.loads(out)
        self.assertTrue(set(self.FIELDS) <= set(found))
        self.assertEqual((found["bars"], found["beats_per_bar"], found["proposal"]["bpm"]), (2, 4, 120.0))
        self.assertAlmostEqual(found["from_s"], 4.5, delta=0.002)
        self.assertAlmostEqual(found["to_s"], 8.5, delta=0.002)
        self.assertAlmostEqual(found["bpm"], 120.0, delta=0.05)
        self.assertLess(abs(found["proposal"]["end_offset_ms"]), 2.0)
        self.assertTrue(found["seam"]["clean"])

    def test_the_whole_file_is_not_caught_and_bars_may_be_stated(self) -> None:
        status, out, _ = self.run_main(
            "measure", self.steady_beat(), "--whole", "--bars", "10", "--json", "-"
        )
        found = json.loads(out)
        self.assertEqual((status, found["from_s"], found["to_s"], found["bars"]), (0, 0.0, 21.0, 10))
        self.assertAlmostEqual(found["bpm"], 60 * 40 / 21, places=3)
        status, out, _ = self.run_main("measure", self.steady_beat(), "--whole", "--bars", "10")
        self.assertIn("From 0:00.000 to 0:21.000 are 10 bars", out)

    def test_what_holds_no_whole_bars_says_so(self) -> None:
        status, out, _ = self.run_main("measure", self.steady_beat(), "--range", "4.5-7.5")
        self.assertEqual(status, 0)
        self.assertRegex(
            out,
            r"^1\.5 bars of 120: .* is no whole number of bars.* Move the end to the next bar line, 0:0\d",
        )
        self.assertNotIn(
            "move an edge", self.run_main("measure", self.steady_beat(), "--range", "4.5-8.5")[1]
        )

    def test_what_is_no_range_is_refused_in_one_line(self) -> None:
        file = self.steady_beat()
        for more in (
            ["--range", "3"],
            ["--range", "8-4"],
            ["--range", "4-90"],
            ["--whole", "--bars", "0"],
            [],
        ):
            status, out, err = self.run_main("measure", file, *more)
            self.assertEqual((status, out, err.count("\n")), (2, "", 1), more)

    def test_readings_and_what_the_file_states(self) -> None:
        status, out, _ = self.run_main("analyse", self.steady_beat(), "--json", "-")
        found = json.loads(out)
        self.assertEqual((status, found["stated_bpm"], found["audible_from_bar"]), (0, 120.0, None))
        self.assertIn("encoder_delay_s", found)
        first = found["readings"][0]
        self.assertEqual((first["rank"], first["meter"]), (1, found["meters"][0]["meter"]))
        self.assertEqual(first["beats"], found["beats"])
        self.assertFalse(found["steady"]["played"])
        status, _, err = self.run_main("analyse", self.steady_beat(), "--reading", "99")
        self.assertEqual(status, 2)
        self.assertIn("no reading 99", err)


class CountHintsTest(CliTest):
    def test_bars_are_put_right_as_a_whole(self) -> None:
        beats, audio = breathing(bars=10)
        take = self.write("tub kit.wav", audio.samples.T, audio.sample_rate_hz)

        def heard(*more: str) -> dict[str, Any]:
            status, out, said = self.run_main("analyse", take, "--json", "-", *more)
            self.assertEqual(status, 0, said)
            found: dict[str, Any] = json.loads(out)
            return found

        plain = heard()
        later = heard("--one-beat", "later")
        np.testing.assert_allclose(later["downbeats"][:5], plain["beats"][1:21:4], atol=1e-5)
        self.assertEqual(
            heard("--one-beat", "later", "--one-beat", "earlier")["downbeats"], plain["downbeats"]
        )
        held = heard("--pickup", f"{beats[2]:.3f}")
        self.assertAlmostEqual(
            next(bar["start_s"] for bar in held["bars"] if bar["bar"] == 1), plain["downbeats"][1], places=5
        )
        changed = heard("--meter-at-bar", "5=3/4")
        self.assertEqual([(one["bar"], one["meter"]) for one in changed["meters"]], [(1, "4/4"), (5, "3/4")])
        self.assertEqual(changed["beats"], plain["beats"])
        for bad in (
            ("--meter-at-bar", "5:3/4"),
            ("--meter-at-bar", "0=3/4"),
            ("--pickup", "900"),
            ("--one-beat", "sooner"),
        ):
            status, _, said = self.run_main("analyse", take, *bad)
            self.assertEqual((status, said.count("\n")), (2, 1), bad)


class MapsTest(CliTest):
    def test_a_map_goes_through_all_forms_and_is_tidied(self) -> None:
        _, audio = breathing(bars=10)
        take = self.write("tub kit.wav", audio.samples.T, audio.sample_rate_hz)
        self.run_main("analyse", take, "--json", str(self.folder / "map.json"))
        for form in ("map.mid", "map.csv", "map.txt", "again.json"):
            status, out, _ = self.run_main(
                "convert", str(self.folder / "map.json"), "-o", str(self.folder / form)
            )
            self.assertEqual(status, 0)
            self.assertIn("bar 1 at", out)
        status, out, _ = self.run_main(
            "tidy", str(self.folder / "map.json"), "-o", str(self.folder / "tidy.mid"), "--within-ms", "15"
        )
        self.assertEqual(status, 0)
        self.assertRegex(out, r"tempo changes became \d+, every bar line within 1?\d\.\d ms")
        # What was tidied fits audio like any map.
        status, out, _ = self.run_main(
            "fit",
            take,
            "-o",
            str(self.folder / "fitted.wav"),
            "--map",
            str(self.folder / "tidy.mid"),
            "--grid",
            "1/4",
        )
        self.assertEqual(status, 0)

    def test_what_is_no_map_writes_nothing(self) -> None:
        (self.folder / "bad.csv").write_text("0.5\n0.4\n")
        for arguments in (
            ("convert", "bad.csv", "out.mid"),
            ("tidy", "bad.csv", "out.mid"),
            ("convert", "none.json", "out.mid"),
        ):
            status, _, said = self.run_main(
                arguments[0], str(self.folder / arguments[1]), "-o", str(self.folder / arguments[2])
            )
            self.assertEqual((status, said.count("\n")), (2, 1))
            self.assertFalse((self.folder / "out.mid").exists())


class OnsetsTest(CliTest):
    def test_marks_by_strength_distance_and_grid(self) -> None:
        audio = struck(0.5 + 0.25 * np.arange(40), 11.0, low_every=2)
        take = self.write("beat.wav", audio.samples.T, audio.sample_rate_hz)

        def marks(*more: str) -> list[float]:
            status, out, said = self.run_main("onsets", take, "--json", "-", *more)
            self.assertEqual(status, 0, said)
            return [one["time_s"] for one in json.loads(out)["files"][0]["onsets"]]

        self.assertEqual(len(marks()), 40)
        np.testing.assert_allclose(
            marks("--band", "low", "--threshold", "0.5"), 0.5 + 0.5 * np.arange(20), atol=0.003
        )
        self.assertEqual(len(marks("--apart-ms", "300")), 20)
        (self.folder / "map.csv").write_text("".join(f"{0.5 + k},{k + 1}\n" for k in range(10)))
        np.testing.assert_allclose(
            marks("--on", "bars", "--map", str(self.folder / "map.csv")),
            0.5 + np.arange(11)[: len(marks("--on", "bars", "--map", str(self.folder / "map.csv")))],
            atol=0.003,
        )
        for bad in (("--on", "1/7"), ("--threshold", "3"), ("--map", "none.csv", "--on", "bars")):
            self.assertEqual(self.run_main("onsets", take, *bad)[0], 2)

    def test_takes_above_each_other_widest_apart_first(self) -> None:
        beats = 0.5 + 0.5 * np.arange(20)
        late = beats.copy()
        late[7] += 0.04
        paths = [
            self.write(name, (audio := struck(times, 11.0)).samples.T, audio.sample_rate_hz)
            for name, times in (("a.wav", beats), ("b.wav", late))
        ]
        (self.folder / "beats.csv").write_text("".join(f"{time}\n" for time in beats))
        status, out, said = self.run_main(
            "stack", *paths, "--on", "1/8", "--map", str(self.folder / "beats.csv"), "--json", "-"
        )
        self.assertEqual(status, 0, said)
        found = json.loads(out)
        self.assertEqual((found["files"], len(found["notes"])), (["a.wav", "b.wav"], 20))
        self.assertAlmostEqual(found["notes"][0]["spread_ms"], 40.0, delta=1.0)
        self.assertAlmostEqual(found["notes"][0]["time_s"], float(beats[7]), delta=1e-6)
        self.assertLess(found["notes"][1]["spread_ms"], 2.0)
        self.assertEqual(self.run_main("stack", paths[0])[0], 2)
        self.assertEqual(self.run_main("stack", *paths, "--on", "1/7")[0], 2)


class GrooveTest(CliTest):
    # Seconds late of the eighths of a bar at 120 BPM; beat 1 is never late, a low stroke opens each bar.
    LATE = np.array([0.0, 0.028, 0.0, 0.022, -0.012, 0.03, 0.0, 0.026])

    def played(self, name: str, late: np.ndarray, bars: int = 8, start: float = 1.0) -> str:
        times = start + np.concatenate([2.0 * bar + 0.25 * np.arange(8) + late for bar in range(bars)])
        audio = struck(times, start + 2.0 * bars + 1.0, low_every=8)
        return self.write(name, audio.samples.T, audio.sample_rate_hz)

    def test_known_lateness_comes_back_and_is_laid_on_other_audio(self) -> None:
        path, out = self.played("yard.wav", self.LATE), self.folder / "yard shuffle.json"
        against = ("--bpm", "120", "--first-downbeat", "1.0")
        status, said, wrong = self.run_main(
            "groove", path, "--bars", "3-6", "--grid", "1/8", *against, "-o", str(out)
        )
        self.assertEqual(status, 0, wrong)
        self.assertIn("1/8, 1 bar of 4 quarters, by up to +30 ms", said)
        made = json.loads(out.read_text())
        self.assertEqual((made["name"], made["grid"], made["bar_quarters"]), ("yard shuffle", "1/8", 4.0))
        np.testing.assert_allclose([one["late_ms"] for one in made["bars"][0]], 1000 * self.LATE, atol=1.0)
        self.assertEqual([one["struck"] for one in made["bars"][0]], [4] * 8)
        # Even eighths, pulled onto it: within 1 ms of where they were in the yard.
        even, fitted = self.played("even.wav", np.zeros(8)), self.folder / "fitted.wav"
        report = self.folder / "report.json"
        status, _, wrong = self.run_main(
            "fit", even, *against, "--groove", str(out), "-o", str(fitted), "--report", str(report)
        )
        self.assertEqual(status, 0, wrong)
        pegs = json.loads(report.read_text())["pegs"]
        self.assertEqual(len(pegs), 64)
        off = [(peg["target_s"] - 0.9) % 2.0 - 0.1 - 0.25 * (k % 8) for k, peg in enumerate(pegs)]
        np.testing.assert_allclose(off, np.tile(self.LATE, 8), atol=0.001)
        samples, rate = sf.read(fitted, always_2d=True)
        wanted = 1.0 + np.concatenate([2.0 * bar + 0.25 * np.arange(8) + self.LATE for bar in range(8)])
        off = np.abs(attack_starts(samples.T, rate) - wanted)
        # One mark in the even bars lies 2 ms beside its stroke.
        self.assertLess(float(np.sort(off)[-2]), 0.001)
        self.assertLess(float(off.max()), 0.003)
        # Its accents as level: the report says them, and the file is as much louder there.
        groove = json.loads(out.read_text())
        groove["bars"][0][2]["accent_db"] = 4.0
        out.write_text(json.dumps(groove))
        accented = self.folder / "accented.wav"
        given = ("--groove", str(out), "--accent", "100", "-o", str(accented), "--report", str(report))
        self.assertEqual(self.run_main("fit", even, *against, *given)[0], 0)
        said = json.loads(report.read_text())
        levels = said["levels"]
        self.assertEqual((len(levels), levels[2]["db"]), (64, 4.0))
        louder, _ = sf.read(accented, always_2d=True)
        at = round(levels[2]["target_s"] * rate)
        np.testing.assert_allclose(
            louder[at : at + 500], samples[at : at + 500] * 10 ** ((4.0 + said["lowered_db"]) / 20), atol=1e-3
        )
        self.assertNotEqual(
            self.run_main("fit", even, *against, "--grid", "1/8", "--accent", "50", "-o", str(accented))[0], 0
        )

    def test_on_the_bars_it_came_from_nothing_moves(self) -> None:
        path, out, report = (
            self.played("yard.wav", self.LATE),
            self.folder / "own.json",
            self.folder / "report.json",
        )
        self.assertEqual(self.run_main("groove", path, "--bars", "3", "--grid", "1/8", "-o", str(out))[0], 0)
        fitted = str(self.folder / "f.wav")
        status, _, wrong = self.run_main(
            "fit", path, "--own", "--bars", "3", "--groove", str(out), "-o", fitted, "--report", str(report)
        )
        self.assertEqual(status, 0, wrong)
        document = json.loads(report.read_text())
        self.assertEqual(len([peg for peg in document["pegs"] if peg["kind"] == "pulled"]), 8)
        self.assertLessEqual(document["largest_move_ms"], 0.1)

    def test_what_is_no_groove_and_what_does_not_go_together(self) -> None:
        path, out = self.played("yard.wav", self.LATE, bars=4), str(self.folder / "g.json")
        fit_to = ("fit", path, "--own", "-o", str(self.folder / "f.wav"))
        (self.folder / "no.json").write_text("[1, 2")
        (self.folder / "other.json").write_text('{"kind": "map"}')
        for arguments in (
            ("groove", path, "--bars", "0", "-o", out),
            ("groove", path, "--bars", "90-91", "-o", out),
            ("groove", path, "--bars", "1-3", "--pattern", "2", "-o", out),
            ("groove", path, "--bars", "1", "--bpm", "120", "-o", out),
            ("groove", path, "--bars", "1", "--grid", "1/7", "-o", out),
            (*fit_to, "--groove", str(self.folder / "no.json")),
            (*fit_to, "--groove", str(self.folder / "other.json")),
            (*fit_to, "--groove", str(self.folder / "none.json")),
            (*fit_to, "--groove", str(self.folder / "no.json"), "--grid", "1/8"),
        ):
            with self.subTest(arguments=arguments):
                status, _, wrong = self.run_main(*arguments)
                self.assertEqual((status, wrong.count("\n")), (2, 1), wrong)
        self.assertFalse(Path(out).exists())


class PartTest(CliTest):
    def setUp(self) -> None:
        super().setUp()
        self.lines = np.array([0.5, 2.5, 4.9, 6.8, 9.0])
        (self.folder / "map.csv").write_text(
            "".join(f"{line},{k + 1}\n" for k, line in enumerate(self.lines))
        )
        file = mido.MidiFile(type=1, ticks_per_beat=480)
        sticks = mido.MidiTrack([mido.MetaMessage("track_name", name="sticks")])
        reed = mido.MidiTrack(
            [mido.MetaMessage("track_name", name="reed"), mido.Message("program_change", program=20)]
        )
        for k in range(4):
            sticks += [
                mido.Message(
                    "note_on",
                    channel=9,
                    note=38,
                    velocity=60 + 10 * k,
                    time=0 if k == 0 else 360 + (30 if k == 2 else 0),
                )
            ]
            sticks += [mido.Message("note_off", channel=9, note=38, time=120 - (30 if k == 2 else 0))]
            reed += [
                mido.Message("note_on", note=60 + k, velocity=90, time=0 if k == 0 else 240),
                mido.Message("note_off", note=60 + k, time=240),
            ]
        file.tracks += [sticks, reed]
        self.tune = self.folder / "yard tune.mid"
        file.save(self.tune)

    def part(self, out: str, *more: str) -> tuple[int, str, str]:
        return self.run_main("part", str(self.tune), "-o", str(self.folder / out), *more)

    def test_laid_on_a_breathing_map_repeated_and_pulled(self) -> None:
        status, said, wrong = self.part(
            "out.mid",
            "--map",
            str(self.folder / "map.csv"),
            "--from-bar",
            "2",
            "--until-bar",
            "4",
            "--grid",
            "1/4",
        )
        self.assertEqual(status, 0, wrong)
        self.assertIn("2 parts, 16 notes", said)
        found, now = [], 0.0
        for message in mido.MidiFile(self.folder / "out.mid"):
            now += message.time
            if message.type == "note_on" and message.velocity and message.channel == 9:
                found.append(now)
        wanted = np.concatenate([self.lines[k] + np.diff(self.lines)[k] * np.arange(4) / 4 for k in (1, 2)])
        np.testing.assert_allclose(found, wanted, atol=0.0003)

    def test_as_sound_and_one_part_only(self) -> None:
        self.assertEqual(
            self.part("out.wav", "--map", str(self.folder / "map.csv"), "--only", "sticks")[0], 0
        )
        samples, rate = sf.read(self.folder / "out.wav")
        starts = attack_starts(samples / np.abs(samples).max(), rate)
        np.testing.assert_allclose(starts, 0.5 + np.array([0.0, 0.5, 1.0 + 30 / 480 * 0.5, 1.5]), atol=0.002)

    def test_a_groove_of_notes_is_exact_and_laid_on_notes(self) -> None:
        groove = str(self.folder / "g.json")
        status, _, wrong = self.run_main(
            "groove", str(self.tune), "--only", "sticks", "--bars", "1", "--grid", "1/4", "-o", groove
        )
        self.assertEqual(status, 0, wrong)
        (row,) = json.loads(Path(groove).read_text())["bars"]
        np.testing.assert_allclose([one["late"] for one in row], [0, 0, 30 / 480, 0], atol=1e-9)
        self.assertEqual(self.part("g.mid", "--only", "reed", "--groove", groove)[0], 0)
        ticks, now = [], 0
        for message in mido.MidiFile(self.folder / "g.mid").tracks[1]:
            now += message.time
            if message.type == "note_on" and message.velocity:
                ticks.append(now)
        self.assertEqual(ticks, [0, 960, 1920 + 60, 2880])

    def test_what_cannot_be_is_refused(self) -> None:
        (self.folder / "bad.mid").write_bytes(b"MThd....")
        for arguments in (
            ("part", str(self.folder / "bad.mid"), "-o", str(self.folder / "o.mid")),
            ("part", str(self.tune), "-o", str(self.folder / "o.txt")),
            ("part", str(self.tune), "-o", str(self.folder / "o.mid"), "--only", "pipe"),
            ("part", str(self.tune), "-o", str(self.folder / "o.mid"), "--times", "0"),
            ("part", str(self.tune), "-o", str(self.folder / "o.mid"), "--from-bar", "3", "--until-bar", "3"),
            ("part", str(self.tune), "-o", str(self.folder / "o.mid"), "--grid", "1/8", "--groove", "x.json"),
            ("part", str(self.tune), "-o", str(self.folder / "o.mid"), "--map", "none.mid"),
        ):
            with self.subTest(arguments=arguments[3:]):
                status, _, wrong = self.run_main(*arguments)
                self.assertEqual((status, wrong.count("\n")), (2, 1), wrong)


class CutTest(CliTest):
    """A two-bar loop at 96 with separate strokes, loosely played."""

    def setUp(self) -> None:
        super().setUp()
        quarter = 60.0 / 96
        self.places = np.arange(16) * 0.5
        self.times = self.places * quarter + np.random.default_rng(4).uniform(-0.012, 0.012, 16)
        self.times[0] = 0.02
        audio = struck(self.times, 8 * quarter, low_every=8)
        self.samples, self.rate = audio.samples[0], audio.sample_rate_hz
        self.loop = self.write("yard loop.wav", audio.samples.T, self.rate)
        self.heard = ("--at", "onsets", "--from-bpm", "96")

    def test_cut_at_its_onsets_and_laid_at_another_tempo(self) -> None:
        out = self.folder / "laid.wav"
        status, said, wrong = self.run_main(
            "cut", self.loop, "-o", str(out), *self.heard, "--lay", "1/8", "--bpm", "120"
        )
        self.assertEqual(status, 0, wrong)
        self.assertIn("17 pieces", said)
        samples, rate = sf.read(out)
        starts = attack_starts(samples, rate)
        lead = starts[0] - 0.0
        # On its place, a quarter being half a second; the lead-in before the first stroke comes first.
        np.testing.assert_allclose(starts - lead, self.places * 0.5, atol=0.001)
        # Untouched inside: what follows a stroke is the source, bit for bit (24 bits both).
        source = sf.read(self.loop)[0]
        at, own = round(starts[5] * rate), round(self.times[5] * rate)
        shift = max(
            range(-60, 61),
            key=lambda k: float(np.dot(samples[at : at + 2000], source[own + k : own + k + 2000])),
        )
        np.testing.assert_array_equal(
            samples[at + 100 : at + 6000], source[own + shift + 100 : own + shift + 6000]
        )

    def test_written_one_by_one_they_are_the_file(self) -> None:
        folder = self.folder / "pieces"
        self.assertEqual(self.run_main("cut", self.loop, "-o", str(folder), *self.heard)[0], 0)
        listed = json.loads((folder / "yard loop pieces.json").read_text())["pieces"]
        self.assertEqual(len(listed), 17)
        joined = np.concatenate([sf.read(folder / one["file"])[0] for one in listed])
        np.testing.assert_array_equal(joined, sf.read(self.loop)[0])
        for one in listed:
            self.assertEqual(len(sf.read(folder / one["file"])[0]), one["stop_frame"] - one["start_frame"])

    def test_on_a_grid_and_back_where_it_was(self) -> None:
        out = self.folder / "back.wav"
        self.assertEqual(self.run_main("cut", self.loop, "-o", str(out), "--at", "1/4", "--bars", "2")[0], 0)
        samples, source = sf.read(out)[0], sf.read(self.loop)[0]
        np.testing.assert_array_equal(samples[:-300], source[:-300])
        # Its points and its loop, read by hand.
        data = out.read_bytes()
        at = data.index(b"cue ")
        count = int.from_bytes(data[at + 8 : at + 12], "little")
        frames = [
            int.from_bytes(data[at + 12 + 24 * k + 20 : at + 12 + 24 * k + 24], "little")
            for k in range(count)
        ]
        self.assertEqual(count, 8)
        np.testing.assert_allclose(frames, np.arange(8) * 60 / 96 * self.rate, atol=0.001 * self.rate + 1)
        at = data.index(b"smpl")
        self.assertEqual(
            int.from_bytes(data[at + 8 + 36 + 12 : at + 8 + 36 + 16], "little"), len(samples) - 1
        )
        self.assertEqual(int.from_bytes(data[4:8], "little"), len(data) - 8)

    def test_what_cannot_be_is_refused(self) -> None:
        out = self.folder / "no.wav"
        for more in (("--at", "1/7"), ("--at", "onsets", "--lay", "1/8"), ("--at", "1/8", "--bars", "0"),
        ("--at", "onsets", "--fade-ms", "9000"),
                     ("--at", "1/8", "--map", "none.mid"), ("--at", "onsets", "--from-bpm", "96", "--lay",
                     "1/8", "--bpm", "-1")):  # fmt: skip
            with self.subTest(more=more):
                status, _, wrong = self.run_main("cut", self.loop, "-o", str(out), *more)
                self.assertEqual((status, wrong.count("\n")), (2, 1), wrong)
        self.assertFalse(out.exists())


class FollowTest(CliTest):
    def setUp(self) -> None:
        super().setUp()
        # A loop of one bar at 120 BPM; a map whose bars last 2, 2.4, 1.9 and 2.2 s, from half a second on.
        self.loop = self.write(
            "pipe loop.wav",
            (audio := struck([0.0, 0.5, 1.0, 1.5], 2.0, low_every=4)).samples.T,
            audio.sample_rate_hz,
        )
        self.lines = np.array([0.5, 2.5, 4.9, 6.8, 9.0])
        (self.folder / "map.csv").write_text(
            "".join(f"{line},{k + 1}\n" for k, line in enumerate(self.lines))
        )
        self.out = self.folder / "followed.wav"

    def follow(self, *more: str) -> tuple[int, str]:
        status, _, said = self.run_main(
            "follow", self.loop, "-o", str(self.out), "--map", str(self.folder / "map.csv"), *more
        )
        return status, said

    def test_four_times_over_a_breathing_map(self) -> None:
        status, said = self.follow("--bars", "1", "--times", "4")
        self.assertEqual(status, 0, said)
        samples, rate = sf.read(self.out)
        self.assertEqual(len(samples), round(9.0 * rate))
        self.assertEqual(float(np.abs(samples[: round(0.49 * rate)]).max()), 0.0)
        starts = attack_starts(samples, rate)
        self.assertEqual(len(starts), 16)
        np.testing.assert_allclose(starts[::4], self.lines[:4], atol=1.5 / rate + 0.0015)

    def test_from_a_bar_until_a_bar_by_its_own_tempo(self) -> None:
        self.assertEqual(self.follow("--from-bpm", "119.7", "--from-bar", "2", "--until-bar", "4")[0], 0)
        samples, rate = sf.read(self.out)
        self.assertEqual(len(samples), round(6.8 * rate))
        starts = attack_starts(samples, rate)
        np.testing.assert_allclose(starts[::4], self.lines[1:3], atol=0.002)

    def test_from_one_tempo_to_another(self) -> None:
        arguments = ("fit", self.loop, "-o", str(self.out), "--from-bpm", "70", "--to-bpm", "120")
        status, _, said = self.run_main(*arguments)
        self.assertEqual(status, 0, said)
        self.assertEqual(len(sf.read(self.out)[0]), round(2 * 44100 * 70 / 120))
        samples, rate = sf.read(self.out)
        np.testing.assert_allclose(
            attack_starts(samples, rate), np.array([0.0, 0.5, 1.0, 1.5]) * 70 / 120, atol=0.002
        )

    def test_what_contradicts_itself_is_refused(self) -> None:
        for more in (
            ("--bars", "0"),
            ("--bars", "1", "--from-bar", "0"),
            ("--bars", "1", "--from-bar", "3", "--until-bar", "3"),
            ("--from-bpm", "-3"),
            ("--bars", "1", "--times", "0"),
            ("--bars", "1", "--bar", "7=1"),
        ):
            with self.subTest(more=more):
                status, said = self.follow(*more)
                self.assertEqual((status, said.count("\n")), (2, 1), said)
        self.assertEqual(self.run_main("fit", self.loop, "-o", str(self.out), "--from-bpm", "70")[0], 2)
        self.assertEqual(self.run_main("fit", self.loop, "-o", str(self.out))[0], 2)
        self.assertFalse(self.out.exists())


class FitMoreTest(CliTest):
    def test_bars_swing_lag_coarse_and_proof(self) -> None:
        rng = np.random.default_rng(2)
        times = 0.5 + 0.5 * np.arange(32) + 0.02 + rng.uniform(-0.006, 0.006, 32)
        audio = struck(times, 18.0, low_every=4)
        take = self.write("loose.wav", audio.samples.T, audio.sample_rate_hz)
        (self.folder / "map.csv").write_text("".join(f"{0.5 + 2.0 * k},{k + 1}\n" for k in range(9)))
        self.run_main("convert", str(self.folder / "map.csv"), "-o", str(self.folder / "map.json"))
        there = (
            "fit",
            take,
            "-o",
            str(self.folder / "out.wav"),
            "--map",
            str(self.folder / "map.json"),
            "--grid",
            "1/4",
            "--method",
            "cut",
        )
        status, out, said = self.run_main(*there, "--proof", "-")
        self.assertEqual(status, 0, said)
        proved = json.loads(out)
        self.assertEqual(proved["version"], 1)
        self.assertGreater(proved["within_3_ms"], 0.95)
        self.assertEqual(set(proved["pegs"][0]), {"take", "wanted_s", "measured_s", "off_ms"})
        for more in (
            ("--bars", "2-3"),
            ("--keep-lag", "--strength", "90"),
            ("--coarse",),
            ("--swing", "58", "--grid", "1/8"),
        ):
            self.assertEqual(self.run_main(*there, *more)[0], 0, more)
        for bad in (("--bars", "x"), ("--bars", "3-2"), ("--swing", "99")):
            self.assertEqual(self.run_main(*there, *bad)[0], 2, bad)

    def test_pauses_are_silenced(self) -> None:
        rng = np.random.default_rng(5)
        audio = struck(0.5 + 0.5 * np.arange(24) + rng.uniform(-0.01, 0.01, 24), 13.0, low_every=4)
        hiss = 0.0004 * rng.standard_normal(audio.samples.shape).astype(np.float32)
        take, there, report = (
            self.write("hiss.wav", (audio.samples + hiss).T, audio.sample_rate_hz),
            str(self.folder / "quiet.wav"),
            self.folder / "r.json",
        )
        asked = (
            "fit",
            take,
            "-o",
            there,
            "--own",
            "--grid",
            "1/4",
            "--method",
            "strike",
            "--report",
            str(report),
        )
        self.assertEqual(self.run_main(*asked)[0], 0)
        self.assertNotIn("silenced", json.loads(report.read_text()))
        plain, rate = sf.read(there)
        status, _, said = self.run_main(*asked, "--silence-pauses", "--pause-limits", "45,80")
        self.assertEqual(status, 0, said)
        quiet, _ = sf.read(there)
        spans = json.loads(report.read_text())["silenced"]
        self.assertGreater(len(spans), 18)
        inside = np.zeros(len(quiet), dtype=bool)
        for span in spans:
            first, stop = round(span["start_s"] * rate), round(span["end_s"] * rate)
            inside[first:stop] = True
            self.assertFalse(quiet[first + round(0.021 * rate) : stop - round(0.006 * rate)].any())
        np.testing.assert_array_equal(quiet[~inside], plain[~inside])
        for bad in (
            ("--pause-limits", "45,80"),
            ("--silence-pauses", "--pause-limits", "45"),
            ("--silence-pauses", "--pause-limits", "5,80"),
        ):
            status, _, said = self.run_main(*asked, *bad)
            self.assertEqual(status, 2, bad)
            self.assertIn("ause", said)

    def test_several_files_move_as_one(self) -> None:
        beats = 0.5 + 0.5 * np.arange(24)
        rng = np.random.default_rng(4)
        low, high = beats[::2] + rng.uniform(-0.015, 0.015, 12), beats[1::2] + rng.uniform(-0.015, 0.015, 12)
        deep, bright = struck(low, 13.0, low_every=1), struck(high, 13.0)
        bleed = 0.05
        takes = [
            self.write("kick.wav", deep.samples.T + bleed * bright.samples.T, 44100),
            self.write("snare.wav", bright.samples.T + bleed * deep.samples.T, 44100),
        ]
        (self.folder / "map.csv").write_text("".join(f"{0.5 + 2.0 * k},{k + 1}\n" for k in range(7)))
        self.run_main("convert", str(self.folder / "map.csv"), "-o", str(self.folder / "map.json"))
        there = ("fit", *takes, "--map", str(self.folder / "map.json"), "--grid", "1/4", "--method", "cut")
        status, _, said = self.run_main(
            *there,
            "-o",
            str(self.folder / "out") + "/",
            "--report",
            str(self.folder / "r.json"),
            "--proof",
            str(self.folder / "p.json"),
        )
        self.assertEqual(status, 0, said)
        report, proved = (
            json.loads((self.folder / "r.json").read_text()),
            json.loads((self.folder / "p.json").read_text()),
        )
        self.assertEqual([one["out"] for one in report["files"]], ["kick.wav", "snare.wav"])
        self.assertEqual({one["frames"] for one in report["files"]}, {report["files"][0]["frames"]})
        self.assertTrue({"segments", "pegs", "riding"} <= set(report))
        self.assertGreater(proved["within_3_ms"], 0.9)
        self.assertEqual({one["take"] for one in proved["pegs"]}, {"kick.wav", "snare.wav"})
        # Strokes that no one mic has both of lie on the grid, each in its own mic.
        for name, where in (("kick", beats[::2]), ("snare", beats[1::2])):
            samples, rate = sf.read(self.folder / "out" / f"{name}.wav", dtype="float32")
            starts = attack_starts(samples, rate)
            self.assertLess(float(np.median([np.min(np.abs(starts - time)) for time in where])), 0.003)
        # Without the marks of one its sound goes along with the other's.
        status, _, said = self.run_main(
            *there,
            "-o",
            str(self.folder / "out1"),
            "--marks-without",
            "snare.wav",
            "--report",
            str(self.folder / "r1.json"),
        )
        self.assertEqual(status, 0, said)
        report = json.loads((self.folder / "r1.json").read_text())
        self.assertEqual((report["marks_first"], report["marks_without"]), (["kick.wav"], ["snare.wav"]))
        self.assertEqual({peg["mic"] for peg in report["pegs"]}, {"kick.wav"})
        self.assertEqual(len({one["frames"] for one in report["files"]}), 1)
        for option, words in (
            (("--marks-first", "tom.wav"), "none of these files; --marks-first"),
            (("--marks-without", "tom.wav"), "none of these files; --marks-without"),
            (("--marks-without", "kick.wav,snare.wav"), "marks of none of these files would count"),
        ):
            status, _, said = self.run_main(*there, "-o", str(self.folder / "out2"), *option)
            self.assertEqual((status, words in said), (2, True), said)
            self.assertFalse((self.folder / "out2").exists())
