"""Tempo maps in every form that is read or written: .json, .mid, .csv and plain label text (.txt), told apart
by the name of the file.

CSV and labels carry lines only: beats and bars, no anchors, no ramps.
"""

from __future__ import annotations

import csv
import io
import itertools
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from combpace.core.clocks import SessionTimes, session_times
from combpace.core.errors import CombPaceError, MediaError
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter, bar_index, bar_number, parse_meter
from combpace.media.mapfiles import (
    map_document,
    read_json_ends,
    read_json_map,
    six,
    write_bars_csv,
    write_json,
)
from combpace.media.midi import read_map, write_map
from combpace.media.writing import put_text

# Times in a list that lie nearer than this are beats, farther apart bars (common practice: nobody counts
# slower than 50 a minute).
MOST_BEAT_S = 1.2
# Nothing that is a tempo map is larger: text in bytes, beats and bars, seconds.
MOST_BYTES, MOST_LINES, MOST_KNOTS, MOST_BARS, FAR_S = 16_000_000, 200_000, 200_000, 100_000, 1e6
TIME_NAMES = ("start_s", "time_s", "time", "seconds", "start", "beat_time", "onset")
BAR_NAMES = ("bar", "measure")
BEAT_NAMES = ("beat", "position")
LABEL = re.compile(r"(-?\d+)(?:\.(\d+))?")
Line = tuple[float, int | None, int | None]


@dataclass(frozen=True, slots=True)
class FoundMap:
    """A map as a file has it.

    line   on the clock of the file: its zero is session zero
    end_s  where what the file describes ends
    said   what had to be assumed, in words; "" for nothing
    """

    line: TempoMap[SessionTimes]
    end_s: float
    said: str = ""


def read_any(path: Path, name: str | None = None) -> FoundMap:
    """A map out of a file of any form that is known.

    name    the file's own, where `path` is a copy of it
    Raises  MediaError, in a sentence, for anything that is no tempo map
    """
    called = name or path.name
    read = READERS.get(Path(called).suffix.lower())
    if read is None:
        raise MediaError(
            f"“{called}” is not a form that a tempo map is read from; use "
            f"{', '.join(sorted(READERS))}. Nothing was changed."
        )
    try:
        if read is not _read_midi and path.stat().st_size > MOST_BYTES:
            raise MediaError(
                f"“{called}” is larger than {MOST_BYTES // 10**6} MB; a tempo map is not. Nothing was "
                "changed."
            )
        found = read(path)
        _within(found, called)
        return found
    except RecursionError as error:
        raise MediaError(f"“{called}” is nested too deeply. Nothing was changed.") from error
    except MediaError as error:
        raise MediaError(str(error).replace(f"“{path.name}”", f"“{called}”")) from error
    except OSError as error:
        raise MediaError(f"“{called}” cannot be read: {error.strerror}. Nothing was changed.") from error


def _within(found: FoundMap, called: str) -> None:
    """Raises MediaError for a map of more knots, bars or hours than any music has."""
    line = found.line
    near = abs(found.end_s) < FAR_S and abs(line.second(0.0)) < FAR_S
    if not near or len(line.knots) > MOST_KNOTS or abs(line.bar_of(line.place(found.end_s))) > MOST_BARS:
        raise MediaError(
            f"“{called}” goes on for more beats, bars or hours than music does. Nothing was changed."
        )


def write_any(found: FoundMap, path: Path) -> None:
    """Write a map in the form that the name of the file says. Raises MediaError for a name that says none."""
    write = WRITERS.get(path.suffix.lower())
    if write is None:
        raise MediaError(
            f"“{path.name}” names no form that a tempo map is written in; use "
            f"{', '.join(sorted(WRITERS))}. Nothing was written."
        )
    if not path.parent.is_dir():
        raise MediaError(f"There is no folder “{path.parent}” to write to.")
    write(found, path)


