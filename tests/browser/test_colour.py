"""Colour in a real browser: a log shot named for what it is, converted, judged, written and read back; scopes."""

from __future__ import annotations

import re

import av
import colour
import numpy as np
from playwright.sync_api import expect

from tests.browser.case import PATIENCE, BrowserCase
from tests.clips import described, shot_pair, temporary_folder
from yellowclean.engine.colour.conversion import Conversion
from yellowclean.engine.frames import CV_SCALE
from yellowclean.engine.media import destination, open_source, open_writer
from yellowclean.engine.testcamera import Camera
from yellowclean.server.models import Job, Shot
from yellowclean.server.use_cases import add_shot

LOG = "q9_055_log"


class Colours(BrowserCase):
    needs_worker = True

    def setUp(self) -> None:
        super().setUp()
        noisy, _ = shot_pair("quay", Camera(stops_under=1), 384, 216, 6)
        path = temporary_folder(self) / f"{LOG}.mkv"
        untold = described(384, 216, 6, primaries="unknown", transfer="unknown", matrix="bt709")
        with open_writer(destination(path), untold) as writer:
            for frame in noisy:
                writer.write(Conversion("Camera Rec.709", "ACEScct").applied(frame))
        add_shot(Job.objects.get(), path)

    def propose_and_convert(self, target: str) -> None:
        """What is proposed, and a conversion behind it."""
        page = self.page
        self.propose()
        expect(page.locator("[data-step]").first).to_be_visible(timeout=PATIENCE)
        page.get_by_label("Treatment to add").select_option(label="Convert colour")
        page.get_by_role("button", name="Add step").click()
        page.locator('[data-settings="convert"]').get_by_label("To", exact=True).select_option(target)

    def test_a_log_shot_to_bt1886_judged_written_and_read(self) -> None:
        page = self.page
        self.open_shot(LOG)
        self.measure()
        tags = page.locator('[data-finding="colour tags"]')
        expect(tags).to_contain_text(re.compile("outside", re.IGNORECASE))
        page.get_by_role("button", name="Input Camera Rec.709").click()
        page.get_by_label("Input space").select_option("ACEScct")
        page.get_by_role("button", name="Take this").click()
        expect(page.get_by_role("button", name="Input ACEScct")).to_contain_text("chosen")
        expect(tags).not_to_be_visible(timeout=PATIENCE)  # measured again, and nothing is missing now
        self.propose_and_convert("Rec.1886 Rec.709 - Display")
        expect(page.get_by_text("From ACEScct to Rec.1886 Rec.709 - Display.")).to_be_visible()
        expect(page.get_by_text(re.compile("Levels: white .* → 1023.0 CV"))).to_be_visible()
        page.get_by_role("button", name="Result", exact=True).click()
        self.picture_settled("result")
        page.get_by_role("tab", name="Overwork").click()
        page.get_by_role("button", name="Judge this frame").click()
        expect(page.locator("[data-verdict]")).to_be_visible(timeout=PATIENCE)
        expect(page.locator('[data-measure="gamut"]')).to_be_visible()
        page.get_by_role("button", name="Render…").click()
        path = self.rendered()
        with av.open(str(path)) as container:
            context = container.streams.video[0].codec_context
            self.assertEqual((int(context.color_primaries), int(context.color_trc)), (1, 1))
        self.assert_level_is_that_of_colour_science(path)

    def assert_level_is_that_of_colour_science(self, path: object) -> None:
        """The mean of a frame, in light: noise reduction keeps it, and so does the conversion."""
        source, written = open_source(Shot.objects.get(name=LOG).path), open_source(str(path))
        log = source.read(2).astype(np.float64)
        light = colour.models.log_decoding_ACEScct(log)
        ap0 = colour.RGB_to_RGB(light, "ACEScg", "ACES2065-1", chromatic_adaptation_transform=None)
        video = colour.RGB_to_RGB(ap0, "ACES2065-1", "ITU-R BT.709", chromatic_adaptation_transform="Bradford")
        wanted = np.asarray(colour.models.eotf_inverse_BT1886(np.clip(video, 0, 1), L_B=0, L_W=1))
        apart = (written.read(2) - wanted).mean(axis=(0, 1)) * CV_SCALE
        self.assertLess(np.abs(apart).max(), 2.5)

    def test_pq_is_delivered_from_an_sdr_shot_and_scopes_tell_light_and_gamut(self) -> None:
        page = self.page
        self.open_quay()
        self.measure()
        self.propose_and_convert("Rec.2100-PQ - Display")
        page.get_by_role("button", name="Result", exact=True).click()
        self.picture_settled("result")
        page.get_by_role("tab", name="Scopes").click()
        scopes = page.get_by_test_id("scopes")
        expect(scopes).to_contain_text("Light in cd/m², by Rec.2100-PQ - Display", timeout=PATIENCE)
        expect(scopes.locator("svg text", has_text="203")).to_be_visible()
        scopes.get_by_label("Scope", exact=True).select_option("gamut-uv")
        expect(scopes.locator("svg")).to_have_attribute("data-scope", re.compile("kind=gamut-uv"))
        for name in ("BT.709", "P3", "BT.2020"):
            expect(scopes.locator("svg text", has_text=name)).to_be_visible()
        page.get_by_role("button", name="Render…").click()
        page.get_by_label("Format").select_option("h264")
        expect(page.get_by_label("Dither")).to_have_value("moving")
        written = open_source(self.rendered())
        self.assertEqual((written.info.primaries, written.info.transfer), ("bt2020", "smpte2084"))
        with av.open(written.info.path) as container:
            kinds = {str(d.type) for d in next(container.decode(video=0)).side_data}  # type: ignore[attr-defined]
        self.assertTrue(any("CONTENT_LIGHT_LEVEL" in kind for kind in kinds), kinds)
