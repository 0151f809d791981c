"""Commands for tempo maps: `tidy`, `convert`."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    pass

Progress = Callable[[], Callable[[str, float], None]]


def add(commands: Any, progress: Progress) -> None:
    """Put them into the parser."""
    tidy = commands.add_parser(
        "tidy", help="the fewest tempo changes that keep every bar line where it is, within some milliseconds"
    )
    tidy.add_argument("map", type=Path, metavar="MAP.mid|.json|.csv|.txt")
    tidy.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.mid|.json|.csv|.txt")
    tidy.add_argument("--within-ms", type=float, default=10.0, metavar="MS")
    tidy.add_argument("--ramps", action="store_true", help="tempi may run in straight lines; else steps")
    tidy.add_argument(
        "--on-beats", action="store_true", help="tempi may change on every beat; else on bar lines"
    )
    tidy.set_defaults(run=_tidy)

    convert = commands.add_parser("convert", help="a tempo map from one form into another")
    convert.add_argument("map", type=Path, metavar="MAP.mid|.json|.csv|.txt")
    convert.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.mid|.json|.csv|.txt")
    convert.set_defaults(run=_convert)


def _tidy(options: argparse.Namespace) -> int:
    from combpace.batch.maps import tidy_map

    print(
        tidy_map(options.map, options.out, options.within_ms, ramps=options.ramps, on_beats=options.on_beats)
    )
    return 0


def _convert(options: argparse.Namespace) -> int:
    from combpace.batch.maps import convert_map

    print(convert_map(options.map, options.out))
    return 0
