"""Working on steps in a real browser: where they act, how much of them, grain, and the proposal's reasons."""

from __future__ import annotations

import cv2
import numpy as np
from playwright.sync_api import Locator, expect

from tests.browser.case import PATIENCE, BrowserCase

HANDLE_IS_AT = """x => {
  const handle = document.querySelector('[aria-label^="Shape 1, its middle"]');
  return handle && Math.abs(handle.getBoundingClientRect().x - x) < 2;
}"""


class Treating(BrowserCase):
    def setUp(self) -> None:
        super().setUp()
        self.open_quay()
        self.measure()
        self.propose()
        self.step = self.page.locator('[data-step="spatial"]')
        expect(self.step).to_be_visible()
        self.picture_settled("result")
        self.controls = self.settings_of("spatial")

    def opened(self) -> Locator:
        """The spatial step's Reach."""
        return self.controls.get_by_test_id("reach")

    def shown_after(self, view: str, old: str | None) -> np.ndarray:
        """The pixels once a picture other than `old` is shown."""
        self.page.wait_for_function(
            "old => document.querySelector('canvas[data-shown]').dataset.shown !== old", arg=old
        )
        self.picture_settled(view)
        return self.pixels()

    def address(self) -> str | None:
        return self.page.locator("canvas[data-shown]").get_attribute("data-shown")

    def set_number(self, label: str, value: float, within: Locator | None = None) -> None:
        field = (within or self.controls).get_by_label(label, exact=True)
        field.fill(str(value))
        field.press("Enter")

    def drag(self, handle: Locator, dx: float, dy: float) -> None:
        box = handle.bounding_box()
        assert box
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        self.page.mouse.move(x, y)
        self.page.mouse.down()
        self.page.mouse.move(x + dx, y + dy, steps=4)
        self.page.mouse.up()

    def test_a_colour_is_sampled_a_shape_drawn_and_the_matte_shows_both(self) -> None:
        page, reach, old = self.page, self.opened(), self.address()
        page.get_by_label("Use Temporal").uncheck()
        result = self.shown_after("result", old)
        page.keyboard.press("6")
        self.picture_settled("source")
        source = self.pixels()
        red = source.astype(int)[..., 0] - source.astype(int)[..., 2]
        y, x = np.unravel_index(np.argmax(red[60:-60, 60:-60]), red[60:-60, 60:-60].shape)
        reach.get_by_role("button", name="Add a colour").click()
        page.locator("canvas[data-shown]").click(position={"x": int(x) + 60, "y": int(y) + 60})
        expect(reach.get_by_test_id("hue")).to_have_count(1)
        old = self.address()
        reach.get_by_role("button", name="Show matte").click()
        matte = self.shown_after("reach", old)[..., 0]
        self.assertGreater(matte[int(y) + 60, int(x) + 60], 200)
        seen = matte[source.max(axis=2) > 0]
        self.assertLess(np.mean(seen > 128), 0.97)

        old = self.address()
        reach.get_by_role("button", name="Drop").click()
        self.shown_after("reach", old)
        old = self.address()
        reach.get_by_role("button", name="Ellipse").click()
        expect(page.get_by_test_id("shapes")).to_be_visible()
        first = self.shown_after("reach", old)[..., 0]
        old = self.address()
        self.drag(page.get_by_label("Shape 1, its middle"), -150, 0)
        second = self.shown_after("reach", old)[..., 0]
        middles = [np.average(np.arange(m.shape[1]), weights=(m > 128).sum(axis=0)) for m in (first, second)]
        self.assertAlmostEqual(middles[0] - middles[1], 150, delta=6)

        page.keyboard.press("7")
        reached = self.shown_after("result", self.address())
        for where, other in ((second == 0, source), (second == 255, result)):
            self.assertLess(np.abs(reached.astype(int) - other)[where].mean(), 0.5)

    def test_a_shape_moves_between_its_keys(self) -> None:
        page, reach = self.page, self.opened()
        reach.get_by_role("button", name="Polygon").click()
        middle = page.get_by_label("Shape 1, its middle")
        expect(middle).to_be_visible()
        page.keyboard.press("PageDown")
        reach.get_by_role("button", name="Key at frame 10").click()
        expect(reach.get_by_text("moves over 2 keys")).to_be_visible()
        start = middle.bounding_box()
        for _ in range(6):
            middle.press("ArrowRight")
        reach.get_by_text("moves over 2 keys").click()
        end = middle.bounding_box()
        assert start and end
        self.assertGreater(end["x"] - start["x"], 40)
        for _ in range(5):
            page.keyboard.press("ArrowLeft")
        page.wait_for_function(HANDLE_IS_AT, arg=(start["x"] + end["x"]) / 2)

    def test_a_place_without_colour_is_refused_in_one_line(self) -> None:
        page, reach = self.page, self.opened()
        page.keyboard.press("6")
        self.picture_settled("source")
        shown = cv2.blur(self.pixels().astype(np.float32), (25, 25))  # a colour is taken from some pixels around
        spread = (shown.max(axis=2) - shown.min(axis=2)) / (shown.max(axis=2) + 1) + (shown.max(axis=2) < 20)
        y, x = np.unravel_index(np.argmin(spread[150:-150, 60:-60]), spread[150:-150, 60:-60].shape)
        reach.get_by_role("button", name="Take one away").click()
        page.locator("canvas[data-shown]").click(position={"x": int(x) + 60, "y": int(y) + 150})
        expect(page.get_by_text("so it has no hue")).to_be_visible()
        expect(reach.get_by_test_id("hue")).to_have_count(0)

    def test_mix_channels_grain_and_a_second_pass(self) -> None:
        page = self.page
        full, old = self.pixels().astype(int), self.address()
        self.set_number("Mix", 0)
        none, old = self.shown_after("result", old).astype(int), self.address()
        self.set_number("Mix", 50)
        half, old = self.shown_after("result", old), self.address()
        self.assertGreater(np.abs(full - none).mean(), 0.5)
        self.assertLess(np.abs(half - (full + none) / 2).mean(), 0.6)
        expect(self.step.get_by_text("mix 50 %")).to_be_visible()
        self.controls.get_by_role("button", name="Reset Mix").click()
        self.shown_after("result", old)
        old = self.address()
        self.controls.get_by_text("Channels").click()
        self.set_number("Green", 0)
        green_off = self.shown_after("result", old).astype(int)
        np.testing.assert_array_equal(green_off[..., 0], full[..., 0])
        self.assertLess(np.abs(green_off[..., 1] - none[..., 1]).max(), 2)
        old = self.address()
        page.get_by_role("button", name="Undo").click()
        np.testing.assert_array_equal(self.shown_after("result", old), full)

        old = self.address()
        page.get_by_label("Treatment to add").select_option("grain")
        page.get_by_role("button", name="Add step").click()
        grain = page.locator('[data-settings="grain"]')
        grain.get_by_text("Further settings").click()
        fine, old = self.shown_after("result", old).astype(int), self.address()
        self.assertGreater((fine - full).std(), 1)
        self.set_number("Seed", 2, grain)
        other = self.shown_after("result", old).astype(int)
        self.assertLess(abs(np.corrcoef((fine - full).ravel(), (other - full).ravel())[0, 1]), 0.1)
        grain.get_by_role("button", name="Remove", exact=True).click()
        expect(grain).to_have_count(0)
        self.settings_of("spatial").get_by_role("button", name="Repeat").click()
        expect(self.step).to_have_count(2)

    def test_a_test_strip_is_read_and_a_rung_taken(self) -> None:
        page = self.page
        self.controls.get_by_label("Setting to try").select_option("chroma")
        self.controls.get_by_role("button", name="Test strip").click()
        strip = page.get_by_test_id("strip")
        expect(strip.get_by_text("suggested stop")).to_have_count(1, timeout=PATIENCE)
        expect(strip.locator("img")).to_have_count(7)
        page.wait_for_function(
            "() => [...document.querySelectorAll('[data-testid=strip] img')]"
            ".every(i => i.complete && i.naturalWidth)"
        )
        strip.get_by_title("Take 135 %").click()
        expect(strip).to_have_count(0)
        expect(self.controls.get_by_label("Chroma", exact=True)).to_have_value("135")

    def test_signals_and_stress_change_both_sides_alike(self) -> None:
        page, old = self.page, self.address()
        page.get_by_label("Show").select_option("luma")
        grey, old = self.shown_after("result", old), self.address()
        np.testing.assert_array_equal(grey[..., 0], grey[..., 2])
        page.get_by_role("slider", name="Stress").fill("50")
        stressed, old = self.shown_after("result", old), self.address()
        self.assertGreater(stressed[200:400, 200:800].std(), 1.5 * grey[200:400, 200:800].std())
        page.get_by_role("button", name="Source", exact=True).click()
        source = self.shown_after("source", old)
        self.assertLess(abs(float(source[200:400].mean()) - float(stressed[200:400].mean())), 8)

    def test_versions_are_duplicated_noted_deleted_and_brought_back(self) -> None:
        page = self.page
        page.get_by_role("button", name="Edit", exact=True).click()
        page.get_by_role("button", name="Duplicate").click()
        expect(page.get_by_test_id("versions").locator("option")).to_have_text(["A", "B"])
        note = page.get_by_label("Note on this version")
        expect(note).to_have_value("Copy of A")
        note.fill("for the client")
        note.press("Enter")
        name = page.get_by_label("Name of this version")
        name.fill("A")
        name.press("Enter")
        expect(page.get_by_text("a version needs a name of its own")).to_be_visible()
        expect(name).to_have_value("B")
        name.fill("client")
        name.press("Enter")
        expect(page.get_by_test_id("versions").locator("option")).to_have_text(["A", "client"])
        page.get_by_role("button", name="Delete").click()
        expect(page.get_by_test_id("versions").locator("option")).to_have_text(["A"])
        page.get_by_role("button", name="Undo").click()
        expect(page.get_by_test_id("versions").locator("option")).to_have_text(["A", "client"])
        page.get_by_role("button", name="Undo").click()
        expect(page.get_by_test_id("versions").locator("option")).to_have_text(["A", "B"])
        page.get_by_role("button", name="Redo").click()
        expect(page.get_by_test_id("versions").locator("option")).to_have_text(["A", "client"])
        expect(note).to_have_value("for the client")
        page.reload()
        page.get_by_role("button", name="Edit", exact=True).click()
        expect(page.get_by_label("Note on this version")).to_have_value("for the client")
        page.get_by_role("button", name="Redo").click()
        expect(page.get_by_test_id("versions").locator("option")).to_have_text(["A"])

    def test_the_proposal_says_why_before_anything_is_made_and_line_by_line(self) -> None:
        page = self.page
        page.get_by_role("button", name="Propose", exact=True).click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("frames each side")
        expect(dialog).to_contain_text("the error estimated in the middle of the picture is lowest")
        expect(dialog).to_contain_text("against a tolerance of")
        expect(page.get_by_test_id("versions").locator("option")).to_have_count(1)
        dialog.get_by_role("checkbox").first.uncheck()
        dialog.get_by_role("button", name="Make a plan of 1 of 2").click()
        expect(page.get_by_test_id("versions").locator("option")).to_have_count(2)
        expect(page.locator("[data-step]")).to_have_count(1)
        expect(self.step).to_be_visible()

    def test_a_proposal_can_be_asked_for_more_than_the_tolerances(self) -> None:
        page = self.page
        page.get_by_role("button", name="Propose", exact=True).click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Size").select_option("2 ×")
        expect(dialog).to_contain_text("pixels, as asked")
        dialog.get_by_role("button", name="Make this plan").click()
        expect(page.locator('[data-step="enlarge"]')).to_be_visible()
        dialog.wait_for(state="hidden")
        page.get_by_role("button", name="Propose", exact=True).click()
        expect(dialog.get_by_label("Size")).to_have_value("")
        expect(dialog).not_to_contain_text("pixels, as asked")
        dialog.get_by_label("Undo the measured blur").check()
        expect(dialog.get_by_label("Undo the measured blur")).to_be_checked()
        expect(dialog.get_by_role("button", name="Make this plan")).to_be_enabled()

    def test_an_unwise_order_says_why(self) -> None:
        page = self.page
        advice = page.get_by_test_id("advice")
        expect(advice).to_have_count(0)
        self.controls.get_by_role("button", name="Earlier").click()
        expect(advice).to_contain_text("Better behind Temporal noise reduction")
        page.get_by_role("button", name="Undo").click()
        expect(advice).to_have_count(0)
