"""`combpace session`: what lies in a data folder, out as an archive and in again."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from combpace.core.errors import ParameterError
from combpace.machine import LockedError, keep_private, locked

if TYPE_CHECKING:
    from combpace.session.data_folder import DataFolder

Progress = Callable[[], Callable[[str, float], None]]


def add(commands: Any, progress: Progress) -> None:
    """Put the command and its three into the parser."""
    sessions = commands.add_parser(
        "session", help="list the sessions of a data folder, write one as an archive, read one"
    ).add_subparsers(required=True, metavar="WHAT")
    listed = sessions.add_parser("list", help="a line a session: its id, name, tempo map, length, takes")
    listed.set_defaults(run=_list)
    out = sessions.add_parser(
        "export", help="write a session as one file: sources, decisions and their history"
    )
    out.add_argument("id", help="as “session list” prints it, or its beginning")
    out.add_argument("-o", dest="out", type=Path, required=True, metavar="FILE")
    out.add_argument(
        "--newest", action="store_true", help="its present state alone, without the steps that led there"
    )
    out.add_argument(
        "--no-sound",
        action="store_true",
        help="without the takes' files; where it is opened each is asked for",
    )
    out.set_defaults(run=lambda options: _export(options, progress()))
    into = sessions.add_parser("import", help="make a new session of an archive")
    into.add_argument("file", type=Path)
    into.set_defaults(run=lambda options: _import(options, progress()))
    again = commands.add_parser(
        "replay", help="render the whole session of an archive as it was handed off last"
    )
    again.add_argument("file", type=Path, metavar="ARCHIVE")
    again.add_argument("-o", dest="out", type=Path, required=True, metavar="DIR")
    again.set_defaults(run=lambda options: _replay(options, progress()))
    for one in (listed, out, into):
        one.add_argument("--data", metavar="DIR", help="the data folder; else COMBPACE_DATA, else data")


@contextmanager
def data_folder(options: argparse.Namespace, *, must_exist: bool) -> Iterator[DataFolder]:
    """The data folder that a command works on. Raises ParameterError where there is none."""
    from combpace.session.data_folder import DataFolder
    from combpace.settings import from_environment

    settings = from_environment()
    if options.data:
        settings = replace(settings, data_dir=Path(options.data))
    if must_exist and not (settings.data_dir / "combpace.db").is_file():
        raise ParameterError(
            f"There is no data folder at {settings.data_dir}; give --data the one that the "
            "application works on."
        )
    settings.data_dir.mkdir(parents=True, exist_ok=True)
    # What is written there is for whoever runs this alone, as the server keeps it; files beside it are as the
    # user has them.
    before = None if must_exist else keep_private()
    folder = DataFolder(settings)
    try:
        yield folder
    finally:
        if before is not None:
            os.umask(before)
        folder.close()


def _list(options: argparse.Namespace) -> int:
    from combpace.session.shelf import shelf

    with data_folder(options, must_exist=True) as folder:
        for one in shelf(folder):
            print("  ".join(part for part in (one.id, one.name, one.sentence, one.length, one.takes) if part))
    return 0


def _export(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.session.archive import write_archive
    from combpace.session.shelf import shelf

    if not options.out.parent.is_dir():
        raise ParameterError(f"There is no folder “{options.out.parent}” to write to. Nothing was written.")
    with data_folder(options, must_exist=True) as folder:
        found = [one for one in shelf(folder) if one.id.startswith(options.id)]
        if len(found) != 1:
            what = "is no session" if not found else "begins the ids of several sessions"
            raise ParameterError(
                f"“{options.id}” {what} of this data folder; “combpace session list” prints all of "
                "them. Nothing was written."
            )
        part = options.out.with_name(f".{options.out.name}.part")
        try:
            with part.open("wb") as out:
                write_archive(
                    folder, found[0].id, out, newest=options.newest, sound=not options.no_sound, tell=tell
                )
            part.replace(options.out)
        finally:
            part.unlink(missing_ok=True)
    print(f"{options.out}: {found[0].name}, {options.out.stat().st_size / 1e6:,.1f} MB")
    return 0


def _import(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.session.archive import read_archive
    from combpace.session.archive_judge import judge
    from combpace.session.data_folder import LOCK
    from combpace.session.shelf import shelf
    from combpace.workers.bounded import bounded

    if not options.file.is_file():
        raise ParameterError(f"There is no file “{options.file}”. Nothing was imported.")
    with data_folder(options, must_exist=False) as folder:
        try:
            with locked(folder.settings.data_dir / LOCK):
                folder.prepare()
                made = read_archive(folder, options.file, tell, partial(bounded, "This archive", judge))
        except LockedError as error:
            raise ParameterError(
                f"A server works on {folder.settings.data_dir}: drop the archive on its first page "
                "in the browser instead. Nothing was imported."
            ) from error
        name = next(one.name for one in shelf(folder) if one.id == made)
    print(f"{made}  {name}")
    return 0


def _replay(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    """In a data folder of its own that is gone afterwards."""
    import shutil
    import tempfile

    from combpace.session.archive import read_archive
    from combpace.session.archive_judge import judge
    from combpace.session.data_folder import DataFolder
    from combpace.session.state import session_state
    from combpace.settings import from_environment
    from combpace.stations import registry  # noqa: F401 - every decision and job
    from combpace.stations.handoff.ordering import last_wish, order_args, usual_wish
    from combpace.stations.handoff.write import written
    from combpace.store.models import WANTED
    from combpace.workers.bounded import bounded

    if not options.file.is_file():
        raise ParameterError(f"There is no file “{options.file}”. Nothing was written.")
    if options.out.exists() and not options.out.is_dir():
        raise ParameterError(f"“{options.out}” is a file; -o takes a folder. Nothing was written.")
    with tempfile.TemporaryDirectory(prefix="combpace-replay-") as scratch:
        folder = DataFolder(replace(from_environment(), data_dir=Path(scratch)))
        try:
            folder.prepare()
            judged = partial(bounded, "This archive", judge)
            seen = session_state(folder, read_archive(folder, options.file, tell, judged))
            silent = [row.name for row in seen.rows.values() if row.state == WANTED]
            if silent:
                raise ParameterError(
                    f"“{silent[0]}” came without its sound: nothing can be rendered of this "
                    "archive. Nothing was written."
                )
            wish = last_wish(seen) or usual_wish(seen)
            with written(folder, order_args(seen, wish), tell) as files:
                options.out.mkdir(parents=True, exist_ok=True)
                for file in files:
                    shutil.move(file.path, options.out / file.name)
                print(f"{options.out}: {seen.opened.row.name}, {len(files)} files")
        finally:
            folder.close()
    return 0
