"""Our own proposal beside general-purpose denoisers on noise that went through a codec.

Test-camera clips that H.264 or HEVC recorded at a given bit rate, some of them transcoded to ProRes. Judged are the
planes in which they were recorded: three quarters PSNR of luma, one quarter of chroma at half the size, since RGB
mostly shows what the sampling of chroma lost.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cache

import cv2
import numpy as np

from yellowclean.engine.chain import noise_chain
from yellowclean.engine.colour.opponent import SIGNALS, colour_difference
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame, luma
from yellowclean.engine.judge.ladder import suggested_stop
from yellowclean.engine.judge.metrics import psnr_db
from yellowclean.engine.measure.report import Rung, SurveyReport
from yellowclean.engine.media.formats import OUTPUT_FORMATS, OutputFormat
from yellowclean.engine.noise.profile import NoiseCurve
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera

from .clips import Clip
from .peers import PEERS, Peer
from .quality import kept_texture, residue, textured
from .survey import LEAST_SHARE, as_recorded, residual_curve

FRAMES, JUDGED = 25, (11, 12, 13)
"""Enough frames for the rate to settle, and those that are judged; strengths are chosen on the second."""

MOTIONS = {"slow": (1.3, 0.4, 0.8), "fast": (12.0, 2.0, 1.5), "standing": (0.0, 0.0, 0.0)}
CODECS = {"H.264": "libx264", "HEVC": "libx265"}
SHARES = 0.5, 0.7, 1.0, 1.4, 2.0
"""Strengths of the own plan that are tried against the one it chose, as shares of it."""

MORE_STRENGTHS = {
    "FFmpeg fftdnoiz": (1, 1.5, 2),
    "FFmpeg nlmeans": (1,),
    "OpenCV NLM": (1,),
    "OpenCV NLM multi": (1,),
}
COMPARED = [
    replace(peer, strengths=(*MORE_STRENGTHS[peer.name], *peer.strengths)) for peer in PEERS
    if peer.name in MORE_STRENGTHS
]  # fmt: skip


@dataclass(frozen=True, slots=True)
class Recording:
    """How a clip was shot and recorded."""

    scene: str
    motion: str
    stops: float
    bayer: bool
    codec: str
    mbit: float
    preset: str
    height: int = 540
    transcoded: bool = False

    @property
    def name(self) -> str:
        sensor = "Bayer" if self.bayer else "white"
        shot = f"{self.scene}, {self.motion}, {sensor}, {self.stops:g} stops, {self.height}p"
        then = ", then ProRes" if self.transcoded else ""
        return f"{shot}, {self.codec} {self.mbit:g} {self.preset}{then}"

    def clip(self) -> Clip:
        """The footage as decoded, and its truth."""
        camera = Camera(stops_under=self.stops, bayer=self.bayer)
        size = {"width": self.height * 16 // 9, "height": self.height}
        clip = Clip(self.scene, camera, frames=FRAMES, motion=MOTIONS[self.motion], **size)
        clip.record(coded_at(self.codec, self.mbit, self.preset))
        if self.transcoded:
            clip.record(OUTPUT_FORMATS["prores-hq"])
        return clip


def coded_at(codec: str, mbit: float, preset: str) -> OutputFormat:
    """8-bit 4:2:0 at an average bit rate."""
    options = {"preset": preset, "b": str(int(mbit * 1e6)), "x265-params": "log-level=none"}
    if codec == "H.264":
        del options["x265-params"]
    return OutputFormat(
        codec, ".mp4", f"{codec} in MP4, 8-bit 4:2:0", CODECS[codec], "yuv420p", 8, "4:2:0", options=options
    )


RECORDINGS = (
    Recording("quay", "slow", 2.5, True, "H.264", 1.5, "medium"),
    Recording("quay", "slow", 3, True, "H.264", 3, "fast"),
    Recording("cloth", "slow", 3, False, "H.264", 6, "slow"),
    Recording("basin", "fast", 2, True, "H.264", 12, "medium"),
    Recording("dusk", "standing", 4, True, "H.264", 3, "slow"),
    Recording("quay", "fast", 3, False, "HEVC", 1.5, "medium"),
    Recording("dusk", "slow", 3, True, "HEVC", 3, "slow"),
    Recording("cloth", "standing", 4, True, "HEVC", 6, "fast"),
    Recording("quay", "slow", 2, True, "HEVC", 12, "medium"),
    Recording("quay", "slow", 3, True, "H.264", 6, "medium", 1080),
    Recording("cloth", "slow", 2, True, "HEVC", 12, "fast", 1080),
    Recording("quay", "slow", 3, True, "H.264", 3, "fast", transcoded=True),
    Recording("dusk", "standing", 4, True, "H.264", 3, "slow", transcoded=True),
    Recording("cloth", "slow", 3, False, "HEVC", 6, "medium", transcoded=True),
)

HELD_BACK = (
    Recording("basin", "slow", 3, True, "H.264", 3, "medium"),
    Recording("basin", "standing", 3, True, "H.264", 1.5, "medium"),
    Recording("cloth", "fast", 3, True, "H.264", 3, "fast"),
    Recording("cloth", "slow", 2.5, True, "H.264", 1.5, "medium"),
    Recording("drying", "fast", 3.5, False, "H.264", 3, "medium"),
    Recording("dusk", "slow", 4, True, "H.264", 3, "fast"),
    Recording("figurehead", "slow", 2, True, "H.264", 1.5, "fast"),
    Recording("figurehead", "slow", 3, False, "H.264", 3, "slow"),
    Recording("quay", "slow", 2.5, False, "HEVC", 3, "medium"),
    Recording("quay", "slow", 2.5, True, "HEVC", 1.5, "fast"),
    Recording("quay", "standing", 3, True, "HEVC", 3, "medium"),
    Recording("stars", "slow", 3, True, "H.264", 1.5, "slow"),
)
"""Clips that nothing was set on, for the stop of the ladder."""


def planes(frame: Frame) -> tuple[Array, Array, Array]:
    """Y' at full size, Cb and Cr at half, of a picture within 0-1."""
    inside = np.clip(frame, 0, 1)
    half = (frame.shape[1] // 2, frame.shape[0] // 2)
    cb, cr = (cv2.resize(plane, half, interpolation=cv2.INTER_AREA) for plane in colour_difference(inside))
    return luma(inside), cb, cr


@dataclass(frozen=True, slots=True)
class Score:
    """PSNR of luma and chroma in dB, flicker of luma in CV, and what is left of noise and kept of texture."""

    luma_db: float
    chroma_db: float
    flicker_cv: float
    noise_cv: float
    texture: float

    @property
    def db(self) -> float:
        return LUMA_SHARE * self.luma_db + (1 - LUMA_SHARE) * self.chroma_db

    def cells(self) -> str:
        return (
            f"{self.db:.2f} | {self.luma_db:.2f} | {self.chroma_db:.2f} | {self.flicker_cv:.2f} |"
            f" {self.noise_cv:.2f} | {100 * self.texture:.0f} %"
        )


def planes_db(results: Sequence[Frame], truths: Sequence[Frame]) -> tuple[float, float]:
    """PSNR of luma and of colour over several frames."""
    pairs = [(planes(a), planes(b)) for a, b in zip(results, truths, strict=True)]
    squares = np.array([[np.mean((a - b) ** 2) for a, b in zip(*pair, strict=True)] for pair in pairs])
    luma_db, chroma_db = (psnr_db(float(part.mean())) or np.inf for part in (squares[:, 0], squares[:, 1:]))
    return luma_db, chroma_db


LUMA_SHARE = 0.75


def judged(clip: Clip, clean: Callable[[int], Frame], frames: tuple[int, ...] = JUDGED) -> Score:
    results = {n: clean(n) for n in frames}
    errors = [luma(np.clip(results[n], 0, 1)) - luma(np.clip(clip.truth[n], 0, 1)) for n in frames]
    change = [np.mean((b - a) ** 2) for a, b in itertools.pairwise(errors)]
    n = frames[len(frames) // 2]
    return Score(
        *planes_db([results[n] for n in frames], [clip.truth[n] for n in frames]),
        float(np.sqrt(np.mean(change))) * CV_SCALE if change else np.nan,
        residue(results[n], clip.truth[n]),
        kept_texture(results[n], clip.truth[n], textured(clip.truth[n])),
    )


def best_of(clip: Clip, peer: Peer) -> tuple[float, Score, Callable[[float], Score]]:
    """The strength that is best against the truth, what it reaches, and what another one would on one frame."""

    def cleaned(n: int, strength: float) -> Frame:
        return peer.run(clip.frames[n - peer.around : n + peer.around + 1], peer.around, strength)

    @cache
    def once(strength: float) -> Score:
        return judged(clip, lambda n: cleaned(n, strength), JUDGED[1:2])

    strength = max(peer.strengths, key=lambda s: once(s).db)
    return strength, judged(clip, lambda n: cleaned(n, strength)), once


def scaled(plan: Plan, share: float) -> Plan:
    """The plan with its spatial amounts times a share, as far as they go."""
    steps = []
    for step in plan.steps:
        amounts = {k: min(share * v, 200.0) for k, v in step.settings.items() if k in {"luma", "chroma"}}
        changed = step.settings | amounts if step.kind == "spatial" else step.settings
        steps.append(step.model_copy(update={"settings": changed}))
    return plan.model_copy(update={"steps": steps})


def of_curve(clip: Clip, curve: NoiseCurve) -> str:
    """By how much the measured curve is off the truth, each signal's median over the levels present."""
    at = np.array(curve.level_cv)
    chosen = range(2, FRAMES, 3)
    clean = [as_recorded(clip.truth[n]) for n in chosen]
    truth = residual_curve([clip.frames[n] for n in chosen], clean, at)
    present = np.array(curve.share) >= LEAST_SHARE
    off = [np.nanmedian(curve.signal(name)[present] / truth[present, s] - 1) for s, name in enumerate(SIGNALS)]
    return " | ".join(f"{100 * value:+.0f} %" for value in off)


def against_peers() -> None:
    print("| clip | method | strength | dB | luma dB | chroma dB | flicker CV | noise left CV | texture kept |")
    print("| --- | --- | ---: | ---: | ---: | ---: | ---: | ---: | ---: |")
    margins, given_up, curves = {}, {}, {}
    for recording in RECORDINGS:
        clip, name = recording.clip(), recording.name
        print(f"| {name} | untouched | | {judged(clip, clip.read).cells()} |", flush=True)
        report = survey(clip)
        plan = propose(report)
        own = judged(clip, Pipeline(Footage(clip), plan).frame)
        best = -np.inf
        for peer in COMPARED:
            strength, score, once = best_of(clip, peer)
            best = max(best, score.db)
            equal = min((once(s) for s in peer.strengths), key=lambda s: abs(s.noise_cv - own.noise_cv))
            told = f"{score.cells()} (at noise {equal.noise_cv:.2f}: {100 * equal.texture:.0f} %)"
            print(f"| {name} | {peer.name} | {strength:g} | {told} |", flush=True)
        print(f"| {name} | **ours** | {amounts(plan)} | {own.cells()} |", flush=True)
        margins[name] = own.db - best
        footage = Footage(clip)
        tried = [judged(clip, Pipeline(footage, scaled(plan, share)).frame, JUDGED[1:2]).db for share in SHARES]
        given_up[name] = max(tried) - tried[SHARES.index(1.0)]
        curves[name] = of_curve(clip, report.noise.coded or report.noise.curve)
    print(
        "\n| clip | above the best peer dB | below the own plan's best dB | curve off by: R | G | B | Y | Cb | Cr |"
    )
    print("| --- | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: |")
    for name, margin in margins.items():
        print(f"| {name} | {margin:+.2f} | {given_up[name]:.2f} | {curves[name]} |")
    within = sum(value <= 0.2 for value in given_up.values())
    print(
        f"\nLeast margin {min(margins.values()):+.2f} dB, mean {np.mean(list(margins.values())):+.2f} dB; within"
        f" 0.2 dB of the own plan's best strength on {within} of {len(given_up)}."
    )


def amounts(plan: Plan) -> str:
    """The frames merged and the spatial amounts."""
    found = {step.kind: step.settings for step in plan.steps}
    if not found:
        return "nothing"
    merged = f"±{found['temporal']['frames']} frames, " if "temporal" in found else ""
    return f"{merged}{found['spatial']['luma']:.0f} / {found['spatial']['chroma']:.0f} %"


def stops() -> None:
    """The ladder's stop against the rung that is best by the truth, on clips that nothing was set on."""
    print("\n| clip | best rung by the truth | suggested | rungs apart | given up dB |")
    print("| --- | ---: | ---: | ---: | ---: |")
    near = 0
    for recording in HELD_BACK:
        clip = recording.clip()
        report = survey(clip)
        strengths = [rung.strength for rung in report.ladder]
        footage = Footage(clip)
        tried = [
            judged(clip, Pipeline(footage, _at(report, rung)).frame, JUDGED[1:2]).luma_db for rung in report.ladder
        ]
        stop = suggested_stop(report.ladder, "luma", slow=report.movement.slow).strength
        taken = int(np.argmin([abs(strength - stop) for strength in strengths]))
        best = int(np.argmax(tried))
        near += abs(best - taken) <= 1
        print(
            f"| {recording.name} | {strengths[best]:.0f} % | {stop:.0f} % | {abs(best - taken)} |"
            f" {tried[best] - tried[taken]:.2f} |",
            flush=True,
        )
    print(f"\nWithin one rung on {near} of {len(HELD_BACK)}.")


def _at(report: SurveyReport, rung: Rung) -> Plan:
    steps = noise_chain(
        report.media.frames, report.movement, rung.strength, rung.strength, difference=rung.difference,
        carried=report.profile.carried, gentle=rung.gentle,
    )  # fmt: skip
    return Plan(profile=report.profile, steps=steps)


def main() -> None:
    against_peers()
    stops()