def labels_text(found: FoundMap) -> str:
    """start TAB end TAB label, a line a beat: "7" is the line of bar 7, "7.2" its second beat."""
    rows: list[str] = []
    index = found.line.bar_of(found.line.place(0.0) + 1e-6)
    while found.line.second(found.line.bar_line(index)) < found.end_s - 1e-6:
        line, meter = found.line.bar_line(index), found.line.meter_of(index)
        for beat in range(meter.beats):
            time = found.line.second(line + beat * meter.beat_quarters)
            if -1e-7 <= time < found.end_s - 1e-6:
                label = f"{bar_number(index)}" if beat == 0 else f"{bar_number(index)}.{beat + 1}"
                rows.append(f"{time:.6f}\t{time:.6f}\t{label}\n")
        index += 1
    return "".join(rows)


# -- reading


def _read_json(path: Path) -> FoundMap:
    line = read_json_map(path)
    return FoundMap(line, read_json_ends(path) or _end_of(line))


def _read_midi(path: Path) -> FoundMap:
    line = read_map(path)
    return FoundMap(line, _end_of(line))


def _end_of(line: TempoMap[SessionTimes]) -> float:
    return float(line.times_s[-1])


def _read_labels(path: Path) -> FoundMap:
    rows = []
    for number, text in enumerate(_text(path).splitlines(), 1):
        if not text.strip():
            continue
        cells = text.split("\t")
        match = LABEL.fullmatch(cells[2].strip()) if len(cells) == 3 else None
        if match is None:
            raise MediaError(
                f"Line {number} of “{path.name}” is not start TAB end TAB label with a label like 7 "
                f"or 7.2: “{text[:60]}”."
            )
        rows.append((_seconds(cells[0], number, path), int(match[1]), int(match[2]) if match[2] else 1))
    return _from_lines(rows, path)


def _read_csv(path: Path) -> FoundMap:
    text = _text(path)
    delimiter = next((mark for mark in (";", "\t", ",") if mark in text), None)
    if delimiter == ";":
        # Where columns are told apart by semicolons, a comma is a decimal point.
        text = text.replace(",", ".")
    try:
        table = [
            row
            for row in (
                csv.reader(io.StringIO(text), delimiter=delimiter, strict=True)
                if delimiter
                else (line.split() for line in text.splitlines())
            )
            if row
        ]
    except csv.Error as error:
        raise MediaError(
            f"“{path.name}” has a quote that is not closed ({error}). Nothing was changed."
        ) from error
    if any("\n" in cell for row in table for cell in row):
        raise MediaError(f"“{path.name}” has a quote that is closed on another line. Nothing was changed.")
    if not table:
        raise MediaError(f"“{path.name}” is empty.")
    header = [cell.strip().lower() for cell in table[0]] if not _is_number(table[0][0]) else []
    rows = table[1:] if header else table
    time_at = next((header.index(name) for name in TIME_NAMES if name in header), 0 if not header else -1)
    if time_at < 0:
        raise MediaError(f"“{path.name}” has no column of times; name one {', '.join(TIME_NAMES[:4])}.")
    bar_at = next((header.index(name) for name in BAR_NAMES if name in header), -1)
    beat_at = next((header.index(name) for name in BEAT_NAMES if name in header), -1)
    meter_at = header.index("meter") if "meter" in header else -1
    if not header and min(map(len, rows)) > 1:
        return _headless(rows, path)
    lines: list[Line] = []
    meters: list[str] = []
    for number, row in enumerate(rows, 2 if header else 1):
        if len(row) <= max(time_at, bar_at, beat_at, meter_at):
            raise MediaError(f"Line {number} of “{path.name}” has too few columns.")
        bar = _whole(row[bar_at], number, path) if bar_at >= 0 else None
        beat = _whole(row[beat_at], number, path) if beat_at >= 0 else (1 if bar is not None else None)
        lines.append((_seconds(row[time_at], number, path), bar, beat))
        meters.append(row[meter_at].strip() if meter_at >= 0 else "")
    if meter_at >= 0 and bar_at >= 0:
        return _with_meters(lines, meters, path)
    return _from_lines(lines, path)


