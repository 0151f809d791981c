"""What leaves and comes back, or is cut, lies where the session has it: maps, loops, bars."""

import io
import zipfile
from pathlib import Path

import numpy as np
import soundfile as sf

from combpace.core.audio import Audio
from combpace.session import pieces, shelf
from combpace.session.state import SessionState, session_state
from combpace.stations.bars.map_in import read_file
from combpace.stations.handoff import write
from combpace.stations.handoff.ordering import Wish, announced, order_args
from combpace.stations.pace.station import values as pace_values
from rig.places import PlaceTest, bring_in
from rig.sounds import burst, struck


def quiet(phase: str, share: float) -> None:
    """No progress."""


class MapBackTest(PlaceTest):
    def handed_off(self, **wish: object) -> dict[str, bytes]:
        """Files of an order by their endings; they stay in the session's list, as an order's do."""
        args = order_args(self.seen(), Wish(extras=["midi", "json", "csv"], **wish))  # type: ignore[arg-type]
        made = write.write_handoff(self.place, args, quiet)
        files = [file for file in write.files_of(self.place, self.session) if file.id in made["files"]]
        return {
            Path(file.name).suffix: self.place.blobs.path(file.sha).read_bytes()
            for file in files
            if file.kind == "handoff map"
        }

    def read_back(self, name: str, data: bytes, session: str = "") -> dict[str, object]:
        path = self.folder / f"map{Path(name).suffix}"
        path.write_bytes(data)
        return read_file(self.place, session or self.session, path, name)

    def lines(self) -> np.ndarray:
        line = self.seen().need_map()
        return np.asarray(line.to_seconds(line.bar_lines(0, 7)))

    def test_a_map_that_was_handed_off_comes_back_where_it_was(self) -> None:
        self.act("bar-1", time_s=float(self.beats[4]))
        before = self.lines()
        self.assertGreater(before[0], 2.0)
        for start in ("bar 1", "bar 3", "lead-in"):
            for ending, data in self.handed_off(start=start).items():
                with self.subTest(start=start, ending=ending):
                    found = self.read_back(f"night{ending}", data)
                    args = {name: found[name] for name in ("knots", "meters", "name")}
                    self.act("map-in", **args)
                    # A standard MIDI file's tempi are whole microseconds.
                    np.testing.assert_allclose(self.lines(), before, atol=2e-4)
                    self.act("undo")

    def test_in_another_session_it_counts_from_its_files(self) -> None:
        self.act("bar-1", time_s=float(self.beats[4]))
        other = shelf.create(self.place, "Another night")
        for ending, data in self.handed_off(start="bar 1").items():
            with self.subTest(ending=ending):
                found = self.read_back(f"night{ending}", data, other)
                self.assertIn("bar 1 at 0:00.000", str(found["sentence"]))

    def test_bars_before_bar_1_have_no_numbers(self) -> None:
        self.act("bar-1", time_s=float(self.beats[16]))
        bars = pace_values(self.seen(), self.lead)["bars"]
        self.assertEqual(bars["lead_in"], "4 bars")
        with self.assertRaisesRegex(Exception, "goes from the lead-in to bar"):
            announced(self.seen(), Wish(takes=[self.lead], start="bar 400"))
        # A hair before the first frame is the first frame; what opens its file has no time before zero.
        for start_s, said in ((-0.001, "bar 1 at 0:00.000"), (-0.006, "bar 1 6 ms before the start")):
            note = self.act("steady", bpm=96.0, bar_1_s=start_s).note
            self.assertIn(said, note)
            self.assertIn(said, shelf.shelf(self.place)[0].sentence)
            facts = pace_values(self.seen(), self.lead)["bars"]
            self.assertEqual(f"bar 1 {facts['bar_1_lies']}", said)
            begins = announced(self.seen(), Wish(takes=[self.lead], start="bar 1"))["start"]
            self.assertIn(said.removeprefix("bar 1 ").removeprefix("at "), begins)


