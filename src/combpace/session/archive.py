"""A session as one file that opens in another data folder, with everything that can be undone.

A zip (stored, not packed: sound does not shrink) of `manifest.json` and `blobs/SHA256`. The manifest has the
session's rows without any time or id of this folder; the same session written twice is the same file. The
sources go with it, what was heard in them, the sounds that pieces are cut from, and the decoded sound of
lossy sources, for another decoder would shift their marks; of lossless ones it is made again and checked by
its hash. Without sound it is decisions, marks, paces and what was heard; the files are asked for where it is
opened.

What is read is not trusted: entries, sizes, depth, names and hashes are checked before anything is kept, and
all rows are one transaction.
"""

from __future__ import annotations

import hashlib
import json
import time
import zipfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

from combpace import __version__
from combpace.core.errors import MediaError, ParameterError
from combpace.media.decode import FileSource, decode_to_wav
from combpace.media.peaks import write_peaks
from combpace.media.zips import entry
from combpace.session.analysis_store import without_pulse
from combpace.session.archive_judge import VERSION, Judged, absent, judge, refuse
from combpace.session.data_folder import DataFolder
from combpace.session.document.model import FORMAT
from combpace.session.shelf import session_name
from combpace.store import archives, rows
from combpace.store.errors import MissingError
from combpace.store.models import WANTED, new_id

# What an archive is called; one of any other name is read as well.
ENDING = ".combpace"
LOSSLESS = (".wav", ".aif", ".aiff", ".flac")
_CHUNK = 1 << 20
# The kind of the job that reads its sounds, and of the archive's own row until that is done.
KIND = "archive"
# Decoded sound of this size is read while whoever sent it waits.
AT_ONCE_BYTES = 64 * 2**20
# What is not known of a take before its sound was read.
NOT_YET = (
    "decoded_sha", "peaks_sha", "analysis_sha", "decoder", "sample_rate_hz", "channels", "frames", "peak",
)  # fmt: skip
Tell = Callable[[str, float], None]


def _quiet(phase: str, share: float) -> None:
    """No progress."""


# -- out


def _wanted(folder: DataFolder, kept: dict[str, Any], *, sound: bool) -> dict[str, str]:
    """Which blobs go into an archive, and what each is; `kept` loses what needs none of them."""
    wanted: dict[str, str] = {}
    solved = set() if sound else _solved_for(kept)
    for take in kept["takes"]:
        if not sound and take["analysis_sha"] and take["id"] not in solved:
            take["analysis_sha"] = _slim(folder, take["analysis_sha"])
        if sound and take["state"] != WANTED:
            wanted.setdefault(take["source_sha"], "source")
        if take["analysis_sha"]:
            wanted.setdefault(take["analysis_sha"], "analysis")
        if (
            sound
            and take["state"] != WANTED
            and take["decoded_sha"]
            and not take["name"].lower().endswith(LOSSLESS)
        ):
            wanted.setdefault(take["decoded_sha"], "decoded")
    pinned = {
        value["sha"]
        for body in kept["parts"].values()
        if isinstance(value := json.loads(body), dict) and "first_frame" in value
    }
    kept["files"] = [
        file for file in kept["files"] if file["kind"] in ("part", "piece") or file["sha"] in pinned
    ]
    for file in kept["files"]:
        wanted.setdefault(file["sha"], file["kind"])
    return wanted


def _solved_for(kept: dict[str, Any]) -> set[str]:
    """Takes whose map is solved for from what was heard of their pulse: it stays with them."""
    bodies = {sha: json.loads(body) for sha, body in kept["parts"].items()}
    found: set[str] = set()
    for one in kept["revisions"]:
        names = json.loads(one["parts"])
        found |= {name.partition(":")[2] for name in names if name.startswith("said:")}
        said = (bodies[names["map"]] or {}).get("statements", []) if "map" in names else []
        if any(not statement.get("knotted") for statement in said):
            found |= {take["id"] for take in bodies[names["takes"]] if take["role"] == "lead"}
    return found


