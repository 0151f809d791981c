import unittest

import numpy as np

from combpace.core.clocks import SessionTimes, TakeTimes, take_times
from combpace.core.fit.follow import following, placed
from combpace.core.fit.pegs import fit
from combpace.core.fit.rule import HandPeg, Rule
from combpace.core.onsets.detect import Onsets
from combpace.core.tempo.map import Knot, TempoMap, steady_map
from rig.sounds import marks

OWN: TempoMap[TakeTimes] = steady_map(120, 0.0)
SESSION: TempoMap[SessionTimes] = steady_map(120, 0.0)
PLAYED = [0.012, 0.497, 1.03, 1.509, 1.94, 2.5]


class RuleTest(unittest.TestCase):
    def fitted(self, rule: Rule | None, times: list[float] | None = None, **more: object):  # type: ignore[no-untyped-def]
        return fit(
            marks(PLAYED if times is None else times),
            OWN,
            following(OWN, SESSION, 0.0, 4.0),
            SESSION,
            4.0,
            rule,
            **more,
        )  # type: ignore[arg-type]

    def test_full_strength_puts_every_onset_on_the_grid(self) -> None:
        made = self.fitted(Rule(grid="1/4"))
        np.testing.assert_allclose([peg.target_s for peg in made.pegs], [0, 0.5, 1, 1.5, 2, 2.5])
        np.testing.assert_allclose(made.time_map.to_target(PLAYED), [0, 0.5, 1, 1.5, 2, 2.5], atol=1e-9)

    def test_strength_is_linear(self) -> None:
        made = self.fitted(Rule(grid="1/4", strength=80))
        np.testing.assert_allclose(
            [peg.target_s for peg in made.pegs],
            np.array(PLAYED) + 0.8 * (np.array([0, 0.5, 1, 1.5, 2, 2.5]) - PLAYED),
        )

    def test_leave_alone_keeps_the_own_place_as_a_peg(self) -> None:
        made = self.fitted(Rule(grid="1/4", leave_alone_ms=10))
        kinds = {round(peg.take_s, 3): peg.kind for peg in made.pegs}
        self.assertEqual(
            [kinds[time] for time in PLAYED],
            ["pulled", "left alone", "pulled", "left alone", "pulled", "left alone"],
        )
        self.assertAlmostEqual(float(made.time_map.to_target(0.497)[0]), 0.497)

    def test_ignored_onsets_ride_between_their_neighbours(self) -> None:
        made = self.fitted(Rule(grid="1/4", ignore_beyond_ms=40))
        self.assertEqual(list(made.riding), [1.94])
        self.assertEqual(made.reasons, ("ignored",))
        self.assertTrue(1.5 < float(made.time_map.to_target(1.94)[0]) < 2.5)

    def test_two_onsets_for_one_place_the_nearer_wins(self) -> None:
        made = self.fitted(Rule(grid="1/4"), [0.98, 1.01])
        self.assertEqual([peg.take_s for peg in made.pegs], [1.01])
        self.assertEqual((list(made.riding), made.reasons), ([0.98], ("place taken",)))

    def test_start_and_end_are_held_and_outside_a_range_nothing_moves(self) -> None:
        made = self.fitted(Rule(grid="1/4", bars=(2, 2)), [0.52, 1.03, 2.03, 2.52, 3.48])
        self.assertEqual((made.time_map.target_s[0], made.time_map.target_s[-1]), (0.0, 4.0))
        # Up to the last attack before the range; from there to it sound is stretched.
        np.testing.assert_allclose(made.time_map.to_target([0.52, 1.03]), [0.52, 1.03], atol=1e-9)
        np.testing.assert_allclose(made.time_map.to_target([2.03, 2.52]), [2.0, 2.5], atol=1e-9)

    def test_nothing_moves_outside_of_a_range_also_after_its_last_bar(self) -> None:
        # The downbeat after bar 2, 20 ms late at 4.02 s, and all after it stay to the sample; so does all
        # before bar 2.
        times = [0.52, 1.03, 1.98, 2.53, 3.04, 3.47, 4.02, 4.55]
        made = fit(
            marks(times), OWN, following(OWN, SESSION, 0.0, 6.0), SESSION, 6.0, Rule(grid="1/4", bars=(2, 2))
        )
        outside = np.concatenate([np.linspace(0.0, 1.03, 9), np.linspace(4.02, 6.0, 9)])
        np.testing.assert_allclose(made.time_map.to_target(outside), outside, atol=1e-9)
        np.testing.assert_allclose(
            made.time_map.to_target([1.98, 2.53, 3.04, 3.47]), [2.0, 2.5, 3.0, 3.5], atol=1e-9
        )

    def test_the_own_lag_stays_and_the_scatter_shrinks(self) -> None:
        # Laid back by 22.7 ms, scattered by up to 9: at 90 % still 22.7 late in the middle, scattered by up
        # to .9.
        scatter = np.array([-9.0, 4.0, 0.0, 7.0, -5.0, 2.0, -1.0]) / 1000
        times = 0.5 * np.arange(1, 8) + 0.0227 + scatter
        made = self.fitted(Rule(grid="1/4", strength=90, keep_lag=True), list(times))
        off = np.array([peg.target_s for peg in made.pegs]) - 0.5 * np.arange(1, 8)
        self.assertAlmostEqual(float(np.median(off)), 0.0227, places=6)
        np.testing.assert_allclose(off - 0.0227, 0.1 * scatter, atol=1e-6)
        # Without it all of it goes.
        plain = self.fitted(Rule(grid="1/4", strength=90), list(times))
        self.assertAlmostEqual(
            float(np.median([peg.target_s - peg.own_s for peg in plain.pegs])), -0.9 * 0.0227, delta=0.001
        )

    def test_coarse_pulls_each_bars_first_attack_and_keeps_what_lies_inside_in_proportion(self) -> None:
        times = [0.04, 0.61, 1.13, 2.06, 2.58, 3.13, 3.97]
        made = self.fitted(Rule(grid="1/16", strength=50, coarse=True), times)
        self.assertEqual(
            [(peg.take_s, round(peg.target_s, 6)) for peg in made.pegs],
            [(0.04, 0.0), (2.06, 2.0), (3.97, 4.0)],
        )
        self.assertEqual(set(made.reasons), {"inside its bar"})
        # 0.04 to 2.06 becomes 0 to 2: what lay at .57 of 2.02 lies at .57 / 2.02 of 2 s.
        self.assertAlmostEqual(float(made.time_map.to_target(0.61)[0]), 0.57 / 2.02 * 2.0, places=6)

    def test_hand_pegs_win_over_the_rule(self) -> None:
        made = self.fitted(Rule(grid="1/4"), hand=(HandPeg(1.03, quarters=2.25),))
        self.assertAlmostEqual(float(made.time_map.to_target(1.03)[0]), 1.125)

    def test_neighbours_of_a_pull_stand_where_they_stand(self) -> None:
        # All hold where they were played; 1.2 goes to 1.38 s: 200 ms to 1.4 become 20, and that is listed.
        times, still = [0.5, 1.0, 1.2, 1.4, 2.0], Rule(grid="1/4", strength=0)
        made = self.fitted(still, times, hand=(HandPeg(1.2, session_s=1.38),))
        self.assertEqual(list(made.riding), [])
        others = [0.5, 1.0, 1.4, 2.0]
        np.testing.assert_allclose(made.time_map.to_target(others), others, atol=1e-9)
        self.assertLess(float(np.min(made.time_map.factors)), 0.5)

    def test_pulled_past_a_neighbour_it_gives_way_and_the_next(self) -> None:
        times, still = [0.5, 1.0, 1.2, 1.4, 2.0], Rule(grid="1/4", strength=0)
        for to, gone in ((1.5, [1.4]), (0.9, [1.0]), (2.1, [1.4, 2.0]), (0.45, [0.5, 1.0])):
            made = self.fitted(still, times, hand=(HandPeg(1.2, session_s=to),))
            self.assertEqual((list(made.riding), set(made.reasons)), (gone, {"gave way"}))
            self.assertAlmostEqual(float(made.time_map.to_target(1.2)[0]), to, places=9)
            stays = [time for time in times if time not in (1.2, *gone)]
            np.testing.assert_allclose(made.time_map.to_target(stays), stays, atol=1e-9)

    def test_what_is_held_as_played_lies_where_no_rule_acts(self) -> None:
        made = self.fitted(Rule(grid="1/4"), hand=(HandPeg(1.03),))
        self.assertAlmostEqual(float(made.time_map.to_target(1.03)[0]), 1.03)
        self.assertEqual([peg.kind for peg in made.pegs if peg.take_s == 1.03], ["as played"])

    def test_nothing_is_ever_folded_over(self) -> None:
        rng = np.random.default_rng(3)
        for _ in range(40):
            times = np.sort(rng.uniform(0.01, 3.9, 40))
            times = times[np.concatenate([[True], np.diff(times) > 0.005])]
            made = self.fitted(
                Rule(grid=f"1/{int(rng.choice([4, 8, 16, 64]))}", strength=100 * float(rng.uniform())),
                list(times),
            )
            self.assertTrue(np.all(np.diff(made.time_map.target_s) > 0))

    def test_silence_and_no_rule(self) -> None:
        np.testing.assert_allclose(self.fitted(Rule(grid="1/8"), []).time_map.factors, [1.0])
        np.testing.assert_allclose(self.fitted(None).time_map.factors, [1.0])


