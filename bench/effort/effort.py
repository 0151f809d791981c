"""How many actions a person needs from the first map to the right one:
`.venv/bin/python -m bench.effort.effort [--songs N] [--first SEED] [--seeds SEED ...] [--only NAME ...]
[--verbose]`.

A scripted user who sees only what the program shows. The first way to count is wrong and a right one is
offered: that reading is taken. Else the first place of "Look here" that is wrong is mended with the one
action that puts most lines right (what is proposed there, a downbeat and how far it is meant, which are two
actions, a moment that opens no bar, a bar, a meter, a level, a beat, an odd bar, a pull); else the first
wrong bar, which is a silent error. A line is right between the first and the last note that is struck on its
downbeat, 10 ms around them; lines where there is no downbeat are wrong as well. Truth: the shared excerpts,
and songs of bench/ear on sampled instruments.
"""

from __future__ import annotations

import argparse
import json
import tempfile
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import soundfile as sf

from combpace.core.audio import Audio
from combpace.core.clocks import Quarters
from combpace.core.errors import CombPaceError
from combpace.core.tempo.statements import REACHES
from combpace.session import shelf
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import considered, decide
from combpace.session.foresight import as_if
from combpace.session.state import SessionState, session_state
from combpace.settings import Settings
from combpace.stations import registry
from combpace.stations.lead_readings import ways
from rig.places import bring_in
from rig.shared import OPEN, needed

FIRST_SEED = 7_600_000
# Notes so near to a downbeat are struck on it; a line lies so far outside of the first and last of them at
# most.
ON_IT_S, WITHIN_S = 0.050, 0.010
MOST_ACTIONS = 15
# Who steps to a place hears it from one bar before to one bar after: it is about a wrong line in so many bars
# of it.
ABOUT_BARS = 1.1
RIGHT_F = 0.9


@dataclass(frozen=True)
class Truth:
    """Beats, downbeats with their meters, and from when to when each line is right."""

    beats: np.ndarray
    downbeats: np.ndarray
    meters: list[str]
    low: np.ndarray
    high: np.ndarray


@dataclass
class Found:
    name: str
    actions: list[str] = field(default_factory=list)
    left: int = 0
    silent: int = 0
    first_wrong: int = 0
    listed: int = 0
    listed_wrong: int = 0
    helped: int = 0
    harmed: int = 0
    same: int = 0
    undone: int = 0


def truth_of(beats: np.ndarray, downbeats: np.ndarray, meters: list[str], notes: np.ndarray) -> Truth:
    low, high = downbeats.copy(), downbeats.copy()
    for k, time in enumerate(downbeats):
        near = notes[np.abs(notes - time) <= ON_IT_S]
        if len(near):
            low[k], high[k] = near.min(), near.max()
    return Truth(beats, downbeats, meters, low - WITHIN_S, high + WITHIN_S)


def lines_of(state: SessionState, truth: Truth) -> np.ndarray:
    """Moments of the map's lines in the part that truth knows."""
    line = state.session_map()
    if line is None:
        return np.zeros(0)
    gap = float(np.median(np.diff(truth.downbeats))) if len(truth.downbeats) > 1 else 2.0
    first, last = (
        line.bar_of(line.place(truth.downbeats[0] - 0.6 * gap)),
        line.bar_of(line.place(truth.downbeats[-1] + 0.4 * gap)),
    )
    lines = np.asarray(line.to_seconds(line.bar_lines(first, last - first)))
    return lines[(lines > truth.downbeats[0] - 0.4 * gap) & (lines < truth.downbeats[-1] + 0.4 * gap)]


