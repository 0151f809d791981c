"""Commands that move sound and notes: `fit`, `follow`, `stretch`, `part`, `cut`."""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from combpace.commands.hints import add_hints, bar_range, hints_of
from combpace.core.errors import ParameterError

if TYPE_CHECKING:
    from combpace.core.fit.ranges import Rules

Progress = Callable[[], Callable[[str, float], None]]


def add(commands: Any, progress: Progress) -> None:
    """Put them into the parser."""
    _fit_options(commands, progress)
    _follow_options(commands, progress)
    _stretch_options(commands, progress)
    _part_options(commands, progress)
    _cut_options(commands, progress)


def _fit_options(commands: Any, progress: Progress) -> None:
    fit = commands.add_parser("fit", help="pull one file's attacks to a grid")
    fit.add_argument("file", type=Path, nargs="+", help="several are mics of one performance and move as one")
    fit.add_argument(
        "-o",
        dest="out",
        type=Path,
        required=True,
        metavar="OUT",
        help="a WAV file; for several files a folder, made where it is missing",
    )
    fit.add_argument(
        "--marks-first",
        metavar="FILE,FILE",
        help="of several: whose marks count first; else those that are struck most clearly",
    )
    fit.add_argument(
        "--marks-without",
        metavar="FILE,FILE",
        help="of several: whose marks do not count; their sound goes along",
    )
    to = fit.add_mutually_exclusive_group()
    to.add_argument("--map", type=Path, metavar="MAP.mid|MAP.json")
    to.add_argument("--bpm", type=float)
    to.add_argument("--own", action="store_true", help="the take's own pace is the map")
    to.add_argument(
        "--from-bpm",
        type=float,
        metavar="BPM",
        help="with --to-bpm: all of it from one tempo to another; nothing is pulled",
    )
    fit.add_argument("--to-bpm", type=float, metavar="BPM")
    fit.add_argument(
        "--first-downbeat", type=float, metavar="SECONDS", help="with --bpm: where bar 1 lies in the output"
    )
    _rule_options(fit)
    fit.add_argument("--proof", metavar="PATH", help="measure the attacks again in the result; “-” prints")
    fit.add_argument("--method", default="auto", metavar="cut|strike|chord|line|auto")
    fit.add_argument("--report", type=Path, metavar="PATH")
    add_hints(fit)
    fit.set_defaults(run=lambda options: _fit(options, progress()))


def _rule_options(fit: argparse.ArgumentParser) -> None:
    """What is pulled where: the fields of a sentence, as they stand in `Rule`."""
    from combpace.core.fit.rule import Rule

    for name, field in Rule.model_fields.items():
        extra = field.json_schema_extra
        if not isinstance(extra, dict):
            continue
        option, text = f"--{name.replace('_', '-')}", str(field.description).replace("%", "%%")
        if field.annotation is bool:
            fit.add_argument(option, action="store_true", default=None, help=text)
        else:
            fit.add_argument(option, metavar=str(extra["metavar"]), help=text)
    fit.add_argument("--groove", type=Path, metavar="NAME.json", help="a groove in the grid's stead")
    fit.add_argument(
        "--rule",
        action="append",
        default=[],
        metavar="BARS: FIELD=VALUE, …",
        help="what else counts in some bars, like “9-12: strength=85, grid=1/16”; the later one counts",
    )
    fit.add_argument(
        "--silence-pauses", action="store_true", help="silence what is quiet between notes, with short fades"
    )
    fit.add_argument(
        "--pause-limits", metavar="DB,MS", help="dB below the peak and least length; 50,80 without it"
    )


def _follow_options(commands: Any, progress: Progress) -> None:
    following = commands.add_parser("follow", help="a loop that follows a tempo map, once or again and again")
    following.add_argument("file", type=Path, metavar="LOOP")
    following.add_argument(
        "-o", dest="out", type=Path, required=True, metavar="OUT", help="a WAV file from the map's zero on"
    )
    following.add_argument("--map", type=Path, required=True, metavar="MAP.mid|.json|.csv|.txt")
    long = following.add_mutually_exclusive_group(required=True)
    long.add_argument("--bars", type=int, metavar="N", help="how many bars it is")
    long.add_argument("--from-bpm", type=float, metavar="BPM", help="its own tempo, quarters a minute")
    following.add_argument(
        "--from-bar", type=int, default=1, metavar="K", help="the bar on whose line it begins"
    )
    often = following.add_mutually_exclusive_group()
    often.add_argument("--times", type=int, metavar="N")
    often.add_argument("--until-bar", type=int, metavar="M", help="it ends at the line of that bar")
    following.add_argument("--method", default="auto", metavar="cut|strike|chord|line|auto")
    add_hints(following)
    following.set_defaults(run=lambda options: _follow(options, progress()))


