"""What comes back, byte for byte: under the name of a sound comes that sound or nothing, however many ask at
once and whatever was decided in between.
"""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from starlette.testclient import TestClient

from rig.places import breathing, bring_in
from rig.sounds import struck
from rig.tiers import soak
from tests.api.test_wire import WireTest

RATE = 22050
CLIENTS = 8


class RightBytesTest(WireTest):
    """A breathing lead, a loop that follows, a mic of a second performance in pieces."""

    def setUp(self) -> None:
        super().setUp()
        self.lead = self.with_take()
        rng = np.random.default_rng(6)
        beats = breathing()[0]
        loose = beats + rng.uniform(-0.02, 0.02, len(beats))
        sound = struck(loose, float(loose[-1]) + 1.0, low_every=3)
        self.loose = bring_in(self.place, self.session, sound, "gravel strums.wav")
        self.cut = bring_in(self.place, self.session, struck(loose, float(loose[-1]) + 1.0), "tin loop.wav")
        self.act("rule", {"take": self.loose, "field": "strength", "value": "100"})
        self.done = self.act("cut-and-lay", {"take": self.cut, "at": "onsets", "lay": "1/8"})
        self.assertEqual(self.done.status_code, 200, self.done.text)
        # The worker is there before anybody counts how long it takes.
        self.app.state.previewer.warm()

    def names(self, take: str, focus: str | None = None) -> dict[str, str]:
        """What the picture calls the sounds of a take."""
        params = {"focus": focus} if focus else {}
        picture = self.client.get(f"/api/sessions/{self.session}/picture", params=params).json()
        known = (picture["fit"] or {}).get("names", {}).get(take)
        return known or next(one["sounds"] for one in picture["takes"] if one["id"] == take)

    def sound(self, take: str, **params: Any) -> Any:
        asked = {"segment": 1, "rate": RATE, **params}
        return self.client.get(f"/api/sessions/{self.session}/takes/{take}/sound", params=asked)

    def heard(self, take: str, names: dict[str, str], **params: Any) -> Any:
        """The sound of a take under its name."""
        fitted, slowed = params.get("fitted", False), params.get("speed", 1.0) != 1.0
        which = ("fitted_slowed" if slowed else "fitted") if fitted else "slowed" if slowed else "played"
        return self.sound(take, v=names[which], **params)

    def refused(self, answer: Any) -> str:
        """That this is no sound: 409 with the name that holds, and nobody keeps it."""
        self.assertEqual(answer.status_code, 409, answer.text[:200])
        self.assertEqual((answer.headers["cache-control"], list(answer.json())), ("no-store", ["v"]))
        now: str = answer.json()["v"]
        return now

    # -- an old name

    def test_another_maps_sound_never_comes_under_a_fits_name(self) -> None:
        names = self.names(self.loose, self.loose)
        first = self.heard(self.loose, names, fitted=True)
        self.assertEqual(first.status_code, 200, first.text[:200])
        self.assertIn("immutable", first.headers["cache-control"])
        self.assertEqual(
            self.act("rule", {"take": self.loose, "field": "strength", "value": "30"}).status_code, 200
        )
        now = self.refused(self.heard(self.loose, names, fitted=True))
        after = self.names(self.loose, self.loose)
        self.assertEqual(after["fitted"], now)
        other = self.heard(self.loose, after, fitted=True)
        self.assertNotEqual(other.content, first.content)
        # Undone, the old name is right again, and is that very sound.
        self.act("undo", {})
        self.refused(self.heard(self.loose, after, fitted=True))
        self.assertEqual(self.heard(self.loose, names, fitted=True).content, first.content)

    def test_a_take_whose_fit_is_not_drawn_is_named_by_all_that_was_decided(self) -> None:
        names = self.names(self.loose)
        self.assertEqual(self.heard(self.loose, names, fitted=True).status_code, 200)
        self.act("rule", {"take": self.loose, "field": "strength", "value": "30"})
        self.refused(self.heard(self.loose, names, fitted=True))
        self.act("undo", {})
        self.assertEqual(self.names(self.loose), names)

    def test_where_a_take_was_moved_its_old_place_is_refused(self) -> None:
        names = self.names(self.lead)
        before = self.heard(self.lead, names)
        self.act("take", {"take": self.lead, "field": "start", "value": "0.25"})
        self.refused(self.heard(self.lead, names))
        self.assertNotEqual(self.heard(self.lead, self.names(self.lead)).content, before.content)

    def test_slowed_sound_is_named_by_its_marks_and_its_bundle(self) -> None:
        names = self.names(self.lead)
        slow = self.heard(self.lead, names, speed=0.5)
        self.assertEqual(slow.status_code, 200, slow.text[:200])
        # A mark more: what must not smear is another.
        self.act("onset-add", {"take": self.lead, "time_s": 1.63})
        after = self.names(self.lead)
        self.assertEqual(after["played"], names["played"], "as played it sounds as before")
        self.refused(self.heard(self.lead, names, speed=0.5))
        self.assertNotEqual(self.heard(self.lead, after, speed=0.5).content, slow.content)
        # Mics of one performance are stretched as one.
        self.act("bundle", {"takes": [self.lead, self.loose], "name": "kit"})
        together = self.names(self.lead)
        self.assertNotEqual(together["slowed"], after["slowed"])
        self.refused(self.heard(self.lead, after, speed=0.5))

    def test_pieces_that_lie_otherwise_are_refused(self) -> None:
        names = self.names(self.cut)
        first = self.heard(self.cut, names, fitted=True)
        self.assertEqual(first.status_code, 200)
        self.act("piece-level", {"take": self.cut, "number": 2, "level_db": -6.0})
        for speed in (1.0, 0.5):
            self.refused(self.heard(self.cut, names, fitted=True, speed=speed))
        self.act("undo", {})
        self.assertEqual(self.heard(self.cut, names, fitted=True).content, first.content)

    def test_what_is_only_tried_and_what_has_no_name_is_kept_by_nobody(self) -> None:
        version = self.picture()["version"]
        trial = json.dumps({"version": version, "take": self.lead, "at": "onsets", "lay": "1/4"})
        for params in ({"trial": trial, "v": "abc"}, {}, {"fitted": True}, {"speed": 0.5}):
            answer = self.sound(self.lead, **params)
            self.assertEqual((answer.status_code, answer.headers["cache-control"]), (200, "no-store"), params)

    def test_keeping_pieces_and_rendering_go_by_the_version_that_was_seen(self) -> None:
        version = self.picture()["version"]
        self.act("piece-level", {"take": self.cut, "number": 2, "level_db": -6.0})
        for order, take in (("keep-pieces", self.cut), ("render", self.loose)):
            answer = self.client.post(
                f"/api/sessions/{self.session}/{order}", json={"take": take, "version": version}
            )
            self.assertEqual(answer.status_code, 409, f"{order}: {answer.text}")
            self.assertEqual(answer.json()["newest"], self.picture()["version"])

    # -- many at once

    def addresses(self) -> list[str]:
        """Every address of sound and of what is drawn, with a dozen parameters."""
        base, found = f"/api/sessions/{self.session}", []
        for take in (self.lead, self.loose, self.cut):
            names = self.names(take, take)
            for segment in (0, 1, 3):
                for speed, fitted, name in (
                    (1.0, False, "played"),
                    (0.5, False, "slowed"),
                    (0.7, True, "fitted_slowed"),
                    (1.0, True, "fitted"),
                ):
                    if names[name]:
                        found.append(
                            f"{base}/takes/{take}/sound?segment={segment}&rate={RATE}&speed={speed}"
                            f"&fitted={str(fitted).lower()}&v={names[name]}"
                        )
            found += [
                f"/api/takes/{take}/peaks?size={size}&first={first}&count=300"
                for size in (1, 256)
                for first in (0, 50)
            ]
            found += [f"{base}/takes/{take}/pauses?limits={limits}" for limits in ("50,80", "30,40")]
            found += [f"{base}/picture?focus={take}", f"{base}/picture?focus={take}&short=true&at=0"]
        key = next(one["pieces"] for one in self.picture()["takes"] if one["id"] == self.cut)
        if key:
            found += [f"/api/takes/{self.cut}/laid/{key}/peaks?size={size}&count=300" for size in (1, 32)]
        found += [f"{base}/stack?on={on}" for on in ("1/16", "1/8")]
        found += [f"{base}/activation", f"{base}/weave?columns=64", f"{base}/readings"]
        found += [f"{base}/measure?from_s=1&to_s=5"]
        return found

    def test_two_clients_hear_pieces_slowed_as_one_would(self) -> None:
        names = self.names(self.cut)
        base = f"/api/sessions/{self.session}/takes/{self.cut}/sound?rate={RATE}&speed=0.5&fitted=true"
        self.same_bytes([f"{base}&segment={k}&v={names['fitted_slowed']}" for k in range(6)], clients=2)

    @soak
    def test_by_many_at_once_and_one_by_one_come_the_same_bytes(self) -> None:
        for change in (None, "undo", "redo", "onset-add", "levels"):
            if change == "levels":
                kept = {"mix": {self.lead: {"level": -3, "pan": 0, "mute": False, "solo": False}}}
                self.client.put(f"/api/sessions/{self.session}/levels", json=kept)
            elif change:
                args = {"take": self.lead, "time_s": 1.63} if change == "onset-add" else {}
                self.assertEqual(self.act(change, args).status_code, 200)
            with self.subTest(after=change):
                self.same_bytes(self.addresses())

    def same_bytes(self, addresses: list[str], clients: int = CLIENTS) -> None:
        rng = np.random.default_rng(3)

        def ask(number: int) -> list[tuple[str, int, bytes, str]]:
            # Each client in an order of its own, with a connection of its own.
            client = TestClient(self.app, base_url="http://localhost", raise_server_exceptions=False)
            found = []
            for address in orders[number]:
                answer = client.get(address)
                kept = answer.headers.get("cache-control", "")
                found.append((address, answer.status_code, answer.content, kept))
            return found

        orders = [[addresses[k] for k in rng.permutation(len(addresses))] for _ in range(clients)]
        with ThreadPoolExecutor(clients) as pool:
            many = list(pool.map(ask, range(clients)))
        alone = {}
        for address in addresses:
            answer = self.client.get(address)
            self.assertEqual(answer.status_code, 200, f"{address}: {answer.text[:200]}")
            alone[address] = (answer.content, answer.headers.get("cache-control", ""))
        wrong = [
            address
            for found in many
            for address, status, content, kept in found
            # Busy is no sound; whatever is one is that one.
            if status != 503 and (status, content, kept) != (200, *alone[address])
        ]
        self.assertEqual(wrong, [])
