"""The command line: serve, analyse, measure, fit, stretch. Exit status 0, or 2 with one clear line on standard error."""

from __future__ import annotations

import argparse
import json
import re
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from combpace.commands import batches, reports, said_of, sessions
from combpace.core.errors import CombPaceError, ParameterError

if TYPE_CHECKING:
    from combpace.core.analysis.take import Hints
    from combpace.core.clocks import TakeTimes
    from combpace.core.tempo.map import TempoMap


class _Parser(argparse.ArgumentParser):
    """argparse that says what is wrong in one line."""

    def error(self, message: str) -> NoReturn:
        raise ParameterError(f"{self.prog}: {message}. See “{self.prog} --help”.")


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit status."""
    try:
        options = _parser().parse_args(arguments)
        status: int = options.run(options)
        return status
    except CombPaceError as error:
        print(f"combpace: {str(error).replace(chr(10), ' ')}", file=sys.stderr)
        return 2
    except OSError as error:
        print(f"combpace: {said_of(error)}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("combpace: stopped; nothing was written.", file=sys.stderr)
        return 2


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(prog="combpace", description="Find the pace of played audio, lay bar lines on its downbeats, pull other audio onto them.")
    commands = parser.add_subparsers(required=True, metavar="COMMAND", parser_class=_Parser)

    for room in (sessions, reports, batches):
        room.add(commands, _progress)
    serve = commands.add_parser("serve", help="start the application")
    serve.add_argument("--demo", action="store_true", help="build the demo session first where it is missing")
    serve.add_argument("--host")
    serve.add_argument("--port", type=int)
    serve.add_argument("--data", metavar="DIR")
    serve.set_defaults(run=_serve)

    listen = commands.add_parser("analyse", help="tempo, beats, bars and onsets of one file")
    listen.add_argument("file", type=Path, nargs="+", help="several are mics of one performance, heard as one")
    listen.add_argument("--json", metavar="PATH", help="“-” prints")
    listen.add_argument("--reading", type=int, default=1, metavar="N", help="count it as the reading of that rank has it")
    listen.add_argument("--midi", type=Path, metavar="PATH")
    listen.add_argument("--csv", type=Path, metavar="PATH")
    _add_hints(listen)
    listen.set_defaults(run=_analyse)

    part = commands.add_parser("measure", help="the tempo of a range that holds whole bars")
    part.add_argument("file", type=Path)
    which = part.add_mutually_exclusive_group(required=True)
    which.add_argument("--range", metavar="A-B", help="seconds; each edge goes to the attack and zero crossing near it")
    which.add_argument("--whole", action="store_true", help="from the first frame to the last, as they stand")
    part.add_argument("--bars", type=int, metavar="N", help="how many bars it holds; else they are counted")
    part.add_argument("--limit-ms", type=float, default=10.0, metavar="MS", help="what may pile up at the end of the audio")
    part.add_argument("--json", metavar="PATH", help="“-” prints")
    part.set_defaults(run=_measure)

    fit = commands.add_parser("fit", help="pull one file's attacks to a grid")
    fit.add_argument("file", type=Path, nargs="+", help="several are mics of one performance and move as one")
    fit.add_argument(
        "-o", dest="out", type=Path, required=True, metavar="OUT", help="a WAV file; for several files a folder, made where it is missing"
    )
    fit.add_argument("--marks-first", metavar="FILE,FILE", help="of several: whose marks count first; else those that are struck most clearly")
    to = fit.add_mutually_exclusive_group()
    to.add_argument("--map", type=Path, metavar="MAP.mid|MAP.json")
    to.add_argument("--bpm", type=float)
    to.add_argument("--own", action="store_true", help="the take's own pace is the map")
    to.add_argument("--from-bpm", type=float, metavar="BPM", help="with --to-bpm: all of it from one tempo to another; nothing is pulled")
    fit.add_argument("--to-bpm", type=float, metavar="BPM")
    fit.add_argument("--first-downbeat", type=float, metavar="SECONDS", help="with --bpm: where bar 1 lies in the output")
    fit.add_argument("--grid", metavar="1/N", help="1/16 without it")
    fit.add_argument("--accent", type=float, default=0.0, metavar="PERCENT", help="with --groove: its accents as level, within 6 dB")
    fit.add_argument("--groove", type=Path, metavar="NAME.json", help="a groove in the grid's stead")
    fit.add_argument("--strength", type=float, default=100.0, metavar="PERCENT")
    fit.add_argument("--leave-alone-ms", type=float, default=0.0, metavar="MS")
    fit.add_argument("--ignore-beyond", metavar="MS|1/N")
    fit.add_argument("--swing", type=float, default=50.0, metavar="PERCENT", help="where the off place of each pair lies, 50 to 80")
    fit.add_argument("--bars", metavar="FIRST-LAST", help="outside of these bars nothing moves")
    fit.add_argument("--keep-lag", action="store_true", help="the take's own lead or lag stays; only the scatter shrinks")
    fit.add_argument("--coarse", action="store_true", help="only each bar's first attack goes to its line")
    fit.add_argument("--silence-pauses", action="store_true", help="silence what is quiet between notes, with short fades")
    fit.add_argument("--pause-limits", metavar="DB,MS", help="dB below the peak and least length; 50,80 without it")
    fit.add_argument("--proof", metavar="PATH", help="measure the attacks again in the result; “-” prints")
    fit.add_argument("--method", default="auto", metavar="cut|strike|chord|line|auto")
    fit.add_argument("--report", type=Path, metavar="PATH")
    _add_hints(fit)
    fit.set_defaults(run=_fit)

    following = commands.add_parser("follow", help="a loop that follows a tempo map, once or again and again")
    following.add_argument("file", type=Path, metavar="LOOP")
    following.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT", help="a WAV file from the map's zero on")
    following.add_argument("--map", type=Path, required=True, metavar="MAP.mid|.json|.csv|.txt")
    long = following.add_mutually_exclusive_group(required=True)
    long.add_argument("--bars", type=int, metavar="N", help="how many bars it is")
    long.add_argument("--from-bpm", type=float, metavar="BPM", help="its own tempo, quarters a minute")
    following.add_argument("--from-bar", type=int, default=1, metavar="K", help="the bar on whose line it begins")
    often = following.add_mutually_exclusive_group()
    often.add_argument("--times", type=int, metavar="N")
    often.add_argument("--until-bar", type=int, metavar="M", help="it ends at the line of that bar")
    following.add_argument("--method", default="auto", metavar="cut|strike|chord|line|auto")
    _add_hints(following)
    following.set_defaults(run=_follow)

    stretch = commands.add_parser("stretch", help="stretch a file, or the mics of one performance as one, along a table of points")
    stretch.add_argument("file", type=Path, nargs="+")
    stretch.add_argument("--points", type=Path, required=True, metavar="CSV")
    stretch.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT", help="a WAV file; for several files a folder")
    stretch.add_argument("--method", default="auto", metavar="cut|strike|chord|line|auto")
    stretch.set_defaults(run=_stretch)

    marks = commands.add_parser("onsets", help="where the attacks of files start")
    marks.add_argument("file", type=Path, nargs="+", help="several are mics of one performance, without each other's bleed")
    marks.add_argument("--threshold", type=float, default=0.0, metavar="0-1", help="least strength beside the loud ones")
    marks.add_argument("--band", choices=("low", "high", "all"), default="all", help="what is listened to")
    marks.add_argument("--apart-ms", type=float, default=0.0, metavar="MS", help="of two nearer ones the stronger is kept")
    marks.add_argument(
        "--on", default="anywhere", metavar="bars|beats|1/N", help="only the nearest to each place of a map's grid; with --map, else of its own"
    )
    marks.add_argument("--map", type=Path, metavar="MAP.mid|.json|.csv|.txt", help="its zero is the files' first frame")
    marks.add_argument("--json", metavar="PATH", help="“-” prints")
    marks.set_defaults(run=_onsets)

    groove = commands.add_parser("groove", help="how late, how loud and how often each place of a bar is played")
    groove.add_argument("file", type=Path)
    groove.add_argument("--bars", required=True, metavar="FIRST-LAST", help="bars that are averaged")
    groove.add_argument("--grid", default="1/16", metavar="1/N", help="the places of a bar")
    groove.add_argument("--only", metavar="NUMBER|NAME", help="of a MIDI file: one of its parts")
    groove.add_argument("--pattern", type=int, default=1, metavar="N", help="how many bars the groove has; 1 without it")
    groove.add_argument(
        "--map", type=Path, metavar="MAP.mid|.json|.csv|.txt", help="in the file's own time; else even division between its bar lines"
    )
    groove.add_argument("--bpm", type=float)
    groove.add_argument("--first-downbeat", type=float, metavar="SECONDS", help="with --bpm: where bar 1 lies in the file")
    groove.add_argument("-o", dest="out", type=Path, required=True, metavar="NAME.json")
    groove.set_defaults(run=_groove)

    part = commands.add_parser("part", help="the notes of a MIDI file, laid on a tempo map")
    part.add_argument("file", type=Path, metavar="FILE.mid")
    part.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.mid|OUT.wav", help="notes on the map, or how they sound")
    part.add_argument("--map", type=Path, metavar="MAP.mid|.json|.csv|.txt", help="else the file's own")
    part.add_argument("--only", metavar="NUMBER|NAME", help="one of its parts")
    part.add_argument("--from-bar", type=int, default=1, metavar="K", help="the bar on which its bar 1 lies")
    turns = part.add_mutually_exclusive_group()
    turns.add_argument("--times", type=int, metavar="N")
    turns.add_argument("--until-bar", type=int, metavar="M")
    part.add_argument("--grid", metavar="1/N", help="pull starts onto it; lengths are kept")
    part.add_argument("--groove", type=Path, metavar="NAME.json", help="a groove in the grid's stead")
    part.add_argument("--strength", type=float, default=100.0, metavar="PERCENT")
    part.add_argument("--swing", type=float, default=50.0, metavar="PERCENT")
    part.add_argument("--accent", type=float, default=0.0, metavar="PERCENT", help="how much of the groove's accents the velocities take")
    part.add_argument("--until-the-next", action="store_true", help="notes end where the next one begins")
    part.set_defaults(run=_part)

    cut = commands.add_parser("cut", help="cut a file into pieces; write them, or lay them anew without stretching")
    cut.add_argument("file", type=Path)
    cut.add_argument("-o", dest="out", type=Path, required=True, metavar="DIR|OUT.wav", help="a folder for the pieces, or the laid result")
    cut.add_argument("--at", required=True, metavar="onsets|1/1|1/4|1/8", help="where it is cut")
    cut.add_argument("--stronger", type=float, default=0.0, metavar="0-1", help="only at onsets at least so strong")
    tempo = cut.add_mutually_exclusive_group()
    tempo.add_argument("--map", type=Path, metavar="MAP.mid|.json|.csv|.txt", help="its own map, in the file's time")
    tempo.add_argument("--from-bpm", type=float, metavar="BPM", help="its own tempo, quarters a minute")
    tempo.add_argument("--bars", type=float, metavar="N", help="how many bars it is")
    cut.add_argument("--lay", metavar="1/8|bar-place", help="each on the nearest place of a grid, or on its own place in the bar")
    cut.add_argument("--bpm", type=float, metavar="BPM", help="with --lay: the tempo they are laid at")
    cut.add_argument("--fade-ms", type=float, default=5.0, metavar="MS")
    cut.add_argument("--fill", choices=("nothing", "tail"), default="nothing", help="what is open up to the next piece")
    _add_hints(cut)
    cut.set_defaults(run=_cut)

    above = commands.add_parser("stack", help="who plays the same places of a grid, and how far apart")
    above.add_argument("file", type=Path, nargs="+", help="takes with a common start")
    above.add_argument("--on", default="1/16", metavar="1/N", help="the grid whose places are compared")
    above.add_argument(
        "--map", type=Path, metavar="MAP.mid|.json|.csv|.txt", help="its zero is the files' first frame; else the first file's own pace"
    )
    above.add_argument("--json", metavar="PATH", help="“-” prints")
    above.set_defaults(run=_stack)

    tidy = commands.add_parser("tidy", help="the fewest tempo changes that keep every bar line where it is, within some milliseconds")
    tidy.add_argument("map", type=Path, metavar="MAP.mid|.json|.csv|.txt")
    tidy.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.mid|.json|.csv|.txt")
    tidy.add_argument("--within-ms", type=float, default=10.0, metavar="MS")
    tidy.add_argument("--ramps", action="store_true", help="tempi may run in straight lines; else steps")
    tidy.add_argument("--on-beats", action="store_true", help="tempi may change on every beat; else on bar lines")
    tidy.set_defaults(run=_tidy)

    convert = commands.add_parser("convert", help="a tempo map from one form into another")
    convert.add_argument("map", type=Path, metavar="MAP.mid|.json|.csv|.txt")
    convert.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.mid|.json|.csv|.txt")
    convert.set_defaults(run=_convert)
    return parser


def _add_hints(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--bar", action="append", default=[], metavar="SECONDS=BAR", help="this moment is the line of that bar")
    parser.add_argument("--downbeat", action="append", default=[], type=float, metavar="SECONDS")
    parser.add_argument("--not-downbeat", action="append", default=[], type=float, metavar="SECONDS")
    parser.add_argument("--meter", action="append", default=[], metavar="[SECONDS=]N/D", help="for the whole take, or from that downbeat on")
    parser.add_argument("--bpm-range", action="append", default=[], metavar="[FROM-TO=]LO-HI", help="what may be read, or only between two moments")
    parser.add_argument("--steady", action="store_true", help="one tempo describes the whole take")
    parser.add_argument("--one-beat", action="append", default=[], choices=("later", "earlier"), help="all bar lines are a beat off; any number")
    parser.add_argument("--pickup", action="append", default=[], type=float, metavar="SECONDS", help="this is the pickup: bar 1 is the next bar line")
    parser.add_argument("--meter-at-bar", action="append", default=[], metavar="BAR=N/D", help="from that bar on, as the bars are counted then")


def _analyse(options: argparse.Namespace) -> int:
    from combpace.batch.files import analyse_file, analyse_files
    from combpace.core.clocks import SessionTimes
    from combpace.core.tempo.map import TempoMap
    from combpace.media.mapfiles import write_bars_csv, write_json
    from combpace.media.midi import write_map

    several = len(options.file) > 1
    hints, tell = _hints(options), _progress()
    heard = analyse_files(options.file, hints, tell, options.reading) if several else analyse_file(options.file[0], hints, tell, options.reading)
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
        f"{document['file']}: {document['bpm']:.2f} BPM, {steady['verdict']}, {words.meters(pace)}, bar 1 at {first['start_s']:.3f} s, "
        f"{len(bars)} bars, {len(document['onsets'])} onsets"  # type: ignore[arg-type]
    ]
    counted = document["readings"]
    assert isinstance(counted, list)
    if len(counted) > 1:
        each = (f"{one['rank']}: {one['meter']} at {one['bpm']:.1f}, {100 * one['probability']:.0f} %" for one in counted)
        lines.append(f"readings: {'; '.join(each)}")
    if document["stated_bpm"] is not None:
        lines.append(f"the file states {document['stated_bpm']:g} BPM")
    if document["encoder_delay_from"] == "attacks":
        lines.append(f"attacks lie {1000 * document['encoder_delay_s']:.1f} ms late against a grid from the first frame, perhaps an encoder's delay")  # type: ignore[operator]
    elif document["encoder_delay_from"] == "header":
        lines.append("the encoder's delay is stated by the header and was taken off")
    if document["audible_from_bar"] is not None:
        lines.append(f"one steady tempo is audibly off from bar {document['audible_from_bar']} on")
    return "\n".join(lines)


def _measure(options: argparse.Namespace) -> int:
    from combpace.batch.measuring import measure_file
    from combpace.media.mapfiles import write_json

    edges = None
    if options.range is not None:
        found = re.fullmatch(r"\s*(\d+(?:\.\d*)?)\s*-\s*(\d+(?:\.\d*)?)\s*", options.range)
        if found is None:
            raise ParameterError(f"A range is two moments in seconds, like 12.1-16.1, not “{options.range}”.")
        edges = (float(found.group(1)), float(found.group(2)))
    document = measure_file(options.file, edges, options.bars, options.limit_ms, _progress())
    if options.json == "-":
        print(json.dumps(document, indent=1))
        return 0
    if options.json:
        write_json(document, Path(options.json))
    print(document["sentence"])
    return 0


def _bar_range(text: str) -> tuple[int, int]:
    """ "5-8" or "5", by number; there is no bar 0."""
    found = re.fullmatch(r"\s*(-?[0-9]{1,6})\s*(?:-\s*(-?[0-9]{1,6}))?\s*", text)
    if found is None or 0 in (bars := (int(found[1]), int(found[2] or found[1]))):
        raise ParameterError(f"--bars takes bars like 5-8, not “{text}”.")
    return bars


def _to_tempo(options: argparse.Namespace) -> int:
    from combpace.batch.following import tempo_file

    if len(options.file) > 1:
        raise ParameterError("From one tempo to another goes one file; for several use stretch. Nothing was written.")
    frames, method, reason = tempo_file(options.file[0], options.out, options.from_bpm, options.to_bpm, options.method, _progress())
    print(f"{options.out}: {frames} frames, {options.from_bpm:g} to {options.to_bpm:g} BPM, {method}")
    if reason:
        print(reason)
    return 0


def _follow(options: argparse.Namespace) -> int:
    from combpace.batch.following import Following, follow_file

    said = Following(options.bars, options.from_bpm, options.from_bar, options.times, options.until_bar)
    done = follow_file(options.file, options.out, options.map, said, _hints(options), options.method, _progress())
    times = "once" if done.times == 1 else f"{done.times} times"
    print(f"{options.out}: {times}, from {done.start_s:.3f} to {done.end_s:.3f} s, {done.frames} frames, {done.method}")
    if done.reason:
        print(done.reason)
    return 0


def _fit(options: argparse.Namespace) -> int:
    from combpace.batch.bundle_fit import fit_files, proof_of_files
    from combpace.batch.files import FitReport, Target, fit_file, proof_of
    from combpace.batch.grooves import read_groove
    from combpace.core.fit.groove import GrooveGrid
    from combpace.core.fit.pauses import Pauses, parse_pauses
    from combpace.core.fit.rule import Rule
    from combpace.core.tempo.grid import Grid, parse_grid
    from combpace.core.tempo.meters import bar_index
    from combpace.media.mapfiles import write_json

    if (options.from_bpm is None) != (options.to_bpm is None):
        raise ParameterError("--from-bpm and --to-bpm go together: the tempo it has, and the one it is to have. Nothing was written.")
    if options.from_bpm is not None:
        return _to_tempo(options)
    if (options.bpm is None) != (options.first_downbeat is None):
        raise ParameterError("--bpm and --first-downbeat go together: the tempo, and where bar 1 lies in the output.")
    beyond_ms, beyond = _ignore(options.ignore_beyond)
    bars = _bar_range(options.bars) if options.bars is not None else None
    grid: Grid | GrooveGrid = parse_grid(options.grid or "1/16", options.swing / 100.0)
    if options.groove is not None:
        if options.grid is not None:
            raise ParameterError("Give a grid or a groove, not both: a groove is a grid. Nothing was written.")
        grid = GrooveGrid(read_groove(options.groove), bar_index(bars[0]) if bars else 0)
    rule = Rule(grid, options.strength / 100.0, options.leave_alone_ms, beyond_ms, beyond, bars, options.keep_lag, options.coarse)
    if options.accent and options.groove is None:
        raise ParameterError("--accent goes with --groove: the accents are the groove's. Nothing was written.")
    if not 0.0 <= options.accent <= 100.0:
        raise ParameterError(f"Accent is taken from 0 to 100 %, not {options.accent:g}. Nothing was written.")
    accent = options.accent / 100.0
    target = Target(options.map, options.bpm, options.first_downbeat, options.own)
    order = [name.strip() for name in options.marks_first.split(",") if name.strip()] if options.marks_first else []
    if options.pause_limits and not options.silence_pauses:
        raise ParameterError("--pause-limits goes with --silence-pauses. Nothing was written.")
    limits = parse_pauses(options.pause_limits) if options.pause_limits else Pauses()
    pauses = limits if options.silence_pauses else None
    report: FitReport
    if len(options.file) > 1:
        report = fit_files(options.file, options.out, target, _hints(options), rule, options.method, order, _progress(), pauses, accent)
    else:
        report = fit_file(options.file[0], options.out, target, _hints(options), rule, options.method, _progress(), pauses, accent)
    if options.report:
        write_json(report.document, options.report)
    if options.proof:
        proved = proof_of_files(options.out, report) if len(options.file) > 1 else proof_of(options.out, report)
        if options.proof == "-":
            print(json.dumps(proved, indent=1))
            return 0
        write_json(proved, Path(options.proof))
    pulled = sum(peg.kind == "pulled" for peg in report.fit.pegs)
    print(
        f"{options.out}: {pulled} onsets pulled, {len(report.fit.riding)} ride, largest move {report.document['largest_move_ms']} ms, {report.method}"
    )
    if report.reason:
        print(report.reason)
    return 0


def _stretch(options: argparse.Namespace) -> int:
    from combpace.batch.files import stretch_files

    done = stretch_files(options.file, options.points, options.out, options.method, _progress())
    for path in done.written:
        print(f"{path}: {done.method}")
    if done.reason:
        print(done.reason)
    return 0


def _onsets(options: argparse.Namespace) -> int:
    from combpace.batch.marks import onsets_of
    from combpace.core.onsets.choose import Choice
    from combpace.media.mapfiles import write_json

    listen = {"low": "lows", "high": "highs", "all": "everything"}[options.band]
    choice = Choice(options.threshold, listen, options.apart_ms / 1000.0, options.on)
    document = onsets_of(options.file, choice, options.map, _progress())
    if options.json == "-":
        print(json.dumps(document, indent=1))
        return 0
    if options.json:
        write_json(document, Path(options.json))
    for one in document["files"]:
        print(f"{one['file']}: {len(one['onsets'])} of {one['heard']} attacks")
    return 0


def _part(options: argparse.Namespace) -> int:
    from combpace.batch.grooves import read_groove
    from combpace.batch.parts import part_file
    from combpace.core.fit.groove import GrooveGrid
    from combpace.core.fit.rule import Rule
    from combpace.core.parts.part import Laying
    from combpace.core.tempo.grid import parse_grid
    from combpace.core.tempo.meters import bar_index

    if options.grid is not None and options.groove is not None:
        raise ParameterError("Give a grid or a groove, not both: a groove is a grid. Nothing was written.")
    if 0 in (options.from_bar, options.until_bar):
        raise ParameterError("There is no bar 0. Nothing was written.")
    first = bar_index(options.from_bar)
    rule = None
    if options.groove is not None:
        rule = Rule(GrooveGrid(read_groove(options.groove), first), options.strength / 100.0)
    elif options.grid is not None:
        rule = Rule(parse_grid(options.grid, options.swing / 100.0), options.strength / 100.0)
    until = None if options.until_bar is None else bar_index(options.until_bar)
    times = 1 if options.times is None and until is None else options.times
    lengths = "until the next" if options.until_the_next else "kept"
    how = Laying(first, times, until, rule, (), options.accent / 100.0, lengths)
    done = part_file(options.file, options.out, options.map, how, options.only, _progress())
    parts = "1 part" if done.parts == 1 else f"{done.parts} parts"
    print(f"{options.out}: {parts}, {done.notes} notes, until {done.end_s:.3f} s")
    for sentence in done.said:
        print(sentence)
    return 0


def _cut(options: argparse.Namespace) -> int:
    from combpace.batch.cutting import Cutting, cut_file

    said = Cutting(
        options.at, options.stronger, options.map, options.from_bpm, options.bars, options.lay, options.bpm, options.fade_ms / 1000.0, options.fill
    )
    done = cut_file(options.file, options.out, said, _hints(options), _progress())
    pieces = "1 piece" if done.pieces == 1 else f"{done.pieces} pieces"
    print(f"{options.out}: {pieces}" + (f", {done.frames} frames" if done.frames else ""))
    return 0


def _groove(options: argparse.Namespace) -> int:
    from combpace.batch.grooves import Against, groove_of
    from combpace.core.fit.groove import in_words
    from combpace.core.tempo.grid import parse_grid

    against = Against(options.map, options.bpm, options.first_downbeat)
    made = groove_of(
        options.file, options.out, _bar_range(options.bars), parse_grid(options.grid), against, options.pattern, _progress(), options.only
    )
    print(f"{options.out}: {in_words(made)}")
    return 0


def _stack(options: argparse.Namespace) -> int:
    from combpace.batch.marks import stack_of
    from combpace.media.mapfiles import write_json

    document = stack_of(options.file, options.on, options.map, _progress())
    if options.json == "-":
        print(json.dumps(document, indent=1))
        return 0
    if options.json:
        write_json(document, Path(options.json))
    notes = document["notes"]
    print(f"{len(notes)} places of {options.on} that two takes or more play" + (", widest apart first:" if notes else "."))
    for note in notes[:10]:
        print(f"  {note['place']}: {note['spread_ms']:.0f} ms")
    return 0


def _tidy(options: argparse.Namespace) -> int:
    from combpace.batch.maps import tidy_map

    print(tidy_map(options.map, options.out, options.within_ms, ramps=options.ramps, on_beats=options.on_beats))
    return 0


def _convert(options: argparse.Namespace) -> int:
    from combpace.batch.maps import convert_map

    print(convert_map(options.map, options.out))
    return 0


def _serve(options: argparse.Namespace) -> int:
    from combpace.settings import from_environment
    from combpace.web.serve import serve

    return serve(from_environment().with_command_line(options.host, options.port, options.data), demo=options.demo)


def _hints(options: argparse.Namespace) -> Hints:
    from combpace.core.analysis.take import Hints
    from combpace.core.beats.candidates import TempoSpan
    from combpace.core.tempo.meters import parse_meter

    bars = []
    for text in options.bar:
        match = re.fullmatch(r"\s*([0-9.]+)\s*=\s*(-?[0-9]+)\s*", text)
        if not match:
            raise ParameterError(f"--bar takes SECONDS=BAR, like 3.214=1, not “{text}”.")
        bars.append((float(match[1]), int(match[2])))
    meter, meters = None, []
    for text in options.meter:
        at, is_from, name = text.rpartition("=")
        if is_from:
            meters.append((_seconds(at, f"--meter takes N/D or SECONDS=N/D, like 3/4 or 12.5=7/8, not “{text}”."), parse_meter(name)))
        else:
            meter = parse_meter(name)
    tempi = []
    for text in options.bpm_range:
        match = re.fullmatch(r"\s*(?:([0-9.]+)\s*-\s*([0-9.]+)\s*=)?\s*([0-9.]+)\s*-\s*([0-9.]+)\s*", text)
        refusal = f"--bpm-range takes LO-HI or FROM-TO=LO-HI, like 80-120 or 10-25=80-120, not “{text}”."
        if not match:
            raise ParameterError(refusal)
        low, high = _seconds(match[3], refusal), _seconds(match[4], refusal)
        tempi.append(TempoSpan(low, high, _seconds(match[1], refusal), _seconds(match[2], refusal)) if match[1] else TempoSpan(low, high))
    meters_at = []
    for text in options.meter_at_bar:
        match = re.fullmatch(r"\s*(-?[0-9]+)\s*=\s*([0-9]+/[0-9]+)\s*", text)
        if not match:
            raise ParameterError(f"--meter-at-bar takes BAR=N/D, like 9=3/4, not “{text}”.")
        meters_at.append((int(match[1]), parse_meter(match[2])))
    return Hints(
        tuple(bars),
        tuple(options.downbeat),
        tuple(options.not_downbeat),
        meter,
        tuple(meters),
        tuple(tempi),
        options.steady,
        beats_later=options.one_beat.count("later") - options.one_beat.count("earlier"),
        pickups=tuple(options.pickup),
        meters_at=tuple(meters_at),
    )


def _seconds(text: str, refusal: str) -> float:
    try:
        return float(text)
    except ValueError as error:
        raise ParameterError(refusal) from error


def _ignore(text: str | None) -> tuple[float | None, float | None]:
    """(ms, quarters) of --ignore-beyond."""
    if text is None:
        return None, None
    from combpace.core.tempo.grid import parse_grid

    if "/" in text:
        return None, parse_grid(text).step_quarters
    try:
        return float(text.lower().removesuffix("ms").strip()), None
    except ValueError as error:
        raise ParameterError(f"--ignore-beyond takes milliseconds or a note value like 1/16, not “{text}”.") from error


def _progress() -> Callable[[str, float], None]:
    if not sys.stderr.isatty():
        return lambda phase, share: None
    last = [""]

    def show(phase: str, share: float) -> None:
        line = f"{phase} {share * 100:3.0f} %"
        if line != last[0]:
            last[0] = line
            print(f"\r{line:<40}", end="\n" if share >= 1 and phase == "rendering" else "", file=sys.stderr, flush=True)

    return show


if __name__ == "__main__":
    sys.exit(main())
