"""Files in and out, also bad ones."""

import struct
import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile as sf

from combpace.core.audio import ArraySource, Audio
from combpace.core.errors import MediaError, ParameterError
from combpace.media.decode import Decoded, FileSource, decode_to_wav
from combpace.media.encode import FORMATS, ResampledSource, write_sound
from combpace.media.names import clipped, file_name
from combpace.media.peaks import SIZES, bins_of, read_peaks, samples_as_peaks, write_peaks
from rig.lossy import write_mp3
from rig.sounds import struck


class FolderTest(unittest.TestCase):
    def setUp(self) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self.addCleanup(self._folder.cleanup)
        self.folder = Path(self._folder.name)

    def decoded(self, path: Path) -> tuple[Decoded, np.ndarray]:
        target = self.folder / "decoded.wav"
        found = decode_to_wav(path, target)
        with FileSource(target) as source:
            return found, source.read(0, source.frames)

    def refused(self, path: Path) -> str:
        target = self.folder / "decoded.wav"
        with self.assertRaises(MediaError) as caught:
            decode_to_wav(path, target)
        self.assertFalse(target.exists())
        self.assertIn("Nothing was imported", str(caught.exception))
        return str(caught.exception)


class GoodFilesTest(FolderTest):
    def test_every_lossless_format_gives_the_same_samples(self) -> None:
        audio = struck([0.1, 0.4], 0.8).samples.T
        for name, subtype in (
            ("a.wav", "PCM_16"),
            ("a.wav", "PCM_24"),
            ("a.wav", "FLOAT"),
            ("a.aiff", "PCM_24"),
            ("a.flac", "PCM_24"),
        ):
            sf.write(self.folder / name, audio, 44100, subtype=subtype)
            found, samples = self.decoded(self.folder / name)
            with self.subTest(name=name, subtype=subtype):
                np.testing.assert_allclose(samples.T, audio, atol=2.0**-15)
                self.assertEqual((found.sample_rate_hz, found.channels, found.frames), (44100, 1, len(audio)))
                self.assertEqual(found.notes, ())

    def test_lossy_formats_keep_length_and_level(self) -> None:
        import av

        audio = np.asarray(0.5 * np.sin(np.arange(48000 * 2) * 0.06), np.float32)
        for name, kind in (("a.ogg", "OGG"), ("a.mp3", "MP3")):
            with sf.SoundFile(self.folder / name, "w", 48000, 1, format=kind) as out:
                for start in range(0, len(audio), 4800):
                    out.write(audio[start : start + 4800])
        with av.open(str(self.folder / "a.m4a"), "w") as container:
            stream = container.add_stream("aac", rate=48000, layout="mono")
            for start in range(0, len(audio), 1024):
                frame = av.AudioFrame.from_ndarray(
                    audio[None, start : start + 1024], format="fltp", layout="mono"
                )
                frame.sample_rate, frame.pts = 48000, start
                container.mux(stream.encode(frame))
            container.mux(stream.encode(None))
        for name in ("a.ogg", "a.mp3", "a.m4a"):
            found, samples = self.decoded(self.folder / name)
            with self.subTest(name=name):
                self.assertAlmostEqual(found.duration_s, 2.0, delta=0.06)
                self.assertAlmostEqual(
                    float(np.sqrt(np.mean(samples[0, 8000:80000] ** 2))), 0.5 / np.sqrt(2), delta=0.01
                )

    def test_of_an_intact_mp3_nothing_is_missing(self) -> None:
        sound = 0.3 * np.sin(np.arange(44100 * 3) * 0.05)
        for header in (True, False):
            with self.subTest(header=header):
                write_mp3(self.folder / "whole.mp3", sound, 44100, header=header)
                self.assertEqual(self.decoded(self.folder / "whole.mp3")[0].notes, ())
        write_mp3(self.folder / "whole.mp3", sound, 44100, header=True)
        data = (self.folder / "whole.mp3").read_bytes()
        (self.folder / "half.mp3").write_bytes(data[: len(data) // 2])
        self.assertTrue(self.decoded(self.folder / "half.mp3")[0].notes)

    def test_192_khz_and_eight_channels(self) -> None:
        audio = np.random.default_rng(1).uniform(-0.5, 0.5, (19200, 8)).astype(np.float32)
        sf.write(self.folder / "a.wav", audio, 192000, subtype="FLOAT")
        found, samples = self.decoded(self.folder / "a.wav")
        self.assertEqual((found.sample_rate_hz, found.channels), (192000, 8))
        np.testing.assert_array_equal(samples.T, audio)


class BadFilesTest(FolderTest):
    def test_empty_and_foreign(self) -> None:
        (self.folder / "empty.wav").write_bytes(b"")
        self.assertIn("empty", self.refused(self.folder / "empty.wav"))
        (self.folder / "notes.wav").write_text("these are not sounds" * 200)
        self.assertIn("not a sound file", self.refused(self.folder / "notes.wav"))
        (self.folder / "random.mp3").write_bytes(np.random.default_rng(0).bytes(5000))
        self.refused(self.folder / "random.mp3")

    def test_no_frames(self) -> None:
        sf.write(self.folder / "none.wav", np.zeros((0, 1)), 44100)
        self.assertIn("no sound", self.refused(self.folder / "none.wav"))

    def test_truncated(self) -> None:
        audio = 0.3 * np.sin(np.arange(44100 * 4) * 0.05)
        sf.write(self.folder / "whole.flac", audio, 44100)
        data = (self.folder / "whole.flac").read_bytes()
        (self.folder / "cut.flac").write_bytes(data[: len(data) // 2])
        found, samples = self.decoded(self.folder / "cut.flac")
        self.assertTrue(0.5 < found.duration_s < 3.5)
        self.assertTrue(any("ends after" in note or "damaged" in note for note in found.notes), found.notes)
        np.testing.assert_allclose(samples[0, :10000], audio[:10000], atol=1e-3)

    def test_a_header_that_lies_about_its_length(self) -> None:
        sf.write(self.folder / "a.wav", np.full(1000, 0.2), 8000, subtype="PCM_16")
        data = bytearray((self.folder / "a.wav").read_bytes())
        at = data.index(b"data")
        data[at + 4 : at + 8] = struct.pack("<I", 0x7FFFFFF0)
        (self.folder / "forged.wav").write_bytes(bytes(data))
        found, _ = self.decoded(self.folder / "forged.wav")
        self.assertEqual(found.frames, 1000)

    def test_a_forged_rate(self) -> None:
        sf.write(self.folder / "a.wav", np.full(1000, 0.2), 8000, subtype="PCM_16")
        data = bytearray((self.folder / "a.wav").read_bytes())
        at = data.index(b"fmt ")
        data[at + 12 : at + 16] = struct.pack("<I", 2_000_000_000)
        (self.folder / "fast.wav").write_bytes(bytes(data))
        self.refused(self.folder / "fast.wav")

    def test_silent_and_not_a_number(self) -> None:
        sf.write(self.folder / "silent.wav", np.zeros(4410), 44100)
        self.assertIn("silent", self.decoded(self.folder / "silent.wav")[0].notes[0])
        samples = np.full(1000, 0.25, np.float32)
        samples[[10, 20, 30]] = [np.nan, np.inf, -np.inf]
        sf.write(self.folder / "nan.wav", samples, 44100, subtype="FLOAT")
        found, read = self.decoded(self.folder / "nan.wav")
        self.assertTrue(np.isfinite(read).all())
        self.assertIn("3 samples", found.notes[0])


class WriteTest(FolderTest):
    def test_every_format_reads_back(self) -> None:
        audio = struck([0.1, 0.4], 0.8)
        for kind in FORMATS:
            path = self.folder / f"out{FORMATS[kind][2]}"
            written = write_sound(ArraySource(audio), path, kind, start=-100, stop=audio.frames + 50)
            samples, rate = sf.read(path, dtype="float32")
            with self.subTest(kind=kind):
                self.assertEqual(
                    (rate, len(samples), written.frames), (44100, audio.frames + 150, audio.frames + 150)
                )
                np.testing.assert_allclose(
                    samples[100:-50], audio.samples[0], atol=2.5 * 2.0**-15 if kind == "wav16" else 2.0**-22
                )
                self.assertEqual(list(self.folder.glob("*.part")) + list(self.folder.glob("*.float")), [])

    def test_what_would_clip_is_lowered_and_said(self) -> None:
        loud = Audio(np.asarray([0.1, 1.7, -2.0, 0.4], np.float32), 44100)
        written = write_sound(ArraySource(loud), self.folder / "a.wav", "wav24")
        self.assertAlmostEqual(written.gain_db, 20 * np.log10(0.5), delta=0.01)
        self.assertLess(np.abs(sf.read(self.folder / "a.wav")[0]).max(), 1.0)
        kept = write_sound(ArraySource(loud), self.folder / "b.wav", "wav32f")
        self.assertEqual((kept.gain_db, float(np.abs(sf.read(self.folder / "b.wav")[0]).max())), (0.0, 2.0))

    def test_16_bit_is_dithered_but_silence_is_not(self) -> None:
        tiny = Audio(np.full(44100, 0.3 / 32768, np.float32), 44100)
        write_sound(ArraySource(tiny), self.folder / "a.wav", "wav16")
        values = sf.read(self.folder / "a.wav", dtype="int16")[0]
        self.assertGreater(len(np.unique(values)), 1)
        self.assertAlmostEqual(float(values.mean()), 0.3, delta=0.05)
        write_sound(ArraySource(Audio(np.zeros(1000, np.float32), 44100)), self.folder / "b.wav", "wav16")
        self.assertFalse(sf.read(self.folder / "b.wav", dtype="int16")[0].any())

    def test_refusals(self) -> None:
        audio = Audio(np.zeros((9, 100), np.float32), 44100)
        with self.assertRaises(MediaError):
            write_sound(ArraySource(audio), self.folder / "a.flac", "flac")
        for kind, stop in (("mp7", 100), ("wav16", 0)):
            with self.assertRaises(ParameterError):
                write_sound(ArraySource(audio), self.folder / "a.wav", kind, stop=stop)


class ResampleTest(unittest.TestCase):
    def test_no_net_delay_and_any_range_alike(self) -> None:
        audio = struck([0.5, 1.5, 2.25], 3.0)
        made = ResampledSource(ArraySource(audio), 48000)
        whole = made.read(0, made.frames)
        np.testing.assert_array_equal(
            ResampledSource(ArraySource(audio), 48000).read(70_001, 90_000), whole[:, 70_001:90_000]
        )
        for time in (0.5, 1.5, 2.25):
            # Energy before the attack is the resampler's ringing only.
            at = round(time * 48000)
            self.assertLess(np.abs(whole[0, at - 400 : at - 60]).max(), 0.02)
            self.assertGreater(np.abs(whole[0, at : at + 200]).max(), 0.2)


class PeaksTest(FolderTest):
    def test_levels_agree_with_the_sound(self) -> None:
        audio = Audio(np.random.default_rng(3).uniform(-1, 1, 70_001).astype(np.float32), 44100)
        path = self.folder / "peaks"
        write_peaks(ArraySource(audio), path)
        for size in SIZES:
            pairs = np.frombuffer(read_peaks(path, audio.frames, size, 0, 10**6), "<i2").reshape(-1, 2)
            self.assertEqual(len(pairs), bins_of(audio.frames, size))
            for k in (0, 5, len(pairs) - 1):
                part = audio.samples[0, k * size : (k + 1) * size]
                np.testing.assert_allclose(pairs[k] / 32767, [part.min(), part.max()], atol=1e-4)
        with self.assertRaises(ParameterError):
            read_peaks(path, audio.frames, 100, 0, 1)
        pairs = np.frombuffer(samples_as_peaks(ArraySource(audio), audio.frames - 5, 100), "<i2").reshape(
            -1, 2
        )
        np.testing.assert_array_equal(
            pairs[:, 0], np.round(audio.samples.mean(axis=0)[-5:] * 32767).astype(np.int16)
        )
        np.testing.assert_array_equal(pairs[:, 0], pairs[:, 1])
        self.assertEqual(samples_as_peaks(ArraySource(audio), audio.frames + 1, 10), b"")


class NamesTest(unittest.TestCase):
    def test_safe_unique_and_short(self) -> None:
        taken: set[str] = set()
        self.assertEqual(file_name('a/b:c*"d"', ".wav", taken), "a b c d.wav")
        self.assertEqual(file_name("A b c d", ".wav", taken), "A b c d 2.wav")
        # Devices of another system, also with an ending of their own (Microsoft, "Naming Files, Paths, and
        # Namespaces").
        for device in ("con", "CON", "com1", "lpt³", "nul.txt", "aux .tar.gz", "conin$"):
            self.assertEqual(file_name(device, ".wav"), f"file {device}.wav")
        self.assertEqual(file_name("concert", ".wav"), "concert.wav")
        self.assertEqual(file_name("-rf loop", ".wav"), "rf loop.wav")
        self.assertEqual(file_name("  ..  ", ".mid"), "untitled.mid")
        self.assertEqual(len(file_name("x" * 500, ".wav")), 120)
        # Bytes are counted, not characters, and characters stay whole.
        long = file_name("\u4e2d" * 500, ".wav")
        self.assertEqual((len(long.encode()), long.strip("\u4e2d")), (4 + 3 * (116 // 3), ".wav"))
        crowd = {file_name("\u4e2d" * 500, ".wav", taken) for _ in range(12)}
        self.assertEqual((len(crowd), max(len(one.encode()) <= 120 for one in crowd)), (12, True))
        self.assertEqual(clipped("q\u0323" * 3, 5), "q\u0323")
        self.assertEqual(file_name("e\u0301", ".wav"), "\u00e9.wav")
