"""Notes that get more room die away as they did; what is held does not; a consonant keeps its length.

A struck string or bar dies away exponentially, each partial at its own rate (Fletcher, Rossing, The Physics
of Musical Instruments, chapter 2.12: damping; the rates here are made up).
"""

import unittest
from typing import get_args

import numpy as np
from scipy import signal

from combpace.core.audio import Audio, Samples
from combpace.core.clocks import FloatArray
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch import stretch
from combpace.core.stretch.decay import Kind, kept
from rig.sounds import RATE, attack_starts, struck

# (partial in Hz, decibels a second)
PARTIALS = ((220.0, 12.0), (440.0, 14.0), (1320.0, 24.0), (3080.0, 45.0), (6160.0, 70.0))
STARTS, ENDS = np.array([0.2, 0.7, 1.2]), np.array([0.2, 1.0, 1.8])
MAP = TimeMap(np.array([0.0, *STARTS, 1.7]), np.array([0.0, *ENDS, 2.6]))


def plucks(
    starts: FloatArray, length_s: float, partials: tuple[tuple[float, float], ...] = PARTIALS
) -> Samples:
    """A string struck again at each time, whatever it still does: the new stroke stops the old one."""
    time = np.arange(round(length_s * RATE)) / RATE
    out = np.zeros(len(time))
    for start, stop in zip(starts, [*starts[1:], length_s], strict=True):
        on = (time >= start) & (time < stop)
        since = time[on] - start
        out[on] = sum(0.15 * np.sin(2 * np.pi * hz * since) * 10 ** (-db * since / 20) for hz, db in partials)
    return out[None].astype(np.float32)


def level_at(sound: Samples, hz: float, time_s: float, span_s: float = 0.05) -> float:
    """Decibels of one partial over a span that ends at a time."""
    part = sound[0, round((time_s - span_s) * RATE) : round(time_s * RATE)].astype(np.float64)
    window = np.hanning(len(part))
    turn = np.exp(-2j * np.pi * hz * np.arange(len(part)) / RATE)
    return float(20 * np.log10(abs((part * window * turn).sum()) / window.sum() + 1e-9))


