"""Errands and batches on a real scheduler and real workers: files travel, a killed worker costs one file,
strangers are refused.
"""

import contextlib
import io
import json
import os
import signal
import threading
import time
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile as sf

from combpace.batch import folder
from combpace.batch.recipe import Recipe
from combpace.cli import main
from combpace.core.errors import CancelledError
from combpace.session import shelf
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import decide
from combpace.settings import Settings
from combpace.stations.fit import rendering
from combpace.store import rows
from combpace.workers import elsewhere
from combpace.workers.backend import LostError, Processes
from combpace.workers.cluster import ENDED, Cluster
from combpace.workers.errand import VERSION, Errand, do_unpacked, unpack
from rig.clusters import DaskTest
from rig.places import breathing, bring_in
from rig.sounds import struck
from rig.tiers import soak
from rig.waiting import until

ANALYSE = "combpace.batch.folder:do_one"


def sounds(where: Path, count: int, seconds: float = 6.0) -> Path:
    where.mkdir()
    for number in range(count):
        audio = struck(0.3 + np.arange(int(seconds * 2)) * (0.5 + 0.002 * number), seconds, low_every=4)
        sf.write(where / f"take {number:02d}.wav", audio.samples.T, audio.sample_rate_hz, subtype="PCM_16")
    return where


def errand(of: Path, out: Path, name: str) -> Errand:
    args = {
        "files": [name],
        "out": f"{name}.json",
        "do": "analyse",
        "recipe": Recipe().model_dump(mode="json"),
        "map": None,
        "key": "k" + name,
    }
    return Errand(ANALYSE, of, out, (name,), args)


class BatchTest(DaskTest):
    def batch(self, *more: object) -> tuple[int, str, str]:
        said, wrong = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(said), contextlib.redirect_stderr(wrong):
            status = main(["batch", *(str(one) for one in more)])
        return status, said.getvalue(), wrong.getvalue()

    def results(self, out: Path) -> dict[str, bytes]:
        return {
            path.relative_to(out).as_posix(): path.read_bytes() for path in sorted(out.rglob("take*.json"))
        }

    @soak
    def test_two_workers_do_what_this_machine_does_to_the_byte_and_a_killed_one_costs_at_most_its_file(
        self,
    ) -> None:
        address, of = self.begin(), sounds(self.scratch / "in", 8)
        status, _, wrong = self.batch(of, "-o", self.scratch / "here")
        self.assertEqual((status, wrong), (0, ""))
        status, _, wrong = self.batch(of, "-o", self.scratch / "there", "--scheduler", address)
        self.assertEqual((status, wrong), (0, ""))
        self.assertEqual(self.results(self.scratch / "there"), self.results(self.scratch / "here"))
        self.assertEqual(len(self.results(self.scratch / "there")), 8)
        # Where workers see the folder nothing travels.
        status, _, wrong = self.batch(
            of, "-o", self.scratch / "seen", "--scheduler", address, "--shared", self.scratch
        )
        self.assertEqual(
            (status, self.results(self.scratch / "seen")), (0, self.results(self.scratch / "here"))
        )

        # One of the two is killed in the middle: its file is named, all others are there.
        killer = threading.Timer(1.5, lambda: os.killpg(self.workers[0].pid, signal.SIGKILL))
        killer.start()
        out = self.scratch / "killed"
        status, said, _ = self.batch(of, "-o", out, "--scheduler", address)
        killer.join()
        summary = json.loads((out / "summary.json").read_text())
        failed = [one for one in summary["results"] if one["error"]]
        self.assertLessEqual(len(failed), 1)
        self.assertEqual(status, 1 if failed else 0)
        for one in failed:
            self.assertEqual(one["error"], ENDED)
            self.assertIn("failed: " + ENDED, said)
        self.assertEqual(len(self.results(out)), 8 - len(failed))
        # The same command ends what is missing, on the worker that is left.
        status, said, _ = self.batch(of, "-o", out, "--scheduler", address)
        self.assertEqual((status, self.results(out)), (0, self.results(self.scratch / "here")))
        self.assertEqual(said.count("(as before)"), 8 - len(failed))

    @soak
    def test_a_lost_scheduler_is_a_sentence_and_the_rest_is_done_here(self) -> None:
        address, of = self.begin(1), sounds(self.scratch / "in", 6)
        done = threading.Event()

        def tell(count: int, total: int) -> None:
            if count == 1 and not done.is_set():
                done.set()
                os.killpg(self.scheduler.pid, signal.SIGKILL)

        cluster, words = Cluster(address), list[str]()
        self.addCleanup(cluster.close)
        found = folder.run(
            of, self.scratch / "out", "analyse", Recipe(), None, None, 2, tell, cluster, words.append
        )
        self.assertTrue(done.is_set())
        self.assertIn("cannot be reached any longer. What was done is kept; the rest is done here.", words[0])
        self.assertEqual([one.error for one in found], [None] * 6)
        self.assertEqual(len(self.results(self.scratch / "out")), 6)

    def test_no_scheduler_is_a_sentence_and_nothing_is_written(self) -> None:
        of = sounds(self.scratch / "in", 1)
        status, _, wrong = self.batch(of, "-o", self.scratch / "out", "--scheduler", "tcp://127.0.0.1:9")
        self.assertEqual(status, 2)
        self.assertRegex(wrong, r"No scheduler answers at tcp://127\.0\.0\.1:9 .*Nothing was started\.")
        self.assertFalse((self.scratch / "out").exists())
        self.assertEqual(self.batch(of, "-o", self.scratch / "out", "--shared", self.scratch)[0], 2)


