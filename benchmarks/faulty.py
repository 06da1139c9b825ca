"""Footage with one fault and its truth: scenes of the test camera, and photographs where they are found: those of
scikit-image, and what Debian packages install below `/usr/share` (`YELLOW_CLEAN_PICTURES` names another folder,
searched for `.jpg` and `.png` files)."""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt
from skimage import data

from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear, log_encoded, log_linear
from yellowclean.engine.frames import CV_SCALE, Array, Frame
from yellowclean.engine.media import MediaInfo, Source
from yellowclean.engine.media.formats import OutputFormat
from yellowclean.engine.noise.profile import NoiseProfile, white_profile
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.testcamera.shoot import CODECS
from yellowclean.engine.treat.compression import BY_ITSELF

from .clips import Clip, coded, described, recorded

WIDTH, HEIGHT = 640, 352

BESIDE = 32
"""Pixels that a picture is mirrored by where something smears beyond its sides."""

Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Scene:
    """Footage with one fault, its truth, the place of the fault in each frame, and the frames that are judged."""

    name: str
    frames: list[Frame]
    truth: list[Frame]
    inside: list[Mask]
    judged: range
    info: MediaInfo
    settings: dict[str, object] = field(default_factory=dict)
    still: bool = False
    """Whether filters need to be shown the judged frame alone."""
    profile: NoiseProfile = field(default_factory=lambda: white_profile(1.0))
    errors: list[Array | None] | None = None
    """Coding errors that the file tells, by frame."""


class Held(Source):
    """Frames in memory."""

    def __init__(
        self, frames: Sequence[Frame], info: MediaInfo, errors: Sequence[Array | None] | None = None
    ) -> None:
        self._frames, self.info, self._errors = frames, info, errors

    def read(self, n: int) -> Frame:
        return self._frames[n]

    def coding_error(self, n: int) -> Array | None:
        return self._errors[n] if self._errors else None

    def close(self) -> None:
        """Nothing is open."""


PACKAGED = {"rocket": data.rocket, "coffee": data.coffee, "astronaut": data.astronaut, "chelsea": data.chelsea}


def pictures() -> dict[str, Frame]:
    """Natural pictures by name, WIDTH×HEIGHT or larger, averaged down from more pixels."""
    found = {name: _as_frame(load()) for name, load in PACKAGED.items()}
    for file in sorted(p for p in _folder().rglob("*") if p.suffix.lower() in {".jpg", ".png"}):
        picture = cv2.imread(str(file))
        if picture is not None and picture.shape[1] >= WIDTH // 2:
            found[file.stem] = _as_frame(picture[..., ::-1])
    if len(found) == len(PACKAGED):
        print(f"No photograph in {_folder()}: scikit-image's alone (YELLOW_CLEAN_PICTURES names a folder).\n")
    return found


def films() -> list[Path]:
    """Natural films beside the photographs."""
    return sorted(p for p in _folder().rglob("*") if p.suffix.lower() in {".mp4", ".avi", ".mkv", ".mov"})


def _folder() -> Path:
    return Path(os.environ.get("YELLOW_CLEAN_PICTURES", "/usr/share/backgrounds"))


def _as_frame(picture: npt.NDArray[np.uint8]) -> Frame:
    height, width = picture.shape[:2]
    scale = max((WIDTH + 60) / width, (HEIGHT + 40) / height)
    size = round(width * scale), round(height * scale)
    kernel = cv2.INTER_AREA if scale < 1 else cv2.INTER_CUBIC
    return np.clip(cv2.resize(picture.astype(np.float32) / 255, size, interpolation=kernel), 0, 1)


def smooth_where_flat(picture: Frame) -> tuple[Frame, Mask]:
    """The picture with the grain of its flat places taken out, so that rounding makes bands there; and those
    places."""
    detail = np.abs(picture - cv2.GaussianBlur(picture, (0, 0), 2)).max(axis=2)
    busy = cv2.dilate(cv2.GaussianBlur(detail, (0, 0), 2), np.ones((9, 9)))
    texture = np.clip((cv2.GaussianBlur(busy, (0, 0), 3) - 0.006) / 0.004, 0, 1)[..., None]
    weight = 1 - texture
    blurred = cv2.GaussianBlur(picture * weight, (0, 0), 6) / np.maximum(
        cv2.GaussianBlur(weight, (0, 0), 6)[..., None], 1e-4
    )
    return (picture * texture + blurred * weight).astype(np.float32), texture[..., 0] < 0.01


def panned(picture: Array, count: int, across: float, down: float) -> list[Array]:
    """A camera's travel over a still picture."""
    return [_travelled(picture, across * n, down * n) for n in range(count)]


