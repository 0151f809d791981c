import itertools
import unittest

import numpy as np

from combpace.core.audio import ArraySource, Audio
from combpace.core.errors import ParameterError
from combpace.core.pieces.cutting import cut_frames, grid_times, has_lead, places_apart
from combpace.core.pieces.laying import OwnSound, Piece, Pieces, tail_of
from combpace.core.tempo.grid import Grid
from combpace.core.tempo.map import steady_map

RATE = 44100
FADE = round(0.005 * RATE)


def source(samples: np.ndarray) -> ArraySource:
    return ArraySource(Audio(np.atleast_2d(samples).astype(np.float32), RATE))


class CutTest(unittest.TestCase):
    def test_a_cut_goes_to_the_zero_crossing_within_a_millisecond(self) -> None:
        tone = np.sin(2 * np.pi * 441 * (np.arange(RATE) + 0.5) / RATE)
        # A period has 100 frames: it crosses at every 50th.
        self.assertEqual(list(cut_frames(source(tone), [0.5 + 0.0004])), [round(0.5 * RATE)])
        # Without a crossing near it stays where it is.
        self.assertEqual(list(cut_frames(source(np.ones(RATE)), [0.25])), [11025])

    def test_cuts_are_in_order_and_apart_and_not_at_the_ends(self) -> None:
        found = cut_frames(source(np.ones(RATE)), [0.5, 0.2, 0.201, 0.0, 1.0])
        self.assertEqual(list(found), [round(0.2 * RATE), round(0.5 * RATE)])

    def test_places_of_a_grid_by_its_own_pace(self) -> None:
        # 120 BPM with bar 1 at .3 s: half a quarter before it, and on.
        times = grid_times(steady_map(120.0, 0.3), Grid(8), 1.4)
        np.testing.assert_allclose(times, [0.05, 0.3, 0.55, 0.8, 1.05, 1.3])

    def test_of_several_for_one_place_the_nearest_has_it(self) -> None:
        own, goal = np.array([0.9, 1.02, 2.0]), np.array([1.0, 1.0, 2.0])
        np.testing.assert_allclose(places_apart(own, goal), [0.88, 1.0, 2.0])

    def test_what_lies_before_the_first_onset_is_a_piece_only_where_there_is_room(self) -> None:
        self.assertTrue(has_lead(np.array([0.02, 0.5])))
        self.assertFalse(has_lead(np.array([0.001, 0.5])))
        self.assertFalse(has_lead(np.zeros(0)))


