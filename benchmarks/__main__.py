"""Runs the benchmarks that are named (denoise, survey), or all, and prints their tables."""

import sys

from . import denoise, survey

if __name__ == "__main__":
    chosen = sys.argv[1:] or ["survey", "denoise"]
    for name in chosen:
        {"denoise": denoise, "survey": survey}[name].main()