def write_archive(
    folder: DataFolder,
    session_id: str,
    out: IO[bytes],
    *,
    newest: bool = False,
    sound: bool = True,
    tell: Tell = _quiet,
) -> int:
    """Write a session as an archive. Returns how many bytes its sounds and analyses are.

    newest  its present state alone, without what led there
    sound   False: without the takes' files; where it is opened each is asked for by its name and hash
    Raises  NotFoundError; ParameterError where one of its sounds is missing
    """
    folder.session_row(session_id)
    kept = archives.taken(folder.database, session_id, newest=newest)
    wanted = _wanted(folder, kept, sound=sound)
    blobs = [
        {"sha": sha, "what": what, "bytes": _blob(folder, sha).stat().st_size}
        for sha, what in sorted(wanted.items())
    ]
    manifest = {
        "kind": "combpace session",
        "version": VERSION,
        "program": __version__,
        "form": FORMAT,
        "sound": sound,
        **kept,
        "blobs": blobs,
    }
    total = sum(int(str(blob["bytes"])) for blob in blobs)
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED, allowZip64=True) as pack:
        pack.writestr(entry("manifest.json"), json.dumps(manifest, sort_keys=True, indent=1).encode())
        done = 0
        for blob in blobs:
            with (
                pack.open(entry(f"blobs/{blob['sha']}"), "w", force_zip64=True) as target,
                _blob(folder, str(blob["sha"])).open("rb") as source,
            ):
                while chunk := source.read(_CHUNK):
                    target.write(chunk)
                    done += len(chunk)
                    tell("writing the archive", done / max(1, total))
    return total


def _slim(folder: DataFolder, sha: str) -> str:
    """An analysis without what only a new reading of the sound needs, kept beside it; its hash."""
    path = folder.blobs.new_path(".npz")
    try:
        without_pulse(_blob(folder, sha), path)
        return folder.blobs.adopt(path)
    finally:
        path.unlink(missing_ok=True)


def _blob(folder: DataFolder, sha: str) -> Path:
    try:
        return folder.blobs.path(sha)
    except MissingError as error:
        raise ParameterError(
            "A sound of this session is missing from the data folder, so no archive can be made of "
            "it. Nothing was written."
        ) from error


# -- in


def read_archive(
    folder: DataFolder, path: Path, tell: Tell = _quiet, judging: Callable[[Path, int], Judged] = judge
) -> str:
    """Make a new session of an archive. Returns its id; nothing is kept where anything of it is wrong.

    judging  how it is judged first: here, or in a process of its own
    Raises   ParameterError, MediaError, in a sentence
    """
    judged = judging(path, folder.settings.upload_cap)
    with _opened(path) as pack:
        return _made(folder, pack, judged, tell)


def begin_archive(
    folder: DataFolder, path: Path, judging: Callable[[Path, int], Judged]
) -> tuple[str, str | None]:
    """The same, where nobody waits for sound: what is long is read by a job, which `read_sounds` does.

    Returns  (the session's id, the job's or None where all of it is there); the file may be gone then
    """
    judged = judging(path, folder.settings.upload_cap)
    with _opened(path) as pack:
        if judged.decoded_bytes <= AT_ONCE_BYTES:
            return _made(folder, pack, judged, _quiet), None
        # What is seen before sounds are there: notes, and what was heard in takes whose file is asked for.
        for sha in {file["sha"] for file in judged.files if file["kind"] == "part"} | {
            str(take["analysis_sha"]) for take in judged.takes if absent(judged, take)
        }:
            _adopt(folder, pack, sha)
    size, sha = path.stat().st_size, folder.blobs.adopt(path)
    renamed = {take["id"]: new_id() for take in judged.takes}
    waiting: dict[str, dict[str, Any]] = {}
    takes = []
    for take in judged.takes:
        one = {**take, "id": renamed[take["id"]]}
        if absent(judged, take):
            _await(one)
        else:
            waiting[one["id"]] = {name: value for name, value in one.items() if name != "id"}
            one |= dict.fromkeys(NOT_YET) | {"state": "waiting", "error": None, "notes": "[]"}
        takes.append(one)
    parts, revisions, view = _renamed(renamed, judged.parts, judged.revisions, judged.view)
    kept = {"kind": KIND, "key": sha, "name": judged.name[:200], "sha": sha, "bytes": size, "details": "{}"}
    job = KIND, json.dumps({"archive": sha, "takes": waiting}, sort_keys=True)
    name = session_name(judged.name)
    files = [*judged.files, kept]
    return archives.put(folder.database, name, view, judged.cursor, takes, revisions, parts, files, job)


