"""Conversion between colour spaces as footage needs it: video as a reference display shows it, diffuse white of SDR
where HDR has it, light of a scene through the reference OOTF; or as the configuration itself converts.

Sources: ITU-R BT.1886 (display of SDR), BT.2100-2 table 5 (HLG's OOTF, system gamma 1.2 at a peak of 1000 cd/m²),
BT.2408-5 table 1 and section 5.1 (203 cd/m² for diffuse white; SDR scaled in display light).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import numpy as np
import PyOpenColorIO as ocio

from ..frames import CV_SCALE, Array, Frame
from ..parallel import in_bands
from ..primaries import between
from .encodings import converted, linear_of, primaries_of
from .management import CAMERA_2020, DISPLAY_2020, builtin_config

PLACED, CONFIGURED = "shown", "configured"

HDR_WHITE = 203.0
"""cd/m² of diffuse white (BT.2408-5, table 1)."""

SCREEN_WHITE, HLG_PEAK, HLG_GAMMA = 100.0, 1000.0, 1.2
"""cd/m² that the configuration's display light counts as 1; peak and system gamma of HLG (BT.2100-2, table 5)."""

LIGHT_SHOWN, LIGHT_SEEN, WIDE = "CIE XYZ-D65 - Display-referred", "CIE XYZ-D65 - Scene-referred", "Linear Rec.2020"

SHOWN_AS = {
    "Camera Rec.709": "Rec.1886 Rec.709 - Display",
    "Gamma 2.4 Encoded Rec.709": "Rec.1886 Rec.709 - Display",
    CAMERA_2020: DISPLAY_2020,
    "sRGB Encoded Rec.709 (sRGB)": "sRGB - Display",
    "Gamma 2.2 Encoded Rec.709": "Gamma 2.2 Rec.709 - Display",
    "sRGB Encoded P3-D65": "Display P3 - Display",
}
"""Displays that show the values of a space as they are."""

ANY_LIGHT = "Linear Rec.709 (sRGB)"
"""For greys, which are the same in all primaries."""

Kind = Literal["scene", "video", "hdr", "other"]
_KINDS: dict[str, Kind] = {"scene-linear": "scene", "log": "scene", "sdr-video": "video", "hdr-video": "hdr"}


@dataclass(frozen=True, slots=True)
class Conversion:
    """From one space to another. `white` is where diffuse white of SDR and of scenes lies in HDR, in cd/m²;
    `adaptation` a key of `primaries.METHODS`, used where the primaries of both are known, or `CONFIGURED`."""

    source: str
    target: str
    rendering: str = PLACED
    white: float = HDR_WHITE
    adaptation: str = CONFIGURED

    def applied(self, frame: Frame) -> Frame:
        """A picture, H×W×3, in the target's values."""
        if self.source == self.target:
            return frame
        processor = _processor(self)
        shown = np.array(frame, np.float32, order="C")
        in_bands(len(shown), lambda a, b: processor.applyRGB(shown[a:b]))
        return shown

    def told(self) -> list[str]:
        """The numbers it goes by, in words."""
        if self.source == self.target:
            return ["The values already are in it: nothing changes."]
        lines = [self._way(), self._levels(), self._mixing()]
        if self.adaptation != CONFIGURED and not self._adapts:
            lines.append(f"Primaries are not known here: {self.adaptation} does not act.")
        return [line for line in lines if line]

    @property
    def _adapts(self) -> bool:
        """Whether the white is adapted by a method of one's own: where primaries are not known, it cannot be."""
        known = primaries_of(self.source) and primaries_of(self.target)
        return self.adaptation != CONFIGURED and bool(known)

    def _way(self) -> str:
        way = _way(self)
        if self._adapts:
            return f"In linear light, white adapted by {self.adaptation}."
        if way == "configured":
            both_shown = {kind_of(self.source), kind_of(self.target)} == {"hdr"}
            return f"In {'display' if both_shown else 'linear'} light, as the configuration converts."
        if way == "shown":
            shown, target = shown_as(self.source), shown_as(self.target)
            return (
                f"Values stay: {target} shows them." if shown == target else f"As {shown} shows it, for {target}."
            )
        if way in {"into hdr", "out of hdr"}:
            return f"In display light: white of SDR lies at {self.white:g} cd/m²."
        return (
            f"Through the OOTF of BT.2100 (system gamma {HLG_GAMMA:g}, peak {HLG_PEAK:g} cd/m²), diffuse white at"
            f" {self.white:g} cd/m²."
        )

    def _levels(self) -> str:
        """Where white and grey go, in CV."""
        levels = {"white": 1.0, "18 % grey": 0.18}
        linear = ANY_LIGHT
        if kind_of(self.source) == "hdr":
            levels, linear = {f"{HDR_WHITE:g} cd/m²": HDR_WHITE / SCREEN_WHITE}, LIGHT_SHOWN
        elif _is_display(self.source):
            levels = {"white": 1.0}
        parts = []
        for name, light in levels.items():
            neutral = _neutral(linear) * np.float32(light)
            before = converted(neutral, linear, self.source)
            after = self.applied(before)
            parts.append(f"{name} {before[0, 0, 1] * CV_SCALE:.1f} → {after[0, 0, 1] * CV_SCALE:.1f} CV")
        return f"Levels: {', '.join(parts)}."

    def _mixing(self) -> str:
        """The matrix of linear light, where primaries are known and differ."""
        lights = linear_of(self.source), linear_of(self.target)
        if None in lights or primaries_of(self.source) == primaries_of(self.target):
            return ""
        if not self._adapts:
            matrix = converted(np.eye(3, dtype=np.float32)[None], str(lights[0]), str(lights[1]))[0].T
        else:
            matrix = self._adapting()
        rows = "; ".join(" ".join(f"{value:.4f}" for value in row) for row in matrix)
        return f"Matrix of linear light: {rows}."

    def _adapting(self) -> Array:
        return between(primaries_of(self.source), primaries_of(self.target), self.adaptation)


