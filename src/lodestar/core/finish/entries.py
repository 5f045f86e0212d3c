"""What is done to the finished picture, in order: each entry with the pure function that does it to linear light. A new entry is
one struct and one line in `done`.

Sources: luminance weights of ITU-R BT.709-6, item 3.2; a stop is a factor of two in light.
"""

from collections.abc import Callable
from typing import Annotated

import msgspec
import numpy as np

from ..basics.keyed import Keyed, constant
from ..basics.rows import Row
from .edges import LUMINANCE, Trims, repaired


class Grade(msgspec.Struct, frozen=True, kw_only=True, tag="grade"):
    """exposure: stops; saturation: 0 is grey, 1 leaves it. mattes: ids of those inside which it works, none for the whole picture."""

    id: str
    on: bool = True
    mattes: tuple[str, ...] = ()
    exposure: Annotated[Keyed, Row("Exposure", "stops", 0.01, 2, -8, 8, tip="A stop more is twice the light")] = constant(0.0)
    saturation: Annotated[Keyed, Row("Saturation", "%", 0.5, 0, 0, 400, 100, tip="0 % is grey, 100 % leaves it as it is")] = constant(1.0)

    name = "Grade"
    tip = "Exposure and saturation of the whole picture, or inside mattes"


class Vignette(msgspec.Struct, frozen=True, kw_only=True, tag="vignette"):
    """strength: share of light that is lost in the corners; begins: where it begins, as a share of the way from the middle."""

    id: str
    on: bool = True
    mattes: tuple[str, ...] = ()
    strength: Annotated[Keyed, Row("Strength", "%", 0.5, 0, 0, 100, 100, tip="How much light the corners lose")] = constant(0.3)
    begins: Annotated[Keyed, Row("Begins", "%", 0.5, 0, 0, 99, 100, tip="Where it begins, from the middle to the corners")] = constant(0.4)

    name = "Vignette"
    tip = "Corners that are darker, as a lens makes them"


class Edge(msgspec.Struct, frozen=True, kw_only=True, tag="edge"):
    """Repairs the edge of mattes. width: of the band, px of the plate to both sides; exposure, saturation, hue: of the band; spill: share of the colour of
    what is behind that it takes on; wrap, reach: how much light of what is behind spreads over it, and how far in."""

    id: str
    on: bool = True
    mattes: tuple[str, ...] = ()
    width: Annotated[Keyed, Row("Width", "px", 0.1, 1, 0.5, 60, tip="How far from the edge it works, to both sides")] = constant(4.0)
    exposure: Annotated[Keyed, Row("Exposure", "stops", 0.01, 2, -8, 8, tip="Of the edge: a pale fringe goes below 0")] = constant(0.0)
    saturation: Annotated[Keyed, Row("Saturation", "%", 0.5, 0, 0, 400, 100, tip="Of the edge: 0 % is grey")] = constant(1.0)
    hue: Annotated[Keyed, Row("Hue", "°", 0.5, 0, -180, 180, tip="Turns the colours of the edge")] = constant(0.0)
    spill: Annotated[Keyed, Row("Spill", "%", 0.5, 0, 0, 100, 100, tip="How far the edge takes on the colour of what is behind it now")] = constant(
        0.0
    )
    wrap: Annotated[Keyed, Row("Light wrap", "%", 0.5, 0, 0, 100, 100, tip="How much light of what is behind spreads over it")] = constant(0.3)
    reach: Annotated[Keyed, Row("Wrap reaches", "px", 0.1, 1, 0.5, 200, tip="How far in that light reaches")] = constant(8.0)

    name = "Edge"
    tip = "Repairs the edge of a matte: its brightness and colour, spill, and light wrapped over it"


Finisher = Grade | Vignette | Edge
KINDS: tuple[type, ...] = (Grade, Vignette, Edge)


def graded(picture: np.ndarray, exposure: float, saturation: float) -> np.ndarray:
    """(h, w, 3) linear light, with so many stops more, and colours so many times as far from grey of the same luminance."""
    lit = picture * np.float32(2.0**exposure)
    if saturation == 1:
        return lit
    grey = (lit @ LUMINANCE)[..., None]
    return np.maximum(grey + (lit - grey) * np.float32(saturation), 0)


def vignetted(picture: np.ndarray, strength: float, begins: float) -> np.ndarray:
    """(h, w, 3) linear light that falls off smoothly towards the corners, to 1 - strength there."""
    height, width = picture.shape[:2]
    y, x = np.ogrid[:height, :width]
    cy, cx = (height - 1) / 2, (width - 1) / 2
    away = np.sqrt((y - cy) ** 2 + (x - cx) ** 2) / max(np.hypot(cx, cy), 1e-9)
    share = np.clip((away - begins) / max(1 - begins, 1e-3), 0, 1)
    return picture * (1 - strength * share * share * (3 - 2 * share)).astype(np.float32)[..., None]


def done(entry: Grade | Vignette, picture: np.ndarray, frame: float) -> np.ndarray:
    """The picture (h, w, 3) linear light with one entry done to all of it."""
    if isinstance(entry, Vignette):
        return vignetted(picture, entry.strength.at(frame)[0], entry.begins.at(frame)[0])
    return graded(picture, entry.exposure.at(frame)[0], entry.saturation.at(frame)[0])


def finished(
    entries: tuple[Finisher, ...], picture: np.ndarray, frame: float, inside: Callable[[tuple[str, ...]], np.ndarray], scale: float = 1.0
) -> np.ndarray:
    """The picture (h, w, 3) linear light with all entries that are on done to it, in order. inside(ids): (h, w) of those mattes; scale: px of it
    for each of the plate's."""
    for entry in entries:
        if isinstance(entry, Edge):
            if entry.on and entry.mattes:
                trims = Trims(*(getattr(entry, name).at(frame)[0] for name in Trims._fields))
                trims = trims._replace(width=trims.width * scale, reach=trims.reach * scale)
                picture = repaired(picture, inside(entry.mattes), trims)
        elif entry.on:
            after = done(entry, picture, frame)
            if entry.mattes:
                share = inside(entry.mattes)[..., None]
                after = picture + (after - picture) * share
            picture = after
    return picture
