"""`combpace batch`: the same work on every file of a folder."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from combpace.core.errors import ParameterError

if TYPE_CHECKING:
    from combpace.workers.cluster import Cluster


def add(commands: Any, progress: object) -> None:
    """Put the command into the parser; it counts files and needs no other progress."""
    batch = commands.add_parser(
        "batch", help="analyse, fit or let follow every sound file of a folder, sub-folders too"
    )
    batch.add_argument("folder", type=Path, metavar="FOLDER")
    batch.add_argument(
        "-o", dest="out", type=Path, required=True, metavar="OUT", help="a folder; made where it is missing"
    )
    batch.add_argument("--do", default="analyse", metavar="analyse|fit|follow|report")
    batch.add_argument("--recipe", type=Path, metavar="recipe.json", help="the fields of the sentences")
    batch.add_argument("--map", type=Path, metavar="MAP", help="what is fitted to, or followed")
    batch.add_argument(
        "--bundle",
        metavar="folder|PATTERN",
        help="mics of one performance: those of one folder, or whose names match alike",
    )
    batch.add_argument("--workers", type=int, default=min(4, max(1, os.cpu_count() or 2)), metavar="N")
    batch.add_argument(
        "--scheduler",
        metavar="tcp://HOST:PORT",
        help="a Dask scheduler that does it instead (pip install combpace[cluster])",
    )
    batch.add_argument(
        "--shared",
        type=Path,
        metavar="PATH",
        help="workers of the scheduler see what lies below this; else files travel",
    )
    batch.set_defaults(run=_batch)


def _batch(options: argparse.Namespace) -> int:
    """Exit status 1 where any of them failed."""
    from combpace.batch.folder import run, table
    from combpace.batch.recipe import read_recipe

    if not 1 <= options.workers <= 256:
        raise ParameterError(f"Give 1 to 256 workers, not {options.workers}. Nothing was written.")
    if options.out.exists() and not options.out.is_dir():
        raise ParameterError(f"“{options.out}” is a file; -o takes a folder. Nothing was written.")
    if options.folder.is_dir() and options.out.resolve().is_relative_to(options.folder.resolve()):
        raise ParameterError(
            "The results would lie among the files that are read; give -o another folder. Nothing "
            "was written."
        )
    if options.shared is not None and not options.scheduler:
        raise ParameterError("--shared is about the workers of a --scheduler. Nothing was written.")
    recipe = read_recipe(options.recipe)
    cluster = _cluster(options)
    try:
        with _bar() as bar:
            done = run(
                options.folder, options.out, options.do, recipe, options.map, options.bundle,
                options.workers, bar, cluster,
                lambda text: print(f"combpace: {text}", file=sys.stderr),
            )  # fmt: skip
    except KeyboardInterrupt:
        print(
            "combpace: stopped; what was done is kept, the same command goes on from there.", file=sys.stderr
        )
        return 2
    finally:
        if cluster is not None:
            cluster.close()
    print(table(done))
    return 1 if any(one.error is not None for one in done) else 0


def _cluster(options: argparse.Namespace) -> Cluster | None:
    if not options.scheduler:
        return None
    from combpace.workers.cluster import Cluster

    return Cluster(options.scheduler, options.shared)


@contextmanager
def _bar() -> Iterator[Callable[[int, int], None]]:
    """A bar with the time left, on a terminal."""
    from tqdm import tqdm

    with tqdm(
        total=0,
        unit="file",
        disable=not sys.stderr.isatty(),
        bar_format="{l_bar}{bar}| {n} of {total}, {remaining} left",
    ) as bar:

        def tell(done: int, of: int) -> None:
            if bar.total != of:
                # What was done before costs no time: it does not count for the time left.
                bar.initial = bar.n = done
                bar.total = of
            bar.update(done - bar.n)
            bar.refresh()

        yield tell
