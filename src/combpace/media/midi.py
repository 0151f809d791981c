"""Tempo maps as standard MIDI files (type 1: tempo, time signatures, markers), and back.

Tick 0 is the session's zero. What lies before the first bar line after it becomes one bar of a partial meter,
as long as the nearest sixteenth allows, its tempo chosen so that the line falls on its second exactly. Tempo
is whole microseconds per quarter (MIDI 1.0, Standard MIDI Files, FF 51 03), so each event carries the
rounding of those before it.
"""

from __future__ import annotations

import io
import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import mido
import numpy as np

from combpace.core.clocks import SessionTimes
from combpace.core.errors import MediaError, ParameterError
from combpace.core.parts.part import DRUMS, Heard
from combpace.core.tempo.map import Knot, TempoMap
from combpace.core.tempo.meters import Meter, bar_number
from combpace.media.writing import put_bytes

TICKS_PER_QUARTER = 960
US = 1_000_000
MAX_US_PER_QUARTER = 0xFFFFFF
BAR_1_MARKER = "bar 1"
# Events of one file, and bytes.
MOST_EVENTS, MOST_MIDI_BYTES = 300_000, 32_000_000
# The steps of a ramp lie this near to it.
RAMP_OFF_S = 0.00005


@dataclass(frozen=True, slots=True)
class _Plan:
    """Ticks and their true seconds, and the bars that the ticks lie in."""

    ticks: list[int]
    seconds: list[float]
    signatures: list[tuple[int, int, int]]
    bar_1_tick: int | None
    bars: list[tuple[int, int]]


def us_per_quarter(bpm: float) -> int:
    """Whole microseconds per quarter note, as a tempo event holds them."""
    if not bpm > 0:
        raise ParameterError(f"A tempo is above 0 BPM, not {bpm!r}.")
    return min(MAX_US_PER_QUARTER, max(1, round(60 * US / bpm)))


def write_map(tempo_map: TempoMap[SessionTimes], end_s: float, path: Path, *, markers: bool = False) -> None:
    """Write a map from session time 0 to `end_s`; markers: one at every bar line, else at bar 1 alone.

    Bound: bar lines lie within 0.1 ms + 0.5 µs per quarter since the last tempo event.
    """
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_QUARTER)
    file.tracks.append(_map_track(_plan(tempo_map, max(end_s, 0.1)), markers))
    _save(file, path)


def write_parts(
    tempo_map: TempoMap[SessionTimes], end_s: float, parts: Sequence[tuple[str, Sequence[Heard]]], path: Path
) -> None:
    """Write parts on a map: type 1, the map's track first, then a track for each part. What lies before
    session time 0 is left out.

    parts   (name, notes as they sound); ticks are those of the map's track, so that notes and bar lines agree
    """
    plan = _plan(tempo_map, max(end_s, 0.1, *(note.end_s for _, notes in parts for note in notes)))
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_QUARTER)
    file.tracks.append(_map_track(plan))
    for name, notes in parts:
        file.tracks.append(_part_track(name, notes, plan))
    _save(file, path)


def _part_track(name: str, notes: Sequence[Heard], plan: _Plan) -> mido.MidiTrack:
    sounding = [note for note in notes if note.start_s >= -1e-9]
    ends = (
        np.interp(
            [moment for note in sounding for moment in (note.start_s, note.end_s)], plan.seconds, plan.ticks
        )
        if sounding
        else np.zeros(0)
    )
    events: list[tuple[int, int, mido.Message]] = []
    programs: dict[int, int] = {}
    for note, start, stop in zip(sounding, ends[::2], ends[1::2], strict=True):
        begin = round(float(start))
        if programs.get(note.channel) != note.program and note.channel != DRUMS:
            events.append(
                (begin, 1, mido.Message("program_change", channel=note.channel, program=note.program))
            )
            programs[note.channel] = note.program
        events.append(
            (begin, 2, mido.Message("note_on", channel=note.channel, note=note.key, velocity=note.velocity))
        )
        # What ends on a tick is let go before what begins there.
        events.append(
            (
                max(begin + 1, round(float(stop))),
                0,
                mido.Message("note_off", channel=note.channel, note=note.key, velocity=0),
            )
        )
    track, now = (
        mido.MidiTrack(
            [mido.MetaMessage("track_name", name=name.encode("latin-1", "replace").decode("latin-1"))]
        ),
        0,
    )
    for tick, _, message in sorted(events, key=lambda event: event[:2]):
        track.append(message.copy(time=tick - now))
        now = tick
    track.append(mido.MetaMessage("end_of_track", time=0))
    return track


