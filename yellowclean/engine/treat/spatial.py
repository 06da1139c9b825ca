"""Spatial noise reduction: sliding DCT with measured thresholds, over three octaves.

Chain: stabilise, opponent axes, at each octave a hard threshold and a Wiener pass guided by it
(Yu, Sapiro 2011) with the deviation of every coefficient taken from the noise profile; octaves are
joined from coarse to fine (Pierazzo, Morel, Facciolo 2017): low frequencies come from the coarser
result. Where an earlier step has already lowered the noise, thresholds are lowered with it.
"""

from __future__ import annotations

import numba as nb
import numpy as np

from ..frames import Array, Region
from ..octaves import OCTAVES, doubled, halved, quartered
from ..parallel import in_bands
from ..parameters import Parameters, amount, quantity
from ..shrinking import pixel_weights, shrunk
from .base import Around, Need, Picture, Treatment, Window
from .case import Case, Proposal

BLOCKS_OVER_A_PIXEL = np.float32(16)
"""Blocks start at every second row and column: 16 estimates for every pixel."""

OWN_MARGIN = 24
"""Pixels of an octave's own size around what is wanted that decide it: 7 for each of the two passes, the
reach of the filters between octaves, and up to a whole multiple of the block grid."""

MARGINS = (16, 40, 80)
"""Pixels beyond which the surroundings no longer matter, for one, two and three octaves."""

GRID = 2 << (OCTAVES - 1)

BY_SIZE = "Strength by size of noise"

SOLID_BELOW, TEXTURE_FROM = 0.5, 4.0
"""Coefficients besides the mean that a block keeps in the first pass: up to the first a place is solid
(noise alone keeps a tenth of one), from the second on it is full texture."""

GENTLE = 50.0
"""Percent of the strength for noise from 2 px on where a codec coded fast motion: what it did to the picture there
is of that size, but is no noise that shrinking takes away (set on the basin at 12 Mbit/s)."""


class Spatial(Parameters):
    """Noise within one frame."""

    luma: float = amount(100, "Luma", "Noise taken from luma, as a share of the measured sigma.")
    chroma: float = amount(100, "Chroma", "Colour noise taken, as a share of the measured sigma.")
    fine: float = amount(100, "1-2 px", "How hard to work on noise the size of a pixel or two.", curve=BY_SIZE)
    medium: float = amount(100, "2-4 px", "How hard to work on noise of two to four pixels.", curve=BY_SIZE)
    coarse: float = amount(100, "from 4 px", "How hard to work on blotches from four pixels on.", curve=BY_SIZE)
    octaves: int = quantity(
        3, "Sizes", "1 treats noise of up to 2 px only, 2 of up to 4 px, 3 all of it.",
        unit="octaves", least=1, most=OCTAVES, step=1,
    )  # fmt: skip
    solid: float = amount(
        0, "Extra where it is flat", "Added strength where the picture is flat: 100 % works at twice the sigma.",
    )  # fmt: skip
    guard: float = amount(
        0,
        "Texture guard",
        "Taken off the strength where there is texture: 100 % leaves full texture alone.",
        most=100,
    )
    threshold: float = quantity(
        2.9, "Threshold", "How many sigma a detail must stand out to be kept in the first pass.",
        unit="σ", least=1.0, most=5.0, step=0.1,
    )  # fmt: skip

    @property
    def by_octave(self) -> tuple[float, ...]:
        return self.fine / 100, self.medium / 100, self.coarse / 100


def need(p: Spatial) -> Need:
    return Need(margin=MARGINS[p.octaves - 1], grid=GRID)


def apply(p: Spatial, window: Window, around: Around) -> Picture:
    """Treat one frame's region."""
    before = around.stabiliser.opponent(window.here.rgb)
    spectrum = around.profile.spectrum_array()
    wanted = window.inside
    here, inside = window.here.part(wanted), wanted.slices
    after, left = np.empty((3, *here.rgb.shape[:2]), np.float32), here.noise.copy()
    for axis, share in enumerate((p.luma, p.chroma, p.chroma)):
        if share == 0:
            after[axis] = before[axis][inside]
            continue
        noise = np.sqrt(window.here.noise[min(axis, 1)]) * np.float32(share / 100)
        done, cells, cut = _octaves(p, before[axis], noise, spectrum[axis])
        part = wanted.within(Region(cut, cut, 0, 0))
        after[axis] = done[part.slices]
        if axis < 2:
            _keep(left[axis], cells, part)
    before = np.ascontiguousarray(before[(slice(None), *inside)])
    rgb = around.stabiliser.applied(here.rgb, before, after, here.noise - left)
    return Picture(rgb, left)