def wrong(state: SessionState, truth: Truth) -> list[float]:
    """Moments at which the map is wrong: downbeats without a line, lines without a downbeat; in order."""
    lines = lines_of(state, truth)
    missed = [
        float(time)
        for time, low, high in zip(truth.downbeats, truth.low, truth.high, strict=True)
        if not np.any((lines >= low) & (lines <= high))
    ]
    extra = [float(one) for one in lines if not np.any((truth.low <= one) & (one <= truth.high))]
    # An extra line beside a missed downbeat is that one, laid wrong.
    gap = float(np.median(np.diff(truth.downbeats))) if len(truth.downbeats) > 1 else 2.0
    extra = [one for one in extra if not any(abs(one - time) < 0.25 * gap for time in missed)]
    return sorted([*missed, *extra])


class User:
    def __init__(self, place: DataFolder, session: str, truth: Truth) -> None:
        self.place, self.session, self.truth = place, session, truth

    def state(self) -> SessionState:
        return session_state(self.place, self.session)

    def version(self) -> int:
        return self.state().opened.revision.version

    def would(self, name: str, args: dict[str, Any]) -> int | None:
        """How many lines would be wrong after an action; None where it is refused."""
        try:
            state, change = considered(self.place, self.session, name, self.version(), args)
            return len(wrong(as_if(state, change.parts), self.truth))
        except CombPaceError:
            return None

    def act(self, name: str, args: dict[str, Any]) -> None:
        decide(self.place, self.session, name, self.version(), args)

    def choices(self, at: float) -> Iterator[tuple[str, dict[str, Any]]]:
        """What a person may do about a wrong moment, in one action."""
        truth, state = self.truth, self.state()
        line = state.need_map()
        k = int(np.argmin(np.abs(truth.downbeats - at)))
        time = float(0.5 * (truth.low[k] + truth.high[k]))
        bar, _ = line.address(line.place(time) + 0.26)
        yield "downbeat", {"time_s": time}
        for reach in REACHES:
            yield "downbeat", {"time_s": time, "reach": reach}
        if np.abs(truth.downbeats - at).min() > ON_IT_S:
            yield "not-downbeat", {"time_s": at}
        yield "bar-1", {"time_s": float(0.5 * (truth.low[0] + truth.high[0]))}
        for step in (-1, 0, 1):
            if bar + step != 0:
                yield "bar", {"time_s": time, "bar": bar + step}
        for meter in dict.fromkeys([truth.meters[k], *truth.meters]):
            yield "meter", {"meter": meter}
            for number in (bar, bar + 1, bar - 1):
                if number > 1:
                    yield "meter", {"meter": meter, "bar": number}
        for factor in (2, -2, 3, -3, "3/2", "2/3"):
            yield "scale", {"factor": factor}
            if bar > 1:
                yield "scale", {"factor": factor, "bar": bar}
        for direction in ("later", "earlier"):
            yield "one-beat", {"direction": direction}
            for number in (bar, bar + 1):
                if number > 1:
                    yield "one-beat", {"direction": direction, "bar": number}
        for number in (bar - 1, bar):
            if number > 0:
                for beats in (2, 3, 4, 5, 6):
                    yield "odd-bar", {"bar": number, "beats": beats}
        if state.map_choice().kind == "steady":
            yield "breathing", {}
        else:
            yield "steady", {}
        here = line.bar_line(line.bar_of(line.place(time) + 0.26))
        yield "pull", {"time_s": time, "quarters": here, "free": True, "alone": True}
        yield "pull", {"time_s": time, "quarters": here, "free": True}
        yield "pull", {"time_s": time, "quarters": here}


