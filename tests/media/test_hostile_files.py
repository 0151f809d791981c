"""Files that announce another length than they hold, break off, are damaged, or are no sound at all but name
other files.
"""

import io
import struct
import subprocess
import sys
from pathlib import Path

import av
import numpy as np
import soundfile as sf

from combpace.media.announced import announced
from combpace.media.decode import open_with_av
from combpace.media.stated import tempo_in_tags
from tests.media.test_files import FolderTest

RATE = 44100
# An odd count, so that no block of any size ends with it.
FRAMES = 200_003


def noise(frames: int = FRAMES) -> np.ndarray:
    return (np.random.default_rng(5).uniform(-0.5, 0.5, frames) * 32768).astype(np.int16)


class LengthTest(FolderTest):
    def written(self, name: str, **how: str) -> bytes:
        out = io.BytesIO()
        sf.write(out, noise(), RATE, **({"format": name.upper(), "subtype": "PCM_16"} | how))
        return out.getvalue()

    def read_back(self, name: str, data: bytes) -> tuple[list[str], np.ndarray]:
        path = self.folder / name
        path.write_bytes(data)
        found, samples = self.decoded(path)
        return list(found.notes), np.round(samples[0] * 32768).astype(int)

    def same(self, samples: np.ndarray, of: np.ndarray) -> None:
        # Our decoded file rounds full scale by a part in 32768.
        self.assertLessEqual(int(np.abs(samples - of).max()), 1)

    def test_truncated_pcm_says_what_is_missing_and_keeps_every_frame(self) -> None:
        for name in ("wav", "aiff"):
            data = self.written(name)
            notes, samples = self.read_back(f"whole.{name}", data)
            self.assertEqual(notes, [], name)
            head = len(data) - 2 * FRAMES
            for kept in (150_000, FRAMES - 1):
                notes, samples = self.read_back(f"cut.{name}", data[: head + 2 * kept])
                with self.subTest(name=name, kept=kept):
                    self.assertEqual(len(samples), kept)
                    self.same(samples, noise()[:kept])
                    self.assertEqual(len(notes), 1)
                    self.assertIn("although it announces", notes[0])
        self.assertIn("1 frame more", notes[0])

    def test_streamed_wav_announces_nothing(self) -> None:
        data = bytearray(self.written("wav"))
        at = data.index(b"data") + 4
        for size in (0, 0x7FFFF000, 0xFFFFFFFF):
            data[at : at + 4] = struct.pack("<I", size)
            notes, samples = self.read_back("stream.wav", bytes(data))
            with self.subTest(size=size):
                self.assertEqual((notes, len(samples)), ([], FRAMES))

    def test_a_recorder_that_died_wrote_an_old_size(self) -> None:
        data = bytearray(self.written("wav"))
        at = data.index(b"data") + 4
        data[at : at + 4] = struct.pack("<I", 2000)
        # The bytes that follow could by chance be the name of a chunk: here they are not.
        self.assertFalse(bytes(data[at + 4 + 2000 :][:4]).isascii())
        notes, samples = self.read_back("old.wav", bytes(data))
        self.assertEqual(len(samples), FRAMES)
        self.same(samples, noise())
        self.assertIn("holds 4.5 s. All of it was imported", notes[0])

    def test_chunks_and_tags_behind_the_sound_are_no_sound(self) -> None:
        data = self.written("wav")
        for tail in (b"LIST\x04\x00\x00\x00INFO", b"ID3\x04\x00\x00\x00\x00\x00\x00" + bytes(40), bytes(64)):
            notes, samples = self.read_back("tail.wav", data + b"\x00" * (len(data) % 2) + tail)
            with self.subTest(tail=tail[:4]):
                self.assertEqual((notes, len(samples)), ([], FRAMES))

    def test_forged_counts_of_flac_lose_nothing(self) -> None:
        data = self.written("flac")
        for count in (FRAMES + 40_000, FRAMES - 40_000, 2**36 - 1):
            forged = bytearray(data)
            # STREAMINFO, RFC 9639, 8.2: the last 36 bits of eight bytes from offset 18 on.
            field = struct.unpack(">Q", forged[18:26])[0] & ~(2**36 - 1) | count
            forged[18:26] = struct.pack(">Q", field)
            notes, samples = self.read_back("forged.flac", bytes(forged))
            with self.subTest(count=count):
                self.assertEqual(len(samples), FRAMES)
                self.same(samples, noise())
                self.assertTrue(any("announces" in note for note in notes), notes)
        self.assertEqual(self.read_back("whole.flac", data)[0], [])

    def test_truncated_flac_keeps_every_whole_frame(self) -> None:
        data = self.written("flac")
        notes, samples = self.read_back("cut.flac", data[: int(len(data) * 0.7)])
        # A block of this encoder has 4096 frames; noise takes the same room everywhere.
        self.assertGreater(len(samples), 0.7 * FRAMES - 2 * 4096)
        self.same(samples, noise()[: len(samples)])
        self.assertIn("although it announces", notes[0])

    def test_a_fault_inside_flac_moves_nothing_behind_it(self) -> None:
        data = bytearray(self.written("flac"))
        middle = len(data) // 2
        data[middle : middle + 60] = bytes(60)
        notes, samples = self.read_back("scratched.flac", bytes(data))
        self.assertEqual(len(samples), FRAMES)
        wrong = np.flatnonzero(np.abs(samples - noise()) > 1)
        self.assertLessEqual(wrong.max() - wrong.min(), 2 * 4096)
        self.assertTrue(
            any("are silence, all else is in its place" in note or "damaged" in note for note in notes), notes
        )

    def test_ogg_without_its_last_page_breaks_off(self) -> None:
        for subtype in ("VORBIS", "OPUS"):
            out = io.BytesIO()
            with sf.SoundFile(out, "w", 48000, 1, format="OGG", subtype=subtype) as file:
                for _ in range(40):
                    file.write(noise(4800).astype(np.float32) / 32768)
            data = out.getvalue()
            self.assertEqual(self.read_back("whole.ogg", data)[0], [])
            notes, samples = self.read_back("cut.ogg", data[: int(len(data) * 0.6)])
            with self.subTest(subtype=subtype):
                self.assertGreater(len(samples), 48000)
                self.assertIn("breaks off", notes[0])
                self.assertIn("last page", notes[0])

    def test_truncated_mp3_and_m4a_say_so(self) -> None:
        out = io.BytesIO()
        with sf.SoundFile(out, "w", RATE, 1, format="MP3", subtype="MPEG_LAYER_III") as file:
            for start in range(0, FRAMES, 4800):
                file.write(noise()[start : start + 4800].astype(np.float32) / 32768)
        path = self.folder / "whole.m4a"
        with av.open(str(path), "w", format="mp4", options={"movflags": "faststart"}) as container:
            track = container.add_stream("aac", rate=RATE, layout="mono")
            for start in range(0, FRAMES, 1024):
                block = noise()[None, start : start + 1024].astype(np.float32) / 32768
                frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(block), format="fltp", layout="mono")
                frame.sample_rate, frame.pts = RATE, start
                container.mux(track.encode(frame))
            container.mux(track.encode(None))
        for name, data in (("cut.mp3", out.getvalue()), ("cut.m4a", path.read_bytes())):
            notes, samples = self.read_back(name, data[: int(len(data) * 0.7)])
            with self.subTest(name=name):
                self.assertGreater(len(samples), 0.5 * FRAMES)
                self.assertIn("although it announces", notes[0])

    def test_absurd_numbers(self) -> None:
        loud = np.full(RATE, 0.25, np.float32)
        loud[[5, 6]] = [1e30, -3e38]
        sf.write(self.folder / "loud.wav", loud, RATE, subtype="FLOAT")
        found, _ = self.decoded(self.folder / "loud.wav")
        self.assertEqual(found.peak, 0.25)
        self.assertIn("2 samples", found.notes[0])
        data = bytearray(self.written("wav"))
        at = data.index(b"fmt ") + 8
        for bits, align in ((0, 2), (0, 0), (16, 0)):
            data[at + 12 : at + 16] = struct.pack("<HH", align, bits)
            (self.folder / "bits.wav").write_bytes(bytes(data))
            with self.subTest(bits=bits, align=align):
                self.assertIn(
                    "not a sound file", self.refused(self.folder / "bits.wav")
                ) if not bits else self.decoded(self.folder / "bits.wav")

    def test_headers_that_end_inside_themselves(self) -> None:
        for name in ("wav", "aiff", "flac"):
            data = self.written(name)
            for end in range(0, 60):
                (self.folder / "stub").write_bytes(data[:end])
                announced(self.folder / "stub")


