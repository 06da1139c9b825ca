"""`manage.py demo`: makes the demo jobs from the test camera, once: one shot proposed, one about to be written, the
rest about to be measured; and beside them a minute on a timeline, its events taken as shots."""

from __future__ import annotations

import multiprocessing
import shutil
from concurrent.futures import ProcessPoolExecutor, as_completed
from contextlib import closing
from pathlib import Path
from typing import Any

import django
from django.conf import settings
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser
from django.db import transaction

from ....engine.measure.report import SurveyReport
from ....engine.media import open_source
from ....engine.survey import survey
from ....engine.testcamera import TITLE, ShotRecipe, demo_recipes, reel_recipes, shoot, write_reel
from ...models import Job
from ...reels import HANDLES, add_timeline, take_events
from ...rendering import request_render
from ...use_cases import (
    add_shot,
    keep_survey,
    measure_remaining,
    propose_version,
    request_survey,
)

JOB_NAME = "Quay Nine, reel 1"

PROPOSED, FINISHED = 1, 2
"""Shots of the reel that show the idea at once: one with a plan, one on its way to being written."""


class Command(BaseCommand):
    help = "Shoot the demo reel and add it as a job, unless it is there."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--size", default="1280x720")
        parser.add_argument("--frames", type=int, default=48)
        parser.add_argument("--reel-size", default="384x216", help="of the timeline's footage; empty: no timeline")

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", verbosity=0)
        if Job.objects.filter(name=JOB_NAME).exists():
            return
        width, height = (int(v) for v in options["size"].split("x"))
        recipes = demo_recipes(width, height, options["frames"])
        timed = reel_recipes(*(int(v) for v in options["reel_size"].split("x"))) if options["reel_size"] else []
        folder = settings.YELLOW_CLEAN.data / "demo"
        self.stdout.write(f"Shooting the demo reel: {len(recipes)} shots of {options['frames']} frames …")
        # Started anew, not forked: a forked child waits for ever for threads that only its parent has.
        anew = multiprocessing.get_context("spawn")
        with ProcessPoolExecutor(settings.YELLOW_CLEAN.workers, anew, initializer=django.setup) as pool:
            missing = [(recipe, folder) for recipe in recipes if _footage(recipe, folder) is None]
            missing += [(recipe, folder / "reel") for recipe in timed if _footage(recipe, folder / "reel") is None]
            shooting = {pool.submit(shoot, recipe, where / recipe.name): recipe for recipe, where in missing}
            for done in as_completed(shooting):
                done.result()
                self.stdout.write(f"  {shooting[done].name}")
            paths = [path for recipe in recipes if (path := _footage(recipe, folder))]
            reel = [path for recipe in timed if (path := _footage(recipe, folder / "reel"))]
            reports: dict[int, SurveyReport] = {}
            if settings.YELLOW_CLEAN.measure_added:
                self.stdout.write("Measuring two of them; the others are measured once the application runs …")
                shown = (PROPOSED, FINISHED)
                reports = dict(zip(shown, pool.map(_measured, [paths[k] for k in shown]), strict=True))
        with transaction.atomic():  # a job that is there is a whole one
            if reel:
                self._take(write_reel(reel, folder / "reel"), reel)
            self._add(paths, reports)

    def _take(self, document: Path, media: list[Path]) -> None:
        """The timeline as a job of its own, which waits to be measured."""
        job = Job.objects.create(name=TITLE)
        timeline = add_timeline(job, document.read_bytes(), document.name)
        found = zip(timeline.found, media, strict=True)
        timeline.media = [
            one.model_copy(update={"path": str(p), "how": "by its path"}).model_dump() for one, p in found
        ]
        timeline.save(update_fields=["media"])
        take_events(timeline, HANDLES, measured=False)

    def _add(self, paths: list[Path], reports: dict[int, SurveyReport]) -> None:
        job = Job.objects.create(name=JOB_NAME)
        for k, shot in enumerate([add_shot(job, path, path.parent.name) for path in paths]):
            if k in reports:
                keep_survey(shot, reports[k])
                version = propose_version(shot)
                measure_remaining(version)
                if k == FINISHED:
                    request_render(version, "prores-hq")
            elif reports:
                request_survey(shot)


def _measured(path: Path) -> SurveyReport:
    with closing(open_source(path)) as source:
        return survey(source)


def _footage(recipe: ShotRecipe, reel: Path) -> Path | None:
    """What was shot by this very recipe; None, and nothing left of another, where that has not been done."""
    folder = reel / recipe.name
    done = folder / "parameters.json"
    if not done.exists() or done.read_text().strip() != recipe.model_dump_json(indent=2):
        shutil.rmtree(folder, ignore_errors=True)
        return None
    found = next(p for p in folder.iterdir() if p.name.startswith(recipe.name))
    return folder / f"{recipe.name}_####.tif" if found.suffix == ".tif" else found
