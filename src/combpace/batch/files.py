"""The job without a session: analyse, fit and stretch files. The command line is a thin layer over this."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.analysis.bundle import analyse_bundle
from combpace.core.analysis.lateness import lateness_s, left_by_an_encoder
from combpace.core.analysis.readings import Reading, as_read, readings
from combpace.core.analysis.take import Analysis, Hints, analyse
from combpace.core.audio import SideBySide, Source
from combpace.core.clocks import FloatArray, SessionTimes, TakeTimes
from combpace.core.errors import MediaError, ParameterError
from combpace.core.fit.accents import Accented, Levels
from combpace.core.fit.follow import Follow, follow_of, one_tempo_of
from combpace.core.fit.pauses import Pauses
from combpace.core.fit.pegs import Fit
from combpace.core.fit.pipeline import Asked, Fitted, finish, lay, method_of, proved, rests_of, stretched
from combpace.core.fit.proof import Measured, share_within
from combpace.core.fit.ranges import Rules, refuse_beyond, refuse_other_bars
from combpace.core.fit.time_map import TimeMap
from combpace.core.onsets.detect import Onsets
from combpace.core.stretch import check_method
from combpace.core.tempo.loops import as_loop, loop_bars
from combpace.core.tempo.map import TempoMap, lines_only, steady_map
from combpace.core.tempo.smooth import smoothed
from combpace.media.decode import Decoded, FileSource, decode_to_wav
from combpace.media.encode import Written, write_sound
from combpace.media.mapfiles import analysis_document, read_json_map, six, steady_document
from combpace.media.midi import read_map
from combpace.media.stated import is_lossy, padding_is_stated, stated_tempi, tempo_in_tags
from combpace.session import words
from combpace.session.take_names import guessed_kind

Progress = Callable[[str, float], None]


def _quiet(phase: str, share: float) -> None:
    """For callers that do not watch."""


@dataclass(frozen=True, slots=True)
class Heard:
    """An analysed file."""

    decoded: Decoded
    analysis: Analysis
    document: dict[str, Any]


@contextmanager
def opened(path: Path, on_progress: Progress = _quiet) -> Iterator[tuple[FileSource, Decoded]]:
    """Decode a file beside nothing else, and remove what was decoded afterwards."""
    if not path.is_file():
        raise MediaError(f"There is no file “{path}”.")
    with tempfile.TemporaryDirectory(prefix="combpace-") as folder:
        target = Path(folder) / "decoded.wav"
        decoded = decode_to_wav(path, target, on_progress=lambda share: on_progress("reading", share))
        with FileSource(target) as source:
            yield source, decoded


def named(path: Path, hints: Hints) -> Hints:
    """The hints, and what the file's name says of it, as an import has it."""
    return replace(hints, is_loop=guessed_kind(path.name) == "loop")


def analyse_named(source: Source, path: Path, on_progress: Progress = _quiet) -> Analysis:
    """Listen to a file that is open, with what its name says of it."""
    return analyse(source, named(path, Hints()), on_progress=on_progress)


def file_facts(path: Path, analysis: Analysis, sample_rate_hz: int) -> dict[str, Any]:
    """What a file says of itself, and the padding that is still in the decoded sound, for the analysis
    document.
    """
    stated = stated_tempi(tempo_in_tags(path), path.name)
    fit = analysis.steady
    first = float(analysis.onsets.times[0]) if len(analysis.onsets) else np.inf
    late = (
        lateness_s(fit.bpm, fit.plus_minus_bpm, fit.first_downbeat_s, fit.scatter_ms, first) if fit else None
    )
    known = padding_is_stated(path)
    if late is not None and not (is_lossy(path.name) and left_by_an_encoder(late, sample_rate_hz)):
        late = None
    return {
        "stated_bpm": stated[0].bpm if stated else None,
        # What a header states is taken off by the decoder; what the attacks show beside it is still there.
        "encoder_delay_s": six(late) if late is not None else 0.0 if known else None,
        "encoder_delay_from": "attacks" if late is not None else "header" if known else None,
    }


