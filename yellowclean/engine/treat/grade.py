"""LUT and CDL as a step: before or behind a conversion, in a space of one's choice."""

from __future__ import annotations

from pathlib import Path

from ..colour.encodings import converted, encoding_named, spaces_known
from ..colour.look import Cdl, Look
from ..format import Format
from ..parameters import Parameters, choice, lut_file, quantity
from .base import Around, Need, Picture, Treatment, Window

AS_COMES, AS_WAS = "as it comes", "what it was"


def _three(name: str, default: float, least: float, most: float, help_text: str) -> tuple[float, float, float]:
    """R, G and B of one of the CDL's numbers."""
    made = [
        quantity(default, c, f"{help_text} {c}.", unit="", least=least, most=most, step=0.01, curve=name)
        for c in "RGB"
    ]
    return made[0], made[1], made[2]


SLOPE = _three("Slope", 1, 0, 4, "Factor on")
OFFSET = _three("Offset", 0, -1, 1, "Added to")
POWER = _three("Power", 1, 0.1, 4, "Exponent of")


class Grade(Parameters):
    """A LUT, a CDL, or both: first the CDL, then the LUT."""

    lut: str = lut_file("LUT", "A file of the library: .cube, 1D or 3D, or .clf.")
    space: str = choice(
        AS_COMES, "Acts in", "The space whose values CDL and LUT are made for.", options=(AS_COMES, *spaces_known())
    )
    gives: str = choice(
        AS_WAS, "Result is", "What the values stand for behind it, where the LUT converts.",
        options=(AS_WAS, *spaces_known()),
    )  # fmt: skip
    slope_r: float = SLOPE[0]
    slope_g: float = SLOPE[1]
    slope_b: float = SLOPE[2]
    offset_r: float = OFFSET[0]
    offset_g: float = OFFSET[1]
    offset_b: float = OFFSET[2]
    power_r: float = POWER[0]
    power_g: float = POWER[1]
    power_b: float = POWER[2]
    saturation: float = quantity(
        1, "Saturation", "Of all colours, about their BT.709 luma.", unit="×", least=0, most=4, step=0.05
    )

    @property
    def look(self) -> Look:
        return Look(
            lut=self.lut,
            cdl=Cdl(
                slope=(self.slope_r, self.slope_g, self.slope_b),
                offset=(self.offset_r, self.offset_g, self.offset_b),
                power=(self.power_r, self.power_g, self.power_b),
                saturation=self.saturation,
            ),
        )


def need(p: Grade) -> Need:
    return Need()


def hands_on(p: Grade, given: Format) -> Format:
    """Raises `BadInput` for a LUT that cannot be read."""
    p.look.check()
    return given if p.gives == AS_WAS else given.converted(encoding_named(p.gives))


def apply(p: Grade, window: Window, around: Around) -> Picture:
    here = window.here.part(window.inside)
    own = window.given.encoding.space
    space = own if p.space == AS_COMES else p.space
    graded = p.look.applied(converted(here.rgb, own, space))
    return Picture(converted(graded, space, own) if p.gives == AS_WAS else graded, here.noise)


def states(p: Grade, given: Format) -> list[str]:
    own = given.encoding.space
    space = own if p.space == AS_COMES else p.space
    lut = f", then the LUT {Path(p.lut).name}" if p.lut else ""
    said = [f"CDL{lut}, in {space}."]
    if p.gives != AS_WAS:
        said.append(f"The result is {p.gives}.")
    elif space != own:
        said.append(f"The result is brought back to {own}.")
    return said


TREATMENT = Treatment(
    kind="grade", title="LUT and CDL", treats=(), order=86, parameters=Grade, need=need, apply=apply,
    hands_on=hands_on, states=states,
    early="noise and faults were measured in the values before it",
)  # fmt: skip
