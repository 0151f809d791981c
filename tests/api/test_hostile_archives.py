"""Archives whose hashes are right and whose content is not: refused in a sentence, or a session like any
other; never a fault, and never the shelf.
"""

from __future__ import annotations

import hashlib
import io
import json
import random
import resource
import time
import zipfile
from typing import Any

import mido
import numpy as np

from combpace.core.errors import ParameterError
from combpace.session.archive import write_archive
from combpace.session.archive_judge import judge
from combpace.session.document.model import FORMAT
from combpace.stations.registry import STATIONS
from combpace.store import rows
from combpace.store.history import begin
from combpace.workers.bounded import bounded
from rig.hostile_archives import Archive, packed
from rig.places import bring_in
from rig.sounds import struck
from tests.api.test_wire import WireTest

CHANGES, SLOW_S = 25, 2.0


def notes(count: int = 12) -> bytes:
    """A MIDI file of one part."""
    file = mido.MidiFile(ticks_per_beat=480)
    track = mido.MidiTrack()
    for k in range(count):
        track += [
            mido.Message("note_on", note=60 + k, time=0),
            mido.Message("note_off", note=60 + k, time=240),
        ]
    file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


class HostileArchivesTest(WireTest):
    def setUp(self) -> None:
        super().setUp()
        lead = self.with_take()
        loop = bring_in(
            self.place, self.session, struck([0.5 * k for k in range(8)], 4.0, low_every=4), "loop.wav"
        )
        self.put(notes(), "line.mid")
        for name, args in (
            ("meter", {"meter": "3/4"}),
            ("downbeat", {"time_s": 2.0}),
            ("rule", {"take": lead, "field": "strength", "value": "70"}),
            ("onset-add", {"take": lead, "time_s": 1.63}),
            ("peg", {"take": lead, "take_s": 1.63, "session_s": 1.66}),
            ("cut-and-lay", {"take": loop, "at": "beats", "lay": "1/4"}),
            ("piece-level", {"take": loop, "number": 1, "level_db": -3.0}),
            ("piece-own", {"take": loop, "number": 1}),
        ):
            self.act(name, args)
        self.client.put(
            f"/api/sessions/{self.session}/levels",
            json={"mix": {lead: {"level": -3, "pan": 0, "mute": False, "solo": False}}},
        )
        out = io.BytesIO()
        write_archive(self.place, self.session, out)
        self.whole = Archive(out.getvalue())

    def test_one_value_changed_is_no_fault(self) -> None:
        rng = random.Random(5)
        wrong: list[str] = []
        taken = 0
        for _ in range(CHANGES):
            said, data = self.whole.changed(rng)
            status, made = self.opened(said, data, wrong)
            taken += status == 200
            if made is not None:
                self.client.delete(f"/api/sessions/{made}")
        self.assertEqual(wrong, [], "\n".join(["", *wrong]))
        self.assertGreater(CHANGES, taken, "some were refused")

    def opened(self, said: str, data: bytes, wrong: list[str]) -> tuple[int, str | None]:
        """Import it, and where it is taken look at everything of it."""
        begun = time.monotonic()
        answer = self.client.put("/api/archives", params={"name": "x"}, content=data)
        if answer.status_code != 200:
            if answer.status_code >= 500 or not answer.json()["error"].endswith("Nothing was imported."):
                wrong.append(f"{said}: {answer.status_code} {answer.text[:200]}")
            return answer.status_code, None
        made = answer.json()["id"]
        paths = ["/", *(f"/sessions/{made}/{station}" for station in STATIONS)]
        paths += [
            f"/api/sessions/{made}/{one}" for one in ("picture", "weave?columns=64", "readings", "stack")
        ]
        paths += [f"/api/sessions/{made}/look?station={station}" for station in STATIONS]
        for path in paths:
            begun = time.monotonic()
            answer = self.client.get(path)
            took = time.monotonic() - begun
            if answer.status_code >= 500 or took > SLOW_S or (path == "/" and answer.status_code != 200):
                why = "slow" if answer.status_code == 200 else answer.text[:160]
                wrong.append(f"{said}: {answer.status_code} {took:.1f} s {path} {why}")
            elif path.endswith("picture"):
                try:
                    json.loads(answer.text, parse_constant=_none)
                except ValueError:
                    wrong.append(f"{said}: a number in the picture that is none")
        sounds = self.client.get(f"/api/sessions/{made}/picture").json().get("takes", [])
        for take in sounds[:3]:
            answer = self.client.get(
                f"/api/sessions/{made}/takes/{take['id']}/sound", params={"segment": 0, "rate": 22050}
            )
            if answer.status_code >= 500:
                wrong.append(f"{said}: {answer.status_code} sound {answer.text[:160]}")
        return 200, made

    def test_a_session_that_cannot_be_read_never_takes_the_shelf(self) -> None:
        fine = self.client.post("/api/sessions", json={"name": "Fine one"}).json()["id"]
        whole = self.seen_parts()
        for damaged in (
            {**whole, "takes": [{**whole["takes"][0], "offset_s": 1e308}, *whole["takes"][1:]]},
            {**whole, "takes": [{"id": 5}]},
            {**whole, "map": {"kind": "given", "given": {"knots": 3}}},
        ):
            with self.subTest(damaged=str(damaged)[:80]), self.assertLogs("combpace", "WARNING"):
                # As an earlier version took it in.
                with self.place.database.writing() as db:
                    made = rows.add_session(db, "Old night")
                    begin(db, made, FORMAT, damaged, "It came in.")
                shelf = self.client.get("/")
                self.assertEqual(shelf.status_code, 200)
                for name in ("Fine one", "Old night", "cannot be read", f"/api/sessions/{made}/archive"):
                    self.assertIn(name, shelf.text)
                for station in STATIONS:
                    page = self.client.get(f"/sessions/{made}/{station}")
                    self.assertEqual(page.status_code, 422, page.text[:200])
                    self.assertIn("exported or removed", page.text)
                self.assertEqual(self.client.get(f"/api/sessions/{made}/picture").status_code, 422)
                self.assertEqual(self.client.get(f"/api/sessions/{made}/archive").content[:2], b"PK")
                self.assertEqual(self.client.delete(f"/api/sessions/{made}").status_code, 200)
                self.assertNotIn("Old night", self.client.get("/").text)
                self.assertEqual(self.client.get(f"/sessions/{fine}/takes").status_code, 200)

    def seen_parts(self) -> dict[str, Any]:
        return dict(self.place.open(self.session).revision.parts)

    def test_bombs_are_refused_before_they_are_read(self) -> None:
        manifest, blobs = self.whole.manifest, self.whole.blobs
        zeros = io.BytesIO()
        with zipfile.ZipFile(zeros, "w", zipfile.ZIP_DEFLATED) as pack:
            pack.writestr("manifest.json", json.dumps(manifest))
            with pack.open("blobs/" + "a" * 64, "w") as entry:
                for _ in range(200):
                    entry.write(bytes(2**20))
        brackets = io.BytesIO()
        with zipfile.ZipFile(brackets, "w") as pack:
            pack.writestr("manifest.json", b"[" * 60_000_000)
        flat = io.BytesIO()
        with zipfile.ZipFile(flat, "w") as pack:
            pack.writestr("manifest.json", b"[" + b"[],{}," * 10_000_000 + b"0]")
        header = io.BytesIO()
        with zipfile.ZipFile(header, "w") as pack:
            for name in ("times", "strength", "confidence", "activation", "pace", "facts"):
                data = io.BytesIO()
                np.lib.format.write_array_header_1_0(
                    data, {"descr": "<f8", "fortran_order": False, "shape": (10**12,)}
                )
                pack.writestr(f"{name}.npy", data.getvalue())
        sha = hashlib.sha256(header.getvalue()).hexdigest()
        lying = json.loads(json.dumps(manifest))
        lying["takes"][0]["analysis_sha"] = sha
        for name, data in (
            ("zeros", zeros.getvalue()),
            ("brackets", brackets.getvalue()),
            ("flat", flat.getvalue()),
            ("header", packed(lying, {**blobs, sha: header.getvalue()})),
        ):
            with self.subTest(name=name):
                path = self.place.blobs.new_path(".combpace")
                path.write_bytes(data)
                self.addCleanup(path.unlink, missing_ok=True)
                before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
                with self.assertRaisesRegex(ParameterError, "Nothing was imported"):
                    bounded("This archive", judge, path, self.place.settings.upload_cap)
                # It is judged elsewhere: this process has not grown.
                grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
                self.assertLess(grown, 100, f"{grown:.0f} MB")


def _none(name: str) -> Any:
    raise ValueError(name)
