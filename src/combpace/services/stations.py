"""What each station says in words: its finding, and the facts of its sentence."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from combpace.core.tempo.map import TempoMap
from combpace.services import fit, handoff, look, picture, words
from combpace.services.document import KINDS, TakeEntry
from combpace.services.workplace import SessionState

STATIONS = ("takes", "pace", "bars", "onsets", "fit", "hand-off")
TITLES = {"takes": "Takes", "pace": "Pace", "bars": "Bars", "onsets": "Onsets", "fit": "Fit", "hand-off": "Hand-off"}
# Keys 1 to 7 stay with their station; Pieces is not there yet.
KEYS = {"takes": 1, "pace": 2, "bars": 3, "onsets": 4, "fit": 5, "hand-off": 7}

# A count that is less sure than this is said to be.
SURE_COUNT = 0.7


@dataclass(frozen=True, slots=True)
class Station:
    """A station in the row at the top."""

    id: str
    title: str
    key: int
    finding: str


def focus_of(seen: SessionState, wanted: str | None, station: str) -> str | None:
    """The take a station is about: the one asked for, else one to fit, else the lead."""
    ids = [take.id for take in seen.document.takes]
    if wanted in ids:
        return wanted
    if station == "fit":
        followers = [take.id for take in seen.document.takes if take.role != "lead" and not take.bundle and seen.own_pace(take.id)]
        if followers:
            return followers[0]
    return seen.document.lead.id if seen.document.lead else None


def mic_name(take: TakeEntry) -> str:
    """A take's name, without that of its bundle where it begins with it and other words follow: there is little room."""
    rest = take.name.removeprefix(take.bundle) if take.bundle else ""
    return rest.strip(" -_.,:") if rest[:1] in tuple(" -_.,:") and rest.strip(" -_.,:") else take.name


def findings(seen: SessionState, focus: str | None) -> list[Station]:
    """The row of stations, each with its own finding."""
    texts: Mapping[str, str] = seen.workplace.once(("findings", focus, *seen.state, _jobs_key(seen)), lambda: _findings(seen, focus))
    return [Station(name, TITLES[name], KEYS[name], texts[name]) for name in STATIONS]


def _jobs_key(seen: SessionState) -> int:
    return len(handoff.files_of(seen.workplace, seen.opened.row.id))


def _findings(seen: SessionState, focus: str | None) -> dict[str, str]:
    takes = seen.document.takes
    lead = seen.document.lead
    session_map = seen.session_map()
    if lead is None:
        empty = "after a take is in"
        return {"takes": "none yet: drop one", "pace": empty, "bars": empty, "onsets": empty, "fit": empty, "hand-off": empty}
    bundle = [take for take in takes if lead.bundle and take.bundle == lead.bundle]
    others = len(takes) - max(1, len(bundle))
    lead_words = f"{len(bundle)} mics" if len(bundle) > 1 else "1 lead"
    found = {"takes": f"{lead_words}, {words.count(others, 'follower')}" if others else lead_words}
    listening = [take for take in takes if seen.rows.get(take.id) and seen.rows[take.id].state in ("waiting", "listening")]
    if listening:
        found["takes"] += f", {len(listening)} being read"
    if session_map is None:
        why = "listening" if listening else "no pulse: state a tempo"
        return found | {name: why for name in STATIONS if name != "takes"}
    beat = session_map.meters[0].beat_quarters
    if seen.map_choice().kind == "steady":
        found["pace"] = f"steady {session_map.bpm_at(0.0) / beat:.2f}"
    else:
        found["pace"] = f"breathing {words.bpm_range(session_map, max(0.0, session_map.second(0.0)), seen.end_s())}"
    rows = [row for row in picture.picture(seen, None)["bars"] if row["i"] >= 0]
    doubtful = len(look.places(seen, "bars", None))
    found["bars"] = f"{words.count(len(rows), 'bar')}, " + (f"{doubtful} to look at" if doubtful else "nothing doubtful")
    marks = focus or lead.id
    count, weak = len(seen.onsets(marks)), len(look.places(seen, "onsets", marks))
    # Whose they are: the station before and the one after may look at another take.
    whose = f" in {mic_name(seen.document.take(marks))}" if len(takes) > 1 else ""
    found["onsets"] = f"{count}, {weak} doubtful{whose}"
    # The mics of a bundle move by the rule of one of them.
    ruled = [by for take in takes if (by := seen.document.timing_take(take.id)) in seen.document.rules]
    if ruled:
        rule = seen.document.rules[ruled[-1]].rule
        found["fit"] = f"{words.count(len(ruled), 'take')} to {rule.grid}, {rule.strength * 100:g} %"
    else:
        found["fit"] = "nothing pulled yet"
    files = [file for file in handoff.files_of(seen.workplace, seen.opened.row.id) if file.kind != "handoff archive"]
    found["hand-off"] = words.count(len(files), "file") if files else "nothing handed off"
    return found


