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
from combpace.jobs.registry import Progress
from combpace.media.decode import FileSource
from combpace.media.mapfiles import steady_document
from combpace.media.stated import padding_is_stated, stated_tempi
from combpace.session.analysis_store import write_analysis
from combpace.session.data_folder import DataFolder
from combpace.session.document import parts as forms
from combpace.store.models import TakeRow
from combpace.workers import elsewhere
from combpace.workers.errand import Errand

FUNCTION = "combpace.stations.takes.hearing:hear"


def listened(
    folder: DataFolder, takes: Sequence[TakeRow], decoded: Sequence[str], is_loop: bool, tell: Progress
) -> list[str]:
    """Listen to takes, together where they are several, here or on the scheduler. Returns what was heard of
    each, by its hash.

    decoded  the hash of each one's decoded sound
    """
    facts = [_stated(folder.blob(row.source_sha), row.name) for row in takes]
    names = [folder.blob(sha).relative_to(folder.blobs.root).as_posix() for sha in decoded]
    with tempfile.TemporaryDirectory(dir=folder.blobs.temporary, prefix="heard-") as out:
        errand = Errand(
            FUNCTION,
            folder.blobs.root,
            Path(out),
            tuple(names),
            {"files": names, "loop": is_loop, "facts": facts},
        )
        made = elsewhere.run(errand, tell, folder.settings.scheduler, "listening")
        return [folder.blobs.adopt(Path(out, name)) for name in made["written"]]


def _stated(file: Path, name: str) -> dict[str, Any]:
    """What a file says of itself."""
    return {
        "stated": [{"bpm": one.bpm, "source": one.source} for one in stated_tempi(file, name)],
        "padding": "header" if padding_is_stated(file) else None,
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
    for number, (heard, facts) in enumerate(zip(found, args["facts"], strict=True)):
        written.append(f"{number}.npz")
        _write(outputs / written[-1], heard, facts | {"rests": [list(one) for one in rests[number]]})
    return {"written": written}


def _write(path: Path, heard: Analysis, stated: Mapping[str, Any]) -> None:
    steady = steady_document(heard.steady) if heard.steady else None
    counted = [
        {"probability": round(one.probability, 4), "pace": forms.pace_part(one.pace)}
        for one in readings(heard)
    ]
    facts: dict[str, Any] = {
        "version": ANALYSIS_VERSION,
        "sure": heard.sure,
        "counted": heard.beats.counted,
        "steady": steady,
        "readings": counted,
    }
    facts["stated"] = stated["stated"]
    ride = hats(heard.heard, np.asarray(heard.beats.times))
    facts["hats"] = (
        None
        if ride is None
        else {
            "per_beat": ride.per_beat,
            "share": round(ride.share, 3),
            "per_minute": round(ride.per_minute, 3),
        }
    )
    facts["padding"] = stated["padding"]
    # Pauses between notes, [first frame, the frame after the last].
    facts["rests"] = stated["rests"]
    write_analysis(
        path,
        heard.onsets,
        heard.pace,
        activation(heard.heard),
        facts,
        heard.pulse,
        band_strengths(heard.heard, heard.onsets),
    )
