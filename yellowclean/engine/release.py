"""What computes: the engine's own text and the libraries beneath it. Equal releases give equal pictures."""

from __future__ import annotations

import hashlib
import platform
from functools import cache
from importlib.metadata import version
from pathlib import Path

LIBRARIES = ("numpy", "opencv-python-headless", "numba", "scipy", "av", "OpenImageIO", "opencolorio")


@cache
def engine_digest() -> str:
    """A hash of the engine's own text, and of what it learned."""
    own = (path for path in Path(__file__).parent.rglob("*") if path.suffix in {".py", ".onnx"})
    return hashlib.sha256(b"".join(path.read_bytes() for path in sorted(own))).hexdigest()


@cache
def release() -> dict[str, str]:
    """Versions by name: of the program, of its engine's text, of Python and of the libraries that make pictures."""
    return {
        "yellow-clean": version("yellow-clean"),
        "engine": engine_digest()[:12],
        "Python": ".".join(platform.python_version_tuple()[:2]),
        **{name: version(name) for name in LIBRARIES},
    }


def differences(here: dict[str, str], there: dict[str, str]) -> str:
    """What differs between two releases, in words; empty where nothing does."""
    names = [*here, *(name for name in there if name not in here)]
    told = [
        f"{name} {there.get(name, 'is missing')} there, {here.get(name, 'missing')} here"
        for name in names
        if here.get(name) != there.get(name)
    ]
    return "; ".join(told)
