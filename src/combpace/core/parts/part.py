"""A part: notes in musical time, or in seconds where its file counts so; laid on a map, pulled by a rule,
repeated.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from combpace.core.clocks import FloatArray, IntArray, Quarters, SessionTimes
from combpace.core.errors import ParameterError
from combpace.core.fit.groove import GrooveGrid
from combpace.core.fit.ranges import span_of
from combpace.core.fit.rule import HandPeg, Rule
from combpace.core.tempo.map import TempoMap

DRUMS = 9
MOST_NOTES, MOST_TIMES = 200_000, 2000
# A hand peg means the note that starts this near, quarters.
SAME_NOTE_Q = 0.02
# A note is never shorter than this, quarters; seconds.
SHORTEST_Q, SHORTEST_S = 1 / 256, 0.002
LENGTHS = ("kept", "until the next")


@dataclass(frozen=True, slots=True)
class Note:
    """A note. start and length in quarters from bar 1, or in seconds; key 0-127, velocity 1-127, channel
    0-15, program 0-127.
    """

    start: float
    length: float
    key: int
    velocity: int
    channel: int = 0
    program: int = 0

    @property
    def is_drum(self) -> bool:
        """Channel 10, counted from 1, is drums (General MIDI level 1)."""
        return self.channel == DRUMS


@dataclass(frozen=True, slots=True)
class Part:
    """Notes of one track, in order of their starts; `in_seconds` where the file counts in frames, and so
    keeps its time.
    """

    name: str
    notes: tuple[Note, ...]
    in_seconds: bool = False

    @property
    def end(self) -> float:
        """Where its last note ends, quarters or seconds; 0 without notes."""
        return max((note.start + note.length for note in self.notes), default=0.0)


@dataclass(frozen=True, slots=True)
class Laying:
    """How a part lies in a session.

    first_bar   index of the bar on whose line its own bar 1 lies; for a part in seconds that is where its
                zero lies
    times       how often it is heard, or None with until_bar: index of the bar before whose line it ends
    rule        pulls starts; None leaves them. hand: pegs by hand; take_s and quarters count from the line of
                its bar 1, in all its rounds
    accent      0-1, how much of a groove's accent the velocities take
    lengths     "kept", or "until the next": a note ends where the next one of its channel begins
    """

    first_bar: int = 0
    times: int | None = 1
    until_bar: int | None = None
    rule: Rule | None = None
    hand: tuple[HandPeg, ...] = ()
    accent: float = 0.0
    lengths: str = "kept"

    def __post_init__(self) -> None:
        if self.lengths not in LENGTHS:
            raise ParameterError(
                f"Lengths are {' or '.join(LENGTHS)}, not “{self.lengths}”. Nothing was changed."
            )
        if self.until_bar is None and not 1 <= (self.times or 0) <= MOST_TIMES:
            raise ParameterError(f"A part is heard 1 to {MOST_TIMES} times. Nothing was changed.")
        if not 0.0 <= self.accent <= 1.0:
            raise ParameterError("Accent is taken from 0 to 100 %. Nothing was changed.")


@dataclass(frozen=True, slots=True)
class Heard:
    """A note as it sounds: seconds of the session, and where it lies in quarters of the session's map; own_q:
    where it is written, in quarters
    from the line of its part's bar 1, through all rounds."""

    start_s: float
    end_s: float
    start_q: float
    end_q: float
    key: int
    velocity: int
    channel: int
    program: int
    own_q: float = 0.0

    @property
    def is_drum(self) -> bool:
        return self.channel == DRUMS


def laid(part: Part, session_map: TempoMap[SessionTimes], how: Laying) -> list[Heard]:
    """The notes of a part as they sound, in order of their starts; what begins at or after its end is not
    heard, what lasts beyond it ends there.

    Repeats begin a whole number of bars apart: as many as the part needs.
    """
    if not part.notes:
        return []
    if part.in_seconds:
        return _in_seconds(part, session_map, how)
    origin = session_map.bar_line(how.first_bar)
    bars = _bars(part, session_map, how.first_bar)
    found: list[Note] = []
    if how.until_bar is not None:
        end_q = session_map.bar_line(how.until_bar)
        if end_q <= origin:
            raise ParameterError("A part ends after the bar on which it begins. Nothing was changed.")
    else:
        end_q = np.inf
    turn, at = 0, how.first_bar
    while True:
        start = session_map.bar_line(at)
        if (how.until_bar is None and turn >= (how.times or 1)) or start >= end_q - 1e-9:
            break
        if turn * len(part.notes) > MOST_NOTES:
            raise ParameterError(f"That is more than {MOST_NOTES} notes. Nothing was changed.")
        # What is played before its bar 1 is heard the first time only: later it would lie over the end of the
        # round before.
        found += [
            replace(note, start=start + note.start) for note in part.notes if turn == 0 or note.start >= -1e-9
        ]
        turn, at = turn + 1, at + bars
    found = [note for note in found if note.start < end_q - 1e-9]
    starts = _pulled(np.array([note.start for note in found]), session_map, how)
    velocities = _accented(found, session_map, how)
    stops = np.minimum(starts + np.maximum([note.length for note in found], SHORTEST_Q), end_q)
    if how.lengths == "until the next":
        stops = _until_the_next(starts, stops, np.array([note.channel for note in found]), end_q)
    stops = np.maximum(stops, starts + SHORTEST_Q)
    starts_s, stops_s = (np.asarray(session_map.to_seconds(Quarters(places))) for places in (starts, stops))
    order = sorted(range(len(found)), key=lambda k: (starts[k], found[k].key))
    return [
        Heard(
            float(starts_s[k]),
            float(stops_s[k]),
            float(starts[k]),
            float(stops[k]),
            found[k].key,
            velocities[k],
            found[k].channel,
            found[k].program,
            found[k].start - origin,
        )
        for k in order
    ]


