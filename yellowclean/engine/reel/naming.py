"""Names of files by a template."""

from __future__ import annotations

import re
import string
from collections.abc import Mapping

from ..errors import BadInput

FIELDS = {
    "job": "the job's name",
    "shot": "the shot's name",
    "version": "the letter of the plan",
    "event": "the number of the event in its timeline",
    "reel": "the reel or file that it was taken from",
    "timecode": "the timecode of the first frame, without colons",
    "date": "the day, as in 2026-11-27",
    "format": "the short name of the format",
}
"""What a template may name, in braces."""

TEMPLATE = "{shot}_{version}"
LONGEST = 180
_WIDTH = re.compile(r"^(0?\d{1,2})?$")


def named(template: str, values: Mapping[str, object]) -> str:
    """A file's name without its ending. Values are made fit for names; a field may have a format, as in {event:03}.

    Raises `BadInput` for a template that names anything else, or makes no name.
    """
    plain = {key: _plain(value) for key, value in values.items()}
    try:
        parts = [part for part in string.Formatter().parse(template) if part[1] is not None]
    except ValueError as error:
        raise BadInput(f"{template}: is no template ({error}); use braces as in {TEMPLATE}.") from error
    for _, field, width, conversion in parts:
        if field not in FIELDS:
            raise BadInput(f"{template}: there is no field {{{field}}}; use {', '.join(FIELDS)}.")
        if conversion or not _WIDTH.match(width or ""):
            raise BadInput(f"{template}: behind the colon of {{{field}}} stand its digits, as in {{event:03}}.")
    name = template.format_map(plain).strip(" .")
    if not name or any(c in "/\\\0#%" or ord(c) < 32 for c in name) or len(name) > LONGEST:
        raise BadInput(
            f"{template}: makes no name for a file; leave out / \\ # and %, and keep it under {LONGEST} letters."
        )
    return name


def _plain(value: object) -> object:
    """A number as it is; text without what a path would be cut at."""
    if isinstance(value, int):
        return value
    return "".join("_" if c in '/\\:#%*?"<>|' or ord(c) < 32 else c for c in str(value)).strip(" .") or "_"
