import numpy as np

from combpace.core.audio import Audio
from combpace.core.errors import ParameterError
from combpace.drawing import picture
from combpace.media.decode import FileSource
from combpace.playback.sound import sounding
from combpace.session import fits
from combpace.session.sounding import how_it_sounds
from combpace.stations.takes.station import take_lines
from rig.places import PlaceTest, bring_in

RATE = 44100


def humming(seconds: float) -> Audio:
    """A steady tone: nothing of it is a pulse."""
    t = np.arange(round(seconds * RATE)) / RATE
    ends = np.minimum(1.0, np.minimum(t, seconds - t) / 0.5)
    return Audio(np.asarray(0.3 * ends * np.sin(2 * np.pi * 220 * t), np.float32), RATE)


class TwoTempiTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.hum = bring_in(self.place, self.session, humming(3.3), "kettle.wav")
        self.act("take", take=self.hum, field="pace", value="own")

    def test_from_70_to_120_has_exactly_its_frames_and_its_pitch(self) -> None:
        self.assertIsNone(self.seen().own_pace(self.hum))
        self.assertFalse(fits.is_fitted(self.seen(), self.hum))
        self.assertIn(
            "from 70 to 120 BPM", self.act("take", take=self.hum, field="tempi", value="70 to 120").note
        )
        seen = self.seen()
        self.assertTrue(fits.is_fitted(seen, self.hum))
        frames = round(round(3.3 * RATE) * 70 / 120)
        with FileSource(self.place.blob(seen.rows[self.hum].decoded_sha)) as source:
            out = sounding(source, how_it_sounds(seen, self.hum, fitted=True, speed=1.0), RATE)
            self.assertEqual(out.frames, frames)
            heard = out.read(0, out.frames)[0]
        middle = heard[frames // 4 : frames // 4 + 32768] * np.hanning(32768)
        peak = np.argmax(np.abs(np.fft.rfft(middle))) * RATE / 32768
        self.assertAlmostEqual(peak, 220.0, delta=1.5)
        drawn = picture.picture(seen, self.hum)
        facts = next(take for take in drawn["takes"] if take["id"] == self.hum)
        self.assertAlmostEqual(facts["sounds_s"][1], 3.3 * 70 / 120, places=4)

    def test_one_alone_waits_and_nothing_takes_it_back(self) -> None:
        self.act("take", take=self.hum, field="tempi", value="70 to")
        self.assertFalse(fits.is_fitted(self.seen(), self.hum))
        self.act("take", take=self.hum, field="tempi", value="70 to 140")
        line = next(one for one in take_lines(self.seen()) if one["id"] == self.hum)
        self.assertEqual(line["two_tempi"], (70.0, 140.0))
        self.act("take", take=self.hum, field="tempi", value=" to ")
        self.assertFalse(fits.is_fitted(self.seen(), self.hum))

    def test_what_cannot_be_used_is_a_sentence(self) -> None:
        for take, value in (
            (self.lead, "70 to 120"),
            (self.hum, "slow to 120"),
            (self.hum, "10 to 900"),
            (self.hum, "0 to 120"),
        ):
            with self.subTest(value=value), self.assertRaises(ParameterError):
                self.act("take", take=take, field="tempi", value=value)
