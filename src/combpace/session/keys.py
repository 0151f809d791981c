"""What names everything that sounds or is kept: one way to make a key, with all that the answer depends on.

A key names bytes for good: who asks for the same key gets the same bytes, whatever was decided in between and
whichever version of the program made them. So each kind of key carries the versions of what makes it.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np

from combpace.core.clocks import FloatArray
from combpace.core.fit.accents import Levels
from combpace.core.fit.time_map import TimeMap
from combpace.core.onsets.detect import ANALYSIS_VERSION
from combpace.core.parts.part import Heard
from combpace.core.pieces.laying import LAYING_VERSION
from combpace.core.sounds.tones import TONES_VERSION
from combpace.core.stretch import STRETCH_VERSION
from combpace.media.decode import DECODERS

# Of each kind of key the versions of what makes the bytes that it names, beside all else that they depend on.
VERSIONS: Mapping[str, tuple[Any, ...]] = {
    "sound": (DECODERS,),
    "analyses": (ANALYSIS_VERSION,),
    "played": (),
    "slowed": (STRETCH_VERSION,),
    "fitted": (STRETCH_VERSION, ANALYSIS_VERSION),
    "state": (STRETCH_VERSION, ANALYSIS_VERSION, LAYING_VERSION),
    "pieces": (LAYING_VERSION, STRETCH_VERSION),
    "part": (TONES_VERSION,),
    "batch": (STRETCH_VERSION, ANALYSIS_VERSION, DECODERS),
}
# So many digits of a key stand in addresses.
SHORT = 24


def key(kind: str, *named: Any) -> str:
    """The key of one kind of thing: 64 hexadecimal digits.

    kind   one of VERSIONS
    named  all that it depends on beside the versions of what makes it: text, numbers, lists of them; arrays
           of float64 count by their bytes
    """
    digest = hashlib.sha256(json.dumps([kind, *VERSIONS[kind]]).encode())
    for one in named:
        if isinstance(one, np.ndarray):
            digest.update(b"\0array" + np.ascontiguousarray(one, dtype=np.float64).tobytes())
        else:
            digest.update(b"\0" + json.dumps(one, sort_keys=True).encode())
    return digest.hexdigest()


def short(kind: str, *named: Any) -> str:
    """As `key`, for an address."""
    return key(kind, *named)[:SHORT]


# -- what was heard, by content; the forms that are kept in data folders


def sound_key(source_sha: str) -> str:
    """What comes out of a file's bytes."""
    return _listed("sound", source_sha, *VERSIONS["sound"])


def analyses_key(decoded: Sequence[str], is_loop: bool, stated: Sequence[Mapping[str, Any]]) -> str:
    """What is heard in sounds. decoded: hashes, in the order in which the mics are heard; stated: what each
    file says of itself.
    """
    return _listed("analyses", list(decoded), *VERSIONS["analyses"], is_loop, [dict(one) for one in stated])


def _listed(*named: Any) -> str:
    return hashlib.sha256(json.dumps(named, sort_keys=True).encode()).hexdigest()


def render_key(
    decoded_sha: str, time_map: TimeMap, method: str, together: tuple[str, ...] = (), levels: Levels = ()
) -> str:
    """What a render is kept by: everything its sound depends on. Its form is that of the renders which data
    folders and archives hold.
    """
    versions = ":".join(str(one) for one in VERSIONS["fitted"])
    digest = hashlib.sha256(f"{decoded_sha}:{'+'.join(together)}:{method}:{versions}:".encode())
    digest.update(np.ascontiguousarray(time_map.source_s).tobytes())
    digest.update(np.ascontiguousarray(time_map.target_s).tobytes())
    if levels:
        digest.update(repr(levels).encode())
    return digest.hexdigest()


# -- what sounds


def played_key(decoded_sha: str, offset_s: float) -> str:
    """A take as it was played, at its own speed."""
    return short("played", decoded_sha, repr(offset_s))


def slowed_key(sounding: str, attacks: FloatArray, together: Sequence[str]) -> str:
    """A take drawn out. sounding: its key at its own speed; attacks: its marks, which must not smear;
    together: the sounds that are stretched as one with it.
    """
    return short("slowed", sounding, np.asarray(attacks), list(together))


def state_key(revision: int, takes: Iterable[tuple[str | None, ...]]) -> str:
    """All that is decided and known of a session: whatever sounds in it follows from that. takes: of each its
    id, state and the hashes of its sound and of what was heard in it.
    """
    return short("state", revision, sorted([list(one) for one in takes], key=str))


def part_key(notes: Iterable[Heard]) -> str:
    """How a part sounds."""
    return short(
        "part",
        [
            f"{note.start_s:.9f} {note.end_s:.9f} {note.key} {note.velocity} {note.channel} {note.program}"
            for note in notes
        ],
    )
