"""A take's fit, derived anew from marks, rule, pegs and maps each time it is asked for; nothing of it is
stored but its renders.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path

import numpy as np

from combpace.core.clocks import TakeTimes, take_times
from combpace.core.errors import ParameterError
from combpace.core.fit.accents import Levels
from combpace.core.fit.advice import finest_played
from combpace.core.fit.follow import Follow, following
from combpace.core.fit.holding import in_all
from combpace.core.fit.pegs import Fit
from combpace.core.fit.pipeline import Asked, finish, lay, method_of, rests_in, without
from combpace.core.fit.rule import Rule, bars_words
from combpace.core.fit.time_map import TimeMap
from combpace.core.fit.together import clearest_first, union
from combpace.core.onsets.detect import Onsets, no_onsets
from combpace.core.stretch.choose import Choice
from combpace.core.tempo.following import pace_again, rounds_of
from combpace.core.tempo.loops import loop_bars
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_index, bar_number
from combpace.media.decode import FileSource
from combpace.session.data_folder import DataFolder
from combpace.session.document.model import MOST_TIMES, RuleChoice, TakeEntry, TakePegs, default_rule
from combpace.session.keys import render_key
from combpace.session.pieces import in_pieces
from combpace.session.renders import render_of
from combpace.session.state import SessionState
from combpace.store.models import WANTED, TakeRow

# Two moments that differ by less are one mark, on whichever clock, seconds.
SAME_MARK_S = 1e-7
# So many sentences of some bars are said in one note.
MOST_SAID = 3
# What ends so little after a bar line, quarters, ends on it.
ROUNDING_QUARTERS = 0.02


@dataclass(frozen=True, slots=True)
class TakeFit:
    """A take's fit as it stands now.

    take    whose marks and pace count: the bundle's timing take
    choice  the sentence; `stated` is false while it is only proposed
    follow  where the take lies if no rule acts; None where it has no pulse
    method  the one that "auto" settled on, and why
    key     names exactly this result: source, map, method and levels
    levels  where it is louder or softer, by the groove's accents
    """

    take: TakeEntry
    choice: RuleChoice
    stated: bool
    fit: Fit
    method: str
    reason: str
    key: str
    levels: Levels = ()
    follow: Follow | None = None


def take_fit(seen: SessionState, take_id: str) -> TakeFit:
    """Derive pegs and time map of a take from its marks, its rule and the maps."""
    timing = seen.document.timing_take(take_id)
    found: TakeFit = seen.once("fit", lambda: _derive(seen, timing), timing)
    return found


def _derive(seen: SessionState, timing: str) -> TakeFit:
    entry = seen.document.take(timing)
    pace = seen.own_pace(timing)
    row = seen.rows.get(timing)
    by_two = entry.two_tempi if pace is None else None
    if row is None or row.decoded_sha is None or (pace is None and by_two is None):
        raise ParameterError(
            f"{entry.name} has no pulse yet, so there is nothing to fit: it is still being listened "
            "to, or none was found."
        )
    stated = timing in seen.document.rules
    choice = choice_of(seen, timing)
    pegs = seen.document.pegs.get(timing, TakePegs())
    length = seen.duration_s(timing)
    if by_two is not None:
        follow, made = None, _by_two_tempi(seen, entry, by_two)
    elif entry.arrival and entry.keeps == "time":
        follow, made = None, _as_it_is(seen, entry, length)
    else:
        assert pace is not None
        asked = _asked(seen, entry, pace, choice, pegs)
        follow, made = asked.follow, lay(asked)
    rounds, rests = rounds_of(made.time_map, length), _rests(seen, timing)
    every = [(a + turn * length, b + turn * length) for turn in range(rounds) for a, b in rests]
    fitted = finish(
        made,
        choice.method,
        lambda time_map: _choice_of(seen, entry, time_map),
        every,
        choice.rules,
        seen.need_map(),
    )
    shas = bundle_shas(seen.document.bundle_of(timing), seen.rows)
    key = render_key(row.decoded_sha, fitted.fit.time_map, fitted.method, shas, fitted.levels)
    return TakeFit(
        entry, choice, stated, fitted.fit, fitted.method, fitted.reason, key, fitted.levels, follow
    )


def choice_of(seen: SessionState, timing: str) -> RuleChoice:
    """What is said of how a take is pulled, or what is proposed: the smallest note value that is really
    played, no finer.
    """
    stated = seen.document.rules.get(timing)
    if stated is not None:
        return stated
    found: RuleChoice = seen.once("proposed", lambda: _proposed(seen, timing), timing)
    return found


def _proposed(seen: SessionState, timing: str) -> RuleChoice:
    usual, pace, line = default_rule(), seen.own_pace(timing), seen.session_map()
    if pace is None or line is None or timing not in seen.rows:
        return usual
    grid = finest_played(pace.to_quarters(marks_of(seen, timing).times), line)
    return replace(usual, rules=(usual.rule.on(grid),))


def _asked(
    seen: SessionState,
    entry: TakeEntry,
    pace: TempoMap[TakeTimes],
    choice: RuleChoice,
    pegs: TakePegs,
) -> Asked:
    """What a take's fit is made from."""
    marks, length, end_s = marks_of(seen, entry.id), seen.duration_s(entry.id), None
    marks = without(marks, pegs.rides)
    if entry.comes_round and entry.role != "lead" and entry.pace == "own" and entry.keeps != "time":
        marks, pace, length, end_s = _again(seen, entry, marks, pace, length)
    follow = seen.lies(entry.id, pace, length)
    under = seen.under() if any(one.groove is not None for one in choice.rules) else None
    line = seen.need_map()
    return Asked(marks, pace, follow, line, length, choice.rules, pegs.pegs, (), end_s, under)


