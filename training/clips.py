"""Codes synthetic clips and keeps what the restorer of compressed footage sees of their middle frames, and what it
should make of them: PYTHONPATH=. python training/clips.py FOLDER"""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np

from benchmarks.clips import Clip, coded, described
from benchmarks.faulty import CODINGS, Held, h264
from training.deadleaves import clip
from yellowclean.engine.frames import Array, Frame, Region, extended
from yellowclean.engine.media.formats import OutputFormat
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Footage, Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.treat import _restorer
from yellowclean.engine.treat.base import Picture, Window
from yellowclean.engine.treat.compression import ALONE, Compression, _planes, need, studied

WIDTH, HEIGHT = 448, 256
WHOLE = Region(0, 0, WIDTH, HEIGHT)
CLIPS, OLDER, SEED = 72, 36, 41
"""Clips in H.264, and as many more in MPEG-2 and MJPEG in turn."""

CRFS, STEPS = (26, 29, 32, 35, 38, 42), (4, 6, 8, 11)
SCENES = "quay", "cloth"
"""Of the test camera, every sixth clip; the others are dead leaves."""

MOST = 8.0
"""Coding errors beyond which what is wanted is no answer to the codec."""


def make_clips(folder: Path) -> None:
    """A file for each clip: `seen` N×25×H/2×W/2 and `wanted` N×6×H/2×W/2, in coding errors."""
    folder.mkdir(parents=True, exist_ok=True)
    for k in range(CLIPS + OLDER):
        reach = ALONE if k >= CLIPS and k % 2 else 2
        fmt = _format(k)
        examples = _examples(_frames(k, 2 * reach + 3), fmt, reach)
        if examples:
            seen, wanted = (np.stack(part) for part in zip(*examples, strict=True))
            np.savez(folder / f"{k:03d}.npz", seen=seen, wanted=wanted)
        print(f"clip {k + 1} of {CLIPS + OLDER}: {fmt.name} {fmt.options}", flush=True)


def _frames(k: int, count: int) -> list[Frame]:
    if k % 6 == 5:
        camera = Camera(noiseless=True, bayer=bool(k % 4))
        return Clip(SCENES[k // 6 % 2], camera, frames=count, width=WIDTH, height=HEIGHT).truth
    return clip(1000 * SEED + k, HEIGHT, WIDTH, count)


def _format(k: int) -> OutputFormat:
    if k >= CLIPS:
        step = str(STEPS[k // 2 % len(STEPS)])
        return replace(CODINGS["MJPEG" if k % 2 else "MPEG-2"], options={"qmin": step, "qmax": step})
    rng = np.random.default_rng((SEED, k))
    options = {"preset": str(rng.choice(["fast", "medium", "slow"]))}
    if rng.random() < 0.2:
        options["x264-params"] = "no-deblock=1"
    return h264(CRFS[k % len(CRFS)], **options)


def _examples(frames: list[Frame], fmt: OutputFormat, reach: int) -> list[tuple[Array, Array]]:
    """What is seen and wanted of three frames that have all their neighbours."""
    seen, info, errors = coded(frames, described(len(frames), WIDTH, HEIGHT), fmt)
    p = Compression(frames=reach)
    plan = Plan(profile=white_profile(1.0), steps=[Step(kind="compression")])
    pipeline = Pipeline(Footage(Held(seen, info, errors)), plan)
    given, place = pipeline.formats[0], WHOLE.grown(need(p).margin).snapped(need(p).grid)
    pictures = [Picture.untouched(extended(frame, WHOLE, place)) for frame in seen]
    found = []
    for n in range(reach, reach + 3):
        beside = tuple(m for m in range(n - reach, n + reach + 1) if m != n)
        window = Window(n, given, given, place, pictures[n], WHOLE, beside, pictures.__getitem__)
        study = studied(p, window, pipeline.around)
        if study is None:
            continue
        rows, columns = WHOLE.within(study.core).slices
        here, before, after, cleared, error = (
            a[..., rows, columns] for a in (study.before, *study.beside, study.cleared, study.error)
        )
        told = _restorer.inputs(here, (before, after), cleared, error)
        left = (_restorer.apart(_planes(frames[n])) - _restorer.apart(cleared)) / _restorer.unit(error)
        found.append((told.astype(np.float16), np.clip(left, -MOST, MOST).astype(np.float16)))
    return found


if __name__ == "__main__":
    make_clips(Path(sys.argv[1]))
