"""Everything the pictures are drawn from, in one JSON document a revision: map table, bars, marks, pegs."""

from __future__ import annotations

import json
from collections import Counter

import numpy as np

from combpace.core.clocks import FloatArray, SessionTimes, session_times
from combpace.core.errors import CombPaceError
from combpace.core.fit.groove import GrooveGrid
from combpace.core.fit.holding import beyond
from combpace.core.fit.pegs import FACTOR_LIMITS
from combpace.core.fit.ranges import governed
from combpace.core.fit.rule import Rule
from combpace.core.tempo.drift import Course, bars_between, course_against
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_index, bar_number
from combpace.session import fits, notes, pieces, sounding, words
from combpace.session.data_folder import muted_in
from combpace.session.document.model import TakeEntry
from combpace.session.document.stated import name_of
from combpace.session.fits import TakeFit
from combpace.session.fixed import fixed
from combpace.session.page_forms import (
    ArrivalFacts,
    BarRow,
    FitFacts,
    FitHead,
    FitNumbers,
    FitPoints,
    GroovePlaces,
    MapTable,
    Marks,
    NoFit,
    Picture,
    PieceRow,
    RangeRule,
    StatementRow,
    TakeFacts,
)
from combpace.session.saying import KNOTS, KNOTS_WORDS, moment_of, statement_words
from combpace.session.state import SessionState

# An attack so much of a bar before a line opens that bar.
EARLY_BARS = 1 / 8


def picture(seen: SessionState, focus: str | None) -> Picture:
    """The document a page draws from.

    focus  the take whose marks and fit are shown; None takes the lead
    """
    focus = in_focus(seen, focus)
    made = head(seen, focus)
    made["onsets"] = {take_id: marks_facts(seen, take_id) for take_id in shown_takes(seen, focus)}
    if made["map"] is None:
        return made
    made["raw"], made["bars"] = raw_tempo(seen), shown_bars(seen)
    if focus is not None:
        made["fit"] = fit_facts(seen, focus)
    return made


def in_focus(seen: SessionState, focus: str | None) -> str | None:
    """The take that a picture is about: the one that was asked for where it is there, else the lead."""
    document = seen.document
    return (
        focus
        if focus and any(take.id == focus for take in document.takes)
        else (document.lead.id if document.lead else None)
    )


def shown_takes(seen: SessionState, focus: str | None) -> list[str]:
    """The takes whose marks are drawn: the one in focus and the lead, each with its other mics."""
    lead = seen.document.lead
    wanted = {focus, lead.id if lead else None}
    bundles = {take.bundle for take in seen.document.takes if take.id in wanted}
    return [
        take.id
        for take in seen.document.takes
        if take.id in wanted or (take.bundle and take.bundle in bundles)
    ]


def head(seen: SessionState, focus: str | None) -> Picture:
    """A picture without what grows with every second of music: no marks, no bars, no fit, no heard tempo."""
    document = seen.document
    lead = document.lead
    session_map = seen.session_map()
    choice = seen.map_choice()
    kind = choice.kind
    made: Picture = {
        "session": seen.opened.row.id,
        "name": seen.opened.row.name,
        "version": seen.opened.revision.version,
        "note": seen.opened.revision.note,
        "can_undo": seen.opened.revision.can_undo,
        "can_redo": seen.opened.revision.can_redo,
        "sentence": words.map_sentence(session_map, choice.said, seen.end_s()),
        "kind": kind,
        "end_s": shown_end_s(seen),
        "lead": lead.id if lead else None,
        "focus": focus,
        "takes": [take_facts(seen, take.id) for take in document.takes],
        "arrivals": [arrival_facts(seen, take.id) for take in document.arrivals],
        "parts": [notes.facts(seen, part) for part in document.notes],
        "map": None,
        "bars": [],
        "anchors": [],
        "statements": statement_rows(seen),
        "onsets": {},
        "fit": None,
        "raw": [],
        "pieces": [],
        "muted": muted_in(seen.opened.row.view),
    }
    # Parts alone are drawn too, on a map that was given.
    if session_map is None or (lead is None and not document.notes):
        return made
    made["map"] = map_table(session_map)
    made["anchors"] = [
        {
            "q": round(one.place, 9),
            "t": round(one.time_s, 6),
            "locked": one.locked,
            "place": words.place(session_map, one.place),
        }
        for one in fixed(seen)
    ]
    if focus is not None:
        made["pieces"] = piece_rows(seen, focus)
    return made


