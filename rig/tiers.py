"""Which tests run when.

main   `make test`: everything without a browser, and with one the main path of every station
more   `make test-all` beside them: the rest of what a browser shows
soak   `make soak`, before an issue is closed: what kills, waits, or repeats elsewhere what is tested here

A test says so of itself, or its class does; who says nothing is of the main tier.
"""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from typing import TypeVar

TIERS = ("main", "more", "soak")
_SAID = "tier"

Marked = TypeVar("Marked")


def main(test: Marked) -> Marked:
    """Mark a test of a class of another tier as one of the main tier."""
    setattr(test, _SAID, "main")
    return test


def soak(test: Marked) -> Marked:
    """Mark a test, or a class, as one that runs before an issue is closed."""
    setattr(test, _SAID, "soak")
    return test


def tier_of(test: unittest.TestCase) -> str:
    """The tier of one test."""
    method = getattr(test, getattr(test, "_testMethodName", ""), None)
    said: str = getattr(method, _SAID, None) or getattr(test, _SAID, None) or TIERS[0]
    return said


def tests_of(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    """Every test of a suite, in its order."""
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from tests_of(one)
        else:
            yield one


def chosen(suite: unittest.TestSuite, tiers: tuple[str, ...]) -> unittest.TestSuite:
    """The tests of a suite that belong to some tiers. What could not be loaded always runs, and fails."""
    return unittest.TestSuite(one for one in tests_of(suite) if tier_of(one) in tiers)
