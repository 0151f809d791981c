"""Whether a wrong steady tempo is named: `.venv/bin/python -m bench.pace.wrong_tempi [--files 20]`.

A machine's beat at a known tempo in a session whose tempo is wrong by 0.01 to 2 BPM. Asked: direction, size
within 5 % or 0.002 BPM, and the first audible bar (more than 10 ms) within one bar or 3 %, or that it is
never heard in this take.
"""

from __future__ import annotations

import argparse
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from combpace.core.tempo.meters import bar_number
from combpace.session import shelf
from combpace.session.data_folder import DataFolder
from combpace.session.decisions import decide
from combpace.session.state import session_state
from combpace.settings import Settings
from combpace.stations import registry
from combpace.stations.lead_drift import AUDIBLE_MS, tempo_error
from rig.places import bring_in
from rig.sounds import struck


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--files", type=int, default=20)
    options = parser.parse_args()
    assert registry.STATIONS
    right = 0
    with tempfile.TemporaryDirectory() as folder:
        place = DataFolder(replace(Settings(), data_dir=Path(folder)))
        place.prepare()
        for seed in range(options.files):
            rng = np.random.default_rng(seed)
            bpm, beats = rng.uniform(75, 165), 4 * int(rng.integers(24, 90))
            off = float(rng.choice([-1, 1]) * np.exp(rng.uniform(np.log(0.01), np.log(2.0))))
            start = rng.uniform(0.3, 3.0)
            session = shelf.create(place, f"wrong {seed}")
            bring_in(
                place,
                session,
                struck(start + 60 / bpm * np.arange(beats), start + 60 / bpm * beats + 1, low_every=4),
                f"beat {seed}.wav",
            )
            # Bar 1 on the first stroke of the file; the tempo is wrong from there.
            act = {"bpm": bpm + off, "bar_1_s": start}
            decide(place, session, "steady", session_state(place, session).opened.revision.version, act)
            state = session_state(place, session)
            found = tempo_error(state)
            a_bar_ms = 4 * 60000.0 * (1 / bpm - 1 / (bpm + off))
            last = (beats - 1) // 4
            audible = next((k for k in range(last + 1) if abs(k * a_bar_ms) > AUDIBLE_MS), None)
            expected = None if audible is None else bar_number(audible)
            ok = (found is None) == (expected is None) or (expected is not None and expected >= last)
            if found is not None and expected is not None:
                same_size = abs(found.off_bpm - off) <= max(0.002, 0.05 * abs(off))
                ok = (
                    ok
                    and np.sign(found.off_bpm) == np.sign(off)
                    and same_size
                    and abs(found.audible_bar - expected) <= max(1, 0.03 * expected)
                )
            right += bool(ok)
            said = None if found is None else (round(found.off_bpm, 4), found.audible_bar)
            truth = f"true first audible bar {expected}{'' if ok else '  WRONG'}"
            print(f"  {bpm:.3f} BPM, {last + 1} bars, off by {off:+.4f}: said {said}, {truth}")
        place.close()
    print(f"right in all: {right} of {options.files}")


if __name__ == "__main__":
    main()
