"""An archive judged before anything of it is kept: its structure, its numbers, and what it says was heard.

Done in a process with little memory and time (`workers.bounded`), for what is read is not trusted: nobody
else waits for it, and what takes more than any session does is refused.
"""

from __future__ import annotations

import hashlib
import io
import json
import math
import re
import tempfile
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from combpace.core.clocks import TakeTimes
from combpace.core.errors import CombPaceError, ParameterError
from combpace.core.stretch import check_method
from combpace.core.tempo.map import TempoMap
from combpace.media.midi_parts import read_parts
from combpace.session import heard_check
from combpace.session.document import bounds
from combpace.session.document import parts as forms
from combpace.session.document.model import FORMAT, NewerFormatError
from combpace.session.take_names import clean_name, clean_text
from combpace.store import archives
from combpace.store.models import WANTED

VERSION = 1
_SHA, _TAKE_ID = re.compile(r"[0-9a-f]{64}"), re.compile(r"[0-9a-f]{16}")
MOST_ENTRIES, MOST_MANIFEST, MOST_DEPTH, MOST_REVISIONS, MOST_TAKES = 20_000, 64 * 2**20, 40, 200_000, 5_000
MOST_VIEW, MOST_TEXT = 100_000, 2_000
# Archives are stored, not packed. One that was packed by other means is read where it did not shrink by more
# than sound and numbers do.
MOST_SHRUNK, FREE_BYTES = 25, 2**20
# What the numbers of a take can be; the channels, frames and bytes of its decoded sound together.
NUMBERS = (
    ("sample_rate_hz", 1_000, 768_000),
    ("channels", 1, 256),
    ("frames", 1, 2**40),
    ("source_bytes", 1, 2**45),
)
BYTES_A_SAMPLE, MOST_FILE = 4, 2**45
STATES = ("waiting", "listening", "ready", "failed", WANTED)


@dataclass(frozen=True, slots=True)
class Judged:
    """An archive that can be used, as far as that is known without its sounds.

    takes ... files  rows, as `store.archives` takes them
    there            hashes of the sounds that are in it
    with_sound       whether it was written with them
    """

    name: str
    view: str
    cursor: int
    takes: list[dict[str, Any]]
    revisions: list[dict[str, Any]]
    parts: dict[str, str]
    files: list[dict[str, Any]]
    there: frozenset[str]
    with_sound: bool

    @property
    def decoded_bytes(self) -> int:
        """What the sounds come to that are in it, decoded."""
        return sum(
            BYTES_A_SAMPLE * (take["frames"] or 0) * (take["channels"] or 0)
            for take in self.takes
            if not absent(self, take)
        )


def judge(path: Path, cap: int) -> Judged:
    """Judge an archive; cap: bytes that it may come to. Raises ParameterError, in a sentence."""
    try:
        with zipfile.ZipFile(path) as pack:
            manifest = _manifest(pack, cap)
            takes, revisions, parts, files = _rows(manifest)
            there = frozenset(name[6:] for name in pack.namelist() if name.startswith("blobs/"))
            judged = Judged(
                str(manifest["name"]),
                _view(manifest.get("view", "{}")),
                manifest["cursor"],
                takes,
                revisions,
                parts,
                files,
                there,
                manifest.get("sound", True) is True,
            )
            _all_there(judged)
            _sizes(judged, cap)
            _history(pack, judged, _heard(pack, judged))
            return judged
    except (zipfile.BadZipFile, NotImplementedError, EOFError, UnicodeDecodeError) as error:
        raise ParameterError(
            f"This is no archive of a session, or it is damaged ({error}). Nothing was imported."
        ) from error
    except RecursionError as error:
        raise refuse("it is nested too deeply") from error


def refuse(why: str) -> ParameterError:
    """The sentence for an archive that is not taken."""
    return ParameterError(f"This archive cannot be used: {why}. Nothing was imported.")


