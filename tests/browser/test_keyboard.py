"""Every station with the pointer unplugged: all that can be pressed is reached by Tab, its focus is seen, and
the main job is done by keys.
"""

from bench.feel.first_minutes import sounds
from rig.browser import BrowserTest
from rig.places import breathing
from rig.waiting import HANG_MS

STATIONS = ("takes", "pace", "bars", "onsets", "fit", "pieces", "hand-off")
# What the page has for hands: shown, not switched off, in the order of Tab.
FOCUSABLE = """(() => [...document.querySelectorAll(
    'a[href], button, input, select, summary, textarea, [tabindex]')]
  .filter((one) => one.tabIndex >= 0 && !one.disabled && one.type !== 'hidden' && one.type !== 'file' &&
  one.getClientRects().length
    && getComputedStyle(one).visibility !== 'hidden' &&
    (one.tagName === 'SUMMARY' || !one.closest('details:not([open])'))))()"""


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
            count = self.look(
                f"(() => {{ const all = {FOCUSABLE}; all.forEach((one, k) => one.dataset.stop = k); "
                "return all.length; })()"
            )
            reached: dict[int, bool] = {}
            for _ in range(count + 8):
                self.page.keyboard.press("Tab")
                stop = self.look(
                    """(() => { const one = document.activeElement;
                    if (!one || one.dataset.stop === undefined) return null;
                      const style = getComputedStyle(one), box = one.getBoundingClientRect();
                      return [Number(one.dataset.stop),
                      style.outlineStyle !== 'none' && parseFloat(style.outlineWidth) >= 1.5,
                        box.right > 0 && box.bottom > 0 && box.left < innerWidth && box.top < innerHeight,
                        one.outerHTML.slice(0, 120)]; })()"""
                )
                if stop is not None and stop[0] not in reached:
                    reached[stop[0]] = stop[1] and stop[2]
                    with self.subTest(station=station, stop=stop[3]):
                        self.assertTrue(stop[1], "its focus is not seen")
                        self.assertTrue(stop[2], "it has the focus outside of what is shown")
            with self.subTest(station=station):
                left = f"!{sorted(reached)}.includes(Number(one.dataset.stop))"
                missed = self.look(
                    f"(() => {FOCUSABLE}.filter((one) => {left}).map((one) => one.outerHTML.slice(0, 120)))()"
                )
                self.assertEqual(missed, [])

    def test_the_main_job_by_keys(self) -> None:
        keys = self.page.keyboard
        # Choosers are caught from here on: a key is quicker than the order to catch them.
        self.page.on("filechooser", lambda chooser: None)
        self.page.goto("/")
        self.page.locator("[data-choose]").focus()
        with self.page.expect_file_chooser() as chooser:
            keys.press("Enter")
        chooser.value.set_files(str(self.write("yard.wav", breathing(bars=10, start=1.2)[1])))
        self.page.wait_for_url("**/sessions/*/*")
        self.page.wait_for_function(
            "window.combpace && combpace.state.picture.takes.every((take) => take.state === 'ready')",
            timeout=HANG_MS,
        )
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
        self.assertEqual(
            self.page.locator('[data-act="rule"][data-name="strength"]').first.input_value(), "70"
        )
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
        self.page.wait_for_selector("table.files .archive a", timeout=HANG_MS)


class ReachTest(BrowserTest):
    """Fingers, large letters, little motion, small and large screens."""

    def session_of(self) -> str:
        beat, loop = sounds(self.folder)
        self.drop(beat, loop)
        return self.page.url.split("/")[4]

    def test_a_finger_pulls_an_attack_and_the_rows(self) -> None:
        session = self.session_of()
        page = self.new_page(has_touch=True)
        page.goto(f"/sessions/{session}/bars")
        page.wait_for_function("window.combpace")
        page.evaluate("combpace.idle()")
        send = page.context.new_cdp_session(page).send

        def touch(kind: str, x: float, y: float) -> None:
            send(
                "Input.dispatchTouchEvent",
                {"type": kind, "touchPoints": [] if kind == "touchEnd" else [{"x": x, "y": y}]},
            )

        spot = page.evaluate("combpace.view().pixelOf(8, 2)")
        touch("touchStart", spot["x"], spot["y"])
        for step in range(1, 7):
            touch("touchMove", spot["x"] + 5 * step, spot["y"])
        touch("touchEnd", 0, 0)
        page.evaluate("combpace.idle()")
        self.assertEqual(page.evaluate("combpace.state.picture.anchors.length"), 1)
        top = page.evaluate("combpace.state.view.top")
        ground = page.evaluate("combpace.view().pixelOf(9.3, 2)")
        touch("touchStart", ground["x"], ground["y"])
        for step in range(1, 7):
            touch("touchMove", ground["x"], ground["y"] - 20 * step)
        touch("touchEnd", 0, 0)
        self.assertGreater(page.evaluate("combpace.state.view.top"), top + 1)

    def test_at_200_percent_everything_is_in_one_column(self) -> None:
        session = self.session_of()
        # 1280 by 800 at 200 percent is 640 by 400 (WCAG 2.2, 1.4.4 and 1.4.10).
        page = self.new_page()
        page.set_viewport_size({"width": 640, "height": 400})
        for station in STATIONS:
            page.goto(f"/sessions/{session}/{station}")
            page.wait_for_function("window.combpace")
            page.evaluate("combpace.idle()")
            with self.subTest(station=station):
                self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 641)
                self.assertTrue(page.locator("#play").is_visible())
                main = page.locator(".button.primary:visible").first
                main.scroll_into_view_if_needed()
                self.assertTrue(main.is_visible())

    def test_little_motion_is_no_motion(self) -> None:
        # Whatever moves, also what is not thought of yet: an element that would.
        for wish, expected in (("no-preference", "1s"), ("reduce", "0s")):
            page = self.new_page(reduced_motion=wish)
            page.goto("/")
            seconds = page.evaluate(
                """(() => { const one = document.createElement('div'); one.style.transition = 'opacity 1s';
                document.body.append(one);
                   return getComputedStyle(one).transitionDuration; })()"""
            )
            with self.subTest(wish=wish):
                self.assertEqual(seconds, expected)
