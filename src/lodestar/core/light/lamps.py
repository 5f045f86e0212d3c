"""The lamps of a shot: what each is, and the light that it gives at a time. A new lamp is one struct and one line in `light_of`."""

from typing import Annotated, NamedTuple

import msgspec
import numpy as np

from ..basics.keyed import Keyed, constant
from ..basics.rows import Row
from .sun import direction

Rgb = tuple[float, float, float]


class Sun(msgspec.Struct, frozen=True, kw_only=True, tag="sun"):
    """bearing: clockwise from the scene's y axis; height: over the horizon; softness: its width; degrees. strength: what a white
    surface that faces it sends back, in the plate's linear light. colour: linear, white = 1."""

    id: str = "sun"
    on: bool = True
    bearing: Annotated[Keyed, Row("Bearing", "°", 0.5, 1, tip="Where the sun stands, clockwise from the scene's y axis")] = constant(210.0)
    height: Annotated[Keyed, Row("Height", "°", 0.2, 1, 1, 90, tip="How high it stands over the horizon")] = constant(40.0)
    strength: Annotated[Keyed, Row("Strength", "", 0.01, 2, 0, 8, tip="Light of the sun on a white surface that faces it")] = constant(1.2)
    softness: Annotated[Keyed, Row("Softness", "°", 0.05, 2, 0, 30, tip="Width of the sun; haze and thin cloud make it wider")] = constant(0.53)
    colour: Rgb = (1.0, 0.95, 0.86)

    name = "Sun"


class Sky(msgspec.Struct, frozen=True, kw_only=True, tag="sky"):
    """strength: what a white surface sends back of an even sky, in the plate's linear light. colour: linear, white = 1."""

    id: str = "sky"
    on: bool = True
    strength: Annotated[Keyed, Row("Strength", "", 0.005, 2, 0, 4, tip="Light of the whole sky on a white surface")] = constant(0.45)
    colour: Rgb = (0.82, 0.92, 1.0)

    name = "Sky"


Lamp = Sun | Sky


class SunLight(NamedTuple):
    """direction (3,) to the sun; colour (3,) linear, as a white surface that faces it sends it back; width in degrees."""

    direction: np.ndarray
    colour: np.ndarray
    width_deg: float


class SkyLight(NamedTuple):
    """colour (3,) linear, as a white surface sends it back."""

    colour: np.ndarray


Light = SunLight | SkyLight


def light_of(lamp: Lamp, frame: float) -> Light:
    """What the lamp gives at a frame."""
    colour = lamp.strength.at(frame)[0] * np.array(lamp.colour)
    if isinstance(lamp, Sky):
        return SkyLight(colour)
    return SunLight(direction(lamp.bearing.at(frame)[0], lamp.height.at(frame)[0]), colour, lamp.softness.at(frame)[0])


def lights_of(lamps: tuple[Lamp, ...], frame: float) -> list[Light]:
    """What those lamps give that are on."""
    return [light_of(lamp, frame) for lamp in lamps if lamp.on]