def _manifest(pack: zipfile.ZipFile, cap: int) -> dict[str, Any]:
    entries = pack.infolist()
    if len(entries) > MOST_ENTRIES:
        raise refuse(f"it has {len(entries)} entries, and {MOST_ENTRIES} are the most")
    names = [one.filename for one in entries]
    if len(set(names)) < len(names):
        raise refuse("it has two entries of one name")
    for one in entries:
        if one.filename != "manifest.json" and not (
            one.filename.startswith("blobs/") and _SHA.fullmatch(one.filename[6:])
        ):
            raise refuse(f"“{clean_name(one.filename)}” does not belong in one")
        if one.flag_bits & 1:
            raise refuse("it is locked by a password")
        if one.file_size > FREE_BYTES + MOST_SHRUNK * one.compress_size:
            raise refuse("one of its entries comes to more than it can hold")
        if one.external_attr >> 28 == 0o12 or one.is_dir():
            raise refuse(f"“{clean_name(one.filename)}” is no plain file")
    if sum(one.file_size for one in entries) > cap:
        raise refuse(f"it would be larger than {cap / 2**20:,.0f} MiB")
    if "manifest.json" not in names:
        raise refuse("it has no manifest")
    info = pack.getinfo("manifest.json")
    if info.file_size > MOST_MANIFEST:
        raise refuse("its manifest is too large")
    with pack.open(info) as file:
        raw = file.read(MOST_MANIFEST + 1)
    try:
        value = json.loads(raw)
    except RecursionError as error:
        raise refuse("its manifest is nested too deeply") from error
    except ValueError as error:
        raise refuse("its manifest is no JSON") from error
    if _depth(value) > MOST_DEPTH:
        raise refuse("its manifest is nested too deeply")
    if not isinstance(value, dict) or value.get("kind") != "combpace session":
        raise refuse("its manifest is not one of a session")
    if value.get("version") != VERSION or not isinstance(value.get("form"), int) or value["form"] > FORMAT:
        raise refuse(
            f"it was written by a newer version of Comb Pace ({str(value.get('program'))[:20]}); "
            "open it with that one"
        )
    return value


