"""The sentence that pulls onsets, pegs by hand, keeping and dropping a fit."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from pydantic import Field

from combpace.core.clocks import take_times
from combpace.core.errors import ParameterError
from combpace.core.fit.groove import groove_document
from combpace.core.fit.ranges import Rules, refuse_beyond, refuse_other_bars, spoken_to, with_said, without
from combpace.core.fit.rule import HandPeg, Rule, read_bars
from combpace.core.stretch import check_method
from combpace.core.tempo.meters import bar_index
from combpace.session import carried, fits, words
from combpace.session.decisions import (
    Args,
    Change,
    Job,
    NewTake,
    Quarters,
    Seconds,
    TakeArgs,
    TakeId,
    decision,
)
from combpace.session.document import parts as forms
from combpace.session.document.model import RuleChoice, TakeEntry, TakePegs, as_played_rule
from combpace.session.foresight import as_if
from combpace.session.grooves import GrooveLibrary
from combpace.session.reach import near_audio, near_place
from combpace.session.renders import render_of
from combpace.session.stack import stacked
from combpace.session.state import EDIT_REACH_S, SessionState
from combpace.session.take_names import kept_name
from combpace.store.models import new_id

# A grid's name that is a groove of the library: its id follows.
GROOVE = "groove:"


# What is said of a take as a whole, whichever bars its sentences are about.
OF_THE_TAKE = {"method", "first", "leave_out", "count"}


class RuleArgs(Args):
    """One field of a sentence, `field` and `value`, or several, `set`: grid (like "1/8", or "groove:" and
    the id of one of the library), swing, strength, leave_alone, ignore, bars, keep_lag ("yes", "no"),
    coarse ("yes", "no"), accent (of a groove, %), or of the take method, or of a bundle first: the id of
    the take whose marks
    are to count first, then as before, or leave_out
    and count: the id of one whose marks are not to count, or are to again.

    bars  whose sentence: "9-12", null for the one of all bars; left out it is the one of all bars, or the
          only one
    """

    take: TakeId
    field: str | None = Field(default=None, max_length=20)
    value: str | None = Field(default=None, max_length=200)
    bars: str | None = Field(default=None, max_length=40)
    set: dict[str, str | float | bool | None] | None = Field(default=None, max_length=20)


class RuleRemoveArgs(Args):
    """bars: as in RuleArgs."""

    take: TakeId
    bars: str | None = Field(default=None, max_length=40)


class PegArgs(Args):
    """quarters for a peg on the grid, session_s for a free one."""

    take: TakeId
    take_s: Seconds
    quarters: Quarters | None = None
    session_s: Seconds | None = None


class RideArgs(Args):
    take: TakeId
    times_s: list[Seconds] = Field(max_length=5000, min_length=1)


class BringArgs(Args):
    """take goes to where `to` sounds, at the places of the grid `on` that both play: only attacks at times_s
    of take, or all.
    """

    take: TakeId
    to: TakeId
    on: str = Field(default="1/16", max_length=10)
    times_s: list[Seconds] = Field(default_factory=list, max_length=5000)


class PhraseArgs(Args):
    """Several onsets: by their moments, or all of bars from_bar to to_bar by number."""

    take: TakeId
    times_s: list[Seconds] = Field(default_factory=list, max_length=5000)
    from_bar: int | None = None
    to_bar: int | None = None


class PhraseByArgs(PhraseArgs):
    """ms: by how much they go later, all alike."""

    ms: float = Field(ge=-5000, le=5000, allow_inf_nan=False)


# So many onsets that give way are named.
MOST_NAMED = 4
# What lies so little before a bar line, in quarters, is that bar's: an early downbeat.
EARLY_Q = 0.125


@decision("rule", RuleArgs)
def rule(state: SessionState, args: RuleArgs) -> Change:
    """Say something of how a take is pulled, in all bars or in some."""
    timing = state.document.timing_take(args.take)
    now = fits.choice_of(state, timing)
    if (args.set is None) == (args.field is None) or (args.field is None) != (args.value is None):
        raise ParameterError("Say one field and its value, or a set of them. Nothing was changed.")
    values: dict[str, Any] = dict(args.set or {}) if args.field is None else {args.field: args.value}
    with words.unchanged():
        named = "bars" in args.model_fields_set
        # What is the take's own is said of no bars.
        whose = read_bars(args.bars) if named or set(values) <= OF_THE_TAKE else spoken_to(now.rules).bars
        choice = replace(_said(state, timing, now, whose, values), before=False)
    parts = {f"rule:{timing}": forms.rule_part(choice)}
    of = "" if whose is None else f":{whose[0]}-{whose[1]}"
    return Change(
        parts,
        fits.sentence(choice, state.document.take(timing)),
        f"rule:{timing}:{'+'.join(values)}{of}",
    )


def _said(
    state: SessionState,
    timing: str,
    now: RuleChoice,
    bars: tuple[int, int] | None,
    values: Mapping[str, Any],
) -> RuleChoice:
    """What is said of a take with fields of one sentence changed. Raises ParameterError."""
    rest, choice = dict(values), now
    if "method" in rest:
        choice = replace(choice, method=check_method(str(rest.pop("method"))))
    if "first" in rest:
        choice = _first(state, timing, choice, str(rest.pop("first")))
    for name in ("leave_out", "count"):
        if name in rest:
            choice = _counted(state, timing, choice, str(rest.pop(name)), out=name == "leave_out")
    if not rest and values:
        return choice
    grid = rest.get("grid")
    if isinstance(grid, str) and grid.startswith(GROOVE):
        rest.pop("grid")
        rest = {"groove": groove_document(GrooveLibrary(state.folder).get(grid.removeprefix(GROOVE))), **rest}
    made = with_said(choice.rules, bars, rest)
    _fits(state, timing, [one for one in made if one not in choice.rules])
    return replace(choice, rules=made)


@decision("rule-remove", RuleRemoveArgs)
def rule_remove(state: SessionState, args: RuleRemoveArgs) -> Change:
    """Take a sentence back: its bars are pulled as the others have it. Without any the take is as it was
    played.
    """
    timing = state.document.timing_take(args.take)
    now, name = state.document.rules.get(timing), state.document.take(timing).name
    if now is None:
        raise ParameterError(f"Nothing is said of how {name} is pulled. Nothing was changed.")
    with words.unchanged():
        bars = read_bars(args.bars)
        left = without(now.rules, bars)
    held = bool(state.document.pegs.get(timing, TakePegs()).pegs)
    if left:
        choice = replace(now, rules=left, before=False)
        return Change(
            {f"rule:{timing}": forms.rule_part(choice)}, fits.sentence(choice, state.document.take(timing))
        )
    part = forms.rule_part(as_played_rule()) if held else None
    stays = ", but for what is pulled by hand" if held else ""
    return Change({f"rule:{timing}": part}, f"{name} sounds as it was played{stays}.")


def _fits(state: SessionState, timing: str, rules: Sequence[Rule]) -> None:
    """Raise ParameterError where a sentence is about bars that a take does not have, or a groove meets bars
    of another length.
    """
    pace = state.own_pace(timing)
    if pace is None:
        return
    line, length = state.need_map(), state.duration_s(timing)
    begin, end = pace.place(0.0), pace.place(length)
    entry = state.document.take(timing)
    if not entry.comes_round:
        refuse_beyond(rules, line, begin, end)
    refuse_other_bars(rules, line, begin, end)


def _first(state: SessionState, timing: str, choice: RuleChoice, take_id: str) -> RuleChoice:
    order = fits.mics_in_order(state, timing)
    if take_id not in order or len(order) < 2:
        raise ParameterError(
            "That take is not one of the bundle, so its marks cannot count first. Nothing was changed."
        )
    return replace(choice, first=(take_id, *(other for other in order if other != take_id)))


def _counted(state: SessionState, timing: str, choice: RuleChoice, take_id: str, *, out: bool) -> RuleChoice:
    """Whether the marks of one mic count."""
    order = fits.mics_in_order(state, timing)
    if take_id not in order or len(order) < 2:
        raise ParameterError("That take is not one of the bundle, so its marks cannot be left out.")
    left = (*(one for one in choice.out if one != take_id and one in order), *([take_id] if out else ()))
    if len(left) == len(order):
        raise ParameterError("Then the marks of no mic would count.")
    return replace(choice, out=left)


def other_takes(state: SessionState, timing: str) -> list[TakeEntry]:
    """Whose rule could be the same: every other take with a pace of its own that moves by its own
    sentence.
    """
    takes = state.document.takes
    return [
        entry
        for entry in takes
        if entry.id != timing
        and state.document.timing_take(entry.id) == entry.id
        and state.own_pace(entry.id) is not None
    ]


def ticked(state: SessionState, entry: TakeEntry) -> bool:
    """Whether a take gets another one's rule unless the user says otherwise."""
    led = entry.role == "lead" or entry.id in {
        mate.id for mate in state.document.bundle_of(state.need_lead().id)
    }
    done = entry.source is not None or entry.id in state.document.replaced
    return not led and entry.kind != "loop" and not done


