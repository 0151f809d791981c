"""What this data folder heard itself, kept by content: the same bytes are decoded and listened to once.

Two questions, each with a key that names all that its answer depends on:

    what comes out of a file   its bytes; the decoders and their version
    what is heard in sounds    the decoded sounds in their order; the ear's version; whether it is a loop;
                               what the files state of themselves

Only what an import of this folder made enters here: what came in an archive never does. An answer whose bytes
are gone or damaged is none.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import asdict, dataclass
from typing import Any

from combpace.machine import LockedError, locked
from combpace.session.data_folder import DataFolder
from combpace.session.keys import sound_key
from combpace.store import rows

# So often one that waits for another import of the same file looks again.
LOOK_S = 0.1


@dataclass(frozen=True, slots=True)
class Sound:
    """What came out of a file.

    decoded_sha, peaks_sha  the decoded sound and its peaks, by content
    decoder ... notes       as in `media.decode.Decoded`
    tagged_bpm              the tempo in the file's tags, or None
    padding                 whether its header says how much padding its encoder put before the sound
    """

    decoded_sha: str
    peaks_sha: str
    decoder: str
    sample_rate_hz: int
    channels: int
    frames: int
    peak: float
    notes: tuple[str, ...]
    tagged_bpm: float | None
    padding: bool

    @property
    def columns(self) -> dict[str, Any]:
        """The columns of a take that say so."""
        return {
            "decoded_sha": self.decoded_sha,
            "peaks_sha": self.peaks_sha,
            "decoder": self.decoder,
            "sample_rate_hz": self.sample_rate_hz,
            "channels": self.channels,
            "frames": self.frames,
            "peak": self.peak,
            "notes": json.dumps(list(self.notes)),
        }


def sound_of(folder: DataFolder, source_sha: str) -> Sound | None:
    """What came out of these bytes here before, or None."""
    kept = rows.heard(folder.database, sound_key(source_sha))
    if kept is None or not _are_whole(folder, kept[0]):
        return None
    (decoded, peaks), facts = kept
    return Sound(decoded, peaks, **{**facts, "notes": tuple(facts["notes"])})


def keep_sound(folder: DataFolder, source_sha: str, sound: Sound) -> None:
    facts = asdict(sound)
    made = [facts.pop("decoded_sha"), facts.pop("peaks_sha")]
    rows.keep_heard(folder.database, sound_key(source_sha), [source_sha], made, facts)


def analyses_of(folder: DataFolder, key: str) -> list[str] | None:
    """The hash of each sound's analysis, heard here before under `analyses_key`, or None."""
    kept = rows.heard(folder.database, key)
    return kept[0] if kept is not None and _are_whole(folder, kept[0]) else None


def keep_analyses(folder: DataFolder, key: str, decoded: Sequence[str], analyses: Sequence[str]) -> None:
    rows.keep_heard(folder.database, key, decoded, analyses, {})


def _are_whole(folder: DataFolder, shas: Sequence[str]) -> bool:
    return all(folder.blobs.has(sha) and folder.blobs.is_whole(sha) for sha in shas)


@contextmanager
def alone(folder: DataFolder, key: str, tell: Callable[[str, float], None]) -> Iterator[None]:
    """Hold what a key names while it is made. Two imports that want the same wait for one making; the lock
    ends with its process, however that ends, and then the other makes it. `tell` is asked meanwhile, so a
    cancel is noticed.
    """
    # Few files serve all keys: two that share one wait for each other without need, which does no harm.
    path = folder.settings.data_dir / "locks" / key[:2]
    path.parent.mkdir(exist_ok=True)
    with ExitStack() as held:
        while True:
            try:
                held.enter_context(locked(path))
                break
            except LockedError:
                tell("waiting: the same file is being read", 0.0)
                time.sleep(LOOK_S)
        yield
