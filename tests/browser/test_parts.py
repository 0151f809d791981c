"""A MIDI part beside a breathing take: it comes in, follows, is pulled onto a groove and by hand, and leaves
as MIDI; after a restart too.
"""

from __future__ import annotations

import io
import re
from pathlib import Path

import mido
import numpy as np

from rig.browser import BrowserTest
from rig.places import breathing
from rig.sounds import struck
from rig.waiting import HANG_MS


def reed(path: Path) -> Path:
    """One bar of quarters after a pickup of an eighth; bar 1 at the marker."""
    file = mido.MidiFile(type=1, ticks_per_beat=480)
    track = mido.MidiTrack(
        [mido.MetaMessage("track_name", name="reed"), mido.MetaMessage("marker", text="bar 1", time=480)]
    )
    notes = mido.MidiTrack(
        [mido.MetaMessage("track_name", name="reed"), mido.Message("program_change", program=20)]
    )
    notes += [
        mido.Message("note_on", note=57, velocity=80, time=240),
        mido.Message("note_off", note=57, time=240),
    ]
    for k in range(4):
        notes += [
            mido.Message("note_on", note=60 + k, velocity=90, time=0 if k == 0 else 240),
            mido.Message("note_off", note=60 + k, time=240),
        ]
    file.tracks += [track, notes]
    file.save(path)
    return path


class PartAsAPersonTest(BrowserTest):
    # The library of grooves is that of the server.
    alone = True

    def part(self, field: str, value: str) -> None:
        box = self.page.locator(f'[data-act="part"][data-name="{field}"]')
        if box.evaluate("(one) => one.tagName") == "SELECT":
            box.select_option(label=value)
        else:
            box.fill(value)
            box.press("Enter")
        self.idle()

    def notes(self) -> list[list[float]]:
        return list(self.look("combpace.state.picture.parts[0].notes"))

    def test_a_part_follows_repeats_is_pulled_and_leaves_as_midi(self) -> None:
        beats, _ = breathing(8)
        # The drums play the second eighth of each beat late.
        late = np.sort(np.concatenate([beats, 0.5 * (beats[:-1] + beats[1:]) + 0.030]))
        self.drop(self.write("tub kit.wav", struck(late, float(beats[-1]) + 1.0, low_every=8)))
        self.page.keyboard.press("1")
        self.page.wait_for_function("combpace.state.station === 'takes'")
        self.page.set_input_files("[data-files]", [str(reed(self.folder / "yard reed.mid"))])
        self.page.wait_for_function("combpace.state.picture.parts.length === 1")
        self.idle()
        self.part("times", "until 9")
        line = "combpace.state.map.toSeconds"
        notes = self.notes()
        self.assertEqual(len(notes), 1 + 8 * 4)
        self.assertAlmostEqual(notes[0][0], self.look(f"{line}(-0.5)"), places=4)
        for k, note in enumerate(notes[1:]):
            self.assertAlmostEqual(note[0], self.look(f"{line}({k})"), places=4)
        # A groove is taken from bars of the drums, and the part pulled onto it.
        self.page.keyboard.press("5")
        self.page.wait_for_function("combpace.state.station === 'fit'")
        first, last = (
            self.look(f"combpace.view().pixelOf(combpace.state.map.barLine({bar}), {bar})") for bar in (1, 3)
        )
        self.page.mouse.move(30, first["y"])
        self.page.mouse.down()
        self.page.mouse.move(30, last["y"], steps=4)
        self.page.mouse.up()
        self.page.get_by_role("button", name="Take their groove").click()
        self.page.wait_for_selector("[data-groove]")
        self.page.keyboard.press("1")
        self.page.wait_for_function("combpace.state.station === 'takes'")
        grid = self.page.locator('[data-act="part"][data-name="grid"]')
        grid.select_option(
            label=next(text for text in grid.locator("option").all_inner_texts() if text.startswith("groove"))
        )
        self.idle()
        self.assertIn("Notes of yard reed go to the nearest groove", self.said())
        # One note is pulled by hand, in the rows of Fit.
        self.page.keyboard.press("5")
        self.page.wait_for_function("combpace.state.station === 'fit'")
        box = self.page.locator("#canvas-box canvas").bounding_box()
        assert box is not None
        target = self.notes()[6]
        spot = self.look(f"combpace.view().pixelOf(combpace.state.map.toQuarters({target[0]}), 1)")
        goal = self.look("combpace.view().pixelOf(combpace.state.map.barLine(1) + 1.5, 1)")
        top = self.look("combpace.view().pixelOf(combpace.state.map.barLine(1), 1)")["y"]
        row = self.look("combpace.state.view.rowPx") * 1.4
        keys = [note[2] for note in self.notes()]
        low, high = min(keys), max(keys)
        low, high = low - max(0, 12 - (high - low)) / 2, high + max(0, 12 - (high - low)) / 2
        y = top - 0.6 * row + 5 + (1 - (target[2] - low) / (high - low)) * (row - 22)
        self.page.mouse.move(spot["x"] + 2, y)
        self.page.mouse.down()
        self.page.mouse.move(goal["x"] + 2, y, steps=5)
        self.page.mouse.up()
        self.idle()
        self.assertIn("1 note of yard reed goes to 2·2.5", self.said())
        pulled = [note for note in self.notes() if note[5]]
        self.assertEqual(len(pulled), 1)
        # All of it is there after a restart, and what is handed off is what is heard.
        heard = self.notes()
        where = re.sub(r"^https?://[^/]+", "", self.page.url)
        type(self).server.stop()
        type(self).server.start()
        self.page.goto(f"{type(self).server.address}{where}")
        self.page.wait_for_function("window.combpace")
        self.idle()
        self.assertEqual(self.notes(), heard)
        self.page.keyboard.press("7")
        self.page.wait_for_selector("#handoff")
        for box_ in self.page.locator('#handoff input[name="extra"]').all():
            wanted = "parts" in (box_.get_attribute("value") or "")
            if box_.is_checked() != wanted:
                box_.click()
        self.page.click("#handoff button[type=submit]")
        link = self.page.locator("table.files a", has_text=".mid").first
        link.wait_for(timeout=HANG_MS)
        with self.page.expect_download() as coming:
            link.click()
        file = mido.MidiFile(file=io.BytesIO(Path(coming.value.path()).read_bytes()))
        self.check_times(file, heard)

    def check_times(self, file: mido.MidiFile, heard: list[list[float]]) -> None:
        """mido reads the file: every note lies where it was heard, counted from bar 1."""
        now, starts = 0.0, []
        for message in file:
            now += message.time
            if message.type == "note_on" and message.velocity > 0:
                starts.append(now)
        bar_1 = self.look("combpace.state.map.toSeconds(0)")
        due = [note[0] - bar_1 for note in heard if note[0] >= bar_1 - 1e-6]
        self.assertGreaterEqual(len(starts), len(due))
        for time in due:
            self.assertLess(min(abs(one - time) for one in starts), 0.002)