def _counted(analysis: Analysis, reading: int, duration_s: float) -> tuple[Analysis, tuple[Reading, ...]]:
    """The analysis in its reading of that rank, and all readings, that one first."""
    offered = readings(analysis)
    if reading == 1 and not offered:
        return analysis, ()
    if not 1 <= reading <= len(offered):
        raise ParameterError(
            f"There is no reading {reading}; this take has {words.count(len(offered), 'reading')}."
        )
    taken = offered[reading - 1]
    return as_read(analysis, taken, duration_s), (taken, *(one for one in offered if one is not taken))


def analyse_file(path: Path, hints: Hints, on_progress: Progress = _quiet, reading: int = 1) -> Heard:
    """Decode and listen to one file, counted as its reading of that rank has it."""
    with opened(path, on_progress) as (source, decoded):
        analysis, counted = _counted(
            analyse(source, named(path, hints), on_progress=on_progress), reading, decoded.duration_s
        )
        facts = file_facts(path, analysis, decoded.sample_rate_hz)
        return Heard(
            decoded,
            analysis,
            analysis_document(
                analysis, path.name, decoded.duration_s, decoded.sample_rate_hz, counted, facts
            ),
        )


def analyse_files(
    paths: Sequence[Path], hints: Hints, on_progress: Progress = _quiet, reading: int = 1
) -> Heard:
    """Listen to the mics of one performance; the document is that of the first, with the onsets of each under
    "mics".
    """
    with ExitStack() as stack:
        both = [stack.enter_context(opened(path, on_progress)) for path in paths]
        heard = analyse_bundle([source for source, _ in both], hints, on_progress=on_progress)
    ends = [decoded.duration_s for _, decoded in both]
    each = [_counted(analysis, reading, end) for analysis, end in zip(heard, ends, strict=True)]
    found = [analysis for analysis, _ in each]
    documents = [
        analysis_document(
            analysis,
            path.name,
            decoded.duration_s,
            decoded.sample_rate_hz,
            counted,
            file_facts(path, analysis, decoded.sample_rate_hz),
        )
        for (analysis, counted), path, (_, decoded) in zip(each, paths, both, strict=True)
    ]
    document = documents[0] | {
        "mics": [{"file": each["file"], "onsets": each["onsets"]} for each in documents]
    }
    return Heard(both[0][1], found[0], document)


@dataclass(frozen=True, slots=True)
class Target:
    """The session's map for a file without a session: exactly one of the three. own_bar_1: a tempo whose bar
    1 stays where the file has it.
    """

    map_path: Path | None = None
    bpm: float | None = None
    first_downbeat_s: float | None = None
    own: bool = False
    own_bar_1: bool = False


def session_map_for(target: Target, pace: TempoMap[TakeTimes]) -> TempoMap[SessionTimes]:
    """Read or make the map a file is to be fitted to."""
    if target.own:
        return TempoMap(pace.knots, pace.meters)
    if target.map_path is not None:
        if not target.map_path.is_file():
            raise MediaError(f"There is no file “{target.map_path}”.")
        return (
            read_json_map(target.map_path)
            if target.map_path.suffix.lower() == ".json"
            else read_map(target.map_path)
        )
    if target.bpm is not None and target.own_bar_1:
        return steady_map(target.bpm, pace.second(0.0), pace.meters)
    if target.bpm is None or target.first_downbeat_s is None:
        raise ParameterError("Say what to fit to: --map FILE, or --bpm with --first-downbeat, or --own.")
    return steady_map(target.bpm, target.first_downbeat_s, pace.meters)


def maps_for(
    target: Target, found: TempoMap[TakeTimes], rules: Rules, duration_s: float
) -> tuple[TempoMap[TakeTimes], TempoMap[SessionTimes]]:
    """(the beats of a file, the map that it is fitted to). Raises ParameterError where a groove meets bars of
    another length, or a sentence is about bars that the file does not have.
    """
    session_map = session_map_for(target, found)
    # What was cut to whole bars comes out with the frames of whole bars.
    pace = found if target.own else as_loop(found, duration_s)
    if target.own and any(rule.groove is not None for rule in rules):
        # A groove is told from even division between bar lines: beats that were tracked lie on the late
        # strokes.
        pace = lines_only(pace)
    _refuse(rules, session_map, pace, duration_s)
    return pace, session_map


