"""How arguments of the command line are read: each takes its text, and raises `ArgumentTypeError` for nonsense."""

from __future__ import annotations

import argparse
import re
from collections.abc import Callable
from typing import Any

from .engine.measure.patch import Patch

BRIGHTEST = 1000.0
"""Times the light of a scene."""

_PATCH = re.compile(r"^(\d+),(\d+),(\d+),(\d+)@(\d+)$")
_RANGE = re.compile(r"^(\d*):(\d*)$")
_LIGHT = re.compile(r"^(\d+\.?\d*),(\d+\.?\d*),(\d+\.?\d*)$")
_SIZE = re.compile(r"^(\d+)[x×](\d+)$")


def patch(text: str) -> Patch:
    match = _PATCH.match(text)
    if not match or not (int(match[3]) and int(match[4])):
        raise argparse.ArgumentTypeError(f"{text!r} is not X,Y,W,H@FRAME, for example 600,80,64,64@12")
    x, y, width, height, frame = (int(v) for v in match.groups())
    return Patch(x=x, y=y, width=width, height=height, frame=frame)


def frame_range(text: str) -> tuple[int | None, int | None]:
    match = _RANGE.match(text)
    if not match:
        raise argparse.ArgumentTypeError(f"{text!r} is not A:B, for example 0:24")
    return tuple(int(part) if part else None for part in match.groups())  # type: ignore[return-value]


def size(text: str) -> tuple[int, int]:
    match = _SIZE.match(text)
    if not match:
        raise argparse.ArgumentTypeError(f"{text!r} is not WxH, for example 1280x720")
    return int(match[1]), int(match[2])


def between(low: float, high: float, kind: type = float) -> Callable[[str], Any]:
    """A number of an argument, and where it may lie."""

    def number(text: str) -> Any:
        try:
            value = kind(text)
        except ValueError:
            value = None
        if value is None or not low <= value <= high:
            raise argparse.ArgumentTypeError(f"{text!r} is not a number from {low:g} to {high:g}")
        return value

    return number


def light(text: str) -> tuple[float, float, float]:
    match = _LIGHT.match(text)
    if not match or max(float(part) for part in match.groups()) > BRIGHTEST:
        raise argparse.ArgumentTypeError(f"{text!r} is not R,G,B, for example 0,1,0")
    return float(match[1]), float(match[2]), float(match[3])


def scale(text: str) -> float | tuple[int, int]:
    if _SIZE.match(text):
        return size(text)
    try:
        return float(text)
    except ValueError:
        raise argparse.ArgumentTypeError(
            f"{text!r} is neither a factor nor WxH, for example 2 or 1920x1080"
        ) from None
