"""What sharpening brings back: a proposal that undoes the blur, against general-purpose sharpeners."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

import cv2
import numpy as np
from skimage.filters import unsharp_mask

from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.colour.opponent import SIGNAL_MATRIX, colour_difference
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Array, Frame, luma
from yellowclean.engine.measure.edge import edge_response
from yellowclean.engine.media import MediaInfo, Source
from yellowclean.engine.media.planes import Coding, rgb_from_yuv, yuv_from_rgb
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import ShotRecipe, scene_of

from .clips import coded, described
from .faulty import HEIGHT, PACKAGED, WIDTH, Held, h264, panned, pictures
from .peers import ffmpeg

FRAMES, JUDGED = 9, 4
SCENES = {"figurehead": 1.0, "quay": 1.6, "cloth": 1.3, "basin": 2.5}
"""Scenes with how much more light falls on them."""

AMOUNTS = (0.2, 0.4, 0.7, 1.0, 1.4, 2.0, 2.8, 4.0)
BORDER = 12


class Case(NamedTuple):
    """How a clip is made of the truth: deviation of a Gaussian blur or radius of a disc (px), noise in 1/255."""

    name: str
    blur: float
    noise: float
    disc: bool = False
    subsampled: bool = False


CASES = (
    Case("blur 0.8 px", 0.8, 1), Case("blur 1.2 px", 1.2, 1), Case("blur 1.8 px", 1.8, 1),
    Case("blur 1.2 px, noise 4", 1.2, 4), Case("blur 1.2 px, 4:2:0", 1.2, 1, subsampled=True),
    Case("defocus 2 px", 2.0, 1, disc=True), Case("defocus 3 px", 3.0, 1, disc=True), Case("sharp already", 0.0, 1),
)  # fmt: skip


class Blurred(Source):
    """A clip and its truth."""

    def __init__(self, light: list[Array], case: Case) -> None:
        self.truth = [np.clip(bt709_encoded(frame), 0, 1) for frame in light]
        self.frames = [_recorded(through(frame, case), case, n) for n, frame in enumerate(light)]
        height, width = light[0].shape[:2]
        self.info: MediaInfo = described(len(light), width, height)

    def read(self, n: int) -> Frame:
        return self.frames[n]

    def close(self) -> None:
        """Nothing is open."""


def through(light: Array, case: Case) -> Array:
    """Light through the lens."""
    if case.disc:
        side = np.arange(-4, 4, 1 / 8) + 1 / 16
        fine = (np.hypot(*np.meshgrid(side, side)) < case.blur).astype(np.float32)
        disc = fine.reshape(8, 8, 8, 8).sum(axis=(1, 3))
        kernel = np.zeros((9, 9), np.float32)
        for y in (0, 1):
            for x in (0, 1):  # an even number of cells, brought to an odd one
                kernel[y : y + 8, x : x + 8] += disc / 4
        return np.asarray(cv2.filter2D(light, -1, kernel / kernel.sum()), np.float32)
    return np.asarray(cv2.GaussianBlur(light, (0, 0), case.blur), np.float32) if case.blur else light


def _recorded(light: Array, case: Case, n: int) -> Frame:
    """With noise, rounded to ten bits, or to eight and with colour in half the size."""
    rng = np.random.default_rng((7, n))
    frame = bt709_encoded(light) + rng.standard_normal(light.shape, dtype=np.float32) * np.float32(case.noise / 255)
    frame = np.clip(frame, 0, 1)
    if case.subsampled:
        coding = Coding("bt709", 8, full_range=False)
        return rgb_from_yuv(*yuv_from_rgb(frame, coding, "4:2:0"), coding)
    return np.asarray(np.rint(frame * 1023) / 1023, np.float32)


def clips() -> Iterator[tuple[str, list[Array]]]:
    """Light of each scene, frame by frame; then of photographs, which a camera glides over."""
    for scene, more in SCENES.items():
        recipe = ShotRecipe(name=scene, scene=scene, width=WIDTH, height=HEIGHT, frames=FRAMES)  # type: ignore[arg-type]
        light = scene_of(recipe)
        yield scene, [(light(n) * np.float32(more)).astype(np.float32) for n in range(FRAMES)]
    for name, picture in pictures().items():
        if name not in PACKAGED:  # those are smaller than a frame
            yield name, [bt709_linear(frame) for frame in panned(picture, FRAMES, 2, 1)]


def peers() -> dict[str, Callable[[Frame, float], Frame]]:
    """General-purpose sharpeners: (frame, strength) to frame."""

    def opencv(radius: float) -> Callable[[Frame, float], Frame]:
        return lambda frame, amount: frame + np.float32(amount) * (frame - cv2.GaussianBlur(frame, (0, 0), radius))

    def skimage(radius: float) -> Callable[[Frame, float], Frame]:
        return lambda frame, amount: np.asarray(unsharp_mask(frame, radius, amount, channel_axis=-1), np.float32)

    def library(call: str, most: float) -> Callable[[Frame, float], Frame]:
        run = ffmpeg("yuv444p16le" if call.startswith("cas") else "yuv444p", call)
        return lambda frame, amount: run([frame], 0, min(amount * most / 4, most))

    named = {f"OpenCV unsharp {radius}": opencv(radius) for radius in (0.8, 1.2, 1.8)}
    named |= {f"skimage unsharp {radius}": skimage(radius) for radius in (1.0, 2.0)}
    named |= {f"FFmpeg unsharp {side}": library(f"unsharp={side}:{side}:{{}}", 5.0) for side in (5, 7)}
    return named | {"FFmpeg cas": library("cas={}", 1.0)}


def psnr(result: Frame, truth: Frame) -> float:
    """Of luma, within the border."""
    inside = slice(BORDER, -BORDER)
    apart = (luma(result) - luma(truth))[inside, inside]
    return float(-10 * np.log10(np.mean(apart.astype(np.float64) ** 2) + 1e-12))


class Best(NamedTuple):
    name: str
    psnr: float
    seconds: float


def best_peer(frame: Frame, truth: Frame) -> Best:
    """The best of all at all strengths, and of doing nothing."""
    best = Best("nothing", psnr(frame, truth), 0.0)
    for name, run in peers().items():
        for amount in AMOUNTS:
            begun = time.perf_counter()
            made = np.clip(run(frame, amount), 0, 1)
            seconds = time.perf_counter() - begun
            if (found := psnr(made, truth)) > best.psnr:
                best = Best(f"{name} at {amount}", found, seconds)
    return best


def learned(plan: Plan) -> Plan:
    """The same with what was learned of edges."""
    steps = [
        s.model_copy(update={"settings": s.settings | {"learned": True}}) if s.kind == "sharpen" else s
        for s in plan.steps
    ]
    return plan.model_copy(update={"steps": steps})


def proposed(clip: Source) -> tuple[Plan, Frame, float]:
    """(plan, result of the judged frame, seconds): nothing is told to the method."""
    plan = propose(survey(clip), sharpen=True)
    pipeline = Pipeline(Footage(clip), plan)
    pipeline.frame(JUDGED - 1)  # what is made once for a shot
    begun = time.perf_counter()
    return plan, pipeline.frame(JUDGED), time.perf_counter() - begun


def told(plan: Plan) -> str:
    """The plan's steps, with the blur that was measured."""
    steps = (f"{s.kind} {s.settings['blur']}" if s.kind == "sharpen" else s.kind for s in plan.steps)
    return " ".join(steps) or "no step"


