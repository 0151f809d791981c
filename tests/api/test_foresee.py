"""What a decision would do, before it is taken: the same map to the digit, in words, or why not."""

from __future__ import annotations

from typing import Any

import numpy as np

from tests.api.test_wire import WireTest


class ForeseeTest(WireTest):
    def foresee(self, name: str, args: dict[str, Any], version: int | None = None) -> dict[str, Any]:
        body = {"version": self.picture()["version"] if version is None else version, "args": args}
        answer = self.client.post(f"/api/sessions/{self.session}/foresee/{name}", json=body)
        self.assertEqual(answer.status_code, 200, answer.text)
        found: dict[str, Any] = answer.json()
        return found

    def decisions(self) -> list[tuple[str, dict[str, Any]]]:
        """One of each that moves lines, on the map as it is."""
        bars = self.picture()["bars"]
        line, beat = bars[4], (bars[4]["e"] - bars[4]["s"]) / bars[4]["beats"]
        return [
            ("pull", {"time_s": line["s"] + 0.021, "quarters": line["q"], "free": True}),
            ("pull", {"time_s": line["s"] + beat + 0.013, "quarters": line["q"] + 1.0, "free": True}),
            ("pull", {"time_s": line["s"] + 0.017, "quarters": line["q"], "free": True, "alone": True}),
            ("pull", {"time_s": line["s"] + beat, "quarters": line["q"]}),
            ("downbeat", {"time_s": line["s"] + beat}),
            ("downbeat", {"time_s": line["s"] + beat, "reach": "only this bar"}),
            ("downbeat", {"time_s": line["s"] + beat, "reach": "from here on"}),
            ("not-downbeat", {"time_s": line["s"]}),
            ("bar-1", {"time_s": line["s"] + beat}),
            ("bar", {"time_s": line["s"], "bar": 9}),
            ("meter", {"meter": "3/4"}),
            ("meter", {"meter": "3/4", "bar": 3}),
            ("odd-bar", {"bar": 3, "beats": 5}),
            ("meter-range", {"meter": "3/4", "from_bar": 3, "to_bar": 4}),
            ("one-beat", {"direction": "later"}),
            ("one-beat", {"direction": "earlier", "bar": 4}),
            ("scale", {"factor": 2}),
            ("steady", {"bpm": 91.0}),
            ("tempo", {"from_bar": 3, "to_bar": 4, "bpm": 99.0}),
            ("curve", {"shape": "ramps"}),
            ("curve", {"shape": "smooth"}),
            ("tidy", {"within_ms": 10.0}),
        ]

    def test_what_is_foreseen_is_what_is_done(self) -> None:
        self.with_take()
        for kind in ("breathing", "steady", "its own"):
            if kind == "steady":
                self.act("steady", {})
            elif kind == "its own":
                self.act("tempo", {"from_bar": 2, "to_bar": 2, "bpm": 98.0})
            for name, args in self.decisions():
                with self.subTest(kind=kind, name=name, args=args):
                    before, found = self.picture(), self.foresee(name, args)
                    done = self.act(name, args)
                    if found["refused"]:
                        self.assertEqual(done.status_code, 422)
                        self.assertEqual(done.json()["error"], found["refused"])
                        self.assertIsNone(found["map"])
                        continue
                    self.assertEqual(done.json()["note"], found["note"])
                    after = self.picture()["map"]
                    if found["map"] is None:
                        self.assertEqual(after, before["map"])
                    else:
                        for part in ("times", "quarters", "meters"):
                            np.testing.assert_allclose(
                                np.array(after[part]), np.array(found["map"][part]), rtol=0, atol=1e-9
                            )
                        moved = found["lines"] is not None
                        self.assertEqual(moved, found["sentence"].startswith("Bar"))
                        said = found["sentence"].startswith(("Bar", "No bar line moves", "1 ", "2 ", "3 "))
                        self.assertTrue(said or "the others stay" in found["sentence"], found["sentence"])
                    self.act("undo", {})
                    self.assertEqual(self.picture()["map"], before["map"])

    def test_a_refusal_is_a_sentence_and_a_stale_question_no_error(self) -> None:
        self.with_take()
        found = self.foresee("pull", {"time_s": 1e5, "quarters": 8.0, "free": True})
        self.assertIn("Nothing was changed", found["refused"])
        self.assertIsNone(found["sentence"])
        old = self.picture()["version"]
        self.act("meter", {"meter": "3/4"})
        found = self.foresee("meter", {"meter": "5/4"}, version=old)
        self.assertEqual((found["stale"], found["refused"], found["map"]), (True, None, None))
        answer = self.client.post(
            f"/api/sessions/{self.session}/foresee/nothing", json={"version": old, "args": {}}
        )
        self.assertEqual(answer.status_code, 404)

    def test_the_statements_of_the_picture_take_themselves_back(self) -> None:
        self.with_take()
        lead = self.picture()["lead"]
        self.assertEqual(self.picture()["statements"], [])
        clean = self.picture()["map"]
        bars = self.picture()["bars"]
        self.act("take", {"take": lead, "field": "start", "value": "0.5"})
        self.act("downbeat", {"time_s": bars[5]["s"] + 0.5, "reach": "from here on"})
        self.act("meter", {"meter": "3/4", "bar": 4})
        self.act("scale", {"factor": 2})
        rows = self.picture()["statements"]
        self.assertEqual([row["what"] for row in rows], ["downbeat", "meter", "level"])
        self.assertEqual(set(rows[0]), {"id", "what", "take_s", "reach", "words"})
        self.assertAlmostEqual(rows[0]["take_s"], bars[5]["s"], places=2)
        self.assertEqual((rows[0]["reach"], rows[2]["take_s"]), ("from here on", None))
        self.assertIn("the downbeat at", rows[0]["words"])
        for row in (rows[1], rows[2], rows[0]):
            self.assertEqual(self.act("take-back", {"id": row["id"]}).status_code, 200)
        self.assertEqual(self.picture()["statements"], [])
        np.testing.assert_allclose(
            np.array(self.picture()["map"]["times"]), np.array(clean["times"]) + 0.5, rtol=0, atol=1e-9
        )
        self.assertEqual(self.act("take-back", {"id": rows[0]["id"]}).status_code, 422)
