"""The one warm process: killed, slow, too large, asked by many at once; and what is left of processes when a
server ends.
"""

import contextlib
import os
import signal
import subprocess
import threading
import time
import unittest

from combpace.core.errors import CombPaceError
from combpace.workers.warm import SlowError, Warm


def answer(what: str, value: float) -> object:
    if what == "wait":
        time.sleep(value)
    if what == "refuse":
        raise CombPaceError("This is refused.")
    if what == "fault":
        raise ZeroDivisionError("by zero")
    if what == "memory":
        return len(bytearray(int(value)))
    return os.getpid() if what == "pid" else value


class WarmTest(unittest.TestCase):
    def warm(self, **how: float) -> Warm:
        made = Warm(answer, [], **how)  # type: ignore[arg-type]
        self.addCleanup(made.close)
        return made

    def patient(self, warm: Warm) -> object:
        """Its process, asked as often as it takes."""
        end = time.monotonic() + 30
        while time.monotonic() < end:
            try:
                return warm.ask("pid", 0)
            except SlowError:
                continue
        self.fail("it never answered")

    def test_it_answers_and_passes_refusals_on(self) -> None:
        warm = self.warm()
        self.assertEqual(warm.ask("x", 3.0), 3.0)
        with self.assertRaisesRegex(CombPaceError, "This is refused"):
            warm.ask("refuse", 0)
        with self.assertRaisesRegex(CombPaceError, "by zero.*Nothing is lost"):
            warm.ask("fault", 0)
        self.assertEqual(warm.ask("pid", 0), warm.pid)

    def test_killed_while_it_answers_it_is_replaced_and_the_request_is_answered(self) -> None:
        warm = self.warm()
        first = warm.ask("pid", 0)
        killer = threading.Timer(0.3, os.kill, (first, signal.SIGKILL))
        killer.start()
        self.addCleanup(killer.join)
        begun = time.monotonic()
        self.assertEqual(warm.ask("wait", 0.8), 0.8)
        self.assertLess(time.monotonic() - begun, 4.5)
        self.assertNotEqual(warm.ask("pid", 0), first)

    def test_what_kills_it_each_time_is_given_up_and_the_next_request_goes_on(self) -> None:
        warm = self.warm()
        warm.ask("x", 0)
        stop = threading.Event()

        def kill() -> None:
            seen = set()
            while not stop.wait(0.02):
                pid = warm.pid
                if pid is not None and pid not in seen:
                    seen.add(pid)
                    with contextlib.suppress(ProcessLookupError):
                        os.kill(pid, signal.SIGKILL)

        killer = threading.Thread(target=kill)
        killer.start()
        try:
            with self.assertRaisesRegex(SlowError, "ended twice|earlier request"):
                warm.ask("wait", 3.0)
        finally:
            stop.set()
            killer.join()
        self.assertEqual(warm.ask("x", 5.0), 5.0)

    def test_no_answer_in_time_is_a_sentence_and_no_later_one_is_taken_for_it(self) -> None:
        warm = self.warm(patience_s=0.4)
        warm.start()
        begun = time.monotonic()
        with self.assertRaisesRegex(SlowError, "takes longer"):
            warm.ask("wait", 1.2)
        self.assertLess(time.monotonic() - begun, 1.0)
        with self.assertRaisesRegex(SlowError, "earlier request"):
            warm.ask("x", 7.0)
        end = time.monotonic() + 10
        while time.monotonic() < end:
            try:
                self.assertEqual(warm.ask("x", 8.0), 8.0)
                return
            except SlowError:
                continue
        self.fail("it never answered again")

    def test_one_that_hangs_is_replaced(self) -> None:
        # Long enough for a new process to begin, also on a machine that is busy.
        warm = self.warm(patience_s=0.3, most_s=5.0)
        stuck = self.patient(warm)
        with self.assertRaises(SlowError):
            warm.ask("wait", 600.0)
        self.assertNotEqual(self.patient(warm), stuck)

    def test_memory_is_limited(self) -> None:
        warm = self.warm(memory_bytes=2 * 2**30)
        with self.assertRaisesRegex(CombPaceError, "more memory"):
            warm.ask("memory", 8 * 2**30)
        self.assertEqual(warm.ask("x", 1.0), 1.0)

    def test_many_at_once_wait_no_longer_than_their_patience(self) -> None:
        warm = self.warm(patience_s=0.5)
        warm.start()
        took: list[float] = []

        def ask() -> None:
            begun = time.monotonic()
            with contextlib.suppress(SlowError):
                warm.ask("wait", 0.3)
            took.append(time.monotonic() - begun)

        threads = [threading.Thread(target=ask) for _ in range(20)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertLess(max(took), 2.5)


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
