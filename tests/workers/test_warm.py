"""The one warm process: killed, slow, too large, asked by many at once; and what is left of processes when a
server ends.
"""

import contextlib
import os
import signal
import tempfile
import threading
import time
import unittest
from pathlib import Path
from typing import Any

from combpace.core.errors import CombPaceError
from combpace.workers.warm import SlowError, Warm
from rig.waiting import HANG_S, until


def answer(what: str, value: Any) -> object:
    if what == "wait":
        time.sleep(value)
    if what == "until":
        until(Path(str(value)).exists)
    if what == "refuse":
        raise CombPaceError("This is refused.")
    if what == "fault":
        raise ZeroDivisionError("by zero")
    if what == "memory":
        return len(bytearray(int(value)))
    return os.getpid() if what == "pid" else value


class WarmTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def warm(self, **how: float) -> Warm:
        made = Warm(answer, [], **{"patience_s": HANG_S, **how})  # type: ignore[arg-type]
        self.addCleanup(made.close)
        return made

    def patient(self, warm: Warm) -> object:
        """Its process, asked as often as it takes."""
        return self.answered(warm, "pid", 0)

    def answered(self, warm: Warm, *request: object) -> object:
        """An answer, asked for as often as it takes."""

        def ask() -> object:
            with contextlib.suppress(SlowError):
                return [warm.ask(*request)]
            return None

        return until(ask, f"an answer to {request}")[0]  # type: ignore[index]

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
        self.assertEqual(warm.ask("wait", 0.8), 0.8)
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
        warm, done = self.warm(patience_s=0.4), self.folder / "done"
        self.patient(warm)
        with self.assertRaisesRegex(SlowError, "takes longer"):
            warm.ask("until", str(done))
        with self.assertRaisesRegex(SlowError, "earlier request"):
            warm.ask("x", 7.0)
        done.touch()
        self.assertEqual(self.answered(warm, "x", 8.0), 8.0)

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
        warm, done = self.warm(patience_s=0.5), self.folder / "done"
        self.patient(warm)
        ended: list[str] = []

        def ask() -> None:
            try:
                warm.ask("until", str(done))
            except SlowError as error:
                ended.append(str(error))

        threads = [threading.Thread(target=ask) for _ in range(20)]
        for thread in threads:
            thread.start()
        # Each gives up by itself: what they wait for comes only afterwards.
        for thread in threads:
            thread.join(HANG_S)
        self.assertEqual(len(ended), 20)
        done.touch()
        self.assertEqual(self.answered(warm, "x", 1.0), 1.0)
