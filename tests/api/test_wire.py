"""The wire, through the application itself but without a socket."""

import hashlib
import io
import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import soundfile as sf
from starlette.testclient import TestClient

from bench.formats import FORMATS, written
from combpace.drawing.picture import map_table
from combpace.session import shelf, words
from combpace.session.decisions import DECISIONS
from combpace.settings import Settings
from combpace.stations.handoff.ordering import Wish
from combpace.stations.registry import STATIONS
from combpace.stations.takes import importing
from combpace.web.app import create_app
from rig import heard
from rig.places import breathing
from rig.sounds import struck
from rig.waiting import HANG_S


def wav_bytes(rate: int = 44100, start: float = 1.0) -> bytes:
    out = io.BytesIO()
    audio = breathing(start=start, rate=rate)[1]
    sf.write(out, audio.samples.T, rate, format="WAV", subtype="PCM_16")
    return out.getvalue()


class WireTest(unittest.TestCase):
    """An application over a folder of its own, without jobs; tests are its children's, or each would run in
    all of them.
    """

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.app = create_app(
            replace(Settings(), data_dir=Path(folder.name), upload_cap=3_000_000), with_jobs=False
        )
        self.client = TestClient(self.app, base_url="http://localhost", raise_server_exceptions=False)
        self.place = self.app.state.folder
        self.addCleanup(self.app.state.previewer.close)
        self.addCleanup(self.place.close)
        self.session = self.client.post("/api/sessions", json={"name": "Copper night"}).json()["id"]

    def put(self, data: bytes, name: str = "tub kit.wav", **headers: str):  # type: ignore[no-untyped-def]
        return self.client.put(
            f"/api/sessions/{self.session}/uploads", params={"name": name}, content=data, headers=headers
        )

    def with_take(self) -> str:
        data = wav_bytes()
        heard.give(self.place, hashlib.sha256(data).hexdigest(), "tub kit.wav")
        take: str = self.put(data).json()["take"]
        heard.imported(self.place, take)
        return take

    def picture(self) -> dict[str, Any]:
        found: dict[str, Any] = self.client.get(f"/api/sessions/{self.session}/picture").json()
        return found

    def act(self, name: str, args: dict[str, Any], version: int | None = None):  # type: ignore[no-untyped-def]
        body = {"version": self.picture()["version"] if version is None else version, "args": args}
        return self.client.post(f"/api/sessions/{self.session}/act/{name}", json=body)


class GuardTest(WireTest):
    def test_foreign_hosts_and_origins_are_refused(self) -> None:
        self.assertEqual(self.client.get("/", headers={"host": "evil.example"}).status_code, 400)
        self.assertEqual(self.client.get("/", headers={"host": "[::1"}).status_code, 400)
        for headers in (
            {"origin": "http://evil.example"},
            {"origin": "null"},
            {"sec-fetch-site": "cross-site"},
        ):
            with self.subTest(headers=headers):
                self.assertEqual(
                    self.client.post("/api/sessions", json={"name": "x"}, headers=headers).status_code, 403
                )
        self.assertEqual(
            self.client.post(
                "/api/sessions", json={"name": "x"}, headers={"origin": "http://localhost"}
            ).status_code,
            200,
        )

    def test_headers_allow_no_inline_script(self) -> None:
        for path in ("/", f"/sessions/{self.session}/takes", "/nowhere"):
            answer = self.client.get(path)
            policy = answer.headers["content-security-policy"]
            self.assertIn("script-src 'self';", policy)
            self.assertNotIn("unsafe", policy)
            self.assertEqual(answer.headers["x-content-type-options"], "nosniff")
            for piece in answer.text.split("<script")[1:]:
                tag, _, rest = piece.partition(">")
                self.assertTrue(
                    "src=" in tag or "application/json" in tag or not rest.split("</script>")[0].strip()
                )
            self.assertNotRegex(answer.text, r"\son\w+=|style=\"")

    def test_odd_addresses_are_no_fault(self) -> None:
        for path in (
            "/sessions/%00/bars",
            "/api/files/%00",
            "/sessions/x/bars",
            "/sessions/x/nowhere",
            "/api/jobs/1",
            "/api/takes/0/peaks?size=32",
            "/static/../../etc/passwd",
        ):
            with self.subTest(path=path):
                answer = self.client.get(path)
                self.assertIn(answer.status_code, (400, 404))
                self.assertNotIn("Traceback", answer.text)


