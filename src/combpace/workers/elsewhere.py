"""One errand out of a job: on the scheduler that is set, or here where there is none or it is lost."""

from __future__ import annotations

import sys
import time
from typing import Any

from combpace.core.errors import CombPaceError
from combpace.workers.backend import LostError
from combpace.workers.errand import Errand, Tell, do

POLL_S = 0.05


def run(errand: Errand, tell: Tell, scheduler: str | None, phase: str) -> Any:
    """Its value. `tell` is asked all the time, so that a cancel is noticed. Raises what the errand raises, in
    words.
    """
    if not scheduler:
        return do(errand, tell)
    from combpace.workers.cluster import Cluster

    try:
        backend = Cluster(scheduler)
    except CombPaceError as error:
        return _here(errand, tell, error)
    try:
        backend.start("errand", errand)
        try:
            while backend.alive("errand"):
                tell(f"{phase}, on the cluster", 0.0)
                time.sleep(POLL_S)
        except LostError as error:
            return _here(errand, tell, error)
        ended = backend.outcome("errand")
        if ended.error is not None:
            raise CombPaceError(f"This did not work out on the cluster: {ended.error}. Nothing was changed.")
        return ended.value
    finally:
        backend.close()


def _here(errand: Errand, tell: Tell, error: CombPaceError) -> Any:
    print(f"combpace: {error} This is done here instead.", file=sys.stderr)
    return do(errand, tell)
