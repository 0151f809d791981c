"""A render's attacks measured again: what lies on its place, what beside it, what is not there."""

import unittest

import numpy as np

from combpace.core.audio import Audio
from combpace.core.fit.proof import proof, share_within
from rig.sounds import source, struck


class ProofTest(unittest.TestCase):
    def test_on_its_place_beside_it_and_missing(self) -> None:
        rendered = source(struck([0.5, 1.012, 1.5, 2.5], 3.5))
        found = proof(rendered, [0.5, 1.0, 1.5, 2.1, 9.0])
        for one, off in zip(found[:3], (0.0, 12.0, 0.0), strict=True):
            assert one.off_ms is not None
            self.assertAlmostEqual(one.off_ms, off, delta=0.7)
        self.assertIsNone(found[3].off_ms)
        self.assertIsNone(found[4].measured_s)
        self.assertAlmostEqual(share_within(found), 2 / 5)

    def test_on_the_sessions_clock(self) -> None:
        found = proof(source(struck([0.5], 1.5)), [2.5], first_s=2.0)
        assert found[0].measured_s is not None
        self.assertAlmostEqual(found[0].measured_s, 2.5, delta=0.001)
        self.assertEqual(share_within([]), 1.0)
        self.assertTrue(np.isfinite(found[0].wanted_s))


class AgainTest(unittest.TestCase):
    """Found again by its own sound."""

    def test_a_strum_lies_where_its_first_string_does(self) -> None:
        # Four strings, 12 ms apart, the later ones louder: the rise of the last is the greatest.
        rng, strum = np.random.default_rng(1), np.zeros(44100)
        for k in range(4):
            at = round((0.1 + 0.012 * k) * 44100)
            t = np.arange(len(strum) - at) / 44100
            tone = np.sin(2 * np.pi * 180 * (1 + 0.26 * k) * t) + 0.2 * rng.normal(size=len(t)) * np.exp(
                -t / 0.01
            )
            strum[at:] += 0.1 * (1 + k) * np.exp(-t / 0.1) * tone
        came, made = np.zeros(3 * 44100, np.float32), np.zeros(3 * 44100, np.float32)
        played, rendered = [0.5, 1.1, 1.6], [0.5, 1.0, 1.5]
        for sound, times in ((came, played), (made, rendered)):
            for time in times:
                at = round((time - 0.1) * 44100)
                sound[at : at + len(strum)] += strum
        found = proof(
            source(Audio(made[None, :], 44100)), rendered, 0.0, source(Audio(came[None, :], 44100)), played
        )
        for each in found:
            assert each.off_ms is not None
            self.assertLess(abs(each.off_ms), 0.05)

    def test_beside_its_place_it_is_measured_to_a_share_of_a_frame(self) -> None:
        came = struck([0.5], 1.5)
        for frames in (300.25, 1000.5, -700.75):
            # A shift by a share of a frame, by its spectrum.
            spectrum = np.fft.rfft(came.samples[0], 2 * came.frames)
            turn = np.exp(-2j * np.pi * np.fft.rfftfreq(2 * came.frames) * frames)
            moved = np.fft.irfft(spectrum * turn)[: came.frames].astype(np.float32)
            (one,) = proof(source(Audio(moved[None, :], 44100)), [0.5], 0.0, source(came), [0.5])
            assert one.off_ms is not None
            self.assertAlmostEqual(one.off_ms, 1000 * frames / 44100, delta=0.1 * 1000 / 44100)

    def test_what_is_not_alike_is_looked_for_by_its_rise(self) -> None:
        rng = np.random.default_rng(2)
        noise = Audio(
            rng.normal(0.0, 0.2, (1, 66150)).astype(np.float32) * np.exp(-np.arange(66150) / 4000), 44100
        )
        (one,) = proof(source(struck([0.5], 1.5)), [0.508], 0.0, source(noise), [0.0])
        assert one.off_ms is not None and one.alike is not None
        self.assertLess(one.alike, 0.6)
        self.assertAlmostEqual(one.off_ms, -8.0, delta=0.7)

    def test_a_mark_beside_its_attack_is_told(self) -> None:
        came = struck([0.5, 1.0], 2.0)
        found = proof(source(came), [0.514, 1.0], 0.0, source(came), [0.514, 1.0])
        assert found[0].off_ms is not None and found[1].off_ms is not None
        self.assertAlmostEqual(found[0].off_ms, -14.0, delta=0.7)
        self.assertLess(abs(found[1].off_ms), 0.1)
