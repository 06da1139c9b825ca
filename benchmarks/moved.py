"""What moved while it was exposed: the shutter that is read off it, and what undoing it brings.

A camera travels over photographs; each frame is the sum of its moments, and the truth is exposed for no time."""

from __future__ import annotations

import numpy as np

from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Frame
from yellowclean.engine.judge.again import read_by
from yellowclean.engine.measure.findings import Finding
from yellowclean.engine.measure.findings.motion_blur import DETECTOR, WHOLE_TURN
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.treat.sharpen import ALONG

from .detail import JUDGED, Blurred, Case, best_peer, noise_on_flats, psnr
from .faulty import exposed, pictures

FRAMES = 9

TRAVELS = (4, 1.5), (2, -5), (8, -3), (12, 2)
"""Pixels a frame to the right and down."""

SHUTTERS = 0, 90, 180, 270, 360
NOISES = 0.5, 3.0
"""In 1/255."""

NEAR = 40
"""Degrees by which a shutter may be told wrongly and still be told."""

UNDONE = ((6, 2), 180, 1), ((6, 2), 180, 4), ((10, -3), 180, 1), ((12, 5), 90, 1), ((4, 1), 324, 1)
"""Travel, shutter and noise of what is undone."""


def clip_of(picture: Frame, travel: tuple[float, float], shutter: float, noise: float) -> Blurred:
    light = bt709_linear(picture)
    truth, moved = (exposed(light, FRAMES, *travel, part) for part in (0.0, shutter / WHOLE_TURN))
    clip = Blurred(moved, Case("moved", 0, noise))
    clip.truth = [np.clip(bt709_encoded(frame), 0, 1) for frame in truth]
    return clip


def read(clip: Blurred, noise: float) -> Finding:
    """What is read off the middle of a clip."""
    return read_by(DETECTOR, clip, JUDGED, 2, white_profile(noise * CV_SCALE / 255).curve)


def table_of_shutters() -> None:
    print("Shutter read off what moves: 9 frames of an even travel, five of them looked at")
    found: dict[int, list[Finding]] = {shutter: [] for shutter in SHUTTERS}
    for picture in pictures().values():
        for travel in TRAVELS:
            for shutter in SHUTTERS:
                found[shutter] += [read(clip_of(picture, travel, shutter, noise), noise) for noise in NOISES]
    for shutter, of_shutter in found.items():
        told = np.array([finding.value for finding in of_shutter if finding.confidence])
        print(f"  {shutter:3}°: told on {len(told):3} of {len(of_shutter)}", end="")
        if len(told):
            away = np.abs(told - shutter)
            print(
                f"  within {NEAR}° {100 * np.mean(away <= NEAR):3.0f} %  worst {away.max():3.0f}°"
                f"  over {DETECTOR.tolerance:.0f}° {int((told > DETECTOR.tolerance).sum())}",
                end="",
            )
        print(flush=True)


def table_of_undoing() -> None:
    print("Undone along its motion: luma PSNR in dB over the better of nothing and the best sharpener at its best")
    gains: dict[str, list[float]] = {}
    for name, picture in pictures().items():
        for travel, shutter, noise in UNDONE:
            clip = clip_of(picture, travel, shutter, noise)
            best, finding = best_peer(clip.frames[JUDGED], clip.truth[JUDGED]), read(clip, noise)
            case = f"{np.hypot(*travel) * shutter / WHOLE_TURN:.1f} px, {shutter}°, noise {noise}"
            print(f"  {name:12} {case:24} best {best.psnr:5.2f} ({best.name})", end="")
            degrees = {"told rightly": float(shutter)} | (
                {"as read": float(round(finding.value))} if finding.confidence else {}
            )
            for way, angle in degrees.items():
                step = Step(kind="sharpen", settings={"shape": ALONG, "shutter": angle})
                plan = Plan(profile=white_profile(noise * CV_SCALE / 255), steps=[step])
                result = Pipeline(Footage(clip), plan).frame(JUDGED)
                gain = psnr(np.clip(result, 0, 1), clip.truth[JUDGED]) - best.psnr
                gains.setdefault(f"{case}, {way}", []).append(gain)
                print(f"  {way} ({angle:.0f}°) {gain:+.2f}, flats ×{noise_on_flats(result, clip):.2f}", end="")
            print(flush=True)
    for case, of_case in gains.items():
        print(f"  {case:40} mean {np.mean(of_case):+.2f}  least {min(of_case):+.2f}  of {len(of_case)}")


def main() -> None:
    table_of_shutters()
    table_of_undoing()