class RuleToArgs(TakeArgs):
    """takes: those that get it; without, those that are ticked unless the user says otherwise."""

    takes: list[TakeId] | None = Field(default=None, max_length=256)


@decision("rule-to-others", RuleToArgs)
def rule_to_others(state: SessionState, args: RuleToArgs) -> Change:
    """Give a take's sentence to other takes that have a pace: those that are named, else all but the lead,
    loops, and what was kept as it was fitted; pegs by hand stay.
    """
    timing = state.document.timing_take(args.take)
    choice = replace(fits.choice_of(state, timing), before=False)
    every = other_takes(state, timing)
    others = [
        entry for entry in every if (ticked(state, entry) if args.takes is None else entry.id in args.takes)
    ]
    unknown = set(args.takes or ()) - {entry.id for entry in every}
    if unknown:
        raise ParameterError(
            f"{state.document.take(min(unknown)).name} has no sentence of its own that this could be. "
            "Nothing was changed."
        )
    if not others:
        raise ParameterError("There is no other take with a pulse to give this rule to. Nothing was changed.")
    parts = {f"rule:{timing}": forms.rule_part(choice)}
    for one in others:
        # Whose marks count first is each bundle's own.
        own = fits.choice_of(state, one.id)
        parts[f"rule:{one.id}"] = forms.rule_part(
            replace(choice, rules=_rules_for(state, one.id, choice), first=own.first, out=own.out)
        )
    names = ", ".join(one.name for one in others)
    return Change(parts, f"The rule of {state.document.take(timing).name} is also that of {names}.")


