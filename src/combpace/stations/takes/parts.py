"""MIDI files that came in: each track with notes is a part; where it lies, how often, what pulls it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from pydantic import Field

from combpace.core.errors import ParameterError, StaleError
from combpace.core.fit.groove import GrooveGrid
from combpace.core.fit.ranges import refuse_other_bars
from combpace.core.fit.rule import HandPeg, Rule
from combpace.core.parts.part import MOST_TIMES, SAME_NOTE_Q
from combpace.core.tempo.meters import bar_index
from combpace.media.midi_parts import read_parts
from combpace.session import notes, words
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import Args, Change, Quarters, TakeId, decision, record
from combpace.session.document import parts as forms
from combpace.session.document.model import MapPart, PartEntry, RuleChoice, TakePegs
from combpace.session.grooves import GrooveLibrary
from combpace.session.state import SessionState, session_state
from combpace.session.take_names import clean_name, unused_name
from combpace.store import rows
from combpace.store.models import new_id

ENDINGS = (".mid", ".midi")
MOST_PARTS, MOST_MEETINGS = 500, 20
# Among the grids on offer: no rule, and a groove of the library.
NO_GRID, GROOVE = "nothing", "groove:"


class PartArgs(Args):
    """field: name, first_bar, start (s), times (a number, or "until" and a bar), keeps ("bar", "time"), grid
    ("nothing", "1/8", "groove:" and an id), swing, strength, accent (%), or lengths ("kept", "until the
    next")."""

    part: TakeId
    field: str = Field(max_length=20)
    value: str = Field(max_length=200)


class OnePartArgs(Args):
    part: TakeId


class NoteArgs(Args):
    """own: where the note is written, quarters from the line of its part's bar 1; quarters: the place of the
    session to which it goes.
    """

    part: TakeId
    own: Quarters
    quarters: Quarters


class NoteReleaseArgs(Args):
    part: TakeId
    own: Quarters | None = None


def is_midi(name: str) -> bool:
    return name.lower().endswith(ENDINGS)


def add_parts(folder: DataFolder, session_id: str, path: Path, name: str) -> list[str]:
    """Keep a MIDI file that was uploaded, and put its parts into the session, as one step. Returns their ids.
    Raises MediaError.
    """
    name = clean_name(name)
    found = read_parts(path, name)
    size = path.stat().st_size
    sha = folder.blobs.adopt(path)
    file = {"session_id": session_id, "kind": "part", "key": sha, "name": name, "sha": sha, "bytes": size}
    rows.add_files(folder.database, [file])
    # What people call it is the file's name; tracks within one are told apart by theirs.
    stem = name.rsplit(".", 1)[0]
    for _ in range(MOST_MEETINGS):
        state = session_state(folder, session_id)
        if len(state.document.notes) + len(found.parts) > MOST_PARTS:
            raise ParameterError(
                f"A session holds {MOST_PARTS} parts and takes no more. Nothing was imported."
            )
        used = state.document.names
        new: tuple[PartEntry, ...] = ()
        for number, part in enumerate(found.parts):
            called = unused_name(stem if len(found.parts) == 1 else part.name, used)
            used.add(called)
            new = (*new, PartEntry(new_id(), called, sha, number))
        said = " ".join([f"{stem} came in: {words.count(len(new), 'part')}.", *found.said])
        change = Change({"notes": forms.notes_part((*state.document.notes, *new))}, said)
        try:
            record(state, state.opened.revision.version, change)
            return [entry.id for entry in new]
        except StaleError:
            # Something else came in the same moment: both stay.
            continue
    raise ParameterError(
        f"{stem} could not be put into the session: it is changed all the time. Nothing was "
        "imported; drop it again."
    )


@decision("part", PartArgs)
def part(state: SessionState, args: PartArgs) -> Change:
    """Change one thing about a part: name, the bar on which it begins, how often, what it keeps, what pulls
    its notes.
    """
    entry, value = state.document.part(args.part), args.value.strip()
    gesture = f"part:{args.part}:{args.field}"
    if args.field in ("grid", "swing", "strength"):
        rule = _rule(state, entry, args.field, value)
        pulled = (
            "stay where they are written"
            if rule is None
            else f"go to the nearest {rule.places} with {rule.strength:g} % strength"
        )
        return Change(
            {f"rule:{entry.id}": None if rule is None else forms.rule_part(RuleChoice((rule,)))},
            f"Notes of {entry.name} {pulled}.",
            gesture,
        )
    new, note = _changed(state, entry, args.field, value)
    return Change(
        {"notes": forms.notes_part(tuple(new if one.id == new.id else one for one in state.document.notes))},
        note,
        gesture,
    )


def _changed(state: SessionState, entry: PartEntry, field: str, value: str) -> tuple[PartEntry, str]:
    name = entry.name
    match field:
        case "name":
            return replace(entry, name=clean_name(value)), f"{name} is now called {clean_name(value)}."
        case "first_bar":
            bar = notes.checked_bar(value)
            if entry.until_bar is not None and bar_index(entry.until_bar) <= bar_index(bar):
                raise ParameterError(
                    f"{name} ends at bar {entry.until_bar}, so it cannot begin on bar {bar}. "
                    "Nothing was changed."
                )
            return replace(entry, first_bar=bar), f"Bar 1 of {name} lies on bar {bar}."
        case "start":
            return replace(
                entry, offset_s=words.read_clock(value), keeps="time"
            ), f"{name} begins at {value} and keeps its time."
        case "times":
            clean = value.lower().removesuffix("times").strip()
            if clean.startswith("until"):
                bar = notes.checked_bar(clean.removeprefix("until").replace("bar", "").strip())
                if bar_index(bar) <= bar_index(entry.first_bar):
                    raise ParameterError(
                        f"{name} begins on bar {entry.first_bar}, so it cannot end at bar {bar}. "
                        "Nothing was changed."
                    )
                return replace(entry, until_bar=bar), f"{name} goes on until bar {bar}."
            times = int(words.read_number(clean, "The number of times", 1, MOST_TIMES))
            return replace(
                entry, times=times, until_bar=None
            ), f"{name} is heard {'once' if times == 1 else f'{times} times'}."
        case "keeps":
            if value not in ("bar", "time"):
                raise ParameterError("A part keeps its bar or its time. Nothing was changed.")
            line = state.session_map()
            # What was heard stays where it is until the map changes.
            at = line.second(line.bar_line(bar_index(entry.first_bar))) if line is not None else 0.0
            return replace(
                entry, keeps=value, offset_s=at if value == "time" else entry.offset_s
            ), f"{name} keeps its {value} where the map changes."
        case "accent":
            return replace(
                entry, accent=words.read_number(value, "Accent", 0, 100) / 100
            ), f"{name} takes {value} % of the groove's accents."
        case "lengths":
            if value not in ("kept", "until the next"):
                raise ParameterError("Lengths are kept, or go until the next note. Nothing was changed.")
            return (
                replace(entry, lengths=value),
                f"Notes of {name} "
                f"{'keep their lengths' if value == 'kept' else 'end where the next one begins'}.",
            )
    raise ParameterError(f"A part has no “{field}”. Nothing was changed.")


def _rule(state: SessionState, entry: PartEntry, field: str, value: str) -> Rule | None:
    known = state.document.rules.get(entry.id)
    now = known.rule if known else Rule()
    if field == "grid" and value in ("", NO_GRID):
        return None
    if field != "grid" or not value.startswith(GROOVE):
        with words.unchanged():
            return now.said({field: value})
    groove = GrooveLibrary(state.folder).get(value.removeprefix(GROOVE))
    line, first = state.need_map(), bar_index(entry.first_bar)
    made, begin = now.on(GrooveGrid(groove, first)), line.bar_line(first)
    with words.unchanged():
        refuse_other_bars((made,), line, begin, begin + max(0.0, notes.part_of(state, entry).end - 1e-6))
    return made


@decision("note-pull", NoteArgs)
def note_pull(state: SessionState, args: NoteArgs) -> Change:
    """Pull what starts together in a part to a place by hand; it stays there whatever the rule says, and goes
    along with the part.
    """
    entry, line = state.document.part(args.part), state.need_map()
    if entry.keeps == "time" or notes.part_of(state, entry).in_seconds:
        raise ParameterError(
            f"{entry.name} keeps its time, so its notes are not pulled. Nothing was changed."
        )
    there = [note for note in notes.heard(state, entry.id) if abs(note.own_q - args.own) <= SAME_NOTE_Q]
    if not there:
        raise ParameterError(f"No note of {entry.name} is written there. Nothing was changed.")
    origin = line.bar_line(bar_index(entry.first_bar))
    by_ms = 1000 * (line.second(args.quarters) - there[0].start_s)
    pegs = [
        peg
        for peg in state.document.pegs.get(entry.id, TakePegs()).pegs
        if abs(peg.take_s - args.own) > SAME_NOTE_Q
    ]
    made = TakePegs((*pegs, HandPeg(args.own, quarters=args.quarters - origin)))
    what = words.count(len(there), "note")
    goes = "goes" if len(there) == 1 else "go"
    note = (
        f"{what} of {entry.name} {goes} to {words.place(line, args.quarters)}, {words.signed_ms(by_ms)} "
        "ms from where it sounded."
    )
    return Change({f"pegs:{entry.id}": forms.pegs_part(made)}, note)


@decision("note-release", NoteReleaseArgs)
def note_release(state: SessionState, args: NoteReleaseArgs) -> Change:
    """Give a note back to the rule, or to where it is written; without a place all notes of the part."""
    entry = state.document.part(args.part)
    pegs = state.document.pegs.get(entry.id, TakePegs()).pegs
    left = tuple(peg for peg in pegs if args.own is not None and abs(peg.take_s - args.own) > SAME_NOTE_Q)
    if len(left) == len(pegs):
        raise ParameterError(f"Nothing of {entry.name} is pulled by hand there. Nothing was changed.")
    note = f"{words.count(len(pegs) - len(left), 'place')} of {entry.name} no longer pulled by hand."
    return Change({f"pegs:{entry.id}": forms.pegs_part(TakePegs(left)) if left else None}, note)


@decision("part-remove", OnePartArgs)
def part_remove(state: SessionState, args: OnePartArgs) -> Change:
    """Take a part out of the session; undo brings it back."""
    gone = state.document.part(args.part)
    left = tuple(one for one in state.document.notes if one.id != gone.id)
    return Change(
        {"notes": forms.notes_part(left), f"rule:{gone.id}": None, f"pegs:{gone.id}": None},
        f"{gone.name} was removed.",
    )


@decision("part-map", OnePartArgs)
def part_map(state: SessionState, args: OnePartArgs) -> Change:
    """Take the tempo map of a part's file as the session's map."""
    entry = state.document.part(args.part)
    line = notes.file_parts(state, entry).line
    if line is None:
        raise ParameterError(
            f"The file of {entry.name} counts in frames and has no tempo map. Nothing was changed."
        )
    made = MapPart(kind="given", given=forms.pace_part(line), limit_ms=state.document.map.limit_ms)  # type: ignore[arg-type]
    return Change({"map": forms.map_part(made)}, f"The session's map is that of the file of {entry.name}.")


def part_lines(state: SessionState) -> list[dict[str, Any]]:
    """The ledger: a line a part."""
    library = GrooveLibrary(state.folder).all() if state.document.notes else []
    lines = []
    for entry in state.document.notes:
        facts: dict[str, Any] = {**notes.facts(state, entry)}
        facts["often"] = (
            f"until {facts['until_bar']}" if facts["until_bar"] is not None else f"{facts['times']}"
        )
        facts["start"] = words.clock(entry.offset_s)
        own = (
            [(str(facts["grid"]), str(facts["grid"]))]
            if facts["grid"] not in (None, "1/4", "1/8", "1/8t", "1/16", "1/16t", "1/32")
            else []
        )
        facts["grids"] = [
            (NO_GRID, "nothing"), *((grid, grid) for grid in ("1/4", "1/8", "1/8t", "1/16", "1/16t",
            "1/32")), *own,
            *((f"{GROOVE}{one.id}", f"groove: {one.groove.name}") for one in library),
        ]  # fmt: skip
        del facts["notes"]
        lines.append(facts)
    return lines
