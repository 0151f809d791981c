"""A whole folder of files: each done once, whatever becomes of the others.

Done work is known by the content of a file and what was to be done with it, so a batch that was stopped goes on where it was. One process
a worker; a file at which a worker ends is tried once more by itself, and named with what it did.
"""

from __future__ import annotations

import csv
import hashlib
import io
import json
import re
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from dataclasses import asdict, dataclass
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from combpace import __version__
from combpace.batch.bundle_fit import fit_files
from combpace.batch.files import FitReport, Target, analyse_file, analyse_files, fit_file
from combpace.batch.following import follow_file
from combpace.batch.recipe import Recipe
from combpace.core.analysis.take import Hints
from combpace.core.errors import CombPaceError, ParameterError
from combpace.core.onsets.detect import ANALYSIS_VERSION
from combpace.media.mapfiles import write_json

SOUNDS = (".wav", ".aif", ".aiff", ".flac", ".ogg", ".oga", ".opus", ".mp3", ".m4a", ".aac")
DOES = ("analyse", "fit", "follow")
# Where is written what was done; none of it ends like a result.
KEPT = ".combpace-batch"
ENDED = "its worker ended while it was done: the file may be too large, or damaged in a new way"
_CHUNK = 1 << 20


@dataclass(frozen=True, slots=True)
class Item:
    """One piece of work: files of one performance, and what it writes, both as paths beside their folders."""

    files: tuple[str, ...]
    out: str


@dataclass(frozen=True, slots=True)
class Done:
    """What became of one piece of work; error: why it failed, or None. again: it was done before."""

    name: str
    out: str
    seconds: float
    error: str | None = None
    tempo: float | None = None
    bars: int | None = None
    onsets: int | None = None
    verdict: str | None = None
    again: bool = False


def items_of(folder: Path, do: str, bundle: str | None) -> list[Item]:
    """All sound files below a folder, in order; bundle: "folder", or a pattern whose match two mics of one performance share.

    Raises ParameterError where there is none, or the pattern is none
    """
    if not folder.is_dir():
        raise ParameterError(f"There is no folder “{folder}”. Nothing was written.")
    found = sorted(path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.suffix.lower() in SOUNDS and path.is_file())
    if not found:
        raise ParameterError(f"There is no sound file in “{folder}”. Nothing was written.")
    groups: dict[str, list[str]] = {}
    for name in found:
        groups.setdefault(_group(name, bundle), []).append(name)
    suffix = ".json" if do == "analyse" else ".wav"
    items, taken = [], set()
    for files in groups.values():
        first = Path(files[0])
        whole = bundle == "folder" and first.parent != Path() and len(files) > 1
        target = first.parent if whole and do == "analyse" else first.with_suffix("")
        out = f"{target}{suffix}" if len(files) == 1 or do == "analyse" else f"{target}"
        # Two files of one name and other endings keep theirs.
        if out in taken:
            out = f"{first}{suffix}"
        taken.add(out)
        items.append(Item(tuple(files), out))
    return items


def _group(name: str, bundle: str | None) -> str:
    if bundle is None:
        return name
    if bundle == "folder":
        return str(Path(name).parent) if Path(name).parent != Path() else name
    try:
        match = re.search(bundle, name)
    except re.error as error:
        raise ParameterError(f"--bundle takes folder, or a pattern; “{bundle}” is none ({error}). Nothing was written.") from error
    return name if match is None else "".join(match.groups() or (match[0],))


def run(
    folder: Path, out: Path, do: str, recipe: Recipe, map_path: Path | None, bundle: str | None, workers: int, tell: Callable[[int, int, float], None]
) -> list[Done]:
    """Do it to all of them. Returns what became of each, in order; writes summary.json and summary.csv beside the results.

    tell    (how many are done, of how many, seconds since the start)
    Raises  ParameterError for what can be said before anything is done
    """
    if do not in DOES:
        raise ParameterError(f"A batch does {', '.join(DOES)}, not “{do}”. Nothing was written.")
    if do == "follow" and (map_path is None or (recipe.follow.bars is None) == (recipe.follow.from_bpm is None)):
        raise ParameterError("To follow takes --map, and in the recipe how long each loop is: follow.bars, or follow.from_bpm. Nothing was written.")
    if map_path is not None and not map_path.is_file():
        raise ParameterError(f"There is no file “{map_path}”. Nothing was written.")
    recipe.fit.rule()
    items = items_of(folder, do, bundle)
    out.mkdir(parents=True, exist_ok=True)
    (out / KEPT).mkdir(exist_ok=True)
    map_hash = _hash([map_path]) if map_path else None
    settings = json.dumps([do, recipe.model_dump(mode="json"), map_hash, ANALYSIS_VERSION, __version__], sort_keys=True)
    begun, results, todo = time.monotonic(), {}, []
    for item in items:
        key = hashlib.sha256(f"{_hash([folder / name for name in item.files])}{item}{settings}".encode()).hexdigest()
        known = _known(out, item, key)
        if known is not None:
            results[item] = known
        else:
            todo.append((item, key))
    tell(len(results), len(items), time.monotonic() - begun)
    args = (str(folder), str(out), do, recipe.model_dump(mode="json"), None if map_path is None else str(map_path))

    def keep(item: Item, key: str, done: Done) -> None:
        results[item] = done
        if done.error is None:
            (out / KEPT / key).write_text(json.dumps(asdict(done)), encoding="utf-8")
        tell(len(results), len(items), time.monotonic() - begun)

    left = _round(todo, args, workers, keep)
    for item, key in left:
        # Its worker, or one beside it, ended: once more by itself.
        if _round([(item, key)], args, 1, keep):
            keep(
                item,
                key,
                Done(item.files[0], item.out, 0.0, "its worker ended while it was done: the file may be too large, or damaged in a new way"),
            )
    ordered = [results[item] for item in items]
    _summary(out, ordered)
    return ordered


