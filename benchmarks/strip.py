"""The test strip's suggested stop against the rung that is best by the truth, on twelve made clips."""

from __future__ import annotations

from itertools import product

import numpy as np

from yellowclean.engine.chain import noise_chain
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Region
from yellowclean.engine.judge.metrics import psnr_db
from yellowclean.engine.judge.strip import strip_at
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan
from yellowclean.engine.testcamera import Camera

from .clips import Clip

FRAMES, JUDGED = 9, 4
REGION = Region(124, 27, 232, 216)
SCENES = {"quay": (4, 1, 0), "cloth": (6, 2, 0), "dusk": (5, 1, 0), "basin": (4, 0, 0)}
CAMERAS = Camera(stops_under=3, bayer=False), Camera(stops_under=2), Camera(stops_under=4)


def main() -> None:
    """One row a clip; the strip tries the spatial step's luma behind the temporal step that the motion asks for."""
    print("| clip | best by the truth | suggested | rungs apart | PSNR given up dB |")
    print("| --- | --- | --- | ---: | ---: |")
    near = 0
    for (scene, motion), camera in product(SCENES.items(), CAMERAS):
        clip = Clip(scene, camera, frames=FRAMES, width=480, height=270, motion=motion)
        reading = measure_noise(clip)
        plan = Plan(profile=reading.profile, steps=noise_chain(FRAMES, reading.movement, 100, 100))
        footage, step = Footage(clip), len(plan.steps) - 1
        strip = strip_at(footage, plan, step, "luma", JUDGED, REGION)
        truth = clip.truth[JUDGED][REGION.slices]
        scores = []
        for rung in strip.rungs:
            result = Pipeline(footage, plan.with_setting(step, "luma", rung.value)).frame(JUDGED, REGION)
            scores.append(psnr_db(float(np.mean((result - truth) ** 2))) or np.inf)
        best = int(np.argmax(scores))
        apart = abs(best - strip.stop)
        near += apart <= 1
        name = f"{scene}, {'Bayer' if camera.bayer else 'white'}, {camera.stops_under:g} stops"
        values = [f"{strip.rungs[k].value:g} %" for k in (best, strip.stop)]
        given_up = scores[best] - scores[strip.stop]
        print(f"| {name} | {values[0]} | {values[1]} | {apart} | {given_up:.2f} |", flush=True)
    print(f"\nWithin one rung on {near} of 12.")
