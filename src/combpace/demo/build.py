"""Writes the demo's sounds with their truth beside them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import soundfile as sf

from combpace.core.clocks import SessionTimes
from combpace.core.parts.part import Laying, Note, Part, laid
from combpace.core.tempo.map import TempoMap, steady_map
from combpace.demo.instruments import RATE
from combpace.demo.performances import Performance, boiler_house, pipe_loop, programmed
from combpace.media.midi import write_parts

MP3_BLOCK = 44100
# The session whose loop is cut into pieces and laid at another tempo.
CUT_NAME = "Pipe yard, cut and laid"
# Quarters of a bar and keys; General MIDI program 10, counted from 1.
BELLS, BELLS_BPM, GLOCKENSPIEL = ((0.0, 72), (0.5, 76), (1.5, 79), (2.0, 77), (3.0, 74), (3.5, 76)), 94.0, 9


def write_performance(performance: Performance, folder: Path, suffix: str = ".wav") -> list[Path]:
    """One sound file a take, 24-bit WAV or MP3, and `truth.json` with beats, downbeats and hits in
    seconds.
    """
    folder.mkdir(parents=True, exist_ok=True)
    paths = []
    for name, sound in performance.sounds.items():
        path = folder / f"{name}{suffix}"
        samples = np.asarray(sound, dtype=np.float32)
        if suffix == ".mp3":
            with sf.SoundFile(
                path, "w", samplerate=RATE, channels=1, format="MP3", subtype="MPEG_LAYER_III"
            ) as out:
                # In blocks: a whole-file write of a lossy format can end the process.
                for start in range(0, len(samples), MP3_BLOCK):
                    out.write(samples[start : start + MP3_BLOCK])
        else:
            sf.write(path, samples, RATE, subtype="PCM_24")
        paths.append(path)
    truth = {
        "beats": [round(float(time), 6) for time in performance.beats],
        "downbeats": [round(float(time), 6) for time in performance.downbeats],
        "hits": {
            name: [[round(hit.time_s, 6), hit.instrument, hit.velocity] for hit in hits]
            for name, hits in performance.hits.items()
        },
        **performance.facts,
    }
    (folder / "truth.json").write_text(json.dumps(truth, indent=1), encoding="utf-8")
    return paths


def write_bells(folder: Path) -> Path:
    """A part as a MIDI file: two bars of small bells, each bar answered an octave higher."""
    folder.mkdir(parents=True, exist_ok=True)
    line: TempoMap[SessionTimes] = steady_map(BELLS_BPM, 0.0)
    answer = [(4.0 + place, key + 12) for place, key in BELLS]
    notes = tuple(
        Note(place, 0.75, key, 72 + 20 * (place % 2 == 0), 0, GLOCKENSPIEL)
        for place, key in (*BELLS, *answer)
    )
    path = folder / "Steam bells.mid"
    write_parts(
        line, line.second(8.0), [("Steam bells", laid(Part("Steam bells", notes), line, Laying()))], path
    )
    return path


def write_demo(folder: Path) -> dict[str, list[Path]]:
    """All demo sounds, by session name."""
    house = write_performance(boiler_house(), folder / "boiler-house")
    loop = write_performance(pipe_loop(), folder / "pipe-loop")
    beat = write_performance(programmed(), folder / "mangle-press", ".mp3")
    return {
        "Boiler house, third evening": [*house, *loop, write_bells(folder / "steam-bells")],
        "Mangle press, copied twice": beat,
        CUT_NAME: loop,
    }
