"""Several sentences of one take, each for its bars: said over the wire, undone, removed, refused."""

import json
from pathlib import Path

import numpy as np

from combpace.core.errors import ParameterError
from combpace.drawing import picture
from combpace.session import fits
from combpace.session.document import parts as forms
from combpace.stations.fit.station import fit_sentence
from rig.places import PlaceTest, bring_in
from rig.sounds import struck


class RulesOfBarsTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(11)
        played = self.beats + rng.uniform(-0.03, 0.03, len(self.beats))
        self.loose = bring_in(
            self.place, self.session, struck(played, float(played[-1]) + 1), "reed organ.wav"
        )

    def say(self, bars: str | None, **values: object) -> str:
        return self.act("rule", take=self.loose, bars=bars, set=values).note

    def said(self) -> list[tuple[tuple[int, int] | None, float]]:
        return [(one.bars, one.strength) for one in self.seen().document.rules[self.loose].rules]

    def sounds(self) -> np.ndarray:
        marks = np.asarray(self.seen().onsets(self.loose).times)
        return fits.take_fit(self.seen(), self.loose).fit.time_map.to_target(marks)

    def bars(self) -> np.ndarray:
        places = self.seen().own_pace(self.loose).to_quarters(self.seen().onsets(self.loose).times)
        return np.array([self.seen().need_map().bar_of(float(place) + 0.125) + 1 for place in places])

    def test_one_of_some_bars_leaves_the_others_as_they_were(self) -> None:
        self.say(None, grid="1/4", strength=90, leave_alone=0, ignore="nothing")
        before, at = self.sounds(), self.bars()
        note = self.say("3-4", strength=40)
        self.assertIn("Bars 3–4: 40 % strength.", note)
        self.assertEqual(self.said(), [(None, 90.0), ((3, 4), 40.0)])
        after, inside = self.sounds(), (at >= 3) & (at <= 4)
        self.assertGreater(np.abs(after - before)[inside].max(), 0.005)
        np.testing.assert_allclose(after[~inside], before[~inside], atol=1e-9)
        # One bar of them alone, and the sentence of all bars still says what it says.
        self.say("4", strength=0)
        self.act("rule", take=self.loose, field="strength", value="100")
        self.assertEqual(self.said(), [(None, 100.0), ((3, 4), 40.0), ((4, 4), 0.0)])
        drawn = picture.picture(self.seen(), self.loose)["fit"]
        self.assertEqual(
            [(one["first"], one["last"], one["short"]) for one in drawn["ranges"]],
            [(2, 3, "40 %"), (3, 3, "0 %")],
        )
        self.assertEqual(
            [one["key"] for one in fit_sentence(self.seen(), self.loose)["ranges"]], ["3-4", "4-4"]
        )
        self.act("rule-remove", take=self.loose, bars="3-4")
        self.assertEqual(self.said(), [(None, 100.0), ((4, 4), 0.0)])
        self.act("undo")
        self.assertEqual(len(self.said()), 3)

    def test_the_first_of_some_bars_keeps_what_was_proposed(self) -> None:
        before, at = self.sounds(), self.bars()
        self.say("3", strength=0)
        self.assertEqual(self.said(), [(None, 100.0), ((3, 3), 0.0)])
        np.testing.assert_allclose(self.sounds()[at != 3], before[at != 3], atol=1e-9)

    def test_a_field_without_bars_is_that_of_all_or_of_the_only_one(self) -> None:
        self.act("rule", take=self.loose, field="bars", value="2-3")
        self.assertEqual(self.said(), [((2, 3), 100.0)])
        self.act("rule", take=self.loose, field="strength", value="70")
        self.say("5-6", strength=20)
        self.assertEqual(self.said(), [((2, 3), 70.0), ((5, 6), 20.0)])
        with self.assertRaisesRegex(ParameterError, "Bars 2–3 and bars 5–6 have sentences of their own"):
            self.act("rule", take=self.loose, field="strength", value="10")
        # Method and mics are the take's, and a range may become another.
        self.act("rule", take=self.loose, bars="5-6", set={"method": "strike", "bars": "6-7"})
        choice = self.seen().document.rules[self.loose]
        self.assertEqual((choice.method, [one.bars for one in choice.rules]), ("strike", [(2, 3), (6, 7)]))
        # One of all bars comes before them, so that they still count.
        self.say(None, strength=50)
        self.assertEqual([bars for bars, _ in self.said()], [None, (2, 3), (6, 7)])

    def test_what_no_bars_can_mean_is_refused_and_changes_nothing(self) -> None:
        self.say(None, grid="1/4")
        before = self.said()
        for bars, words in (
            ("0", "no bar 0"),
            ("0-3", "no bar 0"),
            ("5-3", "run backwards"),
            ("900", "beyond the take, which has"),
            ("3-900", "beyond the take"),
            ("soon", "names no bars"),
        ):
            with self.subTest(bars=bars), self.assertRaisesRegex(ParameterError, words) as refused:
                self.say(bars, strength=50)
            self.assertTrue(str(refused.exception).endswith("Nothing was changed."))
        for args in (
            {"bars": "2", "set": {"volume": 3}},
            {"bars": "2", "set": {"strength": "much"}},
            {"bars": "2", "field": "strength", "value": "50", "set": {"strength": 50}},
            {"bars": "2"},
            {"field": "strength"},
        ):
            with self.subTest(args), self.assertRaisesRegex(ParameterError, "Nothing was changed"):
                self.act("rule", take=self.loose, **args)
        for bars in ("2", "4-5"):
            with self.assertRaisesRegex(ParameterError, "No sentence is about .*Nothing was changed"):
                self.act("rule-remove", take=self.loose, bars=bars)
        self.assertEqual(self.said(), before)

    def test_other_takes_get_the_sentences_of_bars_that_they_have(self) -> None:
        short = bring_in(self.place, self.session, struck(self.beats[:14] + 0.01, 9.0), "spoons.wav")
        self.say(None, grid="1/4", strength=90)
        self.say("2", strength=10)
        self.say("6-7", strength=20)
        self.act("rule-to-others", take=self.loose, takes=[short])
        rules = self.seen().document.rules[short].rules
        self.assertEqual([one.bars for one in rules], [None, (2, 2)])
        # What a change of the map took the bars from stands in no other's way.
        self.act("meter", meter="7/4")
        self.assertIn("with 80 % strength", self.say(None, strength=80))

    def test_many_sentences_are_said_in_few_words(self) -> None:
        self.say(None, grid="1/4")
        for bar in range(1, 7):
            note = self.say(str(bar), strength=10 * bar)
        self.assertIn("Bar 6: 60 % strength. Bar 5: 50 % strength. Bar 4: 40 % strength. And 3 more", note)

    def test_without_any_sentence_it_is_as_it_was_played(self) -> None:
        with self.assertRaisesRegex(ParameterError, "Nothing is said"):
            self.act("rule-remove", take=self.loose, bars=None)
        self.say(None, grid="1/4")
        note = self.act("rule-remove", take=self.loose, bars=None).note
        self.assertIn("sounds as it was played.", note)
        self.assertFalse(fits.is_fitted(self.seen(), self.loose))
        # What is pulled by hand stays pulled.
        mark = float(self.seen().onsets(self.loose).times[6])
        self.act("peg", take=self.loose, take_s=mark, quarters=6.25)
        self.act("rule-remove", take=self.loose, bars=None)
        made = fits.take_fit(self.seen(), self.loose)
        self.assertTrue(made.stated)
        self.assertAlmostEqual(made.fit.time_map.to_target([mark])[0], self.seen().need_map().second(6.25))
        self.assertTrue(all(peg.target_s == peg.own_s for peg in made.fit.pegs if peg.kind != "hand"))

    def test_a_rule_of_form_9_says_the_same_in_form_10(self) -> None:
        raw = json.loads((Path(__file__).parents[1] / "support" / "document_form_9.json").read_text())
        choice = forms.read(raw, 9).rules["TAKE"]
        rule = choice.rules[0]
        self.assertEqual((choice.method, choice.before, len(choice.rules)), ("strike", True, 1))
        self.assertEqual(
            (rule.share, rule.leave_alone_ms, rule.ignore_beyond, rule.bars, rule.keep_lag, rule.accent),
            (0.85, 4.0, "1/32t", (2, 5), True, 60.0),
        )
        self.assertEqual((rule.groove_start, str(rule.places.value)), (1, "4"))
        again = forms.rule_from(forms.rule_part(choice))
        self.assertEqual(again, choice)
