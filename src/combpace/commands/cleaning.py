"""`combpace clean`: what was removed is freed; by the server, where one works on the data folder."""

from __future__ import annotations

import argparse
import json
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

from combpace.commands.sessions import data_folder
from combpace.core.errors import CombPaceError, ParameterError
from combpace.machine import LockedError, locked
from combpace.media.writing import put_text

Progress = Callable[[], Callable[[str, float], None]]
# So often the server is asked how far it is, and so long it may take to answer once.
ASK_S, ANSWER_S = 0.2, 30.0
UNITS = ("sessions", "hand_offs", "renders")


def add(commands: Any, progress: Progress) -> None:
    """Put the command into the parser."""
    clean = commands.add_parser(
        "clean", help="free sessions that were removed 30 days ago, old hand-offs and renders nobody needs"
    )
    clean.add_argument("--dry-run", action="store_true", help="say what and how much, and change nothing")
    clean.add_argument("--json", metavar="PATH", help="“-” prints")
    clean.add_argument("--data", metavar="DIR", help="the data folder; else COMBPACE_DATA, else data")
    clean.set_defaults(run=lambda options: _clean(options, progress()))


def _clean(options: argparse.Namespace, tell: Callable[[str, float], None]) -> int:
    from combpace.session.cleaning import clean, found
    from combpace.session.data_folder import ADDRESS, LOCK

    with data_folder(options, must_exist=True) as folder:
        try:
            with locked(folder.settings.data_dir / LOCK):
                folder.database.migrate()
                made = asdict(found(folder) if options.dry_run else clean(folder, tell))
        except LockedError:
            # Whoever works on the folder does it: two at once would not know of each other.
            said = folder.settings.data_dir / ADDRESS
            address = said.read_text(encoding="utf-8").strip() if said.is_file() else ""
            made = _asked(address, options.dry_run, tell)
    if options.json == "-":
        print(json.dumps(made))
    elif options.json:
        put_text(Path(options.json), json.dumps(made) + "\n")
    else:
        print(words_of(made, options.dry_run))
    return 0


def words_of(made: dict[str, int], dry_run: bool) -> str:
    """What was freed, or would be, as a sentence."""
    if not any(made.values()):
        return "There is nothing to free."
    parts = [
        f"{made[name]} {(name if made[name] != 1 else name[:-1]).replace('_', '-')}"
        for name in UNITS
        if made[name]
    ]
    said = " and ".join([", ".join(parts[:-1]), parts[-1]] if len(parts) > 1 else parts) or "files"
    return f"{said}: {made['bytes'] / 1e6:,.1f} MB {'would be ' if dry_run else ''}freed."


def _asked(address: str, dry_run: bool, tell: Callable[[str, float], None]) -> dict[str, Any]:
    """The same from the server that works on the folder."""
    if not address:
        raise ParameterError(
            "A server works on this data folder and has not said where. Nothing was changed."
        )
    base = address[: address.index("/", len("http://"))] if "/" in address[len("http://") :] else address

    def ask(method: str, path: str) -> dict[str, Any]:
        request = urllib.request.Request(base + path, method=method, headers={"Accept": "application/json"})
        try:
            with urllib.request.urlopen(request, timeout=ANSWER_S) as answer:
                found: dict[str, Any] = json.load(answer)
                return found
        except (OSError, ValueError) as error:
            raise CombPaceError(
                f"The server at {base} did not free anything ({error}). Nothing was changed; try again."
            ) from error

    if dry_run:
        return ask("GET", "/api/clean")
    job = ask("POST", "/api/clean")["job"]
    print(f"The server at {base} does it.", file=sys.stderr)
    while True:
        view = ask("GET", f"/api/jobs/{job}")
        if view["state"] == "done":
            made: dict[str, Any] = view["result"]
            return made
        if view["state"] in ("failed", "cancelled"):
            raise CombPaceError(str(view["error"]))
        tell("freeing", view["progress"])
        time.sleep(ASK_S)