def _headless(rows: list[list[str]], path: Path) -> FoundMap:
    """time, label: bar numbers that go up, "7.2", or the beat in its bar."""
    found: list[tuple[float, re.Match[str]]] = []
    for number, row in enumerate(rows, 1):
        match = LABEL.fullmatch(row[1].strip())
        if match is None:
            raise MediaError(
                f"Line {number} of “{path.name}” is not a time and a bar or beat: “{' '.join(row)[:60]}”."
            )
        found.append((_seconds(row[0], number, path), match))
    numbers = [int(match[1]) for _, match in found]
    if any(match[2] for _, match in found):
        return _from_lines(
            [(time, int(match[1]), int(match[2]) if match[2] else 1) for time, match in found], path
        )
    if all(a < b for a, b in itertools.pairwise(numbers)):
        return _from_lines(
            [(time, number, 1) for (time, _), number in zip(found, numbers, strict=True)], path
        )
    return _from_lines([(time, None, number) for (time, _), number in zip(found, numbers, strict=True)], path)


def _from_lines(rows: Sequence[Line], path: Path) -> FoundMap:
    """A map through beats: (time, bar number, beat in the bar from 1), what is unknown None."""
    _check_times([row[0] for row in rows], path)
    if rows[0][2] is None:
        return _from_times(np.array([row[0] for row in rows]))
    bars: list[list[tuple[float, int]]] = []
    numbers: list[int] = []
    for time, bar, beat in rows:
        assert beat is not None
        if beat < 1 or bar == 0:
            raise MediaError(
                f"“{path.name}” names bar {bar}, beat {beat}; bars and beats are counted from 1, "
                "and there is no bar 0."
            )
        if not bars or (bar is not None and bar != numbers[-1]) or (bar is None and beat <= bars[-1][-1][1]):
            if bar is not None and numbers and bar_index(bar) != bar_index(numbers[-1]) + 1:
                raise MediaError(
                    f"In “{path.name}” bar {bar} follows bar {numbers[-1]}; bars must follow each other."
                )
            bars.append([])
            numbers.append(
                bar
                if bar is not None
                else (bar_number(bar_index(numbers[-1]) + 1) if numbers else (1 if beat == 1 else -1))
            )
        bars[-1].append((time, beat))
    return _assembled(bars, numbers)


def _assembled(bars: list[list[tuple[float, int]]], numbers: list[int]) -> FoundMap:
    """Bars of beats -> map: a bar has as many beats as are named in it, the last one those of the bar before;
    only lines: 4/4.
    """
    counts = [max(beat for _, beat in bar) for bar in bars]
    only_lines = all(count == 1 for count in counts)
    said = "only bar lines are given, so the meter is taken to be 4/4" if only_lines else ""
    counts = [4] * len(bars) if only_lines else counts
    if len(counts) > 1 and not only_lines:
        counts[-1] = max(counts[-1], counts[-2])
    # A pickup is counted back from the line after it.
    if not only_lines and numbers[0] < 0:
        counts[0] = counts[1] if len(counts) > 1 else 4
    first = bar_index(numbers[0])
    counts_from_1 = {bar_index(number): count for number, count in zip(numbers, counts, strict=True)}
    meters: list[Meter] = [Meter(1, counts_from_1.get(0, counts[0]), 4)]
    for index in sorted(counts_from_1):
        if index > 0 and counts_from_1[index] != meters[-1].numerator:
            meters.append(Meter(bar_number(index), counts_from_1[index], 4))
    frame: TempoMap[SessionTimes] = TempoMap((Knot(0.0, 0.0), Knot(1.0, 2.0)), tuple(meters))
    knots = [
        Knot(time, frame.bar_line(first + k) + beat - 1.0) for k, bar in enumerate(bars) for time, beat in bar
    ]
    return FoundMap(
        TempoMap(tuple(knots), tuple(meters)), knots[-1].time_s + (knots[-1].time_s - knots[-2].time_s), said
    )