def _choice_of(seen: SessionState, entry: TakeEntry, time_map: TimeMap) -> Choice:
    """The method that a take's sound proposes for a time map."""
    mics = seen.document.bundle_of(entry.id)
    if any(seen.rows[mic.id].state == WANTED for mic in mics if mic.id in seen.rows):
        return Choice(
            "chord", "Its sound is not here, so nothing says which method suits it: Chord until it is."
        )
    files, _ = bundle_files(seen.folder, mics, seen.rows, entry.id)
    mapped = (time_map.source_s.tobytes(), time_map.target_s.tobytes())
    return _chosen(files or (seen.folder.blob(seen.rows[entry.id].decoded_sha),), *mapped, entry.kind)


def _again(
    seen: SessionState, entry: TakeEntry, marks: Onsets, pace: TempoMap[TakeTimes], length_s: float
) -> tuple[Onsets, TempoMap[TakeTimes], float, float | None]:
    """A loop that comes round: (marks, pace and length of all its rounds one after the other, the moment at
    which it ends or None).

    As it is where it has no whole number of bars, or ends before it begins.
    """
    if not _whole_bars(seen, entry, pace, length_s):
        return marks, pace, length_s, None
    line, start, size = seen.need_map(), pace.place(0.0), pace.place(length_s) - pace.place(0.0)
    rounds, end_s = entry.times, None
    until = last_bar(seen, entry) if entry.arrival else entry.until_bar
    if until is not None:
        end = line.bar_line(bar_index(until))
        if end <= start + 1e-6:
            return marks, pace, length_s, None
        rounds, end_s = min(MOST_TIMES, int(np.ceil((end - start) / size - 1e-6))), line.second(end)
    times = np.concatenate([np.asarray(marks.times) + turn * length_s for turn in range(rounds)])
    strength, sure = np.tile(marks.strength, rounds), np.tile(marks.confidence, rounds)
    return (
        Onsets(take_times(times), strength, sure),
        pace_again(pace, length_s, rounds),
        rounds * length_s,
        end_s,
    )


def last_bar(seen: SessionState, entry: TakeEntry) -> int:
    """The bar number before whose line an arrival ends: that of the session's end, but never before it was
    heard once.
    """
    line, pace, length_s = seen.need_map(), seen.own_pace(entry.id), seen.duration_s(entry.id)
    first = bar_index(entry.first_bar)
    once = line.bar_line(first) + (pace.place(length_s) - pace.place(0.0) if pace else 0.0)
    end = max(once, line.place(seen.end_s()))
    # A take that ends a hair after a line does not open another bar.
    return bar_number(max(first, line.bar_of(end - ROUNDING_QUARTERS)) + 1)