class ErrandTest(DaskTest):
    def ended(self, backend: Cluster | Processes, key: str) -> str | None:
        until(lambda: not backend.alive(key), f"the end of {key}")
        return backend.outcome(key).error

    @soak
    def test_workers_of_another_version_are_refused(self) -> None:
        shim = self.scratch / "shim"
        shim.mkdir()
        (shim / "sitecustomize.py").write_text("import combpace\ncombpace.__version__ = '0.0.9'\n")
        cluster = Cluster(self.begin(1, str(shim)))
        self.addCleanup(cluster.close)
        of = sounds(self.scratch / "in", 1)
        cluster.start("a", errand(of, self.scratch, "take 00.wav"))
        error = self.ended(cluster, "a")
        self.assertRegex(
            error or "",
            r"its worker has another version of Comb Pace \(0\.0\.9, .* not " + VERSION.split(",")[0],
        )

    @soak
    def test_a_cancelled_errand_leaves_nothing(self) -> None:
        cluster = Cluster(self.begin(1))
        self.addCleanup(cluster.close)
        of, out = sounds(self.scratch / "in", 3, 40.0), self.scratch / "out"
        for number in range(3):
            cluster.start(str(number), errand(of, out, f"take {number:02d}.wav"))
        for number in (0, 1):
            cluster.cancel(str(number))
        self.assertIsNone(self.ended(cluster, "2"))
        self.assertEqual([path.name for path in out.glob("*.json")], ["take 02.wav.json"])

    @soak
    def test_a_job_does_its_errand_there_and_here_where_that_is_lost(self) -> None:
        of, out, phases = sounds(self.scratch / "in", 1), self.scratch / "out", set[str]()
        address = self.begin(1)
        value = elsewhere.run(
            errand(of, out, "take 00.wav"), lambda phase, share: phases.add(phase), address, "listening"
        )
        self.assertIsNone(value["error"])
        self.assertIn("listening, on the cluster", phases)
        self.assertTrue((out / "take 00.wav.json").is_file())

        def stop(phase: str, share: float) -> None:
            raise CancelledError("cancelled")

        with self.assertRaises(CancelledError):
            elsewhere.run(errand(of, out, "take 00.wav"), stop, address, "listening")
        os.killpg(self.scheduler.pid, signal.SIGKILL)
        self.scheduler.wait()
        (out / "take 00.wav.json").unlink()
        with contextlib.redirect_stderr(io.StringIO()) as said:
            elsewhere.run(errand(of, out, "take 00.wav"), lambda phase, share: None, address, "listening")
        self.assertIn("No scheduler answers", said.getvalue())
        self.assertTrue((out / "take 00.wav.json").is_file())

    @soak
    def test_without_workers_it_is_lost_after_a_while(self) -> None:
        from unittest import mock

        from combpace.workers import cluster as module

        cluster = Cluster(self.begin(0))
        self.addCleanup(cluster.close)
        with mock.patch.object(module, "NO_WORKER_S", 0.1), self.assertRaises(LostError) as caught:
            until(lambda: cluster.free() is None, "a lost cluster")
        self.assertIn("has had no worker", str(caught.exception))


