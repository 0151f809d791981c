"""What is decided about a take as a whole: what it is, where it starts, what it belongs to, whether it
stays.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from pydantic import Field

from combpace.core.errors import MapConflictError, ParameterError
from combpace.core.tempo.meters import bar_index
from combpace.session import fits, words
from combpace.session.decisions import Args, Change, Job, TakeArgs, TakeId, decision
from combpace.session.document import parts as forms
from combpace.session.document.model import KINDS, MOST_TIMES, TakeEntry
from combpace.session.document.stated import LevelStatement, ReadingStatement, later
from combpace.session.map_changes import solved_map
from combpace.session.saying import settled, shifted, with_list
from combpace.session.state import SessionState
from combpace.session.take_names import clean_name
from combpace.stations.takes.bundles import refusal_key


class TakeFieldArgs(Args):
    """field: name, kind, pace, bundle, first_bar, times (a number, or "until" and a bar), tempi ("70 to
    120"), start, keeps or role.
    """

    take: TakeId
    field: str = Field(max_length=20)
    value: str = Field(max_length=200)


class BundleArgs(Args):
    takes: list[TakeId] = Field(max_length=64)
    name: str = Field(default="", max_length=60)


@decision("take", TakeFieldArgs)
def take(state: SessionState, args: TakeFieldArgs) -> Change:
    """Change one thing about a take: name, kind, role, pace, bundle, first bar, start, or what it keeps where
    the map changes.
    """
    if args.field not in FIELDS:
        raise ParameterError(f"A take has no “{args.field}”. Nothing was changed.")
    parts, note = FIELDS[args.field](state, state.document.take(args.take), args.value)
    return Change(parts, note, f"take:{args.take}:{args.field}")


def _one(state: SessionState, changed: TakeEntry) -> dict[str, Any]:
    everything = (*state.document.takes, *state.document.arrivals)
    return {
        "takes": forms.takes_part(tuple(changed if other.id == changed.id else other for other in everything))
    }


def _no_arrivals(state: SessionState, chosen: list[TakeEntry]) -> None:
    """Raises ParameterError where one of them was not kept yet."""
    for entry in chosen:
        if entry in state.document.arrivals:
            raise ParameterError(f"{entry.name} is an arrival: keep it first. Nothing was changed.")


def _name(state: SessionState, entry: TakeEntry, value: str) -> tuple[dict[str, Any], str]:
    return _one(
        state, replace(entry, name=clean_name(value))
    ), f"{entry.name} is now called {clean_name(value)}."


def _kind(state: SessionState, entry: TakeEntry, value: str) -> tuple[dict[str, Any], str]:
    if value not in KINDS:
        raise ParameterError(f"A take is one of {', '.join(KINDS)}. Nothing was changed.")
    return _one(state, replace(entry, kind=value)), f"{entry.name} is {value}."


def _pace(state: SessionState, entry: TakeEntry, value: str) -> tuple[dict[str, Any], str]:
    if value not in ("own", "lead"):
        raise ParameterError("A take has its own pace or the lead's. Nothing was changed.")
    note = (
        f"{entry.name} has its own pace."
        if value == "own"
        else f"{entry.name} was played to the lead and shares its pace."
    )
    return _one(state, replace(entry, pace=value)), note


def _bundle(state: SessionState, entry: TakeEntry, value: str) -> tuple[dict[str, Any], str]:
    _no_arrivals(state, [entry])
    name = value.strip()[:60] or None
    note = f"{entry.name} belongs to the bundle {name}." if name else f"{entry.name} stands alone."
    return _one(state, replace(entry, bundle=name)), note


def _first_bar(state: SessionState, entry: TakeEntry, value: str) -> tuple[dict[str, Any], str]:
    number = words.read_number(value, "The bar", -1000, 100000)
    if number != round(number):
        raise ParameterError(f"A take begins on a whole bar, not on {value.strip()}. Nothing was changed.")
    bar_index(round(number))
    return _one(
        state, replace(entry, first_bar=round(number))
    ), f"Bar 1 of {entry.name} lies on bar {round(number)}."


def _times(state: SessionState, entry: TakeEntry, value: str) -> tuple[dict[str, Any], str]:
    """ "4", "4 times" or "until 37"."""
    if not fits.can_come_round(state, entry):
        raise ParameterError(
            f"{entry.name} is no loop of whole bars that follows at its own pace, so it is heard "
            "once; say how many bars it has. Nothing was changed."
        )
    clean = value.lower().removesuffix("times").removesuffix("time").strip()
    if clean.startswith("until"):
        bar = round(
            words.read_number(
                clean.removeprefix("until").replace("bar", "").strip(), "The bar", -1000, 100000
            )
        )
        if bar == 0 or bar_index(bar) <= bar_index(entry.first_bar):
            raise ParameterError(
                f"{entry.name} begins on bar {entry.first_bar}, so it cannot end at bar {bar}. "
                "Nothing was changed."
            )
        return _one(state, replace(entry, until_bar=bar, times=1)), f"{entry.name} goes on until bar {bar}."
    times = words.read_number(clean, "The number of times", 1, MOST_TIMES)
    if times != round(times):
        raise ParameterError(
            "A loop is heard a whole number of times; until 37 ends it at the line of bar 37. "
            "Nothing was changed."
        )
    said = "once" if times == 1 else f"{times:g} times"
    return _one(state, replace(entry, times=round(times), until_bar=None)), f"{entry.name} is heard {said}."


def _start(state: SessionState, entry: TakeEntry, value: str) -> tuple[dict[str, Any], str]:
    start = words.read_clock(value)
    if abs(start) > 24 * 3600:
        raise ParameterError("A take starts within a day of the session's zero. Nothing was changed.")
    if entry.role != "lead" and entry.pace == "own" and state.own_pace(entry.id) is not None:
        raise ParameterError(
            f"{entry.name} follows the session at its own pace, so its start is the line of its "
            f"first bar, bar {entry.first_bar} now. "
            "Nothing was changed; choose another first bar, or let it share the lead's pace."
        )
    together = {other.id for other in state.document.bundle_of(entry.id)}
    takes = tuple(
        replace(other, offset_s=start) if other.id in together else other for other in state.document.takes
    )
    parts: dict[str, Any] = {"takes": forms.takes_part(takes)}
    moved = start - entry.offset_s
    lead = state.document.lead
    if (
        lead is not None
        and lead.id in together
        and state.map_choice().kind == "own"
        and state.document.map.statements
    ):
        # The lines of a breathing map are the lead's own: what was stated of them goes along.
        parts["map"] = forms.map_part(shifted(state.document.map, moved))
    return (
        parts,
        f"{entry.name} starts at {words.clock(start)}; it moved by {words.signed_ms(1000 * moved)} ms.",
    )


def _role(state: SessionState, entry: TakeEntry, value: str) -> tuple[dict[str, Any], str]:
    if value != "lead":
        raise ParameterError(
            "A session needs a lead: choose another take as the lead instead. Nothing was changed."
        )
    _no_arrivals(state, [entry])
    takes = tuple(
        replace(other, role="lead", pace="lead") if other.id == entry.id else replace(other, role="follower")
        for other in state.document.takes
    )
    note = f"The tempo map is read from {entry.name}."
    parts: dict[str, Any] = {"takes": forms.takes_part(takes)}
    before, chosen = state.document.lead, state.document.map
    # How a take is read, and what is stated of its own bars, stays with it.
    read = [one for one in chosen.statements if isinstance(one, ReadingStatement | LevelStatement)]
    own = [later(one, entry.offset_s) for one in state.document.said.get(entry.id, ())]
    if before is not None and before.id != entry.id:
        kept = [later(one, -before.offset_s).model_copy(update={"knotted": False}) for one in read]
        parts |= {f"said:{before.id}": forms.said_part(kept) or None, f"said:{entry.id}": None}
        stays = [one for one in chosen.statements if one not in read]
        chosen = with_list(chosen, [*stays, *own])
    if chosen.statements or read:
        chosen = settled(chosen, False) if state.map_choice().kind == "own" else chosen
        parts["map"] = forms.map_part(chosen)
        try:
            solved_map(state, parts)
        except MapConflictError as error:
            raise MapConflictError(
                f"{entry.name} cannot lead with what was stated of the map: {error}"
            ) from error
        except ParameterError:
            # It is not listened to yet.
            pass
    return parts, note


def _keeps(state: SessionState, entry: TakeEntry, value: str) -> tuple[dict[str, Any], str]:
    if value not in ("", "time", "bar"):
        raise ParameterError("Where the map changes a take keeps its time or its bar. Nothing was changed.")
    if entry.role == "lead" and value == "bar" and state.map_choice().kind == "own":
        raise ParameterError(
            f"The map is {entry.name}'s own pace: its bars lie on it anyway. Nothing was changed."
        )
    if value == "time" and fits.is_fitted(state, entry.id) and entry.id in state.document.rules:
        raise ParameterError(
            f"{entry.name} is fitted, so it keeps its bar; drop its fit first. Nothing was changed."
        )
    kept = value or ("bar" if fits.is_fitted(state, entry.id) else "time")
    together = {other.id for other in state.document.bundle_of(entry.id)}
    takes = tuple(
        replace(other, keeps=value) if other.id in together else other for other in state.document.takes
    )
    return {"takes": forms.takes_part(takes)}, f"Where the map changes, {entry.name} keeps its {kept}."


def _tempi(state: SessionState, entry: TakeEntry, value: str) -> tuple[dict[str, Any], str]:
    """ "70 to 120"; one of them alone waits for the other; nothing takes both back."""
    if state.own_pace(entry.id) is not None:
        raise ParameterError(
            f"{entry.name} has a pulse, so it follows the map by that; its own tempo is corrected "
            "beside it. Nothing was changed."
        )
    clean = value.strip()
    if clean in ("", "to"):
        return _one(
            state, replace(entry, from_bpm=None, to_bpm=None)
        ), f"{entry.name} sounds as it was played."
    before, _, after = (text.strip() for text in clean.partition("to"))
    own = words.read_number(before, "The tempo that it has", 5, 1000) if before else None
    wanted = words.read_number(after, "The tempo that it gets", 5, 1000) if after else None
    if own is not None and wanted is not None and not LEAST_STRETCH <= own / wanted <= MOST_STRETCH:
        raise ParameterError(
            f"From {own:g} to {wanted:g} BPM is more than a stretch can do; stay within a factor of "
            f"{MOST_STRETCH:g}. Nothing was changed."
        )
    changed = replace(entry, from_bpm=own, to_bpm=wanted)
    if changed.two_tempi is None:
        return _one(state, changed), f"{entry.name} is stretched when both tempi are there."
    long = words.clock(state.duration_s(entry.id) * changed.two_tempi)
    return _one(state, changed), f"{entry.name} goes from {own:g} to {wanted:g} BPM: it is {long} long."


# A take of which no pulse is known is drawn out by no more than this, either way.
LEAST_STRETCH, MOST_STRETCH = 0.1, 10.0

FIELDS: dict[str, Callable[[SessionState, TakeEntry, str], tuple[dict[str, Any], str]]] = {
    "name": _name, "kind": _kind, "pace": _pace, "bundle": _bundle, "first_bar": _first_bar,
    "start": _start, "role": _role, "keeps": _keeps,
    "times": _times, "tempi": _tempi,
}  # fmt: skip


@decision("take-remove", TakeArgs)
def take_remove(state: SessionState, args: TakeArgs) -> Change:
    """Take a take out of the session; undo brings it back. The next one becomes the lead where it was the
    lead.
    """
    gone = state.document.take(args.take)
    if gone in state.document.arrivals:
        return Change(
            {"takes": forms.takes_part(state.document.takes)},
            f"{gone.name} was dropped; undo brings it back.",
            dropped=(gone.id,),
        )
    left = tuple(entry for entry in state.document.takes if entry.id != args.take)
    if gone.role == "lead" and left:
        left = (replace(left[0], role="lead", pace="lead"), *left[1:])
    return Change({"takes": forms.takes_part(left)}, f"{gone.name} was removed.")


@decision("bundle", BundleArgs)
def bundle(state: SessionState, args: BundleArgs) -> Change:
    """Put takes that were recorded together into one bundle with a common start; from then on they are heard
    as one performance.
    """
    chosen = [state.document.take(take_id) for take_id in args.takes]
    if len(chosen) < 2:
        raise ParameterError("A bundle needs at least two takes. Nothing was changed.")
    _no_arrivals(state, chosen)
    start, name = chosen[0].offset_s, args.name.strip()[:60] or "bundle"
    ids = {entry.id for entry in chosen}
    takes = tuple(
        replace(entry, bundle=name, offset_s=start) if entry.id in ids else entry
        for entry in state.document.takes
    )
    note = f"{words.count(len(chosen), 'take')} share one timing as the bundle {name}."
    # Until that is done, what each was heard to be stays.
    listening = Job("import", args.takes[0], {"take": args.takes[0], "together": args.takes})
    return Change({"takes": forms.takes_part(takes)}, note, jobs=(listening,))


class RefuseArgs(Args):
    takes: list[TakeId] = Field(min_length=2, max_length=64)


@decision("bundle-refuse", RefuseArgs)
def bundle_refuse(state: SessionState, args: RefuseArgs) -> Change:
    """These takes were played apart: they are not proposed as a bundle again."""
    names = [state.document.take(take_id).name for take_id in args.takes]
    refused = (*state.document.refused, refusal_key(args.takes))
    return Change(
        {"refused": list(refused)},
        f"{' and '.join(names)} were played apart; they are not proposed as one bundle again.",
    )
