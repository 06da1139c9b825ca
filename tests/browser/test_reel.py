"""A reel on the page: a timeline in and out by four clicks, and the queue."""

from __future__ import annotations

import re
import zipfile
from dataclasses import replace
from pathlib import Path
from typing import ClassVar

import numpy as np
from django.conf import settings
from django.test import override_settings
from playwright.sync_api import expect

from tests.browser.case import PATIENCE, BrowserCase
from tests.clips import temporary_folder
from yellowclean.engine.footage import Footage
from yellowclean.engine.media import open_source
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan
from yellowclean.engine.reel.finding import found_media
from yellowclean.engine.reel.taking import taken
from yellowclean.engine.reel.timeline import described, read
from yellowclean.engine.testcamera import shoot_reel
from yellowclean.server.models import Job, Render, Shot, State
from yellowclean.server.rendering import request_render
from yellowclean.server.use_cases import add_shot, new_version

JOB = "Quay Nine, scene 4"
EVENTS = 12


class Reel(BrowserCase):
    needs_worker = True
    media: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.media = settings.YELLOW_CLEAN.media_folders[0] / "reel"
        shoot_reel(cls.media, 160, 96, share=24)

    def opened_job(self) -> None:
        page = self.page
        page.goto(self.live_server_url)
        page.get_by_label("Name of a new job").fill(JOB)
        page.get_by_role("button", name="Open new job").click()
        expect(page.get_by_text("No footage yet")).to_be_visible()

    def test_a_timeline_goes_in_and_out_again_by_four_clicks(self) -> None:
        page = self.page
        with override_settings(YELLOW_CLEAN=replace(settings.YELLOW_CLEAN, measure_added=True)):
            self.opened_job()
            page.get_by_label("Choose a timeline").set_input_files(self.media / "quay_nine.otio")
            expect(page.get_by_text("12 events over 5 files")).to_be_visible()
            expect(page.locator('[data-medium="found"]')).to_have_count(5)
            page.get_by_role("button", name="Take 12 events").click()
            expect(page.get_by_text("12 shots")).to_be_visible()  # taken, and asked to be measured
        expect(page.get_by_text("12 shots, 12 measured")).to_be_visible(timeout=5 * PATIENCE)
        page.get_by_role("button", name="Propose", exact=True).click()
        expect(page.get_by_text("12 plans made.")).to_be_visible()
        page.get_by_role("button", name="Render in 2 formats").click()
        expect(page.get_by_text("24 renders queued")).to_be_visible()
        for _ in range(900):
            if not Render.objects.exclude(state=State.DONE).filter(shot__job__name=JOB).exists():
                break
            page.wait_for_timeout(1000)
        self.assertEqual(Render.objects.filter(shot__job__name=JOB, state=State.DONE).count(), 2 * EVENTS)
        out = page.get_by_role("link", name="Note and timeline")
        expect(out).to_be_enabled()
        with page.expect_download() as coming:
            out.click()
        path = temporary_folder(self) / "delivery.zip"
        coming.value.save_as(path)
        packed = zipfile.ZipFile(path)
        self.assertTrue({"note.html", "note.pdf", "note.json"} < set(packed.namelist()))
        self.assert_results(packed.read(f"{JOB}_ffv1.otio"))

    def assert_results(self, document: bytes) -> None:
        """First and last frame of each event of the timeline that came out are the results of the source's frames
        that the timeline that went in names."""
        told = described(read(document, "out.otio"))
        renders = settings.YELLOW_CLEAN.data / "renders"
        got, missing = taken(told, found_media(told, [renders]), 0)
        original = described(read((self.media / "quay_nine.otio").read_bytes(), "quay_nine.otio"))
        wanted, _ = taken(original, found_media(original, [self.media]), 0)
        self.assertEqual((len(got), missing), (EVENTS, []))
        shots = Shot.objects.filter(job__name=JOB).prefetch_related("versions")
        for one, other, shot in zip(got, wanted, shots, strict=True):
            pipeline = Pipeline(Footage(shot.opened()), shot.versions.all()[0].plan)  # type: ignore[attr-defined]
            assert shot.first is not None
            written = open_source(one.path)
            for k in (0, -1):
                result = np.clip(pipeline.frame(other.frames[k] - shot.first), 0, 1)
                self.assertLess(np.abs(written.read(one.frames[k]) - result).max(), 1 / 65535, shot.name)
            written.close()

    def test_many_are_chosen_in_the_table_and_what_was_done_is_taken_back(self) -> None:
        page = self.page
        self.opened_job()
        page.get_by_label("Choose a timeline").set_input_files(self.media / "quay_nine.edl")
        page.get_by_label("Handles").fill("2")
        page.get_by_role("button", name="Take 12 events").click()
        page.get_by_role("button", name="Table").click()
        rows = page.get_by_test_id("shot-table").locator("tbody tr")
        expect(rows).to_have_count(12)
        page.get_by_role("button", name="Frames").click()
        expect(page.locator('th[aria-sort="descending"]')).to_be_visible()
        frames = [int(text) for text in rows.locator("td:nth-child(4)").all_inner_texts()]
        self.assertEqual(frames, sorted(frames, reverse=True))
        for name in ("q9_112_quay", "q9_116_figurehead"):
            page.get_by_label(f"Choose {name}", exact=True).press("Space")
        expect(page.get_by_text("On 2 chosen")).to_be_visible()
        page.get_by_role("button", name=re.compile("^Measure")).click()
        expect(page.get_by_text("12 shots, 2 measured")).to_be_visible(timeout=5 * PATIENCE)
        page.get_by_role("button", name="Propose", exact=True).click()
        expect(page.get_by_text("2 plans made.")).to_be_visible()
        job = Job.objects.get(name=JOB)
        self.assertEqual(sum(shot.versions.count() for shot in job.shots.all()), 2)  # type: ignore[attr-defined]
        page.get_by_role("button", name="Undo").click()
        expect(page.get_by_role("button", name="Render in 2 formats")).to_be_disabled()
        self.assertEqual(sum(shot.versions.count() for shot in job.shots.all()), 0)  # type: ignore[attr-defined]

        page.get_by_role("button", name="Written as…").click()
        page.get_by_label("Names").fill("{camera}")
        page.get_by_role("button", name="Keep these").click()
        expect(page.get_by_text("there is no field {camera}")).to_be_visible()

    def test_a_long_file_is_cut_and_a_result_stands_in_by_hand(self) -> None:
        job = Job.objects.create(name=JOB)
        whole = add_shot(job, self.media / "q9_112_quay" / "q9_112_quay.mkv", "rushes")
        Shot.objects.filter(pk=whole.pk).update(cuts=[4])
        page = self.page
        page.goto(f"{self.live_server_url}/jobs/{job.pk}")
        page.get_by_role("button", name="1 cut in it").click()
        page.get_by_label("Another cut before frame").fill("7")
        page.keyboard.press("Enter")
        page.get_by_role("button", name="Make 3 shots").click()
        expect(page.get_by_text("3 shots made of rushes.")).to_be_visible()
        expect(page.get_by_text("scene of rushes")).to_have_count(3)
        page.get_by_role("button", name="Undo").click()
        expect(page.get_by_text("scene of rushes")).to_have_count(0)

        render = request_render(new_version(whole, Plan()), "ffv1")
        for _ in range(120):
            if Render.objects.filter(pk=render.pk, state=State.DONE).exists():
                break
            page.wait_for_timeout(500)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/renders")
        page.get_by_role("button", name="Use rushes_A").click()
        expect(page.get_by_text("rushes now reads")).to_be_visible()
        page.goto(f"{self.live_server_url}/jobs/{job.pk}")
        expect(page.get_by_text("second generation")).to_be_visible()
        page.get_by_role("button", name="take back").click()
        expect(page.get_by_text("second generation")).to_have_count(0)
        expect(page.get_by_label("Choose rushes")).to_be_visible()
