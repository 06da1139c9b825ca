"""What the proposed plan leaves alone: texture, level, colour, clean footage; and what it leaves of noise."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from skimage.color import deltaE_ciede2000, rgb2lab

from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame, luma
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera

from .clips import Clip
from .faulty import Mask
from .peers import PEERS, Peer

JUDGED = 6
FRAMES = 13
SLOW = (1.3, 0.4, 0.8)
STANDING = (0.0, 0.0, 0.0)


def fine(frame: Frame) -> Array:
    """Detail of up to about 8 pixels, in luma."""
    plane = luma(frame)
    detail: Array = plane - cv2.GaussianBlur(plane, (0, 0), 3)
    return detail


def _busy(truth: Frame) -> Array:
    """Detail around each pixel, CV RMS."""
    power = np.maximum(cv2.blur(fine(truth) ** 2, (15, 15)), 0)  # it may round below nothing
    detail: Array = np.sqrt(power) * CV_SCALE
    return detail


def textured(truth: Frame) -> Mask:
    """Where the truth has detail that noise could hide: from 4 CV RMS on, and less than an edge has."""
    busy = _busy(truth)
    where: Mask = (busy > 4) & (busy < 60)
    return where


def flat(truth: Frame) -> Mask:
    """Where the truth has next to no detail, under 1.5 CV RMS; of a picture without, its calmest hundredth."""
    busy = _busy(truth)
    where: Mask = busy <= max(1.5, float(np.quantile(busy, 0.01)))
    return where


def materials(scene: str, truth: Frame) -> dict[str, Mask]:
    """Masks of the textures by name. The quay's rope is the bright band on its deck."""
    where = textured(truth)
    if scene == "cloth":
        return {"cloth": where}
    height = truth.shape[0]
    upper = np.arange(height)[:, None] < 0.55 * height
    lower = np.arange(height)[:, None] > 0.62 * height
    soft = cv2.GaussianBlur(luma(truth), (0, 0), 4)
    rope = lower & (soft > 1.6 * np.median(soft[int(0.62 * height) :]))
    return {"brick": where & upper, "rope": where & rope}


def kept_texture(result: Frame, truth: Frame, where: Mask) -> float:
    """Share of the truth's detail that is in the result: its projection on it."""
    wanted = fine(truth)[where]
    return float((fine(result)[where] * wanted).sum() / (wanted**2).sum())


def residue(result: Frame, truth: Frame) -> float:
    """Noise left on flat areas, CV."""
    return float(luma(result - truth)[flat(truth)].std()) * CV_SCALE


def of_peer(clip: Clip, peer: Peer, target: float, masks: dict[str, Mask]) -> tuple[float, dict[str, float]]:
    """(noise left, texture kept) at the strength, between those tried, where as much noise is left as `target`."""
    truth = clip.truth[JUDGED]
    rows = []
    for strength in peer.strengths:
        window = clip.frames[JUDGED - peer.around : JUDGED + peer.around + 1]
        result = np.clip(peer.run(window, peer.around, strength), 0, 1)
        rows.append([residue(result, truth), *(kept_texture(result, truth, mask) for mask in masks.values())])
    table = np.array(sorted(rows))
    left = float(np.clip(target, table[0, 0], table[-1, 0]))
    kept = [float(np.interp(left, table[:, 0], table[:, 1 + k])) for k in range(len(masks))]
    return left, dict(zip(masks, kept, strict=True))


def textures() -> None:
    print("| clip | method | noise left on flats CV | texture kept |\n| --- | --- | ---: | --- |")
    for scene in ("cloth", "quay"):
        clip = Clip(scene, Camera(stops_under=3, bayer=True), frames=FRAMES, motion=SLOW)
        truth = clip.truth[JUDGED]
        masks = materials(scene, truth)
        result = Pipeline(Footage(clip), propose(survey(clip))).frame(JUDGED)
        target = residue(result, truth)
        ours = {name: kept_texture(result, truth, mask) for name, mask in masks.items()}
        _row(scene, "untouched", residue(clip.frames[JUDGED], truth), {})
        for peer in PEERS:
            _row(scene, peer.name, *of_peer(clip, peer, target, masks))
        _row(scene, "**ours**", target, ours)


def _row(scene: str, method: str, left: float, kept: dict[str, float]) -> None:
    told = ", ".join(f"{name} {100 * share:.1f} %" for name, share in kept.items())
    print(f"| {scene} | {method} | {left:.2f} | {told} |", flush=True)


