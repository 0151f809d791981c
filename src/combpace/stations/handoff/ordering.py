"""What a hand-off is to be: the fields of its sentence, what they come to before anything is made, and the
order for it.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, Field

from combpace.core.errors import ParameterError
from combpace.core.fit.pauses import parse_pauses
from combpace.core.tempo.meters import bar_index, bar_number
from combpace.jobs.queue import enqueue
from combpace.media.cues import points_bytes
from combpace.media.encode import FORMATS, sound_bytes
from combpace.media.names import file_name
from combpace.playback import mixing
from combpace.session import fits, notes, pieces, shelf, words
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import TakeId
from combpace.session.state import SessionState, session_state
from combpace.stations.handoff.writers import WRITERS, offered
from combpace.store.models import WANTED, TakeRow

RATES_HZ = (32_000, 44_100, 48_000, 88_200, 96_000, 176_400, 192_000)
MOST_BARS = 10_000
# Of a take that is listened to again meanwhile.
PINNED = ("state", "decoded_sha", "analysis_sha", "frames", "sample_rate_hz", "channels")


class Wish(BaseModel):
    """The sentence of Hand-off.

    takes     ids of takes and parts: exactly those are written
    left_out, put_in  what the user decided otherwise than `ticked`; kept with the settings of the last
                      hand-off.
              An order that names `left_out` and no takes writes what is ticked without them
    kind      one of media.encode.FORMATS
    start     where files begin: "lead-in" (with everything before bar 1), or "bar 1", "bar 5", ...
    bars      exactly so many bars long; None: to the end of the music
    rate      frames a second; None: the session's
    levels    "as played", or "as mixed": level and pan of the player, two channels each
    written   "files": each take as a file; "mix": all of them as one; "files and mix"
    extras    what lies beside them: names of writers
    silence   dB below the peak and least length in ms, "50,80"; None leaves pauses as they are
    markers   a marker at every bar, in the tempo map and in WAV files
    """

    takes: list[TakeId] = Field(default_factory=list, max_length=256)
    left_out: list[TakeId] | None = Field(default=None, max_length=256)
    put_in: list[TakeId] | None = Field(default=None, max_length=256)
    kind: str = Field(default="wav24", max_length=10)
    start: str = Field(default="bar 1", max_length=20)
    bars: Annotated[int, Field(ge=1, le=MOST_BARS)] | None = None
    rate: int | None = None
    levels: Literal["as played", "as mixed"] = "as played"
    written: Literal["files", "mix", "files and mix"] = "files"
    extras: list[str] = Field(default_factory=list, max_length=20)
    silence: str | None = Field(default=None, max_length=40)
    markers: bool = False


@dataclass(frozen=True, slots=True)
class Span:
    """From which moment of the session on, and how long, the files of a hand-off are."""

    start_s: float
    length_s: float
    frames: int
    sample_rate_hz: int


@dataclass(frozen=True, slots=True)
class Announced:
    """One file that will be written. bytes: its size, or None where that depends on its content."""

    name: str
    what: str
    state: str
    level: str
    channels: int | None
    bytes: int | None


def checked(seen: SessionState, wish: Wish) -> None:
    """Raises ParameterError, in a sentence, for what cannot be handed off."""
    if wish.kind not in FORMATS:
        raise ParameterError(f"“{wish.kind}” is not a format; choose WAV 16, 24, 32 float or FLAC.")
    if wish.rate is not None and wish.rate not in RATES_HZ:
        raise ParameterError(
            f"Files have {', '.join(f'{rate / 1000:g}' for rate in RATES_HZ)} kHz or the session's "
            f"rate, not {wish.rate} Hz."
        )
    unknown = [extra for extra in wish.extras if extra not in WRITERS]
    if unknown:
        raise ParameterError(f"There is no “{unknown[0]}” to hand off.")
    if not wish.takes and not wish.extras:
        raise ParameterError("Nothing is chosen to hand off.")
    line = seen.need_map()
    number = start_bar(wish)
    if number is None:
        if wish.bars is not None:
            raise ParameterError("Exactly so many bars begin at a bar, not with the lead-in. Choose the bar.")
    else:
        first, last = line.bar_of(line.place(min(0.0, seen.end_s()))), line.bar_of(line.place(seen.end_s()))
        if not first <= bar_index(number) <= last:
            start = f"bar {bar_number(first)}" if first >= 0 else "the lead-in"
            raise ParameterError(
                f"Bar {number} lies outside the music, which goes from {start} to bar {bar_number(last)}."
            )
    parts = {part.id for part in seen.document.notes}
    for take_id in wish.takes:
        if take_id in parts:
            continue
        name, row = seen.document.take(take_id).name, seen.rows.get(take_id)
        if row is not None and row.state == WANTED:
            raise ParameterError(f"The sound of {name} is not here. Drop its file in Takes, or leave it out.")
        if row is None or not there(row):
            raise ParameterError(f"{name} is still being read, or could not be. Leave it out, or wait.")
    if wish.silence is not None:
        parse_pauses(wish.silence)


def there(row: TakeRow) -> bool:
    """Whether a take can be handed off."""
    return bool(row.frames) and row.state in ("ready", "listening")


def start_bar(wish: Wish) -> int | None:
    """The bar at whose line files begin; None: with the lead-in. Raises ParameterError."""
    if wish.start == "lead-in":
        return None
    found = re.fullmatch(r"bar\s*([-−]?\d{1,6})", wish.start.strip())
    if found is None:
        raise ParameterError("Files start at a bar, “bar 1”, or with the “lead-in”.")
    number = int(found[1].replace("−", "-"))
    bar_index(number)
    return number


def plans_of(seen: SessionState, wish: Wish) -> list[dict[str, Any]]:
    """How each chosen take and part sounds at this moment, as it is kept in the order."""
    plans = []
    parts = {part.id: part for part in seen.document.notes}
    strips = mixing.strips_of(seen)
    for take_id in wish.takes:
        strip = strips.get(take_id, mixing.Strip())
        plan: dict[str, Any] = {
            "take": take_id,
            "offset_s": 0.0,
            "fit": None,
            "strip": [strip.level_db, strip.pan],
        }
        plans.append(plan)
        if take_id in parts:
            plan |= {"name": parts[take_id].name, "part": True, "state": "part"}
            continue
        entry = seen.document.take(take_id)
        plan |= {"name": entry.name, "offset_s": entry.offset_s, "state": "as played"}
        if pieces.in_pieces(seen, take_id):
            plan |= {"pieces": True, "state": "in pieces"}
        if fits.is_fitted(seen, take_id):
            made = fits.take_fit(seen, take_id)
            time_map = made.fit.time_map
            follows = entry.role != "lead" and entry.pace == "own" and seen.own_pace(take_id) is not None
            if not plan.get("pieces"):
                plan["state"] = "following" if follows else "fitted"
            plan["fit"] = {
                "source_s": list(map(float, time_map.source_s)),
                "target_s": list(map(float, time_map.target_s)),
                "method": made.method,
            }
            plan["fit"]["levels"] = [list(one) for one in made.levels]
            if wish.silence is not None and not plan.get("pieces"):
                plan["attacks_s"] = [
                    float(time) for time in time_map.to_target(np.asarray(seen.onsets(take_id).times))
                ]
        elif entry.source is not None and wish.silence is not None and not plan.get("pieces"):
            # Kept as it was fitted: its pauses are those of a fitted take.
            plan["attacks_s"] = [float(time) + entry.offset_s for time in seen.onsets(take_id).times]
    return plans


def span_of(seen: SessionState, wish: Wish, plans: list[dict[str, Any]]) -> Span:
    """Where all files begin and end."""
    line, rate, number = seen.need_map(), rate_of(seen, wish, plans), start_bar(wish)
    # The map counts from the bar's line itself, which lies within half a frame of the first one.
    start_s = (
        min([0.0, *(_starts_s(plan) for plan in plans)])
        if number is None
        else line.second(line.bar_line(bar_index(number)))
    )
    if number is not None and wish.bars is not None:
        end_s = line.second(line.bar_line(bar_index(number) + wish.bars))
    else:
        end_s = max([seen.end_s(), *(_ends_s(plan, seen) for plan in plans)])
    frames = max(1, round(end_s * rate) - round(start_s * rate))
    return Span(start_s, end_s - start_s, frames, rate)


def rate_of(seen: SessionState, wish: Wish, plans: list[dict[str, Any]]) -> int:
    """The chosen rate, or the session's: that of its first take."""
    takes = [take.id for take in seen.document.takes] + [
        plan["take"] for plan in plans if not plan.get("part")
    ]
    rates = [rate for take in takes if take in seen.rows and (rate := seen.rows[take].sample_rate_hz)]
    return wish.rate or next(iter(rates), 48_000)