def _until_the_next(starts: FloatArray, stops: FloatArray, channels: IntArray, end_q: float) -> FloatArray:
    """Where notes end that last until the next one of their channel begins; those that no other follows end
    where they did.
    """
    ends = stops.copy()
    for channel in np.unique(channels):
        own = np.flatnonzero(channels == channel)
        begins = np.sort(starts[own])
        # The first that begins later than this one, whatever begins with it.
        following = np.searchsorted(begins, starts[own] + 1e-9, side="right")
        there = following < len(begins)
        ends[own[there]] = np.minimum(begins[following[there]], end_q)
    return ends


def _bars(part: Part, session_map: TempoMap[SessionTimes], first_bar: int) -> int:
    """How many bars of the session the part needs from a bar on; at least one."""
    origin, bars, end = session_map.bar_line(first_bar), 1, part.end
    while session_map.bar_line(first_bar + bars) - origin < end - 1e-6 and bars < 100_000:
        bars += 1
    return bars


def _pulled(own: FloatArray, session_map: TempoMap[SessionTimes], how: Laying) -> FloatArray:
    """Starts after the rule and pegs by hand; notes that start together stay together, for each is pulled by
    its own place alone.
    """
    starts = own.copy()
    rule = how.rule
    if rule is not None and len(own):
        goal = np.asarray(rule.places.nearest(Quarters(own), session_map))
        off_s = np.abs(
            np.asarray(session_map.to_seconds(Quarters(goal)))
            - np.asarray(session_map.to_seconds(Quarters(own)))
        )
        pulled = 1000 * off_s >= rule.leave_alone_ms
        if rule.ignore_beyond_ms is not None:
            pulled &= 1000 * off_s <= rule.ignore_beyond_ms
        if rule.ignore_quarters is not None:
            pulled &= np.abs(goal - own) <= rule.ignore_quarters
        if rule.bars is not None:
            first, last = span_of(rule.bars, session_map)
            pulled &= (goal >= first - 1e-9) & (goal < last - 1e-9)
        starts = np.where(pulled, own + rule.share * (goal - own), own)
    origin = session_map.bar_line(how.first_bar)
    for peg in how.hand:
        target = (
            origin + peg.quarters
            if peg.quarters is not None
            else session_map.place(float(peg.session_s or 0.0))
        )
        starts[np.abs(own - origin - peg.take_s) <= SAME_NOTE_Q] = target
    return starts


def _accented(notes: Sequence[Note], session_map: TempoMap[SessionTimes], how: Laying) -> list[int]:
    """Velocities after a groove's accent: 20 dB are a tenth of the velocity, as amplitude goes with it."""
    rule = how.rule
    if rule is None or how.accent == 0.0 or not isinstance(rule.places, GrooveGrid) or not notes:
        return [note.velocity for note in notes]
    gains = (
        rule.places.accent_db(Quarters(np.array([note.start for note in notes])), session_map) * how.accent
    )
    return [
        int(np.clip(round(note.velocity * 10 ** (gain / 20)), 1, 127))
        for note, gain in zip(notes, gains, strict=True)
    ]


def _in_seconds(part: Part, session_map: TempoMap[SessionTimes], how: Laying) -> list[Heard]:
    zero = session_map.second(session_map.bar_line(how.first_bar))
    heard = []
    for note in part.notes:
        start, end = zero + note.start, zero + note.start + max(note.length, SHORTEST_S)
        heard.append(
            Heard(
                start,
                end,
                session_map.place(start),
                session_map.place(end),
                note.key,
                note.velocity,
                note.channel,
                note.program,
            )
        )
    return heard
