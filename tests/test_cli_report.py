"""`combpace report`: one page that needs nothing else."""

import contextlib
import csv
import io
import json
from html.parser import HTMLParser

import numpy as np
import soundfile as sf

from combpace.cli import main
from combpace.session import fits
from rig.places import PlaceTest, bring_in
from rig.sounds import struck


class Page(HTMLParser):
    """Tags that are open when a page ends, what it fetches, its text and how many rows its tables have."""

    EMPTY = ("meta", "line", "circle", "path", "br")

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.fetched: list[str] = []
        self.text: list[str] = []
        self.rows = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in self.EMPTY:
            self.open.append(tag)
        self.rows += tag == "tr"
        self.fetched += [value or "" for name, value in attrs if name in ("src", "href")]

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.fetched += [value or "" for name, value in attrs if name in ("src", "href")]

    def handle_endtag(self, tag: str) -> None:
        assert tag in self.EMPTY or self.open.pop() == tag, tag

    def handle_data(self, data: str) -> None:
        self.text.append(data)


class ReportTest(PlaceTest):
    def run_main(self, *arguments: object) -> tuple[int, str, str]:
        said, wrong = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(said), contextlib.redirect_stderr(wrong):
            status = main(["report", *(str(one) for one in arguments)])
        return status, said.getvalue(), wrong.getvalue()

    def test_what_was_done_in_a_session(self) -> None:
        played = self.beats + 0.02 * np.sin(np.arange(len(self.beats)))
        loose = bring_in(self.place, self.session, struck(played, float(self.beats[-1]) + 1), "organ.wav")
        self.act("rule", take=loose, field="grid", value="1/4")
        out, facts, bars = (self.folder / name for name in ("out.html", "out.json", "out.csv"))
        arguments = (
            self.session[:8],
            "-o",
            out,
            "--json",
            facts,
            "--csv",
            bars,
            "--data",
            self.folder / "data",
        )
        status, _, wrong = self.run_main(*arguments)
        self.assertEqual((status, wrong), (0, ""))
        first = out.read_bytes()
        self.run_main(*arguments)
        self.assertEqual(out.read_bytes(), first)
        page = Page()
        page.feed(first.decode())
        self.assertEqual((page.open, page.fetched), ([], []))
        made = fits.take_fit(self.seen(), loose)
        moved = [
            peg
            for peg in made.fit.pegs
            if peg.kind in ("pulled", "hand") and abs(peg.target_s - peg.own_s) >= 5e-5
        ]
        told = json.loads(facts.read_text())
        self.assertEqual(len(told["takes"][1]["moved"]), len(moved))
        self.assertIn(fits.sentence(made.choice, made.take), " ".join(page.text))
        self.assertGreater(page.rows, len(moved) + len(told["bars"]))
        with bars.open(newline="") as file:
            rows = list(csv.DictReader(file))
        self.assertAlmostEqual(float(rows[2]["start_s"]), self.line(2), places=5)
        # Fitted, the first attack of each bar lies on its line, or is left alone beside it.
        before, after = (
            [float(row[name]) for row in rows if row[name]] for name in ("before_ms", "after_ms")
        )
        self.assertGreater(len(after), 5)
        self.assertLess(max(abs(one) for one in after), 7.0)
        self.assertGreater(max(abs(one) for one in before), 12.0)
        self.assertEqual(told["fitted"], "organ")

    def test_what_was_heard_in_a_file(self) -> None:
        path, out = self.folder / "yard <b>.wav", self.folder / "out.html"
        sf.write(path, struck(0.4 + 0.5 * np.arange(24), 13.0, low_every=4).samples.T, 44100)
        status, _, wrong = self.run_main(path, "-o", out)
        self.assertEqual((status, wrong), (0, ""))
        page = Page()
        page.feed(out.read_text())
        self.assertEqual(page.open, [])
        self.assertIn("yard <b>.wav", " ".join(page.text))
        self.assertRegex(" ".join(page.text), r"steady, 1(19\.9|20\.0)\d")

    def test_what_cannot_be_is_a_sentence(self) -> None:
        for what, out in (("ffffffff", "out.html"), (self.session, "no/out.html")):
            status, _, wrong = self.run_main(what, "-o", self.folder / out, "--data", self.folder / "data")
            self.assertEqual((status, wrong.count("\n")), (2, 1))
