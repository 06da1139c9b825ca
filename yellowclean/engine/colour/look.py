"""The look a shot will have: judged under it, measured without it.

A look changes the view and the scopes; the picture's own values, and all that is measured on them, stay. Its
parts are those of OpenColorIO, in this order: exposure, contrast about a pivot, ASC CDL, LUT, display.
"""

from __future__ import annotations

import hashlib
from functools import lru_cache
from pathlib import Path
from typing import Annotated

import numpy as np
import PyOpenColorIO as ocio
from pydantic import ConfigDict, Field

from ..bounded import Text
from ..errors import BadInput
from ..frames import CV_SCALE, Frame
from ..media.boundary import checked_document
from ..parallel import in_bands
from ..parameters import Parameters, quantity
from .curves import DISPLAY_POWER, bt709_encoded
from .encodings import Encoding, encoding_named
from .management import FAILURES, Managed, config_of, one_line, shown_space

MID_GREY_CV = float(np.rint(bt709_encoded(np.array(0.18)) * CV_SCALE))
"""18 % grey (common practice, no source) through the transfer of ITU-R BT.709-6 item 1.2."""

Triple = Annotated[tuple[float, ...], Field(min_length=3, max_length=3)]
"""One number for R', G' and B'."""


class Cdl(Parameters):
    """ASC CDL 1.2: (in · slope + offset)^power, then saturation about BT.709 luma, clamped to 0-1."""

    model_config = ConfigDict(allow_inf_nan=False)

    slope: Triple = (1, 1, 1)
    offset: Triple = (0, 0, 0)
    power: Triple = (1, 1, 1)
    saturation: float = quantity(
        1, "Saturation", "Of all colours, about their BT.709 luma.", unit="×", least=0, most=4, step=0.05
    )

    def transform(self) -> ocio.CDLTransform:
        made = ocio.CDLTransform()
        made.setSOP([*self.slope, *self.offset, *self.power])
        made.setSat(self.saturation)
        made.setStyle(ocio.CDL_ASC)
        return made


class Look(Parameters):
    """How a shot is shown. With colour management, exposure acts on scene-linear light, contrast, CDL and LUT in
    the configuration's space for grading; without it, all act on the picture's own values, and exposure as on a
    reference display (a stop of light is a factor of 2^(1/2.4) on its signal)."""

    model_config = ConfigDict(allow_inf_nan=False)

    exposure: float = quantity(0, "Exposure", "More or less light.", unit="stops", least=-6, most=6, step=0.1)
    contrast: float = quantity(1, "Contrast", "About the pivot.", unit="×", least=0.25, most=4, step=0.05)
    pivot: float = quantity(
        MID_GREY_CV, "Pivot", "The level that contrast leaves where it is.", unit="CV", least=0, most=1023, step=1
    )
    cdl: Cdl = Cdl()
    lut: Text = Field("", description="Path of a .cube file, 1D or 3D, or a .clf file.")
    managed: Managed | None = None

    def digest(self) -> str:
        """A hash of all that decides the look; a LUT's path names its content."""
        return "" if self.plain else hashlib.sha256(repr(self).encode()).hexdigest()[:16]

    @property
    def plain(self) -> bool:
        """Whether the picture is shown as it is."""
        return self == Look(pivot=self.pivot)

    def behind(self, source: str, result: str) -> Look:
        """The look for a picture that was converted between encodings: management begins at the new one."""
        if source == result or not self.managed:
            return self
        return self.model_copy(update={"managed": self.managed.model_copy(update={"input": result, "config": ""})})

    def leaves(self, encoding: Encoding) -> Encoding:
        """What values of an encoding stand for once the look is baked into them: what the view shows them in, or,
        by a LUT that nobody told the space of, nothing that a tag could name."""
        if self.managed:
            return encoding_named(shown_space(self.managed))
        return encoding_named("") if self.lut else encoding

    def check(self) -> None:
        """Raise `BadInput` where a file or a space is missing."""
        self.applied(np.zeros((1, 1, 3), np.float32))

    def applied(self, frame: Frame) -> Frame:
        """A picture under the look, H×W×3. Raises `BadInput` like `check`."""
        if self.plain:
            return frame
        processor = _processor(self)
        shown = np.array(frame, np.float32, order="C")
        in_bands(len(shown), lambda a, b: processor.applyRGB(shown[a:b]))
        return shown


PLAIN = Look()


@lru_cache(16)
def _processor(look: Look) -> ocio.CPUProcessor:
    config = config_of(look.managed)
    checked_document(look.lut)
    try:
        return config.getProcessor(_chain(look, config)).getDefaultCPUProcessor()
    except FAILURES as error:
        raise BadInput(f"the look cannot be shown: {one_line(error)}") from error


def _chain(look: Look, config: ocio.Config) -> ocio.GroupTransform:
    """The look's parts in their order."""
    chain = ocio.GroupTransform()
    grading = look.managed.grading_space(config) if look.managed else ""
    gain = 2.0 ** (look.exposure if look.managed else look.exposure / DISPLAY_POWER)
    if look.managed:
        chain.appendTransform(ocio.ColorSpaceTransform(look.managed.input, ocio.ROLE_SCENE_LINEAR))
    chain.appendTransform(_scaled(gain, 0))
    if look.managed:
        chain.appendTransform(ocio.ColorSpaceTransform(ocio.ROLE_SCENE_LINEAR, grading))
    chain.appendTransform(_scaled(look.contrast, look.pivot / CV_SCALE * (1 - look.contrast)))
    if look.cdl != Cdl():
        chain.appendTransform(look.cdl.transform())
    if look.lut:
        chain.appendTransform(ocio.FileTransform(look.lut, interpolation=ocio.INTERP_BEST))
    if look.managed:
        chain.appendTransform(ocio.DisplayViewTransform(grading, look.managed.display, look.managed.view))
    return chain


def _scaled(gain: float, offset: float) -> ocio.MatrixTransform:
    matrix = ocio.MatrixTransform()
    matrix.setMatrix((np.diag([gain] * 3 + [1.0])).ravel().tolist())
    matrix.setOffset([offset] * 3 + [0.0])
    return matrix


def lut_checked(path: Path) -> None:
    """Raise `BadInput` unless the file is a LUT that can be used."""
    try:
        Look(lut=str(path)).check()
    except BadInput as error:
        raise BadInput(f"{path.name} is no LUT that can be read (.cube, 1D or 3D, or .clf).") from error
