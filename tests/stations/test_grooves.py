import json
from dataclasses import replace

import numpy as np

from combpace.core.errors import NotFoundError, ParameterError
from combpace.core.fit.groove import GrooveGrid, groove_document, groove_from
from combpace.drawing import picture
from combpace.media.decode import FileSource
from combpace.playback.sound import sounding
from combpace.session import fits
from combpace.session.data_folder import DataFolder
from combpace.session.grooves import GrooveLibrary, groove_taken
from combpace.session.sounding import how_it_sounds
from combpace.session.state import session_state
from combpace.settings import Settings
from rig.places import PlaceTest, bring_in
from rig.sounds import struck

# Seconds late of the eighths of a bar.
LATE = np.array([0.0, 0.03, 0.0, 0.022, -0.012, 0.03, 0.0, 0.026])


class GrooveTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.late = bring_in(self.place, self.session, self.eighths(LATE), "yard drums.wav")
        self.even = bring_in(self.place, self.session, self.eighths(np.zeros(8)), "reed organ.wav")
        self.library = GrooveLibrary(self.place)

    def eighths(self, late: np.ndarray):  # type: ignore[no-untyped-def]
        line = self.seen().need_map()
        places = np.concatenate([4.0 * bar + 0.5 * np.arange(8) for bar in range(8)])
        times = np.asarray(line.to_seconds(places)) + np.tile(late, 8)
        return struck(times, float(times[-1]) + 1.0)

    def test_taken_from_bars_and_laid_on_another_take(self) -> None:
        made = groove_taken(self.seen(), self.late, (2, 5), "1/8", "")
        self.assertEqual((made.name, len(made.bars), len(made.bars[0])), ("yard drums, bars 2–5", 1, 8))
        np.testing.assert_allclose([one.late_ms for one in made.bars[0]], 1000 * LATE, atol=1.5)
        kept = self.library.add(made)
        self.assertIn(
            "groove yard drums, bars 2–5",
            self.act("rule", take=self.even, field="grid", value=f"groove:{kept.id}").note,
        )
        self.act("rule", take=self.even, field="leave_alone", value="0")
        fit = fits.take_fit(self.seen(), self.even).fit
        line = self.seen().need_map()
        wanted = np.asarray(
            line.to_seconds(np.concatenate([4.0 * bar + 0.5 * np.arange(8) for bar in range(8)]))
        ) + np.tile(LATE, 8)
        # Lateness is counted from the pace under a breathing map's lines.
        np.testing.assert_allclose(
            [peg.target_s for peg in fit.pegs if peg.kind == "pulled"], wanted, atol=0.003
        )
        drawn = picture.fit_facts(self.seen(), self.even)["groove"]
        self.assertEqual((drawn["start"], drawn["len"], len(drawn["bars"])), (0, 4.0, 1))

    def test_its_accents_are_a_level_where_they_are_asked_for(self) -> None:
        loud = bring_in(self.place, self.session, self.eighths(np.zeros(8)), "loud.wav")
        groove = groove_taken(self.seen(), self.late, (2, 5), "1/8", "")
        row = tuple(replace(one, accent_db=4.0 if k == 2 else -1.0) for k, one in enumerate(groove.bars[0]))
        kept = self.library.add(replace(groove, bars=(row,)))
        self.act("rule", take=loud, field="grid", value=f"groove:{kept.id}")
        plain = fits.take_fit(self.seen(), loud)
        self.assertEqual(plain.levels, ())
        self.assertIn(
            "50 % of the groove's accents", self.act("rule", take=loud, field="accent", value="50").note
        )
        made = fits.take_fit(self.seen(), loud)
        self.assertNotEqual(made.key, plain.key)
        levels = dict(made.levels)
        line = self.seen().need_map()
        louder = [moment for moment, level in levels.items() if level > 0]
        self.assertEqual(sorted(set(levels.values())), [-0.5, 2.0])
        for moment in louder:
            self.assertAlmostEqual(line.place(moment) % 4.0, 1.0, delta=0.06)
        row_ = self.seen().rows[loud]
        with FileSource(self.place.blob(row_.decoded_sha)) as source:
            how = how_it_sounds(self.seen(), loud, fitted=True, speed=1.0)
            with_them, without = (
                sounding(source, how, 44100),
                sounding(source, replace(how, levels=()), 44100),
            )
            start = round(louder[0] * 44100)
            a, b = (one.read(start, start + 2000) for one in (with_them, without))
        np.testing.assert_allclose(a, b * 10 ** (2.0 / 20), rtol=1e-5, atol=1e-7)

    def test_a_session_keeps_its_own_copy(self) -> None:
        kept = self.library.add(groove_taken(self.seen(), self.late, (2, 5), "1/8", "shuffle"))
        self.act("rule", take=self.even, field="grid", value=f"groove:{kept.id}")
        before = fits.take_fit(self.seen(), self.even).key
        self.library.rename(kept.id, "another name")
        self.library.remove(kept.id)
        self.assertEqual(self.library.all(), [])
        # After a restart too.
        again = DataFolder(replace(Settings(), data_dir=self.folder / "data"))
        self.addCleanup(again.close)
        seen = session_state(again, self.session)
        grid = seen.document.rules[self.even].rule.places
        assert isinstance(grid, GrooveGrid)
        self.assertEqual((fits.take_fit(seen, self.even).key, grid.groove.name), (before, "shuffle"))
        self.assertEqual(self.library.restore(kept.id).groove.name, "another name")
        with self.assertRaises(NotFoundError):
            self.library.restore(kept.id)

    def test_it_counts_from_the_first_of_the_rules_bars(self) -> None:
        kept = self.library.add(groove_taken(self.seen(), self.late, (1, 4), "1/8", "two bars", 2))
        self.act("rule", take=self.even, field="grid", value=f"groove:{kept.id}")
        self.act("rule", take=self.even, field="bars", value="4-7")
        grid = self.seen().document.rules[self.even].rule.places
        assert isinstance(grid, GrooveGrid)
        self.assertEqual(grid.start, 3)

    def test_what_cannot_be_is_refused(self) -> None:
        kept = self.library.add(groove_taken(self.seen(), self.late, (2, 5), "1/8", "shuffle"))
        for bars, on in (((0, 3), "1/8"), ((5, 2), "1/8"), ((400, 401), "1/8"), ((2, 3), "1/7")):
            with self.assertRaises(ParameterError):
                groove_taken(self.seen(), self.late, bars, on, "")
        with self.assertRaises(NotFoundError):
            self.act("rule", take=self.even, field="grid", value="groove:00000000")
        self.act("meter", meter="3/4", bar=4)
        with self.assertRaisesRegex(ParameterError, "Bar 4 has 3 quarters"):
            self.act("rule", take=self.even, field="grid", value=f"groove:{kept.id}")
        with self.assertRaises(ParameterError):
            self.library.rename(kept.id, "  ")

    def test_names_are_apart_and_what_is_no_groove_is_passed_over(self) -> None:
        made = groove_taken(self.seen(), self.late, (2, 5), "1/8", "shuffle")
        names = [self.library.add(made).groove.name for _ in range(3)]
        self.assertEqual(names, ["shuffle", "shuffle 2", "shuffle 3"])
        (self.folder / "data" / "grooves" / "abcdef12.json").write_text("{")
        self.assertEqual([one.groove.name for one in self.library.all()], names)
        back = groove_from(json.loads(json.dumps(groove_document(self.library.all()[0].groove))))
        self.assertEqual(back.bars, self.library.all()[0].groove.bars)


class AgainstThePaceTest(PlaceTest):
    def test_downbeats_that_are_always_late_are_late_in_the_groove(self) -> None:
        # An even player, every downbeat 20 ms late: its own bar lines lie on them.
        late = np.tile([0.020, 0.0, 0.0, 0.0], 16)
        drums = bring_in(
            self.place,
            self.session,
            struck(0.5 + 0.6 * np.arange(64) + late, 40.0, low_every=4),
            "spoons.wav",
        )
        self.act("take", take=drums, field="role", value="lead")
        self.act("breathing")
        made = groove_taken(self.seen(), drums, (3, 10), "1/4", "")
        found = np.array([one.late_ms for one in made.bars[0]])
        opens = int(np.argmax(found))
        self.assertGreater(found[opens] - np.delete(found, opens).mean(), 14.0)
