"""Errands of bringing audio in: listening to a decoded file, or to the mics of one performance. They know no
session.
"""

from __future__ import annotations

import tempfile
from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.analysis.bundle import analyse_bundle
from combpace.core.analysis.hats import hats
from combpace.core.analysis.readings import readings
from combpace.core.analysis.take import Analysis, Hints, analyse
from combpace.core.beats.attack_decoder import activation
from combpace.core.fit.holding import BETWEEN_NOTES
from combpace.core.fit.pauses import find_pauses
from combpace.core.onsets.choose import band_strengths
from combpace.core.onsets.detect import ANALYSIS_VERSION
from combpace.core.tempo.measure import end_offset
from combpace.core.tempo.proposal import LIMIT_MS, propose
from combpace.jobs.registry import Progress
from combpace.media.decode import FileSource
from combpace.media.mapfiles import steady_document
from combpace.media.stated import stated_tempi
from combpace.session import keys, known
from combpace.session.analysis_store import write_analysis
from combpace.session.data_folder import DataFolder
from combpace.session.document import parts as forms
from combpace.workers import elsewhere
from combpace.workers.errand import Errand

FUNCTION = "combpace.stations.takes.hearing:hear"


def listened(
    folder: DataFolder,
    decoded: Sequence[str],
    is_loop: bool,
    facts: Sequence[Mapping[str, Any]],
    tell: Progress,
    again: bool = False,
) -> list[str]:
    """What is heard in takes, together where they are several: what this folder heard before in the same
    sounds, or listened to now, here or on the scheduler. Returns what was heard of each, by its hash.

    decoded  the hash of each one's decoded sound
    facts    what each one's file says of itself (`stated`)
    again    listen, whatever was heard before
    """
    key = keys.analyses_key(decoded, is_loop, facts)
    with known.alone(folder, key, tell):
        heard = None if again else known.analyses_of(folder, key)
        if heard is None:
            heard = _listen(folder, decoded, is_loop, facts, tell)
            known.keep_analyses(folder, key, decoded, heard)
        return heard


def _listen(
    folder: DataFolder,
    decoded: Sequence[str],
    is_loop: bool,
    facts: Sequence[Mapping[str, Any]],
    tell: Progress,
) -> list[str]:
    names = [folder.blob(sha).relative_to(folder.blobs.root).as_posix() for sha in decoded]
    with tempfile.TemporaryDirectory(dir=folder.blobs.temporary, prefix="heard-") as out:
        errand = Errand(
            FUNCTION,
            folder.blobs.root,
            Path(out),
            tuple(names),
            {"files": names, "loop": is_loop, "facts": [dict(one) for one in facts]},
        )
        made = elsewhere.run(errand, tell, folder.settings.scheduler, "listening")
        return [folder.blobs.adopt(Path(out, name)) for name in made["written"]]


def stated(tagged_bpm: float | None, padding: bool, name: str) -> dict[str, Any]:
    """What a file says of itself, by its tags, its header and its name."""
    return {
        "stated": [{"bpm": one.bpm, "source": one.source} for one in stated_tempi(tagged_bpm, name)],
        "padding": "header" if padding else None,
    }


def hear(inputs: Path, outputs: Path, args: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """An errand: {files, loop, facts} -> {written}, an analysis each, as `write_analysis` writes it."""
    with ExitStack() as stack:
        sources = [stack.enter_context(FileSource(inputs / name)) for name in args["files"]]
        if len(sources) > 1:
            found = analyse_bundle(sources, on_progress=tell)
        else:
            found = [analyse(sources[0], Hints(is_loop=args["loop"]), on_progress=tell)]
        # Found here once: whoever opens the session would else read the whole sound for them.
        rests = [find_pauses(source, BETWEEN_NOTES) for source in sources]
    written = []
    for number, (one, facts) in enumerate(zip(found, args["facts"], strict=True)):
        written.append(f"{number}.npz")
        _write(outputs / written[-1], one, facts | {"rests": [list(one) for one in rests[number]]})
    return {"written": written}


def _write(path: Path, analysis: Analysis, said: Mapping[str, Any]) -> None:
    steady = steady_document(analysis.steady) if analysis.steady else None
    if steady is not None and analysis.pace is not None:
        # A rounder tempo that the attacks bear out to the end is in force from the first moment on.
        ends = end_offset(
            analysis.struck, analysis.pace.times_s, steady["first_downbeat_s"], 60.0 / steady["bpm"]
        )
        offered = [(one["bpm"], f"stated by its {one['source']}") for one in said["stated"]]
        found = propose(steady["bpm"], steady["plus_minus_bpm"], ends, LIMIT_MS, offered)
        steady["proposed_bpm"] = found.bpm
    counted = [
        {"probability": round(one.probability, 4), "pace": forms.pace_part(one.pace)}
        for one in readings(analysis)
    ]
    facts: dict[str, Any] = {
        "version": ANALYSIS_VERSION,
        "sure": analysis.sure,
        "counted": analysis.beats.counted,
        "steady": steady,
        "readings": counted,
    }
    facts["stated"] = said["stated"]
    ride = hats(analysis.heard, np.asarray(analysis.beats.times))
    facts["hats"] = (
        None
        if ride is None
        else {
            "per_beat": ride.per_beat,
            "share": round(ride.share, 3),
            "per_minute": round(ride.per_minute, 3),
        }
    )
    facts["padding"] = said["padding"]
    # Pauses between notes, [first frame, the frame after the last].
    facts["rests"] = said["rests"]
    write_analysis(
        path,
        analysis.onsets,
        analysis.pace,
        activation(analysis.heard),
        facts,
        analysis.pulse,
        band_strengths(analysis.heard, analysis.onsets),
    )
