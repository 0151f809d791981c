"""Tests, two modules at a time: `.venv/bin/python -m tests.at_once [--tiers main,more] [MODULE ...]`.

`python -m unittest` on each module, in processes that live on. Without --tiers those of the main tier
(`rig/tiers.py`). The last lines are unittest's own: how many ran, what failed; then what was left out, and
why. --cover (or COVER in the environment) writes which lines of ours they went through.
"""

from __future__ import annotations

import argparse
import io
import multiprocessing
import os
import resource
import sys
import tempfile
import threading
import time
import unittest
from collections import Counter, deque
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import coverage
from rig import HEARD_TOGETHER
from rig.tiers import TIERS, chosen

ROOT = Path(__file__).resolve().parents[1]
# In this order; the rest is short.
LONGEST_FIRST = ("tests.browser", "tests.test_campaign", "tests.workers", "tests.test_cli", "tests.stations")


@dataclass(frozen=True)
class Ended:
    """What one module came to. report: what unittest printed of it, without its dots. processor_s: of this
    process and of those it started and waited for, so not of the browser, which lives on.
    """

    module: str
    ran: int
    failures: int
    errors: int
    skipped: int
    seconds: float
    report: str
    processor_s: float = 0.0
    tests: tuple[tuple[float, str], ...] = ()
    why_not: tuple[str, ...] = ()


class Timed(unittest.TextTestResult):  # type: ignore[type-arg]
    """unittest's own result, and how long each test took."""

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().startTest(test)
        self._begun = time.monotonic()

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().stopTest(test)
        self.durations.append((time.monotonic() - self._begun, str(test)))

    def startTestRun(self) -> None:  # noqa: N802
        super().startTestRun()
        self.durations: list[tuple[float, str]] = []


def modules() -> list[str]:
    """Every module of tests, the longest rooms first."""
    found = [
        ".".join(path.relative_to(ROOT).with_suffix("").parts)
        for path in sorted((ROOT / "tests").rglob("test_*.py"))
    ]

    def rank(name: str) -> int:
        return next((k for k, room in enumerate(LONGEST_FIRST) if name.startswith(room)), len(LONGEST_FIRST))

    return sorted(found, key=rank)


_MEASURES: list[coverage.Coverage] = []


def measuring(data: str) -> None:
    """Note which lines this process goes through, from now on."""
    sources = [str(ROOT / "src" / "combpace")]
    _MEASURES.append(coverage.Coverage(data_file=data, data_suffix=True, source=sources, config_file=False))
    _MEASURES[0].start()


def processor_s() -> float:
    """What this process and those it waited for have used of processors so far, seconds."""
    whom = (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)
    return sum(use.ru_utime + use.ru_stime for use in map(resource.getrusage, whom))


def run(module: str, tiers: tuple[str, ...] = TIERS) -> Ended:
    """One module's tests in this process."""
    begun, used = time.monotonic(), processor_s()
    out = io.StringIO()
    runner = unittest.TextTestRunner(out, verbosity=0, resultclass=Timed)  # type: ignore[arg-type]
    result = runner.run(chosen(unittest.defaultTestLoader.loadTestsFromName(module), tiers))
    assert isinstance(result, Timed)
    for one in _MEASURES:
        one.stop()
        one.save()
        one.start()
    return Ended(
        module,
        result.testsRun,
        len(result.failures) + len(result.unexpectedSuccesses),
        len(result.errors),
        len(result.skipped),
        time.monotonic() - begun,
        # Its own sum would be counted twice.
        out.getvalue().rpartition(f"\n{'-' * 70}\nRan ")[0] + "\n" if not result.wasSuccessful() else "",
        processor_s() - used,
        tuple(result.durations),
        tuple(why for _, why in result.skipped),
    )


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("modules", nargs="*")
    parser.add_argument("--tiers", default=TIERS[0], help=f"of {', '.join(TIERS)}, with commas")
    parser.add_argument("--at-once", type=int, default=max(1, min(4, os.cpu_count() or 1)))
    parser.add_argument("--slowest", type=int, default=0, help="say which modules and tests took longest")
    parser.add_argument("--cover", default=os.environ.get("COVER", ""), metavar="FILE")
    options = parser.parse_args()
    tiers = tuple(options.tiers.split(","))
    if unknown := set(tiers) - set(TIERS):
        parser.error(f"there is no tier {', '.join(sorted(unknown))}")
    begun = time.monotonic()
    ended: list[Ended] = []
    context, file = multiprocessing.get_context("spawn"), str(Path(options.cover).resolve())
    heard = tempfile.TemporaryDirectory()
    os.environ.setdefault(HEARD_TOGETHER, heard.name)
    measured = {"initializer": measuring, "initargs": (file,)} if options.cover else {}
    left = deque(options.modules or modules())
    lock = threading.Lock()

    def work(from_the_end: bool) -> None:
        """Modules one after the other in a process that lives on; another one where it ended itself."""
        while left:
            with ProcessPoolExecutor(1, context, **measured) as pool:
                while left:
                    with lock:
                        if not left:
                            return
                        module = left.pop() if from_the_end else left.popleft()
                    try:
                        one = pool.submit(run, module, tiers).result()
                    except Exception as error:
                        one = Ended(module, 1, 0, 1, 0, 0.0, f"ERROR: {module}: {error!r}\n")
                    ended.append(one)
                    mark = "." if not one.report else f"F\n{one.report}"
                    print(mark, end="", file=sys.stderr, flush=True)
                    if not one.seconds:
                        break

    # A browser needs more than one processor: beside each module with one runs a module without, so the
    # second of two begins at the other end of the list.
    workers = [threading.Thread(target=work, args=(bool(k % 2),)) for k in range(options.at_once)]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join()
    print(file=sys.stderr)
    if options.cover:
        whole = coverage.Coverage(data_file=file, config_file=False)
        whole.combine()
        whole.save()
    for one in sorted(ended, key=lambda one: -one.seconds)[: options.slowest]:
        print(
            f"{one.seconds:7.1f} s {one.processor_s:7.1f} s of processors  {one.ran:4d}  {one.module}",
            file=sys.stderr,
        )
    tests = sorted((test for one in ended for test in one.tests), reverse=True)
    for seconds, name in tests[: options.slowest]:
        print(f"{seconds:7.1f} s  {name}", file=sys.stderr)
    ran = sum(one.ran for one in ended)
    counts = {name: sum(getattr(one, name) for one in ended) for name in ("failures", "errors", "skipped")}
    said = ", ".join(f"{name}={count}" for name, count in counts.items() if count)
    for why, count in Counter(why for one in ended for why in one.why_not).most_common():
        print(f"{count} not tried: {why}", file=sys.stderr)
    bad = counts["failures"] + counts["errors"]
    print(f"Ran {ran} tests in {time.monotonic() - begun:.1f}s\n", file=sys.stderr)
    print(f"{'FAILED' if bad else 'OK'}{f' ({said})' if said else ''}", file=sys.stderr)
    return 1 if bad or not ran else 0


if __name__ == "__main__":
    raise SystemExit(main())