def _depth(value: Any, depth: int = 0) -> int:
    """How deeply lists and objects are nested, looked at no deeper than MOST_DEPTH."""
    if depth > MOST_DEPTH or not isinstance(value, (list, dict)):
        return depth
    return max(
        (_depth(one, depth + 1) for one in (value.values() if isinstance(value, dict) else value)),
        default=depth,
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
        raise refuse(f"its manifest is not whole ({error})") from error
    if (
        len(takes) > MOST_TAKES
        or not 1 <= len(revisions) <= MOST_REVISIONS
        or not isinstance(name, str)
        or not name.strip()
    ):
        raise refuse("its manifest has too many takes or steps, or no name")
    for take in takes:
        shas = [take[name] for name in ("source_sha", "decoded_sha", "peaks_sha", "analysis_sha")]
        if (
            not _TAKE_ID.fullmatch(str(take["id"]))
            or not all(sha is None or _SHA.fullmatch(str(sha)) for sha in shas)
            or take["source_sha"] is None
        ):
            raise refuse("one of its takes has no proper id or hash")
        take["name"] = clean_name(str(take["name"]))
        if not all(
            value is None or (isinstance(value, int) and not isinstance(value, bool))
            for value in (take["sample_rate_hz"], take["channels"], take["frames"], take["source_bytes"])
        ):
            raise refuse(f"the numbers of “{take['name']}” are none")
        for name, least, most in NUMBERS:
            if take[name] is not None and not least <= take[name] <= most:
                raise refuse(f"the {name.replace('_', ' ')} of “{take['name']}” cannot be {take[name]}")
        _said(take)
    for file in files:
        if (
            not _SHA.fullmatch(str(file["sha"]))
            or file["kind"] not in ("part", "piece", "render")
            or not isinstance(file["bytes"], int)
            or not 0 <= file["bytes"] <= MOST_FILE
        ):
            raise refuse("one of its files has no proper hash or kind")
        file["name"], file["key"] = clean_name(str(file["name"])), clean_text(str(file["key"]))[:80]
        file["details"] = _details(file)
    for sha, body in parts.items():
        if hashlib.sha256(body.encode()).hexdigest() != sha:
            raise refuse("a part of its history was changed: its hash is another")
    if cursor not in {one["id"] for one in revisions}:
        raise refuse("none of its steps is the present one")
    return takes, revisions, parts, files


def _said(take: dict[str, Any]) -> None:
    """What a take says of itself beside its numbers, as far as it can be shown."""
    if take["state"] not in STATES:
        raise refuse(f"“{take['name']}” is in no state that a take can be in")
    for name in ("error", "decoder"):
        if take[name] is not None:
            take[name] = clean_text(str(take[name]))[:MOST_TEXT]
    peak = take["peak"]
    if peak is not None and (
        isinstance(peak, bool) or not isinstance(peak, (int, float)) or not 0 <= peak <= 1e6
    ):
        raise refuse(f"the peak of “{take['name']}” is none")
    try:
        notes = json.loads(take["notes"] or "[]")
    except (TypeError, ValueError) as error:
        raise refuse(f"the notes of “{take['name']}” are none") from error
    if not isinstance(notes, list) or len(notes) > 100:
        raise refuse(f"the notes of “{take['name']}” are none")
    take["notes"] = json.dumps([clean_text(str(note))[:MOST_TEXT] for note in notes])


def _details(file: Mapping[str, Any]) -> str:
    """What is kept with a file, as far as it is used: of a render where it lies, and what it was made of."""
    try:
        kept = json.loads(file["details"] or "{}")
        if file["kind"] != "render":
            return "{}"
        made: dict[str, Any] = {
            name: _whole(kept[name], -bounds.MOST_FRAME, bounds.MOST_FRAME)
            for name in ("first_frame", "frames")
        }
        made |= {"take": clean_text(str(kept.get("take", "")))[:40], "peak": float(kept.get("peak") or 0.0)}
        made["rate"] = _whole(kept["rate"], 1_000, 768_000)
        if not math.isfinite(made["peak"]) or made["frames"] < 1:
            raise ValueError("no such render")
        if "made_of" in kept:
            made["made_of"] = _recipe(kept["made_of"])
        return json.dumps(made)
    except (CombPaceError, KeyError, TypeError, ValueError, AttributeError) as error:
        raise refuse("what it says of a render cannot be") from error


def _whole(value: Any, least: int, most: int) -> int:
    if isinstance(value, bool) or not isinstance(value, int) or not least <= value <= most:
        raise ValueError(f"{value!r}"[:40])
    return value


def _recipe(value: Mapping[str, Any]) -> dict[str, Any]:
    """What a render was made of; numbers that no fit has raise."""
    source, target = ([float(one) for one in value[name]] for name in ("source_s", "target_s"))
    levels = [[float(moment), float(level)] for moment, level in value["levels"]]
    files = [str(sha) for sha in value["files"]]
    for moments in (source, target, [moment for moment, _ in levels]):
        bounds.seconds("a moment", moments)
    for _, level in levels:
        bounds.number("a level", level, *bounds.LEVELS_DB)
    if len(source) != len(target) or not 2 <= len(source) <= bounds.MOST_MARKS or not 1 <= len(files) <= 256:
        raise ValueError("no such fit")
    if not all(_SHA.fullmatch(sha) for sha in files):
        raise ValueError("no such sounds")
    method = check_method(str(value["method"]))
    own = _whole(value["own"], 0, len(files) - 1)
    return {
        "source_s": source,
        "target_s": target,
        "levels": levels,
        "files": files,
        "own": own,
        "method": method,
    }


def _view(text: Any) -> str:
    """The levels and choices of the page: an object, whose numbers are some."""
    if not isinstance(text, str) or len(text) > MOST_VIEW:
        raise refuse("the view that it keeps is none")
    try:
        kept = json.loads(text, parse_constant=_no_number)
        if (
            not isinstance(kept, dict)
            or not isinstance(kept.get("mix", {}), dict)
            or _depth(kept) > MOST_DEPTH
        ):
            raise ValueError("no view")
        for strip in kept.get("mix", {}).values():
            bounds.number("a level", float(strip.get("level", 0.0)), -200.0, 60.0)
            bounds.number("a pan", float(strip.get("pan", 0.0)), -1.0, 1.0)
    except (CombPaceError, TypeError, ValueError, AttributeError) as error:
        raise refuse("the view that it keeps is none") from error
    return json.dumps(kept)


def _no_number(name: str) -> float:
    raise ValueError(name)


def _all_there(judged: Judged) -> None:
    """Every sound that is needed is in it, but those that are asked for."""
    needed = {take["source_sha"] for take in judged.takes if not absent(judged, take)}
    needed |= {take["analysis_sha"] for take in judged.takes if take["analysis_sha"]}
    needed |= {file["sha"] for file in judged.files}
    missing = needed - judged.there
    if missing:
        raise refuse(f"{len(missing)} of its sounds are not in it")


def absent(judged: Judged, take: Mapping[str, Any]) -> bool:
    """Whether the file of a take did not come along, and is asked for."""
    away = not judged.with_sound or take["state"] == WANTED
    return away and take["source_sha"] not in judged.there


def _sizes(judged: Judged, cap: int) -> None:
    """Decoded, its sounds come to what an upload may come to, a few times over."""
    if judged.decoded_bytes > 4 * cap:
        raise refuse(f"its sounds would come to {judged.decoded_bytes / 2**30:,.0f} GiB")


def _heard(pack: zipfile.ZipFile, judged: Judged) -> dict[str, TempoMap[TakeTimes]]:
    """What it says was heard in each take; the paces of those that have one."""
    paces: dict[str, TempoMap[TakeTimes]] = {}
    for take in judged.takes:
        if take["state"] not in ("ready", WANTED) or not take["analysis_sha"]:
            continue
        if not take["frames"] or not take["sample_rate_hz"]:
            raise refuse(f"“{take['name']}” has no length")
        try:
            with pack.open(f"blobs/{take['analysis_sha']}") as entry:
                data = entry.read(heard_check.MOST_BYTES + 1)
            if len(data) > heard_check.MOST_BYTES:
                raise ParameterError("it is larger than of any sound")
            if hashlib.sha256(data).hexdigest() != take["analysis_sha"]:
                raise ParameterError("it was changed: its hash is another")
            heard = heard_check.judged(io.BytesIO(data), take["frames"], take["sample_rate_hz"])
            if heard.pace is not None:
                paces[take["id"]] = heard.pace
        except CombPaceError as error:
            raise refuse(f"what was heard in “{take['name']}” cannot be read: {error}".rstrip(".")) from error
    return paces


def _history(pack: zipfile.ZipFile, judged: Judged, heard: Mapping[str, TempoMap[TakeTimes]]) -> None:
    """Steps follow each other and name parts that are there; each can be read, and says what a decision
    could have said.
    """
    sounds = {
        take["id"]: (take["frames"], take["sample_rate_hz"])
        for take in judged.takes
        if take["frames"] and take["sample_rate_hz"]
    }
    files, ids = {file["sha"]: file for file in judged.files}, {take["id"] for take in judged.takes}
    known: set[int] = set()
    seen: set[tuple[str, str]] = set()
    together: set[str] = set()
    bodies = {sha: _body(body) for sha, body in judged.parts.items()}
    numbers: dict[str, int] = {}
    for one in judged.revisions:
        if (
            not isinstance(one["id"], int)
            or one["id"] in known
            or not (one["parent_id"] is None or one["parent_id"] in known)
        ):
            raise refuse("its steps do not follow each other")
        known.add(one["id"])
        try:
            names = json.loads(one["parts"])
            if any(sha not in bodies for sha in names.values()):
                raise ParameterError("a part of it is missing")
            # What an earlier step had is judged already; an older form is brought up as a whole.
            whole = one["format"] != FORMAT
            fresh = {name: sha for name, sha in names.items() if whole or (name, sha) not in seen}
            seen.update(names.items())
            document = forms.read({str(name): bodies[sha] for name, sha in fresh.items()}, int(one["format"]))
            if any(take.id not in ids for take in document.takes):
                raise ParameterError("it names a take that is not in it")
            bounds.check(document, sounds)
            about = {
                name: sha
                for name, sha in names.items()
                if name in ("takes", "map") or name[:5] in ("pace:", "said:")
            }
            if (key := json.dumps(about, sort_keys=True)) not in together:
                together.add(key)
                whole_one = forms.read({name: bodies[sha] for name, sha in about.items()}, int(one["format"]))
                bounds.check_reach(whole_one, sounds, {**heard, **whole_one.paces})
            for part in document.notes:
                if part.sha not in files:
                    raise ParameterError("the file of a part is not in it")
                if part.sha not in numbers:
                    numbers[part.sha] = _parts_in(pack, part.sha, files[part.sha]["name"])
                if part.number >= numbers[part.sha]:
                    raise ParameterError("a part is none of those that its file holds")
            one["format"], one["note"] = int(one["format"]), clean_text(str(one["note"]))[:MOST_TEXT]
            one["changed"] = json.dumps([str(name) for name in json.loads(one["changed"])])
        except NewerFormatError as error:
            raise refuse("one of its steps was written by a newer version") from error
        except (KeyError, TypeError, ValueError, AttributeError, IndexError) as error:
            raise refuse(f"one of its steps cannot be read ({type(error).__name__})") from error
        except CombPaceError as error:
            raise refuse(f"one of its steps cannot be: {str(error).rstrip('.')}") from error


def _body(text: str) -> Any:
    try:
        return json.loads(text, parse_constant=_no_number)
    except (ValueError, RecursionError) as error:
        raise refuse("a part of its history is no JSON") from error


def _parts_in(pack: zipfile.ZipFile, sha: str, name: str) -> int:
    """How many parts a MIDI file in it holds."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "part.mid")
        path.write_bytes(pack.read(f"blobs/{sha}"))
        return len(read_parts(path, name).parts)
