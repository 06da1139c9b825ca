"""Judging in a real browser: two sides, stills, the look, scopes, overwork, the loop, and the keyboard alone."""

from __future__ import annotations

import re
from itertools import pairwise

import numpy as np
from playwright.sync_api import Route, expect

from tests.browser.case import PATIENCE, QUAY, BrowserCase
from tests.clips import temporary_folder
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.testcamera import Camera, ShotRecipe, shoot
from yellowclean.server.models import Job
from yellowclean.server.use_cases import add_shot, new_version

FRAME_STAMPS = """count => new Promise(done => {
  const stamps = [], canvas = document.querySelector('canvas[data-shown]');
  const look = () => {
    const shown = canvas.dataset.shown;
    if (stamps.at(-1)?.shown !== shown) stamps.push({shown, at: performance.now() / 1000});
    if (stamps.length < count) requestAnimationFrame(look); else done(stamps);
  };
  requestAnimationFrame(look);
})"""
"""What the canvas shows, where it changes, and when (seconds), until it has changed so often."""

LATE_FRAMES = 12
"""By which a busy machine may have shown the frame before too late."""


class JudgingCase(BrowserCase):
    def address(self) -> str | None:
        return self.page.locator("canvas[data-shown]").get_attribute("data-shown")

    def after(self, old: str | None) -> np.ndarray:
        """The pixels once other pictures than `old` are shown."""
        self.page.wait_for_function(
            "old => document.querySelector('canvas[data-shown]').dataset.shown !== old", arg=old
        )
        self.picture_settled("")
        return self.pixels().astype(int)

    def until_shown(self, expected: np.ndarray, around: int | None = None) -> np.ndarray:
        """The pixels once they are as expected; the four rows `around` a line left out."""
        for _ in range(600):
            now = self.pixels().astype(int)
            told = now if around is None else np.delete(now, np.s_[around - 2 : around + 2], axis=0)
            if np.array_equal(told, expected):
                return now
            self.page.evaluate("() => new Promise(requestAnimationFrame)")
        np.testing.assert_array_equal(told, expected)
        return now

    def press(self, key: str) -> np.ndarray:
        """The pixels after a key that changes what is shown."""
        old = self.address()
        self.page.keyboard.press(key)
        return self.after(old)

    def proposed(self) -> np.ndarray:
        """The result of the quay's own proposal."""
        self.open_quay()
        self.measure()
        old = self.address()
        self.propose()
        return self.after(old)


class Comparing(JudgingCase):
    def test_a_still_is_wiped_against_what_became_of_its_version(self) -> None:
        page, before = self.page, self.proposed()
        page.get_by_role("button", name="Keep still").click()
        page.get_by_role("tab", name="Stills").click()
        still = page.locator("[data-still]")
        expect(still).to_have_count(1)
        old = self.address()
        page.get_by_label("Use Spatial noise reduction").uncheck()
        changed = self.after(old)
        self.assertGreater(np.abs(changed - before).max(), 2)
        old = self.address()
        still.get_by_role("button", name="Compare").click()
        wiped = self.after(old)
        middle = wiped.shape[1] // 2
        np.testing.assert_array_equal(wiped[:, : middle - 1], before[:, : middle - 1])
        np.testing.assert_array_equal(wiped[:, middle + 1 :], changed[:, middle + 1 :])
        for _ in range(6):
            page.keyboard.press("h")
        middle = before.shape[0] // 2  # leaning by 90°: above and below
        level = self.until_shown(np.concatenate([before[: middle - 2], changed[middle + 2 :]]), middle)
        self.assertGreater(np.abs(level - wiped).max(), 2)
        page.keyboard.press("w")
        self.until_shown(changed)
        np.testing.assert_array_equal(self.press("t"), before)
        self.press("t")
        old = self.address()
        still.get_by_role("button", name="Show").click()
        np.testing.assert_array_equal(self.after(old), before)
        np.testing.assert_array_equal(self.press("7"), changed)
        page.keyboard.down("y")
        self.until_shown(before)
        page.keyboard.up("y")
        page.reload()
        self.picture_settled("")
        page.get_by_role("tab", name="Stills").click()
        expect(still).to_have_count(1, timeout=PATIENCE)
        still.get_by_role("button", name="Delete").click()
        expect(still).to_have_count(0)
        page.get_by_role("button", name="Undo").click()
        expect(still).to_have_count(1)
        old = self.address()
        still.get_by_role("button", name="Show").click()
        np.testing.assert_array_equal(self.after(old), before)

    def test_two_sides_beside_one_another_with_an_inset_and_stress(self) -> None:
        page = self.page
        self.proposed()
        self.press("b")
        expect(page.get_by_test_id("picture-label")).to_have_text("Source above Result")
        self.assertEqual(len((self.address() or "").split()), 2)
        page.get_by_role("button", name="Inset").click()
        box = page.locator("canvas[data-shown]").bounding_box()
        assert box
        page.locator("canvas[data-shown]").click(position={"x": box["width"] / 2, "y": box["height"] / 4})
        expect(page.get_by_test_id("inset").locator("img")).to_have_count(2)
        old = self.address()
        page.get_by_label("Stress").fill("80")
        self.after(old)
        self.assertEqual([a.count("stress=80") for a in (self.address() or "").split()], [1, 1])

    def test_copied_steps_presets_and_a_plan_for_other_shots(self) -> None:
        page = self.page
        self.proposed()
        page.get_by_text("Copy, presets, other shots").click()
        desk = page.get_by_test_id("handover")
        steps = page.locator("[data-step]")
        expect(steps).to_have_count(2)
        desk.get_by_role("button", name="Copy plan").click()
        desk.get_by_role("button", name="Paste 2 steps").click()
        expect(steps).to_have_count(4)
        page.keyboard.press("Control+z")
        expect(steps).to_have_count(2)
        desk.get_by_label("Name of a new preset").fill("Night")
        desk.get_by_role("button", name="Save preset").click()
        desk.get_by_label("Preset", exact=True).select_option(label="Night")
        desk.get_by_role("button", name="Use").click()
        expect(page.get_by_test_id("versions").locator("option")).to_have_count(2)
        desk.get_by_role("button", name="Apply to shots…").click()
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_text("not measured")).to_have_count(8)
        expect(dialog.get_by_role("checkbox").first).to_be_disabled()