def exposed(light: Array, count: int, across: float, down: float, share: float) -> list[Array]:
    """The same travel over light, each frame exposed for a share of the time to the next."""
    smeared = _smeared(light, share * across, share * down)
    return [np.maximum(frame, 0) for frame in panned(smeared, count, across, down)]


def _smeared(light: Array, across: float, down: float) -> Array:
    """The mean over all moments of a straight way, exact for the waves that a picture is made of: moments drawn
    each by itself between pixels would be softer than a lens leaves the finest."""
    sides = cv2.copyMakeBorder(light, BESIDE, BESIDE, BESIDE, BESIDE, cv2.BORDER_REFLECT_101)
    height, width = sides.shape[:2]
    through = np.sinc(down * np.fft.fftfreq(height)[:, None] + across * np.fft.rfftfreq(width))
    waves = np.fft.rfft2(sides, axes=(0, 1)) * through[..., None]
    smeared: Array = np.fft.irfft2(waves, (height, width), axes=(0, 1)).astype(np.float32)
    return smeared[BESIDE:-BESIDE, BESIDE:-BESIDE]


def _travelled(picture: Array, x: float, y: float) -> Array:
    return cv2.warpAffine(
        picture, np.array([[1, 0, -4 - x], [0, 1, -4 - y]], np.float64), (WIDTH, HEIGHT),
        flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT_101,
    )  # fmt: skip


def stepped(frame: Frame, step: float) -> Frame:
    return (np.rint(frame / np.float32(step)) * np.float32(step)).astype(np.float32)


def stretched_log(frame: Frame, bits: int = 8) -> Frame:
    """Recorded in a log curve, then stretched for the display."""
    codes = (1 << bits) - 1
    recorded_log = np.rint(log_encoded(bt709_linear(frame)) * codes) / codes
    return bt709_encoded(log_linear(recorded_log.astype(np.float32)))


def banded() -> list[Scene]:
    """Bands in five ways, on a dusk sky of the test camera and on photographs with flat places."""
    clip = Clip("dusk", Camera(noiseless=True), frames=9, width=WIDTH, height=HEIGHT, motion=(1.3, 0.4, 0.0))
    clips = {"dusk": (clip.truth, [smooth_where_flat(f)[1] for f in clip.truth])}
    for name, picture in pictures().items():
        smooth, flat = smooth_where_flat(picture)
        if flat.mean() > 0.15 and len(clips) < 8:
            moved = panned(smooth, 9, 1.3, 0.4)
            clips[name] = (moved, [m > 0.999 for m in panned(flat.astype(np.float32), 9, 1.3, 0.4)])
    scenes = []
    for name, (truth, inside) in clips.items():
        still, plain = range(4, 5), described(len(truth), WIDTH, HEIGHT)

        def scene(
            kind: str, frames: list[Frame], step: float, judged: range, info: MediaInfo = plain, room: float = 0,
            planes: str = "rgb", of: tuple[str, list[Frame], list[Mask]] = (name, truth, inside),
        ) -> Scene:  # fmt: skip
            largest = float(np.clip(np.ceil(3 * step * CV_SCALE) / 2, 1.5, 64))
            settings = {"step": largest, "room": room, "planes": planes}
            return Scene(f"{of[0]}, {kind}", frames, of[1], of[2], judged, info, settings, still=len(judged) == 1)

        eight = [stepped(f, 1 / 255) for f in truth]
        log = [stretched_log(f) for f in truth]
        coded, info = recorded(truth, plain, CODECS["h264-8bit"](None))
        scenes += [
            scene("8 bits", eight, 1 / 255, still),
            scene("7 bits", [stepped(f, 1 / 127) for f in truth], 1 / 127, still),
            scene("stretched log", log, 8 / CV_SCALE, still),
            scene("8 bits, moving", eight, 1 / 255, range(3, 6)),
            scene("H.264, moving", coded, 1 / 219, range(3, 6), info, 25, "bt709"),
        ]
    return scenes


def on_light(truth: list[Frame], gain: Callable[[int], float | Array]) -> list[Frame]:
    """Frames under light that changes."""
    return [bt709_encoded((bt709_linear(f) * gain(n)).astype(np.float32)).clip(0, 1) for n, f in enumerate(truth)]


