"""Archives whose hashes are right and whose content is not: one value of a good one changed, and everything
that names it by its hash brought along.
"""

from __future__ import annotations

import hashlib
import io
import json
import random
import zipfile
from typing import Any

import numpy as np

NUMBERS = (
    1e308, -1e308, 1e12, -1e12, 2**63, -(2**63), 1e6, -1e6, 0, -1, 1e-300, 0.5, float("nan"), float("inf"),
    10**30,
)  # fmt: skip
OTHERS = (None, True, "", "x" * 70_000, "‮1", [], {}, [[]], {"a": {}}, "1e308", "../../etc", [1e308] * 3)


class Archive:
    """A good archive, taken apart."""

    def __init__(self, data: bytes) -> None:
        with zipfile.ZipFile(io.BytesIO(data)) as pack:
            self.manifest: dict[str, Any] = json.loads(pack.read("manifest.json"))
            self.blobs = {name[6:]: pack.read(name) for name in pack.namelist() if name.startswith("blobs/")}
        self.analyses = sorted({take["analysis_sha"] for take in self.manifest["takes"]} - {None})

    def changed(self, rng: random.Random) -> tuple[str, bytes]:
        """(what was changed, an archive with one value changed)."""
        manifest, blobs = json.loads(json.dumps(self.manifest)), dict(self.blobs)
        ways = [_part, _part, _part, _part, _row, _row, _view, _analysis, _analysis, _facts]
        said = rng.choice(ways)(manifest, blobs, self.analyses, rng)
        return said, packed(manifest, blobs)


