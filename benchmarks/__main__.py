"""Runs the benchmarks that are named (survey, denoise, quality, speed), or all, and prints their tables."""

import sys

from . import denoise, quality, speed, survey

ALL = {"survey": survey, "denoise": denoise, "quality": quality, "speed": speed}

if __name__ == "__main__":
    for name in sys.argv[1:] or ALL:
        ALL[name].main()
