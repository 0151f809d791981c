"""What the stations say of a take is so: padding, tempi, hats, lateness, readings, names, grooves, fits."""

from dataclasses import replace
from types import SimpleNamespace
from unittest.mock import patch

import numpy as np
import soundfile as sf

from combpace.core.analysis.hats import HIGHS
from combpace.drawing import picture
from combpace.session import fits, shelf, words
from combpace.session.grooves import GrooveLibrary, groove_taken
from combpace.session.state import SessionState, session_state
from combpace.stations import lead_readings
from combpace.stations.fit.station import fit_sentence
from combpace.stations.pace import offers
from combpace.stations.pace.station import values
from combpace.stations.takes import importing
from rig import heard
from rig.lossy import write_mp3
from rig.places import PlaceTest, bring_in, look
from rig.sounds import struck

BEAT_S = 0.5


def programmed(start_s: float, bars: int = 20, rate: int = 44100) -> np.ndarray:
    """A machine at 120 BPM, shape (frames,)."""
    times = start_s + BEAT_S * np.arange(4 * bars)
    return np.asarray(struck(times, float(times[-1]) + 1.0, rate=rate, low_every=4).samples[0])


class DelayTest(PlaceTest):
    def alone(self, name: str, sound: np.ndarray) -> SessionState:
        """The state of a session with one file, as its ending says."""
        session = shelf.create(self.place, name)
        path = self.folder / name
        if name.endswith(".mp3"):
            write_mp3(path, sound, 44100, header=False)
        else:
            sf.write(path, sound, 44100)
        heard.imported(self.place, importing.add_upload(self.place, session, path, name))
        return session_state(self.place, session)

    def test_padding_is_named_of_lossy_files_only(self) -> None:
        # Without the header of its encoder an MP3 comes out late by what was put before it.
        late = [
            one for one in look(self.alone("machine.mp3", programmed(1.0)), "pace") if one.about == "padding"
        ]
        self.assertEqual(len(late), 1)
        wav = self.alone("machine.wav", programmed(1.237))
        self.assertEqual([one for one in look(wav, "pace") if one.about == "padding"], [])
        # And of a lossy file nothing that no encoder leaves.
        odd = self.alone("odd.mp3", programmed(1.075))
        self.assertEqual([one for one in look(odd, "pace") if one.about == "padding"], [])


class SteadyTest(PlaceTest):
    def played(self, times: np.ndarray, name: str = "tub kit.wav") -> SessionState:
        self.session = shelf.create(self.place, name)
        bring_in(self.place, self.session, struck(times, float(times[-1]) + 1.0, low_every=4), name)
        return self.seen()

    def test_playing_that_slows_down_at_the_end_is_not_called_steady(self) -> None:
        gaps = np.r_[np.full(4 * 36, BEAT_S), np.full(4 * 4, 1.08 * BEAT_S)]
        seen = self.played(0.5 + np.r_[0.0, np.cumsum(gaps)[:-1]])
        pace = values(seen, seen.need_lead().id)["pace"]
        self.assertEqual(pace["verdict"], "The playing is steady up to bar 37")
        self.assertEqual((pace["map_advice"], pace["offer"]), ("let the map follow it", None))
        # One number for one question: what the table of tempi says of the end.
        self.assertEqual(
            pace["course"], "from bar 37 on beats leave its tempo; at the end attacks come 460 ms later"
        )
        self.assertEqual(pace["lines"][0].at_end, "+460.0")
        wanders = [one for one in look(seen, "pace") if one.about == "wanders"]
        self.assertEqual([one.where for one in wanders], ["bar 37"])
        # Taken, the map follows to the end.
        assert wanders[0].do is not None
        self.act(wanders[0].do.name, **wanders[0].do.args)
        self.assertAlmostEqual(self.line(39), 0.5 + 144 * BEAT_S + 12 * 1.08 * BEAT_S, delta=0.02)

    def test_what_is_steady_to_the_end_is_said_to_be(self) -> None:
        rng = np.random.default_rng(3)
        seen = self.played(0.5 + BEAT_S * np.arange(96) + rng.normal(0, 0.006, 96))
        pace = values(seen, seen.need_lead().id)["pace"]
        self.assertEqual(
            (pace["verdict"], pace["map_advice"]), ("The playing is steady", "one tempo will do")
        )

    def test_a_map_that_lies_beside_every_attack_is_named(self) -> None:
        rng = np.random.default_rng(3)
        seen = self.played(0.5 + BEAT_S * np.arange(96) + rng.normal(0, 0.002, 96))
        self.assertFalse([one for one in look(seen, "bars") if "against most" in one.title])
        self.act("steady", bar_1_s=(seen.map_choice().bar_1_s or 0.0) - 0.211)
        titles = [one.title for one in look(self.seen(), "bars")]
        self.assertRegex("\n".join(titles), r"Attacks lie 21[12] ms late against most bar lines")