@dataclass(frozen=True, slots=True)
class FitReport:
    """What a fit of a file did; `document` is what --report writes."""

    fit: Fit
    method: str
    reason: str
    document: dict[str, Any]


def fit_file(
    path: Path,
    out: Path,
    target: Target,
    hints: Hints,
    rules: Rules,
    method: str,
    on_progress: Progress = _quiet,
    pauses: Pauses | None = None,
) -> FitReport:
    """Pull a file's attacks to a grid and write the result as a 24-bit WAV that starts at session time 0.

    pauses  silenced where that is asked for
    """
    name = check_method(method)
    with opened(path, on_progress) as (source, decoded):
        analysis = analyse(source, named(path, hints), on_progress=on_progress)
        if analysis.pace is None:
            raise ParameterError(
                f"No pulse was found in “{path.name}”, so its attacks cannot be laid on a grid. "
                "Nothing was written."
            )
        fitted = fit_heard(
            [source],
            analysis,
            analysis.onsets,
            target,
            named(path, hints),
            rules,
            name,
            guessed_kind(path.name),
        )
        made = fitted.fit
        heard = made.time_map.to_target(np.asarray(analysis.onsets.times))
        sound = Accented(stretched([source], 0, made.time_map, fitted.method), fitted.levels)
        written = write_stretched(sound, made.time_map, out, on_progress, pauses, heard)
        document = {
            "version": 1,
            "file": path.name,
            "out": out.name,
            "method": fitted.method,
            "method_reason": fitted.reason,
            **written_document(written, source.sample_rate_hz, pauses),
            **levels_document(fitted.levels),
            "notes": list(decoded.notes),
            **fit_document(made),
        }
        return FitReport(made, fitted.method, fitted.reason, document)


def fit_heard(
    sources: Sequence[Source],
    analysis: Analysis,
    marks: Onsets,
    target: Target,
    hints: Hints,
    rules: Rules,
    method: str,
    kind: str,
) -> Fitted:
    """The fit of one file, or of the mics of one performance, that were listened to.

    analysis  of the file whose pulse counts; marks: of all of them
    """
    assert analysis.pace is not None
    length = max(one.frames / one.sample_rate_hz for one in sources)
    pace, session_map = maps_for(target, analysis.pace, rules, length)
    follow = file_follow(analysis, pace, session_map, length, target, hints)
    asked = Asked(marks, pace, follow, session_map, length, rules)
    if target.own:
        # A groove was told from the pace under the lines: it is laid on that.
        under = smoothed(pace)
        asked = replace(asked, under=TempoMap(under.knots, under.meters))
    made = lay(asked)
    return finish(
        made, method, lambda line: method_of(sources, line, kind), rests_of(sources), rules, session_map
    )


def file_follow(
    analysis: Analysis,
    pace: TempoMap[TakeTimes],
    session_map: TempoMap[SessionTimes],
    duration_s: float,
    target: Target,
    hints: Hints,
) -> Follow:
    """Where a file without a session lies if no rule acts."""
    # The tempo as it is said and kept, so that a session has the same to the sample.
    said = None if analysis.steady is None else steady_document(analysis.steady)
    one = None if said is None else one_tempo_of(pace, said["verdict"], said["bpm"], said["first_downbeat_s"])
    looped = hints.is_loop and loop_bars(pace, duration_s) is not None
    return follow_of(pace, session_map, 0.0, duration_s, shares=target.own, loop=looped, steady=one)


def _refuse(
    rules: Rules, session_map: TempoMap[SessionTimes], pace: TempoMap[TakeTimes], duration_s: float
) -> None:
    """Raise ParameterError where a groove meets bars of another length, or one of several sentences is about
    bars that the file does not have.
    """
    begin, end = pace.place(0.0), pace.place(duration_s)
    try:
        refuse_beyond(rules[1:], session_map, begin, end)
        refuse_other_bars(rules, session_map, begin, end)
    except ParameterError as error:
        raise ParameterError(f"{error} Nothing was written.") from error


