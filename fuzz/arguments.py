"""Wild arguments of the command line."""

from __future__ import annotations

from pathlib import Path

from .mutate import Random

ENDINGS = ".mkv", ".mov", ".mp4", "_####.png", "_####.exr", "_####.dpx", "_####.tif"
_LONG = "9" * 30
_NUMBERS = "0", "-1", "1", "1e300", "nan", "inf", "-inf", _LONG, "", " ", "½", "0x10", "1e-9", "16000"
_RANGES = "0:2", ":", "5:1", "-1:2", f"0:{_LONG}", f"{_LONG}:", "2:2", "a:b", "0:0", "9" * 5000 + ":"
_SIZES = (
    "1x1",
    "0x0",
    "3x5",
    "1000000x1000000",
    "16000x16000",
    f"{_LONG}x2",
    "-1x2",
    "64x1",
    "nan",
    "1e300",
    "0.0001",
)
_SPACES = "", " ", "nope", "ACEScg", "BT.709", "x" * 5000, "\udcff", "a\nb", "../x"
_PATHS = (
    "", ".", "/", "nope", "/dev/null", "/dev/zero", "/proc/self/mem", "/dev/stdin", "x" * 5000, "a/" * 2000,
    "\udcff.mkv", "~nobody/x", "https://x", "concat:a", "pipe:0",
)  # fmt: skip
_OUTPUTS = (
    "", ".", "./", "nope/x.mkv", "x" * 5000, "a/" * 2000, "\udcff.mkv", "a\nb.mkv", "x.mkv/y", "-", "x_####.mkv",
    "x.png", "%s%n.mkv",
)  # fmt: skip
"""No place outside the folder in which this runs: what an argument names is written."""

_WORDS = "ffv1", "exr", "nope", "auto", "moving", "still", ""
_LIGHTS = "nan,1,1", "0,0,0", "1e300,1,1", "9" * 400 + ",1,1"
_SMALL = "1x1", "0x0", "3x5", "999999x999999"
_COUNTS = "0", "-1", "1", "nan"


def wild(shown: str, profile: str, render: list[str], folder: Path, random: Random) -> list[str]:
    """One command with one to three arguments that are out of all bounds."""

    def of(words: tuple[str, ...]) -> str:
        return words[random.integers(len(words))]

    shoot = ["testcamera", "figurehead", "--out", str(folder / "t"), "--size", "16x12", "--frames", "1"]
    verbs: list[tuple[list[str], dict[str, tuple[str, ...]]]] = [
        (
            ["measure", shown],
            {"--frames": _RANGES, "--patch": _patches(random), "--profile-out": _OUTPUTS, "--from": _SPACES},
        ),
        (
            ["propose", shown, "--out", str(folder / "p.json")],
            {"--profile": (*_PATHS, profile), "--out": _OUTPUTS, "--scale": _SIZES, "--to": _SPACES,
             "--from": _SPACES},
        ),
        (
            render,
            {"--frames": _RANGES, "--format": _WORDS, "--report": _OUTPUTS, "--dither": _WORDS, "--plan": _PATHS,
             "--out": _OUTPUTS, "--from": _SPACES},
        ),
        (["compare", shown, shown], {"--json": ("1",)}),
        (
            shoot,
            {"--stops": _NUMBERS, "--seed": _NUMBERS, "--light": _LIGHTS, "--bit-rate": _NUMBERS, "--size": _SMALL,
             "--frames": _COUNTS, "--codec": _WORDS, "--out": _OUTPUTS},
        ),
    ]  # fmt: skip
    chosen, options = verbs[random.integers(len(verbs))]
    words = list(chosen)
    if random.random() < 0.2:
        words[1] = of(_WORDS if chosen is shoot else _PATHS)
    for _ in range(int(random.integers(1, 4))):
        name = of(tuple(options))
        words.append(f"{name}={of(options[name])}")
    return words


def _patches(random: Random) -> tuple[str, ...]:
    number = str(10 ** int(random.integers(0, 30)))
    return f"0,0,{number},{number}@0", f"0,0,8,8@{number}", "0,0,1,1@0", f"{number},0,8,8@0", "a", "0,0,0,0@0"
