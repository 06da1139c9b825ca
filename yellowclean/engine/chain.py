"""The noise chain of a shot: which steps, and what its motion decides in them."""

from __future__ import annotations

from .motion import Movement
from .plan import Step
from .reach.model import Reach
from .treat.merging import merge_settings
from .treat.spatial import spatial_settings


def noise_chain(
    frames: int, movement: Movement, luma: float, chroma: float, reach: Reach | None = None, *,
    difference: float = 1, carried: bool = False, gentle: bool = False,
) -> list[Step]:  # fmt: skip
    """Steps that take so many percent of the measured noise from a shot of `frames` frames; the merge over
    time, which costs no detail, is always full where it is used at all. `difference` is how far a neighbour may
    differ, in sigmas; `carried` tells that a codec carries noise from frame to frame, `gentle` that it took
    detail with it from motion that is fast."""
    where = reach or Reach()
    spatial = Step(kind="spatial", settings=spatial_settings(luma, chroma, gentle=gentle), reach=where)
    if frames == 1:
        return [spatial]
    settings = merge_settings(
        movement, luma=luma > 0, chroma=chroma > 0, difference=difference, carried=carried, gentle=gentle
    )
    return [Step(kind="temporal", settings=settings, reach=where), spatial]