@dataclass(frozen=True, slots=True)
class TempoLine:
    """One tempo on offer: what it is, and where it would lie at the last bar."""

    bpm: float
    source: str
    at_end: str
    fits: bool
    in_force: bool


def pace_facts(seen: SessionState) -> dict[str, Any] | None:
    """The verdict and the tempi on offer, or None while nothing was heard."""
    lead = seen.document.lead
    heard = seen.analysis(lead.id) if lead else None
    facts = seen.steady(lead.id) if lead else None
    if lead is None or heard is None or not facts:
        return None
    session_map = seen.session_map()
    choice = seen.map_choice()
    beat = session_map.meters[0].beat_quarters if session_map else 1.0
    force = choice.bpm / beat if choice.kind == "steady" and choice.bpm else None
    duration = seen.duration_s(lead.id)
    fitted = facts["bpm"]
    lines = [TempoLine(fitted, f"fitted, ±{facts['plus_minus_bpm']:.4f}", f"±{facts['scatter_ms']:.1f} ms", True, _same(fitted, force))]
    for name, step in (("tenth", 0.1), ("half", 0.5), ("whole", 1.0)):
        value = round(round(fitted / step) * step, 4)
        if all(abs(value - line.bpm) > 5e-5 for line in lines):
            offset = 1000.0 * (duration * value / fitted - duration) * -1.0
            words_ = (
                f"{abs(offset):.0f} ms {'late' if offset < 0 else 'early'}"
                if abs(offset) < 2000
                else f"{abs(offset) / 1000:.2f} s {'late' if offset < 0 else 'early'}"
            )
            lines.append(TempoLine(value, f"nearest {name}", words_, abs(offset) < 10, _same(value, force)))
    for candidate in facts["candidates"]:
        if candidate["relation"] != "as read" and len(lines) < 8:
            text = f"explains {candidate['evidence'] * 100:.0f} %"
            lines.append(TempoLine(candidate["bpm"], candidate["relation"], text, True, _same(candidate["bpm"], force)))
    if force is not None and not any(line.in_force for line in lines):
        lines.insert(0, TempoLine(force, "in force", "", True, True))
    pace = seen.own_pace(lead.id)
    sure = float(np.mean([knot.confidence for knot in pace.knots])) if pace else 0.0
    # What was corrected, or runs at a tempo that was stated, is counted as the user has it.
    decided = lead.id in seen.document.paces or seen.document.map.kind == "steady"
    heard_as = heard.facts.get("counted")
    # Where the count is doubted, beats are doubtful for it and not for how they are played.
    doubted = lead.id not in seen.document.paces and heard_as is not None and heard_as < SURE_COUNT
    return {
        "facts": facts,
        "sure": None if doubted else round(100 * sure),
        "counted": None if decided or heard_as is None else round(100 * heard_as),
        "doubted": doubted and not decided,
        "lines": lines,
        "verdict": _verdict(facts),
        "map_advice": "one tempo will do" if facts["verdict"] == "steady" else "let the map follow it",
    }


def _same(a: float, b: float | None) -> bool:
    return b is not None and abs(a - b) < 5e-4


def _verdict(facts: Mapping[str, Any]) -> str:
    how = {"steady": "is steady", "wanders": "breathes", "speeds up": "speeds up", "slows down": "slows down"}[facts["verdict"]]
    return f"The playing {how}"


def take_lines(seen: SessionState) -> list[dict[str, Any]]:
    """The ledger: a line a take."""
    lines = []
    for take in seen.document.takes:
        row = seen.rows.get(take.id)
        facts = picture.take_facts(seen, take.id)
        facts["tempo"] = _own_tempo(seen, take)
        facts["length"] = words.clock(facts["duration_s"])[:-4] if facts["duration_s"] else ""
        facts["form"] = _form(row.sample_rate_hz, row.channels) if row and row.sample_rate_hz and row.channels else ""
        facts["start"] = words.clock(take.offset_s)
        facts["notes"] = json.loads(row.notes) if row else []
        facts["kinds"] = KINDS
        facts["bundle_mates"] = len(seen.document.bundle_of(take.id)) - 1
        lines.append(facts)
    return lines


