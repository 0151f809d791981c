"""Plain tones and drums for parts, made from a formula each: which instrument a note is, by the families of
General MIDI level 1.

Programs are counted from 0, families are eight programs each; keys of channel 10 are drums (MIDI
Manufacturers Association, General MIDI System Level 1, 1991: "Instrument Families" and "Percussion Key Map",
keys 35 to 81). A note's sound depends on the note alone, not on when it begins, so that any range of a part
reads the same samples as the whole.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from combpace.core.audio import Samples
from combpace.core.clocks import FloatArray
from combpace.core.parts.part import Heard

# Sounds as this version makes them: another one is another sound, and keys name it.
TONES_VERSION = 1
# After its end a held note dies away in this; a struck one dies by itself. Seconds.
RELEASE_S, SHORTEST_S, LONGEST_S = 0.060, 0.020, 30.0
# Full velocity; velocity 64 is 12 dB below it (amplitude by the square, common practice).
LEVEL = 0.22
# Programs and velocities go so far (MIDI 1.0); the key of middle C.
MOST_MIDI, MIDDLE_C = 127, 60
# exp(-FALL_60_DB) is 60 dB less.
FALL_60_DB = 6.91
# Vibrato begins when a note has stood for a while, and is whole a little later.
WOBBLE_HZ, WOBBLES_FROM_S, WOBBLES_WITHIN_S = 5.2, 0.15, 0.2
# What would sound above this share of the rate is left out.
HIGHEST = 0.45
# A drum's pitch falls within this time; what is cut off fades within that.
FALLS_S, FADE_S = 0.02, 0.003
KEPT_SOUNDS = 256
A4_HZ, A4_KEY = 440.0, 69


@dataclass(frozen=True, slots=True)
class Family:
    """How a family sounds.

    partials   levels of the harmonics from the first on
    attack_s   until it is at its level
    decay_s    in which it falls by 60 dB while held; None: it sounds on
    bright     how much faster each higher harmonic dies than the one below, as a share
    wobble     depth of a slow change of pitch, share of a semitone
    """

    name: str
    partials: tuple[float, ...]
    attack_s: float = 0.002
    decay_s: float | None = None
    bright: float = 0.35
    wobble: float = 0.0


FAMILIES = (
    Family("piano", (1.0, 0.5, 0.3, 0.22, 0.12, 0.08, 0.05), decay_s=3.5),
    Family("chromatic percussion", (1.0, 0.0, 0.0, 0.6, 0.0, 0.0, 0.0, 0.0, 0.25), decay_s=1.6, bright=0.9),
    Family("organ", (1.0, 0.8, 0.5, 0.6, 0.0, 0.25, 0.0, 0.2), attack_s=0.006),
    Family("guitar", (1.0, 0.7, 0.45, 0.3, 0.22, 0.12, 0.1), decay_s=2.4, bright=0.5),
    Family("bass", (1.0, 0.55, 0.3, 0.15, 0.06), decay_s=2.8, bright=0.5),
    Family("strings", (1.0, 0.6, 0.45, 0.35, 0.25, 0.18, 0.12), attack_s=0.040, wobble=0.12),
    Family("ensemble", (1.0, 0.5, 0.4, 0.25, 0.18, 0.1), attack_s=0.060, wobble=0.1),
    Family("brass", (1.0, 0.9, 0.8, 0.6, 0.4, 0.3, 0.2), attack_s=0.020),
    Family("reed", (1.0, 0.2, 0.75, 0.15, 0.5, 0.1, 0.3), attack_s=0.015, wobble=0.06),
    Family("pipe", (1.0, 0.15, 0.08), attack_s=0.025, wobble=0.1),
    Family("synth lead", (1.0, 0.5, 0.33, 0.25, 0.2, 0.17, 0.14), attack_s=0.003),
    Family("synth pad", (1.0, 0.4, 0.3, 0.2, 0.1), attack_s=0.120, wobble=0.08),
    Family("synth effects", (1.0, 0.0, 0.5, 0.0, 0.3), attack_s=0.050, decay_s=4.0),
    Family("ethnic", (1.0, 0.8, 0.6, 0.45, 0.3, 0.25, 0.2), decay_s=1.5, bright=0.6),
    Family("percussive", (1.0, 0.0, 0.55, 0.0, 0.2), decay_s=0.7, bright=1.2),
    Family("sound effects", (1.0, 0.3, 0.6, 0.2), attack_s=0.010, decay_s=1.2),
)


@dataclass(frozen=True, slots=True)
class Drum:
    """How a drum sounds: a tone falling from high_hz to low_hz, noise above noise_hz, each 60 dB down in its
    time; ring: inharmonic partials.
    """

    name: str
    low_hz: float
    high_hz: float
    tone_s: float
    noise: float
    noise_hz: float
    noise_s: float
    ring: bool = False


def _skin(name: str, hz: float, seconds: float) -> Drum:
    return Drum(name, hz, 1.6 * hz, seconds, 0.12, 1500.0, 0.06)


def _metal(name: str, hz: float, seconds: float) -> Drum:
    return Drum(name, hz, hz, seconds, 0.7, 5500.0, seconds, ring=True)


def _wood(name: str, hz: float) -> Drum:
    return Drum(name, hz, 1.05 * hz, 0.08, 0.1, 2500.0, 0.02)


# Percussion key map of General MIDI level 1.
DRUM_KEYS: dict[int, Drum] = {
    35: Drum("acoustic bass drum", 48, 110, 0.40, 0.10, 1200, 0.03),
    36: Drum("bass drum 1", 52, 130, 0.32, 0.14, 1500, 0.03),
    37: _wood("side stick", 820),
    38: Drum("acoustic snare", 180, 260, 0.22, 0.9, 1800, 0.28),
    39: Drum("hand clap", 900, 900, 0.03, 1.0, 1000, 0.20),
    40: Drum("electric snare", 200, 300, 0.16, 1.0, 2200, 0.22),
    41: _skin("low floor tom", 72, 0.6),
    42: _metal("closed hi-hat", 3200, 0.09),
    43: _skin("high floor tom", 86, 0.55),
    44: _metal("pedal hi-hat", 2900, 0.12),
    45: _skin("low tom", 104, 0.5),
    46: _metal("open hi-hat", 3100, 0.7),
    47: _skin("low-mid tom", 122, 0.46),
    48: _skin("hi-mid tom", 142, 0.42),
    49: _metal("crash cymbal 1", 2100, 2.2),
    50: _skin("high tom", 168, 0.38),
    51: _metal("ride cymbal 1", 2700, 1.6),
    52: _metal("chinese cymbal", 1700, 1.8),
    53: Drum("ride bell", 1350, 1350, 1.4, 0.15, 6000, 0.5, ring=True),
    54: _metal("tambourine", 4200, 0.25),
    55: _metal("splash cymbal", 2600, 0.9),
    56: Drum("cowbell", 560, 560, 0.35, 0.05, 3000, 0.05, ring=True),
    57: _metal("crash cymbal 2", 1900, 2.4),
    58: Drum("vibraslap", 1100, 1100, 0.6, 0.4, 2500, 0.8),
    59: _metal("ride cymbal 2", 2500, 1.5),
    60: _skin("hi bongo", 320, 0.16),
    61: _skin("low bongo", 240, 0.2),
    62: _skin("mute hi conga", 270, 0.1),
    63: _skin("open hi conga", 250, 0.3),
    64: _skin("low conga", 190, 0.34),
    65: _skin("high timbale", 380, 0.3),
    66: _skin("low timbale", 280, 0.36),
    67: Drum("high agogo", 1050, 1050, 0.4, 0.05, 4000, 0.04, ring=True),
    68: Drum("low agogo", 780, 780, 0.45, 0.05, 4000, 0.04, ring=True),
    69: Drum("cabasa", 3000, 3000, 0.02, 0.9, 5000, 0.09),
    70: Drum("maracas", 3400, 3400, 0.02, 0.9, 6000, 0.06),
    71: Drum("short whistle", 2300, 2300, 0.2, 0.05, 5000, 0.1),
    72: Drum("long whistle", 2200, 2200, 0.7, 0.05, 5000, 0.4),
    73: Drum("short guiro", 1500, 1500, 0.03, 0.8, 3000, 0.10),
    74: Drum("long guiro", 1400, 1400, 0.03, 0.8, 2800, 0.35),
    75: _wood("claves", 2500),
    76: _wood("hi wood block", 1250),
    77: _wood("low wood block", 850),
    78: Drum("mute cuica", 420, 520, 0.12, 0.05, 2000, 0.05),
    79: Drum("open cuica", 380, 620, 0.3, 0.05, 2000, 0.1),
    80: _metal("mute triangle", 5200, 0.15),
    81: _metal("open triangle", 5200, 1.8),
}
# A drum key that the map does not know sounds as the nearest one of it.
LOWEST_DRUM, HIGHEST_DRUM = min(DRUM_KEYS), max(DRUM_KEYS)
RING = (1.0, 1.48, 1.93, 2.41, 3.17)


def family_of(program: int) -> Family:
    """The family of a program 0-127."""
    return FAMILIES[min(max(program, 0), MOST_MIDI) // 8]


def drum_of(key: int) -> Drum:
    """The drum of a key of channel 10."""
    return DRUM_KEYS[min(max(key, LOWEST_DRUM), HIGHEST_DRUM)]


def gain_of(velocity: int) -> float:
    """How loud a velocity is: amplitude by its square, full at 127."""
    return LEVEL * (velocity / MOST_MIDI) ** 2


def note_sound(note: Heard, sample_rate_hz: int) -> Samples:
    """One note, shape (frames,), release included; its first sample is its start."""
    held_s = min(max(note.end_s - note.start_s, SHORTEST_S), LONGEST_S)
    sound = (
        drum_sound(drum_of(note.key), sample_rate_hz)
        if note.is_drum
        else tone_sound(family_of(note.program), note.key, held_s, sample_rate_hz)
    )
    made: Samples = (gain_of(note.velocity) * sound).astype(np.float32)
    return made


def tone_sound(family: Family, key: int, held_s: float, sample_rate_hz: int) -> FloatArray:
    """A note of a family at full velocity, shape (frames,); partials above 0.45 of the rate are left out."""
    count = round((held_s + RELEASE_S) * sample_rate_hz)
    t = np.arange(count) / sample_rate_hz
    hz = A4_HZ * 2 ** ((key - A4_KEY) / 12)
    bend = (
        family.wobble
        / 12
        * np.log(2)
        * hz
        * np.clip((t - WOBBLES_FROM_S) / WOBBLES_WITHIN_S, 0, 1)
        * np.sin(2 * np.pi * WOBBLE_HZ * t)
    )
    phase = 2 * np.pi * np.cumsum(hz + bend) / sample_rate_hz
    phase -= phase[0] if count else 0.0
    sound = np.zeros(count)
    for k, level in enumerate(family.partials, 1):
        if level == 0.0 or k * hz > HIGHEST * sample_rate_hz:
            continue
        fall = (
            1.0
            if family.decay_s is None
            else np.exp(-FALL_60_DB * t * (1 + family.bright * (k - 1)) / (family.decay_s * _longer(key)))
        )
        sound += level * fall * np.sin(k * phase)
    sound /= sum(family.partials)
    rise = np.clip(t / family.attack_s, 0, 1)
    end = np.clip((held_s + RELEASE_S - t) / RELEASE_S, 0, 1)
    made: FloatArray = sound * np.sin(0.5 * np.pi * rise) ** 2 * np.sin(0.5 * np.pi * end) ** 2
    return made


def _longer(key: int) -> float:
    """Low strings ring longer than high ones."""
    return float(2 ** ((MIDDLE_C - key) / 24))


def drum_sound(drum: Drum, sample_rate_hz: int) -> FloatArray:
    """A stroke at full velocity, shape (frames,), until it has died away; the same each time."""
    length_s = max(drum.tone_s, drum.noise_s)
    t = np.arange(round(length_s * sample_rate_hz)) / sample_rate_hz
    rng = np.random.default_rng(round(1000 * drum.low_hz + drum.noise_hz))
    hz = drum.low_hz + (drum.high_hz - drum.low_hz) * np.exp(-t / FALLS_S)
    phase = 2 * np.pi * np.cumsum(hz) / sample_rate_hz
    ring = [
        factor
        for factor in (RING if drum.ring else (1.0,))
        if factor * drum.low_hz < HIGHEST * sample_rate_hz
    ]
    tone = sum((np.cos(factor * phase) for factor in ring), np.zeros(len(t))) / max(1, len(ring))
    noise = rng.standard_normal(len(t))
    # A plain high-pass: noise less its mean over a period of the corner.
    span = max(1, round(sample_rate_hz / drum.noise_hz))
    smooth = np.convolve(noise, np.ones(span) / span, "same")
    sound = (1 - 0.5 * drum.noise) * tone * np.exp(-FALL_60_DB * t / drum.tone_s) + drum.noise * (
        noise - smooth
    ) * 0.5 * np.exp(-FALL_60_DB * t / drum.noise_s)
    fade = min(len(t), max(1, round(FADE_S * sample_rate_hz)))
    sound[-fade:] *= np.linspace(1, 0, fade)
    return np.asarray(sound / max(1.0, float(np.abs(sound).max())))


@dataclass(frozen=True, slots=True)
class _Struck:
    """A note, by what its sound depends on."""

    key: tuple[object, ...]
    note: Heard = field(compare=False)


class PartSource:
    """A `Source` of a part's notes as they sound; frame 0 is session time 0."""

    def __init__(self, notes: Sequence[Heard], sample_rate_hz: int, end_s: float | None = None) -> None:
        """end_s: how long it is; without it until the last note has died away."""
        self.sample_rate_hz, self.channels = sample_rate_hz, 1
        self._notes = sorted(notes, key=lambda note: note.start_s)
        self._starts = np.array(
            [round(note.start_s * sample_rate_hz) for note in self._notes], dtype=np.int64
        )
        # It is read by several threads at a time: what it keeps must bear that.
        self._made = lru_cache(maxsize=KEPT_SOUNDS)(lambda one: note_sound(one.note, sample_rate_hz))
        lengths = np.array([self._frames_of(note) for note in self._notes], dtype=np.int64)
        self._ends = self._starts + lengths
        self._longest = int(lengths.max(initial=0))
        last = int(self._ends.max(initial=0))
        self.frames = max(0, last if end_s is None else round(end_s * sample_rate_hz))

    def read(self, start: int, stop: int) -> Samples:
        """As `Source.read`: all notes that sound in it."""
        block = np.zeros((1, max(0, stop - start)), np.float32)
        lo, hi = max(start, 0), min(stop, self.frames)
        first = int(np.searchsorted(self._starts, lo - self._longest))
        for k in range(first, int(np.searchsorted(self._starts, hi))):
            begin, end = int(self._starts[k]), int(self._ends[k])
            a, b = max(begin, lo), min(end, hi)
            if b > a:
                block[0, a - start : b - start] += self._sound(self._notes[k])[a - begin : b - begin]
        return block

    def _frames_of(self, note: Heard) -> int:
        if note.is_drum:
            drum = drum_of(note.key)
            return round(max(drum.tone_s, drum.noise_s) * self.sample_rate_hz)
        return round(
            (min(max(note.end_s - note.start_s, SHORTEST_S), LONGEST_S) + RELEASE_S) * self.sample_rate_hz
        )

    def _sound(self, note: Heard) -> Samples:
        held = 0.0 if note.is_drum else round(note.end_s - note.start_s, 9)
        key = (note.is_drum, note.key, note.velocity, note.program // 8, held)
        return self._made(_Struck(key, note))