def _as_it_is(seen: SessionState, entry: TakeEntry, length_s: float) -> Fit:
    """An arrival that stays as it is: again and again from bar 1 to the session's end, at its own speed."""
    start = seen.need_map().second(0.0)
    rounds = max(1, min(MOST_TIMES, int(np.ceil((seen.end_s() - start) / length_s))))
    time_map = TimeMap(np.array([0.0, rounds * length_s]), np.array([start, start + rounds * length_s]))
    return Fit((), time_map, take_times([]), ())


def _by_two_tempi(seen: SessionState, entry: TakeEntry, factor: float) -> Fit:
    """A take of which no pulse is known, drawn out from its first frame on; its frames are those of its
    length times the factor, rounded.
    """
    row = seen.rows[entry.id]
    rate = row.sample_rate_hz or 1
    frames = max(1, round((row.frames or 0) * factor))
    time_map = TimeMap(
        np.array([0.0, seen.duration_s(entry.id)]), entry.offset_s + np.array([0.0, frames / rate])
    )
    return Fit((), time_map, take_times([]), ())


def _whole_bars(seen: SessionState, entry: TakeEntry, pace: TempoMap[TakeTimes], length_s: float) -> bool:
    """Whether a loop is whole bars long from its first frame on, by the pace that it follows with."""
    line = seen.session_map()
    if line is None:
        return False
    start = line.bar_line(bar_index(entry.first_bar))
    return loop_bars(pace.counted_later(-start), length_s) is not None


def can_come_round(seen: SessionState, entry: TakeEntry) -> bool:
    """Whether a take is a loop of whole bars that follows at its own pace, so that it can be heard again and
    again.
    """
    pace = seen.own_pace(entry.id)
    follows = entry.role != "lead" and entry.pace == "own" and entry.keeps != "time" and not entry.bundle
    return follows and pace is not None and _whole_bars(seen, entry, pace, seen.duration_s(entry.id))


def _rests(seen: SessionState, timing: str) -> list[tuple[float, float]]:
    """Pauses between notes that all mics of a take's bundle have, seconds of the timing take; looked for once
    for each sound.
    """
    entry = seen.document.take(timing)
    each = []
    for mate in seen.document.bundle_of(timing):
        row = seen.rows.get(mate.id)
        if row is None or row.decoded_sha is None or row.state == WANTED:
            continue
        found = seen.folder.once(("rests", row.decoded_sha), lambda row=row: _rests_in(seen, row))  # type: ignore[misc]
        late = mate.offset_s - entry.offset_s
        each.append([(start + late, stop + late) for start, stop in found])
    return in_all(each)


def _rests_in(seen: SessionState, row: TakeRow) -> list[tuple[float, float]]:
    heard = seen.folder.analysis(row)
    kept = heard.facts.get("rests") if heard is not None else None
    if kept is not None and row.sample_rate_hz:
        return [(start / row.sample_rate_hz, stop / row.sample_rate_hz) for start, stop in kept]
    with seen.folder.source(row) as source:
        return rests_in(source)


def marks_of(seen: SessionState, timing: str) -> Onsets:
    """The marks that a fit goes by, on the timing take's clock: its own, or of a bundle those of all its mics
    as one.
    """
    return marks_and_mics(seen, timing)[0]


def marks_and_mics(seen: SessionState, timing: str) -> tuple[Onsets, list[str]]:
    """(the marks that a fit goes by, of each the id of the take whose mark it is)."""
    together, entry = seen.document.bundle_of(timing), seen.document.take(timing)
    if len(together) < 2:
        alone = seen.onsets(timing)
        return alone, [timing] * len(alone)
    silent = left_out(seen, timing)
    each = [
        no_onsets() if mate.id in silent else _later(seen.onsets(mate.id), mate.offset_s - entry.offset_s)
        for mate in together
    ]
    marks, mics = union(each, [_at(together, take_id) for take_id in mics_in_order(seen, timing)])
    return marks, [together[mic].id for mic in mics]


def joint_marks(seen: SessionState, take_id: str) -> Onsets:
    """The marks of a take's performance on its own clock: of a bundle those of all its mics as one."""
    timing = seen.document.timing_take(take_id)
    late = seen.document.take(timing).offset_s - seen.document.take(take_id).offset_s
    return _later(marks_of(seen, timing), late)


