"""How a merge over time is set for a shot's motion."""

from __future__ import annotations

from ..motion import STANDS, Movement

FRAMES_FOR_MOTION = ((1.0, 5), (8.0, 3), (36.0, 2))
"""Motion between frames in pixels up to which so many neighbours on each side still bring something (set on
test-camera clips); beyond the last, one."""

LEAST_SEARCH, MOST_SEARCH = 32, 128

FRAMES_STANDING = 5
"""Neighbours each side of a standing shot: what moves in it drops out by itself."""

FRAMES_CARRIED = 5
"""Neighbours each side where a codec carries noise along and the picture moves slowly: the nearest share it and
bring less (set on test-camera clips, where it is worth 0.1 to 0.4 dB)."""

GENTLE = 80.0
"""Percent of the merge that is used where a codec coded fast motion: each frame then holds some detail of its own
(set on the basin at 12 Mbit/s)."""


def frames_each_side(movement: Movement, *, carried: bool = False) -> int:
    if movement.standing >= STANDS:
        return FRAMES_STANDING
    if carried and movement.slow:
        return FRAMES_CARRIED
    return next((count for limit, count in FRAMES_FOR_MOTION if movement.px <= limit), 1)


def merge_settings(
    movement: Movement,
    *,
    luma: bool,
    chroma: bool,
    difference: float = 1,
    carried: bool = False,
    gentle: bool = False,
) -> dict[str, float]:
    """Settings of the temporal step."""
    share = GENTLE if gentle else 100.0
    return {
        "frames": frames_each_side(movement, carried=carried),
        "search": min(max(LEAST_SEARCH, 8 * round(movement.px * 2.5 / 8)), MOST_SEARCH),
        "luma": share if luma else 0.0,
        "chroma": share if chroma else 0.0,
        "difference": difference,
    }
