"""Requests that no page makes: too large, half characters, names that turn direction, places far outside,
slow senders.
"""

import asyncio
import json
import tempfile
import unittest
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from unittest import mock

import soundfile as sf

from combpace.core.errors import MediaError
from combpace.jobs import dispatcher, process
from combpace.session.decisions import DECISIONS
from combpace.session.reach import BARS, MOMENTS, PLACES
from combpace.settings import Settings
from combpace.stations.takes import importing
from combpace.store import rows
from combpace.web import deps, guard
from combpace.workers.errand import Outcome
from tests.api.test_wire import WireTest, wav_bytes


class BodiesTest(WireTest):
    def post(self, data: bytes, path: str = "/api/sessions"):  # type: ignore[no-untyped-def]
        return self.client.post(path, content=data, headers={"content-type": "application/json"})

    def test_a_body_over_a_mebibyte_is_refused_and_a_file_is_not(self) -> None:
        for data in (json.dumps({"name": "x" * 2**20}).encode(), b"[" * (2**20 + 1)):
            self.assertEqual(self.post(data).status_code, 413)
        chunked = self.client.post("/api/sessions", content=(b"y" * 100_000 for _ in range(20)))
        self.assertEqual(chunked.status_code, 413)
        self.assertGreater(len(wav_bytes()), 2**20)
        self.assertEqual(self.put(wav_bytes()).status_code, 200)

    def test_a_body_that_does_not_come(self) -> None:
        async def receive() -> dict[str, Any]:
            await asyncio.sleep(30)
            raise AssertionError("unreachable")

        async def app(*_: Any) -> None:
            raise AssertionError("no body, no handler")

        sent: list[Any] = []

        async def send(message: Any) -> None:
            sent.append(message)

        scope = {
            "type": "http",
            "method": "POST",
            "path": "/api/sessions",
            "headers": [(b"host", b"localhost")],
            "raw_path": b"/api/sessions",
        }
        with mock.patch.object(guard, "MOST_BODY_S", 0.1):
            asyncio.run(guard.Guard(app, ("localhost",))(scope, receive, send))  # type: ignore[arg-type]
        self.assertEqual(sent[0]["status"], 408)
        self.assertIn(b"Nothing was changed", sent[1]["body"])

    def test_half_characters_are_refused_wherever_they_stand(self) -> None:
        take = self.with_take()
        version = self.picture()["version"]
        for path, text in (
            ("/api/sessions", '{"name": "a\\ud800b"}'),
            (
                f"/api/sessions/{self.session}/act/take",
                f'{{"version": {version}, "args": {{"take": "{take}", "field": "name", "value": '
                '"\\udc00"}}',
            ),
            (
                f"/api/sessions/{self.session}/act/\\ud800",
                f'{{"version": {version}, "args": {{"\\ud83d": 1}}}}',
            ),
        ):
            answer = self.post(text.encode(), path)
            with self.subTest(path=path):
                self.assertEqual(answer.status_code, 422)
                self.assertIn("a broken character", answer.json()["error"])
        # A whole pair is a character.
        self.assertEqual(self.post(b'{"name": "drum \\ud83e\\udd41"}').status_code, 200)
        self.assertEqual(self.post(b"[" * 200_000).status_code, 400)

    def test_names_hold_nothing_that_turns_direction(self) -> None:
        take = self.with_take()
        made = self.client.post("/api/sessions", json={"name": "take\u202e3\u2066 \u0007one"}).json()["id"]
        self.assertEqual(self.place.open(made).row.name, "take3 one")
        self.act("take", {"take": take, "field": "name", "value": "\u202ekit\u200f"})
        self.assertEqual(self.picture()["takes"][0]["name"], "kit")
        self.act("take", {"take": take, "field": "bundle", "value": "\u2067drums"})
        self.assertNotIn("\u2067", json.dumps(self.picture(), ensure_ascii=False))

    def test_no_host_of_a_test_is_answered(self) -> None:
        self.assertNotIn("testserver", Settings().hosts)
        self.assertEqual(self.client.get("/", headers={"host": "testserver"}).status_code, 400)


