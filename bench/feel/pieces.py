"""How soon a change of pieces is heard: `.venv/bin/python -m bench.feel.pieces [--data DIR]`.

The demo is built into DIR (a temporary folder without it; 40 s). Its loop is cut in all of its rounds, its
kit of four mics at all strokes. Times in ms: a piece moved by hand until the decision is kept, and until two
seconds of it are there; the same of the kit; what a page draws from; a cut that is only tried; half speed.
Asked: heard within 150 ms. Nothing here asserts.
"""

from __future__ import annotations

import argparse
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from combpace.drawing import picture
from combpace.playback import laid
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import decide
from combpace.session.state import session_state
from combpace.settings import Settings
from combpace.stations import registry  # noqa: F401 - registers every decision
from combpace.stations.takes.demo import build

ROUNDS = 5


def timed(run: Callable[[], Any]) -> float:
    """Milliseconds."""
    begun = time.perf_counter()
    run()
    return 1000.0 * (time.perf_counter() - begun)


def measure(folder: Path) -> None:
    place = DataFolder(replace(Settings(), data_dir=folder))
    place.prepare()
    session = build(place)

    def act(name: str, **args: object) -> None:
        decide(place, session, name, place.open(session).revision.version, args)

    takes = session_state(place, session).document.takes
    loop, kit = (
        next(take.id for take in takes if take.kind == "loop"),
        next(take.id for take in takes if take.bundle),
    )
    act("cut-and-lay", take=loop, at="onsets", lay="1/8")
    print(f"four mics cut: {timed(lambda: act('cut-and-lay', take=kit, at='onsets', lay='1/8')):.0f} ms")
    rows = []
    for turn in range(ROUNDS):
        moved = timed(partial(act, "piece-move", take=loop, number=50 + turn, quarters=30.0 + turn))
        seen = session_state(place, session)
        heard = [timed(partial(laid.segment, seen, take, 48_000, 5, 1.0)) for take in (loop, kit)]
        rows.append((moved, *heard, timed(partial(picture.picture, seen, loop))))
    counts = [len(session_state(place, session).document.pieces[take].pieces) for take in (loop, kit)]
    for name, values in zip(
        ("moved", f"heard, {counts[0]} pieces", f"heard, kit of {counts[1]}", "picture"),
        np.array(rows).T,
        strict=True,
    ):
        print(f"{name}: {np.median(values):.0f} ms (to {values.max():.0f})")
    seen = session_state(place, session)
    version = place.open(session).revision.version
    tried: list[Any] = []
    args = {"take": loop, "at": "onsets", "lay": "1/16"}
    print(f"a cut tried: {timed(lambda: tried.append(laid.tried(seen, version, args))):.0f} ms")
    print(f"its sound: {timed(lambda: laid.segment(tried[0], loop, 48_000, 5, 1.0)):.0f} ms")
    first, later = (timed(partial(laid.segment, seen, loop, 48_000, number, 0.5)) for number in (5, 6))
    print(f"half speed, first: {first:.0f} ms, then {later:.0f} ms")
    place.close()


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--data", type=Path)
    given = parser.parse_args().data
    if given is not None:
        measure(given)
        return
    with tempfile.TemporaryDirectory() as name:
        measure(Path(name))


if __name__ == "__main__":
    main()
