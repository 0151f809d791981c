"""`combpace batch`: every file once, whatever becomes of the others."""

import contextlib
import csv
import io
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np
import soundfile as sf

from combpace.batch.folder import items_of
from combpace.cli import main
from combpace.core.errors import ParameterError
from combpace.core.fit.groove import groove_document, take_groove
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import steady_map
from rig.sounds import attack_starts, struck, two_close_mics
from rig.waiting import HANG_S


class BatchTest(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder, self.out = Path(place.name) / "yard", Path(place.name) / "results"
        (self.folder / "night").mkdir(parents=True)
        for name, beat in (("a.wav", 0.5), ("night/b.flac", 0.6)):
            sf.write(
                self.folder / name,
                struck(0.3 + beat * np.arange(16), 16 * beat + 1, low_every=4).samples.T,
                44100,
            )
        (self.folder / "bad.wav").write_bytes(b"no sound")
        (self.folder / "notes.txt").write_text("not asked for")

    def test_reports_of_all_and_a_recipe_of_a_session(self) -> None:
        status, said, _ = self.run_main(self.folder, "-o", self.out, "--do", "report")
        self.assertEqual(status, 1)
        page = (self.out / "night" / "b.html").read_text()
        for part in ("The weave", "Lengths of notes at", "steady, 100.", "<svg"):
            self.assertIn(part, page)
        self.assertNotIn("http", page.replace("http://www.w3.org", ""))
        # A groove instead of a grid, the tempo of a steady session: each file's own bar 1 stays.
        recipe = self.out / "r.recipe"
        groove = groove_document(
            take_groove(
                np.array([0.0, 0.55, 1.0, 1.5]), np.zeros(4), steady_map(120.0, 0.0), (0, 0), Grid(8), "yard"
            )
        )
        recipe.write_text(json.dumps({"version": 1, "fit": {"groove": groove, "own": False, "bpm": 110.0}}))
        fitted = self.out / "fitted"
        status, said, _ = self.run_main(self.folder, "-o", fitted, "--do", "fit", "--recipe", recipe)
        self.assertEqual(status, 1, said)
        starts = attack_starts(sf.read(fitted / "a.wav")[0], 44100)
        step = float(np.median(np.diff(starts)))
        self.assertAlmostEqual(starts[0], 0.3, delta=0.005)
        self.assertAlmostEqual(step, 60.0 / 110.0, delta=0.004)

    def run_main(self, *arguments: object) -> tuple[int, str, str]:
        said, wrong = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(said), contextlib.redirect_stderr(wrong):
            status = main(["batch", *(str(one) for one in arguments)])
        return status, said.getvalue(), wrong.getvalue()

    def test_every_file_once_and_a_bad_one_stops_nothing(self) -> None:
        status, said, wrong = self.run_main(self.folder, "-o", self.out, "--workers", 2)
        self.assertEqual((status, wrong), (1, ""))
        self.assertIn("3 files, 1 failed", said)
        heard = json.loads((self.out / "night" / "b.json").read_text())
        self.assertAlmostEqual(heard["steady"]["bpm"], 100.0, delta=0.2)
        summary = json.loads((self.out / "summary.json").read_text())
        self.assertEqual((summary["files"], summary["failed"]), (3, 1))
        with (self.out / "summary.csv").open(newline="") as file:
            rows = {row["name"]: row for row in csv.DictReader(file)}
        self.assertIn("not a sound file", rows["bad.wav"]["error"])
        self.assertFalse((self.out / "bad.json").exists())
        # Nothing that is kept beside the results ends like one.
        results = sorted(path.relative_to(self.out).as_posix() for path in self.out.rglob("*.json"))
        self.assertEqual(results, ["a.json", "night/b.json", "summary.json"])
        # Again it is known by its content and by what was asked; what was changed is done anew.
        before = (self.out / "a.json").stat().st_mtime_ns, (self.out / "night" / "b.json").stat().st_mtime_ns
        sf.write(
            self.folder / "night" / "b.flac",
            struck(0.3 + 0.55 * np.arange(16), 10.0, low_every=4).samples.T,
            44100,
        )
        status, said, _ = self.run_main(self.folder, "-o", self.out, "--workers", 1)
        self.assertEqual(said.count("(as before)"), 1)
        self.assertEqual((self.out / "a.json").stat().st_mtime_ns, before[0])
        self.assertGreater((self.out / "night" / "b.json").stat().st_mtime_ns, before[1])

    def test_killed_in_the_middle_it_goes_on_where_it_was(self) -> None:
        command = [
            sys.executable,
            "-m",
            "combpace.cli",
            "batch",
            str(self.folder),
            "-o",
            str(self.out),
            "--workers",
            "1",
        ]
        begun = subprocess.Popen(
            command, start_new_session=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        deadline = time.monotonic() + HANG_S
        # A name that begins with a dot is still being written.
        while (
            not list(self.out.glob(".combpace-batch/[!.]*"))
            and time.monotonic() < deadline
            and begun.poll() is None
        ):
            time.sleep(0.005)
        with contextlib.suppress(ProcessLookupError):
            os.killpg(begun.pid, signal.SIGKILL)
        begun.wait()
        # What a process that is gone had half written goes; what somebody still writes, and what is not ours,
        # stays.
        gone, ours, other = (
            self.out / name
            for name in (f".a.json.{begun.pid}.part", f".a.json.{os.getpid()}.part", ".mine.part")
        )
        for path in (gone, ours, other):
            path.write_text("half")
        status, said, _ = self.run_main(self.folder, "-o", self.out, "--workers", 1)
        self.assertEqual([path.exists() for path in (gone, ours, other)], [False, True, True])
        self.assertEqual(status, 1)
        self.assertGreaterEqual(said.count("(as before)"), 1)
        self.assertEqual(json.loads((self.out / "summary.json").read_text())["failed"], 1)
        self.assertTrue((self.out / "a.json").is_file() and (self.out / "night" / "b.json").is_file())

    def test_fitted_by_a_recipe_with_mics_as_one(self) -> None:
        mics, _, _ = two_close_mics()
        for name, mic in zip(("kit deep.wav", "kit bright.wav"), mics, strict=True):
            sf.write(self.folder / "night" / name, mic.samples.T, 44100)
        recipe = self.folder.parent / "recipe.json"
        recipe.write_text(
            json.dumps(
                {
                    "version": 1,
                    "method": "cut",
                    "fit": {"grid": "1/8", "own": False, "bpm": 118.0, "first_downbeat_s": 0.0},
                }
            )
        )
        status, said, _ = self.run_main(
            self.folder / "night",
            "-o",
            self.out,
            "--do",
            "fit",
            "--recipe",
            recipe,
            "--bundle",
            "^kit",
            "--workers",
            1,
        )
        self.assertEqual(status, 0, said)
        self.assertEqual(
            sorted(path.name for path in (self.out / "kit bright").iterdir()),
            ["kit bright.wav", "kit deep.wav"],
        )
        report = json.loads((self.out / "b fit.json").read_text())
        self.assertEqual(report["method"], "cut")
        self.assertGreater(len(report["pegs"]), 10)
        self.assertTrue((self.out / "b.wav").is_file())

    def test_a_recipe_has_rules_of_some_bars(self) -> None:
        recipe = self.folder.parent / "recipe.json"
        fit = {"grid": "1/4", "bpm": 118.0, "own": False, "first_downbeat_s": 0.0, "strength": 0}

        def run(rules: list[dict[str, object]]) -> tuple[int, str, str]:
            recipe.write_text(json.dumps({"version": 1, "fit": {**fit, "rules": rules}}))
            return self.run_main(
                self.folder / "night", "-o", self.out, "--do", "fit", "--recipe", recipe, "--workers", 1
            )

        status, said, _ = run([{"bars": [2, 2], "strength": 100}, {"bars": "3", "strength": 50}])
        self.assertEqual(status, 0, said)
        report = json.loads((self.out / "b fit.json").read_text())
        pulled = [peg for peg in report["pegs"] if peg["kind"] == "pulled" and peg["quarters"] % 1 < 1e-6]
        self.assertTrue(pulled)
        self.assertTrue(all(4 <= peg["quarters"] < 8 or peg["quarters"] == 8 for peg in pulled))
        for rules, words in (
            ([{"strength": 100}], "names its bars"),
            ([{"bars": [2, 2], "volume": 3}], "no “volume”"),
            ([{"bars": [0, 2]}], "no bar 0"),
        ):
            status, _, wrong = run(rules)
            self.assertEqual(status, 2)
            self.assertIn(words, wrong)

    def test_what_cannot_be_is_a_sentence(self) -> None:
        recipe = self.folder.parent / "recipe.json"
        recipe.write_text('{"version": 1, "fit": {"gird": "1/8"}}')
        for arguments in (
            (self.folder / "none", "-o", self.out),
            (self.folder, "-o", self.folder / "in it"),
            (self.folder, "-o", self.out, "--recipe", recipe),
            (self.folder, "-o", self.out, "--recipe", self.folder / "bad.wav"),
            (self.folder, "-o", self.out, "--do", "dance"),
            (self.folder, "-o", self.out, "--do", "follow"),
            (self.folder, "-o", self.out, "--bundle", "("),
            (self.folder, "-o", self.out, "--workers", 0),
        ):
            with self.subTest(arguments=arguments):
                status, _, wrong = self.run_main(*arguments)
                self.assertEqual((status, wrong.count("\n")), (2, 1))
        self.assertFalse(self.out.exists())
        with self.assertRaises(ParameterError):
            items_of(self.folder / "notes.txt", "analyse", None)

    def test_two_files_of_one_name_keep_both_results(self) -> None:
        (self.folder / "a.flac").write_bytes((self.folder / "night" / "b.flac").read_bytes())
        self.assertEqual(
            [item.out for item in items_of(self.folder, "analyse", None)],
            ["a.json", "a.wav.json", "bad.json", "night/b.json"],
        )