class FarTest(WireTest):
    def test_places_far_outside_are_refused_in_every_action(self) -> None:
        take = self.with_take()
        self.act("steady", {})
        values: dict[str, Any] = (
            dict.fromkeys(MOMENTS, 200000.0) | dict.fromkeys(BARS, 139000) | dict.fromkeys(PLACES, 556000.0)
        )
        fillers: dict[str, Any] = {
            "take": take,
            "bpm": 120.0,
            "beats": 4,
            "meter": "4/4",
            "number": 0,
            "times": 1,
            "name": "x",
            "rank": 1,
            "factor": 2,
        }
        seen, before = 0, self.picture()["version"]
        for name, one in sorted(DECISIONS.items()):
            fields = one.args.model_fields
            for far in sorted(set(values) & set(fields)):
                args: dict[str, Any] = {}
                for field, info in fields.items():
                    if field == far:
                        args[field] = (
                            [values[far]]
                            if field == "times_s" or str(info.annotation).startswith("list")
                            else values[far]
                        )
                    elif info.is_required():
                        near = (
                            1.0
                            if field in MOMENTS or field in PLACES
                            else 1
                            if field in BARS
                            else fillers.get(field)
                        )
                        args[field] = [near] if str(info.annotation).startswith("list") else near
                answer = self.act(name, args)
                with self.subTest(action=name, field=far):
                    self.assertEqual(answer.status_code, 422, answer.text)
                    self.assertIn("Nothing was changed", answer.text)
                seen += "more than an hour outside" in answer.text
        self.assertGreater(seen, 25)
        self.assertEqual(self.picture()["version"], before)

    def test_every_field_that_names_a_moment_a_bar_or_a_place_is_looked_at(self) -> None:
        # In the part's own time: it is looked up among its notes, and refused where none is.
        elsewhere = {("note-pull", "own"), ("note-release", "own")}
        for name, one in DECISIONS.items():
            for field, info in one.args.model_fields.items():
                text = str(info)
                far = (
                    "1000000.0" in text
                    or "bar" in field.split("_")
                    or field.endswith(("_s", "_q"))
                    or field == "quarters"
                )
                if far and field not in (*MOMENTS, *BARS, *PLACES) and (name, field) not in elsewhere:
                    with self.subTest(action=name, field=field):
                        self.assertIn((name, field), {("steady", "bar_1_s"), ("take-off-delay", "delay_s")})

    def test_render_says_what_became_a_step(self) -> None:
        take = self.with_take()
        self.act("steady", {})
        version = self.picture()["version"]
        first = self.client.post(
            f"/api/sessions/{self.session}/render", json={"take": take, "version": version}
        ).json()
        self.assertEqual(first["version"], self.picture()["version"])
        self.assertEqual(first["note"] is not None, first["version"] != version)
        second = self.client.post(
            f"/api/sessions/{self.session}/render", json={"take": take, "version": first["version"]}
        ).json()
        self.assertEqual((second["version"], second["note"]), (first["version"], None))


# Many times as long as a sender may be silent there.
SILENCE_S = 5.0


class SlowTest(unittest.TestCase):
    def receive(self, pauses: list[tuple[float, bytes]]) -> int:
        clock = SimpleNamespace(now=0.0)

        async def stream() -> Any:
            for pause, data in pauses:
                clock.now += pause
                if pause >= SILENCE_S:
                    await asyncio.sleep(pause)
                yield data

        with (
            tempfile.TemporaryDirectory() as folder,
            # Pauses pass on a clock of the test's own; silence alone is waited for.
            mock.patch.object(deps, "time", SimpleNamespace(monotonic=lambda: clock.now)),
            mock.patch.object(deps, "SLOW_S", 0.3),
            mock.patch.object(deps, "SLOW_BYTES", 1000),
        ):
            request: Any = SimpleNamespace(stream=stream)
            return asyncio.run(deps.receive(request, Path(folder) / "x", 10**6, MediaError("too large")))

    def test_slow_and_silent_senders_are_sent_away(self) -> None:
        for pauses in ([(0.05, b"x")] * 40, [(0.0, b"x" * 500), (SILENCE_S, b"x" * 5000)]):
            with self.assertRaisesRegex(MediaError, "came slower than.*drop it again"):
                self.receive(pauses)

    def test_a_steady_sender_may_take_its_time(self) -> None:
        self.assertEqual(self.receive([(0.05, b"x" * 400)] * 20), 8000)
        self.assertEqual(self.receive([(0.0, b"")]), 0)