def written_document(written: Written, sample_rate_hz: int, pauses: Pauses | None) -> dict[str, Any]:
    """The part of a report that says what one file came to."""
    said: dict[str, Any] = {"frames": written.frames, "lowered_db": round(written.gain_db, 2)}
    if pauses is not None:
        said["silenced"] = [
            {"start_s": six(start / sample_rate_hz), "end_s": six(stop / sample_rate_hz)}
            for start, stop in written.pauses
        ]
    return said


def levels_document(levels: Levels) -> dict[str, Any]:
    """The part of a report that says where a groove's accents make the sound louder or softer; nothing where
    they are not taken.
    """
    return {"levels": [{"target_s": six(moment), "db": level} for moment, level in levels]} if levels else {}


def fit_document(made: Fit) -> dict[str, Any]:
    """The part of a report that says what a fit does to one time map."""
    return {
        "largest_move_ms": round(float(np.abs(made.moves_ms).max()), 1) if len(made.moves_ms) else 0.0,
        "pegs": [
            {
                "source_s": six(peg.take_s),
                "target_s": six(peg.target_s),
                "quarters": round(peg.quarters, 6),
                "kind": peg.kind,
            }
            for peg in made.pegs
        ],
        "riding": [
            {"source_s": six(time), "reason": why}
            for time, why in zip(made.riding, made.reasons, strict=True)
        ],
        "segments": [
            # Each begins at its point and ends at the next one's; the last point ends them all.
            {"source_s": six(a), "target_s": six(b), "factor": None if f is None else round(float(f), 4)}
            for a, b, f in zip(
                made.time_map.source_s, made.time_map.target_s, [*made.time_map.factors, None], strict=True
            )
        ],
    }


def proof_of(path: Path, out: Path, report: FitReport) -> dict[str, Any]:
    """What `fit --proof` writes: where each pegged attack of a file came to lie in the result, found again by
    its own sound; null where none was found.
    """
    pegs = [(peg.take_s, peg.target_s) for peg in report.fit.pegs if peg.kind != "held"]
    with opened(path) as (played, _), FileSource(out) as rendered:
        found = proved(
            pegs, [0] * len(pegs), [lambda: (rendered, 0.0)], [lambda: played], report.fit.time_map
        )
    return proof_document([(report.document["file"], one) for one in found])


def proof_document(found: Sequence[tuple[str, Measured]]) -> dict[str, Any]:
    """What `fit --proof` writes of measured attacks, each with the file that it was measured in."""
    return {
        "version": 1,
        "within_3_ms": round(share_within([one for _, one in found]), 4),
        "pegs": [
            {
                "take": name,
                "wanted_s": six(one.wanted_s),
                "measured_s": None if one.measured_s is None else six(one.measured_s),
                "off_ms": None if one.off_ms is None else round(one.off_ms, 2),
            }
            for name, one in found
        ],
    }


@dataclass(frozen=True, slots=True)
class Stretched:
    """What a stretch did: the method, why it was chosen ("" where the user chose), the files written."""

    method: str
    reason: str
    written: tuple[Path, ...]


def stretch_files(
    paths: Sequence[Path], points: Path, out: Path, method: str, on_progress: Progress = _quiet
) -> Stretched:
    """Stretch a file along a table of points, or the mics of one performance as one, phase kept.

    out      the WAV to write; for several files the folder for them, each under its own name
    Returns  what was done; each file has round(last target * rate) frames
    """
    name = check_method(method)
    time_map = read_points(points)
    targets = (out,) if len(paths) == 1 else tuple(out / f"{path.stem}.wav" for path in paths)
    if len(paths) > 1:
        refuse_folder(out, paths, targets)
    with ExitStack() as stack:
        sources = [stack.enter_context(opened(path, on_progress))[0] for path in paths]
        together = SideBySide(sources)
        ends = together.frames / together.sample_rate_hz
        if abs(float(time_map.source_s[-1]) - ends) > 0.5:
            which = f"“{paths[0].name}” ends" if len(paths) == 1 else "the longest of these files ends"
            raise ParameterError(
                f"The last point is at {time_map.source_s[-1]:.3f} s of the source, but {which} at "
                f"{ends:.3f} s. Nothing was written."
            )
        used, reason = chosen_method(sources, time_map, name)
        if len(paths) > 1:
            out.mkdir(exist_ok=True)
        for index, target in enumerate(targets):
            write_stretched(stretched(sources, index, time_map, used), time_map, target, on_progress)
        return Stretched(used, reason, targets)


