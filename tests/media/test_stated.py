import tempfile
import unittest
from pathlib import Path

import numpy as np

from combpace.core.analysis.lateness import lateness_s
from combpace.media.decode import FileSource, decode_to_wav
from combpace.media.stated import padding_is_stated, stated_tempi, tempo_in_name, tempo_in_tags
from rig.lossy import write_mp3

RATE_HZ = 44100


class TempoInNameTest(unittest.TestCase):
    def test_a_number_beside_the_word_and_nothing_else(self) -> None:
        names = {
            "92 bpm.wav": 92.0,
            "BPM92 shuffle.wav": 92.0,
            "shuffle_92.5bpm.wav": 92.5,
            "bpm_140-kit.flac": 140.0,
            "track 92.wav": None,
            "92.wav": None,
            "1292 bpm.wav": None,
            "9 bpm.wav": None,
            "rebpm 92x.wav": None,
        }
        self.assertEqual({name: tempo_in_name(name) for name in names}, names)


class HeaderTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.sound = np.zeros(2 * RATE_HZ)
        self.sound[RATE_HZ // 2] = 0.9

    def decoded_peak(self, path: Path) -> int:
        decode_to_wav(path, self.folder / "out.wav")
        with FileSource(self.folder / "out.wav") as source:
            return int(np.argmax(np.abs(source.read(0, source.frames)[0])))

    def test_what_a_header_states_is_taken_off_by_the_decoder(self) -> None:
        write_mp3(self.folder / "with.mp3", self.sound, RATE_HZ, header=True)
        write_mp3(self.folder / "without.mp3", self.sound, RATE_HZ, header=False)
        self.assertTrue(padding_is_stated(self.folder / "with.mp3"))
        self.assertEqual(self.decoded_peak(self.folder / "with.mp3"), RATE_HZ // 2)
        self.assertFalse(padding_is_stated(self.folder / "without.mp3"))
        self.assertGreater(self.decoded_peak(self.folder / "without.mp3"), RATE_HZ // 2 + 500)

    def test_tags_come_before_the_name_and_no_tempo_is_believed_that_cannot_be(self) -> None:
        path = self.folder / "x.mp3"
        write_mp3(path, self.sound, RATE_HZ, header=True, tags={"TBPM": "121"})
        self.assertEqual(
            [(one.bpm, one.source) for one in stated_tempi(tempo_in_tags(path), "x 92bpm.mp3")],
            [(121.0, "tags"), (92.0, "file name")],
        )
        write_mp3(path, self.sound, RATE_HZ, header=True, tags={"TBPM": "0"})
        self.assertEqual(stated_tempi(tempo_in_tags(path), "x.mp3"), ())
        (self.folder / "y.wav").write_bytes(b"no audio")
        self.assertEqual(stated_tempi(tempo_in_tags(self.folder / "y.wav"), "y.wav"), ())
        self.assertFalse(padding_is_stated(self.folder / "y.wav"))


class LatenessTest(unittest.TestCase):
    def test_of_a_machine_at_a_round_tempo_from_5_to_120_ms(self) -> None:
        self.assertAlmostEqual(lateness_s(120.0, 0.001, 2.0 + 0.0251, 0.5) or 0.0, 0.0251, places=6)
        for bpm, first_s, scatter_ms in (
            (120.0, 0.003, 0.5),
            (120.0, 0.13, 0.5),
            (120.0, 0.025, 6.0),
            (121.3, 0.025, 0.5),
        ):
            self.assertIsNone(lateness_s(bpm, 0.001, first_s, scatter_ms))
