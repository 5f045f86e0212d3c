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

LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)


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


Finisher = Grade | Vignette
KINDS: tuple[type, ...] = (Grade, Vignette)


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


def done(entry: Finisher, picture: np.ndarray, frame: float) -> np.ndarray:
    """The picture (h, w, 3) linear light with one entry done to all of it."""
    if isinstance(entry, Vignette):
        return vignetted(picture, entry.strength.at(frame)[0], entry.begins.at(frame)[0])
    return graded(picture, entry.exposure.at(frame)[0], entry.saturation.at(frame)[0])


def finished(entries: tuple[Finisher, ...], picture: np.ndarray, frame: float, inside: Callable[[tuple[str, ...]], np.ndarray]) -> np.ndarray:
    """The picture (h, w, 3) linear light with all entries that are on done to it, in order. inside(ids): (h, w) of those mattes."""
    for entry in entries:
        if entry.on:
            after = done(entry, picture, frame)
            if entry.mattes:
                share = inside(entry.mattes)[..., None]
                after = picture + (after - picture) * share
            picture = after
    return picture
