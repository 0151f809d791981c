import unittest

import numpy as np
from scipy import ndimage

from combpace.core.audio import ArraySource, Audio, Samples, SideBySide
from combpace.core.clocks import FloatArray
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch import METHODS, StretchedSource, choose_method, chord, far_stretched, stretch
from combpace.core.stretch.line import splines_between
from combpace.core.stretch.pitch import periods
from combpace.core.stretch.plan import BETTER_CHORD, LONGEST_S, PRE_S, Segment, attacks_near, course, plan
from combpace.core.stretch.remembered import Remembered
from combpace.core.stretch.sustain import Struck, Sustained
from rig.sounds import RATE, attack_starts, source, struck
from rig.tiers import soak

PLAYED = np.array([0.3, 0.82, 1.27, 1.83, 2.31, 2.78])
GRID = np.array([0.3, 0.8, 1.3, 1.8, 2.3, 2.8])
TO_GRID = TimeMap(np.array([0.0, *PLAYED, 3.2]), np.array([0.0, *GRID, 3.2]))


def tone(f0: FloatArray, partials: int = 8) -> FloatArray:
    """A harmonic voice along a pitch in Hz per frame."""
    phase = 2 * np.pi * np.cumsum(f0) / RATE
    return np.asarray(sum(np.cos(k * phase) / k for k in range(1, partials + 1)) * 0.2)


def audio(*channels: FloatArray) -> Audio:
    return Audio(np.stack(channels).astype(np.float32), RATE)


def frequency(samples: FloatArray, near_hz: float) -> float:
    """Of the partial near a frequency: phase advance between two halves of a heterodyned, windowed
    stretch.
    """
    n = len(samples) // 2
    turned = samples[: 2 * n] * np.exp(-2j * np.pi * near_hz * np.arange(2 * n) / RATE)
    window = np.hanning(n)
    first, second = (turned[:n] * window).sum(), (turned[n:] * window).sum()
    return near_hz + float(np.angle(second * np.conj(first))) / (2 * np.pi * n / RATE)