def _stretch_options(commands: Any, progress: Progress) -> None:
    stretch = commands.add_parser(
        "stretch", help="stretch a file, or the mics of one performance as one, along a table of points"
    )
    stretch.add_argument("file", type=Path, nargs="+")
    stretch.add_argument("--points", type=Path, required=True, metavar="CSV")
    stretch.add_argument(
        "-o",
        dest="out",
        type=Path,
        required=True,
        metavar="OUT",
        help="a WAV file; for several files a folder",
    )
    stretch.add_argument("--method", default="auto", metavar="cut|strike|chord|line|auto")
    stretch.set_defaults(run=lambda options: _stretch(options, progress()))


def _part_options(commands: Any, progress: Progress) -> None:
    part = commands.add_parser("part", help="the notes of a MIDI file, laid on a tempo map")
    part.add_argument("file", type=Path, metavar="FILE.mid")
    part.add_argument(
        "-o",
        dest="out",
        type=Path,
        required=True,
        metavar="OUT.mid|OUT.wav",
        help="notes on the map, or how they sound",
    )
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
    part.add_argument(
        "--accent",
        type=float,
        default=0.0,
        metavar="PERCENT",
        help="how much of the groove's accents the velocities take",
    )
    part.add_argument("--until-the-next", action="store_true", help="notes end where the next one begins")
    part.set_defaults(run=lambda options: _part(options, progress()))


def _cut_options(commands: Any, progress: Progress) -> None:
    cut = commands.add_parser(
        "cut", help="cut a file into pieces; write them, or lay them anew without stretching"
    )
    cut.add_argument("file", type=Path)
    cut.add_argument(
        "-o",
        dest="out",
        type=Path,
        required=True,
        metavar="DIR|OUT.wav",
        help="a folder for the pieces, or the laid result",
    )
    cut.add_argument("--at", required=True, metavar="onsets|1/1|1/4|1/8", help="where it is cut")
    cut.add_argument(
        "--stronger", type=float, default=0.0, metavar="0-1", help="only at onsets at least so strong"
    )
    tempo = cut.add_mutually_exclusive_group()
    tempo.add_argument(
        "--map", type=Path, metavar="MAP.mid|.json|.csv|.txt", help="its own map, in the file's time"
    )
    tempo.add_argument("--from-bpm", type=float, metavar="BPM", help="its own tempo, quarters a minute")
    tempo.add_argument("--bars", type=float, metavar="N", help="how many bars it is")
    cut.add_argument(
        "--lay",
        metavar="1/8|bar-place",
        help="each on the nearest place of a grid, or on its own place in the bar",
    )
    cut.add_argument("--bpm", type=float, metavar="BPM", help="with --lay: the tempo they are laid at")
    cut.add_argument("--fade-ms", type=float, default=5.0, metavar="MS")
    cut.add_argument(
        "--fill",
        choices=("nothing", "tail"),
        default="nothing",
        help="what fills the gap before the next piece",
    )
    add_hints(cut)
    cut.set_defaults(run=lambda options: _cut(options, progress()))


