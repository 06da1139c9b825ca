"""Names of numbered image sequences."""

from __future__ import annotations

import re
from pathlib import Path

from ..errors import BadInput

SEQUENCE_ENDINGS = {".png", ".tif", ".tiff", ".dpx", ".exr"}
_HASHES = re.compile(r"#+|%0?(\d*)d")
_LAST_NUMBER = re.compile(r"(\d+)(?=\.[A-Za-z]+$)")


def is_sequence_name(path: Path) -> bool:
    return path.suffix.lower() in SEQUENCE_ENDINGS


def numbered_name(pattern: Path, number: int) -> Path:
    """The file of one number, from name_####.png, name_%04d.png or a member of the sequence."""
    mark = _HASHES.search(pattern.name)
    if mark:
        width = int(mark.group(1) or 1) if mark.group(0).startswith("%") else len(mark.group(0))
    else:
        mark = _LAST_NUMBER.search(pattern.name)
        if not mark:
            raise BadInput(f"{pattern}: holds no frame number; name a sequence as name_####{pattern.suffix}.")
        width = len(mark.group(1))
    name = f"{pattern.name[: mark.start()]}{number:0{width}d}{pattern.name[mark.end() :]}"
    return pattern.with_name(name)


def number_of(file: Path) -> int:
    """The frame number in a member's name; 0 where there is none."""
    mark = _LAST_NUMBER.search(file.name)
    return int(mark[1]) if mark else 0


def sequence_files(path: Path) -> list[Path]:
    """The members in order. `path` is a pattern, a member, or a folder that holds one sequence."""
    if path.is_dir():
        members = sorted(p for p in path.iterdir() if is_sequence_name(p) and _LAST_NUMBER.search(p.name))
        if not members:
            raise BadInput(f"{path}: holds no numbered pictures (PNG, TIFF, DPX or EXR).")
        path = members[0]
    mark = _HASHES.search(path.name) or _LAST_NUMBER.search(path.name)
    if mark is None:
        if not path.is_file():
            raise BadInput(f"{path}: does not exist; check the path.")
        return [path]
    before, after = path.name[: mark.start()], path.name[mark.end() :]
    shape = re.compile(re.escape(before) + r"(\d+)" + re.escape(after) + "$")
    folder = path.parent if path.parent.is_dir() else None
    found = [(m, p) for p in (folder.iterdir() if folder else ()) if (m := shape.match(p.name))]
    if not found:
        raise BadInput(f"{path}: no file of that sequence exists; check the path.")
    found.sort(key=lambda pair: int(pair[0].group(1)))
    numbers = [int(m.group(1)) for m, _ in found]
    missing = sorted(set(range(numbers[0], numbers[-1] + 1)) - set(numbers))
    if missing:
        raise BadInput(f"{path}: the sequence lacks frame {missing[0]} ({len(missing)} missing in all).")
    return [p for _, p in found]
