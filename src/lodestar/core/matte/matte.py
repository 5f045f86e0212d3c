"""What all mattes have in common."""

from typing import Annotated

import cv2
import msgspec
import numpy as np

from ..basics.keyed import Keyed, constant
from ..basics.rows import Row

LEAST_PX = 0.02  # an edge that moves or softens by less is left as it is


class Matte(msgspec.Struct, frozen=True, kw_only=True):
    """A picture in 0..1 of what it covers. inverted: what lies outside it instead. hides: it is one of those that stand before objects which
    stand behind all mattes. within, without: ids of mattes inside which alone it holds, and inside which it does not, whether
    those are on or not. grow: its edge moves outward, px of the plate; soft: its edge is blurred by so many px."""

    id: str
    name: str
    on: bool = True
    inverted: bool = False
    hides: bool = True
    within: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    grow: Annotated[Keyed, Row("Grow", "px", 0.05, 2, -30, 30, tip="Its edge moves outward, or inward below 0, also by parts of a px")] = constant(
        0.0
    )
    soft: Annotated[Keyed, Row("Soften", "px", 0.05, 2, 0, 30, tip="How far its edge is blurred")] = constant(0.0)


def edged(cover: np.ndarray, grow: float, soft: float) -> np.ndarray:
    """(h, w) float32 in 0..1 with its edge moved outward by `grow` px, inward below 0, then blurred by `soft` px (sigma).

    Each pixel takes the largest value within a disc of that radius, so that a soft edge keeps its form; between whole radii both are
    mixed.
    """
    if abs(grow) > LEAST_PX:
        low = int(np.floor(abs(grow)))
        act = cv2.dilate if grow > 0 else cv2.erode
        at = lambda radius: cover if radius == 0 else act(cover, _disc(radius))
        share = np.float32(abs(grow) - low)
        cover = at(low) if share < LEAST_PX else (1 - share) * at(low) + share * at(low + 1)
    if soft > LEAST_PX:
        cover = cv2.GaussianBlur(cover, (0, 0), soft, borderType=cv2.BORDER_REPLICATE)
    return cover


def _disc(radius: int) -> np.ndarray:
    y, x = np.mgrid[-radius : radius + 1, -radius : radius + 1]
    return (x * x + y * y <= (radius + 0.3) ** 2).astype(np.uint8)