class LaidTest(unittest.TestCase):
    def setUp(self) -> None:
        self.noise = np.random.default_rng(2).standard_normal(RATE) * 0.2

    def test_from_the_cut_to_the_next_fade_every_sample_is_the_sources(self) -> None:
        made = Pieces(source(self.noise), [Piece(10000, 14000, 20000), Piece(14000, 19000, 30000)])
        out = made.read(0, made.frames)[0]
        wanted = self.noise.astype(np.float32)
        np.testing.assert_array_equal(out[20000 : 24000 - FADE], wanted[10000 : 14000 - FADE])
        np.testing.assert_array_equal(out[30000 : 35000 - FADE], wanted[14000 : 19000 - FADE])
        # The source's own 5 ms before a piece come in; before that nothing sounds.
        self.assertFalse(out[: 20000 - FADE].any())
        self.assertTrue(
            np.all(np.abs(out[20000 - FADE : 20000]) <= np.abs(wanted[10000 - FADE : 10000]) + 1e-7)
        )
        self.assertFalse(out[24000 : 30000 - FADE].any())

    def test_laid_where_they_were_they_are_the_source(self) -> None:
        cuts = [0, 9000, 20000, RATE]
        made = Pieces(source(self.noise), [Piece(a, b, a) for a, b in itertools.pairwise(cuts)])
        out = made.read(0, RATE)[0]
        np.testing.assert_array_equal(out[: RATE - FADE], self.noise.astype(np.float32)[: RATE - FADE])

    def test_where_two_meet_the_earlier_ends_or_rings(self) -> None:
        ones = source(np.ones(RATE))
        pieces = [Piece(5000, 15000, 5000), Piece(20000, 30000, 9000)]
        ends = Pieces(ones, pieces).read(0, 20000)[0]
        # Across the fade the two add up to one.
        np.testing.assert_allclose(ends[5000:18000], 1.0, atol=1e-6)
        rings = Pieces(ones, pieces, meeting="rings").read(0, 20000)[0]
        np.testing.assert_allclose(rings[9000 : 15000 - FADE], 2.0, atol=1e-6)

    def test_a_piece_that_rings_between_two_that_go_on_adds_only_itself(self) -> None:
        ones = source(np.ones(RATE))
        made = Pieces(
            ones,
            [Piece(5000, 10000, 5000), Piece(10000, 15000, 10000), Piece(20000, 20600, 9000)],
            meeting="rings",
        ).read(0, 20000)[0]
        np.testing.assert_allclose(made[9600:14000], 1.0, atol=1e-6)
        # Pulled earlier onto the one before it, what went on there is cut: the two cross over and never jump.
        crossed = Pieces(
            source(np.linspace(0, 1, RATE)), [Piece(5000, 10000, 5000), Piece(10000, 15000, 9000)]
        ).read(5000, 13500)[0]
        self.assertLess(float(np.abs(np.diff(crossed)).max()), 0.001)

    def test_fades_of_its_own_lie_within_the_piece(self) -> None:
        ones = source(np.ones(RATE))
        out = Pieces(ones, [Piece(5000, 15000, 6000, 0.0, 2000, 4000), Piece(15000, 20000, 16000)]).read(
            0, 22000
        )[0]
        self.assertFalse(out[:6001].any())
        # A raised cosine: half of it is reached half way, and it is full where it ends.
        self.assertAlmostEqual(float(out[7000]), 0.5, places=4)
        self.assertAlmostEqual(float(out[14000]), 0.5, places=4)
        np.testing.assert_allclose(out[8000:12000], 1.0, atol=1e-6)
        # The next comes in over the short fade that all have: it is cut from this one now.
        self.assertAlmostEqual(float(out[16000]), 1.0, places=4)
        none = Pieces(ones, [Piece(5000, 15000, 6000, 0.0, 0, 0)]).read(0, 22000)[0]
        np.testing.assert_array_equal(np.flatnonzero(none), np.arange(6000, 16000))

    def test_its_own_sound_is_read_instead_and_comes_in_within(self) -> None:
        noise = np.random.default_rng(4).standard_normal((1, 4000)).astype(np.float32)
        source, other = ArraySource(Audio(noise, 8000)), np.full((1, 1000), 0.5, np.float32)
        own = OwnSound(ArraySource(Audio(other, 8000)), 1000)
        np.testing.assert_array_equal(
            own.read(900, 1100)[0], np.r_[np.zeros(100), np.full(100, 0.5)].astype(np.float32)
        )
        made = Pieces(source, [Piece(1000, 2000, 500, own=own), Piece(3000, 3500, 2500)])
        heard = made.read(0, 3000)[0]
        fade = round(0.005 * 8000)
        self.assertFalse(heard[:500].any())
        np.testing.assert_allclose(heard[500 + fade : 1500 - fade], 0.5, rtol=1e-6)
        self.assertTrue(np.all(np.diff(heard[500 : 500 + fade]) > 0))
        np.testing.assert_array_equal(heard[2500 : 3000 - fade], noise[0, 3000 : 3500 - fade])

    def test_a_level_over_time_is_straight_in_decibels_and_its_last_point_holds(self) -> None:
        source = ArraySource(Audio(np.ones((1, 4000), np.float32), 8000))
        heard = Pieces(source, [Piece(0, 4000, 0, curve=((1000, -6.0), (3000, -12.0)))], fade_s=0.005).read(
            0, 4000
        )[0]
        np.testing.assert_allclose(20 * np.log10(heard[[1000, 2000, 3000]]), [-6.0, -9.0, -12.0], atol=1e-4)
        np.testing.assert_allclose(heard[500], 1.0, rtol=1e-6)
        np.testing.assert_allclose(20 * np.log10(heard[[3500, 3900]]), -12.0, atol=1e-4)

    def test_one_alone_is_exactly_as_long_as_it_is(self) -> None:
        source = ArraySource(Audio(np.ones((1, 4000), np.float32), 8000))
        made = Pieces(source, [Piece(2000, 3000, 50), Piece(100, 700, 0, level_db=-6.0)])
        alone = made.alone(1)
        self.assertEqual(alone.frames, 600)
        heard = alone.read(0, 600)[0]
        np.testing.assert_allclose(heard[40:560], 10 ** (-6 / 20), rtol=1e-6)
        self.assertLess(abs(float(heard[0])), 0.01)

    def test_any_range_reads_the_same(self) -> None:
        pieces = [
            Piece(
                1000 * k,
                1000 * k + 1500,
                900 * k + 3000,
                0.0,
                700 if k == 5 else None,
                1500 if k == 7 else None,
            )
            for k in range(1, 20)
        ]
        for fill in ("nothing", "tail"):
            made = Pieces(source(self.noise), pieces, fill=fill)
            whole = made.read(0, made.frames)
            for lo, hi in (
                (0, 100),
                (3500, 9000),
                (8990, 9010),
                (made.frames - 40, made.frames + 40),
                (-50, 50),
            ):
                wanted = np.zeros((1, hi - lo), np.float32)
                a, b = max(lo, 0), min(hi, made.frames)
                wanted[:, a - lo : b - lo] = whole[:, a:b]
                np.testing.assert_array_equal(made.read(lo, hi), wanted)

    def test_levels_and_bad_values(self) -> None:
        quiet = Pieces(source(np.ones(RATE)), [Piece(5000, 9000, 0, -6.0)]).read(0, 3000)[0]
        np.testing.assert_allclose(quiet, 10 ** (-6 / 20), atol=1e-6)
        for call in (
            lambda: Pieces(source(self.noise), [Piece(5, 5, 0)]),
            lambda: Pieces(source(self.noise), [Piece(0, RATE + 1, 0)]),
            lambda: Pieces(source(self.noise), [], fade_s=2.0),
            lambda: Pieces(source(self.noise), [], fill="reverse"),
        ):
            with self.assertRaises(ParameterError):
                call()
        self.assertEqual(Pieces(source(self.noise), []).frames, 0)