class UploadTest(WireTest):
    def test_an_upload_is_kept_as_it_came(self) -> None:
        data = wav_bytes()
        take = self.put(data, "C:\\tapes\\../tub kit.wav").json()["take"]
        back = self.client.get(f"/api/sessions/{self.session}/sources/{take}")
        self.assertEqual(back.content, data)
        self.assertIn("tub%20kit.wav", back.headers["content-disposition"].replace("tub kit", "tub%20kit"))
        self.assertEqual(self.picture()["takes"][0]["role"], "lead")

    def test_too_large_and_empty_are_refused_and_leave_nothing(self) -> None:
        for data in (b"x" * 3_000_001, b""):
            answer = self.put(data)
            self.assertEqual(answer.status_code, 422)
            self.assertIn("Nothing was imported", answer.json()["error"])
        chunked = self.client.put(
            f"/api/sessions/{self.session}/uploads?name=a.wav", content=(b"y" * 500_000 for _ in range(8))
        )
        self.assertEqual(chunked.status_code, 422)
        self.assertEqual(list(self.place.blobs.temporary.iterdir()), [])
        self.assertEqual(self.picture()["takes"], [])
        self.assertEqual(
            self.client.put("/api/sessions/nobody/uploads?name=a.wav", content=b"x").status_code, 404
        )


class ActionsTest(WireTest):
    def test_a_decision_and_its_undo(self) -> None:
        self.with_take()
        before = self.picture()
        moment = before["bars"][3]["s"] + 0.004
        answer = self.act("bar-1", {"time_s": moment})
        self.assertEqual(answer.status_code, 200, answer.text)
        self.assertAlmostEqual(
            next(bar["s"] for bar in self.picture()["bars"] if bar["n"] == 1),
            before["bars"][3]["s"],
            places=3,
        )
        self.assertEqual(self.act("undo", {}).status_code, 200)
        self.assertEqual(self.picture()["bars"], before["bars"])

    def test_stale_pages_get_a_409_with_the_newest_revision(self) -> None:
        self.with_take()
        old = self.picture()["version"]
        self.act("meter", {"meter": "3/4"})
        answer = self.act("meter", {"meter": "5/4"}, version=old)
        self.assertEqual(answer.status_code, 409)
        self.assertEqual(answer.json()["newest"], self.picture()["version"])
        self.assertTrue(answer.json()["parts"])

    def test_nonsense_is_a_sentence(self) -> None:
        self.with_take()
        for name, args in (
            ("bar-1", {}),
            ("bar-1", {"time_s": "soon"}),
            ("bar-1", {"time_s": 1e99}),
            ("bar-1", {"time_s": 1, "more": 2}),
            ("dance", {}),
            ("onset-add", {"take": "x", "time_s": 1}),
            ("onset-add", {"take": "0" * 16, "time_s": 1}),
            ("rule", {"take": "0" * 16, "field": "grid", "value": "1/8"}),
            ("redo", {}),
            ("steady", {"bpm": "fast"}),
            ("steady", {"bpm": "nan"}),
            ("peg", {"take": "0" * 16, "take_s": 1}),
        ):
            with self.subTest(name=name, args=args):
                answer = self.act(name, args)
                self.assertIn(answer.status_code, (404, 422), answer.text)
                self.assertGreater(len(answer.json()["error"]), 20)
        self.assertEqual(
            self.client.post(f"/api/sessions/{self.session}/act/undo", content=b"{").status_code, 422
        )

    def test_the_list_of_decisions_in_the_docs_is_not_stale(self) -> None:
        page = FORMATS.read_text(encoding="utf-8")
        self.assertEqual(page, written(page), "run python -m bench.formats --write")
        self.assertIn("| `read-again` | `about_bpm` text or number |", page)

    def test_every_place_to_look_at_can_be_acted_on(self) -> None:
        self.with_take()
        for station in STATIONS:
            found = self.client.get(f"/api/sessions/{self.session}/look", params={"station": station}).json()[
                "places"
            ]
            self.assertEqual(
                sorted((place["worth"] for place in found), reverse=True), [place["worth"] for place in found]
            )
            for place in found:
                self.assertEqual(set(place), {"where", "title", "reason", "time_s", "worth", "do", "keep"})
                for action in filter(None, (place["do"], place["keep"])):
                    self.assertTrue(action["name"] in DECISIONS or action["name"] == "listen-again")
                    if action["name"] in DECISIONS:
                        DECISIONS[action["name"]].args.model_validate(action["args"])
        answer = self.client.get(f"/api/sessions/{self.session}/look", params={"station": "attic"})
        self.assertEqual(answer.status_code, 404)
        self.assertIn("no such station", answer.json()["error"])