def _rules_for(state: SessionState, take_id: str, choice: RuleChoice) -> Rules:
    """The sentences about bars that a take has; at least the one of all bars, or the first."""
    kept = []
    for one in choice.rules:
        try:
            _fits(state, take_id, [one])
        except ParameterError:
            continue
        kept.append(one)
    return tuple(kept) or (choice.rule,)


@decision("rule-heard", TakeArgs)
def rule_heard(state: SessionState, args: TakeArgs) -> Change:
    """A sentence that an older version of the program read otherwise is meant as it sounds now."""
    timing = state.document.timing_take(args.take)
    choice = state.document.rules.get(timing)
    name = state.document.take(timing).name
    if choice is None or not choice.before:
        raise ParameterError(f"{name} sounds as it did. Nothing was changed.")
    return Change(
        {f"rule:{timing}": forms.rule_part(replace(choice, before=False))},
        f"{name} is right as it sounds now.",
    )


@decision("peg", PegArgs)
def peg(state: SessionState, args: PegArgs) -> Change:
    """Pull one onset by hand, onto a place or, freed, to a moment."""
    timing = state.document.timing_take(args.take)
    pegs = state.document.pegs.get(timing, TakePegs())
    made = HandPeg(args.take_s, args.quarters, args.session_s)
    session_map = state.need_map()
    new = _joined(state, timing, [made])
    for other in pegs.pegs:
        if other not in new.pegs and abs(other.take_s - args.take_s) > EDIT_REACH_S:
            raise ParameterError(
                f"The onset at {words.clock(other.take_s)} of the take is held by hand, and this one would "
                "be pulled past it. Nothing was changed; let that one ride first, or pull it on as well."
            )
    if args.quarters is not None:
        near_place(state, args.quarters)
    target = (
        session_map.second(args.quarters)
        if args.quarters is not None
        else near_audio(state, float(args.session_s or 0.0))
    )
    shown = words.place(session_map, args.quarters) if args.quarters is not None else words.clock(target)
    parts = _pegs(state, timing, new, fits.choice_of(state, timing))
    way = _give_way(state, timing, parts)
    lost = f" {words.listed(way)} {'gives' if len(way) == 1 else 'give'} way." if way else ""
    return Change(parts, f"The onset at {words.clock(args.take_s)} of the take is pulled to {shown}.{lost}")


def _give_way(state: SessionState, timing: str, parts: Mapping[str, Any]) -> list[str]:
    """Places of onsets that a pull goes past and that held before."""
    before = {round(peg.take_s, 6): peg for peg in fits.take_fit(state, timing).fit.pegs}
    made = fits.take_fit(as_if(state, parts), timing).fit
    gone = [
        before[round(float(time), 6)]
        for time, why in zip(made.riding, made.reasons, strict=True)
        if why == "gave way" and round(float(time), 6) in before
    ]
    named = [words.place(state.need_map(), peg.quarters) for peg in gone]
    return named if len(named) <= MOST_NAMED else [*named[:MOST_NAMED], f"{len(named) - MOST_NAMED} more"]


