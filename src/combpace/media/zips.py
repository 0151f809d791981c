"""Zip files that are the same bytes for the same content: stored, in the order given, no time in them."""

from __future__ import annotations

import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

# A zip cannot hold an earlier day; every entry has this one.
NO_DAY = (1980, 1, 1, 0, 0, 0)
_CHUNK = 1 << 20


def entry(name: str) -> zipfile.ZipInfo:
    """What stands of a file in a zip: its name, readable by its owner, no time."""
    made = zipfile.ZipInfo(name, NO_DAY)
    made.create_system, made.external_attr = 3, 0o600 << 16
    return made


def write_arrays(target: Path, arrays: Mapping[str, Any]) -> None:
    """Arrays as `numpy.load` reads them (packed, no pickles); numpy's own writer puts the time into it."""
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as pack:
        for name, values in arrays.items():
            one = entry(f"{name}.npy")
            one.compress_type = zipfile.ZIP_DEFLATED
            with pack.open(one, "w", force_zip64=True) as out:
                np.lib.format.write_array(out, np.asanyarray(values), allow_pickle=False)


def write_zip(target: Path, files: Sequence[tuple[Path, str]]) -> None:
    """Pack files under names."""
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED, allowZip64=True) as pack:
        for path, name in files:
            with pack.open(entry(name), "w", force_zip64=True) as out, path.open("rb") as source:
                while chunk := source.read(_CHUNK):
                    out.write(chunk)