def _map_track(plan: _Plan, markers: bool = False) -> mido.MidiTrack:
    track = mido.MidiTrack()
    events: list[tuple[int, int, mido.MetaMessage]] = [
        (0, 0, mido.MetaMessage("track_name", name="tempo map"))
    ]
    for tick, numerator, denominator in plan.signatures:
        events.append(
            (tick, 1, mido.MetaMessage("time_signature", numerator=numerator, denominator=denominator))
        )
    if markers:
        events += [(tick, 3, mido.MetaMessage("marker", text=f"bar {number}")) for tick, number in plan.bars]
    elif plan.bar_1_tick is not None:
        events.append((plan.bar_1_tick, 3, mido.MetaMessage("marker", text=BAR_1_MARKER)))
    reached = 0.0
    last_tempo = 0
    for a, b, until in zip(plan.ticks, plan.ticks[1:], plan.seconds[1:], strict=False):
        quarters = (b - a) / TICKS_PER_QUARTER
        tempo = us_per_quarter(60 * quarters / max(until - reached, 1e-9))
        reached += tempo * quarters / US
        if tempo != last_tempo:
            events.append((a, 2, mido.MetaMessage("set_tempo", tempo=tempo)))
        last_tempo = tempo
    now = 0
    for tick, _, message in sorted(events, key=lambda event: event[:2]):
        track.append(message.copy(time=tick - now))
        now = tick
    track.append(mido.MetaMessage("end_of_track", time=max(0, plan.ticks[-1] - now)))
    return track


