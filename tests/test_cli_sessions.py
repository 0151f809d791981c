"""`combpace session` on a data folder."""

import contextlib
import fcntl
import io
import json
import os
import re
import time

from combpace.cli import main
from combpace.session import shelf
from combpace.stations.handoff import write
from combpace.stations.handoff.ordering import Wish, order
from combpace.store import rows
from combpace.store.models import JobRow, SessionRow
from rig.places import PlaceTest
from rig.server import Server


class CommandTest(PlaceTest):
    """Commands, as they are typed."""

    def run_main(self, *arguments: object) -> tuple[int, str, str]:
        said, wrong = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(said), contextlib.redirect_stderr(wrong):
            status = main([str(one) for one in arguments])
        return status, said.getvalue(), wrong.getvalue()


class SessionCommandTest(CommandTest):
    def test_listed_written_and_read(self) -> None:
        data, out = self.folder / "data", self.folder / "night.archive"
        status, said, _ = self.run_main("session", "list", "--data", data)
        self.assertEqual(status, 0)
        self.assertRegex(said, rf"^{self.session}  Copper night  4/4, breathing")
        status, said, wrong = self.run_main("session", "export", self.session[:6], "-o", out, "--data", data)
        self.assertEqual((status, wrong), (0, ""))
        other = self.folder / "elsewhere"
        status, said, wrong = self.run_main("session", "import", out, "--data", other)
        self.assertEqual((status, wrong), (0, ""))
        new = re.match(r"[0-9a-f]{16}", said)
        assert new is not None
        status, said, _ = self.run_main("session", "list", "--data", other)
        self.assertTrue(said.startswith(new[0]))
        # The same again, from there: takes have other ids, of the same length.
        again = self.folder / "again.archive"
        self.assertEqual(self.run_main("session", "export", new[0], "-o", again, "--data", other)[0], 0)
        self.assertEqual(again.stat().st_size, out.stat().st_size)

    def test_replayed_it_is_what_the_last_hand_off_wrote_to_the_byte(self) -> None:
        data, out = self.folder / "data", self.folder / "night.archive"
        self.act("bar-1", time_s=float(self.beats[4]))
        self.act("rule", take=self.lead, field="strength", value="80")
        beside = ["midi", "json", "click", "report"]
        wish = Wish(
            takes=[self.lead],
            kind="wav32f",
            start="bar 2",
            extras=beside,
            written="files and mix",
            markers=True,
        )
        job = order(self.place, self.session, wish)
        row = rows.job_row(self.place.database, job)
        assert row is not None
        with write.written(self.place, json.loads(row.args), lambda phase, share: None) as files:
            ours = {file.name: file.path.read_bytes() for file in files}
        for more in ((), ("--newest",)):
            self.assertEqual(
                self.run_main("session", "export", self.session, "-o", out, "--data", data, *more)[0], 0
            )
            status, said, wrong = self.run_main("replay", out, "-o", self.folder / "replayed")
            self.assertEqual((status, wrong), (0, ""))
            self.assertIn("Copper night, 7 files", said)
            theirs = {path.name: path.read_bytes() for path in (self.folder / "replayed").iterdir()}
            self.assertEqual(theirs, ours)

    def test_replayed_without_a_hand_off_it_is_everything_with_the_lead_in(self) -> None:
        out = self.folder / "night.archive"
        self.assertEqual(
            self.run_main("session", "export", self.session, "-o", out, "--data", self.folder / "data")[0], 0
        )
        self.assertEqual(self.run_main("replay", out, "-o", self.folder / "replayed")[0], 0)
        endings = sorted(path.suffix for path in (self.folder / "replayed").iterdir())
        self.assertEqual(endings, [".json", ".mid", ".wav", ".wav", ".zip"])
        self.assertEqual(
            self.run_main(
                "session", "export", self.session, "-o", out, "--data", self.folder / "data", "--no-sound"
            )[0],
            0,
        )
        status, _, wrong = self.run_main("replay", out, "-o", self.folder / "silent")
        self.assertEqual(status, 2)
        self.assertIn("without its sound", wrong)

    def test_beside_a_running_server_it_is_listed_and_written_but_not_read(self) -> None:
        data, out = self.folder / "data", self.folder / "night.archive"
        with (data / "lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            self.assertEqual(self.run_main("session", "list", "--data", data)[0], 0)
            self.assertEqual(
                self.run_main("session", "export", self.session, "-o", out, "--data", data)[0], 0
            )
            status, _, wrong = self.run_main("session", "import", out, "--data", data)
        self.assertEqual(status, 2)
        self.assertIn("in the browser", wrong)

    def test_what_cannot_be_is_a_sentence(self) -> None:
        data, out = self.folder / "data", self.folder / "x.archive"
        bad = self.folder / "bad.archive"
        bad.write_bytes(b"nothing")
        for arguments in (
            ("session", "list", "--data", self.folder / "nowhere"),
            ("session", "export", "ffff", "-o", out, "--data", data),
            ("session", "export", self.session, "-o", self.folder / "no" / "x.archive", "--data", data),
            ("session", "import", self.folder / "none", "--data", data),
            ("session", "import", bad, "--data", data),
            ("session",),
            ("replay", self.folder / "none", "-o", self.folder / "r"),
            ("replay", bad, "-o", self.folder / "r"),
            ("replay", bad, "-o", bad),
        ):
            with self.subTest(arguments=arguments):
                status, _, wrong = self.run_main(*arguments)
                self.assertEqual(status, 2)
                self.assertEqual(wrong.count("\n"), 1)
        self.assertFalse(out.exists())


class CleanCommandTest(CommandTest):
    def test_what_was_removed_is_freed_and_said_before(self) -> None:
        data = self.folder / "data"
        self.assertEqual(self.run_main("clean", "--data", data)[1], "There is nothing to free.\n")
        shelf.remove(self.place, self.session)
        with self.place.database.writing() as db:
            db.get(SessionRow, self.session).removed -= 31 * 86_400  # type: ignore[union-attr, operator]
            for job in db.query(JobRow):
                job.state = "done"
        for path in self.place.blobs.root.glob("??/*"):
            os.utime(path, (time.time() - 86_400, time.time() - 86_400))
        status, said, _ = self.run_main("clean", "--dry-run", "--json", "-", "--data", data)
        found = json.loads(said)
        self.assertEqual((status, list(found)), (0, ["sessions", "hand_offs", "renders", "bytes"]))
        self.assertEqual(found["sessions"], 1)
        self.assertGreater(found["bytes"], 100_000)
        self.assertEqual(rows.session_row(self.place.database, self.session).id, self.session)
        out = self.folder / "freed.json"
        self.assertEqual(self.run_main("clean", "--json", out, "--data", data)[0], 0)
        self.assertEqual(json.loads(out.read_text()), found)
        self.assertEqual(list(self.place.blobs.root.glob("??/*")), [])
        self.assertEqual(self.run_main("clean", "--data", self.folder / "nowhere")[0], 2)

    def test_beside_a_server_it_is_that_which_does_it(self) -> None:
        data = self.folder / "served"
        server = Server(data).start()
        self.addCleanup(server.stop)
        status, said, _ = self.run_main("clean", "--dry-run", "--json", "-", "--data", data)
        nothing = {"sessions": 0, "hand_offs": 0, "renders": 0, "bytes": 0}
        self.assertEqual((status, json.loads(said)), (0, nothing))
        status, said, wrong = self.run_main("clean", "--json", "-", "--data", data)
        self.assertEqual((status, json.loads(said)), (0, nothing))
        self.assertIn(f"The server at {server.address} does it", wrong)
