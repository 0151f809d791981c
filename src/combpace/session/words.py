"""How places, times and numbers are written for people."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from math import floor

from combpace.core.clocks import ClockT, SessionTimes
from combpace.core.errors import ParameterError
from combpace.core.numbers import MINUS, number_of
from combpace.core.tempo.map import TempoMap
from combpace.core.tempo.meters import bar_number

HAIR_S = 0.0015
# A bar 1 that lies so little before session zero belongs to the attack that opens its file.
OPENS_S = 0.030


def clock(seconds: float) -> str:
    """Times as 0:15.842, before zero with a minus."""
    # A hair before zero is zero: the start of an attack that opens its file.
    ms = 0 if -HAIR_S < seconds < 0 else floor(abs(seconds) * 1000 + 0.5)
    sign = MINUS if seconds < 0 and ms else ""
    return f"{sign}{ms // 60000}:{ms // 1000 % 60:02d}.{ms % 1000:03d}"


def shared_beginning(names: Sequence[str]) -> str:
    """The whole words that all names begin with, without what joins them to the rest; empty where they begin
    differently.
    """
    # What the first and the last of the alphabet share, all share.
    low, high = min(names), max(names)
    common = low[
        : next(
            (k for k, (a, b) in enumerate(zip(low, high, strict=False)) if a != b), min(len(low), len(high))
        )
    ]
    if any(name[len(common) :][:1].isalnum() for name in names):
        # In the middle of a word of one of them.
        common = re.sub(r"[^\W_]+$", "", common)
    return common.rstrip(" _-.,\u2013")


def read_clock(text: str) -> float:
    """Read 0:15.842, 15.842 or 15,842."""
    clean = text.strip().replace(",", ".").replace(MINUS, "-")
    negative = clean.startswith("-")
    minutes, colon, seconds = clean.lstrip("-").rpartition(":")
    try:
        value = float(seconds) + 60 * (int(minutes) if colon else 0)
    except ValueError as error:
        raise ParameterError(f"“{text}” is not a time; write it like 0:15.842 or 15.842.") from error
    return -value if negative else value


@contextmanager
def unchanged() -> Iterator[None]:
    """What is refused here changes nothing, and says so."""
    try:
        yield
    except ParameterError as error:
        if str(error).endswith("Nothing was changed."):
            raise
        raise ParameterError(f"{error} Nothing was changed.") from error


def read_number(text: object, what: str, least: float, most: float) -> float:
    """Read a number with decimal point or comma, with or without its unit."""
    value = number_of(text)
    if value is None:
        raise ParameterError(f"{what} must be a number, not “{text}”. Nothing was changed.")
    if not least <= value <= most:
        raise ParameterError(
            f"{what} lies between {least:g} and {most:g}, not at {value:g}. Nothing was changed."
        )
    return value


def signed_ms(value: float) -> str:
    """+24.1, −8.0, 0.0: to a tenth, a half goes up; the page writes the same (`js/views/map.js`)."""
    tenths = floor(abs(value) * 10 + 0.5)
    return f"{'' if not tenths else '+' if value > 0 else MINUS}{tenths / 10:.1f}"


def ms(value: float) -> str:
    """300.0 ms: without its sign."""
    return f"{floor(abs(value) * 10 + 0.5) / 10:.1f} ms"


def place(tempo_map: TempoMap[ClockT], quarters: float) -> str:
    """7·2.50: bar, beat. Before bar 1: lead-in −1·4."""
    index = tempo_map.bar_of(quarters + 1e-6)
    meter = tempo_map.meter_of(index)
    hundredths = floor(100 * max(0.0, quarters - tempo_map.bar_line(index)) / meter.beat_quarters + 0.5)
    if hundredths >= 100 * meter.bar_quarters / meter.beat_quarters - 1e-6:
        # What rounds to the next line is on it.
        index, hundredths = index + 1, 0
    shown = f"{1 + hundredths / 100:.2f}".rstrip("0").rstrip(".")
    bar = bar_number(index)
    return f"{bar}·{shown}" if bar > 0 else f"lead-in {MINUS}{-bar}·{shown}"


def count(number: int, one: str, many: str | None = None) -> str:
    return f"{number} {one if number == 1 else many or one + 's'}"


def listed(names: Sequence[str]) -> str:
    """Names as a sentence has them: "a", "a and b", "a, b and c"."""
    return " and ".join(part for part in (", ".join(names[:-1]), names[-1] if names else "") if part)


def bpm_range(tempo_map: TempoMap[ClockT], first_s: float, last_s: float) -> str:
    """92.4–97.1 of the bars in between, or one value."""
    beat = tempo_map.meters[0].beat_quarters
    first, last = tempo_map.bar_of(tempo_map.place(first_s)), tempo_map.bar_of(tempo_map.place(last_s))
    lines = tempo_map.to_seconds(tempo_map.bar_lines(max(first, 0), max(1, last - max(first, 0))))
    quarters = tempo_map.bar_lines(max(first, 0), max(1, last - max(first, 0)))
    values = [
        60.0 * (b - a) / (t - s) / beat
        for a, b, s, t in zip(quarters, quarters[1:], lines, lines[1:], strict=False)
    ]
    low, high = min(values), max(values)
    return f"{low:.1f}" if high - low < 0.15 else f"{low:.1f}–{high:.1f}"


def meters(tempo_map: TempoMap[ClockT]) -> str:
    """The meters of a map: "4/4", "4/4, 3/4 from bar 12", or their number where there are many."""
    changes = meter_changes(tempo_map)
    return f"{tempo_map.meters[0]}, {changes}" if changes else str(tempo_map.meters[0])


def meter_changes(tempo_map: TempoMap[ClockT]) -> str:
    """The meters after the first: "3/4 from bar 12", or how many there are; empty where there is one
    meter.
    """
    changes = tempo_map.meters[1:]
    return (
        f"with {len(changes)} changes"
        if len(changes) > 3
        else ", ".join(f"{meter} from bar {meter.bar}" for meter in changes)
    )


def first_line(seconds: float) -> str:
    """Where bar 1 lies: at 0:15.842; 6 ms before the start: what opens its file has no time before zero."""
    if -OPENS_S < seconds <= -HAIR_S:
        return f"{-1000 * seconds:.0f} ms before the start"
    return f"at {clock(seconds)}"


def map_sentence(session_map: TempoMap[SessionTimes] | None, kind: str, end_s: float) -> str:
    """The map as a sentence: "4/4, breathing 92.4–97.1, bar 1 at 0:03.214"."""
    if session_map is None:
        return "no tempo map yet"
    meter = meters(session_map)
    beat = session_map.meters[0].beat_quarters
    bar_1 = first_line(session_map.second(0.0))
    if kind == "steady":
        return f"{meter}, steady {session_map.bpm_at(0.0) / beat:.2f}, bar 1 {bar_1}"
    how = {"given": "from a file,", "edited": "edited,"}.get(kind, "breathing")
    return f"{meter}, {how} {bpm_range(session_map, max(0.0, session_map.second(0.0)), end_s)}, bar 1 {bar_1}"
