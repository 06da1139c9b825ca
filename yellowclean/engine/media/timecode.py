"""Timecode arithmetic after SMPTE ST 12-1: frame counts, with drop-frame for 29.97 and 59.94."""

from __future__ import annotations

import re
from fractions import Fraction

from ..errors import BadInput

_SHAPE = re.compile(r"^(\d\d):(\d\d):(\d\d)([:;.])(\d\d)$")


def shifted(timecode: str, frames: int, rate: Fraction) -> str:
    """The timecode `frames` later; text that is no timecode comes back as it is."""
    match = _SHAPE.match(timecode)
    if not match:
        return timecode
    base, dropped = _counting(match, rate)
    number = _number(match, base, dropped) + frames
    if dropped:
        per_minute, per_ten = base * 60 - dropped, base * 600 - 9 * dropped
        tens, rest = divmod(number, per_ten)
        number += dropped * 9 * tens + (dropped * ((rest - dropped) // per_minute) if rest > dropped else 0)
    seconds, count = divmod(number, base)
    minutes, seconds = divmod(seconds, 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours % 24:02}:{minutes:02}:{seconds:02}{match.group(4)}{count:02}"


def doubled(timecode: str, rate: Fraction) -> str:
    """The same time counted at twice the rate; text that is no timecode comes back as it is."""
    number = number_of(timecode, rate)
    return timecode if number is None else shifted(re.sub(r"\d", "0", timecode), 2 * number, 2 * rate)


def frames_between(start: str, timecode: str, rate: Fraction) -> int:
    """How many frames a timecode lies after the start, both counted as the start is. Raises `BadInput` for text
    that is no timecode of that rate."""
    first, match = _SHAPE.match(start), _SHAPE.match(timecode.strip())
    if not first or not match:
        raise BadInput(f"{timecode}: is no timecode; write hours:minutes:seconds:frames, as in 01:00:10:12.")
    base, dropped = _counting(first, rate)
    if int(match.group(5)) >= base or int(match.group(2)) > 59 or int(match.group(3)) > 59:
        raise BadInput(f"{timecode}: there is no such timecode at {base} frames a second.")
    return _number(match, base, dropped) - _number(first, base, dropped)


def number_of(timecode: str, rate: Fraction) -> int | None:
    """The number that a timecode stands for, in frames since midnight; None for text that is no timecode."""
    match = _SHAPE.match(timecode)
    return _number(match, *_counting(match, rate)) if match else None


def _counting(match: re.Match[str], rate: Fraction) -> tuple[int, int]:
    """Frames that a second counts, and frame numbers that a minute drops."""
    base = round(rate)
    return base, round(base / 15) if match.group(4) in ";." else 0


def _number(match: re.Match[str], base: int, dropped: int) -> int:
    """The number of a timecode's frame since midnight."""
    hours, minutes, seconds, count = (int(match.group(k)) for k in (1, 2, 3, 5))
    total_minutes = hours * 60 + minutes
    return (total_minutes * 60 + seconds) * base + count - dropped * (total_minutes - total_minutes // 10)


def packed(timecode: str) -> int | None:
    """The timecode as the 32 bits of SMPTE ST 12-1 that pictures keep: BCD of frames, seconds, minutes and hours
    from the lowest byte up, bit 6 for drop-frame. None for what it cannot hold."""
    match = _SHAPE.match(timecode)
    if not match:
        return None
    hours, minutes, seconds, count = (int(match.group(k)) for k in (1, 2, 3, 5))
    if count > 39:
        return None
    bits = 0
    for value in (hours, minutes, seconds, count):
        bits = bits << 8 | value // 10 << 4 | value % 10
    return bits | (0x40 if match.group(4) in ";." else 0)


def unpacked(bits: int) -> str:
    """The way back from `packed`."""
    hours, minutes, seconds, count = (
        (bits >> shift & mask) for shift, mask in ((24, 0x3F), (16, 0x7F), (8, 0x7F), (0, 0x3F))
    )
    told = [f"{(value >> 4) * 10 + (value & 15):02}" for value in (hours, minutes, seconds, count)]
    return ":".join(told[:3]) + (";" if bits & 0x40 else ":") + told[3]


LEAST_RATE, MOST_RATE = Fraction(1, 100), Fraction(100_000)
"""Frames a second that footage can have; what else a header says is damage."""


def believed(rate: Fraction) -> bool:
    """Whether footage can have that rate."""
    return LEAST_RATE <= rate <= MOST_RATE


def exact(rate: float) -> Fraction:
    """Frames a second as a fraction: 23.98 or 29.97 stand for 24000/1001 and 30000/1001 (SMPTE ST 12-1)."""
    near = max(round(rate), 1)
    if abs(rate - near) < 1e-3:
        return Fraction(near)
    if abs(rate - near / 1.001) < 6e-3:
        return Fraction(near * 1000, 1001)
    return Fraction(rate).limit_denominator(1001)