@decision("phrase", PhraseByArgs)
def phrase(state: SessionState, args: PhraseByArgs) -> Change:
    """Move several onsets as one, from where they sound now: what is between them keeps its proportions."""
    timing, times = _phrase(state, args)
    if args.ms == 0:
        raise ParameterError("By 0 ms nothing moves. Nothing was changed.")
    made = fits.take_fit(state, timing)
    targets = made.fit.time_map.to_target(np.asarray(times)) + args.ms / 1000.0
    new = _joined(
        state,
        timing,
        [HandPeg(time, None, float(target)) for time, target in zip(times, targets, strict=True)],
    )
    way = "later" if args.ms > 0 else "earlier"
    return Change(
        _pegs(state, timing, new),
        f"{words.count(len(times), 'onset')} moved as one, {words.ms(args.ms)} {way}.",
    )


@decision("as-played", PhraseArgs)
def as_played(state: SessionState, args: PhraseArgs) -> Change:
    """Give onsets back as they were played: each is held where it lies if no rule acts."""
    timing, times = _phrase(state, args)
    new = _joined(state, timing, [HandPeg(time) for time in times])
    return Change(_pegs(state, timing, new), f"{words.count(len(times), 'onset')} as played again.")


@decision("bring", BringArgs)
def bring(state: SessionState, args: BringArgs) -> Change:
    """Bring what one take plays to where another one sounds."""
    mover, to = state.document.timing_take(args.take), state.document.timing_take(args.to)
    above = stacked(state, args.on)
    a, b = above.at(mover), above.at(to)
    names = state.document.take(mover).name, state.document.take(to).name
    if mover == to:
        raise ParameterError(
            f"{names[0]} moves as one with that take, so neither can be brought to the other. "
            "Nothing was changed."
        )
    if state.own_pace(mover) is None:
        raise ParameterError(f"{names[0]} has no pulse, so nothing of it is fitted. Nothing was changed.")
    pairs = []
    for note in above.notes:
        own, other = (note.which[k] if k is not None else None for k in (a, b))
        if own is None or other is None or a is None or b is None:
            continue
        time, target = float(above.times[a][own]), float(above.sounds[b][other])
        if not args.times_s or any(abs(time - one) <= EDIT_REACH_S for one in args.times_s):
            pairs.append((time, target, abs(target - float(above.sounds[a][own]))))
    if not pairs:
        raise ParameterError(
            f"{names[0]} and {names[1]} play no place of {args.on} together there. Nothing was changed."
        )
    new = _joined(state, mover, [HandPeg(time, None, target) for time, target, _ in pairs])
    most, go = max(by for *_, by in pairs), "goes" if len(pairs) == 1 else "go"
    said = (
        f"{words.count(len(pairs), 'attack')} of {names[0]} {go} to where {names[1]} plays, by up to "
        f"{1000 * most:.0f} ms."
    )
    return Change(_pegs(state, mover, new), said)


def _phrase(state: SessionState, args: PhraseArgs) -> tuple[str, list[float]]:
    """(the timing take, moments of its onsets that are meant)."""
    timing = state.document.timing_take(args.take)
    pace = state.own_pace(timing)
    if pace is None:
        raise ParameterError("This take has no pulse, so nothing of it is fitted. Nothing was changed.")
    marks = np.asarray(fits.marks_of(state, timing).times)
    if args.from_bar is None or args.to_bar is None:
        meant = [
            float(time) for time in marks if any(abs(time - other) <= EDIT_REACH_S for other in args.times_s)
        ]
    else:
        line, own = state.need_map(), pace.to_quarters(take_times(marks))
        first, last = bar_index(args.from_bar), bar_index(args.to_bar)
        meant = [
            float(time)
            for time, place in zip(marks, own, strict=True)
            if first <= line.bar_of(float(place) + EARLY_Q) <= last
        ]
    if not meant:
        raise ParameterError("There is no onset there. Nothing was changed.")
    return timing, meant


