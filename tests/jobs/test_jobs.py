"""Real worker processes: progress, cancel, a killed worker, a restart in the middle."""

import errno
import json
import os
import signal
from unittest import mock

import soundfile as sf

from combpace.core.errors import CancelledError
from combpace.jobs import dispatcher as module
from combpace.jobs import process, queue
from combpace.jobs.dispatcher import MOST_TRIES, Dispatcher
from combpace.session import fits
from combpace.stations import registry
from combpace.stations.handoff.ordering import Wish
from combpace.stations.handoff.ordering import order as handoff
from combpace.stations.handoff.write import write_handoff
from combpace.stations.takes import importing
from combpace.store import rows
from combpace.store.database import Database
from combpace.store.models import JobRow
from rig.places import PlaceTest, breathing
from rig.waiting import until


class JobsTest(PlaceTest):
    uploads = 0

    def dispatcher(self) -> Dispatcher:
        made = Dispatcher(self.place, registry.__name__)
        made.start()
        self.addCleanup(made.stop)
        return made

    def wait(self, job_id: str, *states: str) -> queue.JobView:
        def ended() -> queue.JobView | None:
            view = queue.job(self.place, job_id)
            return view if view.state in states else None

        return until(ended, f"job {job_id} {' or '.join(states)}")

    def pid(self, dispatcher: Dispatcher, job_id: str) -> int:
        """The process of a job, as soon as it has one."""
        return until(lambda: dispatcher.processes().get(job_id), f"a process of job {job_id}")

    def upload(self, name: str = "room.wav") -> str:
        """Sound that nobody heard before, or no job would begin."""
        self.uploads += 1
        path = self.place.blobs.new_path(".wav")
        audio = breathing(start=1.0 + self.uploads / 100)[1]
        sf.write(path, audio.samples.T, 44100, subtype="PCM_24")
        return importing.add_upload(self.place, self.session, path, name)

    def long_render(self, times: float = 40.0) -> str:
        """A render that takes some seconds: of a take drawn out so many times."""
        made = fits.take_fit(self.seen(), self.lead)
        args = {
            "session": self.session,
            "takes": [self.lead],
            "source_s": list(made.fit.time_map.source_s),
            "target_s": [times * value for value in made.fit.time_map.target_s],
            "method": "chord",
        }
        return queue.enqueue(self.place, self.session, "render", self.lead, args)

    def test_an_upload_is_read_by_a_worker(self) -> None:
        self.dispatcher()
        take = self.upload()
        job = queue.jobs_of(self.place, self.session)[-1]
        self.wait(job.id, "done")
        self.assertEqual(self.place.take_row(take).state, "ready")
        self.assertGreater(len(self.seen().onsets(take)), 20)

    def test_a_bad_upload_fails_in_a_sentence_and_the_next_goes_on(self) -> None:
        self.dispatcher()
        path = self.place.blobs.new_path()
        path.write_bytes(b"no sound at all " * 100)
        bad = importing.add_upload(self.place, self.session, path, "bad.wav")
        good = self.upload()
        listed = {
            view.subject: view.id for view in queue.jobs_of(self.place, self.session) if view.kind == "import"
        }
        self.assertIn("not a sound file", self.wait(listed[bad], "failed").error or "")
        self.assertIn("not a sound file", self.place.take_row(bad).error or "")
        self.wait(listed[good], "done")

    def begun(self) -> list[str]:
        """All jobs that wait, marked as running."""
        return list(iter(lambda: rows.next_job(self.place.database), None))  # type: ignore[arg-type]

    def test_cancel_waiting_and_running(self) -> None:
        take = self.upload()
        waiting = queue.jobs_of(self.place, self.session)[-1]
        self.assertEqual(queue.cancel(self.place, waiting.id).state, "cancelled")
        self.assertEqual(self.place.take_row(take).state, "failed")
        self.dispatcher()
        running = self.long_render()
        self.wait(running, "running")
        queue.cancel(self.place, running)
        self.assertEqual(self.wait(running, "cancelled", "done").state, "cancelled")
        self.assertEqual(list(self.place.blobs.temporary.glob("*.float")), [])

    def test_what_is_being_cancelled_is_ordered_anew(self) -> None:
        for order in (self.long_render, lambda: handoff(self.place, self.session, Wish(takes=[self.lead]))):
            first = order()
            self.assertEqual(order(), first, "the same work is done once")
            self.assertIn(first, self.begun())
            queue.cancel(self.place, first)
            again = order()
            self.assertNotEqual(again, first)
            self.assertEqual(queue.job(self.place, again).state, "queued")
            # The one that was cancelled ends when it notices; the new one waits on.
            process.finish(self.place, first, "cancelled", "Cancelled; nothing was changed.", {})
            self.assertEqual(self.begun(), [again])
            process.finish(self.place, again, "done", None, {})

    def test_one_that_ends_late_changes_nothing_of_a_newer_one(self) -> None:
        take = self.upload()
        (first,) = [one.id for one in queue.jobs_of(self.place, self.session) if one.subject == take]
        self.assertIn(first, self.begun())
        queue.cancel(self.place, first)
        importing.listen_again(self.place, self.session, take)
        self.place.job = first
        with self.assertRaises(CancelledError):
            importing.import_take(self.place, {"take": take}, lambda phase, share: None)
        self.place.job = None
        process.finish(self.place, first, "cancelled", "Cancelled; nothing was changed.", {})
        self.assertEqual(self.place.take_row(take).state, "waiting", "the newer one reads it")
        second = rows.next_job(self.place.database)
        self.assertEqual(queue.job(self.place, second or "").subject, take)
        rows.fail_if_running(self.place.database, second or "", "It was killed.")
        self.assertEqual(self.place.take_row(take).state, "failed")
        # Files of a hand-off that was cancelled late are none.
        job = handoff(self.place, self.session, Wish(takes=[self.lead], extras=["json"]))
        self.assertIn(job, self.begun())
        queue.cancel(self.place, job)
        self.place.job = job
        with self.assertRaises(CancelledError):
            args = json.loads(rows.job_row(self.place.database, job).args)  # type: ignore[union-attr]
            write_handoff(self.place, args, lambda phase, share: None)
        self.assertEqual(rows.files_like(self.place.database, self.session, "handoff %"), [])

    def test_a_killed_worker_fails_its_job_and_no_other(self) -> None:
        dispatcher = self.dispatcher()
        doomed = self.long_render()
        self.wait(doomed, "running")
        other = self.upload()
        os.kill(self.pid(dispatcher, doomed), signal.SIGKILL)
        failed = self.wait(doomed, "failed")
        self.assertIn("signal 9", failed.error or "")
        self.wait(
            next(view.id for view in queue.jobs_of(self.place, self.session) if view.subject == other), "done"
        )

    def test_orderly_stops_in_the_middle_of_a_render_are_no_failed_tries(self) -> None:
        job = self.long_render(15.0)
        for _ in range(MOST_TRIES + 1):
            dispatcher = Dispatcher(self.place, registry.__name__)
            dispatcher.start()
            self.wait(job, "running")
            dispatcher.stop()
            self.assertEqual(queue.job(self.place, job).state, "queued")
        self.dispatcher()
        done = self.wait(job, "done")
        self.assertEqual(len(done.result["files"]), 1)
        with self.place.database.reading() as db:
            self.assertEqual(db.get(JobRow, job).tries, 1)  # type: ignore[union-attr]

    def test_a_job_that_gives_no_sign_of_life_is_ended_and_the_next_goes_on(self) -> None:
        dispatcher = self.dispatcher()
        with mock.patch.object(module, "SILENT_S", 2.5), mock.patch.object(module, "LOOK_S", 0.2):
            doomed = self.long_render()
            self.wait(doomed, "running")
            os.kill(self.pid(dispatcher, doomed), signal.SIGSTOP)
            failed = self.wait(doomed, "failed")
        self.assertIn("no sign of life", failed.error or "")
        self.assertNotIn(doomed, dispatcher.processes())
        other = self.upload()
        self.wait(
            next(view.id for view in queue.jobs_of(self.place, self.session) if view.subject == other), "done"
        )

    def test_a_job_whose_process_cannot_be_started_waits_for_the_next_round(self) -> None:
        dispatcher, left = Dispatcher(self.place, registry.__name__), [2]
        real = dispatcher._processes.start_plain

        def killed(*args: object, **more: object) -> None:
            if left[0]:
                left[0] -= 1
                # What a fork server says that is killed while it starts a process.
                raise EOFError("unexpected EOF")
            real(*args, **more)  # type: ignore[arg-type]

        job = self.long_render(1.0)
        with (
            mock.patch.object(dispatcher._processes, "start_plain", killed),
            mock.patch.object(module, "TROUBLE_S", 0.05),
            self.assertLogs("combpace", "WARNING"),
        ):
            dispatcher.start()
            self.addCleanup(dispatcher.stop)
            self.wait(job, "done")
        with self.place.database.reading() as db:
            self.assertEqual(db.get(JobRow, job).tries, 1)  # type: ignore[union-attr]

    def test_where_nothing_was_written_nothing_is_asked(self) -> None:
        dispatcher, rounds, asked = Dispatcher(self.place, registry.__name__), [0], [0]
        look, next_job = dispatcher._look_for_silent_ones, rows.next_job

        def looked() -> None:
            rounds[0] += 1
            look()

        def counted(database: Database) -> str | None:
            asked[0] += 1
            return next_job(database)

        with (
            mock.patch.object(dispatcher, "_look_for_silent_ones", looked),
            mock.patch.object(rows, "next_job", counted),
        ):
            dispatcher.start()
            self.addCleanup(dispatcher.stop)
            self.wait(self.long_render(1.0), "done")

            def idle() -> bool:
                before, since = asked[0], rounds[0]
                until(lambda: rounds[0] > since + 8, "eight rounds")
                return asked[0] == before

            until(idle, "rounds that ask for nothing")
            before = asked[0]
            self.wait(self.long_render(1.01), "done")
            self.assertGreater(asked[0], before)

    def test_no_round_that_fails_ends_the_loop(self) -> None:
        dispatcher, real, left = self.dispatcher(), rows.next_job, [3]

        def full(database: Database) -> str | None:
            if left[0]:
                left[0] -= 1
                raise OSError(errno.ENOSPC, "No space left on device")
            return real(database)

        with (
            mock.patch.object(module, "TROUBLE_S", 0.05),
            mock.patch.object(rows, "next_job", full),
            self.assertLogs("combpace", "WARNING") as said,
        ):
            take = self.upload()
            self.wait(queue.jobs_of(self.place, self.session)[-1].id, "done")
        self.assertEqual(self.place.take_row(take).state, "ready")
        health = dispatcher.health()
        self.assertEqual((health["alive"], health["trouble"]), (True, None))
        self.assertEqual(
            [line.split(":")[2].splitlines()[0] for line in said.output], ["jobs are held up", "jobs go on"]
        )

    def test_what_cannot_be_written_down_at_once_is_written_down_later(self) -> None:
        dispatcher, real, left = self.dispatcher(), rows.fail_if_running, [2]

        def full(database: Database, job_id: str, error: str) -> None:
            if left[0]:
                left[0] -= 1
                raise OSError(errno.ENOSPC, "No space left on device")
            real(database, job_id, error)

        with (
            mock.patch.object(module, "TROUBLE_S", 0.05),
            mock.patch.object(rows, "fail_if_running", full),
            self.assertLogs("combpace", "WARNING"),
        ):
            doomed = self.long_render()
            self.wait(doomed, "running")
            os.kill(self.pid(dispatcher, doomed), signal.SIGKILL)
            self.assertIn("signal 9", self.wait(doomed, "failed").error or "")

    def test_what_ends_the_program_each_time_is_given_up(self) -> None:
        job = self.long_render()
        with self.place.database.writing() as db:
            row = db.get(JobRow, job)
            assert row is not None
            row.state, row.tries = "running", MOST_TRIES
        self.dispatcher()
        self.assertIn("started 3 times", self.wait(job, "failed").error or "")

    def test_the_same_work_is_queued_once(self) -> None:
        self.assertEqual(self.long_render(), self.long_render())
        self.assertEqual(
            len([view for view in queue.jobs_of(self.place, self.session) if view.kind == "render"]), 1
        )