def effort(place: DataFolder, session: str, truth: Truth, name: str) -> Found:
    """All that one excerpt takes."""
    user, found = User(place, session, truth), Found(name)
    state = user.state()
    at_first = wrong(state, truth)
    found.first_wrong = len(at_first)
    listed = registry.places(state, registry.station("bars"), None)
    about_s = ABOUT_BARS * float(np.median(np.diff(truth.downbeats))) if len(truth.downbeats) > 1 else 2.0
    about = [one for one in listed if one.time_s is not None]
    found.listed = len(listed)
    found.listed_wrong = sum(
        any(abs(one.time_s - time) < about_s for time in at_first) for one in about if one.time_s is not None
    ) + sum(bool(at_first) for one in listed if one.time_s is None)
    for one in listed:
        if one.do is None:
            continue
        left = user.would(one.do.name, one.do.args)
        if left is not None:
            found.helped += left < len(at_first)
            found.harmed += left > len(at_first)
            found.same += left == len(at_first)
    mended: list[float] = []
    while (now := wrong(user.state(), truth)) and len(found.actions) < MOST_ACTIONS:
        reading = _right_reading(user, len(now)) if not found.actions else None
        if reading is not None:
            user.act(*reading)
            found.actions.append("reading")
            continue
        places = registry.places(user.state(), registry.station("bars"), None)
        doubted = next(
            (
                one
                for one in places
                if one.time_s is not None and any(abs(one.time_s - time) < about_s for time in now)
            ),
            None,
        )
        whole = next((one for one in places if one.time_s is None), None)
        at = now[0]
        near = [at]
        if doubted is not None and doubted.time_s is not None:
            near = [time for time in now if abs(time - doubted.time_s) < about_s]
        elif whole is None:
            found.silent += 1
        offered = [
            (one.do.name, one.do.args) for one in (doubted, whole) if one is not None and one.do is not None
        ]
        offered += [
            (choice.name, choice.args)
            for one in (doubted, whole)
            if one is not None
            for choice in one.choices
        ]
        if _beats_f(user.state(), truth) < RIGHT_F:
            offered.append(("read-again", {"about_bpm": float(60.0 / np.median(np.diff(truth.beats)))}))
        best = _best(user, [*offered, *(choice for time in near for choice in user.choices(time))], len(now))
        for time in now:
            # Nothing mends what is seen there: whoever looks on finds the next wrong bar.
            best = best or _best(user, list(user.choices(time)), len(now))
        if best is None:
            break
        at = min(now, key=lambda time: abs(time - best[1].get("time_s", near[0])))
        user.act(best[0], best[1])
        found.actions.append(f"{best[0]} {json.dumps(best[1])}")
        if "reach" in best[1]:
            # It is said, and then how far it is meant.
            found.actions.append("reach")
        later = wrong(user.state(), truth)
        found.undone += sum(any(abs(time - one) < WITHIN_S for one in later) for time in mended)
        mended.append(at)
    found.left = len(wrong(user.state(), truth))
    return found


def _right_reading(user: User, now: int) -> tuple[str, dict[str, Any]] | None:
    """Another way to count that is right: where beats are wrong one with right beats, else one with nearly
    all lines right; the likeliest.
    """
    state, truth = user.state(), user.truth
    offered = [(way.do.name, way.do.args) for way in ways(state) if way.do is not None]
    if _beats_f(state, truth) < RIGHT_F:
        for name, args in offered:
            _, change = considered(user.place, user.session, name, user.version(), args)
            if _beats_f(as_if(state, change.parts), truth) >= RIGHT_F:
                return name, args
    best = _best(user, offered, now)
    if best is None or best[2] > (1 - RIGHT_F) * len(truth.downbeats):
        return None
    return best[0], best[1]


def _beats_f(state: SessionState, truth: Truth) -> float:
    """F measure of the map's beats within 70 ms (MIREX), in the part that truth knows."""
    line = state.session_map()
    if line is None:
        return 0.0
    places = line.beats_between(line.place(truth.beats[0]) - 0.2, line.place(truth.beats[-1]) + 0.2)
    found = np.asarray(line.to_seconds(Quarters(places)))
    if not len(found):
        return 0.0
    hits = min(
        int((np.abs(truth.beats[:, None] - found[None, :]).min(axis=axis) <= 0.07).sum()) for axis in (0, 1)
    )
    return 2 * hits / (len(found) + len(truth.beats))


