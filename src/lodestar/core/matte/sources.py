"""What mattes are made from, each with the function that says how much of each pixel it covers. A new source is one struct and
one line in `coverage_of`."""

from collections.abc import Callable
from typing import Annotated, NamedTuple

import cv2
import msgspec
import numpy as np

from ..basics.keyed import Keyed, constant
from ..basics.rows import Row
from .outline import coverage
from .strokes import Brushed, laid_out


class Outline(msgspec.Struct, frozen=True, kw_only=True, tag="outline"):
    """A closed line with smooth corners over the picture. shape: x, y pairs in plate pixels; feather in px, outward.

    As a region it keeps the tracker away; as a matte what it surrounds passes in front.
    """

    id: str
    name: str
    shape: Keyed
    feather: Annotated[Keyed, Row("Feather", "px", 0.1, 1, 0, 60, tip="How far the edge fades outward")] = constant(2.0)
    on: bool = True
    inverted: bool = False


Source = Outline | Brushed


class View(NamedTuple):
    """The picture that is covered: frame of the clip, size in px, px of it for each of the plate's, and the plate itself, (h, w, 3)
    linear light at full size, which is read only if a source looks at it."""

    frame: float
    width: int
    height: int
    scale: float = 1.0
    plate: Callable[[], np.ndarray] | None = None


def coverage_of(source: Source, view: View) -> np.ndarray:
    """(height, width) float32 in 0..1."""
    match source:
        case Brushed():
            cover = _brushed(source, view)
        case Outline():
            cover = _outlined(source, view)
    return 1 - cover if source.inverted else cover


def _brushed(source: Brushed, view: View) -> np.ndarray:
    """What was found of the nearest frame; nothing where it was not looked for."""
    width, height = (max(round(side / view.scale), 1) for side in (view.width, view.height))
    whole = laid_out(source.at(int(np.floor(view.frame + 0.5))), width, height)
    return whole if whole.shape == (view.height, view.width) else cv2.resize(whole, (view.width, view.height), interpolation=cv2.INTER_AREA)


def _outlined(source: Outline, view: View) -> np.ndarray:
    points = np.array(source.shape.at(view.frame)).reshape(-1, 2)
    # the centre of the top-left pixel is (0, 0) at every scale
    return coverage((points + 0.5) * view.scale - 0.5, view.width, view.height, source.feather.at(view.frame)[0] * view.scale)


def matte_of(sources: tuple[Source, ...], view: View) -> np.ndarray:
    """(height, width) float32: the union of the sources that are on."""
    total = np.zeros((view.height, view.width), np.float32)
    for source in sources:
        if source.on:
            total = np.maximum(total, coverage_of(source, view))
    return total


def ignored(regions: tuple[Source, ...], view: View) -> np.ndarray | None:
    """(height, width) bool: what the tracker must not look at, or None."""
    return matte_of(regions, view) > 0.5 if any(r.on for r in regions) else None
