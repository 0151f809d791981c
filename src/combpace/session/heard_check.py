"""What an archive says was heard in a take: judged before anybody believes it."""

from __future__ import annotations

import math
import zipfile
from collections.abc import Mapping
from typing import IO, Any

import numpy as np

from combpace.core.beats.activations import PAIR
from combpace.core.errors import ParameterError
from combpace.session.analysis_store import KEPT, TakeAnalysis, analysis_in
from combpace.session.document import bounds
from combpace.session.document import parts as forms

# All arrays of one analysis together, unpacked; numbers and texts in what it says beside them.
MOST_BYTES, MOST_FACTS, MOST_DEPTH = 512 * 2**20, 2_000_000, 12
# Attacks of one second at most; the activation has so many values a second, and lies this near to the end.
MOST_A_SECOND, PER_SECOND, OFF_S = 400, 100, 30.0
# What its arrays are, and of which numbers.
KINDS = {"times": "f", "strength": "f", "confidence": "f", "activation": "u", "bands": "f"}
TEXTS = ("pace", "facts")
LONGEST = 60
VERDICTS = ("steady", "wanders", "speeds up", "slows down")


def judged(file: IO[bytes], frames: int, rate_hz: int) -> TakeAnalysis:
    """An analysis, read. Raises ParameterError, saying what is wrong, where it is none of a sound of so many
    frames.

    file  as `analysis_store.write_analysis` writes it
    """
    shapes = _announced(file)
    file.seek(0)
    try:
        heard = analysis_in(file)
    except (ValueError, KeyError, TypeError, AttributeError, OSError, EOFError, RecursionError) as error:
        raise ParameterError("what was heard cannot be read") from error
    length_s = frames / rate_hz
    times = np.asarray(heard.onsets.times)
    if not times.shape == heard.onsets.strength.shape == heard.onsets.confidence.shape or times.ndim != 1:
        raise ParameterError("its marks are not as many as their strengths")
    if len(times) > MOST_A_SECOND * length_s + 100:
        raise ParameterError("it has more marks than can be heard")
    for name, values, least, most in (
        ("marks", times, -1.0, length_s + 1.0),
        ("strengths", heard.onsets.strength, 0.0, 1e6),
        ("confidences", heard.onsets.confidence, 0.0, 1.0),
    ):
        if not np.all(np.isfinite(values)) or (
            len(values) and not least <= values.min() <= values.max() <= most
        ):
            raise ParameterError(f"its {name} are no such numbers")
    if np.any(np.diff(times) < 0):
        raise ParameterError("its marks do not follow each other")
    if heard.activation.ndim != 1 or abs(len(heard.activation) / PER_SECOND - length_s) > OFF_S:
        raise ParameterError("its activation is not as long as its sound")
    if heard.bands is not None and (
        heard.bands.shape != (len(times), 3) or not np.all(np.isfinite(heard.bands))
    ):
        raise ParameterError("the bands of its marks are not those of its marks")
    if heard.pace is not None:
        bounds.pace("a pace", heard.pace)
    _pulse(file, shapes)
    _facts(heard, frames)
    return heard


def _announced(file: IO[bytes]) -> dict[str, tuple[int, ...]]:
    """The shape of each array, as its header says it, where it holds just that. Raises ParameterError."""
    shapes: dict[str, tuple[int, ...]] = {}
    try:
        with zipfile.ZipFile(file) as pack:
            if sum(one.file_size for one in pack.infolist()) > MOST_BYTES:
                raise ParameterError("what was heard is larger than of any sound")
            for one in pack.infolist():
                with pack.open(one) as data:
                    version = np.lib.format.read_magic(data)
                    read = np.lib.format.read_array_header_1_0 if version == (1, 0) else None
                    read = np.lib.format.read_array_header_2_0 if version == (2, 0) else read
                    if read is None:
                        raise ParameterError("one of its arrays has another form")
                    shape, _, dtype = read(data)
                    head = data.tell()
                name = one.filename.removesuffix(".npy")
                if dtype.kind not in "fui" or dtype.hasobject:
                    raise ParameterError(f"“{name[:20]}” holds no numbers")
                if math.prod(shape) * dtype.itemsize != one.file_size - head:
                    raise ParameterError(f"“{name[:20]}” is not as long as it says")
                if dtype.kind != KINDS.get(name, dtype.kind) or (name in TEXTS and dtype != np.uint8):
                    raise ParameterError(f"“{name[:20]}” holds other numbers than it should")
                shapes[name] = shape
    except (zipfile.BadZipFile, ValueError, OSError, EOFError, NotImplementedError, SyntaxError) as error:
        raise ParameterError("what was heard cannot be read") from error
    return shapes


