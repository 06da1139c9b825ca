"""What catches people who work fast: that a choice does not show, that keys go where nobody looks."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.case import BrowserCase
from tests.processes import AsgiServerThread
from yellowclean.server.models import Job
from yellowclean.server.use_cases import set_tolerances


class Traps(BrowserCase):
    def test_a_view_chosen_is_a_view_shown(self) -> None:
        page = self.page
        self.open_quay()
        self.measure()
        self.propose()
        self.picture_settled("result")
        page.keyboard.press("t")
        self.picture_settled("source")
        page.get_by_role("button", name="Result", exact=True).click()
        self.picture_settled("result")
        expect(page.get_by_role("button", name="Other")).to_have_attribute("aria-pressed", "false")

    def test_arrows_move_frames_right_after_a_slider_was_dragged(self) -> None:
        page = self.page
        self.open_quay()
        self.measure()
        self.propose()
        self.settings_of("spatial")
        slider = page.get_by_role("slider", name="Luma slider", exact=True)
        box = slider.bounding_box()
        assert box is not None
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] / 4, box["y"] + box["height"] / 2)
        page.mouse.up()
        dragged = slider.input_value()
        page.keyboard.press("ArrowRight")
        expect(page.get_by_text("frame 1 ·")).to_be_visible()
        self.assertEqual(slider.input_value(), dragged)
        slider.focus()
        page.keyboard.press("ArrowRight")
        self.assertNotEqual(slider.input_value(), dragged)
        expect(page.get_by_text("frame 1 ·")).to_be_visible()

    def test_a_scope_stays_in_view_while_a_slider_is_dragged_and_the_picture_keeps_half_of_the_window(self) -> None:
        page = self.page
        self.open_quay()
        self.measure()
        self.propose()
        page.get_by_role("tab", name="Scopes").click()
        scope = page.get_by_test_id("scopes").locator("svg")
        expect(scope).to_have_attribute("data-scope", re.compile("version_id="))
        slider = self.settings_of("spatial").get_by_role("slider", name="Luma slider")
        before, box = scope.get_attribute("data-scope"), slider.bounding_box()
        assert before and box
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        for share in (0.4, 0.3, 0.2):
            page.mouse.move(box["x"] + box["width"] * share, box["y"] + box["height"] / 2)
            seen = scope.evaluate(
                "e => { const b = e.getBoundingClientRect();"
                " const corners = [[b.left + 2, b.top + 2], [b.right - 2, b.bottom - 2]];"
                " return corners.every(([x, y]) => e.contains(document.elementFromPoint(x, y))); }"
            )
            self.assertTrue(seen, "a corner of the scope is out of sight")
        page.mouse.up()
        expect(scope).not_to_have_attribute("data-scope", before)
        canvas = page.locator("canvas[data-shown]").bounding_box()
        assert canvas
        self.assertGreaterEqual(canvas["width"], 640)
        page.keyboard.press("e")
        expect(scope).to_have_count(0)
        page.reload()
        self.picture_settled("")
        expect(page.get_by_role("button", name="Evidence")).to_have_attribute("aria-expanded", "false")

    def test_a_window_made_smaller_and_large_again_keeps_what_was_fetched(self) -> None:
        page = self.page
        self.open_quay()
        page.get_by_label("Zoom").select_option("100")
        self.picture_settled("source")
        page.get_by_label("Zoom").select_option("fit")
        shown = self.picture_settled("source").get_attribute("data-shown")
        asked: list[str] = []
        page.on("request", lambda request: asked.append(request.url) if "/frame?" in request.url else None)
        for width, height in ((1100, 760), (1000, 700), (1280, 800)):
            page.set_viewport_size({"width": width, "height": height})
            page.wait_for_timeout(300)
            self.assertGreater(self.pixels().std(), 5, "the picture went")
        self.assertEqual((asked, self.picture_settled("").get_attribute("data-shown")), ([], shown))

    def test_at_twice_the_size_everything_can_be_reached(self) -> None:
        self.open_quay()
        self.measure()
        self.propose()
        page = self.browser.new_page(viewport={"width": 640, "height": 400}, device_scale_factor=2)
        self.addCleanup(page.close)
        page.goto(self.page.url)
        expect(page.locator("canvas[data-shown]")).to_be_visible()
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 640)
        for name in ("Propose", "Render…", "Result", "Wipe", "Loop", "Measure", "Strip"):
            page.get_by_role("button", name=name, exact=True).first.click(trial=True)
        picture = page.locator("canvas[data-shown]").bounding_box()
        assert picture
        self.assertGreaterEqual((picture["width"], picture["height"]), (300, 120))

    def test_what_no_step_treats_says_so_and_what_to_do_instead(self) -> None:
        page = self.page
        set_tolerances(Job.objects.get(), {"compression": 0})
        self.open_quay()
        self.measure()
        page.get_by_role("button", name="Propose", exact=True).click()
        left = page.get_by_test_id("untreated")
        expect(left).to_contain_text("Ask for a less compressed copy")
        page.get_by_role("button", name="Make this plan").click()
        page.locator('[data-finding="compression"] button').click()
        expect(page.get_by_test_id("instead")).to_contain_text("Ask for a less compressed copy")
        expect(page.locator('[data-finding="compression"] .outside')).to_be_visible()

    def test_an_edit_made_while_the_application_is_away_is_sent_once_it_is_back(self) -> None:
        page = self.page
        self.open_quay()
        self.measure()
        self.propose()
        amount = self.settings_of("spatial").get_by_label("Luma", exact=True)
        self.server_thread.terminate()
        amount.fill("35")
        amount.press("Enter")
        expect(page.get_by_test_id("away")).to_be_visible()
        page.get_by_role("slider", name="Frame", exact=True).press("ArrowRight")  # nobody has fetched that frame
        self.start_server_again()
        expect(page.get_by_test_id("away")).to_have_count(0)
        self.picture_settled("result")
        expect(page.locator("canvas[data-shown]")).to_have_attribute("data-shown", re.compile("n=1&"))
        expect(page.get_by_role("status").get_by_role("button", name="Close")).to_have_count(0)
        page.reload()
        self.picture_settled("")
        expect(self.settings_of("spatial").get_by_label("Luma", exact=True)).to_have_value("35")

    def start_server_again(self) -> None:
        again = AsgiServerThread(self.host, self.static_handler, {}, self.server_thread.port)
        again.daemon = True
        again.start()
        again.is_ready.wait()
        type(self).server_thread = again

    def test_edits_of_two_windows_are_both_kept(self) -> None:
        page = self.page
        self.open_quay()
        self.measure()
        self.propose()
        self.picture_settled("result")
        other = self.browser.new_page(viewport={"width": 1280, "height": 800})
        self.addCleanup(other.close)
        other.goto(page.url)
        line = '[data-step="spatial"]'
        with other.expect_response(re.compile(r"/api/versions/\d+$")):
            other.locator(line).get_by_role("textbox").fill("40")
            other.locator(line).get_by_role("textbox").press("Enter")
        page.locator(line).get_by_role("textbox").fill("70")
        page.locator(line).get_by_role("textbox").press("Enter")
        dialog = page.get_by_role("dialog", name="Changed in two windows")
        expect(dialog).to_be_visible()
        dialog.get_by_role("button", name="Both: mine as a new version").click()
        versions = page.get_by_test_id("versions")
        expect(versions.locator("option")).to_have_text(["A", "B"])
        expect(page.locator(line).get_by_role("textbox")).to_have_value("70")
        versions.select_option(label="A")
        expect(page.locator(line).get_by_role("textbox")).to_have_value("40")
        with page.expect_response(re.compile(r"/api/versions/\d+$")) as saved:
            page.locator(line).get_by_role("textbox").fill("45")
            page.locator(line).get_by_role("textbox").press("Enter")
        self.assertEqual(saved.value.status, 200)

    def test_lines_on_what_to_do_next_follow_the_work_and_stay_away_once_put_away(self) -> None:
        page = self.page
        line = page.get_by_test_id("next-step")
        page.goto(self.live_server_url)
        expect(line).to_contain_text("Measure the rest")
        self.open_quay()
        expect(line).to_contain_text("Measure the shot first")
        self.measure()
        expect(line).to_contain_text("Propose makes the least plan")
        self.propose()
        expect(line).to_contain_text("judge overwork")
        page.get_by_role("button", name="Put these lines away").click()
        page.reload()
        self.picture_settled("")
        expect(line).to_have_count(0)