def _round(todo: Sequence[tuple[Item, str]], args: tuple[Any, ...], workers: int, keep: Callable[[Item, str, Done], None]) -> list[tuple[Item, str]]:
    """Do some, at most so many at a time; returns what was not done because a worker ended."""
    if not todo:
        return []
    waiting: dict[Future[Done], tuple[Item, str]] = {}
    left = []
    with ProcessPoolExecutor(max_workers=max(1, min(workers, len(todo))), mp_context=get_context("spawn")) as pool:
        for item, key in todo:
            waiting[pool.submit(do_one, item, *args)] = (item, key)
        for future in as_completed(waiting):
            item, key = waiting[future]
            try:
                keep(item, key, future.result())
            except BrokenProcessPool:
                left.append((item, key))
    return left


def do_one(item: Item, folder: str, out: str, do: str, recipe: dict[str, Any], map_path: str | None) -> Done:
    """One piece of work, in whatever process: what it came to; errors of files are results."""
    begun, name = time.monotonic(), item.files[0]
    paths, target, how = [Path(folder, one) for one in item.files], Path(out, item.out), Recipe.model_validate(recipe)
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        said = _work(paths, target, do, how, None if map_path is None else Path(map_path))
        return Done(name, item.out, round(time.monotonic() - begun, 3), None, **said)
    except (CombPaceError, OSError, MemoryError, ValueError) as error:
        if target.is_file():
            target.unlink()
        text = str(error) or type(error).__name__
        return Done(name, item.out, round(time.monotonic() - begun, 3), text.replace("\n", " "))


def _work(paths: list[Path], target: Path, do: str, recipe: Recipe, map_path: Path | None) -> dict[str, Any]:
    quiet = lambda phase, share: None  # noqa: E731
    if do == "follow":
        assert map_path is not None
        if len(paths) > 1:
            raise ParameterError("Loops follow one by one; leave --bundle out.")
        follow_file(paths[0], target, map_path, recipe.follow.said(), Hints(), recipe.method, quiet)
        return {}
    if do == "fit":
        fields = recipe.fit
        own = map_path is None and fields.bpm is None
        where = Target(map_path, fields.bpm if map_path is None else None, fields.first_downbeat_s if map_path is None else None, own)
        made: FitReport
        if len(paths) > 1:
            made = fit_files(paths, target, where, Hints(), fields.rule(), recipe.method, (), quiet)
        else:
            made = fit_file(paths[0], target, where, Hints(), fields.rule(), recipe.method, quiet)
        write_json(made.document, target.with_name(f"{target.name.removesuffix('.wav')} fit.json"))
        return {"onsets": len(made.fit.pegs)}
    heard = analyse_files(paths, Hints(), quiet) if len(paths) > 1 else analyse_file(paths[0], Hints(), quiet)
    write_json(heard.document, target)
    steady = heard.analysis.steady
    return {
        "tempo": round(steady.bpm, 3) if steady else None,
        "bars": len(heard.document.get("bars", ())),
        "onsets": len(heard.analysis.onsets),
        "verdict": steady.verdict if steady else "no pulse",
    }


def _hash(paths: Sequence[Path]) -> str:
    digest = hashlib.sha256()
    for path in paths:
        with path.open("rb") as file:
            while chunk := file.read(_CHUNK):
                digest.update(chunk)
        digest.update(b"|")
    return digest.hexdigest()


def _known(out: Path, item: Item, key: str) -> Done | None:
    """What was done before, where its result is still there."""
    try:
        found = Done(**json.loads((out / KEPT / key).read_text(encoding="utf-8")))
    except (OSError, ValueError, TypeError):
        return None
    return Done(**{**asdict(found), "again": True}) if (out / item.out).exists() else None


COLUMNS = ("name", "out", "verdict", "tempo", "bars", "onsets", "seconds", "error")


def _summary(out: Path, done: Sequence[Done]) -> None:
    rows = [{name: getattr(one, name) for name in COLUMNS} for one in done]
    failed = sum(one.error is not None for one in done)
    write_json({"version": 1, "files": len(done), "failed": failed, "results": rows}, out / "summary.json")
    text = io.StringIO()
    writer = csv.DictWriter(text, COLUMNS, lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    (out / "summary.csv").write_text(text.getvalue(), encoding="utf-8")


def table(done: Sequence[Done]) -> str:
    """A line a file, in columns, failures last."""
    lines = []
    wide = max(len(one.name) for one in done)
    for one in sorted(done, key=lambda one: one.error is not None):
        numbers = [f"{one.tempo:.2f} BPM" if one.tempo else "", f"{one.bars} bars" if one.bars else "", f"{one.onsets} onsets" if one.onsets else ""]
        said = one.error or ", ".join(part for part in (one.verdict or "", *numbers) if part) or "done"
        lines.append(f"{one.name:<{wide}}  {'failed: ' if one.error else ''}{said}{'  (as before)' if one.again else ''}")
    failed = sum(one.error is not None for one in done)
    return "\n".join([*lines, f"{len(done)} files, {failed} failed"])