def levels() -> None:
    """Mean level of flat shadows and colour of the low-passed picture, over all frames of a clip."""
    print("\n| clip | change of level in flat shadows, R G B CV | CIEDE2000, low-passed |\n| --- | --- | ---: |")
    for scene in ("quay", "dusk"):
        for bayer in (False, True):
            clip = Clip(scene, Camera(stops_under=3, bayer=bayer), frames=9, motion=SLOW)
            pipeline = Pipeline(Footage(clip), propose(survey(clip)))
            results = [pipeline.frame(n) for n in range(9)]
            shadow = _shadows(clip.truth[4])
            change = [np.mean([(r - f)[shadow, c].mean() for r, f in zip(results, clip.frames, strict=True)])
                      for c in range(3)]  # fmt: skip
            low = [_low_passed(np.mean(frames, axis=0)) for frames in (results, clip.frames)]
            colours = float(deltaE_ciede2000(*(rgb2lab(frame[::4, ::4]) for frame in low)).mean())
            told = " ".join(f"{value * CV_SCALE:+.2f}" for value in change)
            print(f"| {scene}, {'Bayer' if bayer else 'white'} | {told} | {colours:.3f} |", flush=True)


def _shadows(truth: Frame) -> Mask:
    """Flat, dark, and far enough from black that recording did not cut the noise off."""
    soft = _low_passed(truth)
    where: Mask = flat(truth) & (soft.max(axis=2) < 0.3) & (soft.min(axis=2) > 0.05)
    return where


def _low_passed(frame: Frame) -> Frame:
    low: Frame = np.clip(cv2.GaussianBlur(frame, (0, 0), 12), 0, 1)
    return low


def standing() -> None:
    """A tripod shot, ±5 frames: the variance left against 1/11, and the way of the lantern bearer."""
    clip = Clip("cloth", Camera(stops_under=3), frames=FRAMES, motion=STANDING)
    profile = survey(clip).profile
    merge = Step(kind="temporal", settings={"frames": 5})
    result = Pipeline(Footage(clip), Plan(profile=profile, steps=[merge])).frame(JUDGED)
    still = np.abs(clip.truth[JUDGED - 5] - clip.truth[JUDGED + 5]).max(axis=2) == 0
    left, there = ((f - clip.truth[JUDGED])[still].var(axis=0) for f in (result, clip.frames[JUDGED]))
    told = " ".join(f"{11 * a / b:.2f}" for a, b in zip(left, there, strict=True))
    print(f"\nStanding cloth, ±5 frames: variance left × 11, R G B: {told} (the limit is 1).")

    clip = Clip("quay", Camera(stops_under=3), frames=FRAMES, motion=STANDING)
    profile = survey(clip).profile
    steps = [merge, Step(kind="spatial")]
    error = _errors(clip, lambda chosen: Plan(profile=profile, steps=chosen), steps)
    print(
        f"Standing quay, behind the lantern bearer (uncovered within five frames): error {error[0]:.2f} CV RMS,"
        f" spatial alone {error[1]:.2f}."
    )


def _errors(clip: Clip, plan: Callable[[list[Step]], Plan], steps: list[Step]) -> tuple[float, float]:
    """Error of the chain and of its last step alone where something has gone by lately."""
    before = np.max([np.abs(clip.truth[JUDGED] - clip.truth[JUDGED - k]).max(axis=2) for k in range(1, 6)], axis=0)
    after = np.abs(clip.truth[JUDGED] - clip.truth[JUDGED + 1]).max(axis=2)
    behind = (before > 0.04) & (after < 0.01)
    rms = [
        float(np.sqrt(((Pipeline(Footage(clip), plan(s)).frame(JUDGED) - clip.truth[JUDGED])[behind] ** 2).mean()))
        for s in (steps, steps[-1:])
    ]
    return rms[0] * CV_SCALE, rms[1] * CV_SCALE


def untouched() -> None:
    changes = []
    for scene in ("quay", "cloth", "basin"):
        for bayer in (False, True):
            clip = Clip(scene, Camera(noiseless=True, bayer=bayer), frames=8)
            result = Pipeline(Footage(clip), propose(survey(clip))).frame(4)
            changes.append(float(np.sqrt(((result - clip.frames[4]) ** 2).mean())) * CV_SCALE)
    told = ", ".join(f"{change:.2f}" for change in changes)
    print(f"\nClean clips through their own proposal, change in CV RMS: {told}.")


def main() -> None:
    textures()
    levels()
    standing()
    untouched()