class DataTest(WireTest):
    def test_peaks_and_sound(self) -> None:
        take = self.with_take()
        answer = self.client.get(f"/api/takes/{take}/peaks", params={"size": 256, "first": 0, "count": 100})
        self.assertEqual(len(answer.content), 400)
        again = self.client.get(
            f"/api/takes/{take}/peaks",
            params={"size": 256},
            headers={"if-none-match": answer.headers["etag"]},
        )
        self.assertEqual(again.status_code, 304)
        self.assertEqual(self.client.get(f"/api/takes/{take}/peaks", params={"size": 33}).status_code, 422)
        self.assertEqual(
            len(
                self.client.get(
                    f"/api/takes/{take}/peaks", params={"size": 1, "first": 10, "count": 7}
                ).content
            ),
            7 * 4,
        )
        # A server has it ready; how long a busy machine takes to begin it is not asked here.
        self.app.state.previewer.warm()
        for speed, fitted in ((1.0, False), (0.7, False), (1.0, True)):
            sound = self.client.get(
                f"/api/sessions/{self.session}/takes/{take}/sound",
                params={"segment": 0, "rate": 48000, "speed": speed, "fitted": fitted},
            )
            self.assertEqual(sound.status_code, 200, sound.text[:200])
            samples = np.frombuffer(sound.content, "<f4")
            self.assertEqual(len(samples), 96000 * int(sound.headers["x-channels"]))
            # The first beat is at 1 s, or later where it is slowed.
            first = np.flatnonzero(np.abs(samples) > 0.1)[0] / 48000
            self.assertAlmostEqual(first, 1.0 / speed, delta=0.01)
        for bad in ({"segment": 0, "rate": 1}, {"segment": 0, "rate": 48000, "speed": 0.1}, {"rate": 48000}):
            self.assertEqual(
                self.client.get(f"/api/sessions/{self.session}/takes/{take}/sound", params=bad).status_code,
                422,
            )

    def test_pieces_are_drawn_heard_slowly_tried_and_saved(self) -> None:
        take = self.with_take()
        args = {"take": take, "at": "onsets", "lay": "1/8"}
        version = self.client.get(f"/api/sessions/{self.session}/picture").json()["version"]
        params: dict[str, Any] = {
            "segment": 0,
            "rate": 48000,
            "fitted": True,
            "trial": json.dumps({"version": version, **args}),
        }
        tried = self.client.get(f"/api/sessions/{self.session}/takes/{take}/sound", params=params)
        self.assertEqual(tried.status_code, 200, tried.text[:200])
        self.assertEqual(self.act("cut-and-lay", args).status_code, 200)
        sound = f"/api/sessions/{self.session}/takes/{take}/sound"
        heard = self.client.get(sound, params={"segment": 0, "rate": 48000, "fitted": True})
        self.assertEqual(heard.content, tried.content)
        slowed = self.client.get(sound, params={"segment": 0, "rate": 48000, "fitted": True, "speed": 0.5})
        self.assertEqual(len(slowed.content), len(heard.content))
        for trial in ("{", json.dumps({"version": version, "take": take, "at": "nowhere"}), json.dumps([1])):
            self.assertIn(
                self.client.get(sound, params={**params, "trial": trial}).status_code, (404, 409, 422)
            )
        key = next(
            one["pieces"]
            for one in self.client.get(f"/api/sessions/{self.session}/picture").json()["takes"]
            if one["id"] == take
        )
        laid = self.client.get(
            f"/api/takes/{take}/laid/{key}/peaks", params={"size": 256, "first": 0, "count": 100}
        )
        self.assertEqual(len(laid.content), 400)
        self.assertEqual(
            self.client.get(f"/api/takes/{take}/laid/{'0' * 16}/peaks", params={"size": 256}).status_code, 404
        )
        self.assertEqual(
            self.client.get(f"/api/takes/{take}/sounds/{'0' * 64}/peaks", params={"size": 256}).status_code,
            404,
        )
        saved = self.client.get(
            f"/api/sessions/{self.session}/takes/{take}/pieces/1", params={"kind": "flac"}
        )
        self.assertEqual(saved.content[:4], b"fLaC")
        for number, kind in ((9000, "wav24"), (1, "tape")):
            self.assertEqual(
                self.client.get(
                    f"/api/sessions/{self.session}/takes/{take}/pieces/{number}", params={"kind": kind}
                ).status_code,
                422,
            )

    def test_a_session_as_an_archive_out_and_in(self) -> None:
        self.with_take()
        answer = self.client.get(f"/api/sessions/{self.session}/archive")
        self.assertEqual(answer.status_code, 200)
        self.assertIn(".combpace", answer.headers["content-disposition"])
        opened = self.client.put("/api/archives", params={"name": "x.combpace"}, content=answer.content)
        self.assertEqual(opened.status_code, 200, opened.text[:200])
        new = opened.json()["id"]
        self.assertNotEqual(new, self.session)
        bars = [self.client.get(f"/api/sessions/{one}/picture").json()["bars"] for one in (new, self.session)]
        self.assertEqual(*bars)
        bad = self.client.put("/api/archives", params={"name": "x.combpace"}, content=answer.content[:5000])
        self.assertEqual(bad.status_code, 422)
        self.assertIn("Nothing was imported", bad.json()["error"])
        self.assertEqual(self.client.get(f"/api/sessions/{'0' * 16}/archive").status_code, 404)

    def test_map_vectors_for_the_browser(self) -> None:
        """The vectors that tests/js checks are what Python says today."""
        from tests.js_vectors import CLICKS, NUMBERS, VECTORS, clicks, maps, numbers

        self.assertEqual(json.loads(CLICKS.read_text()), clicks())
        self.assertEqual(json.loads(NUMBERS.read_text()), numbers())

        kept = json.loads(VECTORS.read_text())
        for entry, line in zip(kept, maps(), strict=True):
            self.assertEqual(entry["table"], map_table(line))
            self.assertEqual(entry["words"], [words.place(line, place) for place in entry["named"]])
            np.testing.assert_allclose(
                entry["seconds"], line.to_seconds(np.array(entry["places"])), atol=1e-12
            )  # type: ignore[arg-type]


