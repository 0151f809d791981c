"""The map: what the user says of it, and what the program makes of that.

Corrections go to the lead's own pace in a breathing session, and to the one tempo and its start in a steady one.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from combpace.core.analysis.bundle import on_strokes_of
from combpace.core.analysis.steady_tempo import steady_tempo
from combpace.core.analysis.take import Hints, caught, read
from combpace.core.beats.candidates import TempoSpan
from combpace.core.clocks import SessionTimes, TakeTimes
from combpace.core.errors import ParameterError
from combpace.core.tempo import anchors
from combpace.core.tempo.map import MAX_BPM, MIN_BPM, SAME_PLACE, TempoMap, steady_map
from combpace.core.tempo.meters import Meter, bar_index, bar_number, parse_meter
from combpace.core.tempo.recount import nearest_bar
from combpace.services import document as forms
from combpace.services import words
from combpace.services.document import MapChoice, TakeEntry
from combpace.services.workplace import SessionState, Workplace, session_state
from combpace.store.history import Revision

# Shift frees a drag; otherwise it catches on the nearest attack this near.
CATCH_S = 0.030
# How far from the tempo that the user names a pulse is looked for.
READ_WITHIN = 1.1


def set_bar_1(workplace: Workplace, session_id: str, version: int, time_s: float) -> Revision:
    """This moment of the session is the line of bar 1."""
    seen, lead, at = _meant(workplace, session_id, time_s)
    choice = seen.map_choice()
    if choice.kind == "steady":
        return _steady(seen, version, replace(choice, bar_1_s=at), f"Bar 1 is at {words.clock(at)}; all bars are counted from there.")
    pace = _need_pace(seen, lead)
    new = anchors.set_bar_1(pace, at - lead.offset_s, seen.onsets(lead.id))
    return _record(seen, version, lead, pace, new, f"Bar 1 is at {words.clock(at)}")


def set_bar(workplace: Workplace, session_id: str, version: int, time_s: float, bar: int) -> Revision:
    """This moment of the session is the line of that bar."""
    seen, lead, at = _meant(workplace, session_id, time_s)
    choice = seen.map_choice()
    if choice.kind == "steady":
        line = seen.need_map()
        start = at - (line.second(line.bar_line(bar_index(bar))) - line.second(0.0))
        return _steady(seen, version, replace(choice, bar_1_s=start), f"Bar {bar} is at {words.clock(at)}.")
    pace = _need_pace(seen, lead)
    new = anchors.set_bar(pace, at - lead.offset_s, bar, seen.onsets(lead.id))
    return _record(seen, version, lead, pace, new, f"Bar {bar} is at {words.clock(at)}")


def set_downbeat(workplace: Workplace, session_id: str, version: int, time_s: float) -> Revision:
    """This moment of the session is a downbeat."""
    seen, lead, at = _meant(workplace, session_id, time_s)
    choice = seen.map_choice()
    if choice.kind == "steady":
        line = seen.need_map()
        nearest = line.second(line.bar_line(nearest_bar(line, line.place(at))))
        return _steady(
            seen, version, replace(choice, bar_1_s=(choice.bar_1_s or 0.0) + at - nearest), f"{words.clock(at)} is a downbeat; every bar follows."
        )
    pace = _need_pace(seen, lead)
    new = anchors.set_downbeat(pace, at - lead.offset_s, seen.onsets(lead.id))
    bar, _ = new.address(new.place(at - lead.offset_s) + 1e-6)
    return _record(seen, version, lead, pace, new, f"{words.clock(at)} is the downbeat of bar {bar}")


def pull(workplace: Workplace, session_id: str, version: int, time_s: float, quarters: float, *, caught_on: bool = True) -> Revision:
    """Pull an attack onto a tooth: the tooth gets an anchor at the attack's time. A steady map moves as a whole."""
    seen = session_state(workplace, session_id)
    lead = seen.need_lead()
    at = _on_attack(seen, lead, time_s, CATCH_S) if caught_on else time_s
    line = seen.need_map()
    choice = seen.map_choice()
    shown = words.place(line, quarters)
    if choice.kind == "steady":
        shift = at - line.second(quarters)
        note = f"The steady map moved by {words.signed_ms(1000 * shift)} ms, so that {shown} is on its attack."
        return _steady(seen, version, replace(choice, bar_1_s=(choice.bar_1_s or 0.0) + shift), note)
    pace = _need_pace(seen, lead)
    new = anchors.fix_place(pace, at - lead.offset_s, quarters, seen.onsets(lead.id))
    return _record(seen, version, lead, pace, new, f"{shown} is fixed at {words.clock(at)}")


