"""What an import heard in a take, as it is kept: immutable, belonging to one sound and one analysis version.

npz with arrays and JSON only, no pickles (docs/formats.md, "In the data folder").
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import numpy as np

from combpace.core.beats.activations import Activations, activations_kept, kept_activations
from combpace.core.clocks import FloatArray, TakeTimes, take_times
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.map import TempoMap
from combpace.media.zips import write_arrays
from combpace.session.document import parts as forms

# Names of the arrays that a reading again starts from.
KEPT = "pulse_"


@dataclass(frozen=True, slots=True)
class TakeAnalysis:
    """What was heard in a take.

    activation  0-1 per hundredth of a second: how much of an attack there is
    facts       JSON: steady tempo, verdict, confidences
    bands       how strong each onset is in lows, middle and highs, shape (n, 3); None where an earlier
                version listened
    """

    onsets: Onsets
    pace: TempoMap[TakeTimes] | None
    activation: FloatArray
    facts: Mapping[str, Any]
    bands: FloatArray | None = None


def write_analysis(
    path: Path,
    onsets: Onsets,
    pace: TempoMap[TakeTimes] | None,
    activation: FloatArray,
    facts: Mapping[str, Any],
    activations: Activations | None = None,
    bands: FloatArray | None = None,
) -> None:
    """Keep an analysis; `read_analysis` and `read_activations` read it."""
    arrays: dict[str, Any] = {
        "times": np.asarray(onsets.times),
        "strength": onsets.strength,
        "confidence": onsets.confidence,
        "activation": np.round(np.clip(activation / 1.5, 0, 1) * 255).astype(np.uint8),
        "pace": np.frombuffer(json.dumps(forms.pace_part(pace) if pace else None).encode(), np.uint8),
        "facts": np.frombuffer(json.dumps(dict(facts)).encode(), np.uint8),
    }
    if bands is not None:
        arrays["bands"] = bands.astype(np.float32)
    if activations is not None:
        arrays |= {f"{KEPT}{name}": values for name, values in kept_activations(activations).items()}
    write_arrays(path, arrays)


def read_analysis(path: Path) -> TakeAnalysis:
    with path.open("rb") as file:
        return analysis_in(file)


def analysis_in(file: IO[bytes]) -> TakeAnalysis:
    """The same of an open file."""
    with np.load(file, allow_pickle=False) as data:
        pace = json.loads(data["pace"].tobytes())
        return TakeAnalysis(
            Onsets(take_times(data["times"]), data["strength"], data["confidence"]),
            forms.pace_from(pace) if pace else None,
            data["activation"].astype(np.float64) / 255.0,
            json.loads(data["facts"].tobytes()),
            data["bands"].astype(np.float64) if "bands" in data.files else None,
        )


def read_activations(path: Path) -> Activations | None:
    """What was heard of the pulse; None where an earlier version listened, which kept none."""
    with path.open("rb") as file, np.load(file, allow_pickle=False) as data:
        kept = {name.removeprefix(KEPT): data[name] for name in data.files if name.startswith(KEPT)}
    return activations_kept(kept) if kept else None


def has_activations(path: Path) -> bool:
    """Whether `read_activations` finds any."""
    with path.open("rb") as file, np.load(file, allow_pickle=False) as data:
        return any(name.startswith(KEPT) for name in data.files)


def with_marks(path: Path, target: Path, onsets: Onsets, bands: FloatArray | None) -> None:
    """Keep an analysis with other attacks than were heard: those of the take that it was made of."""
    with path.open("rb") as file, np.load(file, allow_pickle=False) as data:
        arrays = {name: data[name] for name in data.files if name != "bands"}
    arrays |= {
        "times": np.asarray(onsets.times),
        "strength": onsets.strength,
        "confidence": onsets.confidence,
    }
    if bands is not None:
        arrays["bands"] = bands.astype(np.float32)
    write_arrays(target, arrays)


def without_pulse(path: Path, target: Path) -> None:
    """Keep an analysis without what the networks heard of the pulse: marks, pace, readings and picture stay
    as they are, a ninth of the size.
    """
    with path.open("rb") as file, np.load(file, allow_pickle=False) as data:
        write_arrays(target, {name: data[name] for name in data.files if not name.startswith(KEPT)})
