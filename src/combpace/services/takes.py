"""Takes: bringing audio in, and what is decided about a take as a whole."""

from __future__ import annotations

import json
import re
import unicodedata
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.analysis.bundle import analyse_bundle
from combpace.core.analysis.take import Analysis, analyse
from combpace.core.beats.attack_decoder import activation
from combpace.core.clocks import FloatArray
from combpace.core.errors import ParameterError, StaleError
from combpace.core.onsets.detect import ANALYSIS_VERSION
from combpace.core.tempo.meters import bar_index
from combpace.media.decode import FileSource, decode_to_wav
from combpace.media.mapfiles import steady_document
from combpace.media.peaks import write_peaks
from combpace.services import document as forms
from combpace.services import jobs, words
from combpace.services.document import KINDS, TakeEntry
from combpace.services.workplace import Workplace, session_state, write_analysis
from combpace.store.history import Revision
from combpace.store.models import TakeRow

Progress = Callable[[str, float], None]


def clean_name(name: str) -> str:
    """A file's name as a take's: NFC, no folders, no control characters, at most 120 characters."""
    plain = unicodedata.normalize("NFC", name).replace("\\", "/").rsplit("/", 1)[-1]
    plain = "".join(letter for letter in plain if unicodedata.category(letter)[0] != "C").strip()
    return plain[:120] or "take"


def guessed_kind(name: str) -> str:
    """What a name says that a take is."""
    low = name.lower()
    for kind, hints in (
        ("loop", ("loop",)),
        ("drums", ("drum", "kit", "kick", "snare", "hat", "tub", "washboard", "perc", "overhead", "beat")),
        ("single line", ("bass", "lead", "melody")),
        ("chords", ("organ", "piano", "keys", "chord", "guitar", "pad", "strum")),
        ("voice", ("voice", "vocal", "sung", "choir")),
        ("full mix", ("mix", "master")),
    ):
        if any(hint in low for hint in hints):
            return kind
    return "unknown"


def add_upload(workplace: Workplace, session_id: str, path: Path, name: str) -> str:
    """Keep an uploaded file, put a take into the session and queue its reading. Returns the take's id.

    Every take that arrives is one undo step; two that arrive at once both arrive.
    """
    name = clean_name(name)
    size = path.stat().st_size
    sha = workplace.blobs.adopt(path)
    with workplace.database.writing() as db:
        row = TakeRow(session_id=session_id, name=name, source_sha=sha, source_bytes=size)
        db.add(row)
        db.flush()
        take_id = row.id
    kind = guessed_kind(name)
    shown = re.sub(r"\.\w{2,4}$", "", name)
    for attempt in range(20):
        opened = workplace.open(session_id)
        others, lead = opened.document.takes, opened.document.lead
        # A loop leads only while nothing else is there; one that the user chose to lead shares the lead's pace and stays.
        gives_way = lead is not None and lead.kind == "loop" and lead.pace == "own" and kind != "loop"
        if gives_way:
            others = tuple(replace(other, role="follower") for other in others)
        entry = TakeEntry(take_id, shown, kind, "lead" if lead is None or gives_way else "follower", "own" if kind == "loop" else "lead")
        note = f"{shown} came in and leads instead of a loop." if gives_way else f"{shown} came in."
        try:
            workplace.decide(opened, opened.revision.version, {"takes": forms.takes_part((*others, entry))}, note)
            break
        except StaleError:
            # Another take arrived in the same moment: both stay.
            if attempt == 19:
                raise
    jobs.enqueue(workplace, session_id, "import", take_id, {"take": take_id})
    return take_id