def release(workplace: Workplace, session_id: str, version: int, quarters: float) -> Revision:
    """Remove an anchor."""
    seen = session_state(workplace, session_id)
    lead = seen.need_lead()
    pace = _need_pace(seen, lead)
    heard = seen.analysis(lead.id)
    new = anchors.release(pace, quarters, seen.onsets(lead.id), heard.pace if heard else None)
    return _record(seen, version, lead, pace, new, f"{words.place(pace, quarters)} is no longer fixed")


def lock(workplace: Workplace, session_id: str, version: int, quarters: float, locked: bool) -> Revision:
    """It is right, lock it: the place becomes an anchor where it is, guarded against drag and delete."""
    seen = session_state(workplace, session_id)
    lead = seen.need_lead()
    if seen.map_choice().kind == "steady":
        raise ParameterError("A steady map has one tempo and no anchors to lock; follow the lead's own pace first. Nothing was changed.")
    pace = _need_pace(seen, lead)
    new = anchors.lock(pace, quarters, locked)
    return _record(seen, version, lead, pace, new, f"{words.place(pace, quarters)} is {'locked where it is' if locked else 'unlocked'}")


def set_meter(workplace: Workplace, session_id: str, version: int, text: str, bar: int | None = None) -> Revision:
    """Another meter, for the whole map or from the line of a bar on."""
    seen = session_state(workplace, session_id)
    lead = seen.need_lead()
    meter = parse_meter(text)
    choice = seen.map_choice()
    note = f"The meter is {meter} for all bars" if bar is None else f"The meter is {meter} from bar {bar} on"
    if choice.kind == "steady":
        if bar is not None:
            raise ParameterError(
                "A steady map has one meter; follow the lead's own pace first, or change the meter of all bars. Nothing was changed."
            )
        old = Meter(1, *choice.meter)
        bpm = (choice.bpm or 120.0) * meter.beat_quarters / old.beat_quarters
        return _steady(seen, version, replace(choice, meter=(meter.numerator, meter.denominator), bpm=bpm), note + ".")
    pace = _need_pace(seen, lead)
    new = anchors.set_meter(pace, meter) if bar is None else anchors.set_meter_from(pace, pace.bar_line(bar_index(bar)), meter)
    return _record(seen, version, lead, pace, new, note)


def scale(workplace: Workplace, session_id: str, version: int, factor: int, bar: int | None = None) -> Revision:
    """Read the same music at twice (2) or half (-2) the tempo, all of it or from the line of a bar on."""
    if factor not in (2, -2):
        raise ParameterError("The tempo is read twice or half as fast. Nothing was changed.")
    seen = session_state(workplace, session_id)
    lead = seen.need_lead()
    choice = seen.map_choice()
    note = f"The tempo is read {'twice' if factor == 2 else 'half'} as fast{'' if bar is None or bar <= 1 else f' from bar {bar} on'}"
    if choice.kind == "steady" and bar is not None:
        raise ParameterError("A steady map has one tempo; follow the lead's own pace first, or read all of it at another. Nothing was changed.")
    if choice.kind == "steady" and choice.bpm:
        return _steady(seen, version, replace(choice, bpm=_bpm(choice.bpm * (2.0 if factor == 2 else 0.5))), note + ".")
    pace = _need_pace(seen, lead)
    place = None if bar is None else pace.bar_line(bar_index(bar))
    return _record(seen, version, lead, pace, anchors.scale_tempo(pace, factor, place), note)