def refuse_folder(out: Path, paths: Sequence[Path], targets: Sequence[Path]) -> None:
    if out.exists() and not out.is_dir():
        raise ParameterError(
            f"Several files are written to a folder, and “{out}” is a file. Nothing was written."
        )
    if not out.parent.is_dir():
        raise MediaError(f"There is no folder “{out.parent}” to write to.")
    if len(set(targets)) < len(targets):
        raise ParameterError(
            "Two of these files have the same name and would be written over each other. Nothing was written."
        )
    for path, target in zip(paths, targets, strict=True):
        if target.exists() and path.exists() and target.samefile(path):
            raise ParameterError(
                f"“{path.name}” would be written over itself; name another folder. Nothing was written."
            )


def read_points(path: Path) -> TimeMap:
    """A table of points: CSV, or the JSON of `fit --report`.

    CSV   source_s,target_s per line, decimal point, with or without that as header; the first line of numbers
          is 0,0
    JSON  its "segments"; what lies before target 0 is cut, as `fit` cuts it
    Raises MediaError, naming the line
    """
    if not path.is_file():
        raise MediaError(f"There is no file “{path}”.")
    text = path.read_text(encoding="utf-8-sig")
    rows = _reported(path, text) if text.lstrip().startswith("{") else _tabled(path, text)
    if len(rows) < 2:
        raise MediaError(f"“{path.name}” needs at least two points.")
    return TimeMap(np.array([row[0] for row in rows]), np.array([row[1] for row in rows]))


def _reported(path: Path, text: str) -> list[tuple[float, float]]:
    try:
        rows = [(float(one["source_s"]), float(one["target_s"])) for one in json.loads(text)["segments"]]
    except (ValueError, KeyError, TypeError) as error:
        raise MediaError(f"“{path.name}” is not a report as “fit --report” writes it.") from error
    if rows and rows[0][0] != 0.0:
        raise MediaError(f"The first segment of “{path.name}” must begin at 0 of the source.")
    return rows


def _tabled(path: Path, text: str) -> list[tuple[float, float]]:
    rows = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or (number == 1 and line.replace(" ", "").lower() == "source_s,target_s"):
            continue
        cells = line.split(",")
        try:
            source, target = (float(cell) for cell in cells)
        except ValueError as error:
            raise MediaError(
                f"Line {number} of “{path.name}” is not source_s,target_s: “{line[:60]}”."
            ) from error
        rows.append((source, target))
    if rows and rows[0] != (0.0, 0.0):
        raise MediaError(f"The first point of “{path.name}” must be 0,0.")
    return rows


def chosen_method(
    mics: Sequence[Source], time_map: TimeMap, name: str, kind: str = "unknown"
) -> tuple[str, str]:
    """(method, why): the one that was asked for, or what suits the sound."""
    if name != "auto":
        return name, ""
    choice = method_of(mics, time_map, kind)
    return choice.method, choice.reason


def write_stretched(
    made: Source,
    time_map: TimeMap,
    out: Path,
    tell: Progress,
    pauses: Pauses | None = None,
    attacks_s: FloatArray | None = None,
) -> Written:
    """Write a stretched sound from session time 0 on; attacks_s, session seconds, are kept where pauses are
    silenced.
    """
    if not out.parent.is_dir():
        raise MediaError(f"There is no folder “{out.parent}” to write to.")
    frames = round(float(time_map.target_s[-1]) * made.sample_rate_hz)
    kept = [] if attacks_s is None else [float(time) for time in attacks_s]
    return write_sound(
        made,
        out,
        "wav24",
        stop=frames,
        pauses=pauses,
        attacks_s=kept,
        on_progress=lambda share: tell("rendering", share),
    )
