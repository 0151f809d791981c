"""Documents of older forms, brought up one form after the other. A test opens one of each."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from combpace.core.fit.rule import value_of
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter
from combpace.core.tempo.recount import confirmed_in

Parts = Mapping[str, Any]


def upgraded(parts: Parts, format: int) -> Parts:
    """The same document in the newest form."""
    for number in sorted(UPGRADES):
        if format <= number:
            parts = UPGRADES[number](parts)
    return parts


def _from_1(parts: Parts) -> Parts:
    """Takes know on which bar they begin; what a rule ignores is a limit of its own, in ms or as a note
    value.
    """
    made = dict(parts)
    made["takes"] = [{**take, "first_bar": 1} for take in parts.get("takes", [])]
    for name, value in parts.items():
        if name.startswith("rule:"):
            rest = {key: entry for key, entry in value.items() if key != "ignore_beyond_ms"}
            made[name] = {**rest, "ignore": {"ms": value.get("ignore_beyond_ms"), "quarters": None}}
    return made


def _from_2(parts: Parts) -> Parts:
    """What was stated of the map is kept beside it; a steady map may have several meters.

    Form 2 kept no statements: in a steady session tempo and bar 1 count as stated, in a breathing one the
    anchors on bar lines do.
    """
    old = parts.get("map")
    if not old:
        return parts
    kind = old.get("kind", "auto")
    statements: list[dict[str, Any]] = []
    if kind == "steady":
        statements = [
            {"what": "tempo", "bpm": old["bpm"]},
            {"what": "bar", "time_s": old["bar_1_s"], "bar": 1},
        ]
    lead = next((take for take in parts.get("takes", []) if take["role"] == "lead"), None)
    pace = parts.get(f"pace:{lead['id']}") if lead else None
    if kind == "own" and lead and pace:
        statements = _anchored(pace, lead["offset_s"])
    kept = {
        "kind": kind,
        "bpm": old.get("bpm"),
        "bar_1_s": old.get("bar_1_s"),
        "meters": [[1, *old.get("meter", (4, 4))]],
    }
    return {**parts, "map": {**kept, "statements": statements}}


def _from_3(parts: Parts) -> Parts:
    """A map may come from a file, takes say what they keep, and spans may be ramps: all of it is left out
    where it is not so.
    """
    return parts


def _from_4(parts: Parts) -> Parts:
    """There may be parts, and a rule may pull onto a groove: all of it is left out where it is not so."""
    return parts


def _from_5(parts: Parts) -> Parts:
    """Takes may be arrivals or go from one tempo to another, parts may have edits, pieces their own sounds
    and levels or lie in a render, and a rule may take accents: all of it is left out where it is not so."""
    return parts


def _from_6(parts: Parts) -> Parts:
    """Pieces may say by which sentence they were cut, takes of which take they were made, a map that it was
    edited: it is left out
    where that is not known.
    """
    return parts


def _from_7(parts: Parts) -> Parts:
    """What is stated is solved for. Up to then every pace and steady map was kept as it came out: it counts
    as given, and holds what was stated of it.
    """
    old = parts.get("map")
    if not old or not old.get("statements"):
        return parts
    return {**parts, "map": {**old, "statements": [{**one, "knotted": True} for one in old["statements"]]}}


def _from_8(parts: Parts) -> Parts:
    """A rule reads what an onset lies beside the pace. Up to then it read what it lay beside the beats, so
    that what was struck on one never moved: such sentences are said to sound different until they are heard.
    """
    return {
        name: {**value, "before": True} if name.startswith("rule:") and value is not None else value
        for name, value in parts.items()
    }


def _from_9(parts: Parts) -> Parts:
    """A take may have several sentences, each for its bars, and each is kept as it is said: in %, with note
    values. Up to then there was one.
    """
    return {
        name: _in_sentences(value) if name.startswith("rule:") and value is not None else value
        for name, value in parts.items()
    }


def _in_sentences(old: Mapping[str, Any]) -> dict[str, Any]:
    value, shape, swing = old["grid"]
    ignore = old["ignore"]
    rule = {
        "grid": f"1/{value}" + {"straight": "", "triplet": "t", "dotted": "d"}[shape],
        # What was typed in % was kept as a share.
        "swing": round(100.0 * swing, 9),
        "strength": round(100.0 * old["strength"], 9),
        "leave_alone_ms": old["leave_alone_ms"],
        "ignore_beyond_ms": ignore["ms"],
        "ignore_beyond": None if ignore["quarters"] is None else value_of(ignore["quarters"]),
        "bars": old.get("bars"),
        "keep_lag": old.get("keep_lag", False),
        "coarse": old.get("coarse", False),
        "accent": round(100.0 * old.get("accent", 0.0), 9),
        "groove": old.get("groove"),
        "groove_start": old.get("groove_start", 0),
    }
    kept = {name: old[name] for name in ("method", "first", "before") if name in old}
    return {"rules": [{name: one for name, one in rule.items() if one is not None}], **kept}


def _anchored(pace: Mapping[str, Any], offset_s: float) -> list[dict[str, Any]]:
    knots = tuple(Knot(time, place, bool(fixed)) for time, place, fixed, *_ in pace["knots"])
    line: TempoMap[Any] = TempoMap(knots, tuple(Meter(*meter) for meter in pace["meters"]))
    found: list[dict[str, Any]] = []
    for place in confirmed_in(line):
        time = line.second(place) + offset_s
        found.append(
            {"what": "bar", "time_s": time, "bar": 1}
            if abs(place) < 1e-6
            else {"what": "downbeat", "time_s": time}
        )
    return found


# From the form named on to the next.
UPGRADES: dict[int, Callable[[Parts], Parts]] = {
    1: _from_1,
    2: _from_2,
    3: _from_3,
    4: _from_4,
    5: _from_5,
    6: _from_6,
    7: _from_7,
    8: _from_8,
    9: _from_9,
}