class LoopTest(PlaceTest):
    def loop(self, bpm: float, name: str, step: float = 0.5, bars: int = 2) -> tuple[str, SessionState, int]:
        """A loop alone in a session, its first sound on its first frame: (session, its state, its frames)."""
        beat = 60 / bpm
        frames = round(4 * bars * beat * 44100)
        out = np.zeros(frames)
        for k, time in enumerate(np.arange(0, 4 * bars, step) * beat):
            at, sound = round(time * 44100), burst(seed=k % 5) * (0.8 if k % 4 == 0 else 0.5)
            out[at : at + len(sound)] += sound[: frames - at]
        session = shelf.create(self.place, name)
        bring_in(self.place, session, Audio(np.asarray(out / 1.2, np.float32), 44100), name)
        return session, session_state(self.place, session), frames

    def test_a_loop_alone_keeps_its_first_frame_and_its_length(self) -> None:
        for bpm in (96.0, 101.34, 120.0, 133.1):
            with self.subTest(bpm=bpm):
                _, seen, frames = self.loop(bpm, f"pipe loop {bpm:g}.wav")
                self.assertEqual(seen.need_map().second(0.0), 0.0)
                wish = Wish(takes=[seen.need_lead().id], start="bar 1", kind="wav32f")
                args = order_args(seen, wish)
                with write.written(self.place, args, quiet) as files:
                    sound, rate = sf.read(files[0].path)
                self.assertEqual((len(sound), rate), (frames, 44100))
                # The first sample that left is the first that came.
                with self.place.source(seen.rows[seen.need_lead().id]) as came:
                    np.testing.assert_allclose(sound[:400], came.read(0, 400)[0], atol=1e-6)

    def test_an_exact_loop_reads_its_exact_tempo(self) -> None:
        _, seen, frames = self.loop(120.0, "copper loop 120 bpm.wav", step=1.0)
        steady = seen.steady(seen.need_lead().id)
        assert steady is not None
        self.assertAlmostEqual(steady["bpm"], 8 * 60 * 44100 / frames, places=9)


class EveryBarTest(PlaceTest):
    def test_pieces_of_a_steady_session_have_the_frames_of_its_bars(self) -> None:
        # 92 BPM: a bar has 115,043.48 frames; the playing scatters by some ms about it.
        rng = np.random.default_rng(2)
        times = 0.5 + np.arange(48) * 60 / 92 + rng.uniform(-0.003, 0.003, 48)
        session = shelf.create(self.place, "Steam")
        take = bring_in(self.place, session, struck(times, float(times[-1]) + 1, low_every=4), "tub kit.wav")
        self.session = session
        self.act("steady", bpm=92.0, bar_1_s=0.5)
        self.act("cut-and-lay", take=take, at="bars", lay="1/4")
        seen = self.seen()
        lengths = [piece.stop - piece.start for piece in seen.document.pieces[take].pieces[1:-1]]
        self.assertGreater(len(lengths), 8)
        self.assertLessEqual({*lengths}, {115_043, 115_044})
        # They leave so: each as a file of its own.
        made = order_args(seen, Wish(takes=[take], extras=["pieces"], kind="wav32f"))
        with write.written(self.place, made, quiet) as files:
            single = next(one for one in files if one.kind == "pieces").path.read_bytes()
            pack = zipfile.ZipFile(io.BytesIO(single))
            sizes = [len(sf.read(io.BytesIO(pack.read(name)))[0]) for name in sorted(pack.namelist())]
        self.assertEqual(sizes[1:-1], lengths)

    def test_bars_of_a_take_at_another_tempo_are_its_own(self) -> None:
        self.act("steady", bpm=140.0, bar_1_s=1.0)
        self.act("cut-and-lay", take=self.lead, at="bars", lay="where")
        starts = [piece.start / 44100 for piece in self.seen().document.pieces[self.lead].pieces][1:]
        off = [float(np.min(np.abs(self.beats[::4] - start))) for start in starts]
        self.assertLess(max(off[:6]), 0.02)
        self.assertTrue(pieces.in_pieces(self.seen(), self.lead))
