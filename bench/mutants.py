"""Whether the tests notice: `.venv/bin/python -m bench.mutants [--only WORD ...] [--at-once 2]`.

Each mutant is one small fault in one place. It is put into a copy of the tree, its room's tests run there,
and it is caught where one of them fails. Each room must pass before. Two run at a time. The last line is the
share that was caught; exit status 1 below LEAST. A mutant whose text is no longer in the source is an error:
the list follows the code.
"""

from __future__ import annotations

import argparse
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
LEAST = 0.9
# No room's tests take longer; a mutant that hangs is caught.
LONGEST_S = 240

TEMPO, FIT, PIECES, PARTS = "core/tempo", "core/fit", "core/pieces", "core/parts"
ONSETS, STRETCH, MEDIA, STORE, SESSION = "core/onsets", "core/stretch", "media", "store", "session"


@dataclass(frozen=True)
class Mutant:
    """A fault: in this file this text becomes that one. room: its tests, a folder or module below tests/."""

    name: str
    file: str
    old: str
    new: str
    room: str


MUTANTS = (
    # -- tempo maps
    Mutant(
        "bars that hold",
        "core/tempo/bars_again.py",
        "and said.opens <= set(lines.starts) | led and",
        "and said.opens < set(lines.starts[:1]) and",
        TEMPO,
    ),
    Mutant(
        "beside the beat",
        "core/tempo/bars_again.py",
        "said(times) - AS_MUCH",
        "said(times) - 100 * AS_MUCH",
        TEMPO,
    ),
    Mutant(
        "lead-in of whole bars",
        "core/tempo/bars_again.py",
        "- times[beat]) > SAME_S",
        "- times[beat]) > 1e9",
        TEMPO,
    ),
    Mutant(
        "one meter shifts", "core/tempo/bars_again.py", "if len(phases) > 1:", "if len(phases) > 0:", TEMPO
    ),
    Mutant(
        "ties fade out",
        "core/tempo/tied.py",
        "FADE_BARS * pace.meters",
        "0.01 * FADE_BARS * pace.meters",
        TEMPO,
    ),
    Mutant("what is tied stays", "core/tempo/tied.py", "time_s=tie.time_s, fixed", "fixed", TEMPO),
    Mutant("from here on", "core/tempo/lines_moved.py", '== "from here on"', '== "from here"', TEMPO),
    Mutant(
        "where no bar begins",
        "core/tempo/bars_again.py",
        "if self.others & set",
        "if not self.others & set",
        TEMPO,
    ),
    Mutant("tempo bound", "core/tempo/map.py", "or bpm.max() > MAX_BPM", "or bpm.max() > 2 * MAX_BPM", TEMPO),
    Mutant(
        "meter order",
        "core/tempo/map.py",
        "if any(a.bar >= b.bar for",
        "if any(a.bar > b.bar for",
        TEMPO,
    ),
    Mutant(
        "last knot exact",
        "core/tempo/map.py",
        "        ys[span + 1] - (1 - share) * (ys[span + 1] - ys[span]),\n    )\n    return "
        "result\n\n\ndef _along",
        "        ys[span] + share * (ys[span + 1] - ys[span]),\n    )\n    return result\n\n\ndef _along",
        TEMPO,
    ),
    Mutant("knots in time", "core/tempo/map.py", "np.all(np.diff(self.times_s) > 0)", "True", TEMPO),
    Mutant("first meter at bar 1", "core/tempo/map.py", "or self.meters[0].bar != 1", "or False", TEMPO),
    Mutant(
        "beat of an address",
        "core/tempo/map.py",
        "bar_number(index), 1.0 + max",
        "bar_number(index), max",
        TEMPO,
    ),
    Mutant(
        "compound meters", "core/tempo/meters.py", "self.numerator % 3 == 0", "self.numerator % 3 != 0", TEMPO
    ),
    Mutant("fade", "core/tempo/tied.py", "FADE_BARS = 4", "FADE_BARS = 8", TEMPO),
    Mutant("phase share", "core/tempo/tied.py", "PHASE_SHARE = 0.25", "PHASE_SHARE = 0.45", TEMPO),
    Mutant("conflict ratio", "core/tempo/tied.py", "LARGEST_RATIO = 2.6", "LARGEST_RATIO = 5.2", TEMPO),
    Mutant(
        "a locked anchor",
        "core/tempo/anchors.py",
        "here is not None and here.locked and abs(",
        "here is not None and not here.locked and abs(",
        TEMPO,
    ),
    Mutant("gap stiffness", "core/tempo/lay.py", "UNEVEN = 0.06", "UNEVEN = 0.6", TEMPO),
    Mutant("reach of a beat", "core/tempo/lay.py", "REACH = 0.18", "REACH = 0.6", TEMPO),
    Mutant("least taps", "core/tempo/tap.py", "if len(taps) < LEAST_TAPS", "if len(taps) < 2", TEMPO),
    Mutant(
        "tie of the grid",
        "core/tempo/grid.py",
        "inside[here] - low <= high",
        "inside[here] - low < high",
        TEMPO,
    ),
    Mutant(
        "swing", "core/tempo/grid.py", "(2 * self.swing - 1) * step", "(2 * self.swing - 1) * 2 * step", TEMPO
    ),
    Mutant("dotted grid", "core/tempo/grid.py", '"dotted": 1.5}', '"dotted": 0.75}', TEMPO),
    Mutant(
        "order of meters stated",
        "core/tempo/statements.py",
        "key=lambda change: change[0]",
        "key=lambda change: -change[0]",
        TEMPO,
    ),
    Mutant(
        "drift reach", "core/tempo/drift.py", "reach = (end - start) / 8", "reach = (end - start) / 2", TEMPO
    ),
    Mutant("drift nearest", "core/tempo/drift.py", "np.argmin(np.abs(times[lo:hi] - start))", "0", TEMPO),
    Mutant("drift sign", "core/tempo/drift.py", "1000.0 * (near - start)", "1000.0 * (start - near)", TEMPO),
    # -- fit
    Mutant(
        "tie by strength",
        "core/fit/pegs.py",
        "-float(strength[i])))",
        "float(strength[i])))",
        FIT,
    ),
    Mutant(
        "note-value ignore",
        "core/fit/pegs.py",
        "np.sign(distance) * rule.ignore_quarters)",
        "np.sign(distance) * 2 * rule.ignore_quarters)",
        FIT,
    ),
    Mutant("hand-peg rank", "core/fit/pegs.py", '"hand": 0, AS_PLAYED', '"hand": 3, AS_PLAYED', FIT),
    Mutant(
        "factor limit", "core/fit/pegs.py", "FACTOR_LIMITS = (0.5, 2.0)", "FACTOR_LIMITS = (0.25, 4.0)", FIT
    ),
    Mutant(
        "leave alone",
        "core/fit/pegs.py",
        "* 1000.0 < rule.leave_alone_ms",
        "* 1000.0 > rule.leave_alone_ms",
        FIT,
    ),
    Mutant(
        "keep lag",
        "core/fit/pegs.py",
        "distance[here] -= float(np.median(distance",
        "distance[here] += float(np.median(distance",
        FIT,
    ),
    Mutant(
        "the bar after", "core/fit/ranges.py", "& (places <= end - 1e-9)", "& (places <= end + 1e-9)", FIT
    ),
    Mutant(
        "a bar that was said",
        "core/tempo/recount.py",
        "pace.counted_later(by)",
        "pace.counted_later(-by)",
        "stations/test_onsets_and_fit",
    ),
    Mutant(
        "the later sentence",
        "core/fit/ranges.py",
        "in enumerate(rules):\n        places",
        "in reversed(list(enumerate(rules))):\n        places",
        FIT,
    ),
    Mutant(
        "the rest as elsewhere",
        "core/fit/ranges.py",
        "base_of(rules).but(bars=bars) if now",
        "Rule(bars=bars) if now",
        FIT,
    ),
    Mutant("beyond the take", "core/fit/ranges.py", "if end > high or", "if begin > high + 1 or", FIT),
    Mutant(
        "accents outside",
        "core/fit/accents.py",
        "here = rule.places, which == k",
        "here = rule.places, which >= -1",
        FIT,
    ),
    Mutant(
        "a bar alone on both sides", "core/fit/pegs.py", "for i in (k - 1, k + 1)", "for i in (k - 1,)", FIT
    ),
    Mutant(
        "pulled past", "core/fit/pegs.py", 'return "gave way" if passed', 'return "gave way" if False', FIT
    ),
    Mutant("strength", "core/fit/pegs.py", "own_s + strength * distance", "own_s + distance", FIT),
    Mutant(
        "one factor",
        "core/fit/follow.py",
        "steady=steady)\n    return following",
        "steady=None)\n    return following",
        FIT,
    ),
    Mutant("as played", "core/fit/follow.py", "    if shares:\n", "    if False:\n", FIT),
    Mutant(
        "a tempo that was typed",
        "session/document/model.py",
        "or one.bpm == self.bpm)",
        "or True)",
        "stations/test_statements",
    ),
    Mutant("slope beyond the end", "core/fit/time_map.py", "ys[-1] + (x - xs[-1])", "ys[-1]", FIT),
    Mutant("order of points", "core/fit/time_map.py", "np.all(np.diff(target) > 0)", "True", FIT),
    Mutant("hold a note", "core/fit/holding.py", "left < LEAST_REST_S", "False", FIT),
    Mutant(
        "quiet to the next mark", "core/fit/holding.py", "            not quiet\n", "            False\n", FIT
    ),
    Mutant(
        "groove bars",
        "core/fit/groove.py",
        "self.groove.bars[(index - self.start) % len(self.groove.bars)]\n        return",
        "self.groove.bars[(index + self.start) % len(self.groove.bars)]\n        return",
        FIT,
    ),
    Mutant(
        "groove lateness",
        "core/fit/groove.py",
        "float(at[best] - moment), step_s",
        "float(moment - at[best]), step_s",
        FIT,
    ),
    Mutant(
        "reach of a groove",
        "core/fit/groove.py",
        "reach, half = REACH *",
        "reach, half = 0.25 * REACH *",
        FIT,
    ),
    # -- pieces, parts, onsets, stretch
    Mutant(
        "a stroke that rides is softened",
        "core/stretch/decay.py",
        "else _since_stroke(out_s, in_s, _strokes_within(at, whole))",
        "else _since_stroke(out_s, in_s, _strokes_within(at, whole)[:0])",
        STRETCH,
    ),
    Mutant(
        "fade of a piece",
        "core/pieces/laying.py",
        "(one.end - place) / one.fall",
        "(one.end - place) / (2 * one.fall)",
        PIECES,
    ),
    Mutant(
        "level of a piece",
        "core/pieces/laying.py",
        "10 ** (piece.level_db / 20.0)",
        "10 ** (piece.level_db / 10.0)",
        PIECES,
    ),
    Mutant(
        "meeting pieces",
        "core/pieces/laying.py",
        'meeting == "ends" else False',
        'meeting != "ends" else False',
        PIECES,
    ),
    Mutant(
        "apart", "core/onsets/choose.py", "0.0 <= self.apart_s <= 2.0", "0.0 <= self.apart_s <= 20.0", ONSETS
    ),
    Mutant(
        "loud attacks",
        "core/onsets/choose.py",
        "np.quantile(found, 0.95, axis=0)",
        "np.quantile(found, 0.5, axis=0)",
        ONSETS,
    ),
    # -- files
    Mutant(
        "MIDI rounding carried", "media/midi.py", "reached += tempo * quarters / US", "reached = until", MEDIA
    ),
    Mutant(
        "MIDI default tempo",
        "media/midi.py",
        "tempi.setdefault(0, 500_000)",
        "tempi.setdefault(0, 600_000)",
        MEDIA,
    ),
    Mutant(
        "MIDI largest tempo",
        "media/midi.py",
        "min(MAX_US_PER_QUARTER, max(1,",
        "min(2 * MAX_US_PER_QUARTER, max(1,",
        MEDIA,
    ),
    Mutant(
        "order of MIDI events",
        "media/midi.py",
        '                0,\n                mido.Message("note_off"',
        '                3,\n                mido.Message("note_off"',
        MEDIA,
    ),
    Mutant("lead-in of MIDI", "media/midi.py", "signatures += _lead_in(", "_lead_in(", MEDIA),
    # -- history and sessions
    Mutant(
        "undo from a stale page",
        "store/history.py",
        "            session = _session(db, session_id)\n            if session.version != base_version:\n"
        "                raise _outdated(db, session, base_version)\n            target",
        "            session = _session(db, session_id)\n            target",
        STORE,
    ),
    Mutant("merge window", "store/history.py", "<= MERGE_S\n", "<= 60 * MERGE_S\n", STORE),
    Mutant(
        "merge of another gesture", "store/history.py", "and current.gesture == gesture", "and True", STORE
    ),
    Mutant(
        "all parts in a 409",
        "store/history.py",
        "changed = {name for revision in rows for name",
        "changed = {name for revision in rows[:1] for name",
        STORE,
    ),
    Mutant(
        "redo is newest",
        "store/history.py",
        "RevisionRow.id.desc()).limit(1)",
        "RevisionRow.id).limit(1)",
        STORE,
    ),
    Mutant(
        "another session's step", "store/history.py", "or row.session_id != session_id", "or False", STORE
    ),
    Mutant(
        "where bar 1 lies",
        "session/words.py",
        "if -OPENS_S < seconds <= -HAIR_S:",
        "if -OPENS_S < seconds <= 0:",
        "stations/test_lies_where_it_was",
    ),
    Mutant(
        "what goes along",
        "session/decisions.py",
        "change = goes_along(state, change)",
        "pass",
        "stations/test_map_edits",
    ),
    Mutant(
        "stale decision",
        "session/decisions.py",
        "            raise stale(error) from error\n    return state",
        "            pass\n    return state",
        SESSION,
    ),
    Mutant(
        "an old name of a sound",
        "web/api/sound.py",
        "    if v and not _is_now(state, asked):",
        "    if False:",
        "api/test_right_bytes",
    ),
    Mutant(
        "marks in the name of slowed sound",
        "session/keys.py",
        'short("slowed", sounding, np.asarray(attacks), list(together))',
        'short("slowed", sounding, list(together))',
        "api/test_right_bytes",
    ),
    Mutant(
        "what is being cancelled",
        "store/rows.py",
        "        JobRow.state.in_(OPEN),\n        JobRow.cancel.is_(False),\n    )\n    for row",
        "        JobRow.state.in_(OPEN),\n    )\n    for row",
        "jobs/test_jobs",
    ),
    Mutant(
        "a damaged render",
        "stations/handoff/write.py",
        "known = render_of(folder, session_id, key, whole=True)",
        "known = render_of(folder, session_id, key)",
        "stations/test_damaged",
    ),
    Mutant(
        "numbers in an archive",
        "session/document/bounds.py",
        "    if not isfinite(value) or not least <= value <= most:",
        "    if False:",
        "api/test_hostile_archives",
    ),
    Mutant(
        "renders that steps need",
        "store/cleaning.py",
        "    return [row for row in made if row.key not in needed and row.sha not in pinned]",
        "    return [row for row in made if row.sha not in pinned]",
        "session/test_cleaning",
    ),
    Mutant(
        "within reach",
        "session/decisions.py",
        "    within_reach(state, given)\n    try:",
        "    try:",
        "api/test_hostile",
    ),
    Mutant(
        "who moves",
        "session/foresight.py",
        "if by > SAID_S:",
        "if by > 1000 * SAID_S:",
        "stations/test_map_edits",
    ),
    Mutant(
        "kept bars",
        "session/foresight.py",
        'if take.keeps == "bar" and not',
        'if take.keeps == "time" and not',
        "stations/test_map_edits",
    ),
    Mutant(
        "removed marks",
        "session/state.py",
        "keep &= np.abs(times - time) > EDIT_REACH_S",
        "pass",
        "stations/test_onsets_and_fit",
    ),
    Mutant(
        "locked marks",
        "session/state.py",
        "sure[near] = 1.0\n        keep |= near\n    times, ",
        "keep |= near\n    times, ",
        "stations/test_onsets_and_fit",
    ),
    Mutant(
        "unsure bars",
        "stations/bars/station.py",
        'elif row["sure"] < DOUBTFUL and counted',
        'elif row["sure"] > DOUBTFUL and counted',
        "stations/test_look_and_stations",
    ),
    Mutant(
        "better lines only",
        "stations/bars/station.py",
        "if gain > BETTER:\n            do",
        "if gain > -99:\n            do",
        "stations/test_look_and_stations",
    ),
)


