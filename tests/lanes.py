"""Runs the whole suite in lanes side by side, each with data of its own: `python -m tests.lanes`.

The engine's tests need no database, the browser's wait for pictures most of the time: slow tests of the one fill
the waiting of the other. Further arguments go to the test runner.
"""

from __future__ import annotations

import re
import subprocess
import sys
import threading
import time
from pathlib import Path

ENGINE = sorted(f"tests.engine.{file.stem}" for file in (Path(__file__).parent / "engine").glob("test_*.py"))
LONG = [
    f"tests.engine.test_{name}"
    for name in [
        "compressed",
        "compression",
        "enlarge",
        "flicker",
        "formats",
        "hard_light",
        "sharpen",
        "specks",
        "tags",
    ]
]
"""Modules of the engine's tests that fill the shorter lane of the server's, so that all take about as long."""

LANES = {
    "engine": [
        *(name for name in ENGINE if name not in LONG),
        "tests.test_cli",
        "tests.test_cli_job",
        "tests.test_notices",
    ],
    "server": ["tests.server", *LONG],
    "browser": ["tests.browser"],
}
RAN = re.compile(r"^Ran (\d+) tests? in ", re.MULTILINE)
WRONG = re.compile(r"(?:failures|errors)=(\d+)")


def main() -> int:
    started = time.monotonic()
    outputs: dict[str, str] = {}
    threads = [threading.Thread(target=_lane, args=(name, outputs, started)) for name in LANES]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    ran = sum(int(count) for text in outputs.values() for count in RAN.findall(text))
    wrong = sum(int(count) for text in outputs.values() for count in WRONG.findall(text.rsplit("Ran ", 1)[-1]))
    complete = all(RAN.search(text) for text in outputs.values())
    print(f"{ran - wrong} passed, {wrong if complete else max(wrong, 1)} failed")
    return 0 if complete and not wrong and ran else 1


def _lane(name: str, outputs: dict[str, str], started: float) -> None:
    """Run one lane and print all that it says when it is done."""
    command = [sys.executable, "manage.py", "test", "--settings", "tests.settings", *LANES[name], *sys.argv[1:]]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    text = done.stdout + done.stderr
    outputs[name] = text if done.returncode in {0, 1} else ""
    print(f"--- {name}, {time.monotonic() - started:.0f} s\n{text}", flush=True)


if __name__ == "__main__":
    sys.exit(main())