def noise_on_flats(result: Frame, clip: Blurred) -> float:
    """Deviation of the flats' errors in the result over that in the footage."""
    truth = luma(clip.truth[JUDGED])
    detail = cv2.blur(np.abs(truth - cv2.GaussianBlur(truth, (0, 0), 2)), (15, 15))
    flat = detail < np.quantile(detail, 0.1)
    before, after = luma(clip.frames[JUDGED]) - truth, luma(result) - truth
    high = [plane - cv2.GaussianBlur(plane, (0, 0), 2) for plane in (after, before)]
    return float(high[0][flat].std() / max(high[1][flat].std(), 1e-9))


def table_of_clips() -> None:
    print("Detail: luma PSNR in dB over the better of nothing and the best sharpener at its best strength")
    gains: dict[str, list[tuple[float, float]]] = {}
    for name, light in clips():
        for case in CASES:
            clip = Blurred(light, case)
            best = best_peer(clip.frames[JUDGED], clip.truth[JUDGED])
            plan, result, seconds = proposed(clip)
            more = Pipeline(Footage(clip), learned(plan)).frame(JUDGED)
            gain, with_learned = (psnr(np.clip(r, 0, 1), clip.truth[JUDGED]) - best.psnr for r in (result, more))
            gains.setdefault(case.name, []).append((gain, with_learned))
            print(
                f"  {name:12} {case.name:22} best {best.psnr:5.2f} ({best.name}, {best.seconds:.3f} s)"
                f"  ours {gain:+.2f}, with learned edges {with_learned:+.2f} ({told(plan)}, {seconds:.2f} s)"
                f"  noise on flats ×{noise_on_flats(result, clip):.2f} ×{noise_on_flats(more, clip):.2f}",
                flush=True,
            )
    for name_of_case, of_case in gains.items():
        for column, found in zip(("ours", "with learned edges"), zip(*of_case, strict=True), strict=True):
            print(f"  {name_of_case:22} {column:18} mean {np.mean(found):+.2f}  least {min(found):+.2f}")


