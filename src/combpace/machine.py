"""What differs between Linux, macOS and Windows: locks, limits of memory, living processes, how one starts.

Nothing else in the program asks which system it runs on. What a system has not is left out here, and said.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import psutil
from filelock import FileLock, Timeout

# Names the way in which processes start, where it is not to be the system's own: forkserver or spawn.
START_VARIABLE = "COMBPACE_START"


class LockedError(Exception):
    """Another process holds the lock."""


@contextlib.contextmanager
def locked(path: Path) -> Iterator[None]:
    """Hold a lock that ends with this process, however that ends. Raises LockedError at once where another
    holds it.

    path  a file that holds nothing; it stays
    """
    lock = FileLock(path, timeout=0)
    try:
        lock.acquire()
    except Timeout as error:
        raise LockedError(str(path)) from error
    try:
        yield
    finally:
        lock.release()


def keep_private() -> int:
    """What is written from now on is for this user alone, where the system knows that. Returns what was."""
    return os.umask(0o077)


def limit_memory(most_bytes: int) -> bool:
    """Let this process have no more address space. Returns whether this system can (Windows cannot)."""
    try:
        import resource
    except ImportError:
        return False
    try:
        resource.setrlimit(resource.RLIMIT_AS, (most_bytes, most_bytes))
    except (ValueError, OSError):
        # macOS refuses limits below what is mapped already.
        return False
    return True


def limit_processor(most_s: int) -> bool:
    """Let this process take no more processor seconds: it is ended then. Returns whether this system can."""
    try:
        import resource
    except ImportError:
        return False
    resource.setrlimit(resource.RLIMIT_CPU, (most_s, most_s + 1))
    return True


def is_alive(pid: int) -> bool:
    """Whether a process runs. One that ended and was not waited for does not."""
    try:
        return bool(psutil.Process(pid).status() != psutil.STATUS_ZOMBIE)
    except (psutil.NoSuchProcess, ValueError, OverflowError):
        return False
    except psutil.AccessDenied:
        # It is somebody else's, so it is there.
        return True


def starting(preload: Sequence[str] | None = ()) -> Any:
    """A context: processes start from a server that has `preload` imported, or anew where there is none.
    None: from the server that runs, whatever it has imported.
    """
    asked = os.environ.get(START_VARIABLE, "")
    ways = multiprocessing.get_all_start_methods()
    way = asked if asked in ways else "forkserver" if "forkserver" in ways else "spawn"
    context = multiprocessing.get_context(way)
    if way == "forkserver" and preload is not None:
        context.set_forkserver_preload(list(preload))
    return context
