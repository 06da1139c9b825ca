"""Formats: what a frame is at a place of a plan.

Every format of a plan holds the whole picture, so sizes alone say how the pixels of one map to those of another:
x of the one is x × width of the other / own width, in whole numbers, without rounding that could drift.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction

from .colour.encodings import Encoding
from .colour.input_space import encoding_of
from .frames import Region
from .media.info import MediaInfo, checked_size


@dataclass(frozen=True, slots=True)
class Format:
    """Size in pixels, width of a pixel over its height, what the values stand for, and the range of codes in which
    they are kept where they are written as codes."""

    width: int
    height: int
    pixel_aspect: Fraction
    encoding: Encoding
    full_range: bool
    range_chosen: bool = False
    """Whether files are to keep this range, whatever is usual in theirs."""

    @staticmethod
    def of(info: MediaInfo) -> Format:
        """The format of a source's frames."""
        aspect = Fraction(info.pixel_aspect)
        return Format(info.width, info.height, aspect, encoding_of(info), info.range == "full")

    @property
    def whole(self) -> Region:
        return Region(0, 0, self.width, self.height)

    def resized(self, width: int, height: int) -> Format:
        """The same picture in another number of pixels. Raises `BadInput` for a size that no frame can have."""
        checked_size("the plan's result", width, height)
        aspect = self.pixel_aspect * Fraction(self.width * height, width * self.height)
        return replace(self, width=width, height=height, pixel_aspect=aspect)

    def converted(self, encoding: Encoding) -> Format:
        """The same pixels with values that stand for something else."""
        return replace(self, encoding=encoding)

    def per_pixel_of(self, other: Format) -> tuple[float, float]:
        """Pixels of this format to one of another, across and down."""
        return self.width / other.width, self.height / other.height

    def covering(self, region: Region, other: Format) -> Region:
        """The smallest region of this format that covers a region of another; it may reach beyond the frame as far
        as that one does."""
        x, right = _covering(region.x, region.right, self.width, other.width)
        y, bottom = _covering(region.y, region.bottom, self.height, other.height)
        return Region(x, y, right - x, bottom - y)

    def beside(self, source: Format) -> str:
        """In words what of it is other than in the source; empty where nothing is."""
        size = (
            f"{self.width}×{self.height} px" if (self.width, self.height) != (source.width, source.height) else ""
        )
        space = self.encoding.space if self.encoding.space != source.encoding.space else ""
        return ", ".join(part for part in (size, space) if part)

    def told(self, info: MediaInfo) -> MediaInfo:
        """What files of this format say, where the source's say `info`."""
        if self == Format.of(info) and not info.space:
            return info
        encoding = self.encoding
        return info.model_copy(
            update={
                "width": self.width,
                "height": self.height,
                "pixel_aspect": str(self.pixel_aspect),
                "primaries": encoding.primaries,
                "transfer": encoding.transfer,
                "matrix": encoding.matrix,
                "range": "full" if self.full_range else "limited",
                "range_chosen": self.range_chosen,
                "resampled": self != Format.of(info),
                "space": "",
            }
        )


def _covering(first: int, end: int, own: int, other: int) -> tuple[int, int]:
    return first * own // other, -(-end * own // other)
