"""What differs from system to system, and the main path where a system has less."""

import io
import json
import os
import signal
import subprocess
import sys
import tempfile
import unittest
import urllib.request
from pathlib import Path
from typing import Any
from unittest import mock

import soundfile as sf

from combpace import machine
from rig.places import breathing
from rig.server import Server
from rig.tiers import soak
from rig.waiting import HANG_S, until

HOLD = """
import sys, time
from pathlib import Path
from combpace.machine import locked
with locked(Path(sys.argv[1])):
    print("held", flush=True)
    time.sleep(60)
"""


# To us these are not there; libraries that have a way without them are left to it.
WITHOUT = """
import builtins
found = builtins.__import__
def without(name, given=None, *more, **named):
    if name in ("fcntl", "resource") and (given or {}).get("__name__", "").startswith("combpace"):
        raise ImportError(name)
    return found(name, given, *more, **named)
builtins.__import__ = without
"""


class LockTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name, "lock")

    def test_one_holds_it_and_it_ends_with_its_process_however_that_ends(self) -> None:
        holder = subprocess.Popen(
            [sys.executable, "-c", HOLD, str(self.path)], stdout=subprocess.PIPE, text=True
        )
        self.addCleanup(holder.wait)
        assert holder.stdout is not None
        self.addCleanup(holder.stdout.close)
        self.assertEqual(holder.stdout.readline().strip(), "held")
        with self.assertRaises(machine.LockedError), machine.locked(self.path):
            pass
        holder.send_signal(signal.SIGKILL)
        holder.wait()
        with machine.locked(self.path):
            pass

    def test_it_can_be_held_again_after_it_was_let_go(self) -> None:
        for _ in range(2):
            with machine.locked(self.path):
                pass


class AliveTest(unittest.TestCase):
    def test_itself_one_that_ended_and_one_that_nobody_waited_for(self) -> None:
        self.assertTrue(machine.is_alive(os.getpid()))
        ended = subprocess.Popen([sys.executable, "-c", ""])
        os.waitid(os.P_PID, ended.pid, os.WEXITED | os.WNOWAIT)
        self.assertFalse(machine.is_alive(ended.pid), "a zombie does no work")
        ended.wait()
        self.assertFalse(machine.is_alive(ended.pid))
        self.assertFalse(machine.is_alive(-1))
        self.assertFalse(machine.is_alive(2**62))


class LessTest(unittest.TestCase):
    def test_without_limits_of_memory_it_says_so_and_goes_on(self) -> None:
        with mock.patch.dict(sys.modules, {"resource": None}):
            self.assertFalse(machine.limit_memory(2**30))

    def test_processes_start_anew_where_there_is_no_fork_server(self) -> None:
        with mock.patch.object(machine.multiprocessing, "get_all_start_methods", lambda: ["spawn"]):
            self.assertEqual(machine.starting(["combpace"]).get_start_method(), "spawn")
        with mock.patch.dict(os.environ, {machine.START_VARIABLE: "spawn"}):
            self.assertEqual(machine.starting().get_start_method(), "spawn")
        with mock.patch.dict(os.environ, {machine.START_VARIABLE: "nothing such"}):
            self.assertEqual(machine.starting().get_start_method(), "forkserver")


@soak
class SpawnedTest(unittest.TestCase):
    """As on a system without fork: no fcntl, no resource, every process begun anew."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        without = Path(folder.name, "without")
        without.mkdir()
        (without / "sitecustomize.py").write_text(WITHOUT)
        path = os.pathsep.join([str(without), os.environ.get("PYTHONPATH", "")])
        self.server = Server(Path(folder.name, "data"), COMBPACE_START="spawn", PYTHONPATH=path).start()
        self.addCleanup(self.server.stop)

    def ask(self, method: str, path: str, body: bytes | None = None) -> Any:
        request = urllib.request.Request(self.server.address + path, body, method=method)
        request.add_header("Content-Type", "application/json")
        with urllib.request.urlopen(request, timeout=HANG_S) as answer:
            content = answer.read()
        return json.loads(content) if answer.headers["Content-Type"] == "application/json" else content

    def test_a_take_is_read_corrected_heard_and_handed_off(self) -> None:
        session = self.ask("POST", "/api/sessions", b'{"name": "Copper night"}')["id"]
        out = io.BytesIO()
        beats, audio = breathing()
        sf.write(out, audio.samples.T, audio.sample_rate_hz, format="WAV", subtype="PCM_16")
        take = self.ask("PUT", f"/api/sessions/{session}/uploads?name=kit.wav", out.getvalue())["take"]
        base = f"/api/sessions/{session}"
        picture = self.until(f"{base}/picture", lambda found: found["takes"][0]["state"] == "ready")
        self.assertEqual(len(picture["onsets"][take]["t"]), len(beats))
        act = json.dumps({"version": picture["version"], "args": {"time_s": float(beats[4])}}).encode()
        done = self.ask("POST", f"{base}/act/bar-1", act)
        self.assertIn("Bar 1", done["note"])
        sound = self.ask("GET", f"{base}/takes/{take}/sound?segment=0&rate=44100&fitted=true&speed=0.9")
        self.assertGreater(len(sound), 100_000)
        ordered = self.ask("POST", f"{base}/hand-off", json.dumps({"takes": [take]}).encode())
        found = self.until(f"/api/jobs/{ordered['job']}", lambda job: job["state"] in ("done", "failed"))
        self.assertEqual(found["state"], "done", found)

    def until(self, path: str, right: Any) -> Any:
        return until(lambda: found if right(found := self.ask("GET", path)) else None, path)


if __name__ == "__main__":
    unittest.main()