def read_again(workplace: Workplace, session_id: str, version: int, about_bpm: float) -> Revision:
    """Read the lead's pulse again near a tempo that the user knows; what was fixed on bar lines stays where it is."""
    seen = session_state(workplace, session_id)
    lead = seen.need_lead()
    heard, pulse = seen.analysis(lead.id), workplace.pulse(seen.rows[lead.id]) if lead.id in seen.rows else None
    if heard is None or pulse is None:
        raise ParameterError(f"{lead.name} was heard by an earlier version of the program; listen to it again in Takes first. Nothing was changed.")
    old = seen.own_pace(lead.id)
    fixed = anchors.anchors(old) if old else ()
    bars = []
    for knot in fixed:
        index = old.bar_of(knot.quarters + SAME_PLACE) if old else 0
        if old is None or abs(old.bar_line(index) - knot.quarters) > SAME_PLACE:
            raise ParameterError(
                f"What is fixed at {words.clock(knot.time_s + lead.offset_s)} lies inside a bar and has no place in another reading; "
                "release it first. Nothing was changed."
            )
        bars.append((knot.time_s, bar_number(index)))
    # A meter that the user stated is kept; one that was heard may be heard otherwise.
    stated = old.meters[0] if old and heard.pace and len(old.meters) == 1 and str(old.meters[0]) != str(heard.pace.meters[0]) else None
    span = TempoSpan(about_bpm / READ_WITHIN, about_bpm * READ_WITHIN)
    # All mics of a bundle are heard, as they were at first; what is fixed was put there by hand and stays to the sample.
    hints = Hints(bars=tuple(bars), meter=stated, tempi=(span,), exact=True)
    _, new, _, _ = read(pulse, seen.struck(lead.id), hints, seen.duration_s(lead.id))
    if new is None:
        raise ParameterError(f"No pulse near {about_bpm:g} BPM was found in {lead.name}. Nothing was changed.")
    if len(seen.document.bundle_of(lead.id)) > 1:
        new = on_strokes_of(new, seen.onsets(lead.id))
    for knot in fixed:
        if knot.locked:
            new = anchors.lock(new, new.place(knot.time_s), True)
    note = f"{lead.name} is read again near {about_bpm:g} BPM"
    if fixed:
        note += f"; {words.count(len(fixed), 'anchor')} stayed in place"
    fitted = steady_tempo(new, seen.struck(lead.id), seen.duration_s(lead.id))
    chosen = None
    if seen.document.map.kind == "steady" or (seen.document.map.kind == "auto" and fitted.verdict == "steady"):
        meter = new.meters[0]
        start = fitted.first_downbeat_s + lead.offset_s
        chosen = MapChoice("steady", _bpm(fitted.bpm * meter.beat_quarters), start, (meter.numerator, meter.denominator))
    return _record(seen, version, lead, old or new, new, note, chosen)


def make_steady(
    workplace: Workplace, session_id: str, version: int, bpm: float | None = None, bar_1_s: float | None = None, *, nudged: bool = False
) -> Revision:
    """One tempo for the session: counted beats a minute; None takes what fits the lead best.

    A nudge turns the tempo about bar 1.
    """
    seen = session_state(workplace, session_id)
    lead = seen.need_lead()
    now = seen.session_map()
    choice = seen.map_choice()
    meter = Meter(1, *choice.meter) if choice.kind == "steady" else now.meters[0] if now else Meter(1, 4, 4)
    if bpm is None or bar_1_s is None:
        pace = seen.own_pace(lead.id)
        if pace is not None:
            found = steady_tempo(pace, seen.struck(lead.id), seen.duration_s(lead.id))
            bpm = found.bpm if bpm is None else bpm
            if bar_1_s is None:
                bar_1_s = choice.bar_1_s if choice.kind == "steady" else found.first_downbeat_s + lead.offset_s
        elif bpm is None:
            raise ParameterError("No pulse was found in the lead; state a tempo. Nothing was changed.")
    new = MapChoice("steady", _bpm(bpm * meter.beat_quarters), 0.0 if bar_1_s is None else bar_1_s, (meter.numerator, meter.denominator))
    note = f"The session runs at a steady {bpm:.2f} BPM, bar 1 at {words.clock(new.bar_1_s or 0.0)}."
    return _steady(seen, version, new, note, gesture="tempo" if nudged else None)