class ListsTest(FolderTest):
    """Texts that FFmpeg would take as lists of other files."""

    def setUp(self) -> None:
        super().setUp()
        self.secret = self.folder / "secret.wav"
        sf.write(self.secret, noise(RATE), RATE)
        self.lists = {
            "x.m3u8": f"#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXTINF:1,\n{self.secret}\n#EXT-X-ENDLIST\n",
            "y.wav": f"ffconcat version 1.0\nfile '{self.secret}'\n",
            "z.mp3": '<?xml version="1.0"?><MPD '
            f'type="static"><Period><BaseURL>{self.secret}</BaseURL></Period></MPD>',
            "s.sdp": "v=0\no=- 0 0 IN IP4 127.0.0.1\nc=IN IP4 127.0.0.1\nm=audio 5004 RTP/AVP 0\n",
        }
        for name, text in self.lists.items():
            (self.folder / name).write_text(text)

    def test_lists_of_files_open_nothing(self) -> None:
        for name in self.lists:
            with self.subTest(name=name):
                self.assertIn("not a sound file", self.refused(self.folder / name))
                self.assertIsNone(tempo_in_tags(self.folder / name))
                with self.assertRaises((av.FFmpegError, ValueError)), open_with_av(self.folder / name):
                    pass

    def test_the_command_line_refuses_them_too(self) -> None:
        done = subprocess.run(
            [sys.executable, "-m", "combpace.cli", "analyse", str(self.folder / "x.m3u8")],
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 2)
        self.assertIn("not a sound file", done.stderr)
        self.assertEqual(len(done.stderr.splitlines()), 1)

    def test_a_sound_is_opened_by_its_own_bytes_alone(self) -> None:
        with open_with_av(self.secret) as container:
            self.assertEqual(container.format.name, "wav")
        self.assertTrue(Path(self.secret).exists())
