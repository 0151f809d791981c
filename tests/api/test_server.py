"""The server as a process: what is left when it ends, who may read what it keeps, many listeners, slow
senders.
"""

import http.client
import json
import os
import signal
import socket
import tempfile
import threading
import time
import unittest
from pathlib import Path
from urllib.parse import urlsplit

from tests.api.test_wire import wav_bytes
from tests.support.server import Server
from tests.workers.test_warm import alive, descendants

# Every child ends within this time of its server.
ENDS_S = 5.0


class ServerTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name) / "data"
        self.server = Server(self.folder).start()
        self.addCleanup(self.server.stop)

    def ask(self, method: str, path: str, body: object = None, **headers: str) -> tuple[int, bytes]:
        connection = http.client.HTTPConnection(urlsplit(self.server.address).netloc, timeout=30)
        data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        connection.request(method, path, data, {"content-type": "application/json", **headers})
        answer = connection.getresponse()
        found = answer.status, answer.read()
        connection.close()
        return found

    def busy(self) -> str:
        """A session with a take that is being read, so that a worker runs; the id of the session."""
        session = json.loads(self.ask("POST", "/api/sessions", {"name": "x"})[1])["id"]
        self.ask("PUT", f"/api/sessions/{session}/uploads?name=a.wav", wav_bytes())
        end = time.monotonic() + 20
        while time.monotonic() < end:
            health = json.loads(self.ask("GET", "/api/health")[1])
            if health["jobs"]["running"]:
                return str(session)
            time.sleep(0.02)
        self.fail("no job began")

    def pid(self) -> int:
        assert self.server._process is not None
        return self.server._process.pid

    def gone(self, pids: set[int]) -> None:
        end = time.monotonic() + ENDS_S
        while alive(pids) and time.monotonic() < end:
            time.sleep(0.1)
        self.assertEqual(alive(pids), set())

    def test_an_orderly_stop_and_a_kill_leave_no_process(self) -> None:
        for how in (signal.SIGTERM, signal.SIGKILL):
            with self.subTest(how=how):
                if how == signal.SIGKILL:
                    self.server = Server(self.folder).start()
                    self.addCleanup(self.server.stop)
                self.busy()
                below = descendants(self.pid())
                self.assertGreaterEqual(len(below), 2)
                begun = time.monotonic()
                os.kill(self.pid(), how)
                assert self.server._process is not None
                self.server._process.wait(timeout=20)
                if how == signal.SIGTERM:
                    self.assertLess(time.monotonic() - begun, ENDS_S)
                self.gone(below)

    def test_what_it_keeps_is_for_its_user_alone(self) -> None:
        self.busy()
        for path in (self.folder, *self.folder.rglob("*")):
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)

    def test_health(self) -> None:
        status, body = self.ask("GET", "/api/health")
        found = json.loads(body)
        self.assertEqual((status, found["ok"], found["says"], found["jobs"]["alive"]), (200, True, [], True))
        self.assertIn(b"All is well", self.ask("GET", "/health")[1])

    def test_pages_are_quick_while_sound_is_asked_for_by_many(self) -> None:
        session = self.busy()
        takes = json.loads(self.ask("GET", f"/api/sessions/{session}/picture")[1])["takes"]
        end = time.monotonic() + 60
        while takes[0]["state"] != "ready" and time.monotonic() < end:
            time.sleep(0.2)
            takes = json.loads(self.ask("GET", f"/api/sessions/{session}/picture")[1])["takes"]
        path = f"/api/sessions/{session}/takes/{takes[0]['id']}/sound?rate=44100&speed=0.5&segment="
        # A worker that does not answer: every request for stretched sound waits its whole patience.
        worker = json.loads(self.ask("GET", "/api/health")[1])["preview_process"]
        os.kill(worker, signal.SIGSTOP)
        self.addCleanup(lambda: alive({worker}) and os.kill(worker, signal.SIGKILL))
        statuses: list[int] = []
        waited: list[float] = []

        def listen(number: int) -> None:
            begun = time.monotonic()
            statuses.append(self.ask("GET", f"{path}{number}")[0])
            waited.append(time.monotonic() - begun)

        threads = [threading.Thread(target=listen, args=(k,)) for k in range(45)]
        for thread in threads:
            thread.start()
        took = []
        for _ in range(10):
            begun = time.monotonic()
            self.assertEqual(self.ask("GET", f"/sessions/{session}/bars")[0], 200)
            took.append(time.monotonic() - begun)
        self.assertLess(max(took), 2.0)
        for thread in threads:
            thread.join()
        # Each says after its own 5 s that it takes too long, also those that waited for a place.
        self.assertEqual(set(statuses), {503})
        self.assertLess(max(waited), 7.0)
        os.kill(worker, signal.SIGCONT)
        end = time.monotonic() + 30
        while (answer := self.ask("GET", f"{path}0")[0]) != 200 and time.monotonic() < end:
            time.sleep(0.1)
        self.assertEqual(answer, 200)

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
        begun = time.monotonic()
        self.assertEqual(self.ask("GET", "/")[0], 200)
        self.assertLess(time.monotonic() - begun, 2.0)
