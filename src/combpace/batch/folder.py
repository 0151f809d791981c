"""A whole folder of files: each done once, whatever becomes of the others.

Done work is known by the content of a file and what was to be done with it, so a batch that was stopped goes
on where it was. Each file is an errand: done in a process of its own, or on a scheduler; one at which its
worker ends is named, and takes no other with it.
"""

from __future__ import annotations

import csv
import hashlib
import io
import json
import re
import tempfile
import time
from base64 import b64decode, b64encode
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, dataclass
from itertools import chain
from pathlib import Path
from typing import Any

from combpace import __version__
from combpace.batch.bundle_fit import fit_files
from combpace.batch.files import FitReport, Target, analyse_file, analyse_files, fit_file
from combpace.batch.following import follow_file
from combpace.batch.recipe import Recipe
from combpace.batch.reporting import page_of
from combpace.core.analysis.take import Hints
from combpace.core.errors import CombPaceError, ParameterError
from combpace.media.mapfiles import write_json
from combpace.media.writing import clear_parts, put_text
from combpace.session.keys import key
from combpace.workers.backend import Backend, LostError, Processes, said_of
from combpace.workers.errand import Errand, Outcome

SOUNDS = (".wav", ".aif", ".aiff", ".flac", ".ogg", ".oga", ".opus", ".mp3", ".m4a", ".aac")
DOES = ("analyse", "fit", "follow", "report")
ENDINGS = {"analyse": ".json", "report": ".html"}
# Where is written what was done; none of it ends like a result.
KEPT = ".combpace-batch"
# What a process of this machine has imported before it begins.
PRELOAD = ("combpace.batch.folder",)
POLL_S = 0.02
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


# What names a piece of work, the work, and its errand.
Work = tuple[str, Item, Errand]


def items_of(folder: Path, do: str, bundle: str | None) -> list[Item]:
    """All sound files below a folder, in order; bundle: "folder", or a pattern whose match two mics of one
    performance share.

    Raises ParameterError where there is none, or the pattern is none
    """
    if not folder.is_dir():
        raise ParameterError(f"There is no folder “{folder}”. Nothing was written.")
    found = sorted(
        path.relative_to(folder).as_posix()
        for path in folder.rglob("*")
        if path.suffix.lower() in SOUNDS and path.is_file()
    )
    if not found:
        raise ParameterError(f"There is no sound file in “{folder}”. Nothing was written.")
    groups: dict[str, list[str]] = {}
    for name in found:
        groups.setdefault(_group(name, bundle), []).append(name)
    suffix = ENDINGS.get(do, ".wav")
    items, taken = [], set()
    for files in groups.values():
        first = Path(files[0])
        whole = bundle == "folder" and first.parent != Path() and len(files) > 1
        target = first.parent if whole and do in ENDINGS else first.with_suffix("")
        out = f"{target}{suffix}" if len(files) == 1 or do in ENDINGS else f"{target}"
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
        raise ParameterError(
            f"--bundle takes folder, or a pattern; “{bundle}” is none ({error}). Nothing was written."
        ) from error
    return name if match is None else "".join(match.groups() or (match[0],))


def _done(item: Item, ended: Outcome) -> Done:
    """What became of a file whose work has ended, however it did."""
    if ended.error is None:
        return Done(**ended.value)
    by_itself = ended.error.startswith("it ")
    why = f"its worker ended while it was done ({ended.error})" if by_itself else ended.error
    return Done(item.files[0], item.out, 0.0, why)


def _refuse(do: str, recipe: Recipe, map_path: Path | None) -> None:
    """What can be said before anything is done. Raises ParameterError."""
    if do not in DOES:
        raise ParameterError(f"A batch does {', '.join(DOES)}, not “{do}”. Nothing was written.")
    unsaid = (recipe.follow.bars is None) == (recipe.follow.from_bpm is None)
    if do == "follow" and (map_path is None or unsaid):
        raise ParameterError(
            "To follow takes --map, and in the recipe how long each loop is: follow.bars, or "
            "follow.from_bpm. Nothing was written."
        )
    if map_path is not None and not map_path.is_file():
        raise ParameterError(f"There is no file “{map_path}”. Nothing was written.")
    recipe.fit.all_rules()


def _anywhere(
    todo: Iterator[Work],
    keep: Callable[[Item, Outcome], None],
    workers: int,
    cluster: Backend | None,
    say: Callable[[str], None],
) -> None:
    """Do all of it on a cluster where there is one; what is left when that is lost, on this machine."""
    again: list[Work] = []
    try:
        if cluster is not None:
            _all(cluster, todo, keep, again)
    except LostError as error:
        say(f"{error} What was done is kept; the rest is done here.")
    here = Processes(workers, PRELOAD)
    try:
        _all(here, chain(again, todo), keep, [])
    finally:
        here.close()


