"""Names of numbered image sequences."""

from __future__ import annotations

import itertools
import re
from pathlib import Path, PurePath

from ..errors import BadInput
from .boundary import checked_file

SEQUENCE_ENDINGS = {".png", ".tif", ".tiff", ".dpx", ".exr"}
MOST_DIGITS = 18
"""Of a frame number; longer ones are names."""

_HASHES = re.compile(r"#+|%0?(\d*)d")
_PATTERN_END = re.compile(r"[._-]*(#+|%0?\d*d|\[\d+-\d+\])$")
_LAST_NUMBER = re.compile(rf"(\d{{1,{MOST_DIGITS}}})(?=\.[A-Za-z]+$)")


def is_sequence_name(path: Path) -> bool:
    return path.suffix.lower() in SEQUENCE_ENDINGS


def is_sequence(path: Path) -> bool:
    """Whether a path is opened as numbered pictures: by its ending, or as a folder of them."""
    return is_sequence_name(path) or is_folder(path)


def is_folder(path: Path) -> bool:
    """Whether a folder is there; a path that cannot be one is none."""
    try:
        return path.is_dir()
    except (OSError, ValueError):
        return False


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


def plain_stem(path: PurePath) -> str:
    """A file's name without its ending and, of a sequence's pattern, without the place of its number."""
    return _PATTERN_END.sub("", path.stem) or path.stem


def number_of(file: Path) -> int:
    """The frame number in a member's name; 0 where there is none."""
    mark = _LAST_NUMBER.search(file.name)
    return int(mark[1]) if mark else 0


def shots_in(folder: Path) -> list[Path]:
    """What a folder holds, as paths that footage is opened by: files, and one pattern for each sequence."""
    patterns: dict[tuple[str, str], int] = {}
    others: list[Path] = []
    for file in sorted(folder.iterdir()):
        if not file.is_file() or file.name.startswith("."):
            continue
        mark = _LAST_NUMBER.search(file.name) if is_sequence_name(file) else None
        if mark:
            key = file.name[: mark.start()], file.name[mark.end() :]
            patterns[key] = min(len(mark[1]), patterns.get(key, len(mark[1])))
        else:
            others.append(file)
    sequences = [folder / f"{before}{'#' * digits}{after}" for (before, after), digits in patterns.items()]
    return sorted([*others, *sequences])


def sequence_files(path: Path) -> list[Path]:
    """The members in order. `path` is a pattern, a member, or a folder that holds one sequence."""
    if is_folder(path):
        members = sorted(p for p in path.iterdir() if is_sequence_name(p) and _LAST_NUMBER.search(p.name))
        if not members:
            raise BadInput(f"{path}: holds no numbered pictures (PNG, TIFF, DPX or EXR).")
        path = members[0]
    mark = _HASHES.search(path.name) or _LAST_NUMBER.search(path.name)
    if mark is None:
        return [checked_file(path)]
    before, after = path.name[: mark.start()], path.name[mark.end() :]
    shape = re.compile(re.escape(before) + rf"(\d{{1,{MOST_DIGITS}}})" + re.escape(after) + "$")
    folder = path.parent if is_folder(path.parent) else None
    found = [(m, p) for p in (folder.iterdir() if folder else ()) if (m := shape.match(p.name))]
    if not found:
        raise BadInput(f"{path}: no file of that sequence exists; check the path.")
    found.sort(key=lambda pair: (int(pair[0].group(1)), pair[1].name))
    files = [p for _, p in found]
    numbers = [int(m.group(1)) for m, _ in found]
    for (before_it, one), (number, other) in itertools.pairwise(zip(numbers, files, strict=True)):
        if number == before_it:
            raise BadInput(f"{path}: frame {number} is there twice ({one.name}, {other.name}); remove one.")
        if number > before_it + 1:
            missing = numbers[-1] - numbers[0] + 1 - len(numbers)
            raise BadInput(f"{path}: the sequence lacks frame {before_it + 1} ({missing} missing in all).")
    return files
