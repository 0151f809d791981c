"""Drum patterns and fills, drawn from the commonplaces of each style and meter (common practice)."""

from __future__ import annotations

import numpy as np

Rng = np.random.Generator
# Meters: beats in a bar, steps in a beat, and what a beat is in quarters.
METERS = {"4/4": (4, 4), "3/4": (3, 4), "5/4": (5, 4), "6/8": (2, 3), "7/8": (7, 2)}
GROUPS = {
    "4/4": [(4,), (2, 2)],
    "3/4": [(3,)],
    "5/4": [(3, 2), (2, 3)],
    "6/8": [(2,)],
    "7/8": [(2, 2, 3), (3, 2, 2), (2, 3, 2)],
}
Hit = tuple[float, str, float]


def chance(rng: Rng, p: float) -> bool:
    return bool(rng.random() < p)


def _every(
    beats: int, step: float, voice: str, rng: Rng, accent: float = 0.7, level: float = 0.5
) -> list[Hit]:
    places = np.arange(0, beats - 1e-6, step)
    on_beat = chance(rng, 0.75)
    return [
        (float(p), voice, level * (1.0 if (abs(p - round(p)) < 0.01) == on_beat else accent)) for p in places
    ]


def _some(rng: Rng, places: list[float], p: float) -> list[float]:
    return [place for place in places if chance(rng, p)]


