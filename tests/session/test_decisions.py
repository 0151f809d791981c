"""The dispatcher: names, arguments, versions, and that a change is kept whole or not at all."""

from combpace.core.errors import NotFoundError, ParameterError, StaleError
from combpace.jobs import queue
from combpace.session import fits, shelf
from combpace.session.decisions import DECISIONS, Args, decide, decision
from combpace.session.state import session_state
from combpace.stations.fit import rendering
from combpace.stations.registry import findings
from combpace.store import rows
from rig.places import PlaceTest, breathing, bring_in, look


class DispatchTest(PlaceTest):
    def test_what_is_not_known_or_cannot_be_used_is_said_in_a_sentence(self) -> None:
        version = self.version
        with self.assertRaisesRegex(NotFoundError, "no action “polish”"):
            self.act("polish")
        for name, args in (
            ("bar-1", {}),
            ("bar-1", {"time_s": "x"}),
            ("bar-1", {"time_s": 1.0, "more": 2}),
            ("take", {"take": "../etc"}),
            ("undo", {"x": 1}),
        ):
            with (
                self.subTest(name=name, args=args),
                self.assertRaisesRegex(ParameterError, "cannot be used.*Nothing was changed"),
            ):
                self.act(name, **args)
        self.assertEqual(self.version, version)

    def test_two_decisions_never_share_a_name(self) -> None:
        for name in ("steady", "undo"):
            with self.assertRaises(ValueError):
                decision(name, Args)(lambda state, args: None)  # type: ignore[arg-type, return-value]
        self.assertIn("steady", DECISIONS)

    def test_a_stale_page_is_told_before_anything_is_worked_out(self) -> None:
        old = self.version
        self.act("meter", meter="3/4")
        for name, args in (
            ("keep", {"take": self.lead}),
            ("undo", {}),
            ("redo", {}),
            ("bar-1", {"time_s": 1.0}),
        ):
            with self.subTest(name=name), self.assertRaises(StaleError) as caught:
                decide(self.place, self.session, name, old, args)
            self.assertEqual(caught.exception.newest, self.version)

    def test_a_refused_keep_leaves_no_take_behind(self) -> None:
        _, audio = breathing(rate=48000)
        loose = bring_in(self.place, self.session, audio, "organ.wav")
        self.act("rule", take=loose, field="grid", value="1/4")
        job = rendering.order_render(self.place, self.session, self.version, loose).job
        made = fits.take_fit(self.seen(), loose)
        rendering.render_take(
            self.place,
            {
                "session": self.session,
                "takes": [loose],
                "source_s": list(made.fit.time_map.source_s),
                "target_s": list(made.fit.time_map.target_s),
                "method": made.method,
            },
            lambda phase, share: None,
        )
        rows.finish_job(self.place.database, job, "done", None, "{}")
        takes, jobs, old = len(self.seen().rows), len(queue.jobs_of(self.place, self.session)), self.version
        self.act("take", take=loose, field="name", value="Reed organ")
        with self.assertRaises(StaleError):
            decide(self.place, self.session, "keep", old, {"take": loose})
        self.assertEqual((len(self.seen().rows), len(queue.jobs_of(self.place, self.session))), (takes, jobs))
        self.act("keep", take=loose)
        self.assertEqual(
            (len(self.seen().rows), len(queue.jobs_of(self.place, self.session))), (takes + 1, jobs + 1)
        )


class ShownTest(PlaceTest):
    def test_a_take_that_could_not_be_read_is_not_being_read(self) -> None:
        quiet = bring_in(self.place, self.session, breathing()[1], "room.wav")
        rows.change_take(self.place.database, quiet, state="failed", error="It ends in the middle.")
        found = {station["id"]: station["finding"] for station in findings(self.seen(), None)}
        self.assertIn("1 not read", found["takes"])
        self.assertNotIn("being read", found["takes"])
        self.assertEqual([place.title for place in look(self.seen(), "hand-off")], ["Could not be read"])

    def test_a_duplicate_keeps_what_is_muted(self) -> None:
        shelf.save_view(
            self.place,
            self.session,
            {"mix": {self.lead: {"level": 0, "pan": 0, "mute": True, "solo": False}}},
        )
        copy = session_state(self.place, shelf.duplicate(self.place, self.session))
        assert copy.document.lead is not None
        self.assertIn(copy.document.lead.id, copy.opened.row.view)
        self.assertNotIn(self.lead, copy.opened.row.view)

    def test_rows_begin_where_something_is_played(self) -> None:
        from combpace.drawing import picture

        first = picture.picture(self.seen(), None)["bars"][0]
        # The first attack is bar 1's own: no empty bar before it.
        self.assertEqual(first["n"], 1)
        self.act("bar-1", time_s=float(self.beats[4]))
        self.assertEqual(picture.picture(self.seen(), None)["bars"][0]["n"], -1)
        # Free bars before the music are shown.
        self.act("bar", time_s=float(self.beats[4]), bar=5)
        self.assertEqual(picture.picture(self.seen(), None)["bars"][0]["n"], 1)