class EventsTest(WireTest):
    def test_news_come_once_and_old_news_not_at_all(self) -> None:
        import asyncio

        from combpace.web.api import events

        self.put(wav_bytes())
        done = self.place.database

        async def listen() -> list[str]:
            heard: list[str] = []
            request = type("Request", (), {"app": self.app})()
            stream = events._events(self.session, request, self.place)  # type: ignore[arg-type]
            heard.append(await anext(stream))
            # The import of the take is queued: it is news for a page that opens now.
            heard.append(await anext(stream))
            with done.writing() as db:
                from combpace.store.models import JobRow, now

                for row in db.query(JobRow):
                    row.state, row.changed = "done", now()
            heard.append(await anext(stream))
            self.app.state.stopping.set()
            return heard

        heard = asyncio.run(asyncio.wait_for(listen(), HANG_S))
        self.assertEqual(
            [text.split("\n")[0] for text in heard], ["event: jobs", "event: version", "event: jobs"]
        )
        self.assertIn('"state": "done"', heard[2])


class JobsWireTest(WireTest):
    def test_render_and_hand_off_are_queued_and_can_be_cancelled(self) -> None:
        take = self.with_take()
        version = self.picture()["version"]
        job = self.client.post(
            f"/api/sessions/{self.session}/render", json={"take": take, "version": version}
        ).json()["job"]
        self.assertEqual(self.client.get(f"/api/jobs/{job}").json()["state"], "queued")
        self.assertEqual(self.client.post(f"/api/jobs/{job}/cancel").json()["state"], "cancelled")
        body = {"takes": [take], "kind": "wav16", "start": "lead-in", "extras": ["midi"]}
        self.assertEqual(
            self.client.post(f"/api/sessions/{self.session}/hand-off", json=body).status_code, 200
        )
        for wrong in (
            {**body, "kind": "mp9"},
            {**body, "start": "never"},
            {**body, "takes": ["x"]},
            {**body, "takes": [], "extras": []},
        ):
            answer = self.client.post(f"/api/sessions/{self.session}/hand-off", json=wrong)
            self.assertEqual(answer.status_code, 422)
            self.assertGreater(len(answer.json()["error"]), 15)

    def test_sessions_over_the_wire(self) -> None:
        copy = self.client.post(f"/api/sessions/{self.session}/duplicate").json()["id"]
        self.assertIn("(copy)", self.client.get(f"/sessions/{copy}/takes").text)
        self.client.request("DELETE", f"/api/sessions/{copy}", json={})
        self.assertNotIn(copy, self.client.get("/").text)
        self.client.post(f"/api/sessions/{copy}/restore", json={})
        self.assertIn(copy, self.client.get("/").text)
        self.client.put(f"/api/sessions/{self.session}/levels", json={"grid": "1/16"})
        self.assertIn('"grid":"1/16"', self.client.get(f"/sessions/{self.session}/takes").text)
        self.assertEqual(
            self.client.put(f"/api/sessions/{self.session}/levels", json={"x": "y" * 30000}).status_code, 422
        )
        self.assertEqual(
            self.client.patch(f"/api/sessions/{self.session}", json={"name": " "}).status_code, 422
        )

    def test_the_weave_is_bytes(self) -> None:
        self.with_take()
        answer = self.client.get(f"/api/sessions/{self.session}/weave", params={"columns": 100})
        self.assertEqual(len(answer.content), 100 * int(answer.headers["x-rows"]))
        self.assertGreater(max(answer.content), 100)