def _starts_s(plan: dict[str, Any]) -> float:
    return float(plan["fit"]["target_s"][0]) if plan["fit"] else float(plan["offset_s"])


def _ends_s(plan: dict[str, Any], seen: SessionState) -> float:
    if plan.get("part"):
        return max((note.end_s for note in notes.heard(seen, plan["take"])), default=0.0)
    if plan.get("pieces"):
        rate = seen.rows[plan["take"]].sample_rate_hz or 48_000
        return max(one.at + one.frames for one in pieces.laid(seen, plan["take"])) / rate
    return (
        float(plan["fit"]["target_s"][-1])
        if plan["fit"]
        else plan["offset_s"] + seen.duration_s(plan["take"])
    )


def stem_of(seen: SessionState, wish: Wish) -> str:
    """What every file's name begins with: session, tempo, and bars where only some are written."""
    line = seen.need_map()
    beat = line.meters[0].beat_quarters
    if seen.one_tempo is not None:
        tempo = f"{line.bpm_at(0.0) / beat:.2f}".rstrip("0").rstrip(".")
    else:
        tempo = words.bpm_range(line, max(0.0, line.second(0.0)), seen.end_s()).replace("–", "-")
    number, bars = start_bar(wish), ""
    if number is not None and wish.bars is not None:
        bars = f" bars {number} to {bar_number(bar_index(number) + wish.bars - 1)}"
    elif number not in (None, 1):
        bars = f" from bar {number}"
    return f"{seen.opened.row.name} {tempo} BPM{bars}"