def joined(seen: SessionState, take_id: str) -> list[bool]:
    """Of each mark of a take whether it stands for its stroke: of several mics' marks of one stroke one
    does.
    """
    own = seen.onsets(take_id)
    if len(seen.document.bundle_of(take_id)) < 2:
        return [True] * len(own)
    marks, mics = marks_and_mics(seen, seen.document.timing_take(take_id))
    timing = seen.document.take(seen.document.timing_take(take_id))
    late = timing.offset_s - seen.document.take(take_id).offset_s
    mine = np.array([time for time, mic in zip(marks.times, mics, strict=True) if mic == take_id]) + late
    if not len(mine):
        return [False] * len(own)
    near = np.abs(np.asarray(own.times)[:, None] - mine[None, :]).min(axis=1)
    found: list[bool] = (near < SAME_MARK_S).tolist()
    return found


def left_out(seen: SessionState, timing: str) -> tuple[str, ...]:
    """The takes of a bundle whose marks do not count."""
    choice = seen.document.rules.get(timing)
    return choice.out if choice is not None else ()


def mics_in_order(seen: SessionState, timing: str) -> list[str]:
    """The takes of a bundle as their marks count: those that the sentence names first, then the clearest."""
    together = seen.document.bundle_of(timing)
    choice = seen.document.rules.get(timing) or default_rule()
    ids = [mate.id for mate in together]
    named = [take_id for take_id in choice.first if take_id in ids]
    return [
        *named,
        *(ids[k] for k in clearest_first([seen.onsets(take_id) for take_id in ids]) if ids[k] not in named),
    ]


def _at(together: Sequence[TakeEntry], take_id: str) -> int:
    return next(k for k, mate in enumerate(together) if mate.id == take_id)


def _later(onsets: Onsets, by_s: float) -> Onsets:
    return (
        onsets
        if by_s == 0
        else Onsets(take_times(np.asarray(onsets.times) + by_s), onsets.strength, onsets.confidence)
    )


@lru_cache(maxsize=64)
def _chosen(files: tuple[Path, ...], source_s: bytes, target_s: bytes, kind: str) -> Choice:
    """The method for all mics of a bundle; remembered, for every two seconds of a preview ask for it."""
    time_map = TimeMap(np.frombuffer(source_s), np.frombuffer(target_s))
    with ExitStack() as stack:
        return method_of([stack.enter_context(FileSource(file)) for file in files], time_map, kind)


def bundle_shas(together: Sequence[TakeEntry], takes: Mapping[str, TakeRow]) -> tuple[str, ...]:
    """The decoded files that are stretched as one with a take: all of its bundle that are there and share a
    sample rate, in the bundle's order; none where it is alone."""
    there = [takes[take.id] for take in together if take.id in takes and takes[take.id].decoded_sha]
    if len(there) < 2 or len({row.sample_rate_hz for row in there}) > 1:
        return ()
    return tuple(str(row.decoded_sha) for row in there)


def bundle_files(
    folder: DataFolder, together: Sequence[TakeEntry], takes: Mapping[str, TakeRow], take_id: str
) -> tuple[tuple[Path, ...], int]:
    """(files of all that are stretched as one with a take, which of them is its own); no files where it is
    alone.
    """
    shas = bundle_shas(together, takes)
    own = takes[take_id].decoded_sha
    return (tuple(folder.blob(sha) for sha in shas), shas.index(own)) if own in shas else ((), 0)


def is_fitted(seen: SessionState, take_id: str) -> bool:
    """Whether a take leaves fitted: a sentence was stated for it, or it follows the session at its own
    pace.
    """
    if in_pieces(seen, take_id):
        # A take in pieces is fitted after it was kept as one of its own.
        return False
    timing = seen.document.timing_take(take_id)
    entry = seen.document.take(timing)
    pace = seen.own_pace(timing)
    follows = entry.role != "lead" and entry.pace == "own" and entry.keeps != "time" and pace is not None
    return timing in seen.document.rules or follows or (pace is None and entry.two_tempi is not None)


def as_played(seen: SessionState) -> list[TakeEntry]:
    """Takes that could be pulled onto the bars and are not yet, one of each bundle; the lead's own mics are
    what the bars were read from, and what was kept as it was fitted is done, its source with it.
    """
    document, lead, replaced = seen.document, seen.document.lead, seen.document.replaced
    return [
        take
        for take in document.takes
        if take.role != "lead"
        and document.timing_take(take.id) == take.id
        and not (take.bundle and lead is not None and take.bundle == lead.bundle)
        and take.source is None
        and take.id not in replaced
        and not in_pieces(seen, take.id)
        and not is_fitted(seen, take.id)
        and seen.own_pace(take.id) is not None
    ]


