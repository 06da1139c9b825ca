"""The main job in a real browser: from the demo job to a downloaded, measured result."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
from django.conf import settings
from playwright.sync_api import expect

from tests.browser.case import PATIENCE, QUAY, BrowserCase
from tests.clips import psnr
from yellowclean.engine.media import open_source
from yellowclean.engine.survey import survey
from yellowclean.server.models import Job, Shot


class MainJob(BrowserCase):
    needs_worker = True

    def test_from_the_demo_job_to_a_downloaded_result(self) -> None:
        page = self.page
        self.open_quay()
        source = self.pixels()
        self.measure()
        expect(page.locator('[data-finding="noise"] .outside')).to_be_visible()
        self.propose()
        expect(page.locator('[data-step="temporal"]')).to_be_visible()
        address = self.picture_settled("result").get_attribute("data-shown")
        result = self.pixels()
        self.assertGreater(np.abs(result.astype(int) - source).mean(), 1)
        expect(page.locator('[data-after="noise"]')).to_be_visible()

        page.get_by_role("button", name="Removed").click()
        self.picture_settled("removed")
        removed = self.pixels()
        self.assertLess(abs(float(removed[300:500, 300:900].mean()) - 127.5), 8)
        page.locator('[data-step="temporal"] input[type=checkbox]').uncheck()
        page.wait_for_function("before => document.querySelector('canvas[data-shown]').dataset.shown !== before",
                               arg=page.locator("canvas[data-shown]").get_attribute("data-shown"))  # fmt: skip
        self.picture_settled("removed")
        self.assertGreater(np.abs(self.pixels().astype(int) - removed).mean(), 2)
        page.get_by_role("button", name="Undo").click()
        expect(page.locator('[data-step="temporal"] input[type=checkbox]')).to_be_checked()

        page.get_by_role("button", name="Result").click()
        page.wait_for_function(
            "old => document.querySelector('canvas[data-shown]').dataset.shown === old", arg=address
        )
        self.wipe(source, result)
        self.download_and_compare()

    def test_one_shot_of_a_fresh_demo_is_finished_in_at_most_eight_clicks(self) -> None:
        page = self.page
        page.add_init_script(
            "window.clicks = 0; addEventListener('click', e => { if (e.isTrusted) window.clicks++; }, true);"
        )
        page.goto(self.live_server_url)
        page.get_by_role("link", name=QUAY, exact=True).click()
        self.measure()
        self.propose()
        self.picture_settled("result")
        page.get_by_role("button", name="Render…").click()
        page.get_by_role("button", name="Start render").click()
        with page.expect_download():
            page.get_by_role("link", name="Download").click()
        self.assertLessEqual(page.evaluate("window.clicks"), 8)

    def wipe(self, source: np.ndarray, result: np.ndarray) -> None:
        """Left of the line is the source, right of it the result, and the line can be dragged."""
        page = self.page
        page.get_by_role("button", name="Wipe", exact=True).click()
        self.picture_settled("result")
        line = page.get_by_role("slider", name="Wipe")
        box = line.bounding_box()
        assert box
        page.mouse.move(box["x"] + 8, 400)
        page.mouse.down()
        page.mouse.move(box["x"] - 200, 400, steps=4)
        page.mouse.up()
        self.assertLess(int(line.get_attribute("aria-valuenow") or 50), 35)
        split = self.pixels()
        edge = int(
            (line.bounding_box() or box)["x"] + 8 - (page.locator("canvas[data-shown]").bounding_box() or box)["x"]
        )
        np.testing.assert_array_equal(split[200:500, : edge - 4], source[200:500, : edge - 4])
        np.testing.assert_array_equal(split[200:500, edge + 4 :], result[200:500, edge + 4 :])
        page.keyboard.down("y")
        expect(page.get_by_test_id("picture-label")).to_have_text("Source (held)")
        page.keyboard.up("y")
        page.get_by_role("button", name="Wipe", exact=True).click()

    def download_and_compare(self) -> None:
        """The file decodes, has every frame, and is at least 4 dB nearer to the truth."""
        page = self.page
        page.get_by_role("button", name="Render…").click()
        path = self.rendered()
        self.assertEqual(path.name, f"{QUAY}_A_ffv1_0-11.mkv")
        expect(page.get_by_test_id("written-findings")).to_contain_text(re.compile("noise.*→"))
        page.get_by_label("Format").select_option("h264")
        expect(page.get_by_test_id("lost")).to_contain_text("the fineness of colour beyond 4:2:0")
        shot = Shot.objects.get(name=QUAY)
        written, noisy = open_source(path), open_source(shot.path)
        truth = open_source(Path(shot.path).with_name("truth.mkv"))
        self.assertEqual(written.info.frames, 12)
        before = np.mean([psnr(noisy.read(n), truth.read(n)) for n in range(12)])
        after = np.mean([psnr(written.read(n), truth.read(n)) for n in range(12)])
        self.assertGreater(after - before, 4.0)
        self.figures_after_are_those_of(path, shot)

    def figures_after_are_those_of(self, path: Path, shot: Shot) -> None:
        """What the ticket says is left is what a survey of the written file says, within its confidence."""
        was = {f["kind"]: f for f in (Shot.objects.get(pk=shot.pk).survey or {})["findings"]}
        measured = {finding.kind: finding.value for finding in survey(open_source(path)).findings}
        told = self.page.locator("[data-after]").evaluate_all(
            "all => all.map(e => [e.dataset.after, e.textContent])"
        )
        self.assertLessEqual({"noise", "colour noise"}, {kind for kind, _ in told})
        for kind, text in told:
            with self.subTest(kind):
                room = (1 - was[kind]["confidence"]) * was[kind]["value"] + 0.1 * measured[kind] + 0.1
                self.assertAlmostEqual(float(text), measured[kind], delta=room)


class Looking(BrowserCase):
    def test_frames_zoom_and_the_address(self) -> None:
        page = self.page
        self.open_quay()
        page.keyboard.press("ArrowRight")
        page.keyboard.press("PageDown")
        page.get_by_label("Zoom").select_option("200")
        page.locator("body").click(position={"x": 700, "y": 60})
        self.picture_settled("source")
        expect(page).to_have_url(re.compile("frame=11&view=source&zoom=200"))
        pixels = self.pixels()
        left = int(page.evaluate("document.querySelector('canvas[data-shown]').width")) // 2 - 384
        inside = pixels[300:340, left % 2 :][:, 200:400]
        pairs = (
            np.abs(inside[:, 0::2].astype(int) - inside[:, 1::2]).max(),
            np.abs(inside[:, 1:-1:2].astype(int) - inside[:, 2::2]).max(),
        )
        self.assertEqual(min(pairs), 0)  # every source pixel is a square of two by two
        page.reload()
        self.picture_settled("source")
        expect(page.get_by_label("Zoom")).to_have_value("200")
        timecode = page.get_by_label("Timecode of the source")
        for typed, frame in (("01:02:10:07", "7"), ("3", "3")):
            timecode.fill(typed)
            timecode.press("Enter")
            expect(page.get_by_role("slider", name="Frame", exact=True)).to_have_attribute("aria-valuenow", frame)
        expect(timecode).to_have_value("01:02:10:03")
        timecode.fill("01:02:19:00")
        timecode.press("Enter")
        expect(page.get_by_text("which runs from 01:02:10:00 to 01:02:10:11")).to_be_visible()

    def test_a_bad_patch_says_why_and_a_typed_number_counts(self) -> None:
        page = self.page
        self.open_quay()
        self.measure()
        page.get_by_role("button", name="Draw a patch").click()
        box = page.locator("canvas[data-shown]").bounding_box()
        assert box
        page.mouse.move(box["x"] + 300, box["y"] + 120)
        page.mouse.down()
        page.mouse.move(box["x"] + 560, box["y"] + 300, steps=3)
        page.mouse.up()
        expect(page.locator('[data-patch="texture"]')).to_contain_text("Move it to a flat")
        self.move_the_patch()
        self.propose()
        self.settings_of("spatial")
        field = page.get_by_label("Threshold", exact=True)
        field.fill("99")
        field.press("Enter")
        expect(field).to_have_value("5")
        page.get_by_role("button", name=re.compile("Reset Threshold")).click()
        expect(field).to_have_value("2.9")

    def move_the_patch(self) -> None:
        """A patch on the picture is moved and sized with keys and judged again; the better place is taken."""
        page = self.page
        patch = page.get_by_role("button", name=re.compile("^Patch 1"))
        before = patch.bounding_box()
        with page.expect_response(re.compile("/patch$")):
            patch.press("ArrowRight")
        with page.expect_response(re.compile("/patch$")):
            page.get_by_role("button", name=re.compile("^Patch 1")).press("Shift+ArrowDown")
        page.wait_for_function(
            "was => { const now = document.querySelector('[aria-label^=\"Patch 1\"]').getBoundingClientRect();"
            " return now.x > was.x && now.height > was.height; }",
            arg=before,
        )
        flat = page.locator('[data-patch="flat"]').count()
        page.get_by_test_id("better").get_by_role("button", name="Take it").click()
        expect(page.locator('[data-patch="flat"]')).to_have_count(flat + 1)
        expect(page.locator('[data-patch="texture"]')).to_have_count(0)


class Contact(BrowserCase):
    needs_worker = True

    def test_a_job_is_surveyed_sorted_filtered_and_a_finding_leads_to_its_place(self) -> None:
        page = self.page
        page.goto(self.live_server_url)
        page.get_by_role("button", name="Measure all").click()
        expect(page.get_by_text("9 shots, 9 measured")).to_be_visible(timeout=5 * PATIENCE)
        titles = page.locator("main li a.grow")
        page.get_by_label("Order").select_option("flicker")
        for n in range(2):  # the lapse's and the mains lamps' are as strong
            expect(titles.nth(n)).to_have_text(re.compile("q9_053_night_lapse|q9_026_sail_loft"))
        page.get_by_label("Show").select_option("noise")
        expect(titles.filter(has_text="q9_031_dusk_cranes")).to_have_count(0)
        page.get_by_role("button", name="Tolerances…").click()
        page.get_by_label("noise", exact=True).fill("900")
        page.get_by_role("button", name="Keep these").click()
        expect(page.get_by_text("No shot of this job is like that")).to_be_visible()

        page.get_by_label("Show").select_option("hot pixels")
        titles.first.click()
        self.picture_settled("source")
        expect(page.locator('[data-finding="noise"] .outside')).to_have_count(0)
        page.locator('[data-finding="hot pixels"] button').first.click()
        expect(page.get_by_test_id("marked")).to_be_visible()
        page.get_by_label("Zoom").select_option("400")
        marked = page.get_by_test_id("marked")
        place, picture = marked.bounding_box(), page.locator("canvas[data-shown]").bounding_box()
        assert place and picture
        self.assertTrue(picture["x"] <= place["x"] <= picture["x"] + picture["width"] - place["width"])
        self.assertTrue(picture["y"] <= place["y"] <= picture["y"] + picture["height"] - place["height"])
        where = marked.get_attribute("style") or ""
        page.get_by_role("button", name="Next place").click()
        expect(marked).not_to_have_attribute("style", where)


class Profiles(BrowserCase):
    def test_a_profile_is_saved_and_used_on_another_shot(self) -> None:
        page = self.page
        self.open_quay()
        self.measure()
        page.get_by_label("Name of the noise profile").fill("Quay cam 3200")
        page.get_by_role("button", name="Save profile").click()
        expect(page.get_by_label("Propose by").locator("option")).to_have_count(2)
        page.get_by_role("link", name="All shots").click()
        page.get_by_role("link", name="q9_020_sailcloth", exact=True).click()
        self.picture_settled("source")
        self.measure()
        label = page.get_by_label("Propose by").locator("option").nth(1).inner_text()
        page.get_by_label("Propose by").select_option(label=label)
        expect(page.get_by_test_id("saved-curve")).to_be_visible()
        expect(page.get_by_test_id("fit")).to_contain_text("Does not fit: this shot has less noise")
        self.propose()
        expect(page.locator('[data-step="spatial"]')).to_be_visible()
        page.goto(f"{self.live_server_url}/profiles")
        expect(page.get_by_label("Name of Quay cam 3200")).to_have_value("Quay cam 3200")
        chart = page.get_by_role("img", name="Luma sigma against level")
        expect(chart).to_be_visible()
        chart.hover()
        expect(page.get_by_text(re.compile(r"^Quay cam 3200\s*\d"))).to_be_visible()
        page.get_by_role("button", name="Curve of Quay cam 3200").click()
        expect(chart).to_have_count(0)


class Adding(BrowserCase):
    def test_footage_is_added_and_a_bad_file_is_refused_in_one_line(self) -> None:
        page = self.page
        page.goto(self.live_server_url)
        shot = Path(Shot.objects.get(name="q9_031_dusk_cranes").path)
        bad = settings.YELLOW_CLEAN.data / "letter.mov"
        bad.write_text("Dear editor")
        page.get_by_label("Name of a new job").fill("Second reel")
        page.get_by_role("button", name="Open new job").click()
        expect(page.get_by_text("No footage yet")).to_be_visible()
        page.get_by_label("Choose footage").set_input_files([shot, bad])
        expect(page.get_by_role("link", name="q9_031_dusk_cranes", exact=True)).to_be_visible()
        expect(page.get_by_text(re.compile(r"^letter\.mov: cannot be read as video"))).to_be_visible()
        self.assertEqual(Job.objects.get(name="Second reel").shots.count(), 1)