class NotesThatDieAway(unittest.TestCase):
    def test_each_partial_is_as_loud_before_the_next_attack_as_if_it_had_been_played_so(self) -> None:
        made = stretch(Audio(plucks(STARTS, 1.7), RATE), MAP, "chord").samples
        ideal = plucks(ENDS, 2.6)
        for hz, db in PARTIALS[:4]:
            with self.subTest(hz=hz):
                before_next = 0.99
                self.assertAlmostEqual(
                    level_at(made, hz, before_next),
                    level_at(ideal, hz, before_next),
                    delta=0.08 * db * 0.8 + 1.2,
                )

    def test_a_strum_dies_away_from_its_last_string_on_and_is_no_slower(self) -> None:
        # Five strings struck one after the other within 70 ms; high partials die while the deep string hardly
        # does.
        delays = (0.0, 0.02, 0.04, 0.055, 0.07)

        def strums(starts: FloatArray, length_s: float) -> Samples:
            time = np.arange(round(length_s * RATE)) / RATE
            out = np.zeros(len(time))
            for start, stop in zip(starts, [*starts[1:], length_s], strict=True):
                for k, delay in enumerate(delays):
                    on = (time >= start + delay) & (time < stop)
                    since = time[on] - start - delay
                    deep, high = 0.2 * (k == 0) * 10 ** (-since / 20), 0.05 * 10 ** (-60 * since / 20)
                    out[on] += deep * np.sin(2 * np.pi * 110 * since) + high * np.sin(
                        2 * np.pi * (2200 + 170 * k) * since
                    )
            return out[None].astype(np.float32)

        played = np.array([0.2, 0.45, 0.7])
        grid = np.array([0.2, 0.7, 1.2])
        made = stretch(
            Audio(strums(played, 0.95), RATE),
            TimeMap(np.array([0.0, *played, 0.95]), np.array([0.0, *grid, 1.7])),
            "chord",
        ).samples
        ideal = strums(grid, 1.7)
        # Of the string that is struck last: as loud as if it had been played so, 40 ms after it and before
        # the next strum.
        for time_s, delta in ((0.2 + 0.07 + 0.05, 1.5), (0.69, 4.0)):
            self.assertAlmostEqual(
                level_at(made, 2880.0, time_s, 0.04), level_at(ideal, 2880.0, time_s, 0.04), delta=delta
            )

    def test_a_bass_line_too(self) -> None:
        low = tuple((55.0 * k, 8.0 + 2.5 * k) for k in range(1, 30))
        made = stretch(Audio(plucks(STARTS, 1.7, low), RATE), MAP, "line").samples
        ideal = plucks(ENDS, 2.6, low)
        band = signal.butter(4, (600, 1500), "bandpass", fs=RATE, output="sos")
        span = slice(round(0.9 * RATE), round(0.985 * RATE))
        got, wanted = (
            float(np.mean(np.square(signal.sosfiltfilt(band, sound[0])[span]))) for sound in (made, ideal)
        )
        self.assertLess(abs(10 * np.log10(got / wanted)), 3)

    def test_hits_are_as_soft_as_they_would_be(self) -> None:
        rng = np.random.default_rng(3)
        noise = rng.standard_normal(round(2.6 * RATE)).astype(np.float32)

        def hits(starts: FloatArray, length_s: float) -> Samples:
            time = np.arange(round(length_s * RATE)) / RATE
            since = time - starts[np.maximum(np.searchsorted(starts, time, "right") - 1, 0)]
            soft = 10 ** (-60 * np.maximum(since, 0) / 20) * (time >= starts[0])
            return np.asarray((0.2 * noise[: len(time)] * soft)[None], np.float32)

        made = stretch(Audio(hits(STARTS, 1.7), RATE), MAP, "strike").samples
        span = slice(round(0.93 * RATE), round(0.99 * RATE))
        loud = 10 * np.log10(np.mean(np.square(made[0, span])) / np.mean(np.square(hits(ENDS, 2.6)[0, span])))
        self.assertLess(abs(loud), 3.0)

    def test_a_stroke_that_rides_within_is_as_loud_as_it_was(self) -> None:
        # Three strokes that no point says anything about, one behind the place where sound is repeated.
        times = np.array([0.3, 0.9, 1.5, 2.1, 2.7])
        played = struck(times, 3.6)
        for longer_s in (0.01, 0.03, 0.06, 0.2):
            line = TimeMap(
                np.array([0.0, 0.3, 2.7, 3.6]), np.array([0.0, 0.3, 2.7 + longer_s, 3.6 + longer_s])
            )
            for method in ("cut", "strike"):
                with self.subTest(longer_s=longer_s, method=method):
                    made = stretch(played, line, method).samples[0]
                    starts = attack_starts(made, RATE)
                    self.assertEqual(len(starts), len(times))
                    for before, now in zip(times, starts, strict=True):
                        loud = np.abs(made[round(now * RATE) :][:441]).max()
                        was = np.abs(played.samples[0, round(before * RATE) :][:441]).max()
                        self.assertAlmostEqual(20 * np.log10(loud / was), 0.0, delta=0.2)

    def test_what_is_held_stays_as_it_is(self) -> None:
        time = np.arange(RATE) / RATE
        held = (0.2 * np.sin(2 * np.pi * 330 * time) + 0.1 * np.sin(2 * np.pi * 990 * time))[None].astype(
            np.float32
        )
        longer = np.concatenate([held, held[:, : RATE // 2]], axis=1)
        way = (np.array([0.0, 1.5 * RATE]), np.array([0.0, RATE]))
        self.assertIs(longer, kept(held, longer, way, RATE, "notes"))
        # A voice that moves from one band to another: the lower one falls by 15 dB a second, all of it is as
        # loud as before.
        low = 0.2 * 10 ** (-15 * time / 20)
        high = np.sqrt(0.2**2 - low**2)
        vowel = (low * np.sin(2 * np.pi * 700 * time) + high * np.sin(2 * np.pi * 1400 * time))[None].astype(
            np.float32
        )
        longer = np.concatenate([vowel, vowel[:, : RATE // 2]], axis=1)
        self.assertIs(longer, kept(vowel, longer, way, RATE, "gliding"))

    def test_silence_and_a_few_frames_stay_as_they_are(self) -> None:
        for frames in (10, 400, RATE):
            none = np.zeros((2, frames), np.float32)
            longer = np.zeros((2, 2 * frames), np.float32)
            way = (np.array([0.0, 2 * frames]), np.array([0.0, frames]))
            for kind in get_args(Kind):
                self.assertIs(longer, kept(none, longer, way, RATE, kind))

    def test_a_note_that_is_let_go_dies_away_until_then_and_is_not_let_go_earlier(self) -> None:
        time = np.arange(round(1.7 * RATE)) / RATE
        sound = plucks(STARTS, 1.7)
        # Damped 0.1 s before the next one.
        for start in STARTS[1:]:
            sound[:, (time >= start - 0.1) & (time < start)] *= 0.003
        made = stretch(Audio(sound, RATE), MAP, "chord").samples
        # It is let go at 0.4 s of 0.5, which the map has at 0.64 s of 0.8.
        for hz in (220.0, 1320.0):
            self.assertAlmostEqual(
                level_at(made, hz, 0.2 + 0.55), level_at(plucks(ENDS, 2.6), hz, 0.2 + 0.55), delta=1.5
            )

    def test_gain_and_order_of_channels_do_not_matter(self) -> None:
        one = plucks(STARTS, 1.7)
        two = np.concatenate([one, 0.5 * np.roll(one, 9, axis=1)])
        made = stretch(Audio(two, RATE), MAP, "chord").samples
        turned = stretch(Audio(two[::-1].copy(), RATE), MAP, "chord").samples
        self.assertLess(float(np.abs(turned - made[::-1]).max()), 2e-5)
        softer = stretch(Audio((np.float32(0.25) * two), RATE), MAP, "chord").samples
        self.assertLess(float(np.abs(4 * softer - made).max()), 2e-5)

    def test_the_last_samples_before_an_attack_are_the_sources_own(self) -> None:
        sound = plucks(STARTS, 1.7)
        made = stretch(Audio(sound, RATE), MAP, "chord").samples
        at, own = round(1.0 * RATE) - round(0.0025 * RATE), round(0.7 * RATE) - round(0.0025 * RATE)
        self.assertLess(float(np.abs(made[0, at - 2 : at + 200] - sound[0, own - 2 : own + 200]).max()), 0.01)


class Consonants(unittest.TestCase):
    def test_a_hiss_before_a_vowel_keeps_its_length(self) -> None:
        rng = np.random.default_rng(5)
        time = np.arange(round(1.7 * RATE)) / RATE
        vowel = np.asarray(
            sum(
                0.05 / k * np.cos(2 * np.pi * (180 * k * time + 2 * k * np.sin(2 * np.pi * 5 * time) / np.pi))
                for k in range(1, 12)
            )
        )
        hiss = signal.sosfilt(
            signal.butter(4, 4000, "highpass", fs=RATE, output="sos"), rng.standard_normal(len(time))
        )
        lasts = 0.05

        def sung(starts: FloatArray) -> FloatArray:
            since = time - starts[np.maximum(np.searchsorted(starts, time, "right") - 1, 0)]
            hissing = (time >= starts[0]) & (since < lasts)
            voiced = np.clip((since - 0.02) / 0.02, 0, 1) * (time >= starts[0])
            return np.asarray(0.2 * hiss * hissing + vowel * voiced)

        made = stretch(Audio(sung(STARTS)[None].astype(np.float32), RATE), MAP, "line").samples[0]
        high = signal.sosfiltfilt(signal.butter(4, 4000, "highpass", fs=RATE, output="sos"), made)
        for start, factor in zip(ENDS[:2], (1.6, 1.6), strict=True):
            inside = np.sqrt(
                np.mean(np.square(high[round((start + 0.01) * RATE) : round((start + 0.045) * RATE)]))
            )
            # Where the map alone would still have hiss.
            after = np.sqrt(
                np.mean(
                    np.square(
                        high[round((start + lasts + 0.008) * RATE) : round((start + factor * lasts) * RATE)]
                    )
                )
            )
            self.assertGreater(20 * np.log10(inside / after), 15)


if __name__ == "__main__":
    unittest.main()