def _form(rate: int, channels: int) -> str:
    form = {1: "mono", 2: "stereo"}.get(channels, f"{channels} channels")
    return f"{rate / 1000:g} kHz {form}"


def _own_tempo(seen: SessionState, take: TakeEntry) -> str:
    """In words: "own tempo 103.4, follows the session"."""
    heard = seen.analysis(take.id)
    if heard is None:
        return ""
    if heard.pace is None:
        return "no pulse found"
    fitted = seen.steady(take.id)
    tempo = fitted["bpm"] if fitted else 0.0
    if take.role == "lead":
        return f"about {tempo:.1f} BPM, the map is read from it"
    if take.pace == "own":
        return f"own tempo {tempo:.1f}, follows the session"
    bars = len(seen.onsets(take.id))
    return f"played to the lead, {words.count(bars, 'onset')}"


def fit_sentence(seen: SessionState, take_id: str) -> dict[str, Any]:
    """Fields of the Fit sentence and what they do, or why there is nothing to fit."""
    made = fit.take_fit(seen, take_id)
    rule = made.choice.rule
    session_map = seen.need_map()
    half_step_ms = 1000 * 0.5 * rule.grid.step_quarters * 60 / session_map.bpm_at(0.0)
    return {
        "take": made.take,
        "stated": made.stated,
        "grid": str(rule.grid),
        "swing": f"{rule.grid.swing * 100:g}",
        "strength": f"{rule.strength * 100:g}",
        "leave_alone": f"{rule.leave_alone_ms:g}",
        "ignore": "nothing" if rule.ignore_beyond_ms is None else f"{rule.ignore_beyond_ms:g}",
        "ignore_idle": rule.ignore_beyond_ms is not None and rule.ignore_beyond_ms >= half_step_ms,
        "half_step_ms": half_step_ms,
        "bars": "all" if rule.bars is None else f"{rule.bars[0]}–{rule.bars[1]}",
        "method": made.choice.method,
        "used": made.method,
        "reason": made.reason,
        "numbers": picture.fit_numbers(made),
        "rendered": fit.rendered(seen.workplace, seen.opened.row.id, made.key) is not None,
        "spread_ms": _tightness(made),
        "mates": len(seen.document.bundle_of(take_id)) - 1,
    }


def _tightness(made: fit.TakeFit) -> dict[str, int]:
    """Share of the onsets near a grid place that lie within 10 ms of it, as played and as fitted."""
    pegs = [peg for peg in made.fit.pegs if peg.kind in ("pulled", "left alone")]
    if not pegs:
        return {"before": 0, "after": 0}
    strength = max(made.choice.rule.strength, 1e-6)
    # The grid place of a pulled onset follows from how far strength has moved it.
    goal = np.array([peg.own_s + (peg.target_s - peg.own_s) / (strength if peg.kind == "pulled" else 1.0) for peg in pegs])
    own, new = np.array([peg.own_s for peg in pegs]), np.array([peg.target_s for peg in pegs])
    return {"before": round(100 * float(np.mean(np.abs(own - goal) < 0.010))), "after": round(100 * float(np.mean(np.abs(new - goal) < 0.010)))}


def bars_facts(seen: SessionState) -> dict[str, Any] | None:
    """Fields of the Bars sentence."""
    session_map = seen.session_map()
    lead = seen.document.lead
    if session_map is None or lead is None:
        return None
    pace: TempoMap[Any] | None = seen.own_pace(lead.id)
    steady = seen.map_choice().kind == "steady"
    fixed = 0 if steady or pace is None else sum(knot.fixed for knot in pace.knots)
    return {
        "bar_1": words.clock(session_map.second(0.0)),
        "meter": str(session_map.meters[0]),
        "meters": words.meter_changes(session_map),
        "steady": steady,
        "anchors": fixed,
        "bpm": f"{session_map.bpm_at(0.0) / session_map.meters[0].beat_quarters:.4f}".rstrip("0").rstrip("."),
    }