def _with_meters(lines: list[Line], names: list[str], path: Path) -> FoundMap:
    """Bars with their meters, as `bars_csv` writes them."""
    _check_times([row[0] for row in lines], path)
    meters: list[Meter] = []
    for (_, bar, _), name in zip(lines, names, strict=True):
        assert bar is not None
        if not meters or str(meters[-1]) != name:
            try:
                meters.append(parse_meter(name, bar if meters else 1))
            except CombPaceError as error:
                raise MediaError(f"Bar {bar} of “{path.name}”: {error}") from error
    kept = [meter for k, meter in enumerate(meters) if k == 0 or meter.bar > 1]
    frame: TempoMap[SessionTimes] = TempoMap((Knot(0.0, 0.0), Knot(1.0, 2.0)), tuple(kept))
    knots = tuple(Knot(time, frame.bar_line(bar_index(bar))) for time, bar, _ in lines if bar is not None)
    return FoundMap(TempoMap(knots, tuple(kept)), 2 * knots[-1].time_s - knots[-2].time_s)


def _from_times(times: np.ndarray) -> FoundMap:
    """Times alone: beats of 4/4 where they are as near as beats, else bar lines."""
    beats = float(np.median(np.diff(times))) < MOST_BEAT_S
    step = 1.0 if beats else 4.0
    knots = tuple(Knot(float(time), k * step) for k, time in enumerate(times))
    said = (
        "only times are given; they are taken to be "
        f"{'beats, the first a downbeat' if beats else 'bar lines'}, in 4/4"
    )
    return FoundMap(TempoMap(knots), float(2 * times[-1] - times[-2]), said)


def _check_times(times: list[float], path: Path) -> None:
    if len(times) < 2:
        raise MediaError(f"“{path.name}” needs at least two lines to be a tempo map.")
    for k, (a, b) in enumerate(itertools.pairwise(times), 2):
        if not b > a:
            raise MediaError(
                f"Entry {k} of “{path.name}” is at {b:g} s and does not come after the one before "
                f"it, at {a:g} s."
            )


def _text(path: Path) -> str:
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        raise MediaError(f"“{path.name}” is not plain text.") from error
    if text.count("\n") > MOST_LINES:
        raise MediaError(
            f"“{path.name}” has more than {MOST_LINES:,} lines; a tempo map has not. Nothing was changed."
        )
    return text


def _is_number(text: str) -> bool:
    try:
        return bool(np.isfinite(float(text.strip().replace(",", "."))))
    except ValueError:
        return False


def _seconds(text: str, number: int, path: Path) -> float:
    if not _is_number(text):
        raise MediaError(f"Line {number} of “{path.name}” has no time in seconds: “{text[:40]}”.")
    return float(text.strip().replace(",", "."))


def _whole(text: str, number: int, path: Path) -> int:
    try:
        return int(text.strip())
    except ValueError as error:
        raise MediaError(
            f"Line {number} of “{path.name}” has no whole number where bar or beat should be: “{text[:40]}”."
        ) from error


# -- writing


def _document(found: FoundMap) -> dict[str, object]:
    start = min(0.0, float(found.line.times_s[0]))
    return {
        "version": 1,
        "duration_s": six(found.end_s),
        **map_document(found.line, start, found.end_s, session_times([])),
    }


def _write_json(found: FoundMap, path: Path) -> None:
    write_json(_document(found), path)


def _write_midi(found: FoundMap, path: Path) -> None:
    write_map(found.line, found.end_s, path)


def _write_csv(found: FoundMap, path: Path) -> None:
    write_bars_csv(_document(found), path)


def _write_labels(found: FoundMap, path: Path) -> None:
    put_text(path, labels_text(found))


READERS: dict[str, Callable[[Path], FoundMap]] = {
    ".json": _read_json,
    ".mid": _read_midi,
    ".midi": _read_midi,
    ".csv": _read_csv,
    ".txt": _read_labels,
}
WRITERS: dict[str, Callable[[FoundMap, Path], None]] = {
    ".json": _write_json,
    ".mid": _write_midi,
    ".csv": _write_csv,
    ".txt": _write_labels,
}
