"""Processor seconds of a command and of everything it starts: `python -m bench.cpu_seconds -- make test`.

This process adopts whatever the command leaves behind (a child subreaper, Linux only), so servers, workers
and browsers count too, also those whose parents have ended. The sum is the kernel's own and exact. The share
of each program (python, chromium, node) is read every fifth of a second while it lives: what a process does
in its last fifth is missing there.
"""

from __future__ import annotations

import argparse
import ctypes
import os
import resource
import subprocess
import sys
import threading
import time
from pathlib import Path

SUBREAPER = 36  # PR_SET_CHILD_SUBREAPER, linux/prctl.h
TICKS = os.sysconf("SC_CLK_TCK")
EVERY_S = 0.2


def adopt_orphans() -> None:
    """From now on descendants whose parents end become children of this process."""
    if ctypes.CDLL(None, use_errno=True).prctl(SUBREAPER, 1, 0, 0, 0) != 0:
        raise OSError(ctypes.get_errno(), "this system has no child subreaper")


def below(root: int) -> dict[int, tuple[str, float]]:
    """Every process below `root` that lives now: (program, processor seconds of its own)."""
    parents: dict[int, int] = {}
    found: dict[int, tuple[str, float]] = {}
    for entry in Path("/proc").iterdir():
        if not entry.name.isdigit():
            continue
        try:
            fields = (entry / "stat").read_text().rpartition(")")[2].split()
            program = (entry / "exe").readlink().name
        except OSError:
            continue
        pid = int(entry.name)
        parents[pid] = int(fields[1])
        found[pid] = (program, (int(fields[11]) + int(fields[12])) / TICKS)

    def is_below(pid: int) -> bool:
        while pid not in (0, 1, root):
            pid = parents.get(pid, 0)
        return pid == root

    return {pid: one for pid, one in found.items() if pid != root and is_below(pid)}


def measured(command: list[str]) -> tuple[int, float, float, dict[str, float]]:
    """(exit status, wall seconds, processor seconds, processor seconds of each program)."""
    adopt_orphans()
    seen: dict[tuple[int, str], float] = {}
    done = threading.Event()

    def watch() -> None:
        while not done.wait(EVERY_S):
            for pid, (program, seconds) in below(os.getpid()).items():
                seen[pid, program] = max(seconds, seen.get((pid, program), 0.0))

    watcher = threading.Thread(target=watch, daemon=True)
    watcher.start()
    begun = time.monotonic()
    status = subprocess.run(command, check=False).returncode
    wall = time.monotonic() - begun
    # What was left behind is waited for, or it would not be counted.
    while True:
        try:
            os.waitpid(-1, 0)
        except ChildProcessError:
            break
    done.set()
    watcher.join()
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    shares: dict[str, float] = {}
    for (_, program), seconds in seen.items():
        shares[program] = shares.get(program, 0.0) + seconds
    return status, wall, used.ru_utime + used.ru_stime, shares


def main() -> int:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("command", nargs=argparse.REMAINDER)
    command = [word for word in parser.parse_args().command if word != "--"]
    if not command:
        parser.error("name the command to be measured")
    status, wall, whole, shares = measured(command)
    for program, seconds in sorted(shares.items(), key=lambda one: -one[1]):
        if seconds >= 1:
            print(f"{seconds:8.0f} s  {program}", file=sys.stderr)
    print(f"{whole:8.0f} s of processors in {wall:.0f} s, exit {status}", file=sys.stderr)
    return status


if __name__ == "__main__":
    raise SystemExit(main())
