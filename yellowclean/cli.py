"""The command line: measure, propose, render, compare, testcamera. Exit 0 when done, 2 on bad input.

What it can do is told here, before the engine is loaded, which takes seconds; `cli_verbs` does it."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence

PROGRAM, ABOUT = "yellow-clean", (__doc__ or "").split("\n\n")[0]

VERBS = {
    "measure": "Measure the noise of a shot: a video file, name_####.png, or a folder.",
    "propose": "Propose the least treatment for a shot.",
    "render": "Render a plan into a file or a sequence.",
    "worker": "Join a farm: compute for the scheduler that YELLOW_CLEAN_SCHEDULER names.",
    "treatments": "Print every treatment with its settings as one JSON document.",
    "compare": "Compare clip B with the reference A, frame by frame.",
    "job": "A whole reel: import, measure, propose, render, note.",
    "testcamera": "Shoot a scene with the test camera: footage, truth, parameters.",
}


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one verb; the exit code."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    if given in (["-h"], ["--help"]):
        overview().parse_args(given)  # prints, and ends

    from .cli_verbs import run  # noqa: PLC0415, see above

    return run(given)


def overview() -> argparse.ArgumentParser:
    """The verbs, without what each of them takes."""
    parser = argparse.ArgumentParser(prog=PROGRAM, description=ABOUT)
    verbs = parser.add_subparsers(required=True, metavar="VERB")
    for name, text in VERBS.items():
        verbs.add_parser(name, help=text)
    return parser


if __name__ == "__main__":
    sys.exit(main())
