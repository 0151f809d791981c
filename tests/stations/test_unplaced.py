"""What a rule cannot place is listed in Fit, each with a place to pull it to."""

import numpy as np

from combpace.session import fits
from combpace.stations.fit.unplaced import MOST_LISTED
from rig.places import PlaceTest, bring_in, look
from rig.sounds import struck


class UnplacedTest(PlaceTest):
    def beside(self, by: dict[int, float]) -> str:
        """A take that plays the lead's beats, some of them beside."""
        times = self.beats + np.array([by.get(k, 0.0) for k in range(len(self.beats))])
        return bring_in(self.place, self.session, struck(times, float(times[-1]) + 1), "spoons.wav")

    def titles(self, take: str) -> list[str]:
        return [place.title for place in look(self.seen(), "fit", take)]

    def test_what_lies_on_its_places_lists_nothing(self) -> None:
        self.assertEqual(self.titles(self.beside({})), [])

    def test_what_rides_far_off_is_listed_and_pulled_to_its_place(self) -> None:
        take = self.beside({9: 0.09, 14: 0.07})
        found = look(self.seen(), "fit", take)
        self.assertEqual([place.title for place in found], ["Rides: farther off than what is ignored"] * 2)
        self.assertGreater(found[0].worth, found[1].worth)
        self.assertIn("90 ms after 3·2", found[0].reason)
        assert found[0].do is not None and found[1].keep is not None
        self.act(found[0].do.name, **found[0].do.args)
        made = fits.take_fit(self.seen(), take).fit
        line = self.seen().need_map()
        at = float(self.beats[9]) + 0.09
        self.assertAlmostEqual(float(made.time_map.to_target(at)[0]), line.second(9.0), delta=0.004)
        self.act(found[1].keep.name, **found[1].keep.args)
        self.assertEqual(self.titles(take), [])

    def test_what_goes_more_than_a_third_of_the_grid_may_be_meant_for_the_next(self) -> None:
        take = self.beside({9: 0.12})
        self.act("rule", take=take, field="grid", value="1/8")
        self.act("rule", take=take, field="ignore", value="nothing")
        (found,) = look(self.seen(), "fit", take)
        self.assertEqual(found.title, "Goes more than a third of the grid")
        assert found.do is not None
        self.assertEqual(found.do.label, "Pull it to 3·2.5")

    def test_many_of_a_kind_are_one_place(self) -> None:
        take = self.beside(dict.fromkeys(range(2, 2 + MOST_LISTED + 4), 0.08))
        (found,) = look(self.seen(), "fit", take)
        self.assertIn("onsets ride farther off than what is ignored", found.title)
        self.assertIsNone(found.do)


class LagTest(PlaceTest):
    def test_a_take_with_its_own_pace_has_a_lag_of_its_off_beats_only(self) -> None:
        take = bring_in(self.place, self.session, struck(self.beats, float(self.beats[-1]) + 1), "spoons.wav")
        self.act("take", take=take, field="pace", value="own")
        self.assertIn(
            "The lead or lag of its off-beats stays",
            self.act("rule", take=take, field="keep_lag", value="yes").note,
        )
        self.assertIn(
            "Its own lead or lag stays", self.act("rule", take=self.lead, field="keep_lag", value="yes").note
        )