class PitchTest(unittest.TestCase):
    def test_periods_of_the_tuning_tone(self) -> None:
        # ISO 16: the A above middle C is 440 Hz; four octaves of it, by definition of the octave.
        for hz in (55.0, 110.0, 220.0, 440.0):
            found = periods(ArraySource(audio(tone(np.full(RATE, hz)))), 4000, RATE - 4000)[1]
            with self.subTest(hz=hz):
                np.testing.assert_allclose(found, RATE / hz, rtol=3e-4)

    @soak
    def test_a_library_hears_the_same_pitch_before_and_after(self) -> None:
        import librosa

        # librosa's pyin (Mauch and Dixon 2014) as outside reference; its grid is 10 cents.
        voice = tone(np.full(2 * RATE, 196.0))
        for method in ("chord", "line"):
            made = stretch(audio(voice), TimeMap(np.array([0.0, 2.0]), np.array([0.0, 2.5])), method).samples[
                0
            ]
            heard = librosa.pyin(made[RATE // 4 : 2 * RATE], fmin=80, fmax=500, sr=RATE)[0]
            with self.subTest(method=method):
                self.assertLess(abs(1200 * np.log2(float(np.nanmedian(heard)) / 196.0)), 10)

    def test_line_keeps_pitch_to_a_hundredth_of_a_cent_where_it_is_steady(self) -> None:
        voice = tone(np.full(3 * RATE, 131.3))
        for factor in (0.9, 1.11):
            made = stretch(
                audio(voice), TimeMap(np.array([0.0, 3.0]), np.array([0.0, 3 * factor])), "line"
            ).samples[0]
            with self.subTest(factor=factor):
                self.assertLess(
                    abs(1200 * np.log2(frequency(made[RATE // 2 : 2 * RATE], 131.3) / 131.3)), 0.01
                )

    def test_between_frames_all_channels_are_read_as_scipy_reads_each(self) -> None:
        rng = np.random.default_rng(4)
        knots, place = rng.standard_normal((3, 400)), np.sort(rng.uniform(2, 396, 900))
        wanted = [ndimage.map_coordinates(row, [place], order=3, prefilter=False) for row in knots]
        np.testing.assert_allclose(splines_between(knots, place), wanted, atol=1e-12)

    def test_line_bends_where_the_map_has_it(self) -> None:
        seconds = np.arange(3 * RATE) / RATE
        vibrato = 220 * 2 ** (35 * np.sin(2 * np.pi * 5.4 * seconds) / 1200)
        factor = 1.08
        made = stretch(
            audio(tone(vibrato)), TimeMap(np.array([0.0, 3.0]), np.array([0.0, 3 * factor])), "line"
        ).samples[0]
        span = 1200
        errors = []
        for at in range(RATE, 2 * RATE, 700):
            wanted = float(np.interp((at + span) / factor / RATE, seconds, vibrato))
            errors.append(1200 * np.log2(frequency(made[at : at + 2 * span], wanted) / wanted))
        # A frame of 54 ms blurs the vibrato by a few cents on its peaks, in the source just as well.
        self.assertLess(float(np.median(np.abs(errors))), 5.0)

    def test_between_two_attacks_a_voice_is_where_the_map_from_attack_to_attack_has_it(self) -> None:
        # A segment begins 2.5 ms before its attack; a map from edge to edge would have all of a voice at
        # twice its length 2.5 ms late.
        pre, have, length = round(PRE_S * RATE), 40_000, 80_000
        segment = Segment((0, have), (0, length), (), (), starts=True, ends=True)
        way = course(segment, 400, 0, 441, (), pre)
        middle = np.array([20_000.0, 40_000.0, 70_000.0])
        np.testing.assert_allclose(np.interp(middle, *way), pre + (middle - pre) / 2, atol=1)
        self.assertEqual((way[0][-1], way[1][-1]), (length, have))
        seconds = np.arange(round(3.4 * RATE)) / RATE
        # A tremolo of 4 Hz between two strokes; its turn in the output is that of the map.
        at, to = np.array([0.2, 2.2]), np.array([0.2, 4.2])
        voice = np.where(
            (seconds >= at[0]) & (seconds < at[1]), 1 + 0.5 * np.sin(2 * np.pi * 4 * (seconds - at[0])), 0
        ) * tone(np.full(len(seconds), 196.0))
        # A pitch that moves, or most of a note would stay as it is.
        glide = 2 ** (40 * np.sin(2 * np.pi * 5.5 * seconds) / 1200)
        voice = np.interp(np.cumsum(glide) / RATE, seconds, voice, right=0) + struck(at, 3.4).samples[0]
        made = stretch(
            audio(voice), TimeMap(np.array([0.0, *at, 3.4]), np.array([0.0, *to, 5.4])), "line"
        ).samples[0]
        turns = []
        for sound, start, hz in ((voice, at[0] + 0.25, 4.0), (made, to[0] + 0.5, 2.0)):
            power = np.square(sound[round(start * RATE) : round((start + 6 / hz) * RATE)].astype(np.float64))
            since = np.arange(len(power)) / RATE
            turns.append(float(np.angle((power * np.exp(-2j * np.pi * hz * since)).sum())) / (2 * np.pi))
        late_ms = 1000 * (turns[0] - turns[1]) / 2.0
        self.assertLess(abs(late_ms), 0.8)


class VerbatimTest(unittest.TestCase):
    def test_attacks_are_the_sources_own_samples(self) -> None:
        sound = struck(PLAYED, 3.2)
        for method in METHODS:
            made = stretch(sound, TO_GRID, method).samples[0]
            for played, grid in zip(PLAYED[1:], GRID[1:], strict=True):
                a, b = round(played * RATE), round(grid * RATE)
                with self.subTest(method=method, at=grid):
                    np.testing.assert_array_equal(made[b - 90 : b + 300], sound.samples[0][a - 90 : a + 300])

    def test_marks_beside_the_attack_neither_double_nor_cut_it(self) -> None:
        sound = struck(PLAYED, 3.2)
        beside = PLAYED + np.array([0.005, -0.005, 0.004, -0.004, 0.005, -0.005])
        for method in METHODS:
            made = stretch(sound, TimeMap(np.array([0.0, *beside, 3.2]), np.array([0.0, *GRID, 3.2])), method)
            found = attack_starts(made.samples[0], RATE)
            with self.subTest(method=method):
                self.assertEqual(len(found), len(GRID))
                wanted = np.interp(
                    attack_starts(sound.samples[0], RATE),
                    np.array([0.0, *beside, 3.2]),
                    np.array([0.0, *GRID, 3.2]),
                )
                np.testing.assert_allclose(found, wanted, atol=0.0006)


class PropertyTest(unittest.TestCase):
    def test_later_sound_and_later_map_give_the_same_sound_later(self) -> None:
        late = 0.5
        sound = struck(PLAYED, 3.2)
        moved = Audio(np.pad(sound.samples, ((0, 0), (round(late * RATE), 0))), RATE)
        for method in METHODS:
            first = stretch(sound, TO_GRID, method).samples[0]
            second = stretch(
                moved,
                TimeMap(
                    np.array([0.0, late, *(PLAYED + late), 3.2 + late]),
                    np.array([0.0, late, *(GRID + late), 3.2 + late]),
                ),
                method,
            )
            at = round(0.5 * RATE)
            difference = (
                second.samples[0][round(late * RATE) + at : round(late * RATE) + 3 * RATE - at]
                - first[at : 3 * RATE - at]
            )
            with self.subTest(method=method):
                self.assertLess(float(np.square(difference).mean()), 1e-3 * float(np.square(first).mean()))

    def test_gain_is_linear_for_every_method(self) -> None:
        for method in METHODS:
            for sound in (struck(PLAYED, 3.2), audio(tone(np.full(2 * RATE, 147.0)))):
                line = TimeMap(
                    np.array([0.0, 0.9, sound.duration_s]), np.array([0.0, 1.0, 1.04 * sound.duration_s])
                )
                loud, soft = (
                    stretch(sound, line, method),
                    stretch(Audio(sound.samples * 0.25, RATE), line, method),
                )
                with self.subTest(method=method):
                    np.testing.assert_allclose(loud.samples * 0.25, soft.samples, atol=2e-4)

    def test_two_microphones_keep_their_delay(self) -> None:
        near = struck(PLAYED, 3.2).samples[0]
        delay = 75
        far = 0.8 * np.concatenate([np.zeros(delay), near[:-delay]])
        for method in ("cut", "strike", "chord"):
            made = stretch(audio(near, far), TO_GRID, method).samples.astype(np.float64)
            here, there = made[0][:-delay], made[1][delay:]
            with self.subTest(method=method):
                self.assertLess(
                    10 * np.log10(np.square(there - 0.8 * here).sum() / np.square(there).sum()), -30
                )

    def test_mics_of_a_bundle_keep_their_phase(self) -> None:
        near = struck(PLAYED, 3.2).samples[0]
        delay = 75
        far = 0.3 * np.concatenate([np.zeros(delay), near[:-delay]])
        mics = [ArraySource(audio(near)), ArraySource(audio(far))]
        for method in METHODS:
            together = [
                StretchedSource(SideBySide(mics), TO_GRID, method, channels=SideBySide(mics).channels_of(k))
                for k in (0, 1)
            ]
            here, there = (made.read(0, 3 * RATE)[0].astype(np.float64) for made in together)
            with self.subTest(method=method):
                self.assertEqual([made.channels for made in together], [1, 1])
                rest = there[delay:] - 0.3 * here[:-delay]
                # Line blends periods of what has none here: noise.
                self.assertLess(
                    10 * np.log10(np.square(rest).sum() / np.square(there).sum()),
                    -18 if method == "line" else -25,
                )

    def test_rates_channels_and_points_at_the_edges(self) -> None:
        for rate in (8000, 22050, 192000):
            for channels in (1, 8):
                sound = Audio(
                    np.random.default_rng(3).uniform(-0.5, 0.5, (channels, rate // 2)).astype(np.float32),
                    rate,
                )
                edge = 1 / rate
                line = TimeMap(
                    np.array([0.0, edge, 0.2, 0.201, 0.5 - edge, 0.5]),
                    np.array([0.0, 2 * edge, 0.3, 0.3005, 0.6 - edge, 0.6]),
                )
                for method in METHODS:
                    made = stretch(sound, line, method)
                    with self.subTest(rate=rate, channels=channels, method=method):
                        self.assertEqual(made.samples.shape, (channels, round(0.6 * rate)))
                        self.assertTrue(np.isfinite(made.samples).all())


class SustainTest(unittest.TestCase):
    def test_the_parts_add_up_to_the_source(self) -> None:
        sound = struck(PLAYED, 3.2)
        whole = ArraySource(sound)
        sustained = Sustained(whole)
        np.testing.assert_allclose(
            sustained.read(100, 9000) + Struck(whole, sustained).read(100, 9000),
            sound.samples[:, 100:9000],
            atol=1e-6,
        )
        np.testing.assert_allclose(
            Sustained(whole).read(40_000, 50_000), sustained.read(0, 60_000)[:, 40_000:50_000], atol=1e-7
        )

    def test_a_tone_under_hits_goes_on_through_them(self) -> None:
        seconds = np.arange(round(3.2 * RATE)) / RATE
        hits = struck(PLAYED, 3.2).samples[0]
        pad = 0.15 * np.sin(2 * np.pi * 330 * seconds)
        made = stretch(audio(hits + pad), TO_GRID, "chord").samples[0].astype(np.float64)
        turned = made * np.exp(-2j * np.pi * 330 * np.arange(len(made)) / RATE)
        slow = np.convolve(turned, np.hanning(4410) / np.hanning(4410).sum(), "same")[
            RATE // 2 : int(2.6 * RATE)
        ]
        # Started anew at every hit its phase would jump by up to half a turn (20 ms are 6.6 periods).
        self.assertLess(float(np.abs(np.angle(slow * np.conj(slow.mean()))).max()), 0.35)


class _Watched(ArraySource):
    """Remembers how far it was read."""

    farthest = 0

    def read(self, start: int, stop: int) -> Samples:
        self.farthest = max(self.farthest, stop)
        return super().read(start, stop)


class RunningTest(unittest.TestCase):
    def test_what_sounds_on_is_made_as_far_as_it_is_heard_and_the_same_then(self) -> None:
        seconds = np.arange(10 * RATE) / RATE
        watched = _Watched(
            audio(0.2 * np.sin(2 * np.pi * 220 * seconds) + 0.1 * np.sin(2 * np.pi * 331 * seconds))
        )
        source = Sustained(watched)
        segment = Segment((RATE, 8 * RATE), (0, round(7.5 * RATE)), (), (), starts=False, ends=False)
        running = chord.running_sustained(source, segment)
        assert isinstance(running, chord.Running)
        begun = running.until(RATE)[:, :RATE].copy()
        # A second from the first, its windows, and blocks of two seconds with what their medians look at.
        self.assertLess(watched.farthest, 5 * RATE)
        whole = running.until(segment.length)
        np.testing.assert_array_equal(whole[:, :RATE], begun)
        at_once = chord.running_sustained(source, segment)
        assert isinstance(at_once, chord.Running)
        np.testing.assert_array_equal(at_once.until(segment.length), whole)
        self.assertGreater(float(np.abs(begun).max()), 0.1)

    def test_a_segment_of_any_length_ends_with_the_sources_own_sound(self) -> None:
        seconds = np.arange(3 * RATE) / RATE
        source = ArraySource(
            audio(0.2 * np.sin(2 * np.pi * 220 * seconds) + 0.1 * np.sin(2 * np.pi * 553 * seconds))
        )
        # Windows are made 32 at a time, a quarter of a window apart: each of these lengths leaves another
        # number for the last time.
        hop = 1024
        for k in range(34):
            length = 17_000 + k * hop
            segment = Segment((RATE, RATE + length - 1500), (0, length), (), (), starts=True, ends=True)
            made = chord.vocoded(source, segment)
            with self.subTest(length=length):
                self.assertEqual(made.shape[1], length)
                end = segment.source[1]
                np.testing.assert_allclose(made[:, -40:], source.read(end - 40, end), atol=0.01)


class PlanTest(unittest.TestCase):
    def test_no_segment_is_longer_than_a_preview_may_wait(self) -> None:
        still = audio(0.1 * np.sin(np.arange(60 * RATE) / 40))
        segments = plan(ArraySource(still), TimeMap(np.array([0.0, 60.0]), np.array([0.0, 66.0])))
        self.assertTrue(all(max(s.have, s.length) <= LONGEST_S * RATE + 1 for s in segments))
        self.assertEqual([s.source[1] for s in segments[:-1]], [s.source[0] for s in segments[1:]])
        self.assertEqual((segments[-1].source[1], segments[-1].target[1]), (60 * RATE, 66 * RATE))

    def test_an_attack_a_little_later_than_its_point_is_told_from_what_lies_at_the_point(self) -> None:
        # A chord that goes on under a stroke 3.5 ms after its point: with the stroke in what is heard after
        # the point as well, both look alike; without it the stroke stands out.
        time = np.arange(3 * RATE) / RATE
        at = RATE + 20
        under = tone(np.full(len(time), 164.8)) + tone(np.full(len(time), 246.9))
        since = np.maximum(time - at / RATE, 0)
        sound = 0.3 * under + (time >= at / RATE) * 0.5 * np.minimum(1, since / 0.001) * np.exp(
            -since / 0.3
        ) * tone(np.full(len(time), 329.6), 24)
        early = at - round(0.0035 * RATE)
        (near, as_it_is, alone), exact = attacks_near(ArraySource(audio(sound)), np.array([early, at]))
        self.assertLess(abs(near - at), 0.001 * RATE)
        self.assertGreater(alone, as_it_is + 3)
        self.assertGreater(alone, BETTER_CHORD.alone)
        self.assertTrue(
            exact[0] == at or (exact[1] <= BETTER_CHORD.as_it_is and exact[2] <= BETTER_CHORD.alone)
        )
        # What comes before a point has no such excuse.
        late = attacks_near(ArraySource(audio(sound)), np.array([at + round(0.004 * RATE)]))[0]
        self.assertEqual(late[2], 0)

    def test_beating_tones_are_no_attacks_to_chord(self) -> None:
        seconds = np.arange(4 * RATE) / RATE
        beating = audio(0.2 * (np.sin(2 * np.pi * 220 * seconds) + np.sin(2 * np.pi * 233 * seconds)))
        points = np.arange(0.25, 4, 0.31)
        segments = plan(
            ArraySource(beating),
            TimeMap(np.array([0.0, *points, 4.0]), np.array([0.0, *(points + 0.01), 4.0])),
            lasting=True,
        )
        self.assertEqual(len(segments), 1)
        self.assertEqual(len(segments[0].inner_source), len(points))


class ChoiceTest(unittest.TestCase):
    def test_what_a_take_is_decides_first(self) -> None:
        sound = source(struck(PLAYED, 3.2))
        for kind, method in (
            ("voice", "line"),
            ("single line", "line"),
            ("chords", "chord"),
            ("full mix", "chord"),
            ("drums", "cut"),
            ("unknown", "cut"),
        ):
            with self.subTest(kind=kind):
                self.assertEqual(choose_method(sound, TO_GRID, kind).method, method)

    def test_one_voice_is_heard(self) -> None:
        voice = tone(np.full(round(3.2 * RATE), 147.0))
        self.assertEqual(choose_method(ArraySource(audio(voice)), TO_GRID).method, "line")

    def test_far_factors_are_named(self) -> None:
        self.assertEqual(far_stretched(TO_GRID), "")
        far = far_stretched(TimeMap(np.array([0.0, 1.0, 2.0]), np.array([0.0, 1.0, 2.6])))
        self.assertIn("1 span is stretched beyond x0.8 to x1.25 (as far as x1.60)", far)


class MorePointsTest(unittest.TestCase):
    def test_points_on_a_map_change_nothing_about_it(self) -> None:
        more = TO_GRID.through(np.array([0.5, 0.30005, 1.27, 2.0, 9.0, -1.0, 2.0002]))
        self.assertEqual(len(more.source_s), len(TO_GRID.source_s) + 2)
        at = np.linspace(-0.5, 3.5, 200)
        np.testing.assert_allclose(more.to_target(at), TO_GRID.to_target(at), atol=1e-12)


class RememberedTest(unittest.TestCase):
    def test_a_moved_mark_sounds_as_if_nothing_were_remembered_and_only_its_neighbours_are_made_anew(
        self,
    ) -> None:
        t = np.arange(4 * RATE) / RATE
        pad = 0.1 * np.sin(2 * np.pi * 220 * t)
        hits = struck(np.arange(0.25, 3.9, 0.25), 4.0).samples[0]
        for name, sound in {"hits": hits, "hits over a pad": hits + pad}.items():
            plain = ArraySource(audio(sound, 0.6 * sound))
            memory = Remembered(plain)
            marks = np.arange(0.25, 3.9, 0.25)
            for method in METHODS:
                made: list[int] = []
                for late in (0.0, 0.013):
                    target = marks + 0.01 * np.sin(7 * marks)
                    target[6] += late
                    time_map = TimeMap(np.array([0.0, *marks, 4.0]), np.array([0.0, *target, 4.0]))
                    new = count_made(memory, time_map, method)
                    made.append(new[0])
                    with self.subTest(sound=name, method=method, late=late):
                        np.testing.assert_array_equal(
                            new[1], StretchedSource(plain, time_map, method).read(0, 4 * RATE)
                        )
                with self.subTest(sound=name, method=method):
                    # Of hits, two segments touch the mark; what sounds on is one segment through all of them.
                    self.assertLessEqual(made[1], 3)
                    self.assertGreater(made[0], 10)

    def test_memory_is_bounded(self) -> None:
        memory = Remembered(ArraySource(audio(np.zeros(RATE))))
        for k in range(30):
            memory.sound(k, lambda: np.zeros((8, RATE), np.float32))
        self.assertLessEqual(sum(made.size for made in memory._sounds.values()), 8_000_000)
        self.assertIn(29, memory._sounds)


def count_made(memory: Remembered, time_map: TimeMap, method: str) -> tuple[int, Samples]:
    """(how many segments were made anew, what was read)."""
    kept = set(memory._sounds)
    sound = StretchedSource(memory, time_map, method).read(0, memory.frames)
    return len(set(memory._sounds) - kept), sound


class PreviewTest(unittest.TestCase):
    def test_a_preview_is_the_render(self) -> None:
        seconds = np.arange(round(3.2 * RATE)) / RATE
        hits = struck(PLAYED, 3.2).samples[0] + 0.15 * np.sin(2 * np.pi * 330 * seconds)
        for method in METHODS:
            whole = StretchedSource(ArraySource(audio(hits)), TO_GRID, method).read(0, 3 * RATE)
            part = StretchedSource(ArraySource(audio(hits)), TO_GRID, method).read(60_000, 90_000)
            with self.subTest(method=method):
                self.assertLess(
                    20 * np.log10(float(np.abs(part - whole[:, 60_000:90_000]).max()) + 1e-12), -120
                )
