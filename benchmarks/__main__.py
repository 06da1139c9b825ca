"""Runs every benchmark and prints its table."""

from . import denoise

if __name__ == "__main__":
    denoise.main()
