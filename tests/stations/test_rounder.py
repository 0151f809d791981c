"""A rounder tempo that holds is proposed and in force; a range that is no whole number of bars says so."""

import numpy as np

from combpace.core.tempo.measure import measure_along
from combpace.session import shelf
from combpace.session.measured import measured_document
from combpace.session.state import SessionState, session_state
from combpace.stations.pace.station import values
from rig.places import PlaceTest, bring_in
from rig.sounds import struck


class RounderTest(PlaceTest):
    def heard(self, bpm: float, bars: int, name: str, scatter_s: float = 0.002) -> SessionState:
        """A take at a tempo alone in a session; some milliseconds of scatter make its measure odd."""
        rng = np.random.default_rng(7)
        times = 0.5 + np.arange(4 * bars) * 60 / bpm + rng.uniform(-scatter_s, scatter_s, 4 * bars)
        session = shelf.create(self.place, name)
        bring_in(self.place, session, struck(times, float(times[-1]) + 1, low_every=4), name)
        return session_state(self.place, session)

    def test_it_is_in_force_from_the_first_moment_on(self) -> None:
        for bpm, name in ((112.0, "tub kit.wav"), (119.75, "copper kit.wav"), (97.33, "kit 97.33 bpm.wav")):
            with self.subTest(bpm=bpm):
                seen = self.heard(bpm, 24, name)
                self.assertEqual(seen.map_choice().kind, "steady")
                self.assertAlmostEqual(seen.need_map().bpm_at(0.0), bpm, places=9)
                offer = values(seen, seen.need_lead().id)["pace"]["offer"]
                self.assertEqual((offer.bpm, offer.do), (f"{bpm:g}", None))

    def test_a_map_that_an_earlier_version_heard_stays(self) -> None:
        seen = self.heard(112.0, 24, "tub kit.wav")
        heard = seen.analysis(seen.need_lead().id)
        assert heard is not None
        measured = heard.facts["steady"]["bpm"] = 111.9812
        heard.facts["steady"].pop("proposed_bpm")
        # Nothing that follows from a state is remembered beyond it.
        seen.folder._states.clear()
        again = session_state(self.place, seen.opened.row.id)
        self.assertAlmostEqual(again.need_map().bpm_at(0.0), measured, places=9)

    def test_a_range_of_odd_length_is_not_read_as_whole_bars(self) -> None:
        seen = self.heard(118.0, 16, "tub kit.wav", 0.0)
        lead = seen.need_lead()
        beat, pace = 60 / 118, seen.own_pace(lead.id)
        with self.place.source(seen.rows[lead.id]) as source:
            odd = measure_along(source, seen.onsets(lead.id), pace, (0.5 + 4 * beat, 0.5 + 11 * beat))
            even = measure_along(source, seen.onsets(lead.id), pace, (0.5 + 4 * beat, 0.5 + 12 * beat))
            said = measure_along(source, seen.onsets(lead.id), pace, (0.5 + 4 * beat, 0.5 + 11 * beat), 2)
        shown = measured_document(odd)
        self.assertTrue(shown["sentence"].startswith("1.75 bars of 118"))
        self.assertFalse(shown["whole"])
        self.assertAlmostEqual(shown["next_s"], 0.5 + 12 * beat, delta=0.002)
        self.assertTrue(measured_document(even)["whole"])
        self.assertIn("are 2 bars: 118.", measured_document(even)["sentence"])
        # Whoever says that it is two bars means it.
        self.assertTrue(measured_document(said)["whole"])
        # All times of a sentence are those of the session.
        late = measured_document(even, 10.0)
        self.assertEqual(late["from_s"], round(even.from_s + 10.0, 6))
        self.assertIn("From 0:12.534", late["sentence"])