class UnderTheLook(JudgingCase):
    def test_the_look_changes_the_view_and_the_scopes_alone(self) -> None:
        page = self.page
        self.open_quay()
        self.measure()
        plain = self.pixels().astype(int)
        page.get_by_role("tab", name="Scopes").click()
        scope = page.get_by_test_id("scopes").locator("svg")
        expect(scope).to_have_attribute("data-scope", re.compile("kind=waveform"))
        page.get_by_role("tab", name="Look").click()
        expect(page.get_by_test_id("noise-under-look")).to_be_visible()
        noise = page.locator('[data-finding="noise"]').inner_text()
        old = self.address()
        page.get_by_label("Exposure", exact=True).fill("1")
        page.keyboard.press("Enter")
        brighter = self.after(old)
        seen = (plain > 20) & (brighter < 250)
        np.testing.assert_allclose(np.median(brighter[seen] / plain[seen]), 2 ** (1 / 2.4), rtol=0.03)
        self.assertEqual(page.locator('[data-finding="noise"]').inner_text(), noise)
        self.press("Control+z")
        expect(page.get_by_label("Exposure", exact=True)).to_have_value("0")
        np.testing.assert_array_equal(self.pixels(), plain)
        page.get_by_label("Exposure slider").focus()
        np.testing.assert_array_equal(self.press("Control+Shift+z"), brighter)
        page.get_by_label("Exposure", exact=True).press_sequentially("5")
        page.keyboard.press("Control+z")  # the field's own, its text not being taken yet
        expect(page.get_by_label("Exposure", exact=True)).to_have_value("1")
        page.get_by_role("tab", name="Scopes").click()
        expect(scope).to_have_attribute("data-scope", re.compile("look=true"))
        old = self.address()
        page.get_by_label("Under the look").uncheck()
        np.testing.assert_array_equal(self.after(old), plain)
        page.get_by_label("Scope of").select_option("visible")
        page.get_by_label("Zoom").select_option("800")
        expect(scope).to_have_attribute("data-scope", re.compile("region="))
        page.get_by_label("Scope", exact=True).select_option("histogram")
        expect(page.get_by_test_id("histogram").locator("canvas")).to_be_visible()

    def test_a_file_that_is_none_is_refused_in_one_line(self) -> None:
        page = self.page
        self.open_quay()
        page.get_by_role("tab", name="Look").click()
        lut = {"name": "broken.cube", "mimeType": "text/plain", "buffer": b"hello"}
        page.locator("input[type=file][accept='.cube,.clf']").set_input_files([lut])  # type: ignore[arg-type]
        expect(page.get_by_text("broken.cube is no LUT that can be read")).to_be_visible()
        page.get_by_label("Colour management").check()
        expect(page.get_by_label("Footage")).to_have_value("Camera Rec.709")


class Overworked(JudgingCase):
    def test_too_much_is_seen_and_shown_where(self) -> None:
        page = self.page
        self.proposed()
        spatial = self.settings_of("spatial")
        for label, value in (("Luma", "200"), ("Threshold", "5")):
            old = self.address()
            spatial.get_by_label(label, exact=True).fill(value)
            page.keyboard.press("Enter")
            self.after(old)
        page.get_by_role("tab", name="Overwork").click()
        page.get_by_role("button", name="Judge the shot").click()
        page.get_by_test_id("overwork").get_by_role("button", name="Stop").click()
        expect(page.get_by_text("Judging …")).to_have_count(0)
        expect(page.locator("[data-verdict]")).to_have_count(0)
        page.get_by_role("button", name="Judge this frame").click()
        verdict = page.locator("[data-verdict]")
        expect(verdict).to_have_attribute("data-verdict", re.compile("look here|too far"), timeout=PATIENCE)
        expect(verdict).to_contain_text("structure removed")
        page.locator('[data-measure="structure"] button').click()
        where = page.get_by_test_id("overwork-map")
        expect(where).to_be_visible()
        box, canvas = where.bounding_box(), page.locator("canvas[data-shown]").bounding_box()
        assert box and canvas
        self.assertLessEqual(box["width"], canvas["width"] + 1)
        old = self.address()
        page.get_by_role("button", name="Undo").click()
        self.after(old)
        expect(page.get_by_text("The version has changed since")).to_be_visible()
        expect(where).to_have_count(0)


