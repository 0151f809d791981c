"""All tests, two modules at a time: `.venv/bin/python -m tests.at_once [--cover FILE] [MODULE ...]`.

`python -m unittest` on each module, in processes that live on; those that drive a browser or kill workers
begin first, as they are the longest. The last lines are unittest's own: how many ran, what failed. --cover
(or COVER in the environment) writes which lines of the application these processes went through.
"""

from __future__ import annotations

import argparse
import io
import multiprocessing
import os
import sys
import time
import unittest
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from pathlib import Path

import coverage

ROOT = Path(__file__).resolve().parents[1]
# Begun in this order; the rest is short.
LONGEST_FIRST = ("tests.browser", "tests.test_campaign", "tests.workers", "tests.test_cli", "tests.stations")


@dataclass(frozen=True)
class Ended:
    """What one module came to. report: what unittest printed of it, without its dots."""

    module: str
    ran: int
    failures: int
    errors: int
    skipped: int
    seconds: float
    report: str
    tests: tuple[tuple[float, str], ...] = ()


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


def run(module: str) -> Ended:
    """One module's tests in this process."""
    begun = time.monotonic()
    out = io.StringIO()
    runner = unittest.TextTestRunner(out, verbosity=0, resultclass=Timed)  # type: ignore[arg-type]
    result = runner.run(unittest.defaultTestLoader.loadTestsFromName(module))
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
        out.getvalue() if not result.wasSuccessful() else "",
        tuple(result.durations),
    )


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("modules", nargs="*")
    parser.add_argument("--at-once", type=int, default=max(1, min(4, os.cpu_count() or 1)))
    parser.add_argument("--slowest", type=int, default=0, help="say which modules and tests took longest")
    parser.add_argument("--cover", default=os.environ.get("COVER", ""), metavar="FILE")
    options = parser.parse_args()
    begun = time.monotonic()
    ended: list[Ended] = []
    context, file = multiprocessing.get_context("spawn"), str(Path(options.cover).resolve())
    measured = {"initializer": measuring, "initargs": (file,)} if options.cover else {}
    with ProcessPoolExecutor(options.at_once, context, **measured) as pool:
        waiting = {pool.submit(run, module): module for module in options.modules or modules()}
        for future in as_completed(waiting):
            try:
                one = future.result()
            except Exception as error:
                one = Ended(waiting[future], 1, 0, 1, 0, 0.0, f"ERROR: {waiting[future]}: {error!r}\n")
            ended.append(one)
            mark = "." if not one.report else "F"
            print(mark if mark == "." else f"{mark}\n{one.report}", end="", file=sys.stderr, flush=True)
    print(file=sys.stderr)
    if options.cover:
        whole = coverage.Coverage(data_file=file, config_file=False)
        whole.combine()
        whole.save()
    for one in sorted(ended, key=lambda one: -one.seconds)[: options.slowest]:
        print(f"{one.seconds:7.1f} s  {one.ran:4d}  {one.module}", file=sys.stderr)
    for seconds, name in sorted((test for one in ended for test in one.tests), reverse=True)[
        : options.slowest
    ]:
        print(f"{seconds:7.1f} s  {name}", file=sys.stderr)
    ran = sum(one.ran for one in ended)
    counts = {name: sum(getattr(one, name) for one in ended) for name in ("failures", "errors", "skipped")}
    said = ", ".join(f"{name}={count}" for name, count in counts.items() if count)
    bad = counts["failures"] + counts["errors"]
    print(f"Ran {ran} tests in {time.monotonic() - begun:.1f}s\n", file=sys.stderr)
    print(f"{'FAILED' if bad else 'OK'}{f' ({said})' if said else ''}", file=sys.stderr)
    return 1 if bad or not ran else 0


if __name__ == "__main__":
    raise SystemExit(main())