def make_breathing(workplace: Workplace, session_id: str, version: int) -> Revision:
    """The session's map is the lead's own pace."""
    seen = session_state(workplace, session_id)
    lead = seen.need_lead()
    _need_pace(seen, lead)
    note = f"The map follows {lead.name} as it was played."
    return workplace.decide(seen.opened, version, {"map": forms.map_part(MapChoice("own"))}, note)


def _meant(workplace: Workplace, session_id: str, time_s: float) -> tuple[SessionState, TakeEntry, float]:
    """The session, its lead, and the attack of the lead that a moment means."""
    seen = session_state(workplace, session_id)
    lead = seen.need_lead()
    return seen, lead, _on_attack(seen, lead, time_s)


def _steady(seen: SessionState, version: int, choice: MapChoice, note: str, gesture: str | None = None) -> Revision:
    steady_map(choice.bpm or 0.0, choice.bar_1_s or 0.0, (Meter(1, *choice.meter),))
    return seen.workplace.decide(seen.opened, version, {"map": forms.map_part(choice)}, note, gesture)


def _record(
    seen: SessionState, version: int, lead: TakeEntry, old: TempoMap[TakeTimes], new: TempoMap[TakeTimes], what: str, chosen: MapChoice | None = None
) -> Revision:
    """The lead's new pace as a decision, said with its effect; the map follows it unless another is chosen with it."""
    moved = anchors.largest_move_ms(old, new)
    if moved is None:
        effect = "no bar line moved"
    elif moved[1] == moved[2]:
        effect = f"bar {moved[1]} moved by {moved[0]:.1f} ms"
    else:
        effect = f"bars {moved[1]} to {moved[2]} moved by up to {moved[0]:.1f} ms"
    changes: dict[str, Any] = {f"pace:{lead.id}": forms.pace_part(new)}
    if chosen or seen.document.map.kind == "auto":
        changes["map"] = forms.map_part(chosen or MapChoice("own"))
    return seen.workplace.decide(seen.opened, version, changes, f"{what}; {effect}.")


def _need_pace(seen: SessionState, lead: TakeEntry) -> TempoMap[TakeTimes]:
    pace = seen.own_pace(lead.id)
    if pace is None:
        raise ParameterError(
            f"{lead.name} has no pulse yet: it is still being listened to, or none was found; state a tempo instead. Nothing was changed."
        )
    return pace


def _on_attack(seen: SessionState, lead: TakeEntry, time_s: float, reach_s: float = 0.060) -> float:
    """Session time of the lead's nearest attack within reach, or the moment itself."""
    if not np.isfinite(time_s):
        raise ParameterError("A moment must be a finite number of seconds. Nothing was changed.")
    return caught(time_s - lead.offset_s, seen.onsets(lead.id), seen.duration_s(lead.id), reach_s) + lead.offset_s


def _bpm(value: float) -> float:
    if not MIN_BPM <= value <= MAX_BPM:
        raise ParameterError(f"A tempo lies between {MIN_BPM:g} and {MAX_BPM:g} BPM, not at {value:g}. Nothing was changed.")
    return value


def map_sentence(session_map: TempoMap[SessionTimes] | None, kind: str, end_s: float) -> str:
    """The map as a sentence: "4/4, breathing 92.4–97.1, bar 1 at 0:03.214"."""
    if session_map is None:
        return "no tempo map yet"
    meter = words.meters(session_map)
    beat = session_map.meters[0].beat_quarters
    bar_1 = words.clock(session_map.second(0.0))
    if kind == "steady":
        return f"{meter}, steady {session_map.bpm_at(0.0) / beat:.2f}, bar 1 at {bar_1}"
    return f"{meter}, breathing {words.bpm_range(session_map, max(0.0, session_map.second(0.0)), end_s)}, bar 1 at {bar_1}"
