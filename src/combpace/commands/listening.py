"""Commands that listen: `analyse`, `measure`, `onsets`, `stack`, `groove`."""

from __future__ import annotations

import argparse
import json
import re
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from combpace.commands.hints import add_hints, bar_range, hints_of
from combpace.core.errors import ParameterError

if TYPE_CHECKING:
    from combpace.core.clocks import TakeTimes
    from combpace.core.tempo.map import TempoMap

Progress = Callable[[], Callable[[str, float], None]]


def add(commands: Any, progress: Progress) -> None:
    """Put them into the parser."""
    _analyse_options(commands, progress)
    _measure_options(commands, progress)
    _onsets_options(commands, progress)
    _stack_options(commands, progress)
    _groove_options(commands, progress)


def _analyse_options(commands: Any, progress: Progress) -> None:
    listen = commands.add_parser("analyse", help="tempo, beats, bars and onsets of one file")
    listen.add_argument(
        "file", type=Path, nargs="+", help="several are mics of one performance, heard as one"
    )
    listen.add_argument("--json", metavar="PATH", help="“-” prints")
    listen.add_argument(
        "--reading", type=int, default=1, metavar="N", help="count it as the reading of that rank has it"
    )
    listen.add_argument("--midi", type=Path, metavar="PATH")
    listen.add_argument("--csv", type=Path, metavar="PATH")
    add_hints(listen)
    listen.set_defaults(run=lambda options: _analyse(options, progress()))


def _measure_options(commands: Any, progress: Progress) -> None:
    part = commands.add_parser("measure", help="the tempo of a range that holds whole bars")
    part.add_argument("file", type=Path)
    which = part.add_mutually_exclusive_group(required=True)
    which.add_argument(
        "--range", metavar="A-B", help="seconds; each edge goes to the attack and zero crossing near it"
    )
    which.add_argument("--whole", action="store_true", help="from the first frame to the last, as they stand")
    part.add_argument("--bars", type=int, metavar="N", help="how many bars it holds; else they are counted")
    part.add_argument(
        "--limit-ms", type=float, default=10.0, metavar="MS", help="what may pile up at the end of the audio"
    )
    part.add_argument("--json", metavar="PATH", help="“-” prints")
    part.set_defaults(run=lambda options: _measure(options, progress()))


def _onsets_options(commands: Any, progress: Progress) -> None:
    marks = commands.add_parser("onsets", help="where the attacks of files start")
    marks.add_argument(
        "file", type=Path, nargs="+", help="several are mics of one performance, without each other's bleed"
    )
    marks.add_argument(
        "--threshold", type=float, default=0.0, metavar="0-1", help="least strength beside the loud ones"
    )
    marks.add_argument("--band", choices=("low", "high", "all"), default="all", help="what is listened to")
    marks.add_argument(
        "--apart-ms", type=float, default=0.0, metavar="MS", help="of two nearer ones the stronger is kept"
    )
    marks.add_argument(
        "--on",
        default="anywhere",
        metavar="bars|beats|1/N",
        help="only the nearest to each place of a map's grid; with --map, else of its own",
    )
    marks.add_argument(
        "--map", type=Path, metavar="MAP.mid|.json|.csv|.txt", help="its zero is the files' first frame"
    )
    marks.add_argument("--json", metavar="PATH", help="“-” prints")
    marks.set_defaults(run=lambda options: _onsets(options, progress()))


def _stack_options(commands: Any, progress: Progress) -> None:
    above = commands.add_parser("stack", help="who plays the same places of a grid, and how far apart")
    above.add_argument("file", type=Path, nargs="+", help="takes with a common start")
    above.add_argument("--on", default="1/16", metavar="1/N", help="the grid whose places are compared")
    above.add_argument(
        "--map",
        type=Path,
        metavar="MAP.mid|.json|.csv|.txt",
        help="its zero is the files' first frame; else the first file's own pace",
    )
    above.add_argument("--json", metavar="PATH", help="“-” prints")
    above.set_defaults(run=lambda options: _stack(options, progress()))


def _groove_options(commands: Any, progress: Progress) -> None:
    groove = commands.add_parser(
        "groove", help="how late, how loud and how often each place of a bar is played"
    )
    groove.add_argument("file", type=Path)
    groove.add_argument("--bars", required=True, metavar="FIRST-LAST", help="bars that are averaged")
    groove.add_argument("--grid", default="1/16", metavar="1/N", help="the places of a bar")
    groove.add_argument("--only", metavar="NUMBER|NAME", help="of a MIDI file: one of its parts")
    groove.add_argument(
        "--pattern", type=int, default=1, metavar="N", help="how many bars the groove has; 1 without it"
    )
    groove.add_argument(
        "--map",
        type=Path,
        metavar="MAP.mid|.json|.csv|.txt",
        help="in the file's own time; else even division between its bar lines",
    )
    groove.add_argument("--bpm", type=float)
    groove.add_argument(
        "--first-downbeat", type=float, metavar="SECONDS", help="with --bpm: where bar 1 lies in the file"
    )
    groove.add_argument("-o", dest="out", type=Path, required=True, metavar="NAME.json")
    groove.set_defaults(run=lambda options: _groove(options, progress()))


