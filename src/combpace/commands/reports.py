"""`combpace report`: what was found in a file, or done in a session, as one HTML page."""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from combpace.core.errors import MediaError, ParameterError

if TYPE_CHECKING:
    from combpace.media.report import Report

Progress = Callable[[], Callable[[str, float], None]]


def add(commands: Any, progress: Progress) -> None:
    """Put the command into the parser."""
    report = commands.add_parser(
        "report", help="what was found in a file, or done in a session, as one page that prints"
    )
    report.add_argument("what", metavar="FILE|SESSION", help="a sound file, or the id of a session")
    report.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.html")
    report.add_argument("--json", type=Path, metavar="PATH", help="the same as JSON")
    report.add_argument("--csv", type=Path, metavar="PATH", help="its bars as CSV")
    report.add_argument("--data", metavar="DIR", help="of a session: the data folder")
    report.set_defaults(run=lambda options: _report(options, progress()))


def _report(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.media import report as drawn
    from combpace.media.writing import put_text

    for path in (options.out, options.json, options.csv):
        if path is not None and not path.parent.is_dir():
            raise MediaError(f"There is no folder “{path.parent}” to write to. Nothing was written.")
    made = of_file(Path(options.what), tell) if Path(options.what).is_file() else _of_session(options)
    put_text(options.out, drawn.page(made))
    if options.json is not None:
        put_text(options.json, json.dumps(drawn.document(made), indent=1) + "\n")
    if options.csv is not None:
        put_text(options.csv, drawn.table(made))
    print(f"{options.out}: {made.title}, {len(made.bars)} bars")
    return 0


def of_file(path: Path, tell: Callable[[str, float], None]) -> Report:
    """What was heard in a file."""
    from combpace.batch.files import analyse_file
    from combpace.batch.reporting import report_of
    from combpace.core.analysis.take import Hints

    return report_of(analyse_file(path, Hints(), tell), path.name)


def _of_session(options: argparse.Namespace) -> Report:
    from combpace.commands.sessions import data_folder
    from combpace.drawing.reporting import of_session
    from combpace.session.shelf import shelf
    from combpace.session.state import session_state

    with data_folder(options, must_exist=True) as folder:
        found = [one for one in shelf(folder) if one.id.startswith(options.what)]
        if len(found) != 1:
            raise ParameterError(
                f"“{options.what}” is neither a file nor the id of one session; “combpace session "
                "list” prints all of them. Nothing was written."
            )
        return of_session(session_state(folder, found[0].id))