DOES_NOT_HOLD = ", which does not hold in what is heard now"


def statement_rows(seen: SessionState) -> list[StatementRow]:
    """What was stated of the session's map, in the order in which it was said."""
    lead, choice = seen.document.lead, seen.map_choice()
    if lead is None:
        return []
    rows: list[StatementRow] = []
    if lead.id in seen.document.paces and choice.kind != "given":
        rows.append({"id": KNOTS, "what": KNOTS, "take_s": None, "reach": None, "words": KNOTS_WORDS})
    lost = seen.lost()
    for one in choice.statements:
        at = moment_of(one)
        rows.append(
            {
                "id": name_of(one),
                "what": one.what,
                "take_s": None if at is None else round(at - lead.offset_s, 6),
                "reach": getattr(one, "reach", None),
                "words": statement_words(one) + (DOES_NOT_HOLD if one in lost else ""),
            }
        )
    return rows


def marks_facts(seen: SessionState, take_id: str) -> Marks:
    """The marks of a take, take seconds, with their strength and how sure they are."""
    onsets = seen.onsets(take_id)
    return {
        "t": np.round(np.asarray(onsets.times), 6).tolist(),
        "s": np.round(onsets.strength, 3).tolist(),
        "c": np.round(onsets.confidence, 3).tolist(),
        "j": [int(one) for one in fits.joined(seen, take_id)],
    }


def shown_bars(seen: SessionState) -> list[BarRow]:
    """The rows of a picture's bars; none while there is no map."""
    found: list[BarRow] = seen.once("shown bars", lambda: _shown_bars(seen))
    return found


def _shown_bars(seen: SessionState) -> list[BarRow]:
    session_map, lead = seen.session_map(), seen.document.lead
    if session_map is None or (lead is None and not seen.document.notes):
        return []
    attacks = session_times(np.asarray(seen.onsets(lead.id).times) + lead.offset_s if lead else np.zeros(0))
    start_s, end_s = first_shown_s(seen, session_map), shown_end_s(seen)
    return bar_rows(session_map, start_s, end_s, attacks, lead_course(seen), seen.sureness())


def take_facts(seen: SessionState, take_id: str) -> TakeFacts:
    """What a page knows of a take."""
    take, row = seen.document.take(take_id), seen.rows.get(take_id)
    return {
        "id": take.id,
        "name": take.name,
        "kind": take.kind,
        "role": take.role,
        "pace": take.pace,
        "first_bar": take.first_bar,
        "bundle": take.bundle,
        "offset_s": take.offset_s,
        "state": row.state if row else "missing",
        "rate": row.sample_rate_hz if row else None,
        "frames": row.frames if row else None,
        "channels": row.channels if row else None,
        "peak": row.peak if row else None,
        "duration_s": seen.duration_s(take_id),
        "notes": json.loads(row.notes) if row else [],
        "error": row.error if row else None,
        "fitted": fits.is_fitted(seen, take_id) or pieces.in_pieces(seen, take_id),
        "pieces": pieces.key_of(seen, take_id) if pieces.in_pieces(seen, take_id) else None,
        "cut_from": pieces.peaks_of(seen, take_id),
        "sound": row.decoded_sha[:12] if row and row.decoded_sha else None,
        "sounds_s": sounds_s(seen, take_id),
        "arrival": take.arrival,
        "source": take.source,
        "rounds": rounds_s(seen, take_id),
        "sounds": sounding.take_names(seen.heard_as, take_id),
    }


