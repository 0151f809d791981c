"""Which statements hold in a map as it is: where knots take the place of what was heard, the others leave
with the same action, named.
"""

from __future__ import annotations

from typing import Any

from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_index, parse_meter
from combpace.core.tempo.recount import nearest_bar
from combpace.core.tempo.statements import HOLDS_S
from combpace.session import words
from combpace.session.document.model import MapPart
from combpace.session.document.stated import (
    AnchorStatement,
    BarStatement,
    DownbeatStatement,
    LevelStatement,
    MeterStatement,
    OtherStatement,
    ReadingStatement,
    Statement,
    TempoStatement,
)
from combpace.session.saying import statement_words, with_list

# So many are named in a sentence.
MOST_NAMED = 4
# A line this near to a moment that opens no bar, in beats, is there all the same.
ON_IT_BEATS = 0.25
# Tempi are the same within this share.
SAME_TEMPO = 1e-6


def with_what_holds_in(line: TempoMap[Any], chosen: MapPart) -> tuple[MapPart, str]:
    """(the map with the statements that hold in these knots, which keep them; those that leave, as a
    sentence).
    """
    kept = [one for one in chosen.statements if holds_in(line, one)]
    gone = [statement_words(one) for one in chosen.statements if one not in kept]
    made = with_list(chosen, [one.model_copy(update={"knotted": True}) for one in kept])
    if not gone:
        return made, ""
    named = gone[:MOST_NAMED]
    named += [f"{len(gone) - MOST_NAMED} more"] if len(gone) > MOST_NAMED else []
    return made, f" What you stated of {words.listed(named)} does not hold in it and leaves."


def holds_in(line: TempoMap[Any], one: Statement) -> bool:
    """Whether a statement holds in a map; one of how the lead is read says nothing of other knots."""
    match one:
        case ReadingStatement() | LevelStatement():
            return True
        case TempoStatement():
            return line.is_steady and abs(line.bpm_at(0.0) / one.bpm - 1) < SAME_TEMPO
        case BarStatement():
            return abs(line.second(line.bar_line(bar_index(one.bar))) - one.time_s) <= HOLDS_S
        case DownbeatStatement():
            return _off_line_s(line, one.time_s) <= HOLDS_S
        case AnchorStatement():
            beat = line.second(line.beat_near(line.place(one.time_s)))
            return any(abs(time - one.time_s) <= HOLDS_S for time in (beat, *line.times_s))
        case OtherStatement():
            place = line.place(one.time_s)
            beat_s = 60.0 * line.meter_of(line.bar_of(place)).beat_quarters / line.bpm_at(place)
            return _off_line_s(line, one.time_s) > ON_IT_BEATS * beat_s
        case MeterStatement():
            return _is_in(line, one)


def _off_line_s(line: TempoMap[Any], time_s: float) -> float:
    return abs(line.second(line.bar_line(nearest_bar(line, line.place(time_s)))) - time_s)


def _is_in(line: TempoMap[Any], one: MeterStatement) -> bool:
    """Whether the bars that a meter was stated of are in it."""
    meter = str(parse_meter(one.meter))
    if one.time_s is None:
        return all(str(other) == meter for other in line.meters)
    index = nearest_bar(line, line.place(one.time_s))
    return _off_line_s(line, one.time_s) <= HOLDS_S and str(line.meter_of(index)) == meter
