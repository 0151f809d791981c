"""Vectors that prove the browser's map equal to Python's. `python -m tests.js_vectors` writes them anew."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np

from combpace.core.clocks import SessionTimes
from combpace.core.sounds.click import click_sound
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from combpace.core.tempo.meters import Meter
from combpace.drawing.picture import map_table
from combpace.session import words

VECTORS = Path(__file__).with_name("js") / "map_vectors.json"
CLICKS = VECTORS.with_name("click_vectors.json")
NUMBERS = VECTORS.with_name("number_vectors.json")


def maps() -> list[TempoMap[SessionTimes]]:
    rng = np.random.default_rng(5)
    times = 1.234 + np.concatenate([[0], np.cumsum(60 / rng.uniform(85, 130, 60))])
    breathing: TempoMap[SessionTimes] = TempoMap(
        tuple(Knot(float(t), float(k - 5)) for k, t in enumerate(times)),
        (Meter(1, 4, 4), Meter(4, 7, 8), Meter(7, 6, 8)),
    )
    ramped: TempoMap[SessionTimes] = TempoMap(
        (
            Knot(-1.5, -4.0, ramp=0.8),
            Knot(1.0, 0.0, ramp=2.0),
            Knot(5.0, 8.0),
            Knot(9.0, 14.0, ramp=0.5),
            Knot(16.0, 25.0),
        ),
        (Meter(1, 4, 4),),
    )
    return [steady_map(97.37, 0.0251), breathing, ramped]


def near(line: TempoMap[SessionTimes]) -> list[float]:
    """Places about bar lines, as near as names of places round."""
    return [
        round(line.bar_line(index) + part * line.meter_of(index).beat_quarters, 6)
        for index in range(-2, 6)
        for part in (-0.0051, -0.005, -0.00499, -0.002, 0.002, 0.005, 0.994, 0.995, 0.996)
    ]


def vectors() -> list[dict[str, object]]:
    made: list[dict[str, object]] = []
    for line in maps():
        places = [float(value) for value in np.round(np.linspace(-9, 58, 68), 3)]
        made.append(
            {
                "table": map_table(line),
                "places": places,
                "seconds": [line.second(place) for place in places],
                "bars": [line.bar_of(place) for place in places],
                "words": [words.place(line, place) for place in [*places, *near(line)]],
                "named": [*places, *near(line)],
                "lines": [line.bar_line(index) for index in range(-3, 12)],
            }
        )
    return made


def clicks() -> dict[str, list[float]]:
    """The first half of both click sounds at 48 kHz."""
    return {
        str(downbeat).lower(): [round(float(v), 9) for v in click_sound(48000, downbeat=downbeat)[:720]]
        for downbeat in (False, True)
    }


def numbers() -> dict[str, list[list[object]]]:
    """Times and milliseconds as they are written, halves among them: [value, words]."""
    times = [0.0, 9.0665, 9.0675, 0.0005, -0.0004, -0.0014, -0.0016, 59.9996, 61.2345, 3599.9995]
    ms = [0.0, 0.04, 0.05, 0.25, 0.35, 2.45, -0.05, -0.15, -8.25, 299.95, 699.949, -1000.05]
    return {
        "clock": [[value, words.clock(value)] for value in times],
        "ms": [[value, words.signed_ms(value)] for value in ms],
    }


if __name__ == "__main__":
    NUMBERS.write_text(json.dumps(numbers()))
    VECTORS.write_text(json.dumps(vectors()))
    CLICKS.write_text(json.dumps(clicks()))