def arrival_facts(seen: SessionState, take_id: str) -> ArrivalFacts:
    """What a page knows of an arrival; fit: the key of its sound in session time, None while there is no map
    that it could follow.
    """
    try:
        key = fits.take_fit(seen, take_id).key if seen.session_map() is not None else None
    except CombPaceError:
        key = None
    facts = take_facts(seen, take_id)
    if key is not None:
        facts["sounds"] = sounding.fit_names(seen.heard_as, take_id).get(take_id, facts["sounds"])
    return {**facts, "fit": key, "keeps": seen.document.take(take_id).keeps}


def raw_tempo(seen: SessionState) -> list[list[float]]:
    """As the lead was heard from beat to beat, whatever was corrected since: [session second, quarters a
    minute] at the middle of each gap.
    """
    lead = seen.document.lead
    heard = seen.analysis(lead.id) if lead else None
    if lead is None or heard is None or heard.pace is None or len(heard.pace.knots) < 3:
        return []
    times = heard.pace.times_s + lead.offset_s
    rows: list[list[float]] = np.column_stack(
        [np.round(0.5 * (times[:-1] + times[1:]), 4), np.round(heard.pace.span_bpm, 2)]
    ).tolist()
    return rows


def sounds_s(seen: SessionState, take_id: str) -> list[float]:
    """From when to when a take sounds in the session: where it was placed, or where its own pace puts it."""
    take, session_map, pace = seen.document.take(take_id), seen.session_map(), seen.own_pace(take_id)
    length = seen.duration_s(take_id)
    if pieces.in_pieces(seen, take_id):
        rate, laid = pieces.rate_of(seen, take_id), pieces.laid(seen, take_id)
        return [
            round(min(one.at for one in laid) / rate, 6),
            round(max(one.at + one.frames for one in laid) / rate, 6),
        ]
    if pace is None and take.two_tempi is not None:
        return [take.offset_s, take.offset_s + length * take.two_tempi]
    if _lies_as_played(seen, take) or session_map is None or pace is None:
        return [take.offset_s, take.offset_s + length]
    if take.comes_round:
        ends = fits.take_fit(seen, take_id).fit.time_map.target_s
        return [round(float(ends[0]), 6), round(float(ends[-1]), 6)]
    return [round(session_map.second(pace.place(moment)), 6) for moment in (0.0, length)]


def shown_end_s(seen: SessionState) -> float:
    """Session second at which the last sound ends: takes as they were played, or as they sound now, and
    parts.
    """
    ends = [sounds_s(seen, take.id)[1] for take in seen.document.takes]
    notes_ = [note.end_s for part in seen.document.notes for note in notes.heard(seen, part.id)[-64:]]
    return max([seen.end_s(), *ends, *notes_])


def rounds_s(seen: SessionState, take_id: str) -> list[float]:
    """Of a loop of whole bars that follows: session seconds at which each of its rounds begins, and at which
    the last ends; else nothing.
    """
    take = seen.document.take(take_id)
    if (
        take.role == "lead"
        or take.pace != "own"
        or seen.session_map() is None
        or not fits.can_come_round(seen, take)
    ):
        return []
    time_map, length = fits.take_fit(seen, take_id).fit.time_map, seen.duration_s(take_id)
    turns = np.arange(int(np.ceil(time_map.source_s[-1] / length - 1e-6))) * length
    return [round(float(one), 6) for one in (*time_map.to_target(turns), time_map.target_s[-1])]


