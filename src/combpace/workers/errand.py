"""An errand: a function of files and plain values that can be done anywhere, for it knows no database and no
session.

`function(inputs, outputs, args, tell) -> value`: it reads below the folder `inputs`, writes below `outputs`,
and returns plain JSON.
"""

from __future__ import annotations

import importlib
import tempfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import Any

from combpace import __version__
from combpace.core.onsets.detect import ANALYSIS_VERSION
from combpace.core.stretch import STRETCH_VERSION

Tell = Callable[[str, float], None]
# Who does errands for another must be of this very version: what is heard and how it is kept must not differ.
VERSION = f"{__version__}, ear {ANALYSIS_VERSION}, stretch {STRETCH_VERSION}"


@dataclass(frozen=True, slots=True)
class Errand:
    """What is to be done.

    function  "package.module:name"
    inputs    the folder that it reads below; outputs: the one that it writes below
    files     names of what it reads, below inputs; only these travel
    args      plain JSON
    """

    function: str
    inputs: Path
    outputs: Path
    files: tuple[str, ...] = ()
    args: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Outcome:
    """How work ended: its value, or why there is none."""

    value: Any = None
    error: str | None = None


def quiet(phase: str, share: float) -> None:
    """No progress."""


def do(errand: Errand, tell: Tell = quiet) -> Any:
    """Do it here, in this process, on the files where they lie."""
    return _function(errand.function)(errand.inputs, errand.outputs, dict(errand.args), tell)


def _function(name: str) -> Callable[[Path, Path, dict[str, Any], Tell], Any]:
    module, _, attribute = name.partition(":")
    if not module.startswith("combpace."):
        raise ValueError(f"{name} is none of ours")
    found: Callable[[Path, Path, dict[str, Any], Tell], Any] = getattr(
        importlib.import_module(module), attribute
    )
    return found


def packed(errand: Errand) -> dict[str, bytes]:
    """The bytes of what it reads, by name."""
    return {name: (errand.inputs / name).read_bytes() for name in errand.files}


def do_unpacked(
    function: str, args: Mapping[str, Any], files: Mapping[str, bytes], tell: Tell = quiet
) -> tuple[Any, dict[str, bytes]]:
    """Do one whose files came along, in folders of its own. Returns its value and the bytes of what it
    wrote.
    """
    with tempfile.TemporaryDirectory(prefix="combpace-") as name:
        inputs, outputs = Path(name, "in"), Path(name, "out")
        outputs.mkdir()
        for one, data in files.items():
            path = _below(inputs, one)
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
        value = do(Errand(function, inputs, outputs, tuple(files), args), tell)
        return value, {
            path.relative_to(outputs).as_posix(): path.read_bytes()
            for path in sorted(outputs.rglob("*"))
            if path.is_file()
        }


def unpack(outputs: Path, files: Mapping[str, bytes]) -> None:
    """Put what came back where it belongs, each file whole or not at all."""
    for name, data in files.items():
        path = _below(outputs, name)
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_name(f".{path.name}.part")
        part.write_bytes(data)
        part.replace(path)


def _below(folder: Path, name: str) -> Path:
    """A path below a folder. What comes over the wire is not trusted."""
    parts = PurePosixPath(name).parts
    if not parts or name.startswith("/") or ".." in parts:
        raise ValueError(f"“{name}” leaves its folder")
    return folder.joinpath(*parts)


def weigh(inputs: Path, outputs: Path, args: dict[str, Any], tell: Tell) -> int:
    """An errand that only reads its file: what a scheduler costs beside the work, and whether it works at
    all. Returns its bytes.
    """
    return len((inputs / args["file"]).read_bytes())