def _joined(state: SessionState, timing: str, made: list[HandPeg]) -> TakePegs:
    """The pegs of a take with new ones in the place of those of the same onsets, and of those that they would
    cross.
    """
    line, pegs = state.need_map(), state.document.pegs.get(timing, TakePegs())
    beats = state.own_pace(timing)

    def goal(one: HandPeg) -> float:
        if one.as_played and beats is not None:
            return state.lies(timing, beats, state.duration_s(timing)).at(one.take_s)
        return line.second(one.quarters) if one.quarters is not None else float(one.session_s or 0.0)

    def holds(other: HandPeg) -> bool:
        return all(
            abs(other.take_s - one.take_s) > EDIT_REACH_S
            and (other.take_s - one.take_s) * (goal(other) - goal(one)) > 0.0
            for one in made
        )

    kept = [other for other in pegs.pegs if holds(other)]
    return TakePegs(
        (*kept, *made),
        tuple(time for time in pegs.rides if all(abs(time - one.take_s) > EDIT_REACH_S for one in made)),
    )


@decision("ride", RideArgs)
def ride(state: SessionState, args: RideArgs) -> Change:
    """Remove pegs: the audio there goes back to riding between its neighbours."""
    timing = state.document.timing_take(args.take)
    pegs = state.document.pegs.get(timing, TakePegs())

    def meant(time: float) -> bool:
        return any(abs(time - other) <= EDIT_REACH_S for other in args.times_s)

    kept = tuple(one for one in pegs.pegs if not meant(one.take_s))
    new = TakePegs(kept, (*(time for time in pegs.rides if not meant(time)), *args.times_s))
    return Change(_pegs(state, timing, new), f"{words.count(len(args.times_s), 'onset')} without a peg now.")


def _pegs(
    state: SessionState, timing: str, pegs: TakePegs, first: RuleChoice | None = None
) -> dict[str, Any]:
    """The take's pegs. The first pull keeps what the sentence proposed, for that is what was seen; whatever
    else holds onsets by hand switches no rule on: all others stay where they are.
    """
    choice = first or as_played_rule()
    stated = {} if timing in state.document.rules else {f"rule:{timing}": forms.rule_part(choice)}
    return {f"pegs:{timing}": forms.pegs_part(pegs), **stated}


@decision("drop", TakeArgs)
def drop(state: SessionState, args: TakeArgs) -> Change:
    """Go back to the source: rule and pegs are gone, the take sounds as it was played."""
    timing = state.document.timing_take(args.take)
    note = f"The fit of {state.document.take(timing).name} was dropped; it sounds as it was played."
    return Change({f"rule:{timing}": None, f"pegs:{timing}": None}, note)


@decision("keep", TakeArgs)
def keep(state: SessionState, args: TakeArgs) -> Change:
    """Make the render a take of its own, for all of a bundle; the source stays, as it was played, and is
    muted.
    """
    made = fits.take_fit(state, args.take)
    together = state.document.bundle_of(args.take)
    entries: list[TakeEntry] = []
    takes: list[NewTake] = []
    jobs: list[Job] = []
    edits: dict[str, Any] = {}
    used = {take.name for take in state.document.takes}
    bundles = {take.bundle for take in state.document.takes if take.bundle}
    bundle = kept_name(together[0].bundle, "fitted", bundles) if together[0].bundle else None
    for mate in together:
        file = render_of(state.folder, state.opened.row.id, fits.key_of(state, made, mate.id), whole=True)
        if file is None:
            raise ParameterError(
                f"{mate.name} is not rendered as it stands now; render it first, then keep it. "
                "Nothing was changed."
            )
        details, take_id = json.loads(file.details), new_id()
        name, first_s = kept_name(mate.name, "fitted", used), details["first_frame"] / details["rate"]
        used.add(name)
        takes.append(NewTake(take_id, f"{name}.wav", file.sha, file.bytes))
        entries.append(
            TakeEntry(take_id, name, mate.kind, "follower", "lead", bundle, first_s, source=mate.id)
        )
        marks_edits, marks = carried.carried(state, mate.id, carried.in_fit(state, made, mate.id, first_s))
        edits[f"onsets:{take_id}"] = forms.edits_part(marks_edits)
        jobs.append(Job("import", take_id, {"take": take_id, **({"marks": marks} if marks else {})}))
    parts: dict[str, Any] = {
        "takes": forms.takes_part((*state.document.takes, *entries)),
        f"rule:{made.take.id}": None,
        f"pegs:{made.take.id}": None,
        **edits,
    }
    kept = made.take.bundle or made.take.name
    note = (
        f"{kept} is kept as {bundle or entries[0].name}, with its marks; the source stays as it was "
        "played, muted."
    )
    return Change(
        parts,
        note,
        jobs=tuple(jobs),
        takes=tuple(takes),
        muted=tuple(mate.id for mate in together),
    )
