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
import zipfile
from collections.abc import Callable, Mapping
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
from combpace.store import archives
from combpace.store.errors import MissingError
from combpace.store.models import WANTED, new_id

# What an archive is called; one of any other name is read as well.
ENDING = ".combpace"
LOSSLESS = (".wav", ".aif", ".aiff", ".flac")
_CHUNK = 1 << 20
Tell = Callable[[str, float], None]


def _quiet(phase: str, share: float) -> None:
    """No progress."""


# -- out


def _wanted(folder: DataFolder, kept: dict[str, Any], *, sound: bool) -> dict[str, str]:
    """Which blobs go into an archive, and what each is; `kept` loses what needs none of them."""
    wanted: dict[str, str] = {}
    for take in kept["takes"]:
        if not sound and take["analysis_sha"]:
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
    try:
        with zipfile.ZipFile(path) as pack:
            return _made(folder, pack, judged, tell)
    except (zipfile.BadZipFile, NotImplementedError, EOFError) as error:
        raise refuse(f"it is damaged ({error})") from error


def _made(folder: DataFolder, pack: zipfile.ZipFile, judged: Judged, tell: Tell) -> str:
    for number, sha in enumerate(sorted(judged.there)):
        tell("reading the archive", number / max(1, len(judged.there)))
        _adopt(folder, pack, sha)
    for number, take in enumerate(judged.takes):
        tell("reading sounds", number / max(1, len(judged.takes)))
        if absent(judged, take):
            _await(folder, take)
        else:
            _complete(folder, take)
    # Takes get ids of their own here, and whatever names them goes along.
    renamed = {take["id"]: new_id() for take in judged.takes}
    parts, revisions, view = _renamed(renamed, judged.parts, judged.revisions, judged.view)
    takes = [{**take, "id": renamed[take["id"]]} for take in judged.takes]
    return archives.put(
        folder.database, session_name(judged.name), view, judged.cursor, takes, revisions, parts, judged.files
    )


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


def _await(folder: DataFolder, take: dict[str, Any]) -> None:
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


def _complete(folder: DataFolder, take: dict[str, Any]) -> None:
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
            decode_to_wav(folder.blobs.path(take["source_sha"]), made, name=take["name"])
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