def _plan(tempo_map: TempoMap[SessionTimes], end_s: float) -> _Plan:
    index = tempo_map.bar_of(tempo_map.place(0.0))
    if tempo_map.second(tempo_map.bar_line(index)) < -1e-7:
        index += 1
    # A first bar line within a few ticks of zero is zero's own.
    line_s = tempo_map.second(tempo_map.bar_line(index))
    ticks, seconds = [0], [0.0]
    signatures: list[tuple[int, int, int]] = []
    start_tick = 0
    if line_s > 1e-6:
        sixteenths, points = _led_in(tempo_map, index, line_s)
        start_tick = sixteenths * TICKS_PER_QUARTER // 4
        ticks += [tick for tick, _ in points]
        seconds += [second for _, second in points]
        signatures += _lead_in(
            sixteenths, tempo_map.meters[0] if index <= 0 else tempo_map.meter_of(index - 1)
        )
    line_quarters = tempo_map.bar_line(index)

    def tick_of(quarters: float) -> int:
        return start_tick + round((quarters - line_quarters) * TICKS_PER_QUARTER)

    last_index = max(index + 1, tempo_map.bar_of(tempo_map.place(end_s)) + 1)
    places = {tick_of(place) for place in _turns(tempo_map)} | {tick_of(tempo_map.bar_line(last_index))}
    for tick in sorted(places):
        if (
            ticks[-1] + (0 if tempo_map.has_ramps else TICKS_PER_QUARTER // 16)
            < tick
            <= tick_of(tempo_map.bar_line(last_index))
        ):
            ticks.append(tick)
            seconds.append(tempo_map.second(line_quarters + (tick - start_tick) / TICKS_PER_QUARTER))
    meter = None
    lines = [(bar, tempo_map.bar_line(bar)) for bar in range(index, last_index)]
    bars = [(tick_of(line), bar_number(bar)) for bar, line in lines if tempo_map.second(line) < end_s]
    for bar in range(index, last_index):
        if tempo_map.meter_of(bar) != meter:
            meter = tempo_map.meter_of(bar)
            signatures.append((tick_of(tempo_map.bar_line(bar)), meter.numerator, meter.denominator))
    bar_1 = tick_of(0.0) if index <= 0 <= last_index else None
    return _Plan(ticks, seconds, signatures, bar_1, bars)


def _led_in(
    tempo_map: TempoMap[SessionTimes], index: int, line_s: float
) -> tuple[int, list[tuple[int, float]]]:
    """What lies between 0 and the first bar line after it: (its length in sixteenths, (tick, second) of its
    beats and of that line).

    Beats keep their own times; only what lies before the first of them takes the odd length.
    """
    line, start = tempo_map.bar_line(index), tempo_map.place(0.0)
    inside = [knot for knot in tempo_map.knots if 1e-3 < knot.time_s < line_s - 1e-3]
    if inside:
        beat = tempo_map.meters[0].beat_quarters
        rest = line - inside[0].quarters
        whole = abs(rest / beat - round(rest / beat)) < 0.02
        rest = round(rest / beat) * beat if whole else round(rest * 4) / 4
        sixteenths = round(rest * 4) + max(1, round((inside[0].quarters - start) * 4))
    else:
        sixteenths = max(1, round((line - start) * 4))
    while line_s / (sixteenths / 4) > MAX_US_PER_QUARTER / US:
        sixteenths += 1
    start_tick = sixteenths * TICKS_PER_QUARTER // 4
    points: list[tuple[int, float]] = []
    for knot in inside:
        tick = start_tick - round((line - knot.quarters) * TICKS_PER_QUARTER)
        if tick > (points[-1][0] if points else 0) + TICKS_PER_QUARTER // 16:
            points.append((tick, knot.time_s))
    return sixteenths, [*points, (start_tick, line_s)]


def _turns(tempo_map: TempoMap[SessionTimes]) -> list[float]:
    """Where a tempo event is needed: every knot, and in a ramp so many steps that nothing lies farther than
    RAMP_OFF_S from it.
    """
    start, end = tempo_map.span_ends_bpm
    places: list[float] = [float(tempo_map.quarters[0])]
    for a, b, low, high in zip(tempo_map.quarters, tempo_map.quarters[1:], start, end, strict=False):
        # A chord of a curve lies at most h^2 / 8 of its second derivative beside it; here that is 60 (high -
        # low) / (b - a) / tempo^2.
        bow = 60.0 * abs(high - low) / (b - a) / min(low, high) ** 2
        steps = int(np.ceil((b - a) / np.sqrt(8.0 * RAMP_OFF_S / bow))) if bow > 0 else 1
        places += [float(place) for place in np.linspace(a, b, steps + 1)[1:]]
    return places


def _lead_in(sixteenths: int, meter: Meter) -> list[tuple[int, int, int]]:
    """Time signatures of the lead-in: one partial bar first, then whole bars."""
    bar = round(meter.bar_quarters * 4)
    partial = sixteenths % bar
    unit = TICKS_PER_QUARTER // 4
    made = []
    if partial:
        made.append((0, partial // 4, 4) if partial % 4 == 0 else (0, partial, 16))
    if sixteenths >= bar:
        made.append((partial * unit, meter.numerator, meter.denominator))
    return made


def too_much(path: Path, called: str, what: str) -> None:
    """Raises MediaError where a file holds more events than any that people make, before it is read: each
    becomes an object that is hundreds of times as large. what: what was not done, "imported".
    """
    if not path.is_file():
        return
    if path.stat().st_size > MOST_MIDI_BYTES or _events(path.read_bytes()) > MOST_EVENTS:
        raise MediaError(
            f"“{called}” holds more than {MOST_EVENTS:,} events, which no MIDI file of music does. "
            f"Nothing was {what}."
        )


def _events(data: bytes) -> int:
    """How many events the tracks of a file hold, counted as far as MOST_EVENTS; of a damaged track as many as
    can be told apart.
    """
    count, at, size = 0, 14, len(data)
    while at + 8 <= size and count <= MOST_EVENTS:
        end = min(size, at + 8 + int.from_bytes(data[at + 4 : at + 8], "big"))
        at, status = at + 8, 0
        while at < end and count <= MOST_EVENTS:
            while at < end and data[at] & 0x80:
                at += 1
            at += 1
            if at >= end:
                break
            if data[at] & 0x80:
                status, at = data[at], at + 1
            kind = status & 0xF0
            if status == 0xFF or kind == 0xF0:
                at += 1 if status == 0xFF else 0
                length = 0
                while at < end:
                    length = length << 7 | data[at] & 0x7F
                    at += 1
                    if not data[at - 1] & 0x80:
                        break
                at += length
            else:
                at += 1 if kind in (0xC0, 0xD0) else 2
            count += 1
        at = end
    return count


def read_map(path: Path) -> TempoMap[SessionTimes]:
    """Read tempo events and time signatures; bar 1 is where a marker says so, else at tick 0.

    Raises MediaError for anything that is not a standard MIDI file with quarter-note timing.
    """
    too_much(path, path.name, "changed")
    try:
        file = mido.MidiFile(path)
    except (OSError, EOFError, ValueError, KeyError, IndexError, TypeError, OverflowError) as error:
        raise MediaError(
            f"“{path.name}” is not a standard MIDI file that can be read. Nothing was changed."
        ) from error
    if file.ticks_per_beat <= 0 or file.ticks_per_beat >= 0x8000:
        raise MediaError(
            f"“{path.name}” counts in frames, not in quarter notes; export it with quarter-note timing."
        )
    tempi: dict[int, int] = {}
    signatures: dict[int, tuple[int, int]] = {}
    bar_1_tick: int | None = None
    last = 0
    for track in file.tracks:
        now = 0
        for message in track:
            now += message.time
            if message.type == "set_tempo":
                tempi[now] = message.tempo
            elif message.type == "time_signature":
                signatures[now] = (message.numerator, message.denominator)
            elif message.type == "marker" and message.text == BAR_1_MARKER:
                bar_1_tick = now
        last = max(last, now)
    per = file.ticks_per_beat
    tempi.setdefault(0, 500_000)  # 120 BPM where nothing is said (MIDI 1.0, Standard MIDI Files)
    origin = bar_1_tick or 0
    ticks = sorted(tempi)
    seconds = np.concatenate(
        [[0.0], np.cumsum([tempi[a] * (b - a) / per / US for a, b in itertools.pairwise(ticks)])]
    )
    end = max(last, ticks[-1] + per * 4)
    knots = [Knot(float(second), (tick - origin) / per) for tick, second in zip(ticks, seconds, strict=True)]
    knots.append(
        Knot(float(seconds[-1] + tempi[ticks[-1]] * (end - ticks[-1]) / per / US), (end - origin) / per)
    )
    return TempoMap(tuple(knots), _meters(signatures, origin, per))


def _meters(signatures: dict[int, tuple[int, int]], origin: int, per: int) -> tuple[Meter, ...]:
    """Meters from bar 1 on; one that stands before bar 1 holds there too."""
    before = [value for tick, value in sorted(signatures.items()) if tick <= origin]
    numerator, denominator = before[-1] if before else (4, 4)
    meters = [Meter(1, numerator, denominator)]
    index, at = 0, float(origin)
    for tick, (top, bottom) in sorted(signatures.items()):
        if tick <= origin:
            continue
        index += max(0, round((tick - at) / (meters[-1].bar_quarters * per)))
        at = tick
        if (top, bottom) != (meters[-1].numerator, meters[-1].denominator) and index > 0:
            meters.append(Meter(bar_number(index), top, bottom))
    return tuple(meters)


def _save(file: mido.MidiFile, path: Path) -> None:
    data = io.BytesIO()
    file.save(file=data)
    put_bytes(path, data.getvalue())