def run(
    folder: Path,
    out: Path,
    do: str,
    recipe: Recipe,
    map_path: Path | None,
    bundle: str | None,
    workers: int,
    tell: Callable[[int, int], None],
    cluster: Backend | None = None,
    say: Callable[[str], None] = lambda text: None,
) -> list[Done]:
    """Do it to all of them. Returns what became of each, in order; writes summary.json and summary.csv beside
    the results.

    workers processes of this machine; cluster: where it is done instead. Where that is lost the rest is done
    here
    tell    (how many are done, of how many)
    say     what happened on the way, in a sentence
    Raises  ParameterError for what can be said before anything is done
    """
    _refuse(do, recipe, map_path)
    items = items_of(folder, do, bundle)
    out.mkdir(parents=True, exist_ok=True)
    (out / KEPT).mkdir(exist_ok=True)
    clear_parts(out)
    map_hash = _hash([map_path]) if map_path else None
    settings = [do, recipe.model_dump(mode="json"), map_hash, __version__]
    session_map = None if map_path is None else [map_path.name, b64encode(map_path.read_bytes()).decode()]
    results: dict[Item, Done] = {}

    def works() -> Iterator[Work]:
        """What is to be done; a file is read only when its turn has come."""
        for item in items:
            named = key("batch", _hash([folder / name for name in item.files]), asdict(item), settings)
            known = _known(out, item, named)
            if known is not None:
                results[item] = known
                tell(len(results), len(items))
                continue
            args = {
                "files": list(item.files),
                "out": item.out,
                "do": do,
                "recipe": recipe.model_dump(mode="json"),
                "map": session_map,
                "key": named,
            }
            yield named, item, Errand("combpace.batch.folder:do_one", folder, out, item.files, args)

    def keep(item: Item, ended: Outcome) -> None:
        results[item] = _done(item, ended)
        tell(len(results), len(items))

    tell(0, len(items))
    _anywhere(works(), keep, workers, cluster, say)
    ordered = [results[item] for item in items]
    _summary(out, ordered)
    return ordered


def _all(
    backend: Backend, todo: Iterator[Work], keep: Callable[[Item, Outcome], None], again: list[Work]
) -> None:
    """Do all of them, as many at a time as there is room for. Where the backend is lost, what was begun goes
    to `again`. Raises LostError.
    """
    running: dict[str, Work] = {}
    more = True
    try:
        while more or running:
            while more and backend.free() > 0:
                work = next(todo, None)
                if work is None:
                    more = False
                    break
                running[work[0]] = work
                backend.start(work[0], work[2])
            ended = [key for key in running if not backend.alive(key)]
            for key in ended:
                outcome = backend.outcome(key)
                keep(running.pop(key)[1], outcome)
            if not ended:
                time.sleep(POLL_S)
    except LostError:
        again.extend(running.values())
        raise


def do_one(
    inputs: Path, outputs: Path, args: dict[str, Any], tell: Callable[[str, float], None]
) -> dict[str, Any]:
    """An errand: one piece of work; what it came to. Errors of files are results; what was done is noted
    beside it.
    """
    begun, names, item_out = time.monotonic(), args["files"], args["out"]
    paths, target, recipe = (
        [inputs / one for one in names],
        outputs / item_out,
        Recipe.model_validate(args["recipe"]),
    )
    target.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix="combpace-") as scratch:
        map_path = None
        if args["map"] is not None:
            map_path = Path(scratch, args["map"][0])
            map_path.write_bytes(b64decode(args["map"][1]))
        try:
            said = _work(paths, target, args["do"], recipe, map_path, tell)
        except (CombPaceError, OSError, MemoryError, ValueError) as error:
            if target.is_file():
                target.unlink()
            return asdict(Done(names[0], item_out, round(time.monotonic() - begun, 3), said_of(error)))
    done = asdict(Done(names[0], item_out, round(time.monotonic() - begun, 3), None, **said))
    note = outputs / KEPT / args["key"]
    note.parent.mkdir(exist_ok=True)
    put_text(note, json.dumps(done))
    return done


def _work(
    paths: list[Path],
    target: Path,
    do: str,
    recipe: Recipe,
    map_path: Path | None,
    quiet: Callable[[str, float], None],
) -> dict[str, Any]:
    if do == "follow":
        assert map_path is not None
        if len(paths) > 1:
            raise ParameterError("Loops follow one by one; leave --bundle out.")
        follow_file(paths[0], target, map_path, recipe.follow.said(), Hints(), recipe.method, quiet)
        return {}
    if do == "fit":
        fields = recipe.fit
        own = map_path is None and fields.bpm is None
        stated = fields if map_path is None and not own else None
        where = Target(
            map_path,
            stated.bpm if stated else None,
            stated.first_downbeat_s if stated else None,
            own,
            stated is not None and stated.first_downbeat_s is None,
        )
        made: FitReport
        if len(paths) > 1:
            made = fit_files(paths, target, where, Hints(), fields.all_rules(), recipe.method, (), quiet)
        else:
            made = fit_file(paths[0], target, where, Hints(), fields.all_rules(), recipe.method, quiet)
        write_json(made.document, target.with_name(f"{target.name.removesuffix('.wav')} fit.json"))
        return {"onsets": len(made.fit.pegs)}
    heard = analyse_files(paths, Hints(), quiet) if len(paths) > 1 else analyse_file(paths[0], Hints(), quiet)
    if do == "report":
        put_text(target, page_of(heard, paths[0] if len(paths) == 1 else target.with_suffix("")))
    else:
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
    put_text(out / "summary.csv", text.getvalue())


def table(done: Sequence[Done]) -> str:
    """A line a file, in columns, failures last."""
    lines = []
    wide = max(len(one.name) for one in done)
    for one in sorted(done, key=lambda one: one.error is not None):
        numbers = [
            f"{one.tempo:.2f} BPM" if one.tempo else "",
            f"{one.bars} bars" if one.bars else "",
            f"{one.onsets} onsets" if one.onsets else "",
        ]
        said = one.error or ", ".join(part for part in (one.verdict or "", *numbers) if part) or "done"
        lines.append(
            f"{one.name:<{wide}}  "
            f"{'failed: ' if one.error else ''}{said}{'  (as before)' if one.again else ''}"
        )
    failed = sum(one.error is not None for one in done)
    return "\n".join([*lines, f"{len(done)} files, {failed} failed"])
