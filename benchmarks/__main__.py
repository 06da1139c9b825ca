"""Runs the benchmarks that are named, or all, and prints their tables."""

import sys

from . import (
    artifacts,
    borne_out,
    compressed,
    denoise,
    detail,
    farm,
    length,
    load,
    moved,
    overwork,
    quality,
    response,
    speed,
    strip,
    survey,
)

ALL = {
    "survey": survey,
    "denoise": denoise,
    "compressed": compressed,
    "quality": quality,
    "speed": speed,
    "overwork": overwork,
    "strip": strip,
    "response": response,
    "length": length,
    "artifacts": artifacts,
    "detail": detail,
    "moved": moved,
    "borne_out": borne_out,
    "farm": farm,
    "load": load,
}

if __name__ == "__main__":
    for name in sys.argv[1:] or ALL:
        ALL[name].main()