class TailTest(unittest.TestCase):
    def test_a_decay_is_carried_on_at_its_own_rate_without_a_step(self) -> None:
        # 40 dB a second: the tail after half a second goes on so.
        t = np.arange(RATE) / RATE
        tone = np.sin(2 * np.pi * 330 * t) * 10 ** (-40 * t / 20)
        stop = RATE // 2
        tail = tail_of(source(tone), 0, stop, RATE // 2)[0]
        true = tone[stop:]
        for at_s in (0.1, 0.25, 0.4):
            part = slice(round(at_s * RATE), round((at_s + 0.05) * RATE))
            off_db = 20 * np.log10(
                float(np.sqrt(np.mean(tail[part] ** 2)) / np.sqrt(np.mean(true[part] ** 2)))
            )
            self.assertLess(abs(off_db), 2.5)
        # The joint is no step: no larger than the tone's own steepest.
        joint = np.concatenate([tone[stop - 200 : stop], tail[:400]])
        self.assertLess(
            float(np.abs(np.diff(joint)).max()), 1.5 * float(np.abs(np.diff(tone[stop - 400 : stop])).max())
        )

    def test_it_is_heard_up_to_the_next_piece(self) -> None:
        t = np.arange(RATE) / RATE
        tone = np.sin(2 * np.pi * 330 * t) * 10 ** (-40 * t / 20)
        made = Pieces(source(tone), [Piece(0, 8000, 0), Piece(8000, 12000, 14000)], fill="tail")
        out = np.abs(made.read(0, 14000)[0])
        self.assertGreater(float(out[13000:13600].max()), 0.05)

    def test_the_rise_of_the_next_attack_is_not_heard_in_it(self) -> None:
        # A cut may lie some ms behind where the next attack begins to rise; that was repeated at every grain.
        t = np.arange(RATE) / RATE
        tone = 0.3 * np.sin(2 * np.pi * 330 * t) * 10 ** (-20 * t / 20)
        late = tone.copy()
        late[RATE // 2 - 100 :] += np.random.default_rng(3).standard_normal(RATE - RATE // 2 + 100) * 0.3
        made = Pieces(source(late), [Piece(0, RATE // 2, 0)], fill="tail")
        tail = made.read(RATE // 2 + 10, RATE)[0].astype(float)
        steepest = float(np.abs(np.diff(tone, 2)).max())
        self.assertGreater(float(np.abs(tail[:2000]).max()), 0.05)
        self.assertLess(float(np.abs(np.diff(tail, 2)).max()), 2 * steepest)


if __name__ == "__main__":
    unittest.main()
