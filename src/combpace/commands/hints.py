"""What the user says of the music, as options of several commands."""

from __future__ import annotations

import argparse
import re
from typing import TYPE_CHECKING

from combpace.core.errors import ParameterError

if TYPE_CHECKING:
    from combpace.core.analysis.take import Hints


def add_hints(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--bar",
        action="append",
        default=[],
        metavar="SECONDS=BAR",
        help="this moment is the line of that bar",
    )
    parser.add_argument("--downbeat", action="append", default=[], type=float, metavar="SECONDS")
    parser.add_argument("--not-downbeat", action="append", default=[], type=float, metavar="SECONDS")
    parser.add_argument(
        "--meter",
        action="append",
        default=[],
        metavar="[SECONDS=]N/D",
        help="for the whole take, or from that downbeat on",
    )
    parser.add_argument(
        "--bpm-range",
        action="append",
        default=[],
        metavar="[FROM-TO=]LO-HI",
        help="what may be read, or only between two moments",
    )
    parser.add_argument("--steady", action="store_true", help="one tempo describes the whole take")
    parser.add_argument(
        "--one-beat",
        action="append",
        default=[],
        choices=("later", "earlier"),
        help="all bar lines are a beat off; any number",
    )
    parser.add_argument(
        "--pickup",
        action="append",
        default=[],
        type=float,
        metavar="SECONDS",
        help="this is the pickup: bar 1 is the next bar line",
    )
    parser.add_argument(
        "--meter-at-bar",
        action="append",
        default=[],
        metavar="BAR=N/D",
        help="from that bar on, as the bars are counted then",
    )


def hints_of(options: argparse.Namespace) -> Hints:
    from combpace.core.analysis.take import Hints
    from combpace.core.beats.candidates import TempoSpan
    from combpace.core.tempo.meters import parse_meter

    bars = []
    for text in options.bar:
        match = re.fullmatch(r"\s*([0-9.]+)\s*=\s*(-?[0-9]+)\s*", text)
        if not match:
            raise ParameterError(f"--bar takes SECONDS=BAR, like 3.214=1, not “{text}”.")
        bars.append((float(match[1]), int(match[2])))
    meter, meters = None, []
    for text in options.meter:
        at, is_from, name = text.rpartition("=")
        if is_from:
            meters.append(
                (
                    _seconds(at, f"--meter takes N/D or SECONDS=N/D, like 3/4 or 12.5=7/8, not “{text}”."),
                    parse_meter(name),
                )
            )
        else:
            meter = parse_meter(name)
    tempi = []
    for text in options.bpm_range:
        match = re.fullmatch(r"\s*(?:([0-9.]+)\s*-\s*([0-9.]+)\s*=)?\s*([0-9.]+)\s*-\s*([0-9.]+)\s*", text)
        refusal = f"--bpm-range takes LO-HI or FROM-TO=LO-HI, like 80-120 or 10-25=80-120, not “{text}”."
        if not match:
            raise ParameterError(refusal)
        low, high = _seconds(match[3], refusal), _seconds(match[4], refusal)
        tempi.append(
            TempoSpan(low, high, _seconds(match[1], refusal), _seconds(match[2], refusal))
            if match[1]
            else TempoSpan(low, high)
        )
    meters_at = []
    for text in options.meter_at_bar:
        match = re.fullmatch(r"\s*(-?[0-9]+)\s*=\s*([0-9]+/[0-9]+)\s*", text)
        if not match:
            raise ParameterError(f"--meter-at-bar takes BAR=N/D, like 9=3/4, not “{text}”.")
        meters_at.append((int(match[1]), parse_meter(match[2])))
    return Hints(
        tuple(bars),
        tuple(options.downbeat),
        tuple(options.not_downbeat),
        meter,
        tuple(meters),
        tuple(tempi),
        options.steady,
        beats_later=options.one_beat.count("later") - options.one_beat.count("earlier"),
        pickups=tuple(options.pickup),
        meters_at=tuple(meters_at),
    )


def _seconds(text: str, refusal: str) -> float:
    try:
        return float(text)
    except ValueError as error:
        raise ParameterError(refusal) from error


def bar_range(text: str) -> tuple[int, int]:
    """ "5-8" or "5", by number; there is no bar 0."""
    found = re.fullmatch(r"\s*(-?[0-9]{1,6})\s*(?:-\s*(-?[0-9]{1,6}))?\s*", text)
    if found is None or 0 in (bars := (int(found[1]), int(found[2] or found[1]))):
        raise ParameterError(f"--bars takes bars like 5-8, not “{text}”.")
    return bars