class WhoWinsTest(unittest.TestCase):
    """Of two onsets for one place one is pulled; a limit is a hair inside and a hair outside."""

    def test_of_two_as_near_the_stronger_is_pulled(self) -> None:
        for strengths, winner in (([0.3, 0.8], 1.02), ([0.8, 0.3], 0.98)):
            onsets = Onsets(take_times([0.98, 1.02]), np.array(strengths), np.full(2, 0.9))
            made = fit(onsets, OWN, following(OWN, SESSION, 0.0, 4.0), SESSION, 4.0, Rule(grid="1/4"))
            self.assertEqual([peg.take_s for peg in made.pegs], [winner])

    def test_what_is_ignored_in_note_values(self) -> None:
        # A thirty-second at 120 BPM is 62.5 ms.
        made = fit(
            marks([0.05, 1.07]),
            OWN,
            following(OWN, SESSION, 0.0, 4.0),
            SESSION,
            4.0,
            Rule(grid="1/4", ignore_beyond="1/32"),
        )
        self.assertEqual([peg.take_s for peg in made.pegs], [0.05])
        self.assertEqual((list(made.riding), made.reasons), ([1.07], ("ignored",)))


class TwoPacesTest(unittest.TestCase):
    def test_a_take_of_another_tempo_follows_the_session(self) -> None:
        own: TempoMap[TakeTimes] = steady_map(100, 0.0)
        session: TempoMap[SessionTimes] = steady_map(120, 2.0)
        made = fit(
            marks(np.arange(8) * 0.6), own, following(own, session, 0.0, 4.8), session, 4.8, Rule(grid="1/4")
        )
        np.testing.assert_allclose(
            made.time_map.to_target(np.arange(8) * 0.6), 2 + np.arange(8) * 0.5, atol=1e-9
        )

    def test_a_breathing_session_moves_a_fitted_take_with_its_map(self) -> None:
        times = np.cumsum([0, 0.5, 0.52, 0.55, 0.5, 0.48])
        session: TempoMap[SessionTimes] = TempoMap(
            tuple(Knot(float(t) + 1.0, float(k)) for k, t in enumerate(times))
        )
        own: TempoMap[TakeTimes] = session.shifted(-1.0)  # type: ignore[assignment]
        played = times + np.array([0.01, -0.01, 0.02, 0, -0.02, 0.01])
        made = fit(marks(played), own, placed(1.0, 3.2), session, 3.2, Rule(grid="1/4"))

        np.testing.assert_allclose(made.time_map.to_target(played), times + 1.0, atol=1e-9)
        # Where the music was on the line already nothing else has moved: the take keeps its own pace.
        self.assertAlmostEqual(float(made.time_map.to_target(3.2)[0]), 4.2, places=6)
