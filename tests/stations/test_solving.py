"""The map is a function of what was heard and what was stated: whatever was done before, in whatever order,
undone or not.
"""

from __future__ import annotations

import random
from collections.abc import Mapping
from typing import Any

import numpy as np

from combpace.core.clocks import Quarters
from combpace.core.errors import CombPaceError
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.recount import nearest_bar
from combpace.session.document import parts as forms
from combpace.session.document.stated import name_of
from combpace.session.foresight import as_if
from combpace.session.state import SessionState
from rig.places import PlaceTest
from rig.tiers import soak

HOLDS_S = 0.0005
REACHES = (None, "everywhere", "from here on", "only this bar")


def lines_of(line: TempoMap[Any], until_s: float) -> np.ndarray:
    last = line.bar_of(line.place(until_s))
    places = np.array([line.bar_line(index) for index in range(-2, last + 1)])
    return np.asarray(line.to_seconds(Quarters(places)))


class SolvingTest(PlaceTest):
    def some_decision(self, rng: random.Random) -> tuple[str, dict[str, Any]]:
        """One of what a hand may say, somewhere in the session."""
        line, beats = self.seen().need_map(), [float(time) for time in self.beats]
        bar, beat = rng.randrange(2, 7), rng.choice(beats)
        place = line.bar_line(bar) + rng.choice((0.0, 1.0, 0.5))
        beside = line.second(place) + rng.uniform(-0.03, 0.03)
        said = [name_of(one) for one in self.seen().map_choice().statements] or ["none"]
        kept: list[tuple[str, dict[str, Any]]] = [
            ("downbeat", {"time_s": beat, "reach": rng.choice(REACHES)}),
            ("downbeat", {"time_s": beat}),
            ("bar-1", {"time_s": beat}),
            ("bar", {"time_s": beat, "bar": bar}),
            ("not-downbeat", {"time_s": line.second(line.bar_line(bar))}),
            ("take-back", {"id": rng.choice(said)}),
            ("meter", {"meter": rng.choice(("3/4", "4/4", "7/8"))}),
            ("meter", {"meter": rng.choice(("3/4", "4/4")), "bar": bar}),
            ("odd-bar", {"bar": bar, "beats": rng.randrange(2, 7)}),
            ("meter-range", {"meter": "3/4", "from_bar": bar, "to_bar": bar + 1}),
            ("pull", {"time_s": beside, "quarters": place, "free": True, "alone": rng.random() < 0.3}),
            ("lock", {"quarters": place, "locked": rng.random() < 0.7}),
            ("release", {"quarters": place}),
            ("one-beat", {"direction": rng.choice(("later", "earlier")), "bar": rng.choice((None, bar))}),
            ("scale", {"factor": rng.choice((2, -2)), "bar": rng.choice((None, bar))}),
            ("anchors", {"what": rng.choice(("lock", "release")), "from_bar": bar, "to_bar": bar + 2}),
            ("steady", {}),
            ("breathing", {}),
            ("pickup", {"time_s": beat}),
        ]
        return rng.choice(kept)

    def assert_all_holds(self, state: SessionState) -> None:
        line, chosen = state.need_map(), state.map_choice()
        for time, number in chosen.stated.bars:
            at = line.second(line.bar_line(number - 1 if number > 0 else number))
            self.assertLess(abs(at - time), HOLDS_S, f"bar {number}")
        for time in chosen.stated.downbeats:
            place = line.place(time)
            off = abs(line.second(line.bar_line(nearest_bar(line, place))) - time)
            beat_s = 60.0 * line.meter_of(line.bar_of(place)).beat_quarters / line.bpm_at(place)
            self.assertLess(off, 0.25 * beat_s if chosen.kind == "steady" else HOLDS_S, f"downbeat {time}")
        for tie in chosen.stated.ties:
            if chosen.kind != "steady":
                self.assertLess(np.abs(line.times_s - tie.time_s).min(), 1e-9, "anchor")
                continue
            if any(one.what == "level" for one in chosen.statements):
                # A place between beats is any share of those that are counted then.
                continue
            # What is pulled here are lines, beats and what lies half-way between two; read half as fast that
            # is a share of the way.
            place = line.place(tie.time_s)
            index = line.bar_of(place)
            eighths = 8 * (place - line.bar_line(index)) / line.meter_of(index).beat_quarters
            there = line.bar_line(index) + round(eighths) / 8 * line.meter_of(index).beat_quarters
            off_s = abs(line.second(there) - tie.time_s)
            self.assertLess(off_s, HOLDS_S, "put on a moment of one tempo")

    def shuffled(self, state: SessionState, rng: random.Random) -> TempoMap[Any]:
        """The map of the same statements in another order, solved for anew."""
        part = forms.map_part(state.map_choice())
        rng.shuffle(part["statements"])
        state.folder._solved._values.clear()
        return as_if(state, {"map": part}).need_map()

    def said_at_random(self, seed: int, count: int) -> None:
        rng = random.Random(seed)
        before: list[tuple[Mapping[str, Any], TempoMap[Any]]] = []
        for _ in range(count):
            name, args = self.some_decision(rng)
            state = self.seen()
            was = (state.opened.revision.parts, state.need_map())
            try:
                self.act(name, **args)
            except CombPaceError:
                continue
            before.append(was)
            with self.subTest(seed=seed, after=f"{name} {args}"):
                self.assert_all_holds(self.seen())
        state = self.seen()
        self.assertEqual(self.shuffled(state, rng), state.need_map(), f"seed {seed}")
        while before:
            self.act("undo")
            parts, line = before.pop()
            state = self.seen()
            self.assertEqual(state.opened.revision.parts, parts, f"seed {seed}")
            self.assertEqual(state.need_map(), line, f"seed {seed}")
        self.assertFalse(self.seen().opened.revision.parts.get("map"))

    def test_what_is_said_at_random_holds_in_any_order_and_is_undone_bit_for_bit(self) -> None:
        for seed in range(4):
            self.said_at_random(seed, 30)

    @soak
    def test_the_same_of_two_hundred_seeds(self) -> None:
        for seed in range(100, 300):
            self.said_at_random(seed, 30)