def bar_frames(seen: SessionState, span: Span) -> list[tuple[int, str]]:
    """The frame of each bar line within a span, from its start on, and the bar's name."""
    line, found = seen.need_map(), []
    index = line.bar_of(line.place(span.start_s))
    first = round(span.start_s * span.sample_rate_hz)
    while (frame := round(line.second(line.bar_line(index)) * span.sample_rate_hz) - first) < span.frames:
        if frame >= 0:
            found.append((frame, f"bar {bar_number(index)}"))
        index += 1
    return found


class Names:
    """The names of one hand-off's files, each once."""

    def __init__(self, stem: str, kind: str) -> None:
        self._stem, self._suffix, self._taken = stem, FORMATS[kind][2], set[str]()

    def of_take(self, plan: dict[str, Any]) -> str:
        said = plan["state"] in ("as played", "part") or plan["name"].endswith(f" {plan['state']}")
        how = "" if said else f" {plan['state']}"
        return file_name(f"{self._stem} - {plan['name']}{how}", self._suffix, self._taken)

    def of_mix(self) -> str:
        return file_name(f"{self._stem} - mix", self._suffix, self._taken)

    def beside(self, title: str, ending: str) -> str:
        return file_name(f"{self._stem} {title}".rstrip(), ending, self._taken)


