"""Conversion between colour spaces through OpenColorIO."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..colour.conversion import CONFIGURED, HDR_WHITE, PLACED, Conversion, held
from ..colour.encodings import checked_space, encoding_named, spaces_known
from ..colour.gamut import CLIP, KEEP, LIMIT, limited, outside
from ..format import Format
from ..frames import Array
from ..parameters import Parameters, choice, quantity
from ..primaries import METHODS
from .base import Around, Need, OwnView, Picture, Treatment, Window
from .case import Case, Proposal

AS_TAGGED = "as the footage says"
AS_FORMAT, FULL, LEGAL = "usual", "full", "legal"


class Convert(Parameters):
    """Other values for the same colours."""

    source: str = choice(
        AS_TAGGED, "From", "What the values stand for so far; log footage often does not say.",
        options=(AS_TAGGED, *spaces_known()),
    )  # fmt: skip
    target: str = choice(
        "sRGB Encoded Rec.709 (sRGB)", "To", "What the values shall stand for.", options=spaces_known()
    )
    rendering: str = choice(
        PLACED, "Rendering", "Between video, scenes and HDR: as displays show it, white placed by BT.2408; or as"
        " the configuration says.", names={PLACED: "as shown (BT.2408)", CONFIGURED: "as configured"},
    )  # fmt: skip
    white: float = quantity(
        HDR_WHITE, "White in HDR", "Where white of SDR, or diffuse white of a scene, lies in HDR.", unit="nits",
        least=50, most=1000, step=1,
    )  # fmt: skip
    gamut: str = choice(
        KEEP, "Out of gamut", "What becomes of colours that the target cannot hold. Integer files cut off what is"
        " kept; floating point holds it.",
        names={KEEP: "kept", LIMIT: "limited, hue kept", CLIP: "cut off"},
    )  # fmt: skip
    adaptation: str = choice(
        CONFIGURED, "White adapted", "Between spaces of different white, where their primaries are known.",
        names={CONFIGURED: "as configured", **{name: name for name in METHODS}},
    )  # fmt: skip
    codes: str = choice(
        AS_FORMAT, "Range", "The range of codes in which a file of luma and colour differences keeps the result.",
        names={AS_FORMAT: "as is usual there", FULL: "full", LEGAL: "legal"},
    )  # fmt: skip


def need(p: Convert) -> Need:
    return Need()


def hands_on(p: Convert, given: Format) -> Format:
    made = given.converted(encoding_named(p.target))
    return made if p.codes == AS_FORMAT else replace(made, full_range=p.codes == FULL, range_chosen=True)


def conversion(p: Convert, given: Format) -> Conversion:
    """What the step does to values of a format."""
    source = given.encoding.space if p.source == AS_TAGGED else p.source
    return Conversion(source, p.target, p.rendering, p.white, p.adaptation)


def states(p: Convert, given: Format) -> list[str]:
    return [f"From {conversion(p, given).source} to {p.target}.", *conversion(p, given).told()]


def apply(p: Convert, window: Window, around: Around) -> Picture:
    here = window.here.part(window.inside)
    made = conversion(p, window.given).applied(here.rgb)
    return Picture(limited(made, p.target, p.gamut) if held(p.target) else made, here.noise)


def outside_target(p: Convert, window: Window, around: Around) -> Array:
    """White where a colour lies outside of what the target holds, H×W."""
    made = conversion(p, window.given).applied(window.here.part(window.inside).rgb)
    return (outside(made) if held(p.target) else np.zeros(made.shape[:2])).astype(np.float32)


def propose(case: Case) -> Proposal | None:
    """The encoding that was asked for, if any."""
    if case.space is None:
        return None
    settings = Convert(target=checked_space(case.space))
    reason = " ".join(["As asked.", *states(settings, case.format)])
    return Proposal({"target": case.space}, reason)


TREATMENT = Treatment(
    kind="convert", title="Convert colour", treats=(), order=85, parameters=Convert, need=need, apply=apply,
    hands_on=hands_on, propose=propose, states=states,
    views=(
        OwnView("outside", "outside the gamut", "White where the target cannot hold a colour.", outside_target),
    ),
    early="noise and faults were measured in the colour encoding of the source",
)  # fmt: skip
