"""A session's state: what was decided and what was heard, together. It answers what the marks, the pace, the
map are.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np

from combpace.core.analysis.readings import Reading, readings_of
from combpace.core.analysis.steady_tempo import steady_tempo
from combpace.core.beats.track import track_beats
from combpace.core.clocks import FloatArray, SessionTimes, TakeTimes, session_times, take_times
from combpace.core.errors import ParameterError
from combpace.core.fit.follow import Follow, follow_of, one_tempo_of, placed
from combpace.core.fit.rule import HAND_REACH_S
from combpace.core.onsets.choose import ANYWHERE, chosen, on_places
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.loops import STARTS_S, as_loop, loop_bars
from combpace.core.tempo.map import TempoMap, steady_map
from combpace.core.tempo.meters import bar_index
from combpace.core.tempo.recount import counted_as
from combpace.core.tempo.smooth import smoothed
from combpace.core.tempo.statements import Stated
from combpace.media.mapfiles import steady_document
from combpace.session import kinds
from combpace.session.analysis_store import TakeAnalysis
from combpace.session.arrivals import with_arrivals
from combpace.session.data_folder import DataFolder, Once, Opened
from combpace.session.document import parts as forms
from combpace.session.document.model import Document, MapPart, OnsetEdits, TakeEntry
from combpace.session.document.stated import (
    BarStatement,
    DownbeatStatement,
    LevelStatement,
    ReadingStatement,
    Statement,
    TempoStatement,
)
from combpace.session.kinds import Kind
from combpace.session.solving import Ear, as_far_as_it_holds
from combpace.store.models import TakeRow

EDIT_REACH_S = HAND_REACH_S


@dataclass(frozen=True, slots=True)
class SessionState:
    """A session's takes with everything that is known and decided about them."""

    opened: Opened
    rows: Mapping[str, TakeRow]
    folder: DataFolder
    # Where this only is as if another take led: that take, and the session as it is, which is what sounds.
    led: str | None = None
    behind: SessionState | None = None
    _names: dict[str, Any] = field(default_factory=dict, init=False, repr=False, compare=False)

    @property
    def heard_as(self) -> SessionState:
        """The session that sounds while this one is looked at."""
        return self.behind or self

    @property
    def document(self) -> Document:
        return self.opened.document

    @property
    def key(self) -> tuple[object, ...]:
        """Names everything that follows from this state: the revision, the states of takes, and which have
        been heard.

        What is derived is kept under it; there is no other way to name a state.
        """
        takes = tuple(
            (row.id, row.state, row.error, row.analysis_sha, row.decoded_sha) for row in self.rows.values()
        )
        return (
            self.opened.row.id,
            self.opened.row.name,
            self.opened.revision.id,
            self.opened.revision.version,
            self.led,
            self.folder.worn,
            takes,
        )

    def once(self, name: str, make: Callable[[], Any], *more: object) -> Any:
        """A value that follows from this state (and `more`), made once."""
        if "kept" not in self._names:
            # Damage that is noticed meanwhile makes another state of it, whoever asks then.
            self._names["kept"], self._names["worn"] = self._once(), self.folder.worn
        elif self._names["worn"] != self.folder.worn:
            self._names.clear()
            return self.once(name, make, *more)
        kept: Once = self._names["kept"]
        return kept.once((name, *more), make)

    def _once(self) -> Once:
        # Numbers of revisions that are only tried lie below zero.
        return self.folder.of_state(self.key, tried=self.opened.revision.id < 0 or self.led is not None)

    @property
    def stated(self) -> Stated:
        """What the user stated of the music, in session time."""
        return self.document.map.stated

    def analysis(self, take_id: str) -> TakeAnalysis | None:
        row = self.rows.get(take_id)
        return self.folder.analysis(row) if row is not None else None

    def onsets(self, take_id: str) -> Onsets:
        """The marks of a take: detected, chosen by its sentence, then edited by hand."""
        found: Onsets = self.once("onsets", lambda: self._onsets(take_id), take_id)
        return found

    def _onsets(self, take_id: str) -> Onsets:
        heard = self.analysis(take_id)
        edits = self.document.edits.get(take_id, OnsetEdits())
        if heard is None:
            return edited(Onsets(take_times([]), np.zeros(0), np.zeros(0)), edits)
        keep = chosen(heard.onsets, heard.bands, edits.choice)
        if edits.on != ANYWHERE and (session_map := self.session_map()) is not None:
            # A map that is there says where the grid lies; the marks themselves move no map.
            kept = np.flatnonzero(keep)
            moments = session_times(self._by_beats(take_id, np.asarray(heard.onsets.times)[kept]))
            keep = keep.copy()
            keep[kept] = on_places(moments, heard.onsets.strength[kept], session_map, edits.on)
        return edited(heard.onsets, edits, keep)

    def moments(self, take_id: str, times: FloatArray) -> FloatArray:
        """Where moments of a take lie in the session, s: as placed, or where its own pace follows to."""
        return self.follow(take_id)(times)

    def follow(self, take_id: str) -> Follow:
        """Where a take lies if no rule acts, as it is heard once."""
        found: Follow = self.once("follow", lambda: self._follow(take_id), take_id)
        return found

    def _follow(self, take_id: str) -> Follow:
        take, beats, length = self.document.take(take_id), self.own_pace(take_id), self.duration_s(take_id)
        if beats is None or self.session_map() is None or not self._follows(take):
            return placed(take.offset_s, length)
        return self.lies(take_id, beats, length)

    def _follows(self, take: TakeEntry) -> bool:
        """Whether the session's map says where a take lies, and not its placement."""
        return take.role != "lead" and take.pace == "own" and take.keeps != "time"

    def lies(self, take_id: str, beats: TempoMap[TakeTimes], length_s: float) -> Follow:
        """Where a take that is fitted lies if no rule acts.

        beats  when its beats were struck, of as much of it as is heard, `length_s` long
        """
        take, lead = self.document.take(take_id), self.document.lead
        shares = take.role == "lead" or take.pace == "lead"
        whose = lead if shares and lead is not None else take
        steady = self._one_tempo_of(whose.id)
        if steady is not None:
            steady = steady[0], steady[1] + whose.offset_s - take.offset_s
        counted = self.counted_pace(take_id) if take.kind == "loop" else None
        return follow_of(
            beats,
            self.need_map(),
            take.offset_s,
            length_s,
            shares=shares and self.map_choice().kind == "own",
            loop=counted is not None and loop_bars(counted, self.duration_s(take_id)) is not None,
            steady=steady,
        )

    def under(self) -> TempoMap[SessionTimes] | None:
        """The pace under the lines of a breathing map, which are strokes: grooves are laid on it."""
        if self.map_choice().kind != "own":
            return None
        found: TempoMap[SessionTimes] = self.once("under", lambda: smoothed(self.need_map()))
        return found

    def keeps_one_tempo(self, take_id: str) -> bool:
        """Whether a take was played, or made, in one tempo from its start to its end."""
        return self._one_tempo_of(take_id) is not None

    def _one_tempo_of(self, take_id: str) -> tuple[float, float] | None:
        facts, pace = self.steady(take_id), self.own_pace(take_id)
        if facts is None or pace is None:
            return None
        return one_tempo_of(pace, facts["verdict"], facts["bpm"], facts["first_downbeat_s"])

    def _by_beats(self, take_id: str, times: FloatArray) -> FloatArray:
        """Moments of a take as its beats have them in the session: which place each belongs to."""
        take, beats, line = self.document.take(take_id), self.own_pace(take_id), self.session_map()
        if beats is not None and line is not None and self._follows(take):
            return line.to_seconds(beats.to_quarters(take_times(times)))
        return times + take.offset_s

    def struck(self, take_id: str) -> Onsets:
        """The marks of all mics that were played with a take, on its own clock: a pace is that of the bundle,
        not of one mic.
        """
        take = self.document.take(take_id)
        mics = self.document.bundle_of(take_id)
        each = [self.onsets(mic.id) for mic in mics]
        times = np.concatenate(
            [
                np.asarray(found.times) + mic.offset_s - take.offset_s
                for mic, found in zip(mics, each, strict=True)
            ]
        )
        order = np.argsort(times, kind="stable")
        strength, confidence = (
            np.concatenate([getattr(found, name) for found in each])[order]
            for name in ("strength", "confidence")
        )
        return Onsets(take_times(times[order]), strength, confidence)

    def own_pace(self, take_id: str) -> TempoMap[TakeTimes] | None:
        """A take's own pace, after corrections; a take that shares the lead's reads it through both
        placements.
        """
        found: TempoMap[TakeTimes] | None = self.once("own pace", lambda: self._own_pace(take_id), take_id)
        return found

    def _own_pace(self, take_id: str) -> TempoMap[TakeTimes] | None:
        take = self.document.take(take_id)
        lead = self.document.lead
        if take.role != "lead" and take.pace == "lead" and lead is not None:
            pace = self.own_pace(lead.id)
            return pace.shifted(lead.offset_s - take.offset_s) if pace else None
        heard = self.analysis(take_id)
        pace, choice = self.counted_pace(take_id), self.document.map
        if (
            pace is None
            and heard is not None
            and take.role == "lead"
            and choice.kind == "steady"
            and choice.bpm
            and choice.bar_1_s is not None
        ):
            # Nothing was heard, but a tempo was stated: the lead is taken to follow it.
            return steady_map(
                choice.bpm, choice.bar_1_s - take.offset_s, choice.steady_meters, confidence=0.2
            )
        if pace is None or take.role == "lead":
            return pace if pace is None else self._counted_as_stated(take, pace)
        # What was cut to whole bars has the frames of whole bars in the session too.
        pace = as_loop(pace, self.duration_s(take_id))
        if take.first_bar == 1:
            return pace
        # Its own bar 1 lies on another bar of the session.
        session_map = self.session_map()
        line = session_map.bar_line(bar_index(take.first_bar)) if session_map else 0.0
        return pace.counted_later(line)

    def _counted_as_stated(self, lead: TakeEntry, pace: TempoMap[TakeTimes]) -> TempoMap[TakeTimes]:
        """The lead's pace counted as the session counts it, where the map is not its own."""
        every = self.document.map.statements
        said = [one.time_s for one in every if isinstance(one, BarStatement | DownbeatStatement)]
        line = self.session_map() if said and self.map_choice().kind != "own" else None
        return pace if line is None else counted_as(pace, line, said, lead.offset_s)

    def base_pace(self, take_id: str) -> TempoMap[TakeTimes] | None:
        """A take's pace before anything is stated of its bars: knots in the place of what was heard, the
        reading that was chosen, or what was heard.
        """
        given = self.document.paces.get(take_id)
        if given is not None:
            return given
        heard = self.analysis(take_id)
        for one in self.statements(take_id):
            if isinstance(one, ReadingStatement):
                if one.pace is not None:
                    return forms.pace_from(one.pace)
                offered = self.readings(take_id)
                if one.rank is not None and 1 <= one.rank <= len(offered):
                    return offered[one.rank - 1].pace
        return heard.pace if heard else None

    def counted_pace(self, take_id: str) -> TempoMap[TakeTimes] | None:
        """A take's pace on its own count, with what is stated of its bars."""
        found: TempoMap[TakeTimes] | None = self.once("counted", lambda: self._counted(take_id), take_id)
        return found

    def _counted(self, take_id: str) -> TempoMap[TakeTimes] | None:
        base = self.base_pace(take_id)
        return None if base is None else self._as_stated(self.document.take(take_id), base)[0]

    def statements(self, take_id: str) -> tuple[Statement, ...]:
        """What was stated of a take's bars: of the lead's in session time, of another's on its own clock."""
        take = self.document.take(take_id)
        return self.document.map.statements if take.role == "lead" else self.document.said.get(take_id, ())

    def is_corrected(self, take_id: str) -> bool:
        """Whether its pace is other than it was heard, by hand."""
        return take_id in self.document.paces or any(
            not isinstance(one, TempoStatement) for one in self.statements(take_id)
        )

    def ear(self, take_id: str) -> Ear | None:
        """What was kept of a take that was listened to."""
        heard, row = self.analysis(take_id), self.rows.get(take_id)
        return None if heard is None or row is None else Ear(self.folder, row, heard)

    def _as_stated(
        self, take: TakeEntry, base: TempoMap[TakeTimes]
    ) -> tuple[TempoMap[TakeTimes], tuple[Statement, ...]]:
        """(a take's pace with what is stated of it, what of that does not hold). In a session that is not its
        own map, only how fast it is read.
        """
        leads, kind = take.role == "lead", self.document.map.kind
        every, ear = self.statements(take.id), self.ear(take.id)
        if leads and kind != "own":
            every = tuple(one for one in every if isinstance(one, LevelStatement))
        elif all(one.knotted for one in every):
            return base, ()
        if ear is None:
            return base, ()
        offset = -take.offset_s if leads else 0.0
        return as_far_as_it_holds(partial(ear.solve, base), base, every, offset)

    def readings(self, take_id: str) -> tuple[Reading, ...]:
        """The likeliest ways to count a take, as it was analysed; of an older analysis from the pulse that it
        kept.
        """
        heard = self.analysis(take_id)
        if heard is None:
            return ()
        kept = heard.facts.get("readings")
        if kept is not None:
            return tuple(
                Reading(rank, one["probability"], forms.pace_from(one["pace"]))
                for rank, one in enumerate(kept, 1)
            )
        row = self.rows[take_id]
        return self.folder.once(("readings", row.analysis_sha), lambda: self._counted_anew(heard, row))  # type: ignore[no-any-return]

    def _counted_anew(self, heard: TakeAnalysis, row: TakeRow) -> tuple[Reading, ...]:
        activations = self.folder.activations(row)
        if activations is None or heard.pace is None:
            return ()
        return readings_of(activations, heard.onsets, track_beats(activations, heard.onsets), heard.pace)

    def session_map(self) -> TempoMap[SessionTimes] | None:
        """The session's one map, or None while there is nothing to read it from."""
        found: TempoMap[SessionTimes] | None = self.once("session map", self._session_map)
        return found

    def _session_map(self) -> TempoMap[SessionTimes] | None:
        choice, lead = self.map_choice(), self.document.lead
        base = self._before(choice)
        if base is not None:
            return self._solved_of(choice, base)[0]
        pace = self.own_pace(lead.id) if lead else None
        if pace is None or lead is None:
            return None
        return TempoMap(pace.shifted(lead.offset_s).knots, pace.meters)

    def _solved_of(
        self, choice: MapPart, base: TempoMap[SessionTimes]
    ) -> tuple[TempoMap[SessionTimes], tuple[Statement, ...]]:
        """(a steady map or one that was given with what is stated, what of that does not hold)"""
        kind = self.kind_of(choice)
        if choice.settled or kind is None:
            return base, ()
        return as_far_as_it_holds(kind.solve, base, choice.to_solve, 0.0)

    def lost(self) -> tuple[Statement, ...]:
        """What is stated of the map and does not hold in it: what is heard now leaves no room for it."""
        found: tuple[Statement, ...] = self.once("lost", self._lost)
        return found

    def _lost(self) -> tuple[Statement, ...]:
        choice, lead = self.map_choice(), self.document.lead
        base = self._before(choice)
        if base is not None:
            return self._solved_of(choice, base)[1]
        pace = None if lead is None else self.base_pace(lead.id)
        if lead is None or pace is None or self.document.map.kind != "own":
            return ()
        return self._as_stated(lead, pace)[1]

    def kind_of(self, choice: MapPart) -> Kind | None:
        """A map before anything is stated of it; None where there is nothing yet to read one from."""
        lead, base = self.document.lead, self._before(choice)
        if lead is None:
            return None
        ear = self.ear(lead.id)
        if base is not None and choice.kind == "steady":
            return kinds.Steady(base, ear, lead.offset_s, self.duration_s(lead.id))
        if base is not None:
            struck = ear.analysis.onsets if ear else Onsets(take_times([]), np.zeros(0), np.zeros(0))
            times = take_times(np.asarray(struck.times) + lead.offset_s)
            return kinds.Given(base, replace(struck, times=times))
        pace = self.base_pace(lead.id)
        if pace is None or ear is None:
            return None
        return kinds.Breathing(ear, lead.id, lead.offset_s, pace, self.document.paces.get(lead.id))

    def need_kind(self) -> Kind:
        """The map in force before anything is stated of it. Raises ParameterError where there is none."""
        found, lead = self.kind_of(self.map_choice()), self.need_lead()
        if found is None:
            raise ParameterError(
                f"{lead.name} has no pulse yet: it is still being listened to, or none was found; state "
                "a tempo instead. Nothing was changed."
            )
        return found

    def sureness(self) -> FloatArray | None:
        """How sure the line of each bar from bar 1 on is, 0-1, given what was stated; None where only the
        knots of the map say so.
        """
        found: FloatArray | None = self.once("sureness", self._sureness)
        return found

    def _sureness(self) -> FloatArray | None:
        choice, line = self.map_choice(), self.session_map()
        kind = self.kind_of(choice)
        return None if kind is None or line is None else kind.sure(choice.stated, line)

    def check_stated(self) -> None:
        """Raises MapConflictError, naming what is stated, where no map holds all of it."""
        choice = self.map_choice()
        kind = self.kind_of(choice)
        if kind is not None and not choice.settled and self.session_map() is not None:
            kind.solve(choice.stated)

    def map_by(self, choice: MapPart) -> TempoMap[SessionTimes]:
        """The session's map as it is with all of what `choice` states, of the kind that it is. Raises
        MapConflictError where none holds all of it.
        """
        kind = self.kind_of(choice)
        return self.need_map() if kind is None else kind.solve(choice.stated)

    def _before(self, choice: MapPart) -> TempoMap[SessionTimes] | None:
        """A steady map or one that was given, before anything is stated of it."""
        if choice.kind == "steady" and choice.bpm is not None and choice.bar_1_s is not None:
            return steady_map(choice.bpm, choice.bar_1_s, choice.steady_meters)
        if choice.kind == "given" and choice.given is not None:
            found = forms.pace_from(choice.given)
            return TempoMap(found.knots, found.meters)
        return None

    def map_choice(self) -> MapPart:
        """The map in force: "auto" is settled by how the lead was heard to be played, unless its pace was
        corrected.
        """
        choice, lead = self.document.map, self.document.lead
        if choice.kind != "auto" or lead is None:
            return choice
        heard = self.analysis(lead.id)
        steady = self.steady(lead.id) if heard and heard.pace and lead.id not in self.document.paces else None
        if heard is None or heard.pace is None or not steady or steady["verdict"] != "steady":
            return choice.model_copy(update={"kind": "own"})
        meters = tuple((meter.bar, meter.numerator, meter.denominator) for meter in heard.pace.meters[:1])
        # Of what was heard by an earlier version nothing rounder was kept: its map stays.
        bpm, start = (
            steady.get("proposed_bpm", steady["bpm"]) * heard.pace.meters[0].beat_quarters,
            steady["first_downbeat_s"] + lead.offset_s,
        )
        return choice.model_copy(update={"kind": "steady", "bpm": bpm, "bar_1_s": start, "meters": meters})

    @property
    def one_tempo(self) -> float | None:
        """The session's tempo, quarters a minute, where it is one; None where the map breathes."""
        line = self.session_map()
        return line.bpm_at(0.0) if line is not None and self.map_choice().kind == "steady" else None

    def need_map(self) -> TempoMap[SessionTimes]:
        found = self.session_map()
        if found is None:
            raise ParameterError(
                "There is no tempo map yet: drop a take with a pulse, or wait until it has been "
                "listened to. Nothing was changed."
            )
        return found

    def need_lead(self) -> TakeEntry:
        lead = self.document.lead
        if lead is None:
            raise ParameterError("There is no lead yet: drop a take first. Nothing was changed.")
        return lead

    def steady(self, take_id: str) -> Mapping[str, Any] | None:
        """How one tempo fits a take as it is read now; None without a pulse."""
        heard = self.analysis(take_id)
        own = self.document.take(take_id).role != "lead" or self.document.map.kind == "own"
        corrected = self.document.paces.get(take_id)
        if own and self.is_corrected(take_id):
            corrected = self.counted_pace(take_id)
        found: Mapping[str, Any] | None = heard.facts.get("steady") if heard else None
        if heard is not None and corrected is not None:
            found = steady_document(steady_tempo(corrected, self.struck(take_id), self.duration_s(take_id)))
        pace = corrected or (heard.pace if heard else None)
        if found is None or pace is None or self.document.take(take_id).kind != "loop":
            return found
        return as_long_as_it_is(found, pace, self.duration_s(take_id))

    def duration_s(self, take_id: str) -> float:
        row = self.rows.get(take_id)
        return (row.frames or 0) / row.sample_rate_hz if row is not None and row.sample_rate_hz else 0.0

    def end_s(self) -> float:
        """Session time at which the last take ends."""
        return max((take.offset_s + self.duration_s(take.id) for take in self.document.takes), default=0.0)