def groove_44(rng: Rng) -> tuple[list[Hit], str]:
    style = str(
        rng.choice(
            ["rock", "rock", "rock", "break", "break", "four", "four", "half", "half", "double", "motown",
            "train", "drop", "toms", "swing", "swing",
             "shuffle", "shuffle", "clave", "rolls", "plain", "ballad", "rush", "rush", "wall"],
        )
    )  # fmt: skip
    hats = str(rng.choice(["hat", "hat", "hat", "ride", "shaker"]))
    step = float(rng.choice([1.0, 0.5, 0.5, 0.5, 0.25]))
    hits: list[Hit] = []

    def kicks(*places: float) -> None:
        hits.extend((p, "kick", 0.9 if p == int(p) else 0.75) for p in places)

    def snares(*places: float, voice: str = "snare") -> None:
        hits.extend((p, voice, 0.85) for p in places)

    off = [0.5, 1.5, 2.5, 3.5]
    if style in ("rock", "plain", "ballad"):
        kicks(
            0,
            *_some(rng, [2], 0.8),
            *_some(rng, [1.5, 2.5, 3.5, 0.5] if style == "rock" else [2.5], 0.3),
            *_some(rng, [1.75, 2.75, 3.75], 0.1),
        )
        snares(1, 3, voice=str(rng.choice(["snare", "side"])) if style == "ballad" else "snare")
    elif style == "break":
        kicks(0, *_some(rng, [0.5, 0.75, 1.75, 2.5, 2.75, 3.25], 0.35), *_some(rng, [2], 0.35))
        snares(1, *_some(rng, [3], 0.85), *_some(rng, [3.5], 0.15))
        hits += [(p, "ghost", 0.25) for p in _some(rng, [0.75, 1.25, 1.75, 2.25, 2.75, 3.25, 3.75], 0.3)]
    elif style == "four":
        kicks(0, 1, 2, 3)
        if chance(rng, 0.75):
            snares(1, 3, voice=str(rng.choice(["snare", "clap"])))
        hits += [(p, "open", 0.5) for p in off] if chance(rng, 0.7) else []
    elif style == "half":
        kicks(0, *_some(rng, [0.5, 1.5, 1.75, 2.5, 3.5, 3.75], 0.25))
        snares(2)
    elif style == "double":
        kicks(*_some(rng, [0, 1, 2, 3], 0.9))
        snares(*off)
        step = float(rng.choice([0.5, 0.5, 1.0]))
    elif style == "rush":
        # Fast: kick and snare take turns on the beats, often with feet in eighths or sixteenths under them.
        foot = rng.choice([1.0, 0.5, 0.25])
        kicks(
            0,
            2,
            *(
                [p for p in np.arange(0, 4, foot) if p not in (0, 2)]
                if foot < 1
                else _some(rng, [1.5, 3.5], 0.3)
            ),
        )
        snares(1, 3)
        hats, step = str(rng.choice(["hat", "ride", "open"])), float(rng.choice([1.0, 1.0, 0.5]))
    elif style == "wall":
        hits += [(float(p), "snare", 0.8) for p in np.arange(0, 4, 0.5 if chance(rng, 0.5) else 1.0)]
        kicks(*np.arange(0, 4, 0.5).tolist())
        hats, step = str(rng.choice(["ride", "open", "crash"])), 1.0
    elif style == "motown":
        kicks(0, *_some(rng, [1.5, 2, 2.5, 3.5], 0.5))
        snares(0, 1, 2, 3)
    elif style == "train":
        hits += [
            (p, "snare", 0.8 if p in (1, 3) or (p % 1 == 0.5 and chance(rng, 0.2)) else 0.35)
            for p in np.arange(0, 4, 0.25)
        ]
        kicks(*([0, 1, 2, 3] if chance(rng, 0.5) else [0, 2]))
        step = 8.0
    elif style == "drop":
        kicks(2, *_some(rng, [0], 0.15))
        snares(2, voice="side")
        hits += [(p, "hat", 0.5) for p in off] if chance(rng, 0.4) else []
    elif style == "toms":
        hits += [
            (p, str(rng.choice(["tom1", "tom2"])), 0.8 if p in (1, 3) else 0.55)
            for p in np.arange(0, 4, 0.5)
            if chance(rng, 0.85)
        ]
        kicks(*_some(rng, [0, 2], 0.9), *_some(rng, [1, 3], 0.4))
        step = 8.0 if chance(rng, 0.5) else 1.0
    elif style == "swing":
        third = 2 / 3
        hats, step = "ride", 8.0
        hits += [(p, "ride", 0.55) for p in (0, 1, 1 + third, 2, 3, 3 + third)]
        hits += [(1, "pedal", 0.5), (3, "pedal", 0.5)]
        kicks(*_some(rng, [0, 1, 2, 3], 0.5))
        hits += [(p, "ghost", 0.35) for p in _some(rng, [third, 1 + third, 2 + third, 2, 0], 0.25)]
    elif style == "shuffle":
        step = 8.0
        hits += [(p + d, hats, 0.5 if d == 0 else 0.4) for p in range(4) for d in (0, 2 / 3)]
        kicks(0, *_some(rng, [2], 0.8), *_some(rng, [1 + 2 / 3, 3 + 2 / 3], 0.4))
        snares(1, 3)
    elif style == "clave":
        snares(*((0, 0.75, 1.5, 2.5, 3.0) if chance(rng, 0.5) else (0.5, 1, 2, 2.75, 3.5)), voice="side")
        kicks(*((0, 1.5, 2, 3.5) if chance(rng, 0.7) else (0, 2)))
    elif style == "rolls":
        kicks(0, *_some(rng, [0.75, 1.5, 2.25, 2.75, 3.5], 0.4))
        snares(2, voice=str(rng.choice(["clap", "snare"])))
        hits += [(3 + k / 6, "hat", 0.4) for k in range(6)] if chance(rng, 0.3) else []
        step = float(rng.choice([0.5, 0.25]))
    if step < 8:
        hits += _every(4, step, hats, rng, level=float(rng.uniform(0.3, 0.6)))
    return hits, style