class ServerTest(DaskTest):
    def test_what_jobs_hear_and_render_there_is_what_they_would_here(self) -> None:
        address = self.begin(1)
        _, audio = breathing()
        made = []
        for scheduler in (None, address):
            place = DataFolder(
                replace(Settings(), data_dir=self.scratch / f"data-{scheduler is None}", scheduler=scheduler)
            )
            place.prepare()
            self.addCleanup(place.close)
            session = shelf.create(place, "Copper night")
            take = bring_in(place, session, audio, "tub kit.wav")
            decide(
                place,
                session,
                "rule",
                place.open(session).revision.version,
                {"take": take, "field": "grid", "value": "1/4"},
            )
            job = rendering.order_render(place, session, place.open(session).revision.version, take).job
            row = rows.job_row(place.database, job)
            assert row is not None
            phases = set[str]()
            rendering.render_take(
                place, json.loads(row.args), lambda phase, share, phases=phases: phases.add(phase)
            )  # type: ignore[misc]
            files = rows.files_like(place.database, session, "render")
            heard = place.analysis(place.take_row(take))
            assert heard is not None and heard.pace is not None
            made.append((heard.onsets, heard.pace, [file.sha for file in files]))
            self.assertEqual(list(place.blobs.temporary.iterdir()), [])
        (onsets, pace, files), (onsets_there, pace_there, files_there) = made
        # Matrix products round otherwise with another number of threads: far below what a sample is.
        np.testing.assert_allclose(onsets.times, onsets_there.times, atol=1e-9)
        np.testing.assert_allclose(onsets.confidence, onsets_there.confidence, atol=1e-6)
        np.testing.assert_allclose(pace.times_s, pace_there.times_s, atol=1e-9)
        self.assertEqual(files, files_there)
        self.assertEqual(len(files), 1)


class HereTest(unittest.TestCase):
    def test_what_comes_over_the_wire_stays_below_its_folder(self) -> None:
        for name in ("../x", "/etc/x", "a/../../x", ""):
            with self.subTest(name=name), self.assertRaises(ValueError):
                unpack(Path("/nowhere"), {name: b""})
            with self.subTest(name=name), self.assertRaises(ValueError):
                do_unpacked(ANALYSE, {}, {name: b""})
        with self.assertRaises(ValueError):
            do_unpacked("os:system", {}, {})

    def test_a_killed_process_is_named_and_the_others_go_on(self) -> None:
        import tempfile

        with tempfile.TemporaryDirectory() as scratch:
            of, out = sounds(Path(scratch, "in"), 2, 20.0), Path(scratch, "out")
            here = Processes(2, folder.PRELOAD)
            self.addCleanup(here.close)
            for number in range(2):
                here.start(str(number), errand(of, out, f"take {number:02d}.wav"))
            self.assertEqual(here.free(), 0)
            os.kill(here.pids()["0"], signal.SIGKILL)
            while any(here.alive(key) for key in ("0", "1")):
                time.sleep(0.02)
            self.assertEqual(here.outcome("0").error, "it was ended by signal 9")
            self.assertIsNone(here.outcome("1").error)
            self.assertTrue((out / "take 01.wav.json").is_file())
