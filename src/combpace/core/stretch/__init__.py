"""Time-scale modification: `stretch` for sound in memory, `StretchedSource` for anything longer.

Every method works in segments between attacks. A segment starts a moment before its attack with the source's own
samples, laid so that the attack falls on its target to the sample; what the methods differ in is how the rest of the
segment is made longer or shorter.
"""

from __future__ import annotations

from combpace.core.audio import ArraySource, Audio
from combpace.core.errors import ParameterError
from combpace.core.stretch.blocks import StretchedSource
from combpace.core.stretch.choose import choose_method
from combpace.core.timemap import TimeMap

METHODS = ("cut", "chord")
LATER = ("strike", "line")


def check_method(method: str) -> str:
    """The method's name in lower case, or a sentence that says what there is. "auto" passes."""
    name = method.strip().lower()
    if name in LATER:
        raise ParameterError(f"The method {name.capitalize()} does not exist yet; use Cut, Chord or auto.")
    if name not in (*METHODS, "auto"):
        raise ParameterError(f"“{method}” is not a method; use Cut, Chord or auto.")
    return name


def stretch(audio: Audio, time_map: TimeMap, method: str) -> Audio:
    """Stretch a sound along a time map.

    audio     any channels, any rate
    time_map  source seconds -> target seconds; the output starts at target 0
    method    "cut", "chord" or "auto"
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


__all__ = ["LATER", "METHODS", "StretchedSource", "check_method", "choose_method", "stretch"]