def import_take(workplace: Workplace, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """Job: decode, make peaks, listen; or, for takes that are there, listen to them as one."""
    if "together" in args:
        return hear_together(workplace, args["together"], tell)
    row = workplace.take_row(args["take"])
    if row.state == "ready":
        return {"take": row.id}
    decoded_path = workplace.blobs.new_path(".wav")
    peaks_path = workplace.blobs.new_path(".peaks")
    analysis_path = workplace.blobs.new_path(".npz")
    try:
        tell("reading the file", 0.0)
        decoded = decode_to_wav(
            workplace.blob(row.source_sha), decoded_path, name=row.name, on_progress=lambda share: tell("reading the file", share)
        )
        with FileSource(decoded_path) as source:
            write_peaks(source, peaks_path, lambda share: tell("drawing", share))
        decoded_sha, peaks_sha = workplace.blobs.adopt(decoded_path), workplace.blobs.adopt(peaks_path)
        # The picture is there before the pulse is: the page can be used meanwhile.
        _update(
            workplace,
            row.id,
            state="listening",
            error=None,
            decoded_sha=decoded_sha,
            peaks_sha=peaks_sha,
            decoder=decoded.decoder,
            sample_rate_hz=decoded.sample_rate_hz,
            channels=decoded.channels,
            frames=decoded.frames,
            peak=decoded.peak,
            notes=json.dumps(list(decoded.notes)),
        )
        with FileSource(workplace.blob(decoded_sha)) as source:
            heard = analyse(source, on_progress=tell)
        _write(analysis_path, heard)
        _update(workplace, row.id, state="ready", analysis_sha=workplace.blobs.adopt(analysis_path))
        return {"take": row.id}
    finally:
        for path in (decoded_path, peaks_path, analysis_path):
            path.unlink(missing_ok=True)


def hear_together(workplace: Workplace, take_ids: list[str], tell: Progress) -> dict[str, Any]:
    """Listen to the takes of a bundle as to one performance; those that are not read yet, or at another rate, keep what was heard."""
    rows = [row for row in map(workplace.take_row, take_ids) if row.state == "ready" and row.decoded_sha]
    rows = [row for row in rows if row.sample_rate_hz == rows[0].sample_rate_hz]
    if len(rows) < 2:
        return {"takes": []}
    with ExitStack() as stack:
        sources = [stack.enter_context(FileSource(workplace.blob(row.decoded_sha or ""))) for row in rows]
        found = analyse_bundle(sources, on_progress=tell)
    for row, heard in zip(rows, found, strict=True):
        path = workplace.blobs.new_path(".npz")
        try:
            _write(path, heard)
            _update(workplace, row.id, analysis_sha=workplace.blobs.adopt(path))
        finally:
            path.unlink(missing_ok=True)
    return {"takes": [row.id for row in rows]}


def _write(path: Path, heard: Analysis) -> None:
    steady = steady_document(heard.steady) if heard.steady else None
    facts = {"version": ANALYSIS_VERSION, "sure": heard.sure, "counted": heard.beats.counted, "steady": steady}
    write_analysis(path, heard.onsets, heard.pace, activation(heard.heard), facts, heard.pulse)


def _update(workplace: Workplace, take_id: str, **values: Any) -> None:
    with workplace.database.writing() as db:
        row = db.get(TakeRow, take_id)
        if row is not None:
            for name, value in values.items():
                setattr(row, name, value)


def listen_again(workplace: Workplace, session_id: str, take_id: str) -> None:
    """Queue the reading of a take that failed, was cancelled, or was heard by an earlier version; a bundle is heard as one."""
    row = workplace.take_row(take_id)
    if row.session_id != session_id:
        raise ParameterError("This take belongs to another session.")
    together = [take.id for take in workplace.open(session_id).document.bundle_of(take_id)]
    if row.state == "ready" and len(together) > 1:
        jobs.enqueue(workplace, session_id, "import", take_id, {"take": take_id, "together": together})
        return
    _update(workplace, take_id, state="waiting", error=None)
    jobs.enqueue(workplace, session_id, "import", take_id, {"take": take_id})


def change_take(workplace: Workplace, session_id: str, version: int, take_id: str, field: str, value: str) -> Revision:
    """Change one thing about a take: name, kind, role, pace, bundle, first bar or start."""
    seen = session_state(workplace, session_id)
    take = seen.document.take(take_id)
    takes = seen.document.takes
    if field == "name":
        changed, note = replace(take, name=clean_name(value)), f"{take.name} is now called {clean_name(value)}."
    elif field == "kind":
        if value not in KINDS:
            raise ParameterError(f"A take is one of {', '.join(KINDS)}. Nothing was changed.")
        changed, note = replace(take, kind=value), f"{take.name} is {value}."
    elif field == "pace":
        if value not in ("own", "lead"):
            raise ParameterError("A take has its own pace or the lead's. Nothing was changed.")
        changed = replace(take, pace=value)
        note = f"{take.name} has its own pace." if value == "own" else f"{take.name} was played to the lead and shares its pace."
    elif field == "bundle":
        name = value.strip()[:60] or None
        changed, note = replace(take, bundle=name), f"{take.name} belongs to the bundle {name}." if name else f"{take.name} stands alone."
    elif field == "first_bar":
        number = round(words.read_number(value, "The bar", -1000, 100000))
        bar_index(number)
        changed, note = replace(take, first_bar=number), f"Bar 1 of {take.name} lies on bar {number}."
    elif field == "start":
        start = words.read_clock(value)
        if abs(start) > 24 * 3600:
            raise ParameterError("A take starts within a day of the session's zero. Nothing was changed.")
        together = {other.id for other in seen.document.bundle_of(take_id)}
        takes = tuple(replace(other, offset_s=start) if other.id in together else other for other in takes)
        changed, note = (
            replace(take, offset_s=start),
            f"{take.name} starts at {words.clock(start)}; it moved by {words.signed_ms(1000 * (start - take.offset_s))} ms.",
        )
    elif field == "role":
        if value != "lead":
            raise ParameterError("Choose another take as the lead instead. Nothing was changed.")
        takes = tuple(replace(other, role="follower") for other in takes)
        changed, note = replace(take, role="lead", pace="lead"), f"The tempo map is read from {take.name}."
    else:
        raise ParameterError(f"A take has no “{field}”. Nothing was changed.")
    takes = tuple(changed if other.id == take_id else other for other in takes)
    return workplace.decide(seen.opened, version, {"takes": forms.takes_part(takes)}, note, f"take:{take_id}:{field}")


def bundle(workplace: Workplace, session_id: str, version: int, take_ids: list[str], name: str, *, listen: bool = True) -> Revision:
    """Put takes that were recorded together into one bundle with a common start."""
    seen = session_state(workplace, session_id)
    chosen = [seen.document.take(take_id) for take_id in take_ids]
    if len(chosen) < 2:
        raise ParameterError("A bundle needs at least two takes. Nothing was changed.")
    start = chosen[0].offset_s
    name = name.strip()[:60] or "bundle"
    ids = {take.id for take in chosen}
    takes = tuple(replace(take, bundle=name, offset_s=start) if take.id in ids else take for take in seen.document.takes)
    note = f"{words.count(len(chosen), 'take')} share one timing as the bundle {name}."
    made = workplace.decide(seen.opened, version, {"takes": forms.takes_part(takes)}, note)
    # From now on they are heard as one performance; until that is done, what each was heard to be stays.
    if listen:
        jobs.enqueue(workplace, session_id, "import", take_ids[0], {"take": take_ids[0], "together": take_ids})
    return made


def proposed_bundle(seen_takes: tuple[TakeEntry, ...], rows: dict[str, TakeRow]) -> list[TakeEntry]:
    """Takes that look recorded together: the same length to 1/100 s, start and kind, in no bundle yet, loops left out.

    One of unknown kind belongs to those of a known kind that its name begins like.
    """
    groups: dict[tuple[int, float], dict[str, list[TakeEntry]]] = {}
    for take in seen_takes:
        row = rows.get(take.id)
        if take.bundle or take.kind == "loop" or row is None or not row.frames or not row.sample_rate_hz:
            continue
        kinds = groups.setdefault((round(100 * row.frames / row.sample_rate_hz), take.offset_s), {})
        kinds.setdefault(take.kind, []).append(take)
    found: list[list[TakeEntry]] = []
    for kinds in groups.values():
        for kind, alike in kinds.items():
            more = [] if kind == "unknown" else kinds.get("unknown", [])
            found.append([*alike, *(take for take in more if any(words.shared_beginning((take.name, one.name)) for one in alike))])
    best = max(found, key=len, default=[])
    return [take for take in seen_takes if take in best] if len(best) > 1 else []


def remove_take(workplace: Workplace, session_id: str, version: int, take_id: str) -> Revision:
    """Take a take out of the session; undo brings it back. The next one becomes the lead where it was the lead."""
    seen = session_state(workplace, session_id)
    gone = seen.document.take(take_id)
    left = tuple(take for take in seen.document.takes if take.id != take_id)
    if gone.role == "lead" and left:
        left = (replace(left[0], role="lead", pace="lead"), *left[1:])
    return workplace.decide(seen.opened, version, {"takes": forms.takes_part(left)}, f"{gone.name} was removed.")


def weave(pace_lines: FloatArray, take_activation: FloatArray, offset_s: float, columns: int = 240) -> FloatArray:
    """The comb of a whole song as darkness 0-1: a row a bar, an eighth of a bar over both ends.

    pace_lines  shape (bars + 1,), session seconds of the lines
    """
    if len(pace_lines) < 2:
        return np.zeros((0, columns))
    start, length = pace_lines[:-1], np.diff(pace_lines)
    edges = start[:, None] + length[:, None] * (np.linspace(-0.125, 1.125, columns + 1)[None, :])
    lo = np.floor((edges[:, :-1] - offset_s) * 100.0).astype(int)
    hi = np.maximum(np.floor((edges[:, 1:] - offset_s) * 100.0).astype(int), lo + 1)
    # Before the take and after it there is nothing.
    padded = np.concatenate([[0.0], take_activation, [0.0]])
    last = len(take_activation) + 1
    deepest = np.maximum(padded[np.clip(lo + 1, 0, last)], padded[np.clip(hi, 0, last)])
    return np.asarray(deepest)
