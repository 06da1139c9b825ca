"""ASC CDL documents: .cdl, .cc and .ccc, read and written by OpenColorIO."""

from __future__ import annotations

from pathlib import Path

import PyOpenColorIO as ocio

from ..errors import BadInput
from ..media.boundary import checked_document
from .look import Cdl
from .management import FAILURES, one_line

FORMATS = {".cdl": "ColorDecisionList", ".cc": "ColorCorrection", ".ccc": "ColorCorrectionCollection"}
"""The library's names of the formats, by ending."""


def read_cdls(path: Path) -> dict[str, Cdl]:
    """The corrections of a document by their ids (numbers where they have none). Raises `BadInput`."""
    checked_document(path)
    try:
        if path.suffix.lower() == ".cc":
            found = [ocio.CDLTransform.CreateFromFile(str(path), "")]
        else:
            found = list(ocio.CDLTransform.CreateGroupFromFile(str(path)))
        return {cdl.getID() or str(k + 1): _cdl(cdl) for k, cdl in enumerate(found)}
    except (*FAILURES, ValueError) as error:
        raise BadInput(f"{path.name} is no ASC CDL document that can be read: {one_line(error)}") from error


def written_cdl(cdl: Cdl, ending: str, name: str) -> str:
    """A document of that ending with one correction under the id `name`. Raises `BadInput`."""
    if ending not in FORMATS:
        raise BadInput(f"{ending}: no format for a CDL; use one of {', '.join(FORMATS)}.")
    transform = cdl.transform()
    transform.setID(name)
    text: str = ocio.GroupTransform([transform]).write(FORMATS[ending], ocio.Config.CreateRaw())
    return text


def _cdl(found: ocio.CDLTransform) -> Cdl:
    return Cdl(
        slope=tuple(found.getSlope()), offset=tuple(found.getOffset()), power=tuple(found.getPower()),
        saturation=found.getSat(),
    )  # fmt: skip
