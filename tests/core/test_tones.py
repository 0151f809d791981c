"""General MIDI level 1 (MIDI Manufacturers Association 1991): the families and the percussion key map, from
memory.
"""

import unittest

import numpy as np

from combpace.core.parts.part import Heard
from combpace.core.sounds.tones import (
    DRUM_KEYS,
    FAMILIES,
    PartSource,
    drum_of,
    drum_sound,
    family_of,
    note_sound,
    tone_sound,
)

RATE = 44100
PUBLISHED = (
    (0, "piano"),
    (7, "piano"),
    (8, "chromatic percussion"),
    (16, "organ"),
    (24, "guitar"),
    (32, "bass"),
    (40, "strings"),
    (48, "ensemble"),
    (56, "brass"),
    (64, "reed"),
    (72, "pipe"),
    (80, "synth lead"),
    (88, "synth pad"),
    (96, "synth effects"),
    (104, "ethnic"),
    (112, "percussive"),
    (127, "sound effects"),
)
KEYS = {
    35: "acoustic bass drum",
    36: "bass drum 1",
    37: "side stick",
    38: "acoustic snare",
    39: "hand clap",
    40: "electric snare",
    42: "closed hi-hat",
    44: "pedal hi-hat",
    46: "open hi-hat",
    49: "crash cymbal 1",
    51: "ride cymbal 1",
    54: "tambourine",
    56: "cowbell",
    60: "hi bongo",
    64: "low conga",
    70: "maracas",
    75: "claves",
    81: "open triangle",
}


def note(
    start: float, end: float, key: int = 69, velocity: int = 100, channel: int = 0, program: int = 0
) -> Heard:
    return Heard(start, end, 2 * start, 2 * end, key, velocity, channel, program)


class TableTest(unittest.TestCase):
    def test_families_are_the_published_ones(self) -> None:
        self.assertEqual(len(FAMILIES), 16)
        for program, name in PUBLISHED:
            self.assertEqual(family_of(program).name, name)

    def test_drum_keys_are_the_published_ones(self) -> None:
        self.assertEqual(sorted(DRUM_KEYS), list(range(35, 82)))
        for key, name in KEYS.items():
            self.assertEqual(drum_of(key).name, name)
        self.assertEqual((drum_of(20).name, drum_of(100).name), ("acoustic bass drum", "open triangle"))


class SoundTest(unittest.TestCase):
    def test_a_note_has_its_pitch_in_every_family(self) -> None:
        for family in FAMILIES:
            sound = tone_sound(family, 69, 1.0, RATE)
            part = sound[round(0.2 * RATE) : round(0.9 * RATE)]
            power = np.abs(np.fft.rfft(part * np.hanning(len(part)))) ** 2
            hz = np.fft.rfftfreq(len(part), 1 / RATE)
            # The strongest partial is a whole multiple of 440 Hz (ISO 16: A4).
            strongest = float(hz[int(np.argmax(power))])
            self.assertAlmostEqual(strongest / 440 - round(strongest / 440), 0.0, delta=0.01, msg=family.name)
            self.assertLessEqual(float(np.abs(sound).max()), 1.0)
            self.assertLess(abs(float(sound[-1])), 1e-6)

    def test_drums_begin_at_once_and_die_away(self) -> None:
        for key in DRUM_KEYS:
            sound = drum_sound(drum_of(key), RATE)
            early = float(np.abs(sound[: round(0.01 * RATE)]).max())
            self.assertGreater(early, 0.1, drum_of(key).name)
            self.assertLess(float(np.abs(sound[-round(0.002 * RATE) :]).max()), 0.02, drum_of(key).name)
            np.testing.assert_array_equal(sound, drum_sound(drum_of(key), RATE))

    def test_louder_by_the_square_of_the_velocity(self) -> None:
        loud, soft = (np.abs(note_sound(note(0, 0.5, velocity=v), RATE)).max() for v in (126, 63))
        self.assertAlmostEqual(20 * np.log10(float(loud / soft)), 12.04, delta=0.01)


class PartSourceTest(unittest.TestCase):
    def test_any_range_reads_the_samples_of_the_whole(self) -> None:
        notes = [
            note(0.1, 0.6),
            note(0.35, 0.4, 64, program=70),
            note(0.5, 0.51, 38, channel=9),
            note(1.2, 1.5, 40, program=33),
        ]
        source = PartSource(notes, RATE)
        whole = source.read(0, source.frames)
        self.assertEqual(source.frames, round(1.2 * RATE) + round(0.36 * RATE))
        for lo, hi in (
            (0, 5000),
            (4410, 30000),
            (22000, 22100),
            (source.frames - 50, source.frames + 50),
            (-100, 100),
        ):
            wanted = np.zeros((1, hi - lo), np.float32)
            a, b = max(lo, 0), min(hi, source.frames)
            wanted[:, a - lo : b - lo] = whole[:, a:b]
            np.testing.assert_array_equal(source.read(lo, hi), wanted)
        # The first sample of a stroke lies on its moment.
        self.assertEqual(float(np.abs(whole[0, : round(0.1 * RATE)]).max()), 0.0)
        self.assertGreater(float(np.abs(whole[0, round(0.1 * RATE) : round(0.1 * RATE) + 300]).max()), 0.0)

    def test_nothing_is_silence(self) -> None:
        self.assertEqual(PartSource([], RATE).frames, 0)
        self.assertFalse(PartSource([], RATE, 1.0).read(0, 100).any())


if __name__ == "__main__":
    unittest.main()
