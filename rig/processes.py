"""Processes of this machine, as `ps` has them."""

from __future__ import annotations

import subprocess


def descendants(pid: int) -> set[int]:
    """All processes below one."""
    table = subprocess.run(["ps", "-eo", "pid=,ppid="], capture_output=True, text=True, check=True).stdout
    below: dict[int, list[int]] = {}
    for line in table.splitlines():
        child, parent = map(int, line.split())
        below.setdefault(parent, []).append(child)
    found, todo = set(), [pid]
    while todo:
        for child in below.get(todo.pop(), []):
            found.add(child)
            todo.append(child)
    return found


def alive(pids: set[int]) -> set[int]:
    """Those of them that still run; what has ended and is not waited for yet does not count."""
    found = set()
    for pid in pids:
        state = subprocess.run(
            ["ps", "-o", "stat=", "-p", str(pid)], capture_output=True, text=True, check=False
        ).stdout.strip()
        if state and not state.startswith("Z"):
            found.add(pid)
    return found
