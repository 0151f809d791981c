"""`combpace` alone, its help, and completion."""

import os
import re
import signal
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from combpace.cli import GROUPS, make_parser
from combpace.settings import from_environment
from rig.waiting import HANG_S, until


class HomeTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.opened = self.folder / "opened"
        browser = self.folder / "browser"
        browser.write_text(f'#!/bin/sh\necho "$1" >> {self.opened}\n')
        browser.chmod(0o755)
        self.environment = {
            name: value for name, value in os.environ.items() if not name.startswith("COMBPACE")
        } | {
            "XDG_DATA_HOME": str(self.folder / "own"),
            "COMBPACE_PORT": "0",
            "BROWSER": f"{browser} %s",
            "PYTHONUNBUFFERED": "1",
        }

    def start(self) -> subprocess.Popen[str]:
        made = subprocess.Popen(
            [sys.executable, "-m", "combpace.cli"],
            cwd=self.folder,
            env=self.environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            start_new_session=True,
        )
        self.addCleanup(made.wait)
        self.addCleanup(made.kill)
        return made

    def line(self, process: subprocess.Popen[str]) -> str:
        assert process.stdout is not None
        self.addCleanup(process.stdout.close)
        return process.stdout.readline()

    def addresses(self, count: int) -> list[str]:
        def opened() -> list[str] | None:
            found = self.opened.read_text().split() if self.opened.exists() else []
            return found if len(found) >= count else None

        return until(opened, "a browser")

    def test_alone_it_starts_opens_the_browser_and_ends(self) -> None:
        process = self.start()
        address = re.search(r"http://\S+", self.line(process))
        assert address is not None
        where = self.line(process)
        self.assertIn(str(self.folder / "own" / "combpace"), where)
        self.assertIn("Ctrl+C in this window ends it", where)
        self.assertEqual(self.addresses(1), [address[0]])
        self.assertTrue((self.folder / "own" / "combpace" / "combpace.db").is_file())
        # A second one opens the first.
        second = self.start()
        self.assertIn(f"runs already at {address[0]}", self.line(second))
        self.assertEqual(second.wait(timeout=HANG_S), 0)
        self.assertEqual(self.addresses(2), [address[0]] * 2)
        process.send_signal(signal.SIGINT)
        self.assertEqual(process.wait(timeout=HANG_S), 0)
        self.assertIn("Comb Pace has stopped. Everything is kept in", self.line(process))

    def test_the_data_folder(self) -> None:
        self.assertEqual(from_environment({"COMBPACE_DATA": "/x"}).data_dir, Path("/x"))
        before = Path.cwd()
        os.chdir(self.folder)
        self.addCleanup(os.chdir, before)
        self.assertEqual(from_environment({}).data_dir.name, "combpace")
        # One that an earlier version made here goes on being used.
        Path("data").mkdir()
        Path("data/combpace.db").touch()
        self.assertEqual(from_environment({}).data_dir, Path("data"))


class HelpTest(unittest.TestCase):
    def test_every_command_stands_in_one_group_and_says_what_it_does(self) -> None:
        parser = make_parser()
        (commands,) = [action for action in parser._actions if action.choices and action.dest != "shell"]
        named = [name for _, names in GROUPS for name in names]
        self.assertEqual(sorted(named), sorted(commands.choices or []))
        text = parser.format_help()
        for name in named:
            self.assertRegex(text, rf"(?m)^  {name} +\w", name)
        self.assertLess(max(map(len, text.splitlines())), 140)
        self.assertNotIn("==SUPPRESS==", text)

    def test_completion_knows_commands_and_options(self) -> None:
        for shell in ("bash", "zsh"):
            done = subprocess.run(
                [sys.executable, "-m", "combpace.cli", "completion", shell],
                capture_output=True,
                text=True,
                check=True,
            )
            for word in ("analyse", "--bpm-range", "replay"):
                self.assertIn(word, done.stdout)
        script = subprocess.run(
            [sys.executable, "-m", "combpace.cli", "completion", "bash"],
            capture_output=True,
            text=True,
            check=True,
        ).stdout
        asked = "COMP_WORDS=(combpace an); COMP_CWORD=1; _shtab_combpace; echo ${COMPREPLY[@]}"
        done = subprocess.run(
            ["bash", "-c", f"{script}\n{asked}"], capture_output=True, text=True, check=False
        )
        self.assertEqual(done.stdout.split(), ["analyse"])
