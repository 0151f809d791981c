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
    fit_document,
    fit_heard,
    levels_document,
    opened,
    proof_document,
    refuse_folder,
    write_stretched,
    written_document,
)
from combpace.core.analysis.bundle import analyse_bundle
from combpace.core.analysis.take import Hints
from combpace.core.audio import Source
from combpace.core.errors import ParameterError
from combpace.core.fit.accents import Accented
from combpace.core.fit.pauses import Pauses
from combpace.core.fit.pegs import Fit
from combpace.core.fit.pipeline import owners_of, proved, stretched
from combpace.core.fit.ranges import Rules
from combpace.core.fit.together import clearest_first, union
from combpace.core.onsets.detect import Onsets, no_onsets
from combpace.core.stretch import check_method
from combpace.media.decode import FileSource
from combpace.session.take_names import guessed_kind

NO_PULSE = (
    "No pulse was found in these files, so their attacks cannot be laid on a grid. Nothing was written."
)


@dataclass(frozen=True, slots=True)
class BundleReport(FitReport):
    """A report of several files; `owners`: of each peg the file whose mark it is."""

    owners: tuple[str, ...] = ()


def _numbers(paths: Sequence[Path], names: Sequence[str], option: str = "--marks-first") -> list[int]:
    """Which of the files these names are. Raises ParameterError for one that is none."""
    by_name = {path.name: k for k, path in enumerate(paths)}
    unknown = next((one for one in names if one not in by_name), None)
    if unknown is not None:
        raise ParameterError(
            f"“{unknown}” is none of these files; {option} takes {', '.join(by_name)}. Nothing was written."
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
    rules: Rules,
    method: str,
    marks_first: Sequence[str],
    on_progress: Callable[[str, float], None],
    pauses: Pauses | None = None,
    marks_without: Sequence[str] = (),
) -> BundleReport:
    """Pull the mics of one performance to a grid as one; each is written under its own name into a folder.

    marks_first  names of files whose marks count first; the others follow, the clearest first
    marks_without  names of files whose marks do not count
    Raises       ParameterError for names that are none of the files, or where no pulse is found
    """
    name = check_method(method)
    targets = [out / f"{path.stem}.wav" for path in paths]
    refuse_folder(out, paths, targets)
    wished, silent = _numbers(paths, marks_first), _numbers(paths, marks_without, "--marks-without")
    if len(set(silent)) == len(paths):
        raise ParameterError("Then the marks of none of these files would count. Nothing was written.")
    with ExitStack() as stack:
        both = [stack.enter_context(opened(path, on_progress)) for path in paths]
        sources = [source for source, _ in both]
        found = analyse_bundle(sources, hints, on_progress=on_progress)
        if found[0].pace is None:
            raise ParameterError(NO_PULSE)
        each = [one.onsets for one in found]
        order = wished + [mic for mic in clearest_first(each) if mic not in wished]
        counted = [no_onsets() if mic in silent else one for mic, one in enumerate(each)]
        marks, owner = union(counted, order)
        kind = guessed_kind(paths[0].name)
        fitted = fit_heard(sources, found[0], marks, target, hints, rules, name, kind)
        made = fitted.fit
        out.mkdir(exist_ok=True)
        files = []
        for number, path in enumerate(targets):
            sound = Accented(stretched(sources, number, made.time_map, fitted.method), fitted.levels)
            said = _written(sound, made, each[number], path, on_progress, pauses)
            files.append({"file": paths[number].name, "out": path.name, **said})
    owned = owners_of([peg.take_s for peg in made.pegs], marks, owner.tolist())
    owners = tuple(paths[mic].name for mic in owned)
    document: dict[str, Any] = {
        "version": 1,
        "file": paths[0].name,
        "out": out.name,
        "method": fitted.method,
        "method_reason": fitted.reason,
        "marks_first": [paths[mic].name for mic in order if mic not in silent],
        **({"marks_without": [paths[mic].name for mic in silent]} if silent else {}),
        "files": files,
        **levels_document(fitted.levels),
        "notes": [note for _, decoded in both for note in decoded.notes],
        **_owned(fit_document(made), owners),
    }
    return BundleReport(made, fitted.method, fitted.reason, document, owners)


def proof_of_files(paths: Sequence[Path], out: Path, report: FitReport) -> dict[str, Any]:
    """What `fit --proof` writes of several files: each peg found again in the mic whose mark it is."""
    by_name = {path.name: path for path in paths}
    assert isinstance(report, BundleReport)
    names, rows = [one["file"] for one in report.document["files"]], report.document["files"]
    measured = [
        (peg, names.index(whose))
        for peg, whose in zip(report.fit.pegs, report.owners, strict=True)
        if peg.kind != "held"
    ]
    with ExitStack() as stack:
        found = proved(
            [(peg.take_s, peg.target_s) for peg, _ in measured],
            [mic for _, mic in measured],
            [lambda one=one: (stack.enter_context(FileSource(out / one["out"])), 0.0) for one in rows],  # type: ignore[misc]
            [lambda name=name: stack.enter_context(opened(by_name[name]))[0] for name in names],  # type: ignore[misc]
            report.fit.time_map,
        )
    return proof_document([(names[mic], one) for (_, mic), one in zip(measured, found, strict=True)])
