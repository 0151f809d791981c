"""One way from sound to fitted sound.

Marks, beats, the session's map, sentences and pegs -> time map (`lay`) -> method and levels (`finish`) ->
sound (`stretched`) -> proof (`proved`). Page, rendering, hand-off and the commands `fit`, `follow` and
`batch` go it; what they differ in is where the values come from.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from combpace.core.audio import SideBySide, Source
from combpace.core.clocks import SessionTimes, TakeTimes, take_times
from combpace.core.fit.accents import Levels, accent_levels
from combpace.core.fit.follow import Follow
from combpace.core.fit.holding import BETWEEN_NOTES, in_all, notes_held
from combpace.core.fit.pauses import find_pauses
from combpace.core.fit.pegs import Fit, fit
from combpace.core.fit.proof import Measured, proof
from combpace.core.fit.ranges import Rules
from combpace.core.fit.rule import HAND_REACH_S, HandPeg
from combpace.core.fit.time_map import TimeMap
from combpace.core.fit.together import nearest_marks
from combpace.core.onsets.detect import Onsets
from combpace.core.stretch import StretchedSource
from combpace.core.stretch.choose import Choice, choose_method, far_stretched
from combpace.core.tempo.following import as_long_as, cut_at
from combpace.core.tempo.map import TempoMap

# What ends so little after another ends with it, seconds.
END_S = 1e-6
# Gives the source that remembers: the one that is kept, or a new one about what is opened here.
Kept = Callable[[Callable[[], Source]], Source]


@dataclass(frozen=True, slots=True)
class Asked:
    """What a fit is made from.

    marks       of a bundle those of all its mics as one; take time
    beats       when its beats were struck
    follow      where it lies if no rule acts
    rules       sentences; () where it only follows
    hand        pegs by hand; rides: moments of marks that are to ride whatever the rule says
    ends_s      the session second at which it is cut, or None
    under       what grooves are laid on (`ranges.governed`)
    """

    marks: Onsets
    beats: TempoMap[TakeTimes]
    follow: Follow
    session_map: TempoMap[SessionTimes]
    duration_s: float
    rules: Rules
    hand: tuple[HandPeg, ...] = ()
    rides: tuple[float, ...] = ()
    ends_s: float | None = None
    under: TempoMap[SessionTimes] | None = None


@dataclass(frozen=True, slots=True)
class Fitted:
    """A fit that can be heard: its time map, the method that stretches along it and why, its levels."""

    fit: Fit
    method: str
    reason: str
    levels: Levels


def lay(asked: Asked) -> Fit:
    """Pegs and the time map of one take."""
    made = fit(
        without(asked.marks, asked.rides),
        asked.beats,
        asked.follow,
        asked.session_map,
        asked.duration_s,
        asked.rules,
        asked.hand,
        asked.under,
    )
    if asked.ends_s is None:
        return made
    kept = tuple(peg for peg in made.pegs if peg.target_s < asked.ends_s - END_S)
    return replace(made, time_map=cut_at(made.time_map, asked.ends_s), pegs=kept)


def without(marks: Onsets, rides: Sequence[float]) -> Onsets:
    """Marks without those that are to ride."""
    if not len(rides):
        return marks
    times = np.asarray(marks.times)
    keep = np.all(np.abs(times[:, None] - np.array(rides)[None, :]) > HAND_REACH_S, axis=1)
    return Onsets(take_times(times[keep]), marks.strength[keep], marks.confidence[keep])


def finish(
    made: Fit,
    method: str,
    choose: Callable[[TimeMap], Choice],
    rests: Sequence[tuple[float, float]],
    rules: Rules,
    session_map: TempoMap[SessionTimes],
) -> Fitted:
    """Say how a fit is to be stretched.

    method  the one that was asked for, or "auto": `choose` is asked only then
    rests   pauses between notes that all its mics have, take seconds
    """
    reason = ""
    if method == "auto":
        found = choose(made.time_map)
        method, reason = found.method, found.reason
    held = notes_held(made, rests)
    # What is cut is moved, never stretched.
    far = "" if method == "cut" else far_stretched(held.time_map, held.pauses)
    reason = " ".join(part for part in (reason, far) if part)
    return Fitted(held, method, reason, accent_levels(held.pegs, rules, session_map))


def method_of(mics: Sequence[Source], time_map: TimeMap, kind: str = "unknown") -> Choice:
    """The method for all mics of a performance.

    A close mic falls silent where the room still rings: what must not be cut in one of them is cut in none.
    """
    choices = [choose_method(as_long_as(one, time_map), time_map, kind) for one in mics]
    return next((choice for choice in choices if choice.method != "cut"), choices[0])


def rests_of(mics: Sequence[Source]) -> list[tuple[float, float]]:
    """Pauses between notes that all mics of one performance have, seconds."""
    return in_all([rests_in(one) for one in mics])


def rests_in(source: Source) -> list[tuple[float, float]]:
    """Pauses between the notes of one sound, seconds."""
    rate = source.sample_rate_hz
    return [(start / rate, stop / rate) for start, stop in find_pauses(source, BETWEEN_NOTES)]


def stretched(
    mics: Sequence[Source], own: int, time_map: TimeMap, method: str, kept: Kept | None = None
) -> StretchedSource:
    """One mic of a performance along a time map; all of them are stretched as one, so that their phase stays.

    kept  remembers what is measured and made, for the next map of the same sounds
    """
    if len(mics) < 2:
        whole = as_long_as(mics[0], time_map)
        return StretchedSource(kept(lambda: whole) if kept else whole, time_map, method)
    together = SideBySide(list(mics))
    channels = together.channels_of(own)
    return StretchedSource(kept(lambda: together) if kept else together, time_map, method, channels=channels)


def owners_of(times_s: Sequence[float], marks: Onsets, mics: Sequence[int], timing: int = 0) -> list[int]:
    """In which mic each of some moments was struck: that of the mark there, or the timing mic where none
    is.
    """
    nearest = nearest_marks(times_s, marks, HAND_REACH_S)
    return [timing if k is None else int(mics[k]) for k in nearest]


def proved(
    pegs: Sequence[tuple[float, float]],
    owners: Sequence[int],
    renders: Sequence[Callable[[], tuple[Source, float]]],
    played: Sequence[Callable[[], Source]],
    time_map: TimeMap,
) -> list[Measured]:
    """Each peg found again in the render of the mic whose mark it is.

    pegs     (take second, where it is to lie, session second) each
    renders  of each mic what opens its render, and the session second of its first frame; played: its sound
    """
    found: list[Measured | None] = [None] * len(pegs)
    for mic in sorted(set(owners)):
        mine = [k for k, owner in enumerate(owners) if owner == mic]
        rendered, first_s = renders[mic]()
        measured = proof(
            rendered,
            [pegs[k][1] for k in mine],
            first_s,
            as_long_as(played[mic](), time_map),
            [pegs[k][0] for k in mine],
        )
        for k, one in zip(mine, measured, strict=True):
            found[k] = one
    return [one for one in found if one is not None]
