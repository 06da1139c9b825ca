"""A page of the application in headless Chromium, with a small demo job and a worker behind it."""

from __future__ import annotations

import base64
import functools
import io
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import numpy as np
from django.contrib.staticfiles.testing import StaticLiveServerTestCase
from django.core.management import call_command
from PIL import Image
from playwright.sync_api import Browser, Locator, Page, Playwright, expect, sync_playwright

from tests.clips import temporary_folder
from tests.processes import AsgiServerThread, kill, worker_process
from yellowclean.engine.measure.report import SurveyReport
from yellowclean.engine.media import open_source
from yellowclean.engine.survey import survey
from yellowclean.server.models import Shot
from yellowclean.server.use_cases import keep_survey

CHROMIUM = "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
PATIENCE = 90_000
QUAY = "q9_012_quay_lantern"


@functools.cache
def surveyed(path: str) -> SurveyReport:
    """The survey of a shot of the demo reel, which stays for all tests of a run."""
    return survey(open_source(path))


class BrowserCase(StaticLiveServerTestCase):
    """A page of the application with a small demo job, and, where background work is tested, a worker behind it."""

    server_thread_class = AsgiServerThread
    needs_worker = False
    playwright: Playwright
    browser: Browser

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        expect.set_options(timeout=PATIENCE)
        cls.playwright = sync_playwright().start()
        cls.browser = cls.playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.browser.close()
        cls.playwright.stop()
        super().tearDownClass()

    def setUp(self) -> None:
        call_command("demo", size="384x216", frames=12, reel_size="", verbosity=0, stdout=(self.output()))
        if self.needs_worker:
            self.addCleanup(kill, worker_process())
        self.page: Page = self.browser.new_page(viewport={"width": 1280, "height": 800}, accept_downloads=True)
        self.addCleanup(self.page.close)
        self.page.set_default_timeout(PATIENCE)
        self.troubles: list[str] = []
        self.page.on("pageerror", lambda error: self.troubles.append(str(error)))
        self.addCleanup(lambda: self.assertEqual(self.troubles, []))

    def output(self) -> Any:
        return (temporary_folder(self) / "demo.log").open("w")

    def open_quay(self) -> None:
        self.open_shot(QUAY)

    def open_shot(self, name: str) -> None:
        self.page.goto(self.live_server_url)
        self.page.get_by_role("link", name=name, exact=True).click()
        expect(self.page.get_by_role("heading", name=name)).to_be_visible()
        self.picture_settled("source")

    def picture_settled(self, view: str) -> Locator:
        """The picture once every part of it shows the wanted view."""
        canvas = self.page.locator(f'canvas[data-shown*="view={view}"]')
        expect(canvas).to_be_visible(timeout=PATIENCE)
        expect(self.page.get_by_text("computing …")).to_have_count(0, timeout=PATIENCE)
        return canvas

    def propose(self) -> None:
        """Accept what is proposed for the shot on the Bench."""
        self.page.get_by_role("button", name="Propose", exact=True).click()
        self.page.get_by_role("button", name="Make this plan").click()

    def settings_of(self, kind: str) -> Locator:
        """The settings of the first step of that kind, opened, all that is folded unfolded."""
        self.page.locator(f'[data-step="{kind}"] button[aria-expanded]').first.click()
        settings = self.page.locator(f'[data-settings="{kind}"]')
        expect(settings).to_be_visible()
        further = settings.get_by_text("Further settings")
        if further.count():
            further.click()
        self.picture_settled("")
        return settings

    def pixels(self) -> np.ndarray:
        """What the canvas shows, H×W×3."""
        address = self.page.evaluate("document.querySelector('canvas[data-shown]').toDataURL('image/png')")
        picture = Image.open(io.BytesIO(base64.b64decode(address.split(",")[1])))
        return np.array(picture.convert("RGB"))

    def rendered(self) -> Path:
        """What the render dialog, which is open, writes losslessly: started, awaited and downloaded."""
        page = self.page
        page.get_by_label("Format").select_option("ffv1")
        page.get_by_role("button", name="Start render").click()
        expect(page.locator('[data-render="done"]')).to_be_visible(timeout=PATIENCE)
        with page.expect_download() as coming:
            page.get_by_role("link", name="Download").click()
        path = temporary_folder(self) / coming.value.suggested_filename
        coming.value.save_as(path)
        return path

    def measure(self) -> None:
        """Have the shot on the Bench measured: by the worker where there is one, else by a survey made once for all
        tests."""
        if self.needs_worker:
            self.page.get_by_role("button", name="Measure", exact=True).click()
        else:
            shot = Shot.objects.get(pk=int(urlsplit(self.page.url).path.rsplit("/", 1)[-1]))
            keep_survey(shot, surveyed(shot.path))
            self.page.reload()
            self.picture_settled("")
        expect(self.page.get_by_test_id("inside")).to_be_visible(timeout=PATIENCE)