def mixed_ones(seen: SessionState, plans: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Those of the chosen takes and parts that sound in the mix."""
    heard = set(mixing.heard_of(seen, [plan["take"] for plan in plans]))
    return [plan for plan in plans if plan["take"] in heard]


def extras_of(seen: SessionState, wish: Wish) -> list[str]:
    """The chosen writers, in their order, as far as the session has what they write of."""
    some = any(pieces.in_pieces(seen, take.id) for take in seen.document.takes)
    return [one.name for one in offered(bool(seen.document.notes), some) if one.name in wish.extras]


def _announced(
    seen: SessionState, wish: Wish, plans: list[dict[str, Any]], span: Span, names: Names
) -> list[Announced]:
    """Every file that an order would write, in order."""
    files: list[Announced] = []
    as_mixed, strips = wish.levels == "as mixed", mixing.strips_of(seen)
    points = points_bytes(bar_frames(seen, span)) if wish.markers and FORMATS[wish.kind][0] == "WAV" else 0

    def sound(name: str, what: str, state: str, level: str, channels: int) -> None:
        size = sound_bytes(wish.kind, span.frames, channels, span.sample_rate_hz)
        files.append(
            Announced(
                name,
                what,
                state,
                level,
                channels,
                None if size is None else size + (points if channels else 0),
            )
        )

    for plan in plans if wish.written != "mix" else ():
        own = 1 if plan.get("part") else seen.rows[plan["take"]].channels or 1
        level = strips.get(plan["take"], mixing.Strip()).says if as_mixed else "as played"
        sound(
            names.of_take(plan),
            "part" if plan.get("part") else "take",
            plan["state"],
            level,
            2 if as_mixed else own,
        )
    if wish.written != "files" and plans:
        heard = mixed_ones(seen, plans)
        silent = len(plans) - len(heard)
        of = f"{len(heard)} of {len(plans)}, {silent} muted" if silent else words.count(len(heard), "take")
        sound(names.of_mix(), "mix", of, "as mixed", 2)
    for name in extras_of(seen, wish):
        one = WRITERS[name]
        size = sound_bytes(wish.kind, span.frames, 1, span.sample_rate_hz) if name == "click" else None
        files.append(
            Announced(
                names.beside(one.title, one.ending(wish.kind)),
                one.words,
                "",
                "",
                1 if name == "click" else None,
                size,
            )
        )
    return files


def announced(seen: SessionState, wish: Wish) -> dict[str, Any]:
    """What an order would write, before anything is made: {files, stem, archive, start, start_s, length_s,
    frames, rate_hz, bytes, exact, says}.

    files   {name, what, state, level, channels, bytes} each; bytes of FLAC and of what lies beside are not
            known before
    Raises  ParameterError
    """
    checked(seen, wish)
    plans = plans_of(seen, wish)
    span, names = span_of(seen, wish, plans), Names(stem_of(seen, wish), wish.kind)
    files = _announced(seen, wish, plans, span, names)
    sizes = [file.bytes for file in files if file.bytes is not None]
    says = []
    if wish.markers and FORMATS[wish.kind][0] != "WAV":
        says.append("FLAC files carry no markers; the tempo map has them.")
    number = start_bar(wish)
    start = "with the lead-in" if number is None else f"at bar {number}"
    return {
        "files": [asdict(one) for one in files],
        "stem": file_name(stem_of(seen, wish), ""),
        "archive": names.beside("", ".zip"),
        "start": f"{start}, {words.first_line(span.start_s).removeprefix('at ')} of the session",
        "start_s": span.start_s,
        "length_s": round(span.frames / span.sample_rate_hz, 6),
        "frames": span.frames,
        "rate_hz": span.sample_rate_hz,
        "bytes": sum(sizes),
        "exact": len(sizes) == len(files),
        "says": says,
    }


def order(folder: DataFolder, session_id: str, wish: Wish) -> str:
    """Queue a hand-off; its settings are what the page proposes next time. Returns the job's id. Raises
    ParameterError.
    """
    seen = session_state(folder, session_id)
    usual = ticked(seen)
    if wish.left_out is not None and "takes" not in wish.model_fields_set:
        wish = wish.model_copy(update={"takes": [one for one in usual if one not in wish.left_out]})
    wish = wish.model_copy(
        update={
            "left_out": [one for one in usual if one not in wish.takes],
            "put_in": [one for one in wish.takes if one not in usual],
        }
    )
    args = order_args(seen, wish)
    shelf.keep_beside(folder, session_id, "handoff", wish.model_dump(mode="json"))
    return enqueue(folder, session_id, "handoff", session_id, args)


def order_args(seen: SessionState, wish: Wish) -> dict[str, Any]:
    """Everything that the job needs: what is written is what was ordered, whatever is decided while it
    waits.
    """
    checked(seen, wish)
    plans = plans_of(seen, wish)
    return {
        "session": seen.opened.row.id,
        "wish": wish.model_dump(mode="json"),
        "takes": plans,
        "mixed": [plan["take"] for plan in mixed_ones(seen, plans)],
        "revision": seen.opened.revision.id,
        "version": seen.opened.revision.version,
        # What is no step of the history is pinned by itself.
        "name": seen.opened.row.name,
        "heard": {row.id: [getattr(row, name) for name in PINNED] for row in seen.rows.values()},
    }


def as_ordered(folder: DataFolder, args: Mapping[str, Any]) -> SessionState:
    """The session as it was when this was ordered: what was decided, its name, and what was heard by then."""
    seen = session_state(folder, args["session"], args["revision"])
    seen.opened.row.name = args.get("name", seen.opened.row.name)
    for take_id, values in args.get("heard", {}).items():
        if take_id in seen.rows:
            for name, value in zip(PINNED, values, strict=True):
                setattr(seen.rows[take_id], name, value)
    return seen


def could_be(seen: SessionState) -> list[str]:
    """Ids of all takes and parts that can be handed off, in the session's order."""
    takes = [take.id for take in seen.document.takes if take.id in seen.rows and there(seen.rows[take.id])]
    return [*takes, *(part.id for part in seen.document.notes)]


def ticked(seen: SessionState) -> list[str]:
    """What is handed off unless the user says otherwise: everything that can be, but sources that were kept
    as they sounded.
    """
    return [one for one in could_be(seen) if one not in seen.document.replaced]


def last_wish(seen: SessionState) -> Wish | None:
    """The settings of the session's last hand-off. What came later is ticked; what the user decided about
    takes stands.
    """
    kept = shelf.beside(seen.opened.row.view, "handoff")
    if not isinstance(kept, dict):
        return None
    try:
        wish = Wish.model_validate(kept)
    except ValueError:
        return None
    usual, left_out, put_in = ticked(seen), wish.left_out or (), wish.put_in or ()
    takes = [one for one in could_be(seen) if one in put_in or (one in usual and one not in left_out)]
    return wish.model_copy(update={"takes": takes})


def usual_wish(seen: SessionState) -> Wish:
    """What is ticked, WAV of 24 bit with the lead-in, its map and a click."""
    return Wish(takes=ticked(seen), start="lead-in", extras=["midi", "json", "click"])