def differs_ms(seen: SessionState, take_id: str) -> float:
    """By how much at most an onset lies elsewhere than where an older version of the program, which read
    rules against the beats, had it; 0 where its sentence is not of that time.
    """
    timing = seen.document.timing_take(take_id)
    choice, beats = seen.document.rules.get(timing), seen.own_pace(timing)
    if choice is None or not choice.before or beats is None or in_pieces(seen, take_id):
        return 0.0
    found: float = seen.once("differs", lambda: _differs_ms(seen, timing, choice, beats), timing)
    return found


def _differs_ms(seen: SessionState, timing: str, choice: RuleChoice, beats: TempoMap[TakeTimes]) -> float:
    marks, length = marks_of(seen, timing), seen.duration_s(timing)
    made = take_fit(seen, timing)
    if not len(marks):
        return 0.0
    offset = seen.document.take(timing).offset_s
    by_beats = following(beats, seen.need_map(), offset, length)
    pegs = seen.document.pegs.get(timing, TakePegs())
    old = lay(Asked(marks, beats, by_beats, seen.need_map(), length, choice.rules, pegs.pegs, pegs.rides))
    times = np.asarray(marks.times)
    apart = np.abs(old.time_map.to_target(times) - made.fit.time_map.to_target(times))
    return 1000.0 * float(apart.max())


def key_of(seen: SessionState, made: TakeFit, take_id: str) -> str:
    """What the render of one take of a fit's bundle is kept by."""
    shas = bundle_shas(seen.document.bundle_of(take_id), seen.rows)
    return render_key(seen.rows[take_id].decoded_sha or "", made.fit.time_map, made.method, shas, made.levels)


def is_rendered(seen: SessionState, made: TakeFit) -> bool:
    """Whether a fit was rendered as it stands."""
    return render_of(seen.folder, seen.opened.row.id, made.key) is not None


def proof_of(seen: SessionState, made: TakeFit) -> list[tuple[float, float, float | None]] | None:
    """What the render of a fit was measured to be: (onset of the take, where it was to be, ms off); None
    where it is not rendered as it stands.
    """
    file = render_of(seen.folder, seen.opened.row.id, made.key)
    found = json.loads(file.details).get("proof") if file is not None else None
    return None if found is None else [(take_s, target, off) for take_s, target, off in found]


def sentence(choice: RuleChoice, entry: TakeEntry) -> str:
    """What is said of how a take is pulled, in words."""
    base = choice.rule
    others = [one for one in choice.rules if one is not base]
    # The one that counts most comes first.
    said = [f"{in_bars(one, base)}." for one in others[::-1][:MOST_SAID]]
    more = [f"And {len(others) - MOST_SAID} more of their own bars."] if len(others) > MOST_SAID else []
    return " ".join([rule_words(base, entry), *said, *more])


def in_bars(rule: Rule, base: Rule) -> str:
    """What a sentence of some bars says beside another: "Bars 9–12: 85 % strength"."""
    named = bars_words(rule.bars)
    said = [mine for mine, other in zip(rule.says(), base.says(), strict=True) if mine != other]
    return f"{named[:1].upper()}{named[1:]}: {', '.join(said) or 'as elsewhere'}"


def rule_words(rule: Rule, entry: TakeEntry) -> str:
    """A sentence about a take in words."""
    name, bars = entry.name, bars_words(rule.bars)
    accents = f" Its level takes {rule.accent:g} % of the groove's accents." if rule.accent else ""
    # Against itself a take has none: what is left is that of its off-beats.
    own = entry.role != "lead" and entry.pace == "own"
    kept = " The lead or lag of its off-beats stays." if own else " Its own lead or lag stays."
    lag = (kept if rule.keep_lag else "") + accents
    if rule.coarse:
        return (
            f"The first onset of {name} in each of {bars} goes to its line; the playing inside stays in "
            f"proportion.{lag}"
        )
    if rule.strength == 0:
        return f"All onsets of {name} stay where they were played, but for what is pulled by hand."
    return (
        f"Onsets of {name} in {bars} go to the nearest {rule.places} with {rule.strength:g} % strength; "
        f"leave alone what is closer than {rule.leave_alone_ms:g} ms; ignore {rule.ignored}.{lag}"
    )
