"""The outlines of a shot at a time, as mattes and as regions that the tracker does not look at."""

import numpy as np

from ..matte.outline import coverage
from ..shot.document import Outline


def matte_at(outlines: tuple[Outline, ...], index: int, width: int, height: int, scale: float = 1.0) -> np.ndarray:
    """(height, width) float32: the union of the outlines that are on; their points are in plate pixels times `scale`."""
    total = np.zeros((height, width), np.float32)
    for outline in outlines:
        if not outline.on:
            continue
        points = np.array(outline.shape.at(index)).reshape(-1, 2)
        # the centre of the top-left pixel is (0, 0) at every scale
        cover = coverage((points + 0.5) * scale - 0.5, width, height, outline.feather.at(index)[0] * scale)
        total = np.maximum(total, 1 - cover if outline.inverted else cover)
    return total


def ignored_at(outlines: tuple[Outline, ...], index: int, width: int, height: int) -> np.ndarray | None:
    """(height, width) bool: what the tracker must not look at, or None."""
    if not any(o.on for o in outlines):
        return None
    return matte_at(outlines, index, width, height) > 0.5
