import numpy as np

from combpace.core.errors import ParameterError
from combpace.media.decode import FileSource
from combpace.playback.sound import sounding
from combpace.session import fits
from combpace.session.sounding import Sounding
from combpace.stations.takes.station import take_lines
from rig.places import PlaceTest, bring_in
from rig.sounds import struck

RATE = 44100


class LoopAgainTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        # Two bars of 4/4 at 120 BPM: a low stroke on each bar, from the first frame on.
        self.loop = bring_in(
            self.place, self.session, struck(0.5 * np.arange(8), 4.0, low_every=4), "pipe loop.wav"
        )
        self.act("own-bars", take=self.loop, what="bars", value="2")

    def sound(self) -> tuple[np.ndarray, int]:
        """(the take as it follows the session, its first frame's number)."""
        made, row = fits.take_fit(self.seen(), self.loop), self.seen().rows[self.loop]
        with FileSource(self.place.blob(row.decoded_sha)) as source:
            out = sounding(source, Sounding(0.0, (made.fit.time_map, made.method)), RATE)
            return out.read(0, out.frames)[0], out.frames

    def test_three_times_each_bar_line_to_the_sample(self) -> None:
        self.assertIn("heard 3 times", self.act("take", take=self.loop, field="times", value="3").note)
        time_map = fits.take_fit(self.seen(), self.loop).fit.time_map
        lines = np.array([self.line(bar) for bar in range(7)])
        np.testing.assert_allclose(
            time_map.to_target(np.array([0.0, 4.0, 8.0, 12.0])), lines[[0, 2, 4, 6]], atol=0.5 / RATE
        )
        out, frames = self.sound()
        self.assertEqual(frames, round(lines[6] * RATE))
        # Each round's first stroke is where its line is.
        for line in lines[[0, 2, 4]]:
            at = round(line * RATE)
            loud = np.flatnonzero(np.abs(out[at - 400 : at + 400]) > 0.2)
            self.assertLess(abs(int(loud[0]) - 400), 90)

    def test_until_a_bar_it_ends_on_its_line_and_follows_a_map_that_is_corrected(self) -> None:
        self.act("take", take=self.loop, field="first_bar", value="2")
        self.act("take", take=self.loop, field="times", value="until 7")
        time_map = fits.take_fit(self.seen(), self.loop).fit.time_map
        self.assertAlmostEqual(float(time_map.target_s[0]), self.line(1), places=6)
        self.assertAlmostEqual(float(time_map.target_s[-1]), self.line(6), places=6)
        self.assertAlmostEqual(float(time_map.source_s[-1]), 10.0, places=6)
        self.act("pull", time_s=self.line(3) + 0.04, quarters=12.0, free=True)
        again = fits.take_fit(self.seen(), self.loop).fit.time_map
        np.testing.assert_allclose(again.to_target(np.array([4.0])), [self.line(3)], atol=0.5 / RATE)

    def test_the_ledger_says_it_and_what_is_no_loop_is_heard_once(self) -> None:
        self.act("take", take=self.loop, field="times", value="until 9")
        line = next(one for one in take_lines(self.seen()) if one["id"] == self.loop)
        self.assertEqual((line["often"], line["comes_round"]), ("until 9", True))
        self.assertAlmostEqual(line["sounds_s"][1], self.line(8), places=5)
        for take, value in (
            (self.lead, "2"),
            (self.loop, "0"),
            (self.loop, "until 1"),
            (self.loop, "1.5"),
            (self.loop, "often"),
        ):
            with self.subTest(value=value), self.assertRaises(ParameterError):
                self.act("take", take=take, field="times", value=value)

    def test_cut_into_pieces_it_still_comes_round_as_often(self) -> None:
        self.act("take", take=self.loop, field="times", value="until 8")
        self.act("cut-and-lay", take=self.loop, at="beats", lay="1/4")
        laid = self.seen().document.pieces[self.loop].pieces
        # Seven bars of four beats: three rounds and half of a fourth.
        self.assertEqual(len(laid), 28)
        np.testing.assert_allclose([one.quarters for one in laid], np.arange(28.0), atol=1e-6)
        self.assertEqual(len({(one.start, one.stop) for one in laid}), 8)
