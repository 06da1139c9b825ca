"""What enlarging adds, held against frames that had no part in it: honest enlargements, the truth, masks, and
texture that no frame holds."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Frame, Region
from yellowclean.engine.judge.overwork import MEASURES, Evidence
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.noise.profile import NoiseProfile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step

from .detail import JUDGED, LARGER, PANS, SMALL, Larger, pair
from .faulty import PACKAGED, WIDTH, pictures

Change = Callable[[Frame, int], Frame]
"""What is done to a frame of that number."""


class Planted(Pipeline):
    """A plan whose enlarged frames are changed."""

    def __init__(self, footage: Footage, plan: Plan, change: Change) -> None:
        super().__init__(footage, plan)
        self._change = change

    def following(self, plan: Plan) -> Pipeline:
        return Planted(self.footage, plan, self._change)

    def frame(self, n: int, region: Region | None = None, scale: float | None = None) -> Frame:
        made = super().frame(n, region, scale)
        return self._change(made, n) if self.format != self.formats[0] else made


def untouched(frame: Frame, _: int) -> Frame:
    return frame


def textured(cv: float) -> Change:
    """Texture of one to three pixels, otherwise in every frame."""

    def change(frame: Frame, n: int) -> Frame:
        noise = np.random.default_rng(n).standard_normal(frame.shape[:2]).astype(np.float32)
        noise = cv2.GaussianBlur(noise, (0, 0), 0.8) - cv2.GaussianBlur(noise, (0, 0), 2.5)
        return frame + (noise * np.float32(cv / CV_SCALE) / noise.std())[..., None]

    return change


def masked(amount: float) -> Change:
    """An unsharp mask."""
    return lambda frame, _: frame + np.float32(amount) * (frame - cv2.GaussianBlur(frame, (0, 0), 1.5))


def _made(profile: NoiseProfile, truth: Frame) -> dict[str, tuple[dict[str, object], Change]]:
    """Settings and change of each case."""
    size: dict[str, object] = {"width": truth.shape[1], "height": truth.shape[0], "frames": 2}
    alone = size | {"frames": 0}
    return {
        "proposal": (size, untouched), "one frame": (alone, untouched),
        "interpolated": (alone | {"learned": False}, untouched),
        "truth": (size, lambda frame, n: truth if n == JUDGED else frame),
        "mask of 100 %": (alone | {"learned": False}, masked(1.0)),
        "texture of 2 CV": (size, textured(2)), "of 4": (size, textured(4)), "of 8": (size, textured(8)),
    }  # fmt: skip


def _rows(name: str, picture: Frame | None, case: Larger) -> str:
    clip, truth = pair(name, picture, case)
    profile, footage = measure_noise(clip).profile, Footage(clip)
    told = []
    for label, (settings, change) in _made(profile, truth).items():
        plan = Plan(profile=profile, steps=[Step(kind="enlarge", settings=settings)])
        evidence = Evidence(Planted(footage, plan, change), JUDGED)
        share, texture = (MEASURES[kind].read(evidence) for kind in ("unsupported", "invented"))
        plain = f", {texture.value:.1f} CV" if texture.detail.startswith("over") else ""
        told.append(f"{label} {share.value:.0f} %{plain}")
    return f"  {name:12} {case.name:24} " + " · ".join(told)


def main() -> None:
    print(
        "What enlarging added: share that no other frame bears out, and where there are plain places, texture there"
    )
    photographs = {name: picture for name, picture in pictures().items() if name not in PACKAGED}
    for name in (*PANS, *photographs):
        for case in LARGER:
            if name in PANS or case.times <= WIDTH / SMALL[0]:
                print(_rows(name, photographs.get(name), case), flush=True)