class FullDiskTest(WireTest):
    """/dev/full says what a full disk says (Linux, full(4))."""

    def full(self, suffix: str = "") -> Path:
        path = self.place.blobs.temporary / f"full{suffix}"
        path.unlink(missing_ok=True)
        path.symlink_to("/dev/full")
        return path

    def test_an_upload_on_a_full_disk(self) -> None:
        with mock.patch.object(self.place.blobs, "new_path", self.full), self.assertLogs("combpace", "ERROR"):
            answer = self.put(wav_bytes())
        self.assertEqual(answer.status_code, 507)
        self.assertRegex(answer.json()["error"], r"The disk of .* is full .* make room there")
        self.assertEqual(self.picture()["takes"], [])
        self.assertEqual(list(self.place.blobs.temporary.iterdir()), [])
        self.assertEqual(self.put(wav_bytes()).status_code, 200)

    def test_an_archive_on_a_full_disk_leaves_no_half(self) -> None:
        self.with_take()
        with mock.patch.object(self.place.blobs, "new_path", self.full), self.assertLogs("combpace", "ERROR"):
            self.assertEqual(self.client.get(f"/api/sessions/{self.session}/archive").status_code, 507)
        self.assertEqual(list(self.place.blobs.temporary.iterdir()), [])

    def test_a_piece_that_is_saved_or_made_its_own_on_a_full_disk(self) -> None:
        take = self.with_take()
        self.act("cut-and-lay", {"take": take, "at": "beats", "lay": "1/4"})
        saved = f"/api/sessions/{self.session}/takes/{take}/pieces/1"
        real = sf.SoundFile

        def opened(path: Any, mode: str = "r", **form: Any) -> sf.SoundFile:
            if mode == "w" and isinstance(path, Path):
                # "System error", which is all that it says.
                raise sf.LibsndfileError(2)
            return real(path, mode, **form)

        full = mock.patch("shutil.disk_usage", return_value=mock.Mock(free=0))
        with mock.patch.object(sf, "SoundFile", opened), full, self.assertLogs("combpace", "ERROR"):
            for answer in (self.client.get(saved), self.act("piece-own", {"take": take, "number": 1})):
                self.assertEqual(answer.status_code, 507)
                self.assertRegex(answer.json()["error"], r"The disk of .* is full .* make room there")
        self.assertEqual(list(self.place.blobs.temporary.iterdir()), [])
        self.assertEqual(self.client.get(saved).status_code, 200)
        self.assertEqual(self.act("piece-own", {"take": take, "number": 1}).status_code, 200)

    def test_names_of_any_length_are_no_fault(self) -> None:
        for name in ("x." + "a" * 250, "\u4e2d" * 300 + ".csv", "-rf.csv", "con.csv", "." * 250):
            answer = self.client.put(
                f"/api/sessions/{self.session}/map-file", params={"name": name}, content=b"time\n1\n2\n"
            )
            self.assertIn(answer.status_code, (200, 422), f"{name[:20]}: {answer.text[:200]}")

    def test_a_job_that_finds_no_room_says_so_and_the_next_goes_on(self) -> None:
        take = self.put(wav_bytes()).json()["take"]
        job = rows.next_job(self.place.database)
        assert job is not None
        with (
            mock.patch.object(importing, "decode_to_wav", side_effect=OSError(28, "No space left on device")),
            mock.patch("resource.setrlimit"),
        ):
            process.run(self.place.settings, job, 1, "combpace.stations.registry")
        row = self.place.take_row(take)
        self.assertEqual(row.state, "failed")
        self.assertIn("is full", row.error or "")
        importing.listen_again(self.place, self.session, take)
        job = rows.next_job(self.place.database)
        assert job is not None
        with mock.patch("resource.setrlimit"):
            process.run(self.place.settings, job, 1, "combpace.stations.registry")
        self.assertEqual(self.place.take_row(take).state, "ready")

    def test_an_end_that_cannot_be_written_down_is_written_later(self) -> None:
        self.put(wav_bytes())
        job = rows.next_job(self.place.database)
        assert job is not None
        full = OSError(28, "No space left on device")
        with (
            mock.patch.object(importing, "decode_to_wav", side_effect=full),
            mock.patch.object(process, "finish", side_effect=full),
            mock.patch("resource.setrlimit"),
            self.assertRaises(SystemExit) as ended,
        ):
            process.run(self.place.settings, job, 1, "combpace.stations.registry")
        self.assertEqual(ended.exception.code, process.NO_ROOM)
        made = dispatcher.Dispatcher(self.place, "combpace.stations.registry")
        gone = SimpleNamespace(
            started=lambda: [job],
            alive=lambda _: False,
            outcome=lambda _: Outcome(error=f"it ended with status {process.NO_ROOM}"),
            free=lambda: 0,
        )
        with mock.patch.object(made, "_processes", gone):
            made._collect()
        row = rows.job_row(self.place.database, job)
        assert row is not None
        self.assertEqual(row.state, "failed")
        self.assertIn("was full", row.error or "")

    def test_the_shelf_is_read_where_nothing_can_be_written(self) -> None:
        self.with_take()
        with mock.patch.object(self.place.database, "writing", side_effect=self.refused()):
            page = self.client.get("/")
            self.assertEqual(page.status_code, 200)
            self.assertIn("Copper night", page.text)

    def refused(self) -> Exception:
        from combpace.core.errors import StorageError

        return StorageError("full", full=True)