def _octaves(p: Spatial, plane: Array, noise: Array, spectrum: Array, octave: int = 0) -> tuple[Array, Array, int]:
    """(denoised plane, share of variance kept in each cell of 2×2 pixels, pixels cut off every side): each octave
    works on no more of the margin than it needs itself; low frequencies come from the coarser one."""
    coarser = octave + 1 < p.octaves
    cut = (MARGINS[p.octaves - 1] >> octave) - OWN_MARGIN if coarser else 0
    done, cells = _one_size(p, _inner(plane, cut), _inner(noise, cut), spectrum[octave], p.by_octave[octave])
    if coarser:
        coarse, _, already = _octaves(p, halved(plane), halved(noise), spectrum, octave + 1)
        done += doubled(_inner(coarse, cut // 2 - already) - halved(done))
    return done, cells, cut


def _inner(plane: Array, border: int) -> Array:
    return np.ascontiguousarray(plane[border : plane.shape[0] - border, border : plane.shape[1] - border])


def _one_size(p: Spatial, plane: Array, noise: Array, deviation: Array, share: float) -> tuple[Array, Array]:
    """Both passes at one octave; the sides of `plane` are even."""
    if share == 0:
        return plane.copy(), np.ones_like(quartered(plane))
    flat = np.ascontiguousarray(deviation.reshape(-1))
    local = noise[::2, ::2] * np.float32(share)
    guide, blocks, _ = shrunk(plane, None, flat, local, p.threshold)
    if p.solid or p.guard:
        local = local * _adapted(p, blocks)
    if p.solid:
        guide, _, _ = shrunk(plane, None, flat, local, p.threshold)
    done, _, weights = shrunk(plane, guide, flat, local, p.threshold)
    return done, np.minimum(BLOCKS_OVER_A_PIXEL / (64 * weights), 1)


def _keep(noise: Array, cells: Array, part: Region) -> None:
    """Scale the noise by what is kept in the cell of 2×2 pixels that each pixel lies in, `part` being where it lies
    in the plane of cells."""
    in_bands(len(noise), lambda a, b: _keep_rows(cells, noise, part.x, part.y, a, b))


@nb.njit(nogil=True, cache=True)
def _keep_rows(cells, noise, left, top, first, end):  # type: ignore[no-untyped-def]
    for y in range(first, end):
        for x in range(noise.shape[1]):
            noise[y, x] *= cells[(y + top) // 2, (x + left) // 2]


def _adapted(p: Spatial, blocks: Array) -> Array:
    """Factor of the strength by what the first pass kept in the blocks over a place: next to nothing but
    their mean where it is flat, many coefficients in texture."""
    there = blocks > 0
    counts = np.divide(1, blocks, out=np.zeros_like(blocks), where=there)
    kept = pixel_weights(counts) / pixel_weights(there.astype(np.float32)) - 1
    solid = np.clip((SOLID_BELOW - kept) / np.float32(SOLID_BELOW / 2), 0, 1)
    texture = np.clip((kept - SOLID_BELOW) / np.float32(TEXTURE_FROM - SOLID_BELOW), 0, 1)
    factor: Array = (1 + np.float32(p.solid / 100) * solid) * (1 - np.float32(p.guard / 100) * texture)
    return factor.astype(np.float32)


def spatial_settings(luma: float, chroma: float, *, gentle: bool) -> dict[str, float]:
    """Settings for so many percent; `gentle` where a codec has changed the picture in the size of coarser noise."""
    amounts = {"luma": luma, "chroma": chroma}
    return amounts | {"medium": GENTLE, "coarse": GENTLE} if gentle else amounts


def propose(case: Case) -> Proposal | None:
    """Take what was judged worth taking, where the noise lives."""
    if not (case.luma.percent or case.chroma.percent):
        return None
    alone = gentle = ""
    if case.frames > 1 and not case.worth_merging:
        alone = "Merging neighbours was tried too: it would leave no less, and costs several times the work."
    if case.gentle:
        gentle = f"Noise from 2 px on is treated at {GENTLE:.0f} %: more takes detail that neighbours show."
    told = " ".join(part for part in (case.luma.reason, case.chroma.reason, case.where, gentle, alone) if part)
    return Proposal(spatial_settings(case.luma.percent, case.chroma.percent, gentle=case.gentle), told, case.reach)


TREATMENT = Treatment(
    kind="spatial", title="Spatial noise reduction", treats=("noise", "colour noise"), order=30,
    parameters=Spatial, need=need, apply=apply, propose=propose,
    early="the merge over time then meets smoothed frames, in which it finds less to take",
)  # fmt: skip
