"""Whether this checkout hears and stretches as another commit does, to the bit: `.venv/bin/python -m
bench.same REV [--but FIELD,FIELD]`.

REV is checked out into a temporary worktree and runs on this machine, in the same Python. Compared are what
`combpace analyse --json` says of the ITEMS of ../shared/bench/beats/open, and the samples that the CLIPS of
../shared/bench/stretch come to (Debian's fluidsynth, fluid-soundfont-gm). --but names JSON fields that a
change is meant to touch. Exit status 1 where anything differs; nothing is kept.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from rig.shared import BENCH, needed

ROOT = Path(__file__).resolve().parents[1]
FONT = Path("/usr/share/sounds/sf2/FluidR3_GM.sf2")
# Each kind of playing once; the three mics are heard as one performance.
ITEMS = (
    "a_accel1", "a_band1", "a_drift2", "a_half1", "a_intro2_pickup", "a_odd3_44to34", "a_piano1",
    "a_picked1", "a_prog1", "a_sparse1",
    "a_strum2", "a_multi1_kick a_multi1_snare a_multi1_oh",
)  # fmt: skip
# The clips that each method is for, with one map that squeezes and one that spreads.
CLIPS = {"cut": "a", "strike": "ah", "chord": "bj", "line": "cf"}
MAPS = ("m1", "m3")

# Runs in either tree: reads nothing of it but the names that every version keeps.
CHILD = """
import hashlib, importlib, io, json, os, sys
from contextlib import redirect_stdout
from pathlib import Path
import numpy as np
from combpace.cli import main
from combpace.core.audio import Audio
from combpace.core.stretch import stretch
try:
    from combpace.core.stretch import TimeMap
except ImportError:
    from combpace.core.timemap import TimeMap
shared, wanted = Path(sys.argv[1]), json.loads(sys.argv[2])
said = {}
for item in wanted["items"]:
    out = io.StringIO()
    with redirect_stdout(out):
        main(["analyse", *(str(shared / "beats" / "open" / (name + ".flac")) for name in item.split()),
        "--json", "-"])
    said[item] = json.loads(out.getvalue())
if wanted["clips"]:
    sys.path.insert(0, str(shared / "stretch"))
    bench = importlib.import_module("bench")
    made = bench.all_clips(sorted({clip for clips in wanted["clips"].values() for clip in clips}))
    for method, clips in wanted["clips"].items():
        for clip in clips:
            for way in wanted["maps"]:
                source, target = bench.make_map(made[clip], way)
                sound = stretch(Audio(np.ascontiguousarray(made[clip].x.T), bench.SR), TimeMap(source,
                target), method).samples
                digest = hashlib.sha256(np.ascontiguousarray(sound).tobytes()).hexdigest()
                said[f"{method} {clip} {way}"] = digest
json.dump(said, sys.stdout)
"""


def said_by(tree: Path, *, clips: bool) -> dict[str, Any]:
    """What a checkout says of every item, and a digest of what it makes of every clip."""
    wanted = json.dumps({"items": ITEMS, "clips": CLIPS if clips else {}, "maps": MAPS})
    environment = os.environ | {
        "PYTHONPATH": str(tree / "src"),
        "BENCH_SEED": "0",
        "BENCH_BPM": "96",
        "BENCH_SF2": str(FONT),
        "OMP_NUM_THREADS": "1",
    }
    done = subprocess.run(
        [sys.executable, "-c", CHILD, str(needed(BENCH)), wanted],
        cwd=tree,
        env=environment,
        capture_output=True,
        text=True,
    )
    if done.returncode:
        raise SystemExit(f"{tree} did not run:\n{done.stderr[-2000:]}")
    found: dict[str, Any] = json.loads(done.stdout[done.stdout.index("{") :])
    return found


def without(value: Any, fields: set[str]) -> Any:
    """A document without some of its fields, wherever they stand."""
    if isinstance(value, dict):
        return {key: without(inner, fields) for key, inner in value.items() if key not in fields}
    return [without(inner, fields) for inner in value] if isinstance(value, list) else value


def main() -> int:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("rev", metavar="REV")
    parser.add_argument(
        "--but",
        default="",
        metavar="FIELDS",
        help="JSON fields that are meant to differ, with commas between them",
    )
    options = parser.parse_args()
    fields = {name for name in options.but.split(",") if name}
    clips = FONT.is_file()
    begun = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="combpace-same-") as folder:
        tree = Path(folder) / "tree"
        subprocess.run(
            ["git", "-C", str(ROOT), "worktree", "add", "--quiet", "--detach", str(tree), options.rev],
            check=True,
        )
        try:
            with ThreadPoolExecutor(2) as pool:
                old, new = pool.map(lambda one: said_by(one, clips=clips), (tree, ROOT))
        finally:
            subprocess.run(["git", "-C", str(ROOT), "worktree", "remove", "--force", str(tree)], check=True)
    differing = [name for name in old if without(old[name], fields) != without(new.get(name), fields)]
    for name in differing:
        before, after = old[name], new.get(name)
        which = (
            [key for key in before if before[key] != after.get(key)]
            if isinstance(before, dict) and isinstance(after, dict)
            else ["samples"]
        )
        print(f"differs: {name}: {', '.join(which)}")
    heard, made = len(ITEMS), len(old) - len(ITEMS)
    print(
        f"{heard} takes heard, {made} clips stretched, {len(differing)} differ from {options.rev} "
        f"({time.monotonic() - begun:.0f} s)"
    )
    if not made:
        print(f"No clip was stretched: {FONT} is not there (apt-get install fluidsynth fluid-soundfont-gm).")
    return 1 if differing or not made else 0


if __name__ == "__main__":
    sys.exit(main())