def _fit(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.bundle_fit import fit_files, proof_of_files
    from combpace.batch.files import FitReport, Target, fit_file, proof_of
    from combpace.core.fit.pauses import Pauses, parse_pauses
    from combpace.media.mapfiles import write_json

    if (options.from_bpm is None) != (options.to_bpm is None):
        raise ParameterError(
            "--from-bpm and --to-bpm go together: the tempo it has, and the one it is to have. "
            "Nothing was written."
        )
    if options.from_bpm is not None:
        return _to_tempo(options, tell)
    if (options.bpm is None) != (options.first_downbeat is None):
        raise ParameterError(
            "--bpm and --first-downbeat go together: the tempo, and where bar 1 lies in the output."
        )
    rules = _rules_of(options)
    if options.pause_limits and not options.silence_pauses:
        raise ParameterError("--pause-limits goes with --silence-pauses. Nothing was written.")
    limits = parse_pauses(options.pause_limits) if options.pause_limits else Pauses()
    pauses = limits if options.silence_pauses else None
    target, hints = Target(options.map, options.bpm, options.first_downbeat, options.own), hints_of(options)
    files, out = options.file, options.out
    first, left_out = (
        [name.strip() for name in (said or "").split(",") if name.strip()]
        for said in (options.marks_first, options.marks_without)
    )
    report: FitReport
    if len(files) > 1:
        report = fit_files(files, out, target, hints, rules, options.method, first, tell, pauses, left_out)
    else:
        report = fit_file(files[0], out, target, hints, rules, options.method, tell, pauses)
    if options.report:
        write_json(report.document, options.report)
    if options.proof:
        proved = proof_of_files(files, out, report) if len(files) > 1 else proof_of(files[0], out, report)
        if options.proof == "-":
            print(json.dumps(proved, indent=1))
            return 0
        write_json(proved, Path(options.proof))
    pulled = sum(peg.kind == "pulled" for peg in report.fit.pegs)
    print(
        f"{out}: {pulled} onsets pulled, {len(report.fit.riding)} ride, largest move "
        f"{report.document['largest_move_ms']} ms, {report.method}"
    )
    if report.reason:
        print(report.reason)
    return 0


def _rules_of(options: argparse.Namespace) -> Rules:
    """The sentences that the options state. Raises ParameterError."""
    from combpace.batch.grooves import read_groove
    from combpace.core.fit.groove import groove_document
    from combpace.core.fit.ranges import read_ranged, with_said
    from combpace.core.fit.rule import Rule

    said = {name: getattr(options, name, None) for name in Rule.model_fields if name != "groove"}
    values: dict[str, Any] = {name: value for name, value in said.items() if value is not None}
    if options.groove is not None:
        if options.grid is not None:
            raise ParameterError(
                "Give a grid or a groove, not both: a groove is a grid. Nothing was written."
            )
        values["groove"] = groove_document(read_groove(options.groove))
    if options.bars is not None:
        values["bars"] = bar_range(options.bars)
    if options.accent is not None and options.groove is None:
        raise ParameterError(
            "--accent goes with --groove: the accents are the groove's. Nothing was written."
        )
    try:
        rules = with_said((Rule(),), None, values)
        for text in options.rule:
            one = read_ranged(text, rules[0])
            rules = (*(other for other in rules if other is rules[0] or other.bars != one.bars), one)
    except ParameterError as error:
        raise ParameterError(f"{error} Nothing was written.") from error
    return rules


def _follow(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.following import Following, follow_file

    said = Following(options.bars, options.from_bpm, options.from_bar, options.times, options.until_bar)
    done = follow_file(options.file, options.out, options.map, said, hints_of(options), options.method, tell)
    times = "once" if done.times == 1 else f"{done.times} times"
    print(
        f"{options.out}: {times}, from {done.start_s:.3f} to {done.end_s:.3f} s, {done.frames} "
        f"frames, {done.method}"
    )
    if done.reason:
        print(done.reason)
    return 0


def _stretch(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.files import stretch_files

    done = stretch_files(options.file, options.points, options.out, options.method, tell)
    for path in done.written:
        print(f"{path}: {done.method}")
    if done.reason:
        print(done.reason)
    return 0


def _part(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.grooves import read_groove
    from combpace.batch.parts import part_file
    from combpace.core.fit.groove import GrooveGrid
    from combpace.core.fit.rule import Rule
    from combpace.core.parts.part import Laying
    from combpace.core.tempo.meters import bar_index

    if options.grid is not None and options.groove is not None:
        raise ParameterError("Give a grid or a groove, not both: a groove is a grid. Nothing was written.")
    if 0 in (options.from_bar, options.until_bar):
        raise ParameterError("There is no bar 0. Nothing was written.")
    first = bar_index(options.from_bar)
    rule = None
    if options.groove is not None:
        rule = Rule.onto(GrooveGrid(read_groove(options.groove), first), strength=options.strength)
    elif options.grid is not None:
        rule = Rule(grid=options.grid, swing=options.swing, strength=options.strength)
    until = None if options.until_bar is None else bar_index(options.until_bar)
    times = 1 if options.times is None and until is None else options.times
    lengths = "until the next" if options.until_the_next else "kept"
    how = Laying(first, times, until, rule, (), options.accent / 100.0, lengths)
    done = part_file(options.file, options.out, options.map, how, options.only, tell)
    parts = "1 part" if done.parts == 1 else f"{done.parts} parts"
    print(f"{options.out}: {parts}, {done.notes} notes, until {done.end_s:.3f} s")
    for sentence in done.said:
        print(sentence)
    return 0


def _cut(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.cutting import Cutting, cut_file

    said = Cutting(
        options.at,
        options.stronger,
        options.map,
        options.from_bpm,
        options.bars,
        options.lay,
        options.bpm,
        options.fade_ms / 1000.0,
        options.fill,
    )
    done = cut_file(options.file, options.out, said, hints_of(options), tell)
    pieces = "1 piece" if done.pieces == 1 else f"{done.pieces} pieces"
    print(f"{options.out}: {pieces}" + (f", {done.frames} frames" if done.frames else ""))
    return 0


def _to_tempo(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.batch.following import tempo_file

    if len(options.file) > 1:
        raise ParameterError(
            "From one tempo to another goes one file; for several use stretch. Nothing was written."
        )
    frames, method, reason = tempo_file(
        options.file[0], options.out, options.from_bpm, options.to_bpm, options.method, tell
    )
    print(f"{options.out}: {frames} frames, {options.from_bpm:g} to {options.to_bpm:g} BPM, {method}")
    if reason:
        print(reason)
    return 0
