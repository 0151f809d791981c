"""The server as a process: what is left when it ends, who may read what it keeps, many listeners, slow
senders.
"""

import http.client
import itertools
import json
import os
import select
import signal
import socket
import tempfile
import threading
import unittest
from pathlib import Path
from urllib.parse import urlsplit

from rig.processes import alive, descendants
from rig.server import Server
from rig.waiting import HANG_S, until
from tests.api.test_wire import wav_bytes


class Served(unittest.TestCase):
    """A server for the class. patience_s: how long a request for sound may take there."""

    patience_s = HANG_S

    server: Server
    folder: Path
    heard = itertools.count()

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name) / "data"
        cls.server = Server(cls.folder, COMBPACE_SOUND=str(int(cls.patience_s))).start()
        cls.addClassCleanup(lambda: cls.server.stop())

    def ask(self, method: str, path: str, body: object = None, **headers: str) -> tuple[int, bytes]:
        connection = http.client.HTTPConnection(urlsplit(self.server.address).netloc, timeout=HANG_S)
        data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        connection.request(method, path, data, {"content-type": "application/json", **headers})
        answer = connection.getresponse()
        found = answer.status, answer.read()
        connection.close()
        return found

    def busy(self) -> str:
        """A session with a take that is being read, so that a worker runs; the id of the session."""
        session = json.loads(self.ask("POST", "/api/sessions", {"name": "x"})[1])["id"]
        # Sound that nobody heard before, or no job would begin.
        data = wav_bytes(start=1.0 + next(self.heard) / 100)
        self.ask("PUT", f"/api/sessions/{session}/uploads?name=a.wav", data)
        until(lambda: json.loads(self.ask("GET", "/api/health")[1])["jobs"]["running"], "a job that runs")
        return str(session)

    def pid(self) -> int:
        assert self.server._process is not None
        return self.server._process.pid

    def gone(self, pids: set[int]) -> None:
        until(lambda: not alive(pids), "the end of every child")

    def stopped_worker(self) -> tuple[str, str, int]:
        """(a session, the address of stretched sound of its take, the worker for such sound, which stands
        still).
        """
        session = self.busy()

        def ready() -> str | None:
            (take,) = json.loads(self.ask("GET", f"/api/sessions/{session}/picture")[1])["takes"]
            return take["id"] if take["state"] == "ready" else None

        take = until(ready, "a take that is heard")
        worker = json.loads(self.ask("GET", "/api/health")[1])["preview_process"]
        os.kill(worker, signal.SIGSTOP)
        self.addCleanup(lambda: alive({worker}) and os.kill(worker, signal.SIGKILL))
        return session, f"/api/sessions/{session}/takes/{take}/sound?rate=44100&speed=0.5&segment=", worker

    def listening(self, path: str, statuses: list[int]) -> list[threading.Thread]:
        """45 requests for stretched sound, each in a thread."""
        threads = [
            threading.Thread(target=lambda k=k: statuses.append(self.ask("GET", f"{path}{k}")[0]))
            for k in range(45)
        ]
        for thread in threads:
            thread.start()
        return threads


class EndsTest(Served):
    def test_an_orderly_stop_and_a_kill_leave_no_process(self) -> None:
        for how in (signal.SIGTERM, signal.SIGKILL):
            with self.subTest(how=how):
                if how == signal.SIGKILL:
                    type(self).server = Server(self.folder).start()
                self.busy()
                below = descendants(self.pid())
                self.assertGreaterEqual(len(below), 2)
                os.kill(self.pid(), how)
                assert self.server._process is not None
                self.server._process.wait(timeout=HANG_S)
                self.gone(below)


class ServerTest(Served):
    def test_what_it_keeps_is_for_its_user_alone(self) -> None:
        self.busy()
        for path in (self.folder, *self.folder.rglob("*")):
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)

    def test_health(self) -> None:
        status, body = self.ask("GET", "/api/health")
        found = json.loads(body)
        self.assertEqual((status, found["ok"], found["says"], found["jobs"]["alive"]), (200, True, [], True))
        self.assertIn(b"All is well", self.ask("GET", "/health")[1])

    def test_pages_are_answered_while_sound_is_waited_for_by_many(self) -> None:
        session, path, worker = self.stopped_worker()
        statuses: list[int] = []
        threads = self.listening(path, statuses)
        for _ in range(10):
            self.assertEqual(self.ask("GET", f"/sessions/{session}/bars")[0], 200)
        self.assertEqual(statuses, [], "no page waited for a sound")
        os.kill(worker, signal.SIGCONT)
        for thread in threads:
            thread.join(HANG_S)
        self.assertEqual(statuses, [200] * 45)

    def test_a_body_that_does_not_end_holds_nothing_up(self) -> None:
        host, port = urlsplit(self.server.address).netloc.split(":")
        stuck = [socket.create_connection((host, int(port))) for _ in range(12)]
        for one in stuck:
            self.addCleanup(one.close)
            head = (
                f"POST /api/sessions HTTP/1.1\r\nHost: {host}\r\nContent-Type: "
                "application/json\r\nContent-Length: 100\r\n\r\n" + '{"na'
            )
            one.sendall(head.encode())
        self.assertEqual(self.ask("GET", "/")[0], 200)
        # It was answered first: not one of them was.
        self.assertEqual(select.select(stuck, [], [], 0)[0], [])


class PatienceTest(Served):
    patience_s = 1

    def test_each_request_for_sound_ends_by_itself_also_those_that_wait_for_a_place(self) -> None:
        _, path, worker = self.stopped_worker()
        statuses: list[int] = []
        for thread in self.listening(path, statuses):
            thread.join(HANG_S)
        self.assertEqual(statuses, [503] * 45)
        os.kill(worker, signal.SIGCONT)
        until(lambda: self.ask("GET", f"{path}0")[0] == 200, "sound")
