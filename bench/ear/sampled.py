"""Instruments of sound fonts for the songs of bench/ear/songs.py: real strings, reeds and drums.

Debian's `fluidsynth` plays single notes of `fluid-soundfont-gm` and `timgm6mb-soundfont` once; they are kept
under the folder for temporary files. One font is for learning, the other one for measuring only; no sound of
either is shipped.
"""

from __future__ import annotations

import subprocess
import tempfile
from functools import lru_cache
from pathlib import Path

import mido
import numpy as np
from scipy.io import wavfile

from bench.ear.grooves import Rng
from bench.ear.material import RATE, Sound
from bench.ear.songs import Instruments, Make, Song, song

TO_LEARN, TO_MEASURE = (
    Path("/usr/share/sounds/sf2/FluidR3_GM.sf2"),
    Path("/usr/share/sounds/sf2/TimGM6mb.sf2"),
)
KEPT = Path(tempfile.gettempdir()) / "combpace-sampled"
NOTE_S, KEPT_S, TICKS = 3.2, 2.7, 960
LOUD = {0.5: 64, 1.0: 112}
# Every third semitone is played, those between are read faster or slower.
PITCHES = tuple(range(24, 103, 3))
# General MIDI level 1 (MIDI Manufacturers Association 1991): programs from 0 and notes of the drum channel.
DRUM_KITS = (0, 8, 16, 24, 25, 32, 40, 48)
DRUMS = {
    "kick": (35, 36), "snare": (38, 40), "ghost": (38, 40), "hat": (42,), "pedal": (44,), "open": (46,),
    "ride": (51, 53, 59), "side": (37,),
    "clap": (39,), "tom1": (41, 45), "tom2": (48, 50), "shaker": (54, 69, 70), "crash": (49, 57),
    "stick": (31, 75, 76),
}  # fmt: skip
PROGRAMS = {
    "bass": tuple(range(32, 40)), "picked": (6, 15, 24, 25, 26, 27, 28, 45, 46, 104, 105, 106, 107),
    "strum": (24, 25, 26, 27), "chug": (28, 29, 30),
    "riff": (27, 28, 29, 30), "piano": tuple(range(8)), "stab": (4, 5, 16, 17, 18, 61, 62, 63),
}  # fmt: skip
HELD = (16, 19, 21, 22, 40, 41, 42, 48, 49, 50, 52, 56, 57, 60, 64, 65, 66, 68, 71, 73, 89, 90)


def _played(font: Path, program: int, notes: tuple[int, ...], drums: bool) -> np.ndarray:
    """Single notes, shape (loudness, notes, frames), half precision."""
    name = KEPT / f"{font.stem}-{'drums' if drums else 'notes'}-{program}.npy"
    if name.exists():
        return np.asarray(np.load(name))
    KEPT.mkdir(parents=True, exist_ok=True)
    channel, events = 9 if drums else 0, []
    for k, (velocity, note) in enumerate((v, n) for v in LOUD.values() for n in notes):
        events += [(k * NOTE_S, "note_on", note, velocity), (k * NOTE_S + KEPT_S, "note_off", note, 0)]
    score = mido.MidiFile(ticks_per_beat=TICKS)
    track = mido.MidiTrack([mido.Message("program_change", channel=channel, program=program, time=0)])
    score.tracks.append(track)
    # At 120 BPM, which a file without a tempo has, a beat is half a second.
    ticks = [round(2 * TICKS * seconds) for seconds, *_ in events]
    for (_, what, note, velocity), step in zip(events, np.diff([0, *ticks]), strict=True):
        track.append(mido.Message(what, channel=channel, note=note, velocity=velocity, time=int(step)))
    with tempfile.TemporaryDirectory() as folder:
        score.save(f"{folder}/notes.mid")
        command = [
            "fluidsynth",
            "-ni",
            "-q",
            "-R",
            "0",
            "-C",
            "0",
            "-g",
            "0.5",
            "-r",
            str(RATE),
            "-F",
            f"{folder}/notes.wav",
            str(font),
            f"{folder}/notes.mid",
        ]
        subprocess.run(command, check=True, capture_output=True)
        sound = wavfile.read(f"{folder}/notes.wav")[1].astype(np.float32).mean(axis=1)
    count, frames = len(LOUD) * len(notes), round(KEPT_S * RATE)
    sound = np.pad(sound, (0, round(count * NOTE_S * RATE) + frames))
    cut = np.stack([sound[round(k * NOTE_S * RATE) :][:frames] for k in range(count)]).reshape(
        len(LOUD), len(notes), frames
    )
    # Each loudness as loud as it says: the loudest note of a program, each drum on its own.
    peaks = np.abs(cut).max(axis=2, keepdims=True)
    peaks = peaks if drums else peaks.max(axis=1, keepdims=True)
    cut = cut / np.maximum(peaks, 1e-6) * np.array(list(LOUD))[:, None, None]
    half = cut.astype(np.float16)
    # Two workers may make the same one: what is there is whole.
    with tempfile.NamedTemporaryFile(dir=KEPT, suffix=".npy", delete=False) as file:
        np.save(file, half)
    Path(file.name).replace(name)
    return half


@lru_cache(maxsize=12)
def _program(font: Path, program: int) -> np.ndarray:
    return _played(font, program, PITCHES, drums=False)


@lru_cache(maxsize=12)
def _kit(font: Path, program: int) -> np.ndarray:
    return _played(
        font, program, tuple(sorted({note for notes in DRUMS.values() for note in notes})), drums=True
    )


def _pitched(font: Path, program: int) -> Make:
    def play(v: float, pitch: float, held: float) -> Sound:
        nearest = int(np.clip(round((pitch - PITCHES[0]) / 3), 0, len(PITCHES) - 1))
        sound = _program(font, program)[list(LOUD).index(v), nearest].astype(np.float32)
        faster = 2 ** ((pitch - PITCHES[nearest]) / 12)
        places = np.arange(0, len(sound) - 1, faster) if faster != 1 else np.arange(len(sound))
        return np.interp(places[: round((held + 0.06) * RATE)], np.arange(len(sound)), sound)

    return play


def _one_drum(font: Path, program: int, index: int) -> Make:
    def play(v: float, _pitch: float, _held: float) -> Sound:
        return _kit(font, program)[list(LOUD).index(v), index].astype(np.float32)

    return play


def on_font(font: Path) -> Instruments:
    """What a song is played on with a sound font; each instrument is drawn from those that such a part is
    played on.
    """
    if not font.exists():
        raise SystemExit(
            f"There is no {font}: install fluidsynth, fluid-soundfont-gm and timgm6mb-soundfont."
        )
    order = sorted({note for notes in DRUMS.values() for note in notes})

    def drums(rng: Rng) -> dict[str, Make]:
        program = int(rng.choice(DRUM_KITS))
        return {
            name: _one_drum(font, program, order.index(int(rng.choice(notes))))
            for name, notes in DRUMS.items()
        }

    def strings(rng: Rng, part: str) -> Make:
        return _pitched(font, int(rng.choice(PROGRAMS[part])))

    def held(rng: Rng) -> Make:
        return _pitched(font, int(rng.choice(HELD)))

    return Instruments(drums, strings, held)


def to_learn(seed: int) -> Song:
    return song(seed, instruments=on_font(TO_LEARN))


def to_measure(seed: int) -> Song:
    return song(seed, instruments=on_font(TO_MEASURE))
