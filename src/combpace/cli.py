"""The command line. Exit status 0, or 2 with one clear line on standard error; `batch` ends with 1 where a
file failed.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NoReturn

from combpace.commands import batches, cleaning, fitting, listening, maps, reports, said_of, sessions
from combpace.core.errors import CombPaceError, ParameterError

ABOUT = """\
Comb Pace finds the pace of played audio, lays bar lines on its downbeats, and pulls other audio onto them.

Alone, without a command, it starts the application on your own data folder and opens it in your browser.
"""
# What a group of commands is called, and the commands in it, in the order of the work.
GROUPS = (
    ("The application", ("serve", "session", "replay", "clean")),
    ("Listening", ("analyse", "measure", "onsets", "stack", "groove", "report")),
    ("Moving sound and notes", ("fit", "follow", "stretch", "part", "cut")),
    ("Tempo maps", ("tidy", "convert")),
    ("Many files", ("batch",)),
    ("This program", ("completion",)),
)
EXAMPLES = """\
Examples:
  combpace analyse take.wav --midi map.mid                    its tempo map, as a MIDI file
  combpace analyse take.wav --bar 3.214=1                     the same; bar 1 begins at 3.214 s
  combpace fit organ.wav -o fitted.wav --map map.mid          its attacks onto the map's sixteenths
  combpace follow loop.wav -o long.wav --map map.mid --bars 2 --until-bar 20
  combpace batch takes/ -o heard/ --do analyse                a whole folder; run it again to go on

`combpace COMMAND --help` says more. Times are seconds, tempi quarters a minute. Nothing is written over
that was not named with -o, --json, --csv or --midi. Exit status: 0; 2 and one line on standard error where
something was refused; 1 where a file of a batch failed.
"""


class _Parser(argparse.ArgumentParser):
    """argparse that says what is wrong in one line."""

    def error(self, message: str) -> NoReturn:
        raise ParameterError(f"{self.prog}: {message}. See “{self.prog} --help”.")


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit status."""
    try:
        options = make_parser().parse_args(arguments)
        status: int = options.run(options)
        return status
    except CombPaceError as error:
        print(f"combpace: {str(error).replace(chr(10), ' ')}", file=sys.stderr)
        return 2
    except OSError as error:
        print(f"combpace: {said_of(error)}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("combpace: stopped; nothing was written.", file=sys.stderr)
        return 2


def make_parser() -> argparse.ArgumentParser:
    """All commands and their options."""
    parser = _Parser(
        prog="combpace", formatter_class=argparse.RawDescriptionHelpFormatter, usage="combpace [COMMAND ...]"
    )
    parser.set_defaults(run=_at_home)
    commands = parser.add_subparsers(metavar="COMMAND", parser_class=_Parser, help=argparse.SUPPRESS)
    for room in (listening, fitting, maps, sessions, cleaning, reports, batches):
        room.add(commands, _progress)
    serve = commands.add_parser("serve", help="start the application")
    serve.add_argument("--demo", action="store_true", help="build the demo session first where it is missing")
    serve.add_argument("--host", help="127.0.0.1 without it: this machine alone")
    serve.add_argument("--port", type=int, help="8420 without it; 0 takes a free one")
    serve.add_argument("--data", metavar="DIR", help="the data folder; else COMBPACE_DATA, else your own")
    serve.set_defaults(run=_serve)
    complete = commands.add_parser(
        "completion", help="print a script that lets your shell complete commands and options"
    )
    complete.add_argument(
        "shell",
        choices=("bash", "zsh"),
        help="for bash: combpace completion bash > ~/.local/share/bash-completion/completions/combpace",
    )
    complete.set_defaults(run=_completion)
    parser.description = ABOUT
    parser.epilog = f"{_listed(commands)}\n{EXAMPLES}"
    return parser


def _listed(commands: Any) -> str:
    """The commands by groups, a line each."""
    helps = {action.dest: action.help or "" for action in commands._choices_actions}
    return "\n".join(
        f"{title}:\n" + "".join(f"  {name:<12}{helps[name]}\n" for name in names) for title, names in GROUPS
    )


def _serve(options: argparse.Namespace) -> int:
    from combpace.settings import from_environment
    from combpace.web.serve import serve

    return serve(
        from_environment().with_command_line(options.host, options.port, options.data), demo=options.demo
    )


def _at_home(options: argparse.Namespace) -> int:
    from combpace.settings import from_environment
    from combpace.web.serve import at_home

    return at_home(from_environment())


def _completion(options: argparse.Namespace) -> int:
    import shtab

    parser = make_parser()
    for action in _all_actions(parser):
        if action.type is Path:
            action.complete = shtab.FILE  # type: ignore[attr-defined]
    print(shtab.complete(parser, options.shell))
    return 0


def _all_actions(parser: argparse.ArgumentParser) -> list[argparse.Action]:
    found = []
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            # It is left out of the help, which lists commands by groups.
            action.help = None
            for below in action.choices.values():
                found += _all_actions(below)
        else:
            found.append(action)
    return found


def _progress() -> Callable[[str, float], None]:
    if not sys.stderr.isatty():
        return lambda phase, share: None
    last = [""]

    def show(phase: str, share: float) -> None:
        line = f"{phase} {share * 100:3.0f} %"
        if line != last[0]:
            last[0] = line
            print(
                f"\r{line:<40}",
                end="\n" if share >= 1 and phase == "rendering" else "",
                file=sys.stderr,
                flush=True,
            )

    return show


if __name__ == "__main__":
    sys.exit(main())