def map_table(session_map: TempoMap[SessionTimes]) -> MapTable:
    """The map as the browser evaluates it: the rules of `TempoMap`, none of its solving."""
    table: MapTable = {
        "times": [float(time) for time in session_map.times_s],
        "quarters": [float(place) for place in session_map.quarters],
        "meters": [
            [bar_index(meter.bar), meter.bar_quarters, meter.beats, meter.beat_quarters]
            for meter in session_map.meters
        ],
    }
    if session_map.has_ramps:
        table["bends"] = [float(bend) for bend in session_map.bends]
    return table


def first_shown_s(seen: SessionState, session_map: TempoMap[SessionTimes]) -> float:
    """Where the rows begin: with the bar of the first attack of any take, but never after bar 1.

    An attack just before a line belongs to the bar that it opens; a bar in which nothing is played is not
    shown.
    """
    firsts = [
        float(onsets.times[0]) + take.offset_s
        for take in seen.document.takes
        if len(onsets := seen.onsets(take.id)) and _lies_as_played(seen, take)
    ]
    place = session_map.place(min(firsts, default=0.0))
    early = EARLY_BARS * session_map.meter_of(session_map.bar_of(place)).bar_quarters
    return min(session_map.second(0.0), session_map.second(place + early))


def _lies_as_played(seen: SessionState, take: TakeEntry) -> bool:
    """Whether a take's own placement says where it sounds."""
    return (
        take.role == "lead" or take.pace == "lead" or take.keeps == "time" or seen.own_pace(take.id) is None
    )


def lead_course(seen: SessionState) -> Course | None:
    """The lead's own beats against a steady session; None where the map breathes or nothing was heard."""
    lead, session_map = seen.document.lead, seen.session_map()
    if lead is None or session_map is None or seen.one_tempo is None:
        return None
    pace = seen.counted_pace(lead.id)
    if pace is None:
        return None
    placed: TempoMap[SessionTimes] = TempoMap(pace.shifted(lead.offset_s).knots, pace.meters)
    found: Course = seen.once("course", lambda: course_against(session_map, placed))
    return found


def bar_rows(
    session_map: TempoMap[SessionTimes],
    start_s: float,
    end_s: float,
    attacks: SessionTimes,
    course: Course | None = None,
    given: FloatArray | None = None,
) -> list[BarRow]:
    """A row a bar, with what stands beside it: its drift by its first attack, or by the course of the lead's
    beats where there is one; how sure it is, given what was said where that is known.
    """
    first = session_map.bar_of(session_map.place(start_s))
    lines = bars_between(session_map, session_map.second(session_map.bar_line(first)) - 1e-4, end_s, attacks)
    sure_at = np.interp(
        [line.start_s for line in lines],
        session_map.times_s,
        np.array([knot.confidence for knot in session_map.knots]),
        left=0.2,
        right=0.2,
    )
    for k, line in enumerate(lines):
        if given is not None and 0 <= line.index < len(given):
            sure_at[k] = given[line.index]
    rows: list[BarRow] = []
    for line, sure in zip(lines, sure_at, strict=True):
        meter = session_map.meter_of(line.index)
        drift = line.drift_ms if course is None else course.at(session_map.bar_line(line.index))
        rows.append(
            {
                "i": line.index,
                "n": bar_number(line.index),
                "q": session_map.bar_line(line.index),
                "len": meter.bar_quarters,
                "beats": meter.beats,
                "meter": str(meter),
                "s": round(line.start_s, 6),
                "e": round(line.end_s, 6),
                "bpm": round(line.bpm / meter.beat_quarters, 5),
                "drift": None if drift is None else round(drift, 1),
                "sure": round(float(sure), 3),
            }
        )
    return rows


def fit_facts(seen: SessionState, take_id: str) -> FitFacts | NoFit:
    """The fit of the focused take, or why there is none."""
    try:
        made = fits.take_fit(seen, take_id)
    except CombPaceError as error:
        return {"missing": str(error)}
    long: FitPoints = seen.once("long facts of a fit", lambda: _long_facts(seen, made), made.take.id)
    return {**fit_head(seen, made), **long}


