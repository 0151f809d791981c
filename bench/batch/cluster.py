"""A batch on a Dask scheduler of this machine: `.venv/bin/python -m bench.batch.cluster [--files 32]`.

Files are excerpts of `../shared/bench/beats/open`. Workers have one thread each, and one for their matrix
products, so that two of them are twice one. Said: seconds here by 1 and 2 processes, on 1 and 2 workers, with
one of two killed in the middle, and what a file costs beside its work (errands that only read their file).
Nothing here asserts.
"""

from __future__ import annotations

import argparse
import os
import shutil
import signal
import tempfile
import threading
import time
from pathlib import Path

from combpace.batch import folder
from combpace.batch.recipe import Recipe
from combpace.workers.backend import Backend, Processes
from combpace.workers.cluster import Cluster
from combpace.workers.errand import Errand
from rig.clusters import DaskTest

ONE_THREAD = {"OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}


def timed(of: Path, out: Path, workers: int, cluster: Cluster | None) -> tuple[float, int]:
    begun = time.monotonic()
    done = folder.run(of, out, "analyse", Recipe(), None, None, workers, lambda count, total: None, cluster)
    return time.monotonic() - begun, sum(one.error is not None for one in done)


def overhead(backend: Backend, of: Path) -> float:
    """Seconds a file beside its work, one at a time."""
    names = sorted(path.name for path in of.iterdir())
    begun = time.monotonic()
    for name in names:
        backend.start(name, Errand("combpace.workers.errand:weigh", of, of, (name,), {"file": name}))
        while backend.alive(name):
            time.sleep(0.002)
        backend.outcome(name)
    return (time.monotonic() - begun) / len(names)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--folder", type=Path, default=Path("../shared/bench/beats/open"))
    parser.add_argument("--files", type=int, default=32)
    options = parser.parse_args()
    os.environ |= ONE_THREAD
    with tempfile.TemporaryDirectory() as scratch:
        of = Path(scratch, "in")
        of.mkdir()
        for path in sorted(options.folder.glob("*.flac"))[: options.files]:
            shutil.copy(path, of)
        here = {}
        for count in (1, 2):
            here[count], _ = timed(of, Path(scratch, f"here{count}"), count, None)
            print(f"here, {count} process{'es' if count > 1 else ''}: {here[count]:.1f} s")
        processes = Processes(1, folder.PRELOAD)
        print(f"here, beside the work: {1000 * overhead(processes, of):.0f} ms a file")
        processes.close()
        there = {}
        for count, kill in ((1, False), (2, False), (2, True)):
            machines = DaskTest("begin")
            machines.setUp()
            machines.preload = list(folder.PRELOAD)
            cluster = Cluster(machines.begin(count))
            if kill:
                victim = machines.workers[0].pid
                threading.Timer(there[2] / 2, lambda pid=victim: os.killpg(pid, signal.SIGKILL)).start()
            took, failed = timed(of, Path(scratch, f"there{count}{kill}"), 1, cluster)
            if kill:
                half_s, alone_s = there[2] / 2, there[2] / 2 + there[1] / 2
                print(
                    f"2 workers, one killed after {half_s:.0f} s: {took:.1f} s, {failed} file lost; "
                    f"the half that one alone does would take {alone_s:.1f} s"
                )
            else:
                there[count] = took
                print(
                    f"{count} worker{'s' if count > 1 else ''}: {took:.1f} s, "
                    f"{took / here[count]:.2f} of as many processes here"
                )
                if count == 1:
                    print(f"1 worker, beside the work: {1000 * overhead(cluster, of):.0f} ms a file")
            cluster.close()
            machines.doCleanups()
        print(
            f"2 workers are {there[1] / there[2]:.2f} times as fast as 1; 2 processes here "
            f"{here[1] / here[2]:.2f} times"
        )


if __name__ == "__main__":
    main()