class HatsTest(PlaceTest):
    def test_of_a_bundle_the_mic_with_most_highs_says_what_they_play(self) -> None:
        def mic(lows: float, highs: float, hits: str) -> SimpleNamespace:
            bands = np.zeros((8, 3))
            bands[:, 0], bands[:, HIGHS] = lows, highs
            return SimpleNamespace(facts={"hats": {"says": hits}}, bands=bands)

        mics = {"kick": mic(1.0, 0.05, "one"), "hat": mic(0.1, 1.0, "four"), "snare": mic(0.6, 0.3, "two")}
        entries = tuple(SimpleNamespace(id=name) for name in mics)
        document = SimpleNamespace(lead=entries[0], bundle_of=lambda take: entries)
        state = SimpleNamespace(document=document, analysis=mics.get)
        self.assertEqual(offers.hats_of(state), {"says": "four"})  # type: ignore[arg-type]


class FitWordsTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        late = np.where(np.arange(len(self.beats)) % 2, 0.09, -0.06)
        self.loose = bring_in(
            self.place, self.session, struck(self.beats + late, 25.0, low_every=4), "organ.wav"
        )

    def test_what_is_cut_is_not_called_stretched(self) -> None:
        self.act("rule", take=self.loose, field="grid", value="1/4")
        self.act("rule", take=self.loose, field="method", value="cut")
        made = fits.take_fit(self.seen(), self.loose)
        self.assertEqual(made.method, "cut")
        self.assertNotIn("stretched", made.reason.replace("without stretching", ""))

    def test_a_coarse_fit_says_how_far_all_of_it_goes(self) -> None:
        self.act("steady")
        self.act("rule", take=self.loose, field="coarse", value="yes")
        made = fits.take_fit(self.seen(), self.loose)
        numbers = picture.fit_numbers(self.seen(), made)
        moved = 1000 * np.abs(made.fit.time_map.source_s + made.take.offset_s - made.fit.time_map.target_s)
        self.assertGreater(float(moved[1:-1].max()), 20.0)
        self.assertGreater(numbers["pulled"], 0)
        self.assertAlmostEqual(numbers["largest_ms"], float(moved[1:-1].max()), delta=1.0)

    def test_a_groove_in_force_stands_once_in_its_field(self) -> None:
        library = GrooveLibrary(self.place)
        kept = library.add(groove_taken(self.seen(), self.loose, (2, 5), "1/8", "shuffle"))
        names = [name for _, name in fit_sentence(self.seen(), self.lead)["groove_options"]]
        self.assertEqual(names, ["groove: shuffle"])
        self.act("rule", take=self.loose, field="grid", value=f"groove:{kept.id}")
        sentence = fit_sentence(self.seen(), self.loose)
        self.assertEqual((sentence["groove"], sentence["groove_options"]), ("shuffle", ()))


class NamesTest(PlaceTest):
    def test_a_taken_name_gets_a_number(self) -> None:
        for _ in range(2):
            bring_in(self.place, self.session, struck(self.beats + 0.01, 25.0), "tub kit.wav")
        self.assertEqual(
            sorted(take.name for take in self.seen().document.takes), ["tub kit", "tub kit 2", "tub kit 3"]
        )

    def test_readings_that_are_counted_alike_are_told_apart(self) -> None:
        seen = self.seen()
        first = seen.readings(self.lead)[0]
        twins = tuple(
            replace(first, rank=rank, pace=first.pace.shifted(0.25 * rank), probability=0.4)
            for rank in (1, 2, 3)
        )
        with patch.object(SessionState, "readings", return_value=twins):
            labels = [way.sentence for way in lead_readings.ways(seen)]
        self.assertEqual(len(labels), 3)
        self.assertEqual(len({label.rpartition(",")[0] for label in labels}), 3)
        self.assertTrue(any("bar 1 at 0:" in label for label in labels), labels)

    def test_statements_that_are_lost_are_named(self) -> None:
        self.act("steady")
        self.act("downbeat", time_s=self.line(4))
        before = self.line(4)
        note = self.act("audio-to-bar", take=self.lead, time_s=float(self.beats[1]), bar=1).note
        self.assertIn(f"What you stated of the downbeat at {words.clock(before)} no longer holds", note)
        self.assertIn("no bar line", note)

    def test_lengths_have_one_decimal(self) -> None:
        self.assertEqual(
            [words.ms(value) for value in (299.999, -0.05, 12.345)], ["300.0 ms", "0.1 ms", "12.3 ms"]
        )