# What of a fit grows with every second of music: its lists that are in order of the take's seconds.
def _long_facts(seen: SessionState, made: TakeFit) -> FitPoints:
    time_map = made.fit.time_map
    return {
        "pegs": [
            [
                round(peg.take_s, 6),
                round(peg.own_s, 6),
                round(peg.target_s, 6),
                round(peg.quarters, 9),
                peg.kind,
            ]
            for peg in made.fit.pegs
        ],
        "riding": [
            [round(float(time), 6), why] for time, why in zip(made.fit.riding, made.fit.reasons, strict=True)
        ],
        "source": np.round(time_map.source_s, 6).tolist(),
        "target": np.round(time_map.target_s, 6).tolist(),
        "pauses": [round(time, 6) for time in made.fit.pauses],
        "off_ms": off_grid_ms(seen, made),
    }


def fit_head(seen: SessionState, made: TakeFit) -> FitHead:
    """What a page is told of a fit beside its points."""
    return {
        "take": made.take.id,
        "key": made.key,
        "stated": made.stated,
        "method": made.method,
        "reason": made.reason,
        "rendered": fits.is_rendered(seen, made),
        "limits": list(FACTOR_LIMITS),
        "strength": made.choice.rule.strength,
        "alone_ms": made.choice.rule.leave_alone_ms,
        "ignore_ms": made.choice.rule.ignore_beyond_ms,
        "places": grid_places(seen, made.choice.rule),
        "groove": groove_places(made.choice.rule),
        "ranges": range_rules(seen, made),
        "numbers": seen.once("numbers of a fit", lambda: fit_numbers(seen, made), made.take.id),
        "names": sounding.fit_names(seen.heard_as, made.take.id),
    }


def piece_rows(seen: SessionState, take_id: str) -> list[PieceRow]:
    """Pieces of a take as they are stored: their span in the take, where they lie in the session (s), how far
    from where they were laid (ms).
    """
    if not pieces.in_pieces(seen, take_id):
        return []
    line, rate, made = seen.need_map(), pieces.rate_of(seen, take_id), seen.document.pieces[take_id]
    rows: list[PieceRow] = []
    alike = Counter((one.start, one.stop) for one in made.pieces if one.own is None)
    for k, (stored, laid) in enumerate(zip(made.pieces, pieces.laid(seen, take_id), strict=True)):
        at, off = laid.at / rate, None
        if stored.home is not None:
            home = line.second(stored.home) if stored.quarters is not None else stored.home
            off = round(1000 * (at - home), 2)
        place = stored.quarters if stored.quarters is not None else line.place(at)
        rows.append(
            {
                "number": k,
                "start": round(laid.start / rate, 6),
                "stop": round(laid.stop / rate, 6),
                "at": round(at, 6),
                "q": round(place, 9),
                "off": off,
                "db": stored.level_db,
                "fadeIn": stored.fade_in_ms,
                "fadeOut": stored.fade_out_ms,
                "curve": [list(point) for point in stored.curve],
                "own": stored.own is not None,
                "alike": 1 if stored.own is not None else alike[stored.start, stored.stop],
            }
        )
    return rows


def range_rules(seen: SessionState, made: TakeFit) -> list[RangeRule]:
    """The sentences of some bars, in the order in which they count."""
    base, found = made.choice.rule, list[RangeRule]()
    for rule in made.choice.rules:
        if rule.bars is None:
            continue
        grid = "" if rule.places == base.places else f" {rule.places}"
        found.append(
            {
                "first": bar_index(rule.bars[0]),
                "last": bar_index(rule.bars[1]),
                "bars": f"{rule.bars[0]}-{rule.bars[1]}",
                "words": fits.in_bars(rule, base),
                "short": f"{rule.strength:g} %{grid}",
                "strength": rule.strength,
                "alone_ms": rule.leave_alone_ms,
                "ignore_ms": rule.ignore_beyond_ms,
                "places": grid_places(seen, rule),
                "groove": groove_places(rule),
            }
        )
    return found


