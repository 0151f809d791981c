"""The mics of one performance fitted as one: by the strokes of all of them, along one time map, phase
kept.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from combpace.batch.files import (
    FitReport,
    Target,
    chosen_method,
    file_follow,
    fit_document,
    levels_document,
    maps_for,
    opened,
    proof_document,
    refuse_folder,
    rests_of,
    write_stretched,
    written_document,
)
from combpace.core.analysis.bundle import analyse_bundle
from combpace.core.analysis.take import Hints
from combpace.core.audio import SideBySide, Source
from combpace.core.errors import ParameterError
from combpace.core.fit.accents import Accented, accent_levels
from combpace.core.fit.holding import notes_held
from combpace.core.fit.pauses import Pauses
from combpace.core.fit.pegs import Fit, fit
from combpace.core.fit.proof import proof
from combpace.core.fit.rule import Rule
from combpace.core.fit.together import clearest_first, nearest_marks, union
from combpace.core.onsets.detect import Onsets
from combpace.core.stretch import StretchedSource, check_method
from combpace.media.decode import FileSource

NO_PULSE = (
    "No pulse was found in these files, so their attacks cannot be laid on a grid. Nothing was written."
)


@dataclass(frozen=True, slots=True)
class BundleReport(FitReport):
    """A report of several files; `owners`: of each peg the file whose mark it is."""

    owners: tuple[str, ...] = ()


def _numbers(paths: Sequence[Path], names: Sequence[str]) -> list[int]:
    """Which of the files these names are. Raises ParameterError for one that is none."""
    by_name = {path.name: k for k, path in enumerate(paths)}
    unknown = next((one for one in names if one not in by_name), None)
    if unknown is not None:
        raise ParameterError(
            f"“{unknown}” is none of these files; --marks-first takes {', '.join(by_name)}. Nothing "
            "was written."
        )
    return [by_name[one] for one in names]


def _written(
    sound: Source,
    made: Fit,
    marks: Onsets,
    path: Path,
    on_progress: Callable[[str, float], None],
    pauses: Pauses | None,
) -> dict[str, Any]:
    """Write one mic, and what is to be said of its file."""
    heard = made.time_map.to_target(np.asarray(marks.times))
    written = write_stretched(sound, made.time_map, path, on_progress, pauses, heard)
    return written_document(written, sound.sample_rate_hz, pauses)


def _owned(document: dict[str, Any], owners: Sequence[str]) -> dict[str, Any]:
    """A fit's document whose pegs say in which mic their mark was struck."""
    for peg, whose in zip(document["pegs"], owners, strict=True):
        peg["mic"] = whose
    return document


def fit_files(
    paths: Sequence[Path],
    out: Path,
    target: Target,
    hints: Hints,
    rule: Rule,
    method: str,
    marks_first: Sequence[str],
    on_progress: Callable[[str, float], None],
    pauses: Pauses | None = None,
    accent: float = 0.0,
) -> BundleReport:
    """Pull the mics of one performance to a grid as one; each is written under its own name into a folder.

    accent       0-1, how much of a groove's accents the level of all of them takes
    marks_first  names of files whose marks count first; the others follow, the clearest first
    Raises       ParameterError for names that are none of the files, or where no pulse is found
    """
    name = check_method(method)
    targets = [out / f"{path.stem}.wav" for path in paths]
    refuse_folder(out, paths, targets)
    wished = _numbers(paths, marks_first)
    with ExitStack() as stack:
        both = [stack.enter_context(opened(path, on_progress)) for path in paths]
        sources = [source for source, _ in both]
        found = analyse_bundle(sources, hints, on_progress=on_progress)
        first = found[0].pace
        if first is None:
            raise ParameterError(NO_PULSE)
        each = [one.onsets for one in found]
        order = wished + [mic for mic in clearest_first(each) if mic not in wished]
        marks, owner = union(each, order)
        together = SideBySide(sources)
        length = together.frames / together.sample_rate_hz
        pace, session_map = maps_for(target, first, rule, length)
        follow = file_follow(found[0], pace, session_map, length, target, hints)
        made = fit(marks, pace, follow, session_map, length, rule)
        name, reason = chosen_method(together, made.time_map, name)
        made = notes_held(made, rests_of(sources))
        levels = accent_levels(made.pegs, rule.grid, session_map, accent)
        out.mkdir(exist_ok=True)
        files = []
        for number, path in enumerate(targets):
            channels = together.channels_of(number)
            sound = Accented(StretchedSource(together, made.time_map, name, channels=channels), levels)
            said = _written(sound, made, each[number], path, on_progress, pauses)
            files.append({"file": paths[number].name, "out": path.name, **said})
    nearest = nearest_marks([peg.take_s for peg in made.pegs], marks)
    owners = tuple(paths[0 if k is None else int(owner[k])].name for k in nearest)
    document: dict[str, Any] = {
        "version": 1,
        "file": paths[0].name,
        "out": out.name,
        "method": name,
        "method_reason": reason,
        "marks_first": [paths[mic].name for mic in order],
        "files": files,
        **levels_document(levels),
        "notes": [note for _, decoded in both for note in decoded.notes],
        **_owned(fit_document(made), owners),
    }
    return BundleReport(made, name, reason, document, owners)


def proof_of_files(paths: Sequence[Path], out: Path, report: FitReport) -> dict[str, Any]:
    """What `fit --proof` writes of several files: each peg found again in the mic whose mark it is."""
    by_name = {path.name: path for path in paths}
    assert isinstance(report, BundleReport)
    measured: list[tuple[int, str, Any]] = []
    for one in report.document["files"]:
        mine = [
            (k, peg)
            for k, (peg, whose) in enumerate(zip(report.fit.pegs, report.owners, strict=True))
            if whose == one["file"] and peg.kind != "held"
        ]
        pegs = [peg for _, peg in mine]
        with opened(by_name[one["file"]]) as (played, _), FileSource(out / one["out"]) as rendered:
            wanted, struck = [peg.target_s for peg in pegs], [peg.take_s for peg in pegs]
            found = proof(rendered, wanted, 0.0, played, struck)
        measured += [(k, one["file"], result) for (k, _), result in zip(mine, found, strict=True)]
    return proof_document([(name, result) for _, name, result in sorted(measured, key=lambda row: row[0])])