def _analyse(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.files import analyse_file, analyse_files
    from combpace.core.clocks import SessionTimes
    from combpace.core.tempo.map import TempoMap
    from combpace.media.mapfiles import write_bars_csv, write_json
    from combpace.media.midi import write_map

    several = len(options.file) > 1
    hints, tell = hints_of(options), tell
    heard = (
        analyse_files(options.file, hints, tell, options.reading)
        if several
        else analyse_file(options.file[0], hints, tell, options.reading)
    )
    if options.json == "-":
        print(json.dumps(heard.document, indent=1))
    elif options.json:
        write_json(heard.document, Path(options.json))
    if options.csv:
        write_bars_csv(heard.document, options.csv)
    pace = heard.analysis.pace
    if options.midi:
        if pace is None:
            raise ParameterError("No pulse was found, so there is no tempo map to write as MIDI.")
        session: TempoMap[SessionTimes] = TempoMap(pace.knots, pace.meters)
        write_map(session, heard.decoded.duration_s, options.midi)
    for note in heard.decoded.notes:
        print(note, file=sys.stderr)
    if options.json != "-":
        print(_summary(heard.document, heard.analysis.pace))
    return 0


def _measure(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.measuring import measure_file
    from combpace.media.mapfiles import write_json

    edges = None
    if options.range is not None:
        found = re.fullmatch(r"\s*(\d+(?:\.\d*)?)\s*-\s*(\d+(?:\.\d*)?)\s*", options.range)
        if found is None:
            raise ParameterError(f"A range is two moments in seconds, like 12.1-16.1, not “{options.range}”.")
        edges = (float(found.group(1)), float(found.group(2)))
    document = measure_file(options.file, edges, options.bars, options.limit_ms, tell)
    if options.json == "-":
        print(json.dumps(document, indent=1))
        return 0
    if options.json:
        write_json(document, Path(options.json))
    print(document["sentence"])
    return 0


def _onsets(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.marks import onsets_of
    from combpace.core.onsets.choose import Choice
    from combpace.media.mapfiles import write_json

    listen = {"low": "lows", "high": "highs", "all": "everything"}[options.band]
    choice = Choice(options.threshold, listen, options.apart_ms / 1000.0, options.on)
    document = onsets_of(options.file, choice, options.map, tell)
    if options.json == "-":
        print(json.dumps(document, indent=1))
        return 0
    if options.json:
        write_json(document, Path(options.json))
    for one in document["files"]:
        print(f"{one['file']}: {len(one['onsets'])} of {one['heard']} attacks")
    return 0


def _stack(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.marks import stack_of
    from combpace.media.mapfiles import write_json

    document = stack_of(options.file, options.on, options.map, tell)
    if options.json == "-":
        print(json.dumps(document, indent=1))
        return 0
    if options.json:
        write_json(document, Path(options.json))
    notes = document["notes"]
    print(
        f"{len(notes)} places of {options.on} that two takes or more play"
        + (", widest apart first:" if notes else ".")
    )
    for note in notes[:10]:
        print(f"  {note['place']}: {note['spread_ms']:.0f} ms")
    return 0


def _groove(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.grooves import Against, groove_of
    from combpace.core.fit.groove import in_words
    from combpace.core.tempo.grid import parse_grid

    against = Against(options.map, options.bpm, options.first_downbeat)
    made = groove_of(
        options.file,
        options.out,
        bar_range(options.bars),
        parse_grid(options.grid),
        against,
        options.pattern,
        tell,
        options.only,
    )
    print(f"{options.out}: {in_words(made)}")
    return 0


def _summary(document: dict[str, object], pace: TempoMap[TakeTimes] | None) -> str:
    from combpace.session import words

    bars = document["bars"]
    assert isinstance(bars, list)
    if not bars or pace is None:
        return f"{document['file']}: no pulse found, {len(document['onsets'])} onsets"  # type: ignore[arg-type]
    first = next((bar for bar in bars if bar["bar"] == 1), bars[0])
    steady = document["steady"]
    assert isinstance(steady, dict)
    lines = [
        f"{document['file']}: {document['bpm']:.2f} BPM, {steady['verdict']}, {words.meters(pace)}, "
        f"bar 1 at {first['start_s']:.3f} s, "
        f"{len(bars)} bars, {len(document['onsets'])} onsets"  # type: ignore[arg-type]
    ]
    counted = document["readings"]
    assert isinstance(counted, list)
    if len(counted) > 1:
        each = (
            f"{one['rank']}: {one['meter']} at {one['bpm']:.1f}, {100 * one['probability']:.0f} %"
            for one in counted
        )
        lines.append(f"readings: {'; '.join(each)}")
    if document["stated_bpm"] is not None:
        lines.append(f"the file states {document['stated_bpm']:g} BPM")
    if document["encoder_delay_from"] == "attacks":
        late_ms = 1000 * cast(float, document["encoder_delay_s"])
        lines.append(
            f"all attacks lie {late_ms:.1f} ms late against a grid from the first frame, perhaps an "
            "encoder's delay"
        )
    elif document["encoder_delay_from"] == "header":
        lines.append("the encoder's delay is stated by the header and was taken off")
    if document["audible_from_bar"] is not None:
        lines.append(f"one steady tempo is audibly off from bar {document['audible_from_bar']} on")
    return "\n".join(lines)