def packed(manifest: dict[str, Any], blobs: dict[str, bytes]) -> bytes:
    """An archive of these."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as pack:
        pack.writestr("manifest.json", json.dumps(manifest))
        for sha, data in blobs.items():
            pack.writestr(f"blobs/{sha}", data)
    return out.getvalue()


def _hash(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def _spots(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """The way to every value, and to every list and object."""
    found = [path] if path else []
    if isinstance(value, dict):
        for name, one in value.items():
            found += _spots(one, (*path, name))
    elif isinstance(value, list):
        # Of a long list a few stand for all.
        for k in [*range(min(4, len(value))), *([len(value) - 1] if len(value) > 4 else [])]:
            found += _spots(value[k], (*path, k))
    return found


def _put(value: Any, path: tuple[Any, ...], new: Any) -> None:
    for step in path[:-1]:
        value = value[step]
    value[path[-1]] = new


def _at(value: Any, path: tuple[Any, ...]) -> Any:
    for step in path:
        value = value[step]
    return value


def _hostile(old: Any, rng: random.Random) -> Any:
    if isinstance(old, list) and old and rng.random() < 0.5:
        return rng.choice([old * 2, old[::-1], old[:1], [*old, old[0]]])
    if isinstance(old, (int, float)) and not isinstance(old, bool) and rng.random() < 0.8:
        return rng.choice([*NUMBERS, -old, old * 1000, old + 0.1])
    return rng.choice([*OTHERS, *NUMBERS])


def _part(manifest: dict[str, Any], blobs: dict[str, bytes], analyses: list[str], rng: random.Random) -> str:
    """A part of the present step."""
    step = next(one for one in manifest["revisions"] if one["id"] == manifest["cursor"])
    names = json.loads(step["parts"])
    name = rng.choice(sorted(names))
    body = json.loads(manifest["parts"][names[name]])
    spots = _spots(body)
    if not spots:
        return "nothing"
    path = rng.choice(spots)
    new = _hostile(_at(body, path), rng)
    _put(body, path, new)
    text = json.dumps(body, sort_keys=True, separators=(",", ":"))
    sha = _hash(text.encode())
    manifest["parts"][sha], names[name] = text, sha
    step["parts"] = json.dumps(names)
    return f"{name.partition(':')[0]} {path} = {str(new)[:60]!r}"


def _row(manifest: dict[str, Any], blobs: dict[str, bytes], analyses: list[str], rng: random.Random) -> str:
    """A row of a take, a file or a step, or a field of the manifest itself."""
    spots = [path for path in _spots({k: v for k, v in manifest.items() if k != "parts"}) if len(path) <= 3]
    path = rng.choice(spots)
    new = _hostile(_at(manifest, path), rng)
    _put(manifest, path, new)
    return f"manifest {path} = {str(new)[:60]!r}"


def _view(manifest: dict[str, Any], blobs: dict[str, bytes], analyses: list[str], rng: random.Random) -> str:
    take = manifest["takes"][0]["id"]
    strip = {"level": 0, "pan": 0, "mute": False, "solo": False}
    strip[rng.choice(sorted(strip))] = _hostile(0.0, rng)
    view = rng.choice(
        [
            "no json", "[]", "7", '{"mix": 3}', '{"mix": {"a": 1}}', json.dumps({"mix": {take: strip}}),
            json.dumps({"loop": _hostile([1.0, 2.0], rng)}), json.dumps({"handoff": _hostile({}, rng)}),
            json.dumps({"handoff": {"takes": _hostile([take], rng), "kind": _hostile("wav24", rng)}}),
            json.dumps({"clickDb": _hostile(-9, rng), "speed": _hostile(1, rng), "fitted": _hostile(1, rng)}),
        ]
    )  # fmt: skip
    manifest["view"] = view
    return f"view {view[:80]}"


def _analysis(
    manifest: dict[str, Any], blobs: dict[str, bytes], analyses: list[str], rng: random.Random
) -> str:
    """An array of what was heard: one value, its length, its numbers."""
    old = rng.choice(analyses)
    with np.load(io.BytesIO(blobs[old])) as data:
        arrays = {name: data[name] for name in data.files}
    name = rng.choice(sorted(name for name in arrays if name not in ("pace", "facts")))
    values, how = (
        arrays[name].copy(),
        rng.choice(["value", "shorter", "longer", "type", "gone", "shape", "empty"]),
    )
    if how == "value" and values.size and values.dtype.kind == "f":
        values.flat[rng.randrange(values.size)] = rng.choice([np.nan, np.inf, -np.inf, 1e30, -5.0])
    elif how == "shorter":
        values = values[: len(values) // 2]
    elif how == "longer":
        values = np.concatenate([values, values])
    elif how == "type":
        with np.errstate(all="ignore"):  # what does not fit is what is wanted
            values = values.astype(rng.choice([np.float32, np.int64, np.complex64, np.bool_, "U4"]))
    elif how == "shape":
        values = values.reshape(1, *values.shape)
    elif how == "empty":
        values = values[:0]
    arrays[name] = values
    if how == "gone":
        arrays.pop(name)
    _swap(manifest, blobs, old, arrays)
    return f"array {name} {how}"


def _facts(manifest: dict[str, Any], blobs: dict[str, bytes], analyses: list[str], rng: random.Random) -> str:
    """A value of what is said beside the arrays, or of the pace."""
    old = rng.choice(analyses)
    with np.load(io.BytesIO(blobs[old])) as data:
        arrays = {name: data[name] for name in data.files}
    name = rng.choice(["pace", "facts", "facts"])
    said = json.loads(arrays[name].tobytes())
    spots = _spots(said)
    if not spots:
        return "nothing"
    path = rng.choice(spots)
    new = _hostile(_at(said, path), rng)
    _put(said, path, new)
    arrays[name] = np.frombuffer(json.dumps(said).encode(), np.uint8)
    _swap(manifest, blobs, old, arrays)
    return f"{name} {path} = {str(new)[:60]!r}"


def _swap(manifest: dict[str, Any], blobs: dict[str, bytes], old: str, arrays: dict[str, Any]) -> None:
    """Keep arrays in place of an analysis, under their own hash."""
    out = io.BytesIO()
    np.savez(out, **arrays)
    sha = _hash(out.getvalue())
    blobs.pop(old)
    blobs[sha] = out.getvalue()
    for take in manifest["takes"]:
        if take["analysis_sha"] == old:
            take["analysis_sha"] = sha