def _pulse(file: IO[bytes], shapes: Mapping[str, tuple[int, ...]]) -> None:
    kept = {name: shape for name, shape in shapes.items() if name.startswith(KEPT)}
    if not kept:
        return
    try:
        beat, downbeat, meter, inputs = (
            kept[f"{KEPT}{name}"] for name in ("beat", "downbeat", "meter", "inputs")
        )
    except KeyError as error:
        raise ParameterError("what it heard of the pulse is not whole") from error
    rows = len(beat) and -(-beat[0] // PAIR)
    if len(beat) != 1 or beat != downbeat or len(meter) != 2 or len(inputs) != 2:
        raise ParameterError("what it heard of the pulse has another form")
    if not abs(meter[0] - rows) <= 1 or inputs[0] != meter[0]:
        raise ParameterError("what it heard of the pulse is not as long as its sound")
    file.seek(0)
    with np.load(file, allow_pickle=False) as data:
        if not all(np.all(np.isfinite(data[name])) for name in kept):
            raise ParameterError("what it heard of the pulse are no numbers")


def _facts(heard: TakeAnalysis, frames: int) -> None:
    facts = heard.facts
    if not isinstance(facts, Mapping) or _count(facts) > MOST_FACTS:
        raise ParameterError("what is said of it has another form")
    try:
        version = facts.get("version", 0)
        if not isinstance(version, int) or not 0 <= version <= 10_000:
            raise ParameterError("it was heard by no version")
        for name in ("sure", "counted"):
            if facts.get(name) is not None:
                _number(name, facts[name], 0.0, 1.0)
        if facts.get("steady") is not None:
            _steady(facts["steady"])
        for one in facts.get("readings") or ():
            _number("a probability", one["probability"], 0.0, 1.0)
            bounds.pace("a reading", forms.pace_from(one["pace"]))
        for one in facts.get("stated") or ():
            _number("a stated tempo", one["bpm"], 1.0, 4 * bounds.MOST_BPM)
            _text(one["source"])
        if facts.get("hats") is not None:
            ride = facts["hats"]
            if ride["per_beat"] not in (1, 2, 3, 4, 6, 8):
                raise ParameterError("its hats are struck as nobody strikes them")
            _number("a share", ride["share"], 0.0, 1.0)
            _number("hats", ride["per_minute"], 0.0, 10_000.0)
        if facts.get("padding") is not None:
            _text(facts["padding"])
        rests = facts.get("rests")
        if rests is not None and not all(
            isinstance(start, int) and isinstance(stop, int) and 0 <= start <= stop <= frames
            for start, stop in rests
        ):
            raise ParameterError("its pauses lie outside its sound")
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise ParameterError("what is said of it has another form") from error


def _steady(steady: Mapping[str, Any]) -> None:
    for name, least, most in (
        ("bpm", 1.0, 4 * bounds.MOST_BPM),
        ("plus_minus_bpm", 0.0, 1e4),
        ("first_downbeat_s", -bounds.MOST_S, bounds.MOST_S),
        ("drift_end_ms", -1e9, 1e9),
        ("scatter_ms", 0.0, 1e9),
    ):
        _number(name, steady[name], least, most)
    if steady.get("proposed_bpm") is not None:
        _number("a proposed tempo", steady["proposed_bpm"], 1.0, 4 * bounds.MOST_BPM)
    _text(steady["verdict"])
    if steady["verdict"] not in VERDICTS:
        raise ParameterError("its verdict is none")
    for one in steady["candidates"]:
        _number("a candidate", one["bpm"], 1.0, 16 * bounds.MOST_BPM)
        _number("evidence", one["evidence"], -1e6, 1e6)
        _text(one["relation"])


def _number(what: str, value: Any, least: float, most: float) -> None:
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        raise ParameterError(f"{what} is no number")
    bounds.number(what, value, least, most)


def _text(value: Any) -> None:
    if not isinstance(value, str) or len(value) > LONGEST:
        raise ParameterError("a text in it is none")


def _count(value: Any, depth: int = 0) -> int:
    """How many values there are, at any depth; all numbers among them are finite."""
    if depth > MOST_DEPTH:
        raise ParameterError("what is said of it is nested too deeply")
    if isinstance(value, Mapping):
        return sum(_count(one, depth + 1) for one in value.values())
    if isinstance(value, list):
        return sum(_count(one, depth + 1) for one in value)
    if isinstance(value, float) and not math.isfinite(value):
        raise ParameterError("a number in it is none")
    return 1