def flickering() -> list[Scene]:
    """Flicker of the whole frame, of three kinds, and mains bands, strong and weak."""
    rng = np.random.default_rng(31)
    count = 40
    size = {"frames": count, "width": WIDTH, "height": HEIGHT}
    camera = Camera(stops_under=1)
    clips = {
        "stars": Clip("stars", camera, **size).frames,  # type: ignore[arg-type]
        "quay": Clip("quay", camera, motion=(1.5, 0.3, 0.8), **size).frames,  # type: ignore[arg-type]
        "basin": Clip("basin", camera, **size).frames,  # type: ignore[arg-type]
    }
    for name, picture in itertools.islice(pictures().items(), 6):
        grain = [rng.standard_normal((HEIGHT, WIDTH, 3)).astype(np.float32) * 3 / CV_SCALE for _ in range(count)]
        clips[name] = [np.clip(f + g, 0, 1) for f, g in zip(panned(picture, count, 0.7, 0.3), grain, strict=True)]
    down = ((np.arange(HEIGHT) + 0.5) / HEIGHT)[:, None, None]
    whole = [np.ones((HEIGHT, WIDTH), bool)] * count

    def mains(strength: float) -> Callable[[int], Array]:
        return lambda n: (1 + strength * np.sin(2 * np.pi * (2.3 * down + 0.17 * n))).astype(np.float32)

    scenes = []
    for name, frames in clips.items():
        info, judged = described(count, WIDTH, HEIGHT), range(2, count - 2)
        ramp = on_light(frames, lambda n: 1 - 0.015 * n)
        jumps = 1 + 0.05 * rng.standard_normal(count)
        for kind, truth, faulty in (
            ("lapse", frames, on_light(frames, jumps.__getitem__)),
            ("wave", frames, on_light(frames, lambda n: 1 + 0.05 * np.sin(2 * np.pi * n / 5.3))),
            ("meant ramp", ramp, on_light(ramp, jumps.__getitem__)),
            ("mains, strong", frames, on_light(frames, mains(0.08))),
            ("mains, weak", frames, on_light(frames, mains(0.03))),
        ):
            scenes.append(Scene(f"{name}, {kind}", faulty, truth, whole, judged, info))
    return scenes


def specked() -> list[Scene]:
    """Specks of five kinds over test-camera shots and over photographs under grain; the truth is the footage
    before."""
    rng, count, at = np.random.default_rng(77), 9, 4
    camera, size = Camera(stops_under=2), {"frames": count, "width": WIDTH, "height": HEIGHT}
    clips = {name: Clip(name, camera, **size).frames for name in ("stars", "quay", "cloth", "basin")}  # type: ignore[arg-type]
    for name, picture in itertools.islice(pictures().items(), 5):
        grain = [rng.standard_normal((HEIGHT, WIDTH, 3)).astype(np.float32) * 4 / CV_SCALE for _ in range(count)]
        clips[name] = [np.clip(f + g, 0, 1) for f, g in zip(panned(picture, count, 2.3, 0.6), grain, strict=True)]
    burning = rng.integers(4, (HEIGHT - 4, WIDTH - 4), (60, 2)), rng.uniform(0.15, 0.6, (60, 3))
    scenes = []
    for name, frames in clips.items():
        profile = survey(Held(frames, described(count, WIDTH, HEIGHT))).profile
        for kind, mark in (
            ("dust", lambda f: dusted(f, rng, 12, (1, 4))), ("dirt", lambda f: dusted(f, rng, 4, (5, 10))),
            ("trail", lambda f: trailed(f, rng)), ("hot pixels", lambda f: burnt(f, *burning)),
            ("scratch", lambda f: scratched(f, rng)),
        ):  # fmt: skip
            faulty = (
                [mark(f) for f in frames]
                if kind in {"hot pixels", "scratch"}
                else [*frames[:at], mark(frames[at]), *frames[at + 1 :]]
            )
            inside = [(np.abs(a - b) > 0.01).any(axis=2) for a, b in zip(faulty, frames, strict=True)]
            info = described(count, WIDTH, HEIGHT)
            scenes.append(
                Scene(f"{name}, {kind}", faulty, frames, inside, range(at, at + 1), info, profile=profile)
            )
    return scenes


def h264(crf: float, **options: str) -> OutputFormat:
    return OutputFormat(
        "h264", ".mkv", "H.264, 8-bit 4:2:0", "libx264", "yuv420p", 8, "4:2:0", options={"crf": str(crf)} | options
    )


def mpeg2(scale: int) -> OutputFormat:
    """At one quantiser scale."""
    options = {"qmin": str(scale), "qmax": str(scale)}
    return OutputFormat("mpeg2", ".mkv", "MPEG-2", "mpeg2video", "yuv420p", 8, "4:2:0", options=options)


def mjpeg(scale: int) -> OutputFormat:
    options = {"qmin": str(scale), "qmax": str(scale)}
    return OutputFormat("mjpeg", ".avi", "MJPEG", "mjpeg", "yuvj420p", 8, "4:2:0", True, options=options)


