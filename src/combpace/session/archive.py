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
import re
import zipfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import IO, Any

from combpace import __version__
from combpace.core.errors import CombPaceError, MediaError, ParameterError
from combpace.media.decode import FileSource, decode_to_wav
from combpace.media.peaks import write_peaks
from combpace.media.zips import entry
from combpace.session.analysis_store import read_analysis, without_pulse
from combpace.session.data_folder import DataFolder
from combpace.session.document import parts as forms
from combpace.session.document.model import FORMAT, NewerFormatError
from combpace.session.shelf import session_name
from combpace.session.take_names import clean_name
from combpace.store import archives
from combpace.store.errors import MissingError
from combpace.store.models import WANTED, new_id

VERSION = 1
# What an archive is called; one of any other name is read as well.
ENDING = ".combpace"
LOSSLESS = (".wav", ".aif", ".aiff", ".flac")
_SHA, _TAKE_ID = re.compile(r"[0-9a-f]{64}"), re.compile(r"[0-9a-f]{16}")
MOST_ENTRIES, MOST_MANIFEST, MOST_DEPTH, MOST_REVISIONS, MOST_TAKES = 20_000, 64 * 2**20, 40, 200_000, 5_000
# What the numbers of a take can be.
NUMBERS = (
    ("sample_rate_hz", 1_000, 768_000),
    ("channels", 1, 256),
    ("frames", 1, 2**40),
    ("source_bytes", 1, 2**45),
)
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
    folder.open(session_id)
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


def read_archive(folder: DataFolder, path: Path, tell: Tell = _quiet) -> str:
    """Make a new session of an archive. Returns its id; nothing is kept where anything of it is wrong.

    Raises  ParameterError, MediaError, in a sentence
    """
    try:
        with zipfile.ZipFile(path) as pack:
            manifest = _manifest(pack, folder.settings.upload_cap)
            return _made(folder, pack, manifest, tell)
    except (zipfile.BadZipFile, NotImplementedError, EOFError, UnicodeDecodeError) as error:
        raise ParameterError(
            f"This is no archive of a session, or it is damaged ({error}). Nothing was imported."
        ) from error


def _refuse(why: str) -> ParameterError:
    return ParameterError(f"This archive cannot be used: {why}. Nothing was imported.")


def _manifest(pack: zipfile.ZipFile, cap: int) -> dict[str, Any]:
    entries = pack.infolist()
    if len(entries) > MOST_ENTRIES:
        raise _refuse(f"it has {len(entries)} entries, and {MOST_ENTRIES} are the most")
    names = [one.filename for one in entries]
    if len(set(names)) < len(names):
        raise _refuse("it has two entries of one name")
    for one in entries:
        if one.filename != "manifest.json" and not (
            one.filename.startswith("blobs/") and _SHA.fullmatch(one.filename[6:])
        ):
            raise _refuse(f"“{clean_name(one.filename)}” does not belong in one")
        if one.flag_bits & 1:
            raise _refuse("it is locked by a password")
        if one.external_attr >> 28 == 0o12 or one.is_dir():
            raise _refuse(f"“{clean_name(one.filename)}” is no plain file")
    if sum(one.file_size for one in entries) > cap:
        raise _refuse(f"it would be larger than {cap / 2**20:,.0f} MiB")
    if "manifest.json" not in names:
        raise _refuse("it has no manifest")
    info = pack.getinfo("manifest.json")
    if info.file_size > MOST_MANIFEST:
        raise _refuse("its manifest is too large")
    with pack.open(info) as file:
        raw = file.read(MOST_MANIFEST + 1)
    if _depth(raw) > MOST_DEPTH:
        raise _refuse("its manifest is nested too deeply")
    try:
        value = json.loads(raw)
    except (ValueError, RecursionError) as error:
        raise _refuse("its manifest is no JSON") from error
    if not isinstance(value, dict) or value.get("kind") != "combpace session":
        raise _refuse("its manifest is not one of a session")
    if value.get("version") != VERSION or not isinstance(value.get("form"), int) or value["form"] > FORMAT:
        raise _refuse(
            f"it was written by a newer version of Comb Pace ({str(value.get('program'))[:20]}); "
            "open it with that one"
        )
    return value