def session_state(folder: DataFolder, session_id: str, revision_id: int | None = None) -> SessionState:
    """Everything about a session in its newest state, or as it was at a revision."""
    opened = folder.open(session_id, revision_id)
    rows = folder.take_rows(session_id)
    for row in rows.values():
        if row.alone is not None:
            _as_heard_now(opened.document, row)
    return SessionState(replace(opened, document=as_known(opened.document, rows, folder)), rows, folder)


def _as_heard_now(document: Document, row: TakeRow) -> None:
    """What was heard in a take together with others counts while it shares their timing; before that, and
    where it was undone, what was heard in it alone.
    """
    kept = json.loads(row.alone or "{}")
    take = next((take for take in document.takes if take.id == row.id), None)
    mates = {mate.id for mate in document.bundle_of(take.id)} if take is not None else set()
    if len(mates) < 2 or not mates <= set(kept["with"]):
        row.analysis_sha = kept["sha"]


def as_known(document: Document, rows: Mapping[str, TakeRow], folder: DataFolder) -> Document:
    """A document with what is known of its takes: which of them leads, which are arrivals."""
    return with_arrivals(_led(document, rows), rows, folder)


def _led(document: Document, rows: Mapping[str, TakeRow]) -> Document:
    """A lead that could not be read gives its role to the first take that can."""
    lead = document.lead
    row = rows.get(lead.id) if lead else None
    if lead is None or row is None or row.state != "failed":
        return document
    following = next(
        (take.id for take in document.takes if take.id in rows and rows[take.id].state != "failed"), None
    )
    if following is None:
        return document
    takes = tuple(
        replace(take, role="lead" if take.id == following else "follower") for take in document.takes
    )
    return replace(document, takes=takes)