def as_coded(
    frames: Sequence[Frame], fmt: OutputFormat
) -> tuple[list[Frame], MediaInfo, list[Array | None], dict[str, object]]:
    """Frames as a codec leaves them, what the file tells of itself and of its errors, and the settings of Codec
    traces for it."""
    height, width = frames[0].shape[:2]
    matrix = "smpte170m" if fmt.codec == "mjpeg" else "bt709"  # JFIF knows one matrix, and the file names none
    told = described(len(frames), width, height).model_copy(update={"matrix": matrix})
    decoded, info, errors = coded(frames, told, fmt)
    return decoded, info, errors, dict(BY_ITSELF) if info.intra_only else {}


CODINGS = {
    "H.264 crf 12": h264(12, preset="slow"),
    "H.264 crf 28": h264(28, preset="slow"),
    "H.264 crf 34": h264(34, preset="slow"),
    "H.264 crf 40": h264(40, preset="slow"),
    "H.264 crf 34, no loop filter": h264(34, preset="slow", **{"x264-params": "no-deblock=1"}),
    "MPEG-2": mpeg2(7),
    "MJPEG": mjpeg(6),
}


def coded_scenes() -> list[Scene]:
    """Codecs at several quantisers, on scenes that nothing was set on: the test camera without noise, and
    photographs under a slow pan."""
    count, judged = 9, range(3, 6)
    size = {"frames": count, "width": WIDTH, "height": HEIGHT}
    camera = Camera(noiseless=True)
    clips = {
        "cloth": Clip("cloth", camera, motion=(1.1, 0.5, 0.3), **size).truth,  # type: ignore[arg-type]
        "drying": Clip("drying", camera, motion=(-2.2, 0.7, 0.0), **size).truth,  # type: ignore[arg-type]
    }
    for name, picture in itertools.islice(((n, p) for n, p in pictures().items() if n not in PACKAGED), 4):
        clips[name] = panned(picture, count, 3.1, 1.1)
    whole = [np.ones((HEIGHT, WIDTH), bool)] * count
    scenes = []
    for (name, truth), (kind, fmt) in itertools.product(clips.items(), CODINGS.items()):
        clean = [np.clip(frame, 0, 1) for frame in truth]
        frames, info, errors, settings = as_coded(clean, fmt)
        scenes.append(Scene(f"{name}; {kind}", frames, clean, whole, judged, info, settings, errors=errors))
    return scenes


def dusted(frame: Frame, rng: np.random.Generator, count: int, sizes: tuple[int, int]) -> Frame:
    """Spots darker than all around, or brighter where nothing could be darker."""
    marked = frame.copy()
    for _ in range(count):
        x, y = int(rng.integers(24, WIDTH - 24)), int(rng.integers(24, HEIGHT - 24))
        around = frame[y - 12 : y + 13, x - 12 : x + 13]
        shade = float(around.min()) - 0.25
        shade = shade if shade > 0 else min(float(around.max()) + 0.25, 1.0)
        axes = tuple(int(v) for v in rng.integers(*sizes, 2))
        cv2.ellipse(marked, (x, y), axes, float(rng.integers(0, 180)), 0, 360, (shade,) * 3, -1, cv2.LINE_AA)
    return marked


def trailed(frame: Frame, rng: np.random.Generator) -> Frame:
    """A bright trail over most of the upper half."""
    marked = frame.copy()
    left, right = (int(v) for v in rng.integers(10, HEIGHT // 2, 2))
    cv2.line(marked, (20, left), (WIDTH - 40, right), (float(np.percentile(frame, 90)) + 0.3,) * 3, 1, cv2.LINE_AA)
    return np.maximum(marked, frame).clip(0, 1)


def scratched(frame: Frame, rng: np.random.Generator) -> Frame:
    """A soft bright scratch from top to bottom, a third across, that wobbles."""
    top, bottom = (round(16 * (WIDTH / 3 + float(rng.normal(0, 1)))) for _ in range(2))
    line = np.zeros((HEIGHT, WIDTH), np.float32)
    cv2.line(line, (top, 0), (bottom, 16 * (HEIGHT - 1)), (1.0,), int(rng.integers(1, 3)), cv2.LINE_AA, 4)
    return np.clip(frame + np.float32(0.15) * cv2.GaussianBlur(line, (0, 0), 0.6)[..., None], 0, 1)


def burnt(frame: Frame, places: npt.NDArray[np.int64], light: Array) -> Frame:
    """Hot pixels, each of a colour of its own."""
    marked = frame.copy()
    marked[places[:, 0], places[:, 1]] += (light * np.eye(3)[np.arange(len(places)) % 3]).astype(np.float32)
    return np.clip(marked, 0, 1)