def _depth(raw: bytes) -> int:
    """How deeply brackets are nested, without reading strings as structure."""
    depth = most = 0
    for mark in re.findall(rb"[\[\]{}]", re.sub(rb'"(?:[^"\\]|\\.)*"', b"", raw)):
        depth += 1 if mark in b"[{" else -1
        most = max(most, depth)
    return most


def _made(folder: DataFolder, pack: zipfile.ZipFile, manifest: dict[str, Any], tell: Tell) -> str:
    takes, revisions, parts, files = _rows(manifest)
    there = {name[6:] for name in pack.namelist() if name.startswith("blobs/")}
    with_sound = manifest.get("sound", True) is True
    absent = {take["source_sha"] for take in takes if not with_sound or take["state"] == WANTED} - there
    needed = (
        {take["source_sha"] for take in takes} - absent
        | {take["analysis_sha"] for take in takes if take["analysis_sha"]}
        | {file["sha"] for file in files}
    )
    missing = sorted(needed - there)
    if missing:
        raise _refuse(f"{len(missing)} of its sounds are not in it")
    for number, sha in enumerate(sorted(there)):
        tell("reading the archive", number / max(1, len(there)))
        _adopt(folder, pack, sha)
    for number, take in enumerate(takes):
        tell("reading sounds", number / max(1, len(takes)))
        if take["source_sha"] in absent:
            _await(folder, take)
        else:
            _complete(folder, take)
    # Takes get ids of their own here, and whatever names them goes along.
    renamed = {take["id"]: new_id() for take in takes}
    parts, revisions, view = _renamed(renamed, parts, revisions, str(manifest.get("view", "{}")))
    takes = [{**take, "id": renamed[take["id"]]} for take in takes]
    return archives.put(
        folder.database,
        session_name(str(manifest["name"])),
        view,
        manifest["cursor"],
        takes,
        revisions,
        parts,
        files,
    )


def _rows(
    manifest: Mapping[str, Any],
) -> tuple[list[dict[str, Any]], list[dict[str, Any]], dict[str, str], list[dict[str, Any]]]:
    """The manifest's rows, each checked as far as it is used."""
    try:
        takes = [{name: one[name] for name in archives.TAKE} for one in manifest["takes"]]
        revisions = [{name: one[name] for name in archives.REVISION} for one in manifest["revisions"]]
        files = [{name: one[name] for name in archives.FILE} for one in manifest["files"]]
        parts = {str(sha): str(body) for sha, body in manifest["parts"].items()}
        name, cursor = manifest["name"], manifest["cursor"]
    except (KeyError, TypeError, AttributeError) as error:
        raise _refuse(f"its manifest is not whole ({error})") from error
    if (
        len(takes) > MOST_TAKES
        or not 1 <= len(revisions) <= MOST_REVISIONS
        or not isinstance(name, str)
        or not name.strip()
    ):
        raise _refuse("its manifest has too many takes or steps, or no name")
    for take in takes:
        shas = [take[name] for name in ("source_sha", "decoded_sha", "peaks_sha", "analysis_sha")]
        if (
            not _TAKE_ID.fullmatch(str(take["id"]))
            or not all(sha is None or _SHA.fullmatch(str(sha)) for sha in shas)
            or take["source_sha"] is None
        ):
            raise _refuse("one of its takes has no proper id or hash")
        take["name"] = clean_name(str(take["name"]))
        if not all(
            value is None or isinstance(value, int)
            for value in (take["sample_rate_hz"], take["channels"], take["frames"], take["source_bytes"])
        ):
            raise _refuse(f"the numbers of “{take['name']}” are none")
        for name, least, most in NUMBERS:
            if take[name] is not None and not least <= take[name] <= most:
                raise _refuse(f"the {name.replace('_', ' ')} of “{take['name']}” cannot be {take[name]}")
    for file in files:
        if (
            not _SHA.fullmatch(str(file["sha"]))
            or file["kind"] not in ("part", "piece", "render")
            or not isinstance(file["bytes"], int)
        ):
            raise _refuse("one of its files has no proper hash or kind")
        file["name"] = clean_name(str(file["name"]))
    for sha, body in parts.items():
        if hashlib.sha256(body.encode()).hexdigest() != sha:
            raise _refuse("a part of its history was changed: its hash is another")
    _history(revisions, parts, cursor)
    return takes, revisions, parts, files