def read_sounds(folder: DataFolder, args: Mapping[str, Any], tell: Tell) -> None:
    """What `begin_archive` left to a job: every sound kept under its hash, every take made ready.

    A sound that is another than its hash says is asked for, as of an archive that came without it; so are
    those that a cancel leaves unread. Raises CancelledError.
    """
    waiting: dict[str, dict[str, Any]] = {one: dict(take) for one, take in args["takes"].items()}
    try:
        with _opened(folder.blob(args["archive"])) as pack:
            wrong = _adopted(folder, pack, tell)
            for number, (take_id, take) in enumerate(sorted(args["takes"].items())):
                tell("reading sounds", number / len(args["takes"]))
                made = dict(take)
                if wrong & {made["source_sha"], made["decoded_sha"], made["analysis_sha"]}:
                    _await(made)
                else:
                    try:
                        _complete(folder, made, tell)
                    except ParameterError as error:
                        made |= dict.fromkeys(NOT_YET) | {"state": "failed", "error": str(error)}
                rows.change_take(folder.database, take_id, folder.job, **made)
                waiting.pop(take_id)
    finally:
        for take_id, take in waiting.items():
            _await(take)
            rows.change_take(folder.database, take_id, **take)
    rows.remove_files(folder.database, KIND, args["archive"])
    folder.blobs.remove(args["archive"], time.time() + 1.0)


def _adopted(folder: DataFolder, pack: zipfile.ZipFile, tell: Tell) -> set[str]:
    """Keep every sound of an archive; the hashes of those that were changed, which are not kept."""
    entries = [one for one in pack.infolist() if one.filename.startswith("blobs/")]
    total, done, wrong = sum(one.file_size for one in entries), 0, set[str]()
    for one in entries:
        tell("reading the archive", done / max(1, total))
        try:
            _adopt(folder, pack, one.filename[6:])
        except (ParameterError, zipfile.BadZipFile, EOFError):
            wrong.add(one.filename[6:])
        done += one.file_size
    return wrong


@contextmanager
def _opened(path: Path) -> Iterator[zipfile.ZipFile]:
    try:
        with zipfile.ZipFile(path) as pack:
            yield pack
    except (zipfile.BadZipFile, NotImplementedError, EOFError) as error:
        raise refuse(f"it is damaged ({error})") from error


def _made(folder: DataFolder, pack: zipfile.ZipFile, judged: Judged, tell: Tell) -> str:
    for number, sha in enumerate(sorted(judged.there)):
        tell("reading the archive", number / max(1, len(judged.there)))
        _adopt(folder, pack, sha)
    for number, take in enumerate(judged.takes):
        tell("reading sounds", number / max(1, len(judged.takes)))
        if absent(judged, take):
            _await(take)
        else:
            _complete(folder, take, tell)
    # Takes get ids of their own here, and whatever names them goes along.
    renamed = {take["id"]: new_id() for take in judged.takes}
    parts, revisions, view = _renamed(renamed, judged.parts, judged.revisions, judged.view)
    takes = [{**take, "id": renamed[take["id"]]} for take in judged.takes]
    name = session_name(judged.name)
    return archives.put(folder.database, name, view, judged.cursor, takes, revisions, parts, judged.files)[0]


