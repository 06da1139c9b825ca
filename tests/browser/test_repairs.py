"""Repairs in a real browser: from the finding to the treated and rendered picture."""

from __future__ import annotations

import re

import numpy as np
from playwright.sync_api import Locator, expect

from tests.browser.case import PATIENCE, BrowserCase
from yellowclean.engine.footage import Footage
from yellowclean.engine.media import open_source
from yellowclean.engine.pipeline import Pipeline
from yellowclean.server.models import PlanVersion, Shot


class Repairs(BrowserCase):
    needs_worker = True

    def treated(self, shot: str, finding: str, kind: str) -> Locator:
        """A shot measured, with the proposal that treats its finding; the settings of the step of that kind."""
        page = self.page
        self.open_shot(shot)
        self.measure()
        expect(page.locator(f'[data-finding="{finding}"]')).to_be_visible(timeout=PATIENCE)
        self.propose()
        step = page.locator(f'[data-step="{kind}"]')
        expect(step).to_be_visible(timeout=PATIENCE)
        self.picture_settled("result")
        return self.settings_of(kind)

    def left_after(self, finding: str) -> float:
        """The figure that the result is measured to have."""
        after = self.page.locator(f'[data-after="{finding}"]')
        expect(after).to_be_visible(timeout=PATIENCE)
        return float(re.findall(r"[\d.]+", after.inner_text())[0])

    def share_of_yellow(self, step: Locator, view: str) -> float:
        """How much of a step's own view it marks."""
        step.get_by_role("button", name=view).click()
        self.picture_settled("own")
        shown = self.pixels().astype(int)
        return float((shown[..., 0] - shown[..., 2] > 60).mean())

    def rendered_as_treated(self, shot: str) -> None:
        """The file that the dialog renders holds what the engine makes of the plan on the screen."""
        self.page.get_by_role("button", name="Render…").click()
        self.page.get_by_label("Last frame").fill("5")
        written, known = open_source(self.rendered()), Shot.objects.get(name=shot)
        plan = PlanVersion.objects.get(shot=known).plan
        result = Pipeline(Footage(open_source(known.path)), plan).frame(4)
        self.assertLess(np.abs(written.read(4) - np.clip(result, 0, 1)).max(), 1.01 / 65535)

    def test_bands_of_mains_lamps_go_and_their_curve_is_shown(self) -> None:
        step = self.treated("q9_026_sail_loft", "flicker", "flicker")
        self.assertLess(self.left_after("flicker"), 1.5)
        step.get_by_role("button", name="Show its curve").click()
        expect(self.page.get_by_test_id("course")).to_be_visible(timeout=PATIENCE)
        expect(self.page.get_by_text("Level, middle row")).to_be_visible()
        self.rendered_as_treated("q9_026_sail_loft")

    def test_contours_of_a_sky_are_seen_apart_from_its_edges_and_go(self) -> None:
        step = self.treated("q9_031_dusk_cranes", "banding", "bands")
        step.get_by_role("button", name="Show contours").click()
        self.picture_settled("own")
        shown = self.pixels().astype(int)
        yellow = (shown[..., 0] - shown[..., 2] > 100).mean()
        self.assertGreater(yellow, 0.01)
        step.get_by_label("Largest step slider").fill("1.5")
        self.page.wait_for_timeout(800)
        self.picture_settled("own")
        self.assertLess(
            (self.pixels().astype(int)[..., 0] - self.pixels().astype(int)[..., 2] > 100).mean(), yellow / 4
        )
        self.page.get_by_role("button", name="Undo", exact=True).click()
        self.page.get_by_role("button", name="Result", exact=True).click()
        self.picture_settled("result")
        self.rendered_as_treated("q9_031_dusk_cranes")

    def test_specks_are_listed_and_left_or_taken_by_keys_and_on_the_picture(self) -> None:
        page = self.page
        step = self.treated("q9_053_night_lapse", "specks", "specks")
        for _ in range(4):
            page.keyboard.press("ArrowRight")
        step.get_by_role("button", name="List them").click()
        told = page.get_by_test_id("marks").locator("p").first
        expect(told).to_contain_text(re.compile(r"[1-9]\d* in this frame, 0 left"), timeout=PATIENCE)
        page.get_by_role("listbox").focus()
        page.keyboard.press("ArrowDown")
        page.keyboard.press("Space")
        expect(told).to_contain_text(", 1 left", timeout=PATIENCE)
        page.keyboard.press("Space")
        expect(told).to_contain_text(", 0 left", timeout=PATIENCE)
        count = int(told.inner_text().split()[0])
        page.get_by_role("button", name="Leave all").first.click()
        expect(told).not_to_contain_text(", 0 left", timeout=PATIENCE)
        page.get_by_role("button", name="Take all").first.click()
        expect(told).to_contain_text(", 0 left", timeout=PATIENCE)
        page.get_by_role("button", name="On the picture").click()
        page.locator("canvas[data-shown]").first.click(position={"x": 480, "y": 200})
        expect(told).to_contain_text(f"{count + 1} in this frame", timeout=PATIENCE)
        self.rendered_as_treated("q9_053_night_lapse")

    def test_coloured_waves_of_a_jacket_are_shown_and_go(self) -> None:
        step = self.treated("q9_048_drying_jacket", "moiré", "moire")
        self.assertLess(self.left_after("moiré"), 4)
        yellow = self.share_of_yellow(step, "Show false colour")
        self.assertGreater(yellow, 0.08)
        step.get_by_label("Weakest waves", exact=True).fill("64")
        step.get_by_label("Weakest waves", exact=True).press("Enter")
        self.page.wait_for_timeout(800)
        self.picture_settled("own")
        self.assertLess((np.ptp(self.pixels().astype(int), axis=2) > 60).mean(), yellow / 4)
        self.page.get_by_role("button", name="Undo", exact=True).click()
        self.page.get_by_role("button", name="Result", exact=True).click()
        self.picture_settled("result")
        self.rendered_as_treated("q9_048_drying_jacket")

    def test_an_old_tape_is_brought_to_one_moment_and_its_repeat_made_anew(self) -> None:
        step = self.treated("q9_061_old_tape", "interlace", "interlace")
        self.assertLess(self.left_after("interlace"), 5)
        expect(step.get_by_label("First lines")).to_have_value("measured")
        woven = self.page.url
        self.page.get_by_role("button", name="Make each field a frame").click()
        told = self.page.get_by_text("each field a frame, top lines first")
        expect(told).to_be_visible(timeout=PATIENCE)
        self.assertNotEqual(self.page.url, woven)
        self.page.get_by_role("status").get_by_role("button", name="Undo").click()
        self.page.wait_for_url(f"{woven.split('?')[0]}?*")
        self.page.get_by_role("button", name="Result", exact=True).click()
        self.picture_settled("result")
        self.assertEqual(self.left_after("repeated frames"), 0)
        self.settings_of("repeats")
        expect(self.page.get_by_text("Frame 4 repeats the one before").first).to_be_visible()
        self.rendered_as_treated("q9_061_old_tape")

    def test_what_a_phone_coded_coarsely_is_treated_by_its_quantisers(self) -> None:
        step = self.treated("q9_044_basin_phone", "coding error", "compression")
        step.get_by_role("button", name="Show coding error").click()
        self.picture_settled("own")
        self.assertGreater(self.pixels().astype(int).mean(), 10)
        self.page.get_by_role("button", name="Result", exact=True).click()
        self.picture_settled("result")
        self.rendered_as_treated("q9_044_basin_phone")