def copied(folder: Path) -> Path:
    """A copy of what tests need; the environment is this one's."""
    copy = folder / "main"
    for name in (
        "src",
        "tests",
        "bench",
        "rig",
        "docs",
        "pyproject.toml",
        "Makefile",
        "requirements",
        ".ci",
        "README.md",
    ):
        source = ROOT / name
        if source.is_dir():
            shutil.copytree(source, copy / name, ignore=shutil.ignore_patterns("__pycache__"))
        elif source.exists():
            (copy / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(source, copy / name)
    for name in (".venv", "node_modules"):
        (copy / name).symlink_to(ROOT / name)
    return copy


def tests_of(room: str, copy: Path) -> tuple[bool, str]:
    """(whether the tests of a room pass in a copy, the first that fails); room as in a Mutant.

    RuntimeError where no test ran at all: that says nothing of the code.
    """
    command = [sys.executable, "-m", "unittest"]
    folder = copy / "tests" / room
    if folder.is_dir():
        command += ["discover", "-f", "-s", str(folder), "-t", str(copy)]
    else:
        command += ["-f", f"tests.{room.replace('/', '.')}"]
    try:
        ended = subprocess.run(
            command,
            cwd=copy,
            env=os.environ | {"PYTHONPATH": f"{copy / 'src'}:{copy}"},
            capture_output=True,
            text=True,
            timeout=LONGEST_S,
            check=False,
        )
    except subprocess.TimeoutExpired:
        return False, "took too long"
    if not re.search(r"^Ran [1-9]", ended.stderr, re.MULTILINE):
        raise RuntimeError(f"No test of {room} ran: {ended.stderr.strip()[-300:]}")
    failing = [line for line in ended.stderr.splitlines() if line.startswith(("FAIL:", "ERROR:"))]
    return ended.returncode == 0, failing[0] if failing else ""


def tried(mutant: Mutant, copy: Path) -> tuple[bool, str]:
    """(whether its room's tests fail with it, the first that does); the copy is as it was afterwards."""
    path = copy / "src" / "combpace" / mutant.file
    was = path.read_text(encoding="utf-8")
    if was.count(mutant.old) != 1:
        raise SystemExit(f"“{mutant.name}”: its text stands {was.count(mutant.old)} times in {mutant.file}.")
    path.write_text(was.replace(mutant.old, mutant.new), encoding="utf-8")
    try:
        passed, first = tests_of(mutant.room, copy)
    finally:
        path.write_text(was, encoding="utf-8")
    return not passed, first


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", nargs="*", default=[], help="mutants whose names hold one of these words")
    parser.add_argument("--at-once", type=int, default=2)
    parser.add_argument("--brief", action="store_true", help="only what survives, and the share")
    options = parser.parse_args()
    chosen = [one for one in MUTANTS if not options.only or any(word in one.name for word in options.only)]
    begun = time.monotonic()
    with tempfile.TemporaryDirectory() as folder:
        copies = [copied(Path(folder, str(k))) for k in range(options.at_once)]
        # A room that fails without a fault would "catch" all of them.
        for room in sorted({one.room for one in chosen}):
            passed, first = tests_of(room, copies[0])
            if not passed:
                raise SystemExit(f"The tests of {room} fail without any fault: {first}. Nothing was tried.")
            if not options.brief:
                print(f"passes  {room} as it is", flush=True)
        with ThreadPoolExecutor(options.at_once) as pool:
            free = list(copies)

            def run(mutant: Mutant) -> tuple[Mutant, bool, str]:
                copy = free.pop()
                try:
                    caught, by = tried(mutant, copy)
                finally:
                    free.append(copy)
                if not options.brief or not caught:
                    print(f"{'caught ' if caught else 'SURVIVES'} {mutant.name}: {by}", flush=True)
                return mutant, caught, by

            found = list(pool.map(run, chosen))
    caught = sum(one for _, one, _ in found)
    left = ", ".join(mutant.name for mutant, one, _ in found if not one)
    print(
        f"{caught} of {len(found)} caught ({100 * caught / max(1, len(found)):.0f} %) in "
        f"{(time.monotonic() - begun) / 60:.0f} min{'; survive: ' + left if left else ''}"
    )
    return 0 if caught >= LEAST * len(found) else 1


if __name__ == "__main__":
    raise SystemExit(main())