def groove_odd(rng: Rng, meter: str) -> tuple[list[Hit], str]:
    beats, _ = METERS[meter]
    groups = GROUPS[meter][rng.integers(len(GROUPS[meter]))]
    starts = [0, *np.cumsum(groups)[:-1].tolist()]
    hats = str(rng.choice(["hat", "hat", "ride", "shaker"]))
    hits: list[Hit] = [(0, "kick", 0.95)]
    if meter == "3/4":
        how = rng.integers(5)
        back = ([1, 2], [2], [1], [1, 2], [])[how]
        hits += [(p, "pedal" if how == 3 else "snare", 0.8) for p in back]
        hits += [(p, "kick", 0.7) for p in _some(rng, [1.5, 2.5, 0.5], 0.2) + _some(rng, [1], 0.15)]
        step = float(rng.choice([1.0, 0.5, 0.5, 0.25]))
        if chance(rng, 0.2):
            hits += [(p, "ride", 0.5) for p in (0, 1, 1 + 2 / 3, 2)]
            step = 8.0
    elif meter == "6/8":
        hits += [(1, "snare", 0.9)] if chance(rng, 0.85) else [(1, "kick", 0.7)]
        hits += [(p, "kick", 0.7) for p in _some(rng, [2 / 3, 1 + 2 / 3, 1 / 3], 0.25)] + [
            (p, "ghost", 0.3) for p in _some(rng, [1 / 3, 1 + 1 / 3], 0.2)
        ]
        step = float(rng.choice([1 / 3, 1 / 3, 1 / 3, 1 / 3, 1 / 6]))
    elif meter == "5/4":
        second = starts[1]
        hits += [(second, "kick", 0.85)] if chance(rng, 0.7) else []
        back = [1, second + 1] if chance(rng, 0.6) else ([second] if chance(rng, 0.4) else [2, 4])
        hits += [(p, "snare", 0.85) for p in back]
        hits += [(p + 0.5, "kick", 0.7) for p in _some(rng, [0, 1, 2, 3, 4], 0.18)]
        step = float(rng.choice([1.0, 0.5, 0.5, 0.25]))
    else:
        which = rng.integers(4)
        back = (
            [starts[-1]],
            [starts[1]],
            [starts[1], starts[2]],
            [s + 1 for s in starts[:-1]] + [starts[-1] + 1],
        )[which]
        hits += [(p, "snare", 0.85) for p in back]
        hits += [(p, "kick", 0.8) for p in starts[1:] if p not in back and chance(rng, 0.6)]
        hits += [(p, "kick", 0.65) for p in _some(rng, [1.0, 3.0, 5.0, 6.0], 0.15)]
        step = float(rng.choice([1.0, 1.0, 1.0, 0.5]))
        if chance(rng, 0.15):
            hits += [
                (float(p), hats, 0.5) for s, g in zip(starts, groups, strict=True) for p in range(s, s + g, 2)
            ]
            step = 8.0
    if step < 8:
        places = np.arange(0, beats - 1e-6, step)
        strong = set(starts) if chance(rng, 0.5) else set(range(beats))
        hits += [(float(p), hats, 0.5 if any(abs(p - s) < 0.01 for s in strong) else 0.36) for p in places]
    return hits, f"groove {meter}"


def groove(rng: Rng, meter: str) -> tuple[list[Hit], str]:
    return groove_44(rng) if meter == "4/4" else groove_odd(rng, meter)


def fill(rng: Rng, beats: int, steps: int) -> list[Hit]:
    """The end of a bar: drums in quick steps, down the kit."""
    length = min(beats, int(rng.choice([1, 1, 2, 4])) if beats < 7 else int(rng.choice([2, 3])))
    step = 1 / steps if steps != 4 else float(rng.choice([0.25, 0.5, 0.25]))
    places = np.arange(beats - length, beats - 1e-6, step)
    order = ["snare", "snare", "tom1", "tom1", "tom2", "tom2"]
    return [
        (float(p), order[min(5, int(6 * k / max(1, len(places))))], float(rng.uniform(0.5, 0.95)))
        for k, p in enumerate(places)
        if chance(rng, 0.88)
    ]


def varied(rng: Rng, hits: list[Hit], beats: int) -> list[Hit]:
    """The same groove with the cymbals on another voice, or a kick more or less."""
    other = str(rng.choice(["ride", "hat", "open"]))
    out = [(p, other if v in ("hat", "ride", "open") and chance(rng, 0.7) else v, x) for p, v, x in hits]
    if chance(rng, 0.5):
        out.append((float(rng.integers(2 * beats)) / 2, "kick", 0.7))
    return out
