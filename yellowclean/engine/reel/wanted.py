"""How the shots of a job are to be written, and the room on disk that it takes."""

from __future__ import annotations

from typing import Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..errors import BadInput
from ..media import OUTPUT_FORMATS, MediaInfo
from ..media.dither import How
from ..media.formats import FINENESS, OutputFormat, output_format
from .naming import FIELDS, TEMPLATE, named

LOSSLESS = 0.8
"""Of its raw size what FFV1 leaves of a denoised picture, on the safe side."""

SPARE = 1.1

BYTES_A_PIXEL = {
    "ffv1": 4.8, "ffv1-source": 3.2, "prores-hq": 0.5, "prores-422": 0.35, "prores-lt": 0.25, "prores-proxy": 0.12,
    "prores-4444": 0.8, "prores-xq": 1.2, "dnxhr-hqx": 0.55, "dnxhr-444": 1.1, "h264": 0.3, "h264-8bit": 0.5,
    "av1": 0.2, "png": 5.5, "png-8bit": 2.6, "tiff": 6.0, "dpx": 4.0, "dpx-16bit": 6.0, "exr": 5.0, "exr-zip": 5.0,
    "exr-piz": 5.0, "exr-none": 6.0,
}  # fmt: skip
"""Of a written picture, on the safe side (measured on the demo's shots; raw ones are exact), until files of this
machine's own say more."""


class Wanted(BaseModel):
    """What is written of each shot: in which formats, under which names, with handles or without, and where."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    formats: list[str] = Field(["ffv1", "h264"], min_length=1, max_length=len(OUTPUT_FORMATS))
    template: str = TEMPLATE
    cut: bool = Field(False, description="Events at cut length, without their handles.")
    bake_look: bool = False
    dither: How = "moving"
    folder: str = Field("", description="One of the delivery folders; empty for the application's own.")

    @model_validator(mode="after")
    def _can_be_written(self) -> Self:
        for name in self.formats:
            output_format(name)
        if len(set(self.formats)) < len(self.formats):
            raise ValueError("a format is named twice")
        try:
            named(self.template, dict.fromkeys(FIELDS, "x") | {"event": 1})
        except BadInput as error:
            raise ValueError(str(error)) from error
        return self


def room_needed(fmt: OutputFormat, result: MediaInfo, frames: int, a_pixel: float | None = None) -> int:
    """Bytes that a result of so many frames takes while it is written: the file, and for video the lossless pieces
    that it is joined from. `a_pixel` is what files of that format were seen to take."""
    settled = fmt.for_source(result)
    pixels = result.width * result.height * frames
    file = pixels * (a_pixel or BYTES_A_PIXEL[fmt.name])
    samples = 1 + FINENESS[settled.chroma] / 2
    pieces = 0.0 if fmt.is_sequence else pixels * samples * (2 if settled.bits > 8 else 1) * LOSSLESS
    return round(SPARE * (file + pieces))