def _adopt(folder: DataFolder, pack: zipfile.ZipFile, sha: str) -> None:
    """Keep one of its blobs under the hash that it says it has. Raises ParameterError where that is
    another.
    """
    path = folder.blobs.new_path()
    try:
        with pack.open(f"blobs/{sha}") as source, path.open("wb") as target:
            left = pack.getinfo(f"blobs/{sha}").file_size
            digest = hashlib.sha256()
            while chunk := source.read(_CHUNK):
                left -= len(chunk)
                if left < 0:
                    raise refuse("one of its sounds is longer than it says")
                digest.update(chunk)
                target.write(chunk)
        if digest.hexdigest() != sha:
            raise refuse("one of its sounds was changed: its hash is another")
        folder.blobs.adopt(path)
    finally:
        path.unlink(missing_ok=True)


def _await(take: dict[str, Any]) -> None:
    """A take whose file did not come along: everything that is known of it stays, and it is asked for."""
    if (
        not take["analysis_sha"]
        or not take["decoded_sha"]
        or not take["frames"]
        or not take["sample_rate_hz"]
    ):
        raise refuse(f"“{take['name']}” came without its sound, and was not heard either")
    take.update(
        state=WANTED,
        error=wanted_words(take["name"], take["source_sha"], take["source_bytes"]),
        peaks_sha=None,
    )


def wanted_words(name: str, sha: str, size: int) -> str:
    """What is asked for."""
    return f"Drop “{name}” here ({size / 1e6:,.1f} MB, sha256 {sha[:12]}…): the archive came without it."


def _complete(folder: DataFolder, take: dict[str, Any], tell: Tell) -> None:
    """Make what an archive leaves out of a take: decoded sound where it was lossless, peaks; check what is
    there.
    """
    if take["state"] != "ready" or not take["decoded_sha"] or not take["analysis_sha"]:
        # It was not heard there; it is read here.
        take.update(
            state="failed",
            error="It was not read when the archive was made; listen again.",
            decoded_sha=None,
            peaks_sha=None,
            analysis_sha=None,
        )
        return
    made, peaks = folder.blobs.new_path(".wav"), folder.blobs.new_path(".peaks")
    try:
        try:
            folder.blobs.path(take["decoded_sha"])
        except MissingError:
            decode_to_wav(
                folder.blobs.path(take["source_sha"]),
                made,
                name=take["name"],
                on_progress=lambda share: tell(f"reading {take['name']}", share),
            )
            sha = folder.blobs.adopt(made)
            if sha != take["decoded_sha"]:
                raise refuse(f"“{take['name']}” does not come to the sound that was listened to") from None
        with FileSource(folder.blobs.path(take["decoded_sha"])) as source:
            if (source.frames, source.channels, source.sample_rate_hz) != (
                take["frames"],
                take["channels"],
                take["sample_rate_hz"],
            ):
                raise refuse(f"“{take['name']}” is not as long as it says, or of another rate")
            write_peaks(source, peaks)
        take["peaks_sha"] = folder.blobs.adopt(peaks)
    except MediaError as error:
        raise refuse(str(error)) from error
    finally:
        made.unlink(missing_ok=True)
        peaks.unlink(missing_ok=True)


def _renamed(
    renamed: Mapping[str, str], parts: Mapping[str, str], revisions: list[dict[str, Any]], view: str
) -> tuple[dict[str, str], list[dict[str, Any]], str]:
    """Parts, steps and view with new ids for takes; a part that names one has another hash then."""

    def with_new(text: str) -> str:
        for old, new in renamed.items():
            text = text.replace(old, new)
        return text

    hashes, made = {}, {}
    for sha, body in parts.items():
        fresh = with_new(body)
        hashes[sha] = hashlib.sha256(fresh.encode()).hexdigest()
        made[hashes[sha]] = fresh
    changed = []
    for one in revisions:
        names = {with_new(name): hashes[sha] for name, sha in json.loads(one["parts"]).items()}
        changed.append(
            {**one, "parts": json.dumps(names, sort_keys=True), "changed": with_new(one["changed"])}
        )
    return made, changed, with_new(view)