def table_of_colour() -> None:
    print(
        "Colour at full size: PSNR of both colours in dB over linear, cubic and Lanczos kernels, whichever is best"
    )
    gains: dict[str, list[float]] = {}
    for name, light in clips():
        truth = [np.clip(bt709_encoded(frame), 0, 1) for frame in light]
        for case, frame, best in _halved_colours(truth):
            noise, siting = (8.0, "center") if case == "noise 2" else (0.5, "left" if "H.264" in case else "center")
            step = Step(kind="full-colour", settings={"siting": siting})
            held = Held([frame], described(1, frame.shape[1], frame.shape[0]), None)
            made = Pipeline(Footage(held), Plan(profile=white_profile(noise), steps=[step])).frame(0)
            gains.setdefault(case, []).append(colour_psnr(colour_difference(made), truth[JUDGED]) - best)
        print(f"  {name:12}", "  ".join(f"{case} {found[-1]:+.2f}" for case, found in gains.items()), flush=True)
    for case, found in gains.items():
        print(f"  {case:12} mean {np.mean(found):+.2f}  least {min(found):+.2f}")


def _halved_colours(truth: list[Frame]) -> Iterator[tuple[str, Frame, float]]:
    """(case, picture with its colour interpolated linearly, PSNR of the best kernel)."""
    rng = np.random.default_rng(3)
    for case, noise in (("clean", 0), ("noise 2", 2)):
        grain = rng.standard_normal(truth[JUDGED].shape, dtype=np.float32) * np.float32(noise / 255)
        seen = np.clip(truth[JUDGED] + grain, 0, 1)
        height, width = seen.shape[:2]
        small = [
            cv2.resize(c, (width // 2, height // 2), interpolation=cv2.INTER_AREA) for c in colour_difference(seen)
        ]
        large = [
            [cv2.resize(c, (width, height), interpolation=kernel) for c in small]
            for kernel in (cv2.INTER_LINEAR, cv2.INTER_CUBIC, cv2.INTER_LANCZOS4)
        ]
        frame = np.stack([luma(seen), *large[0]], axis=-1) @ np.linalg.inv(SIGNAL_MATRIX[3:]).T
        yield case, frame.astype(np.float32), max(colour_psnr(planes, truth[JUDGED]) for planes in large)
    for crf in (18, 24):
        frames, _, _ = coded(truth, described(len(truth), *truth[0].shape[1::-1]), h264(crf))
        yield f"H.264 {crf}", frames[JUDGED], colour_psnr(colour_difference(frames[JUDGED]), truth[JUDGED])


def colour_psnr(planes: Sequence[Array], truth: Frame) -> float:
    """Of Cb and Cr together, within the border."""
    inside = slice(BORDER, -BORDER)
    squares = [(a - b)[inside, inside] ** 2 for a, b in zip(planes, colour_difference(truth), strict=True)]
    return float(-10 * np.log10(np.mean(squares) + 1e-12))


def finest(result: Frame, truth: Frame) -> float:
    """Share of the truth's detail of up to two pixels that is in the result: its projection on it."""
    fine = [luma(frame) - cv2.GaussianBlur(luma(frame), (0, 0), 0.6) for frame in (result, truth)]
    return float((fine[0] * fine[1]).sum() / (fine[1] ** 2).sum())


def table_of_giving_back() -> None:
    print("Given back what noise reduction took: its own proposal on noise of 4/255, then Sharpen behind it")
    for name, light in clips():
        clip = Blurred(light, Case("noise", 0.0, 4))
        truth, plan = clip.truth[JUDGED], propose(survey(clip)).taking()
        back = Step(kind="sharpen", settings={"method": "give-back"})
        plans = [plan, plan.model_copy(update={"steps": [*plan.steps, back]})]
        before, after = (np.clip(Pipeline(Footage(clip), p).frame(JUDGED), 0, 1) for p in plans)
        told = (
            f"{psnr(made, truth):5.2f} dB, finest {100 * finest(made, truth):3.0f} %" for made in (before, after)
        )
        raised = noise_on_flats(after, clip) / max(noise_on_flats(before, clip), 1e-9)
        print(f"  {name:12} {' → '.join(told)}  noise on flats ×{raised:.2f}", flush=True)


def slanted(low: float = 0.08, high: float = 0.35) -> Array:
    """Light of an edge that leans by five degrees, drawn eight times too large."""
    across, down = (np.arange(8 * WIDTH // 2) + 0.5) / 8, (np.arange(8 * HEIGHT // 2) + 0.5) / 8
    behind = across[None] - WIDTH / 4 > (down[:, None] - HEIGHT / 4) * np.tan(np.radians(5))
    large = np.where(behind, np.float32(high), np.float32(low))
    edge = cv2.resize(large, (WIDTH // 2, HEIGHT // 2), interpolation=cv2.INTER_AREA)
    return np.repeat(edge[..., None], 3, axis=2)


def halo(result: Frame, light: Array) -> float:
    """How far the mean profile of the edge goes beyond its two sides, in percent of the edge's height."""
    plane = luma(result)
    height, width = plane.shape
    rows, columns = np.mgrid[:height, :width] + 0.5
    away = (columns - width / 2 - (rows - height / 2) * np.tan(np.radians(5))) * np.cos(np.radians(5))
    bins = np.rint(away * 4).astype(int)
    near = np.abs(bins) <= 60
    profile = np.bincount(bins[near] + 60, plane[near]) / np.bincount(bins[near] + 60)
    low, high = (float(bt709_encoded(light)[:, k].mean()) for k in (4, -5))
    return 100 * max(profile.max() - high, low - profile.min()) / (high - low)


def table_of_edges() -> None:
    print("Edge: halo in % of its height, MTF50 in cycles a pixel (ISO 12233)")
    light, middle = slanted(), (slice(10, -10), slice(WIDTH // 4 - 48, WIDTH // 4 + 48))
    truth = edge_response(luma(bt709_encoded(light))[middle])
    for case in CASES:
        clip = Blurred([light] * FRAMES, case)
        plan, result, _ = proposed(clip)
        more = Pipeline(Footage(clip), learned(plan)).frame(JUDGED)
        frames = clip.frames[JUDGED], result, more
        before, after, with_learned = (edge_response(luma(frame)[middle]) for frame in frames)
        if before and after and with_learned and truth:
            print(
                f"  {case.name:22} halo {halo(result, light):4.1f} %  MTF50 {before.mtf50:.3f} → {after.mtf50:.3f}"
                f" of {truth.mtf50:.3f}; with learned edges {halo(more, light):4.1f} %, {with_learned.mtf50:.3f}"
                f"  ({told(plan)})",
                flush=True,
            )


class Larger(NamedTuple):
    """How a small clip is made of a large truth."""

    name: str
    times: float
    noise: float = 0.3
    crf: int | None = None
    standing: bool = False


LARGER = (
    Larger("2x", 2), Larger("2x, noise 2", 2, 2), Larger("2x, H.264 crf 18", 2, 0.3, 18),
    Larger("2x, standing, noise 1", 2, 1, standing=True), Larger("1.5x", 1.5), Larger("3x, noise 1", 3, 1),
)  # fmt: skip

PANS = {"figurehead": (1.3, 0.6, 0.8), "quay": (3.1, 0.4, 1.0), "cloth": (1.2, 0.5, 0.8)}
"""Scenes and how the camera moves in pixels of the truth."""

ACROSS = 2.3, 1.1
"""How it moves over photographs."""

SMALL = 320, 176


def _of_scene(scene: str, case: Larger, width: int, height: int) -> list[Frame]:
    """A scene of the test camera as the truth."""
    motion = (0.0, 0.0, 0.0) if case.standing else PANS[scene]
    recipe = ShotRecipe(name=scene, scene=scene, width=width, height=height, frames=FRAMES, motion=motion)  # type: ignore[arg-type]
    light, more = scene_of(recipe), np.float32(SCENES[scene])
    return [np.clip(bt709_encoded(cv2.GaussianBlur(light(n) * more, (0, 0), 0.5)), 0, 1) for n in range(FRAMES)]


def _of_picture(picture: Frame, case: Larger, width: int, height: int) -> list[Frame]:
    """A photograph that a camera glides over, as the truth."""
    frames = panned(picture, FRAMES, *((0, 0) if case.standing else ACROSS))
    return [np.clip(cv2.GaussianBlur(f[:height, :width], (0, 0), 0.5), 0, 1) for f in frames]


def pair(name: str, picture: Frame | None, case: Larger) -> tuple[Source, Frame]:
    """(footage, truth of the judged frame) of a scene or a photograph, the truth so many times as large."""
    size = [round(side * case.times) for side in SMALL]
    truth = _of_scene(name, case, *size) if picture is None else _of_picture(picture, case, *size)
    rng = np.random.default_rng(4)
    shot = [cv2.resize(frame, SMALL, interpolation=cv2.INTER_AREA) for frame in truth]
    noisy = [np.clip(f + rng.standard_normal(f.shape) * case.noise / 255, 0, 1).astype(np.float32) for f in shot]
    info, errors = described(FRAMES, *SMALL), None
    if case.crf is not None:
        noisy, info, errors = coded(noisy, info, h264(case.crf))
    return Held(noisy, info, errors), truth[JUDGED]


def best_kernel(frame: Frame, truth: Frame) -> Best:
    """The best of plain kernels, each with and without an unsharp mask at its best."""
    size = truth.shape[1::-1]
    kernels = {"linear": cv2.INTER_LINEAR, "cubic": cv2.INTER_CUBIC, "Lanczos": cv2.INTER_LANCZOS4}
    best = Best("", -np.inf, 0.0)
    for name, kernel in kernels.items():
        begun = time.perf_counter()
        plain = cv2.resize(frame, size, interpolation=kernel)
        made = time.perf_counter() - begun
        for radius in (1.0, 1.5, 2.0):
            for amount in (0.0, *AMOUNTS[:5]):
                begun = time.perf_counter()
                mask = plain + np.float32(amount) * (plain - cv2.GaussianBlur(plain, (0, 0), radius))
                seconds = made + time.perf_counter() - begun
                if (found := psnr(np.clip(mask, 0, 1), truth)) > best.psnr:
                    best = Best(f"{name}, unsharp {radius} at {amount}", found, seconds)
    return best


def table_of_sizes() -> None:
    print("Enlarging: luma PSNR in dB over the best kernel, with an unsharp mask where that helps")
    gains: dict[str, list[float]] = {}
    photographs = {name: picture for name, picture in pictures().items() if name not in PACKAGED}
    for scene in (*PANS, *photographs):
        for case in LARGER:
            if scene in photographs and case.times > WIDTH / SMALL[0]:
                continue
            clip, truth = pair(scene, photographs.get(scene), case)
            best = best_kernel(clip.read(JUDGED), truth)
            size = truth.shape[1], truth.shape[0]
            step = next(s for s in propose(survey(clip), scale=size).steps if s.kind == "enlarge")
            pipeline = Pipeline(Footage(clip), Plan(profile=survey(clip).profile, steps=[step]))
            begun = time.perf_counter()
            gain = psnr(np.clip(pipeline.frame(JUDGED), 0, 1), truth) - best.psnr
            seconds = time.perf_counter() - begun
            gains.setdefault(f"{case.name}, {'scenes' if scene in PANS else 'photographs'}", []).append(gain)
            print(
                f"  {scene:12} {case.name:22} best {best.psnr:5.2f} ({best.name}, {best.seconds:.3f} s)"
                f"  ours {gain:+.2f} ({seconds:.2f} s)",
                flush=True,
            )
    for name, found in gains.items():
        print(f"  {name:36} mean {np.mean(found):+.2f}  least {min(found):+.2f}")


def main() -> None:
    table_of_edges()
    table_of_clips()
    table_of_giving_back()
    table_of_colour()
    table_of_sizes()
