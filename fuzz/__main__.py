"""Attacks; exit 1 where anything broke. media: damaged media, documents and arguments on the command line. kills:
processes killed in mid-work. disk: a disk that is full in mid-work. The one on the API is a test, `test_fuzz`."""

from __future__ import annotations

import argparse
import contextlib
import io
import itertools
import sys
import tempfile
import time
from pathlib import Path

from . import attempt, hardship, specimens, watch


def media(options: argparse.Namespace) -> bool:
    """Damaged media, documents and arguments on the command line; whether none broke it."""
    with tempfile.TemporaryDirectory(prefix="yellow-clean-specimens-") as folder:
        with contextlib.redirect_stdout(io.StringIO()):
            specimens.make(Path(folder))
        if options.only is not None:
            place = Path("build/fuzz", str(options.only)).resolve()
            place.mkdir(parents=True, exist_ok=True)
            print(attempt.prepared(Path(folder), options.seed, options.only, place))
            print(attempt.attempt(Path(folder), options.seed, options.only, place))
            return True
        numbers = itertools.islice(itertools.count(options.first), options.mutants)
        until = time.monotonic() + 60 * options.minutes
        counts = watch.tally(
            watch.outcomes(Path(folder), options.seed, numbers, until), Path("build/fuzz/media.txt")
        )
    tried = sum(counts.values())
    kinds = ("done", "refused", "crashed", "hung", "traceback", "noise")
    print(f"media: {tried} tried, " + ", ".join(f"{counts[kind]} {kind}" for kind in kinds))
    return counts["done"] + counts["refused"] == tried


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m fuzz", description=__doc__)
    parser.add_argument("side", choices=("media", "kills", "disk"))
    parser.add_argument("--minutes", type=float, default=5)
    parser.add_argument("--mutants", type=int, default=10**9)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--first", type=int, default=0, help="number of the first mutant")
    parser.add_argument("--only", type=int, metavar="N", help="make this mutant, keep it, run it here")
    parser.add_argument("--rounds", type=int, default=10, help="kills, or times that the disk is full")
    options = parser.parse_args()
    if options.side == "media":
        return 0 if media(options) else 1
    attack = hardship.kills if options.side == "kills" else hardship.full_disk
    return 0 if attack(options.rounds, options.seed) else 1


if __name__ == "__main__":
    sys.exit(main())
