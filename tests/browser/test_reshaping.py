"""Size and colour changed in a real browser: from the slider to the rendered file."""

from __future__ import annotations

import re

import numpy as np
from playwright.sync_api import expect

from tests import treatments
from tests.browser.case import PATIENCE, QUAY, BrowserCase
from yellowclean.engine.footage import Footage
from yellowclean.engine.media import open_source
from yellowclean.engine.pipeline import Pipeline
from yellowclean.server.models import PlanVersion, Shot


class Reshaping(BrowserCase):
    needs_worker = True

    def test_resize_and_convert_from_slider_to_file_with_noise_steps_about_them(self) -> None:
        page = self.page
        self.open_quay()
        self.measure()
        expect(page.locator('[data-finding="noise"]')).to_be_visible(timeout=PATIENCE)
        self.propose()
        expect(page.locator('[data-step="spatial"]')).to_be_visible(timeout=PATIENCE)
        for title in ("Resize", "Convert colour", "Spatial noise reduction"):
            page.get_by_label("Treatment to add").select_option(label=title)
            page.get_by_role("button", name="Add step").click()
        expect(page.locator("[data-step]")).to_have_count(5)
        resize = self.settings_of("resize")
        expect(resize.get_by_text("Mix", exact=True)).to_have_count(0)  # it changes the whole frame
        resize.get_by_label("Factor slider").fill("2")
        resize.get_by_label("In linear light").check()
        convert = self.settings_of("convert")
        convert.get_by_label("To", exact=True).select_option("Rec.2100-PQ - Display")
        page.wait_for_timeout(500)
        self.picture_settled("result")
        page.get_by_label("Zoom").select_option("200")
        page.get_by_role("button", name="Wipe", exact=True).click()
        self.picture_settled("result")
        page.get_by_role("button", name="Wipe", exact=True).click()
        page.get_by_role("button", name="Removed", exact=True).click()
        self.picture_settled("removed")
        removed = self.pixels()[250:350, 200:450].astype(float)
        self.assertLess(abs(removed.mean() - 128), 12)  # nothing but noise: size and colour are no part of it
        page.get_by_role("button", name="Undo", exact=True).click()
        expect(convert.get_by_label("To", exact=True)).not_to_have_value("Rec.2100-PQ - Display")
        page.get_by_role("button", name="Redo", exact=True).click()
        expect(convert.get_by_label("To", exact=True)).to_have_value("Rec.2100-PQ - Display")
        page.get_by_role("button", name="Render…").click()
        expect(page.get_by_test_id("result-format")).to_have_text(re.compile("768×432.*Rec.2100-PQ"))
        page.get_by_label("Last frame").fill("3")
        written, shot = open_source(self.rendered()), Shot.objects.get(name=QUAY)
        self.assertEqual((written.info.width, written.info.height), (768, 432))
        self.assertEqual((written.info.primaries, written.info.transfer), ("bt2020", "smpte2084"))
        plan = PlanVersion.objects.get(shot=shot).plan
        result = Pipeline(Footage(open_source(shot.path)), plan).frame(1)
        self.assertLess(np.abs(written.read(1) - np.clip(result, 0, 1)).max(), 1 / 65535)


class OneFile(BrowserCase):
    def test_treatments_of_one_file_have_their_controls_and_views_without_a_mouse(self) -> None:
        self.enterContext(treatments.added())
        page = self.page
        self.open_quay()
        self.measure()
        for kind in ("dimmed", "every second", "square root"):
            page.get_by_label("Treatment to add").select_option(kind)
            page.get_by_role("button", name="Add step").press("Enter")
            expect(page.locator(f'[data-settings="{kind}"]')).to_be_visible()
        page.get_by_role("button", name="1. Dimmed").press("Enter")
        dimmed = page.locator('[data-settings="dimmed"]')
        dimmed.get_by_label("Level slider").focus()
        page.keyboard.press("Home")
        expect(dimmed.get_by_label("Level", exact=True)).to_have_value("0")
        dimmed.get_by_role("button", name="Show above").press("Enter")
        page.wait_for_timeout(500)
        self.picture_settled("own")
        shown = self.pixels()[250:350, 200:450]
        self.assertGreater(float(shown.mean()), 250)  # all of it lies above nothing
        expect(page.get_by_test_id("picture-label")).to_have_text("Above of step 1")
        dimmed.get_by_role("button", name="Pick").press("Enter")
        page.locator("canvas[data-shown]").click(position={"x": 400, "y": 300})
        for field in ("x", "y"):
            expect(dimmed.get_by_label(field, exact=True)).not_to_have_value("0")
        page.get_by_role("button", name="3. Square root").press("Enter")
        rooted = page.locator('[data-settings="square root"]')
        rooted.get_by_label("Signed").press("Space")
        expect(rooted.get_by_label("Signed")).not_to_be_checked()
        page.keyboard.press("7")
        self.picture_settled("result")
        expect(page.get_by_test_id("picture-label")).to_contain_text("192×108 px, Square root")