def _best(
    user: User, choices: list[tuple[str, dict[str, Any]]], now: int
) -> tuple[str, dict[str, Any], int] | None:
    """The choice that leaves fewest wrong; None where none leaves fewer than there are."""
    best: tuple[str, dict[str, Any], int] | None = None
    for name, args in choices:
        left = user.would(name, args)
        if left is not None and left < (now if best is None else best[2]):
            best = name, args, left
            if left == 0:
                break
    return best


def measured(name: str, audio: Audio, truth: Truth) -> Found:
    with tempfile.TemporaryDirectory() as folder:
        place = DataFolder(replace(Settings(), data_dir=Path(folder) / "data"))
        place.prepare()
        try:
            session = shelf.create(place, name)
            bring_in(place, session, audio, f"{name}.wav")
            return effort(place, session, truth, name)
        finally:
            place.close()


def excerpt(name: str) -> Found:
    samples, rate = sf.read(OPEN / f"{name}.flac", dtype="float32", always_2d=True)
    known = json.loads((OPEN / f"{name}.json").read_text())
    notes = np.array([one["t"] for one in known["onsets"]])
    return measured(
        name,
        Audio(samples.T, rate),
        truth_of(
            np.array(known["beats"]),
            np.array(known["downbeats"]),
            [bar["meter"] for bar in known["bars"]],
            notes,
        ),
    )


def song(seed: int) -> Found:
    from bench.ear.sampled import to_measure

    made = to_measure(seed)
    downbeats = np.array([bar.beats[0] for bar in made.bars])
    notes = np.array([time for time, _ in made.onsets])
    return measured(
        str(seed),
        made.audio,
        truth_of(
            np.array([time for bar in made.bars for time in bar.beats]),
            downbeats,
            [str(bar.meter) for bar in made.bars],
            notes,
        ),
    )


def report(title: str, found: list[Found], *, verbose: bool) -> None:
    counts = np.array([len(one.actions) for one in found])
    right = [one for one in found if one.first_wrong == 0]

    def total(of: str) -> int:
        return sum(getattr(one, of) for one in found)

    never, silent = sum(one.left > 0 for one in found), sum(one.silent > 0 for one in found)
    most = max([one.listed for one in right], default=0)
    print(
        f"{title}: {len(found)} takes, {len(right)} right at once; actions: mean "
        f"{counts.mean():.2f}, most {counts.max()}; never right {never}"
    )
    print(f"  silent errors in {silent} takes; corrections undone {total('undone')}")
    print(
        f"  proposals taken blindly: {total('helped')} help, {total('same')} make no difference, "
        f"{total('harmed')} harm"
    )
    print(
        f"  {total('listed')} places listed, {total('listed_wrong')} about a wrong line; in a map "
        f"that is right at most {most}"
    )
    for one in found:
        if verbose and (one.actions or one.left or one.harmed):
            print(
                f"  {one.name}: {one.first_wrong} wrong at first, {one.left} left, silent "
                f"{one.silent}, harmed {one.harmed}, "
                f"undone {one.undone}, listed {one.listed}; {'; '.join(one.actions)}"
            )


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--songs", type=int, default=0)
    parser.add_argument("--first", type=int, default=FIRST_SEED)
    parser.add_argument("--seeds", nargs="*", type=int)
    parser.add_argument("--only", nargs="*")
    parser.add_argument("--verbose", action="store_true")
    options = parser.parse_args()
    names = (
        options.only
        if options.only is not None
        else sorted(path.stem for path in needed(OPEN).glob("*.json") if path.stem != "index")
    )
    with ProcessPoolExecutor(2) as pool:
        runs: list[tuple[str, Callable[[Any], Found], list[Any]]] = [
            ("open", excerpt, names),
            ("songs", song, options.seeds or list(range(options.first, options.first + options.songs))),
        ]
        for title, run, items in runs:
            if items:
                report(title, list(pool.map(run, items)), verbose=options.verbose)


if __name__ == "__main__":
    main()
