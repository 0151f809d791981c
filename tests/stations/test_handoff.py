"""What is announced is what is written; files read back by readers that are not ours (soundfile, wavinfo,
mido, zipfile).
"""

import io
import json
import zipfile
from unittest import mock

import mido
import numpy as np
import soundfile as sf
from wavinfo import WavInfoReader

from combpace.batch.recipe import Recipe, recipe_of
from combpace.core.errors import ParameterError
from combpace.playback.mixing import panned
from combpace.session import fits, shelf
from combpace.stations.handoff import write
from combpace.stations.handoff.ordering import Wish, announced, last_wish, order, order_args
from combpace.stations.handoff.station import orders_of
from combpace.store import rows
from rig.places import PlaceTest, breathing, bring_in
from rig.sounds import struck


class HandOffTest(PlaceTest):
    def setUp(self) -> None:
        super().setUp()
        self.act("bar-1", time_s=float(self.beats[4]))
        _, audio = breathing(rate=48000)
        self.other = bring_in(self.place, self.session, audio, "room.wav")
        self.act("rule", take=self.other, field="grid", value="1/4")

    def made(self, **wish: object) -> dict[str, bytes]:
        """Everything that an order writes, by name."""
        asked = Wish(**{"takes": [self.lead, self.other], **wish})  # type: ignore[arg-type]
        with write.written(self.place, order_args(self.seen(), asked), lambda phase, share: None) as files:
            return {file.name: file.path.read_bytes() for file in files}

    def sound(self, data: bytes) -> tuple[np.ndarray, int]:
        return sf.read(io.BytesIO(data), dtype="float32", always_2d=True)

    def test_what_is_announced_is_what_is_written_to_the_byte(self) -> None:
        for wish in (
            {"kind": "wav16", "extras": ["midi", "json", "csv", "click", "report"]},
            {"kind": "wav24", "written": "files and mix", "markers": True, "start": "bar 2", "bars": 3},
            {"kind": "wav32f", "levels": "as mixed", "rate": 96000, "start": "lead-in"},
        ):
            with self.subTest(wish=wish):
                said = announced(self.seen(), Wish(takes=[self.lead, self.other], **wish))  # type: ignore[arg-type]
                made = self.made(**wish)
                self.assertEqual([file["name"] for file in said["files"]] + [said["archive"]], list(made))
                for file in said["files"]:
                    if file["bytes"] is not None:
                        self.assertLessEqual(abs(len(made[file["name"]]) - file["bytes"]), 1)
                    if file["channels"]:
                        info = sf.info(io.BytesIO(made[file["name"]]))
                        self.assertEqual(
                            (info.frames, info.samplerate, info.channels),
                            (said["frames"], said["rate_hz"], file["channels"]),
                        )

    def test_made_twice_is_the_same_bytes_whatever_the_clock_says(self) -> None:
        wish = {
            "kind": "wav32f",
            "written": "files and mix",
            "markers": True,
            "extras": ["midi", "json", "csv", "click", "report"],
        }
        first = self.made(**wish)
        with mock.patch("time.time", lambda: 1e9):
            second = self.made(**wish)
        self.assertEqual(first, second)
        for name, data in first.items():
            at = data.find(b"PEAK")
            if name.endswith(".wav") and at >= 0:
                self.assertEqual(
                    data[at + 12 : at + 16], b"\0\0\0\0", f"{name} holds the time at which it was written"
                )
        pack = zipfile.ZipFile(
            io.BytesIO(next(data for name, data in first.items() if name.endswith(".zip")))
        )
        self.assertEqual({entry.date_time for entry in pack.infolist()}, {(1980, 1, 1, 0, 0, 0)})
        self.assertEqual(
            {name: pack.read(name) for name in pack.namelist()},
            {name: data for name, data in first.items() if not name.endswith(".zip")},
        )

    def test_loops_of_exactly_so_many_bars_start_at_their_bar(self) -> None:
        whole = self.made(kind="wav32f", start="bar 1")
        part = self.made(kind="wav32f", start="bar 3", bars=2)
        rate = 44100
        frames = round(self.line(4) * rate) - round(self.line(2) * rate)
        for name, data in part.items():
            if name.endswith(".wav"):
                samples, _ = self.sound(data)
                self.assertEqual(len(samples), frames)
                long, _ = self.sound(
                    next(
                        data
                        for other, data in whole.items()
                        if other.rsplit(" - ")[-1] == name.rsplit(" - ")[-1]
                    )
                )
                skipped = round(self.line(2) * rate) - round(self.line(0) * rate)
                np.testing.assert_array_equal(samples, long[skipped : skipped + frames])
        self.assertTrue(all("bars 3 to 4" in name for name in part))

    def test_a_map_of_some_bars_is_counted_from_their_first(self) -> None:
        made = self.made(takes=[], start="bar 3", bars=2, extras=["midi", "json"], markers=True)
        document = json.loads(next(data for name, data in made.items() if name.endswith(".json")))
        self.assertEqual([bar["bar"] for bar in document["bars"]], [3, 4])
        self.assertAlmostEqual(document["bars"][1]["start_s"], self.line(3) - self.line(2), places=6)
        file = mido.MidiFile(
            file=io.BytesIO(next(data for name, data in made.items() if name.endswith(".mid")))
        )
        now, found = 0.0, []
        for message in file:
            now += message.time
            if message.type == "marker":
                found.append((message.text, now))
        self.assertEqual([text for text, _ in found], ["bar 3", "bar 4"])
        self.assertAlmostEqual(found[1][1], self.line(3) - self.line(2), delta=0.1e-3)

    def test_markers_at_bars_are_read_by_another_reader(self) -> None:
        made = self.made(markers=True, start="bar 2")
        for name, data in made.items():
            if not name.endswith(".wav"):
                continue
            path = self.folder / "cue.wav"
            path.write_bytes(data)
            info = WavInfoReader(str(path))
            self.assertEqual(info.cues.cues[0].sample_offset, 0)
            labels = [label.text for label in info.cues.labels]
            self.assertEqual(labels[:3], ["bar 2", "bar 3", "bar 4"])
            self.assertEqual(
                info.cues.cues[2].sample_offset, round(self.line(3) * 44100) - round(self.line(1) * 44100)
            )
            self.assertEqual(sf.info(path).frames, info.data.frame_count)

    def test_another_rate_keeps_the_moments(self) -> None:
        made = self.made(kind="wav32f", rate=96000, start="lead-in")
        samples, rate = self.sound(next(data for name, data in made.items() if "tub kit" in name))
        plain, _ = self.sound(
            next(
                data for name, data in self.made(kind="wav32f", start="lead-in").items() if "tub kit" in name
            )
        )
        self.assertEqual(rate, 96000)
        self.assertEqual(
            len(samples),
            round(
                announced(self.seen(), Wish(takes=[self.lead, self.other], rate=96000, start="lead-in"))[
                    "length_s"
                ]
                * 96000
            ),
        )
        # The soxr library's own answer on the whole file, away from its ends.
        import soxr

        whole = soxr.resample(plain[:, 0], 44100, 96000, quality="VHQ")
        middle = slice(96000, 5 * 96000)
        self.assertLess(float(np.abs(samples[middle, 0] - whole[middle]).max()), 1e-3)

    def test_the_mix_is_the_sum_of_what_is_written_as_mixed(self) -> None:
        levels = {
            self.lead: {"level": -6, "pan": -0.5, "mute": False, "solo": False},
            self.other: {"level": 3, "pan": 1, "mute": False, "solo": False},
        }
        shelf.save_view(self.place, self.session, {"mix": levels})
        made = self.made(kind="wav32f", levels="as mixed", written="files and mix")
        sounds = {
            name.rsplit(" - ")[-1]: self.sound(data)[0]
            for name, data in made.items()
            if name.endswith(".wav")
        }
        mix = sounds.pop("mix.wav")
        np.testing.assert_allclose(mix, sum(sounds.values()), atol=1e-6)
        room = sounds["room fitted.wav"]
        self.assertEqual(
            (float(np.abs(room[:, 0]).max()) < 1e-6, float(np.abs(room[:, 1]).max()) > 0.01), (True, True)
        )
        # Muted ones are not in the mix, and it is said.
        levels[self.other]["mute"] = True
        shelf.save_view(self.place, self.session, {"mix": levels})
        said = announced(self.seen(), Wish(takes=[self.lead, self.other], written="mix"))
        self.assertEqual(said["files"][0]["state"], "1 of 2, 1 muted")
        alone = self.made(kind="wav32f", written="mix")
        np.testing.assert_allclose(
            self.sound(next(iter(alone.values())))[0], sounds["tub kit.wav"], atol=1e-6
        )

    def test_equal_power_panning_is_that_of_the_standard(self) -> None:
        # Web Audio API 1.1, 1.33.2: mono, x = (pan + 1) / 2, gains cos and sin of x π / 2; stereo, pan 0
        # leaves both channels.
        mono = np.ones((1, 4), np.float32)
        np.testing.assert_allclose(panned(mono, 0.0)[:, 0], [np.sqrt(0.5)] * 2, atol=1e-6)
        np.testing.assert_allclose(panned(mono, -1.0)[:, 0], [1.0, 0.0], atol=1e-6)
        both = np.stack([np.full(4, 0.25), np.full(4, 0.5)]).astype(np.float32)
        np.testing.assert_allclose(panned(both, 0.0), both, atol=1e-6)
        np.testing.assert_allclose(panned(both, 1.0)[:, 0], [0.0, 0.75], atol=1e-6)

    def test_what_would_clip_is_lowered_together_or_kept_in_float_and_said(self) -> None:
        shelf.save_view(
            self.place,
            self.session,
            {"mix": {self.lead: {"level": 24, "pan": 0, "mute": False, "solo": False}}},
        )
        float_ones = {
            name: self.sound(data)[0]
            for name, data in self.made(kind="wav32f", levels="as mixed").items()
            if name.endswith(".wav")
        }
        whole = {
            name: self.sound(data)[0]
            for name, data in self.made(kind="wav24", levels="as mixed").items()
            if name.endswith(".wav")
        }
        peak = max(float(np.abs(one).max()) for one in float_ones.values())
        self.assertGreater(peak, 1.0)
        for name, one in whole.items():
            np.testing.assert_allclose(one, float_ones[name] / peak, atol=2e-6)
        for kind, words in (
            ("wav24", "all lowered together by"),
            ("wav32f", "over full scale, kept in float"),
        ):
            asked = Wish(takes=[self.lead, self.other], kind=kind, levels="as mixed")
            with write.written(
                self.place, order_args(self.seen(), asked), lambda phase, share: None
            ) as files:
                self.assertIn(words, files[0].details["note"])

    def test_pieces_leave_one_by_one(self) -> None:
        self.act("cut-and-lay", take=self.lead, at="bars", lay="where")
        made = self.made(takes=[self.lead], extras=["pieces"])
        pack = zipfile.ZipFile(io.BytesIO(made[next(name for name in made if name.endswith("pieces.zip"))]))
        count = len(self.seen().document.pieces[self.lead].pieces)
        self.assertEqual(len(pack.namelist()), count)
        self.assertTrue(all(name.startswith("tub kit/") for name in pack.namelist()))
        lengths = [len(self.sound(pack.read(name))[0]) for name in pack.namelist()]
        self.assertEqual(
            lengths, [one.stop - one.start for one in self.seen().document.pieces[self.lead].pieces]
        )

    def test_what_was_stretched_for_one_order_is_there_for_the_next(self) -> None:
        made = fits.take_fit(self.seen(), self.other)
        self.assertFalse(fits.is_rendered(self.seen(), made))
        first = self.made(kind="wav32f")
        # It is what Fit renders, and it is proved.
        self.assertTrue(fits.is_rendered(self.seen(), made))
        proof = fits.proof_of(self.seen(), made)
        assert proof is not None
        self.assertEqual(len(proof), sum(peg.kind != "held" for peg in made.fit.pegs))
        with mock.patch(
            "combpace.playback.rendering.rendered", side_effect=AssertionError("stretched again")
        ):
            self.assertEqual(self.made(kind="wav32f"), first)
        # Another method is another render.
        self.act("rule", take=self.other, field="method", value="line")
        self.assertFalse(fits.is_rendered(self.seen(), fits.take_fit(self.seen(), self.other)))

    def test_results_say_their_version_and_whether_they_are_old_and_settings_are_kept(self) -> None:
        wish = Wish(takes=[self.other], kind="flac", start="bar 2", extras=["csv"])
        job = order(self.place, self.session, wish)
        shelf.save_view(self.place, self.session, {"mix": {}})
        kept = wish.model_copy(update={"left_out": [self.lead], "put_in": []})
        self.assertEqual(last_wish(self.seen()), kept)
        row = rows.job_row(self.place.database, job)
        assert row is not None
        write.write_handoff(self.place, json.loads(row.args), lambda phase, share: None)
        first = orders_of(self.seen())[0]
        self.assertEqual((first["version"], first["old"], len(first["files"])), (self.version, False, 3))
        self.act("rule", take=self.other, field="strength", value="50")
        self.assertTrue(orders_of(self.seen())[0]["old"])
        self.act("take-remove", take=self.other)
        self.assertEqual(last_wish(self.seen()).takes, [])  # type: ignore[union-attr]

    def test_what_was_done_is_a_recipe_for_other_files(self) -> None:
        self.act("rule", take=self.other, field="grid", value="1/8t")
        self.act("rule", take=self.other, field="strength", value="90")
        self.act("steady", bpm=96.0)
        loop = bring_in(
            self.place, self.session, struck(0.5 * np.arange(8), 4.0, low_every=4), "pipe loop.wav"
        )
        self.act("take", take=loop, field="first_bar", value="3")
        made = recipe_of(self.seen())
        self.assertEqual(
            (made.fit.grid, made.fit.strength, made.fit.own, made.fit.bpm), ("1/8t", 90.0, False, 96.0)
        )
        self.assertEqual((made.follow.bars, made.follow.from_bar), (2, 3))
        self.assertEqual(Recipe.model_validate_json(made.model_dump_json()), made)

    def test_refusals(self) -> None:
        for wish, words in (
            ({"rate": 12345}, "kHz"),
            ({"start": "lead-in", "bars": 4}, "Choose the bar"),
            ({"start": "bar 400"}, "outside the music"),
            ({"takes": ["f" * 16]}, ""),
            ({"silence": "x"}, ""),
        ):
            with self.subTest(wish=wish), self.assertRaises(ParameterError) as caught:
                announced(self.seen(), Wish(**{"takes": [self.lead], **wish}))  # type: ignore[arg-type]
            self.assertIn(words, str(caught.exception))
