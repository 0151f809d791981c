"""Loops that are dropped while the session plays: heard in its time, stepped through, kept, dropped."""

import base64
from pathlib import Path

import numpy as np

from combpace.core.audio import Audio
from rig.browser import BrowserTest
from rig.places import breathing
from rig.sounds import burst

RATE = 44100


def clave(bpm: float, pitch: float) -> Audio:
    """Two bars, a bright stroke on every beat, the first of each bar louder."""
    beat = 60.0 / bpm
    out = np.zeros(round(8 * beat * RATE))
    for k in range(8):
        sound = (0.9 if k % 4 == 0 else 0.5) * burst(pitch=pitch, seed=k)
        at = round(k * beat * RATE)
        out[at : at + len(sound)] += sound[: len(out) - at]
    return Audio(np.asarray(out, np.float32), RATE)


class ArrivalsTest(BrowserTest):
    def drop_on_the_page(self, *paths: object) -> None:
        """As a hand does: files over the picture."""
        files = [
            [Path(str(path)).name, base64.b64encode(Path(str(path)).read_bytes()).decode()] for path in paths
        ]
        self.page.evaluate(
            """(files) => {
              const given = new DataTransfer();
              const bytes = (data) => Uint8Array.from(atob(data), (letter) => letter.charCodeAt(0));
              for (const [name, data] of files) given.items.add(new File([bytes(data)], name,
              { type: 'audio/wav' }));
              document.querySelector('#picture').dispatchEvent(new DragEvent('drop', { dataTransfer: given,
              bubbles: true, cancelable: true }));
            }""",
            files,
        )

    def arrivals(self) -> list[str]:
        return list(self.look("(combpace.state.picture.arrivals ?? []).map((one) => one.name)"))

    def here(self) -> str:
        return str(self.page.locator("[data-arrival].here b").inner_text())

    def test_three_loops_dropped_while_it_plays_one_kept(self) -> None:
        beats, lead = breathing(16)
        self.drop(self.write("tub kit.wav", lead))
        self.look(
            "combpace.player.mix.set(combpace.state.picture.takes[0].id, { level: 0, pan: 0, mute: "
            "true, solo: false })"
        )
        self.look("combpace.store.sound({ click: false })")
        self.page.keyboard.press("Space")
        self.page.wait_for_function("combpace.player.playing && combpace.player.position() > 1")
        self.drop_on_the_page(
            *(
                self.write(f"{name} loop.wav", clave(bpm, pitch))
                for name, bpm, pitch in (("Pin", 96, 1500.0), ("Lid", 133, 900.0), ("Cup", 110, 700.0))
            )
        )
        self.page.wait_for_function("document.querySelectorAll('[data-arrival]').length > 0")
        self.page.wait_for_function(
            "document.querySelectorAll('[data-arrival]').length === 3 && "
            "combpace.state.picture.arrivals.length === 3"
        )
        self.idle()
        # Which of them was read last depends on the readers; from there on hands say which is heard.
        self.assertIn(self.here(), ("Pin loop", "Lid loop", "Cup loop"))
        self.page.click("[data-hear-arrival] >> text=Cup loop")
        # No take sounds, no click: what is heard is the arrival, on the session's beats.
        self.page.wait_for_function(
            "(() => { const r = window.played.at(-1); return r.samples.length > 20000; })()"
        )
        start = self.look("combpace.player.position()")
        self.page.wait_for_function(f"combpace.player.position() > {start} + 3")
        runs = self.look("combpace.player.runs.map((run) => [run.ctx, run.pos, run.length])")
        rate, frames, values = self.recorded()
        loud = frames[np.abs(values) > 0.2]
        ctx, pos, _ = runs[-1]
        starts = loud[np.concatenate([[True], np.diff(loud) > rate // 5])]
        heard = (starts - ctx + pos) / rate
        late = heard[heard > start + 0.3]
        self.assertGreater(len(late), 2)
        for time in late[:-1]:
            self.assertLess(float(np.min(np.abs(beats - time))), 0.012)
        # A and S step through them while it plays; Delete drops, Enter keeps.
        self.page.keyboard.press("s")
        self.assertEqual(self.here(), "Pin loop")
        self.page.keyboard.press("a")
        self.page.keyboard.press("a")
        self.assertEqual(self.here(), "Lid loop")
        self.page.keyboard.press("Delete")
        self.idle()
        self.assertEqual(self.arrivals(), ["Pin loop", "Cup loop"])
        self.page.reload()
        self.page.wait_for_function(
            "window.combpace && document.querySelectorAll('[data-arrival]').length === 2"
        )
        # Nothing sounds by itself after that; Space plays, and the arrival with it.
        self.assertFalse(self.look("combpace.player.playing"))
        # By keys alone: Enter on it hears it, Space plays, and then Enter keeps it.
        self.page.locator("[data-hear-arrival]", has_text="Pin loop").focus()
        self.page.keyboard.press("Enter")
        self.page.wait_for_function(
            "document.querySelector('[data-arrival].here b').innerText === 'Pin loop'"
        )
        self.page.keyboard.press("Space")
        self.page.wait_for_function("combpace.player.playing")
        self.page.keyboard.press("Enter")
        self.idle()
        self.assertIn("Pin loop is kept", self.said())
        self.assertEqual(self.arrivals(), ["Cup loop"])
        self.assertEqual(
            self.look("combpace.state.picture.takes.map((take) => take.name)"), ["tub kit", "Pin loop"]
        )
        self.assertTrue(self.look("combpace.player.playing"))

    def test_a_kept_loop_is_pulled_over_the_session_in_the_ledger(self) -> None:
        self.drop(self.write("tub kit.wav", breathing(16)[1]))
        self.drop_on_the_page(self.write("Lid loop.wav", clave(133, 900.0)))
        self.page.locator("[data-arrival-does]:not([hidden]) >> text=Keep").click()
        self.idle()
        self.page.keyboard.press("1")
        strip = self.page.locator("canvas[data-follow]")
        strip.scroll_into_view_if_needed()
        box = strip.bounding_box()
        assert box is not None
        lines = self.look(
            "Array.from({ length: 21 }, (_, k) => "
            "combpace.state.map.toSeconds(combpace.state.map.barLine(k)))"
        )
        rounds = self.look("combpace.state.picture.takes[1].rounds")
        last = next(k for k in range(21) if abs(lines[k] - rounds[-1]) < 1e-3)
        self.assertEqual(len(rounds), 1 + (last + 1) // 2)
        span = lines[last + 2] - lines[0]

        def pull(from_s: float, to_s: float, dx: float = 0.0) -> None:
            across = lambda time: box["x"] + (time - lines[0]) / span * box["width"]  # noqa: E731
            self.page.mouse.move(across(from_s) + dx, box["y"] + 34)
            self.page.mouse.down()
            self.page.mouse.move(across(to_s), box["y"] + 34, steps=6)
            self.page.mouse.up()
            self.idle()

        pull(rounds[-1], lines[9])
        self.assertIn("until bar 10", self.said())
        self.assertAlmostEqual(self.look("combpace.state.picture.takes[1].rounds.at(-1)"), lines[9], places=4)
        # Its end is pulled to a bar line: as many bars long.
        pull(rounds[1], lines[4])
        self.assertIn("Lid loop is 4 bars long", self.said())
        self.assertAlmostEqual(self.look("combpace.state.picture.takes[1].rounds[1]"), lines[4], places=4)
        # Its first attack goes to another bar.
        pull(lines[1], lines[3])
        self.assertIn("lies on bar 3", self.said())
        self.assertAlmostEqual(self.look("combpace.state.picture.takes[1].rounds[0]"), lines[2], places=4)
        self.page.keyboard.press("Control+z")
        self.idle()
        self.assertAlmostEqual(self.look("combpace.state.picture.takes[1].rounds[0]"), lines[0], places=4)