def grid_places(seen: SessionState, rule: Rule) -> dict[str, list[float]]:
    """Places of the rule's grid in a bar, quarters from its line to the next, for every length of bar there
    is; keys as a page writes them.
    """
    lengths = {meter.bar_quarters for meter in seen.need_map().meters}
    return {
        f"{length:.10g}": [round(float(place), 9) for place in rule.places.in_bar(length)]
        for length in sorted(lengths)
    }


def groove_places(rule: Rule) -> GroovePlaces | None:
    """Of a groove the places of each of its bars, quarters from the line, and the index of the bar on which
    the first of them lies.
    """
    grid = rule.places
    if not isinstance(grid, GrooveGrid):
        return None
    length = grid.groove.bar_quarters
    rows = [
        [round(float(place), 9) for place in grid.places_of(grid.start + k, length)]
        for k in range(len(grid.groove.bars))
    ]
    return {"start": grid.start, "len": length, "bars": rows}


def off_grid_ms(seen: SessionState, made: TakeFit) -> list[float]:
    """How far every onset lies from its place on the rule's grid before the rule pulls it, ms."""
    pace = seen.own_pace(made.take.id)
    if pace is None:
        return []
    session_map, times = seen.need_map(), fits.marks_of(seen, made.take.id).times
    own = pace.to_quarters(times)
    goal = session_map.to_seconds(governed(made.choice.rules, own, session_map, seen.under())[1])
    lies = made.follow(times) if made.follow is not None else np.asarray(times) + made.take.offset_s
    off: list[float] = np.round(1000.0 * (lies - goal), 2).tolist()
    return off


# What moves by less has not moved.
LEAST_MOVE_MS = 0.05


def fit_numbers(seen: SessionState, made: TakeFit) -> FitNumbers:
    """How tight it was, how tight it will be, and how much is stretched: of every mark, where the file that
    would leave has it against where it would lie if no rule acted.
    """
    grid = made.choice.rule.places
    time_map = made.fit.time_map
    heard = ~np.isin(np.round(time_map.source_s[:-1], 6), np.round(np.array(made.fit.pauses), 6))
    factors, lengths = time_map.factors[heard], np.diff(time_map.source_s)[heard]
    pegs = [peg for peg in made.fit.pegs if peg.kind != "held"]
    struck = np.array([peg.take_s for peg in pegs])
    rides = np.asarray(made.fit.riding)
    every = np.concatenate([struck, rides])
    lands = time_map.to_target(every)
    # All of a coarse fit goes to the lines: how far, from where it was recorded.
    placed = every + made.take.offset_s
    lies = placed if made.follow is None or made.choice.rule.coarse else made.follow(every)
    moved = 1000.0 * np.abs(lands - lies)
    pulled = int((moved[: len(pegs)] >= LEAST_MOVE_MS).sum())
    off = off_grid_ms(seen, made)
    own = moved[moved >= LEAST_MOVE_MS]
    squeezed = float(lengths[factors < 0.995].sum() / lengths.sum())
    spread = float(lengths[factors > 1.005].sum() / lengths.sum())
    return {
        "grid": str(grid),
        "pulled": pulled,
        "alone": len(pegs) - pulled,
        "riding": len(made.fit.riding),
        "largest_ms": round(float(own.max()), 1) if len(own) else 0.0,
        "median_ms": round(float(np.median(own)), 1) if len(own) else 0.0,
        "loose_ms": round(float(np.sqrt(np.mean(np.square(off)))), 1) if off else 0.0,
        "squeezed": round(squeezed, 3),
        "spread": round(spread, 3),
        "least_factor": round(float(factors.min()), 3),
        "most_factor": round(float(factors.max()), 3),
        "beyond": len(beyond(made.fit, FACTOR_LIMITS)),
    }