class Looping(JudgingCase):
    def setUp(self) -> None:
        super().setUp()
        recipe = ShotRecipe(
            name="loop", scene="dusk", width=480, height=270, frames=48, codec="ffv1", camera=Camera(stops_under=3)
        )
        self.shot = add_shot(Job.objects.get(), shoot(recipe, temporary_folder(self)), "loop")
        new_version(self.shot, Plan(profile=white_profile(8), steps=[Step(kind="grain")]))

    def test_48_frames_play_in_order_with_source_and_result_in_step(self) -> None:
        """Each stamp holds both addresses of one drawing. How smoothly they follow, the benchmark measures."""
        page = self.page
        page.goto(f"{self.live_server_url}/shots/{self.shot.pk}")
        self.picture_settled("source")
        self.press("7")
        self.press("w")
        page.keyboard.press("1")
        expect(page.get_by_test_id("loop")).to_contain_text("48/48", timeout=4 * PATIENCE)
        expect(page.get_by_test_id("cached")).to_have_count(48)
        page.keyboard.press(" ")
        frames, times = [], []
        for shown, at in (stamp.values() for stamp in page.evaluate(FRAME_STAMPS, 96)):
            numbers = [int(n) for n in re.findall(r"[?&]n=(\d+)", shown)]
            self.assertEqual(len(numbers), 2)
            self.assertEqual(*numbers)
            self.assertIn("view=source", shown.split()[0])
            self.assertIn("view=result", shown.split()[1])
            frames.append(numbers[0])
            times.append(at)
        steps = [(after - before) % 48 for before, after in pairwise(frames)]
        for step, passed in zip(steps, np.diff(times), strict=True):
            self.assertLess(step, 24 * passed + LATE_FRAMES, "it runs forwards, never ahead of time")
        self.assertEqual(float(np.median(steps)), 1)

    def test_a_loop_plays_coarsely_until_its_pictures_are_there(self) -> None:
        page, held = self.page, list[Route]()

        def hold(route: Route) -> None:
            exact = "view=result" in route.request.url and "draft" not in route.request.url
            held.append(route) if exact and not self.released else route.continue_()

        self.released = False
        page.goto(f"{self.live_server_url}/shots/{self.shot.pk}")
        self.picture_settled("source")
        page.route("**/frame?*", hold)
        page.keyboard.press("7")
        page.get_by_label("Frame", exact=True).focus()
        page.keyboard.press("1")
        expect(page.get_by_test_id("coarse")).to_have_count(48)
        expect(page.get_by_test_id("loop")).to_contain_text("0/48, 48 more coarsely")
        slider = page.get_by_role("slider", name="Frame", exact=True)
        begins = slider.get_attribute("aria-valuenow") or ""
        page.keyboard.press(" ")
        expect(slider).not_to_have_attribute("aria-valuenow", begins)
        page.keyboard.press(" ")
        self.released = True
        for route in held:
            route.continue_()
        expect(page.get_by_test_id("cached")).to_have_count(48, timeout=4 * PATIENCE)
        expect(page.get_by_test_id("coarse")).to_have_count(0)


class ByKeyboard(JudgingCase):
    needs_worker = True

    def to(self, name: str) -> None:
        """Press Tab until something of that name has the focus."""
        for _ in range(120):
            self.page.keyboard.press("Tab")
            found = self.page.evaluate(
                "() => [document.activeElement.getAttribute('aria-label'), document.activeElement.innerText,"
                " document.activeElement.labels?.[0]?.innerText].map(t => (t ?? '').trim())"
            )
            if name in found:
                return
        self.fail(f"{name} cannot be reached with Tab")

    def test_the_main_job_without_a_mouse(self) -> None:
        page = self.page
        page.goto(self.live_server_url)
        expect(page.get_by_role("link", name=QUAY, exact=True)).to_be_visible()
        self.to(QUAY)
        page.keyboard.press("Enter")
        self.picture_settled("source")
        self.to("Measure")
        page.keyboard.press("Enter")
        expect(page.locator('[data-finding="noise"]')).to_be_visible(timeout=PATIENCE)
        self.to("Propose")
        old = self.address()
        page.keyboard.press("Enter")
        expect(page.get_by_role("button", name="Make this plan")).to_be_focused()
        page.keyboard.press("Enter")
        self.after(old)
        self.press("w")
        self.to("Overwork")
        page.keyboard.press("Enter")
        self.to("Judge this frame")
        page.keyboard.press("Enter")
        expect(page.locator("[data-verdict]")).to_be_visible(timeout=PATIENCE)
        self.to("Render…")
        page.keyboard.press("Enter")
        self.to("Start render")
        page.keyboard.press("Enter")
        expect(page.locator("[data-render=done]")).to_be_visible(timeout=PATIENCE)
