"""A look as a .cube file: a lattice of its colours, for programs that know no more."""

from __future__ import annotations

import numpy as np

from ..errors import BadInput
from .look import Look

SIZES = 33, 65
"""Points a side (common practice, no source)."""


def written_cube(look: Look, size: int, title: str) -> str:
    """The text of a 3D LUT that does what a look does to values from 0 to 1; red runs fastest. Raises `BadInput`
    for a look that cannot be shown, or another size than those of `SIZES`."""
    if size not in SIZES:
        raise BadInput(f"a LUT of {size} points a side is not offered; use {' or '.join(map(str, SIZES))}.")
    ladder = np.linspace(0, 1, size, dtype=np.float32)
    blue, green, red = np.meshgrid(ladder, ladder, ladder, indexing="ij")
    made = look.applied(np.stack([red, green, blue], axis=-1).reshape(size * size, size, 3)).reshape(-1, 3)
    named = " ".join(title.replace('"', "'").split())
    head = [f'TITLE "{named}"', f"LUT_3D_SIZE {size}", "DOMAIN_MIN 0 0 0", "DOMAIN_MAX 1 1 1"]
    return "\n".join([*head, *(f"{r:.7f} {g:.7f} {b:.7f}" for r, g, b in made.tolist())]) + "\n"