class PagesTest(WireTest):
    def test_the_bars_of_an_arrival_are_a_page(self) -> None:
        self.with_take()
        out = io.BytesIO()
        sf.write(out, struck(np.arange(0.0, 4.0, 0.5), 4.0).samples.T, 44100, format="WAV", subtype="PCM_16")
        loop = self.put(out.getvalue(), "loop.wav").json()["take"]
        importing.import_take(self.place, {"take": loop}, lambda phase, share: None)
        self.assertEqual([one["id"] for one in self.picture()["arrivals"]], [loop])
        page = self.client.get(f"/sessions/{self.session}/bars", params={"of": loop})
        self.assertEqual(page.status_code, 200)
        self.assertIn("It follows the session from bar 1", page.text)

    def test_pauses_are_seen_as_hand_off_says_them(self) -> None:
        take = self.with_take()

        def said(query: str = "") -> tuple[float, float]:
            made = self.client.get(f"/api/sessions/{self.session}/takes/{take}/pauses{query}").json()
            self.assertIn("pauses", made)
            return made["below_db"], made["least_ms"]

        self.assertEqual(said(), (50.0, 80.0))
        wish = Wish(takes=[take], silence="35,120").model_dump(mode="json")
        shelf.keep_beside(self.place, self.session, "handoff", wish)
        self.assertEqual(said(), (35.0, 120.0))
        self.assertEqual(said("?limits=40,60"), (40.0, 60.0))

    def test_the_fit_page_with_advice_that_has_no_button(self) -> None:
        take = self.with_take()
        self.act("steady", {})
        marks = self.picture()["onsets"][take]["t"]
        # Beside a peg by hand, and so that no pause can take it all.
        self.assertEqual(self.act("as-played", {"take": take, "times_s": [marks[9]]}).status_code, 200)
        self.assertEqual(
            self.act("peg", {"take": take, "take_s": marks[8], "quarters": 8.72}).status_code, 200
        )
        page = self.client.get(f"/sessions/{self.session}/fit", params={"take": take})
        self.assertEqual(page.status_code, 200)
        self.assertIn("will be heard; they are listed below", page.text)

    def test_every_station_is_rendered_whole_and_in_part(self) -> None:
        for filled in (False, True):
            if filled:
                self.with_take()
            for station in ("takes", "pace", "bars", "onsets", "fit", "hand-off"):
                whole = self.client.get(f"/sessions/{self.session}/{station}")
                part = self.client.get(f"/sessions/{self.session}/{station}?part=1")
                with self.subTest(station=station, filled=filled):
                    self.assertEqual((whole.status_code, part.status_code), (200, 200))
                    self.assertIn("<!doctype html>", whole.text)
                    self.assertNotIn("<!doctype", part.text)
                    self.assertIn('data-region="side"', part.text)
                    self.assertIn('aria-current="page"', whole.text)
        self.assertIn("<caption>Bars</caption>", self.client.get(f"/sessions/{self.session}/bars").text)

    def test_a_doubtful_count_is_not_taken_for_doubtful_playing(self) -> None:
        out = io.BytesIO()
        sf.write(
            out, struck(0.5 + np.arange(20) * 60 / 45, 28.0).samples.T, 44100, format="WAV", subtype="PCM_16"
        )
        take = self.put(out.getvalue(), "click.wav").json()["take"]
        importing.import_take(self.place, {"take": take}, lambda phase, share: None)
        page = self.client.get(f"/sessions/{self.session}/pace").text
        self.assertIn("The playing is steady: one tempo will do", page)
        self.assertRegex(page, r"is only \d+ % sure: hear the ways to count it")
        self.assertNotIn("too soft", page)
        self.act("scale", {"factor": 2})
        # As the user has it nobody doubts the count.
        self.assertNotIn("listen with the click", self.client.get(f"/sessions/{self.session}/pace").text)

    def test_shelf_finds_and_names_are_escaped(self) -> None:
        self.client.patch(f"/api/sessions/{self.session}", json={"name": "<b>Steam & Co</b>"})
        page = self.client.get("/?find=steam").text
        self.assertIn("&lt;b&gt;Steam &amp; Co&lt;/b&gt;", page)
        self.assertIn("No session is called", self.client.get("/?find=zzz").text)
        self.assertEqual(
            self.client.get(f"/sessions/{self.session}", follow_redirects=False).headers["location"],
            f"/sessions/{self.session}/takes",
        )

    def test_missing_things_are_a_page_with_a_way_on(self) -> None:
        answer = self.client.get("/sessions/0000000000000000/bars")
        self.assertEqual(answer.status_code, 404)
        self.assertIn("Go to the shelf", answer.text)