def kind_of(space: str) -> Kind:
    """What the values of a space are: light of a scene (linear or log), video, HDR video, or none of them."""
    return _KINDS.get(builtin_config().getColorSpace(space).getEncoding(), "other")


def held(space: str) -> bool:
    """Whether the values of a space end at 0 and 1, as those of video do."""
    return kind_of(space) in {"video", "hdr"}


def shown_as(space: str) -> str:
    """The display that shows the values of a video space as they are."""
    return SHOWN_AS.get(space, space)


Way = Literal["configured", "shown", "into hdr", "out of hdr", "seen in hdr", "seen out of hdr"]


def _way(c: Conversion) -> Way:
    kinds = kind_of(c.source), kind_of(c.target)
    if c.rendering == CONFIGURED or c._adapts:
        return "configured"
    ways: dict[tuple[Kind, Kind], Way] = {
        ("video", "hdr"): "into hdr",
        ("hdr", "video"): "out of hdr",
        ("scene", "hdr"): "seen in hdr",
        ("hdr", "scene"): "seen out of hdr",
    }
    if kinds == ("video", "video") and (_is_display(c.source) or _is_display(c.target)):
        return "shown"
    return ways.get(kinds, "configured")


def _is_display(space: str) -> bool:
    found = builtin_config().getColorSpace(space).getReferenceSpaceType()
    return bool(found == ocio.REFERENCE_SPACE_DISPLAY)


def _neutral(linear: str) -> Frame:
    """Light of white in a linear space: what is equal in R, G and B, or D65 in XYZ."""
    if linear == LIGHT_SHOWN:
        return converted(np.ones((1, 1, 3), np.float32), WIDE, LIGHT_SEEN)
    return np.ones((1, 1, 3), np.float32)


@lru_cache(32)
def _processor(c: Conversion) -> ocio.CPUProcessor:
    return builtin_config().getProcessor(ocio.GroupTransform(_chain(c))).getDefaultCPUProcessor()


def _chain(c: Conversion) -> list[ocio.Transform]:
    own = ocio.ColorSpaceTransform
    if c._adapts:
        matrix = np.eye(4)
        matrix[:3, :3] = c._adapting()
        return [
            own(c.source, linear_of(c.source)),
            ocio.MatrixTransform(matrix.ravel().tolist()),
            own(linear_of(c.target), c.target),
        ]
    match _way(c):
        case "shown":
            return [own(shown_as(c.source), shown_as(c.target))]
        case "into hdr":
            gain = _gain(c.white / SCREEN_WHITE)
            return [own(shown_as(c.source), LIGHT_SHOWN), gain, own(LIGHT_SHOWN, c.target)]
        case "out of hdr":
            gain = _gain(SCREEN_WHITE / c.white)
            return [own(c.source, LIGHT_SHOWN), gain, own(LIGHT_SHOWN, shown_as(c.target))]
        case "seen in hdr":
            return [own(c.source, WIDE), *_rendered(c.white), own(LIGHT_SHOWN, c.target)]
        case "seen out of hdr":
            back = ocio.GroupTransform(_rendered(c.white), direction=ocio.TRANSFORM_DIR_INVERSE)
            return [own(c.source, LIGHT_SHOWN), back, own(WIDE, c.target)]
        case _:
            return [own(c.source, c.target)]


def _rendered(white: float) -> list[ocio.Transform]:
    """Light of a scene in BT.2020 primaries, diffuse white 1, to display light (BT.2100-2, table 5, OOTF)."""
    scene_white = (white / HLG_PEAK) ** (1 / HLG_GAMMA)
    return [
        _gain(scene_white),
        ocio.FixedFunctionTransform(ocio.FIXED_FUNCTION_REC2100_SURROUND, [HLG_GAMMA]),
        _gain(HLG_PEAK / SCREEN_WHITE),
        ocio.ColorSpaceTransform(WIDE, LIGHT_SEEN),
    ]


def _gain(by: float) -> ocio.MatrixTransform:
    return ocio.MatrixTransform(np.diag([by, by, by, 1.0]).ravel().tolist())