class PartsAloneTest(BrowserTest):
    def test_a_midi_file_alone_is_drawn_and_heard_on_its_own_map(self) -> None:
        path = self.folder / "yard reed alone.mid"
        reed(path)
        file = mido.MidiFile(path)
        file.tracks[0].insert(0, mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(100)))
        file.tracks[0].append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(110), time=960))
        file.save(path)
        self.page.goto("/")
        self.page.set_input_files("[data-files]", [str(path)])
        self.page.wait_for_url("**/sessions/*/*")
        self.page.wait_for_function("window.combpace && combpace.state.picture.parts.length === 1")
        self.page.get_by_role("button", name="Take it as the session's map").click()
        self.page.wait_for_function("combpace.state.map !== null && combpace.state.picture.bars.length > 0")
        self.idle()
        for key, station in (
            ("3", "bars"),
            ("2", "pace"),
            ("4", "onsets"),
            ("5", "fit"),
            ("6", "pieces"),
            ("7", "hand-off"),
            ("3", "bars"),
        ):
            self.page.keyboard.press(key)
            self.page.wait_for_function(f"combpace.state.station === '{station}'")
            self.idle()
        # Its notes are drawn where they sound: ink between the teeth of bar 1.
        inked = self.look(
            """(() => {
              const canvas = document.querySelector('#canvas-box canvas'),
              spot = combpace.view().pixelOf(0.4, 0);
              const box = canvas.getBoundingClientRect();
              const ratio = canvas.width / canvas.clientWidth, row = combpace.state.view.rowPx;
              const x = (spot.x - box.left) * ratio, y = (spot.y - box.top - row * 0.6) * ratio;
              const dark = (data) => { let n = 0; for (let k = 0; k < data.length;
              k += 4) if (data[k + 3] && data[k] < 110) n++; return n; };
              return dark(canvas.getContext('2d').getImageData(x - 6, y + 2, 12, row * ratio - 6).data);
            })()"""
        )
        self.assertGreater(inked, 4)
        self.page.keyboard.press("g")
        self.page.keyboard.press("Space")
        self.page.wait_for_function("(window.played.at(-1)?.samples.length ?? 0) > 4000")
        self.page.keyboard.press("Space")
