"""Conversion between colour encodings through OpenColorIO."""

from __future__ import annotations

from ..colour.encodings import checked_space, converted, encoding_named, spaces_known
from ..format import Format
from ..parameters import Parameters, choice
from .base import Around, Need, Picture, Treatment, Window
from .case import Case, Proposal

AS_TAGGED = "as the footage says"


class Convert(Parameters):
    """Other values for the same colours."""

    source: str = choice(
        AS_TAGGED, "From", "What the values stand for so far; log footage often does not say.",
        options=(AS_TAGGED, *spaces_known()),
    )  # fmt: skip
    target: str = choice(
        "sRGB Encoded Rec.709 (sRGB)", "To", "What the values shall stand for.", options=spaces_known()
    )


def need(p: Convert) -> Need:
    return Need()


def hands_on(p: Convert, given: Format) -> Format:
    return given.converted(encoding_named(p.target))


def apply(p: Convert, window: Window, around: Around) -> Picture:
    here = window.here.part(window.inside)
    source = window.given.encoding.space if p.source == AS_TAGGED else p.source
    return Picture(converted(here.rgb, source, p.target), here.noise)


def propose(case: Case) -> Proposal | None:
    """The encoding that was asked for, if any."""
    if case.space is None:
        return None
    checked_space(case.space)
    return Proposal({"target": case.space}, f"From {case.format.encoding.space} to {case.space}, as asked.")


TREATMENT = Treatment(
    kind="convert", title="Convert colour", treats=(), order=85, parameters=Convert, need=need, apply=apply,
    hands_on=hands_on, propose=propose,
    early="noise and faults were measured in the colour encoding of the source",
)  # fmt: skip