def as_long_as_it_is(
    found: Mapping[str, Any], pace: TempoMap[TakeTimes], duration_s: float
) -> Mapping[str, Any]:
    """How one tempo fits a loop: where it is so many whole bars long, its length is evidence, to the frame;
    and where it begins on bar 1, its first frame is bar 1.
    """
    if abs(pace.second(0.0)) > STARTS_S:
        return found
    bars = loop_bars(pace, duration_s)
    if bars is None:
        return {**found, "first_downbeat_s": 0.0}
    beats = bars * pace.meters[0].bar_quarters / pace.meters[0].beat_quarters
    bpm = 60.0 * beats / duration_s
    return {**found, "bpm": bpm, "proposed_bpm": bpm, "first_downbeat_s": 0.0}


def edited(onsets: Onsets, edits: OnsetEdits, chosen_ones: np.ndarray | None = None) -> Onsets:
    """Detected onsets with hand edits on top; a hand-made mark is as strong as a typical one, and certain.

    chosen_ones  those that the take's sentence marks; without it all that are strong enough
    """
    times, strength, sure = np.asarray(onsets.times).copy(), onsets.strength.copy(), onsets.confidence.copy()
    keep = strength >= edits.threshold if chosen_ones is None else chosen_ones.copy()
    for time in edits.removed:
        keep &= np.abs(times - time) > EDIT_REACH_S
    for old, new in edits.moved:
        near = np.abs(times - old) <= EDIT_REACH_S
        times[near], sure[near] = new, 1.0
        keep |= near
    for time in edits.locked:
        near = np.abs(times - time) <= EDIT_REACH_S
        sure[near] = 1.0
        keep |= near
    times, strength, sure = times[keep], strength[keep], sure[keep]
    added = np.array(
        [time for time in edits.added if not len(times) or np.min(np.abs(times - time)) > EDIT_REACH_S]
    )
    if len(added):
        typical = float(np.median(strength)) if len(strength) else 0.5
        times = np.concatenate([times, added])
        strength = np.concatenate([strength, np.full(len(added), typical)])
        sure = np.concatenate([sure, np.ones(len(added))])
    order = np.argsort(times, kind="stable")
    return Onsets(take_times(times[order]), strength[order], sure[order])
