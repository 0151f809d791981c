"""Time-scale modification: `stretch` for sound in memory, `StretchedSource` for anything longer.

Every method works in segments between attacks. A segment starts a moment before its attack and ends a moment
before the next one, with the source's own samples, laid so that attacks fall on their targets to the sample;
what the methods differ in is how the inside of a segment is made longer or shorter.
"""

from __future__ import annotations

from combpace.core.audio import ArraySource, Audio
from combpace.core.errors import ParameterError
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch.blocks import StretchedSource
from combpace.core.stretch.choose import Choice, choose_method, far_stretched

# What is stretched by another version sounds otherwise: keys name it.
STRETCH_VERSION = 11
METHODS = ("cut", "strike", "chord", "line")


def check_method(method: str) -> str:
    """The method's name in lower case, or a sentence that says what there is. "auto" passes."""
    name = method.strip().lower()
    if name not in (*METHODS, "auto"):
        raise ParameterError(f"“{method}” is not a method; use Cut, Strike, Chord, Line or auto.")
    return name


def stretch(audio: Audio, time_map: TimeMap, method: str) -> Audio:
    """Stretch a sound along a time map.

    audio     any channels, any rate
    time_map  source seconds -> target seconds; the output starts at target 0
    method    "cut", "strike", "chord", "line" or "auto"
    Returns   round(last target * rate) frames, the same channels and rate
    Raises    ParameterError for a method that does not exist
    """
    source = ArraySource(audio)
    name = check_method(method)
    if name == "auto":
        name = choose_method(source, time_map).method
    made = StretchedSource(source, time_map, name)
    frames = max(0, round(float(time_map.target_s[-1]) * audio.sample_rate_hz))
    return Audio(made.read(0, frames), audio.sample_rate_hz)


__all__ = [
    "METHODS",
    "STRETCH_VERSION",
    "Choice",
    "StretchedSource",
    "TimeMap",
    "check_method",
    "choose_method",
    "far_stretched",
    "stretch",
]
