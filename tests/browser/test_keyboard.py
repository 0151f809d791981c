"""Every station with the pointer unplugged: all that can be pressed is reached by Tab, its focus is seen, and the main job is done by keys."""

from bench.feel.first_minutes import sounds

from tests.support.browser import BrowserTest
from tests.support.places import breathing

STATIONS = ("takes", "pace", "bars", "onsets", "fit", "pieces", "hand-off")
# What the page has for hands: shown, not switched off, in the order of Tab.
FOCUSABLE = """(() => [...document.querySelectorAll('a[href], button, input, select, summary, textarea, [tabindex]')]
  .filter((one) => one.tabIndex >= 0 && !one.disabled && one.type !== 'hidden' && one.type !== 'file' && one.getClientRects().length
    && getComputedStyle(one).visibility !== 'hidden' && (one.tagName === 'SUMMARY' || !one.closest('details:not([open])'))))()"""


class KeyboardTest(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        beat, loop = sounds(self.folder)
        self.drop(beat, loop)
        self.session = self.page.url.split("/")[4]

    def test_tab_reaches_everything_and_focus_is_seen(self) -> None:
        for station in STATIONS:
            self.page.goto(f"/sessions/{self.session}/{station}")
            self.page.wait_for_function("window.combpace")
            self.idle()
            count = self.look(f"(() => {{ const all = {FOCUSABLE}; all.forEach((one, k) => one.dataset.stop = k); return all.length; }})()")
            reached: dict[int, bool] = {}
            for _ in range(count + 8):
                self.page.keyboard.press("Tab")
                stop = self.look(
                    """(() => { const one = document.activeElement; if (!one || one.dataset.stop === undefined) return null;
                      const style = getComputedStyle(one), box = one.getBoundingClientRect();
                      return [Number(one.dataset.stop), style.outlineStyle !== 'none' && parseFloat(style.outlineWidth) >= 1.5,
                        box.right > 0 && box.bottom > 0 && box.left < innerWidth && box.top < innerHeight, one.outerHTML.slice(0, 120)]; })()"""
                )
                if stop is not None and stop[0] not in reached:
                    reached[stop[0]] = stop[1] and stop[2]
                    with self.subTest(station=station, stop=stop[3]):
                        self.assertTrue(stop[1], "its focus is not seen")
                        self.assertTrue(stop[2], "it has the focus outside of what is shown")
            with self.subTest(station=station):
                left = f"!{sorted(reached)}.includes(Number(one.dataset.stop))"
                missed = self.look(f"(() => {FOCUSABLE}.filter((one) => {left}).map((one) => one.outerHTML.slice(0, 120)))()")
                self.assertEqual(missed, [])

    def test_the_main_job_by_keys(self) -> None:
        keys = self.page.keyboard
        self.page.goto("/")
        self.page.locator("[data-choose]").focus()
        with self.page.expect_file_chooser() as chooser:
            keys.press("Enter")
        chooser.value.set_files(str(self.write("yard.wav", breathing(bars=10, start=1.2)[1])))
        self.page.wait_for_url("**/sessions/*/*")
        self.page.wait_for_function("window.combpace && combpace.state.picture.takes.every((take) => take.state === 'ready')", timeout=60_000)
        self.idle()
        # An attack is chosen, moved by a tooth and let go; then it is said to be a downbeat.
        for key in ("e", "e", "e"):
            keys.press(key)
        self.assertEqual(self.look("combpace.state.selection.kind"), "onset")
        before = self.look("combpace.state.picture.version")
        keys.press("d")
        self.idle()
        self.assertGreater(self.look("combpace.state.picture.version"), before)
        keys.press("Control+z")
        self.idle()
        # A steady tempo by the next step's own button, which Tab reaches.
        self.page.locator("#next [data-do=steady]").focus()
        keys.press("Enter")
        self.page.wait_for_function("combpace.state.station === 'fit'")
        self.idle()
        # Sounds have their keys wherever the focus is, but not in a field.
        strength = self.page.locator('[data-act="rule"][data-name="strength"]').first
        strength.focus()
        keys.press("Control+a")
        keys.type("70")
        keys.press("Enter")
        self.idle()
        self.assertEqual(self.page.locator('[data-act="rule"][data-name="strength"]').first.input_value(), "70")
        keys.press("7")
        self.page.wait_for_function("combpace.state.station === 'hand-off'")
        self.idle()
        box = self.page.locator("#handoff input[name=extra]").first
        checked = box.is_checked()
        box.focus()
        keys.press("Space")
        self.assertEqual(box.is_checked(), not checked)
        self.page.locator("#handoff button[type=submit]").focus()
        keys.press("Enter")
        self.page.wait_for_selector("table.files .archive a", timeout=60_000)
