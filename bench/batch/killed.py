"""A batch killed again and again: `.venv/bin/python -m bench.batch.killed [--folder
../shared/bench/beats/open] [--kills 10] [--seed 1]`.

The command is ended with SIGKILL at random moments and started again, until it comes to its end. Every file
must have one result, equal to the byte to that of a run that nobody disturbed, and none may be done again
once it was noted as done.
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from combpace.batch.folder import KEPT

# A kill comes after up to so many tenths of the whole: a start of the command takes one of them.
FARTHEST = 3.0


def command(folder: Path, out: Path) -> list[str]:
    return [sys.executable, "-m", "combpace.cli", "batch", str(folder), "-o", str(out), "--workers", "2"]


def results(out: Path) -> dict[str, bytes]:
    return {
        path.relative_to(out).as_posix(): path.read_bytes()
        for path in sorted(out.rglob("*.json"))
        if path.name != "summary.json"
    }


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--folder", type=Path, default=Path("../shared/bench/beats/open"))
    parser.add_argument("--kills", type=int, default=10)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    chance = random.Random(options.seed)
    with tempfile.TemporaryDirectory() as scratch:
        whole, killed = Path(scratch, "whole"), Path(scratch, "killed")
        begun = time.monotonic()
        subprocess.run(command(options.folder, whole), stdout=subprocess.DEVNULL, check=False)
        undisturbed = time.monotonic() - begun
        noted: dict[str, int] = {}
        again = 0
        for number in range(options.kills):
            process = subprocess.Popen(
                command(options.folder, killed), stdout=subprocess.DEVNULL, start_new_session=True
            )
            time.sleep(chance.uniform(1.0, 1.0 + FARTHEST * undisturbed / options.kills))
            os.kill(process.pid, signal.SIGKILL)
            process.wait()
            # Its processes end with it.
            time.sleep(1.5)
            now = {path.name: path.stat().st_mtime_ns for path in (killed / KEPT).glob("*")}
            again += sum(now.get(name) != moment for name, moment in noted.items())
            noted = now
            print(f"kill {number + 1}: {len(now)} noted as done")
        subprocess.run(command(options.folder, killed), stdout=subprocess.DEVNULL, check=False)
        ours, theirs = results(whole), results(killed)
        missing, other = (
            len(ours.keys() - theirs.keys()),
            sum(ours[name] != theirs.get(name) for name in ours),
        )
        print(
            f"{len(ours)} results undisturbed in {undisturbed:.0f} s; after {options.kills} kills "
            f"{len(theirs)}"
        )
        print(f"missing {missing}, other bytes {other}, done again {again}")


if __name__ == "__main__":
    main()