def _history(revisions: list[dict[str, Any]], parts: Mapping[str, str], cursor: Any) -> None:
    """Steps follow each other, name parts that are there, and each can be read."""
    known: set[int] = set()
    for one in revisions:
        if (
            not isinstance(one["id"], int)
            or one["id"] in known
            or not (one["parent_id"] is None or one["parent_id"] in known)
        ):
            raise _refuse("its steps do not follow each other")
        known.add(one["id"])
        try:
            names = json.loads(one["parts"])
            forms.read({str(name): json.loads(parts[sha]) for name, sha in names.items()}, int(one["format"]))
            one["note"], one["changed"] = (
                str(one["note"])[:2000],
                json.dumps([str(name) for name in json.loads(one["changed"])]),
            )
        except NewerFormatError as error:
            raise _refuse("one of its steps was written by a newer version") from error
        except (
            KeyError,
            TypeError,
            ValueError,
            AttributeError,
            IndexError,
            RecursionError,
            CombPaceError,
        ) as error:
            raise _refuse(f"one of its steps cannot be read ({type(error).__name__})") from error
    if cursor not in known:
        raise _refuse("none of its steps is the present one")


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
                    raise _refuse("one of its sounds is longer than it says")
                digest.update(chunk)
                target.write(chunk)
        if digest.hexdigest() != sha:
            raise _refuse("one of its sounds was changed: its hash is another")
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
        raise _refuse(f"“{take['name']}” came without its sound, and was not heard either")
    _readable(folder, take)
    take.update(
        state=WANTED,
        error=wanted_words(take["name"], take["source_sha"], take["source_bytes"]),
        peaks_sha=None,
    )


def wanted_words(name: str, sha: str, size: int) -> str:
    """What is asked for."""
    return f"Drop “{name}” here ({size / 1e6:,.1f} MB, sha256 {sha[:12]}…): the archive came without it."


def _readable(folder: DataFolder, take: Mapping[str, Any]) -> None:
    try:
        read_analysis(folder.blobs.path(take["analysis_sha"]))
    except (ValueError, KeyError, OSError, TypeError, CombPaceError, EOFError) as error:
        raise _refuse(f"what was heard in “{take['name']}” cannot be read") from error


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
    _readable(folder, take)
    made, peaks = folder.blobs.new_path(".wav"), folder.blobs.new_path(".peaks")
    try:
        try:
            folder.blobs.path(take["decoded_sha"])
        except MissingError:
            decode_to_wav(folder.blobs.path(take["source_sha"]), made, name=take["name"])
            sha = folder.blobs.adopt(made)
            if sha != take["decoded_sha"]:
                raise _refuse(f"“{take['name']}” does not come to the sound that was listened to") from None
        with FileSource(folder.blobs.path(take["decoded_sha"])) as source:
            if (source.frames, source.channels, source.sample_rate_hz) != (
                take["frames"],
                take["channels"],
                take["sample_rate_hz"],
            ):
                raise _refuse(f"“{take['name']}” is not as long as it says, or of another rate")
            write_peaks(source, peaks)
        take["peaks_sha"] = folder.blobs.adopt(peaks)
    except MediaError as error:
        raise _refuse(str(error)) from error
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
