"""The lamps of a shot: what each is, and the light that it gives at a time. A new lamp is one struct and one line in `light_of`."""

from collections.abc import Callable
from typing import Annotated, NamedTuple

import msgspec
import numpy as np

from ..basics.geometry import F64, turn_matrix
from ..basics.keyed import Keyed, constant
from ..basics.rows import Row
from .sun import direction

Rgb = tuple[float, float, float]
REACHED = 0.02  # of white, in the plate's linear light: so much of a lamp is seen on what it reaches (common practice, no source)
STEPS_ROUND, STEPS_OUT, FARTHEST = 73, 160, 200.0  # directions and steps in which its reach is looked for, and how far, in heights of the lamp


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

    @property
    def usual(self) -> bool:
        """Whether it stands where that of every new shot stands: nobody has said where the place's own is."""
        return (self.bearing, self.height) == (_USUAL.bearing, _USUAL.height)


_USUAL = Sun()


class Sky(msgspec.Struct, frozen=True, kw_only=True, tag="sky"):
    """strength: what a white surface sends back of an even sky, in the plate's linear light. colour: linear, white = 1."""

    id: str = "sky"
    on: bool = True
    strength: Annotated[Keyed, Row("Strength", "", 0.005, 2, 0, 4, tip="Light of the whole sky on a white surface")] = constant(0.45)
    colour: Rgb = (0.82, 0.92, 1.0)

    name = "Sky"


class Area(msgspec.Struct, frozen=True, kw_only=True, tag="area"):
    """A flat lamp, square or round, that shines to one side. position: of its middle; turn: heading and pitch of where it shines, degrees, 0
    along y and level; width, height: metres. strength: light of its surface, in the plate's linear light, white = 1. follows: id of
    an object or lamp with whose brightness this one changes."""

    id: str
    label: str = ""
    on: bool = True
    follows: str = ""
    round: bool = False
    position: Annotated[Keyed, Row("Position", "m", 0.02, 2, tip="Where its middle is", names=("x", "y", "z"))] = constant(0.0, 0.0, 3.0)
    turn: Annotated[Keyed, Row("Shines to", "°", 0.5, 1, tip="Heading and pitch of where it shines", names=("heading", "pitch"))] = constant(
        0.0, -90.0
    )
    size: Annotated[Keyed, Row("Sides", "m", 0.01, 2, 0.001, tip="Its width and height", names=("width", "height"))] = constant(1.0, 1.0)
    strength: Annotated[Keyed, Row("Strength", "", 0.05, 2, 0, 1000, tip="Light of its surface; 1 is as bright as white in the plate")] = constant(
        4.0
    )
    colour: Rgb = (1.0, 0.92, 0.8)

    @property
    def name(self) -> str:
        return self.label or "Area lamp"


class Spot(msgspec.Struct, frozen=True, kw_only=True, tag="spot"):
    """A small lamp that shines into a cone. turn: as of an area lamp; cone: its whole angle, 360 shines all round; soft: share of the cone over
    which it fades to its edge; radius: of the lamp, metres, which softens its shadows. strength: what a white surface that faces it a
    metre away sends back, in the plate's linear light. follows: as of an area lamp."""

    id: str
    label: str = ""
    on: bool = True
    follows: str = ""
    position: Annotated[Keyed, Row("Position", "m", 0.02, 2, tip="Where it is", names=("x", "y", "z"))] = constant(0.0, 0.0, 3.0)
    turn: Annotated[Keyed, Row("Shines to", "°", 0.5, 1, tip="Heading and pitch of where it shines", names=("heading", "pitch"))] = constant(
        0.0, -90.0
    )
    cone: Annotated[Keyed, Row("Cone", "°", 0.5, 0, 1, 360, tip="Angle of its cone; 360 shines all round")] = constant(60.0)
    soft: Annotated[Keyed, Row("Soft edge", "%", 0.5, 0, 0, 100, 100, tip="Over how much of the cone it fades to its edge")] = constant(0.3)
    radius: Annotated[Keyed, Row("Size", "m", 0.002, 3, 0.0, tip="Radius of the lamp, which softens its shadows")] = constant(0.05)
    strength: Annotated[Keyed, Row("Strength", "", 0.05, 2, 0, 10000, tip="Light on a white surface that faces it, a metre away")] = constant(6.0)
    colour: Rgb = (1.0, 0.92, 0.8)

    @property
    def name(self) -> str:
        return self.label or "Spot"


Lamp = Sun | Sky | Area | Spot


class SunLight(NamedTuple):
    """direction (3,) to the sun; colour (3,) linear, as a white surface that faces it sends it back; width in degrees. bounces: whether what the
    place sends back of it is still to be added."""

    direction: np.ndarray
    colour: np.ndarray
    width_deg: float
    bounces: bool = True


class SkyLight(NamedTuple):
    """colour (3,) linear, as a white surface sends it back."""

    colour: np.ndarray


class AreaLight(NamedTuple):
    """A flat lamp: its middle (3,), half of its sides u, v (3,), across which u x v is where it shines, colour (3,) of its surface."""

    centre: np.ndarray
    u: np.ndarray
    v: np.ndarray
    colour: np.ndarray
    round: bool


class SpotLight(NamedTuple):
    """A small lamp: place (3,), direction (3,) in which it shines, cosines of the cone's edge and of where it begins to fade, radius, colour
    (3,) of a white surface that faces it one unit away."""

    place: np.ndarray
    direction: np.ndarray
    edge: float
    full: float
    radius: float
    colour: np.ndarray


Light = SunLight | SkyLight | AreaLight | SpotLight


def light_of(lamp: Lamp, frame: float, signal: F64 | float = 1.0) -> Light:
    """What the lamp gives at a frame. signal: (3,) or one number, times its colour."""
    colour = lamp.strength.at(frame)[0] * np.array(lamp.colour) * signal
    if isinstance(lamp, Area | Spot):
        heading, pitch = lamp.turn.at(frame)
        turn = turn_matrix((heading, pitch, 0.0))  # of the y axis, along which it shines
        place = np.array(lamp.position.at(frame))
        if isinstance(lamp, Area):
            width, height = lamp.size.at(frame)
            # v x u would look the other way: right and down span the side that shines
            return AreaLight(place, turn[:, 2] * height / 2, turn[:, 0] * width / 2, colour, lamp.round)
        half = min(lamp.cone.at(frame)[0], 360.0) / 2
        full = half * (1 - lamp.soft.at(frame)[0])
        edge, inner = (float(np.cos(np.deg2rad(a))) for a in (half, full))
        if half >= 180:
            edge = inner = -2.0
        return SpotLight(place, turn[:, 1], edge, max(inner, edge + 1e-6) if half < 180 else inner, max(lamp.radius.at(frame)[0], 0.0), colour)
    if isinstance(lamp, Sky):
        return SkyLight(colour)
    return SunLight(direction(lamp.bearing.at(frame)[0], lamp.height.at(frame)[0]), colour, lamp.softness.at(frame)[0])


def lights_of(lamps: tuple[Lamp, ...], frame: float, signal: Callable[[str], F64] | None = None) -> list[Light]:
    """What those lamps give that are on. signal: how bright the thing with an id is now, (3,), by which those that follow it change."""

    def led(lamp: Lamp) -> F64 | float:
        return signal(lamp.follows) if signal is not None and isinstance(lamp, Area | Spot) and lamp.follows else 1.0

    return [light_of(lamp, frame, led(lamp)) for lamp in lamps if lamp.on]


def ground_light(light: Light, places: F64) -> F64:
    """(n,) light that a near lamp gives white level ground at places (n, 3), at most of its colours; a flat lamp taken for a small one. 0 for others."""
    if isinstance(light, AreaLight):
        across = np.cross(light.u, light.v)
        side = float(np.linalg.norm(across))
        axis, middle = across / max(side, 1e-12), light.centre
        area = side * (np.pi if light.round else 4.0)
    elif isinstance(light, SpotLight):
        axis, middle = light.direction, light.place
    else:
        return np.zeros(len(places))
    to = places - middle
    away = np.maximum(np.linalg.norm(to, axis=1), 1e-6)
    down, along = np.maximum(-to[:, 2], 0.0) / away, (to @ axis) / away
    if isinstance(light, AreaLight):
        share = area / np.pi * np.maximum(along, 0.0)
    else:
        t = np.clip((along - light.edge) / (light.full - light.edge), 0.0, 1.0) if light.edge > -1 else np.ones(len(to))
        share = t * t * (3 - 2 * t)
    return float(light.colour.max()) * share * down / away**2


def ground_reach(light: Light, least: float = REACHED) -> F64:
    """(n, 3) the line on level ground at z = 0, round the place that a near lamp lights most there, along which its light falls to `least`; none
    where it gives less everywhere."""
    if not isinstance(light, AreaLight | SpotLight):
        return np.zeros((0, 3))
    middle = light.centre if isinstance(light, AreaLight) else light.place
    if middle[2] <= 0:
        return np.zeros((0, 3))
    axis = np.cross(light.u, light.v) if isinstance(light, AreaLight) else light.direction
    foot = middle * [1, 1, 0]
    # the brightest place lies between that under the lamp and that which it points at
    at = (
        middle - axis * (middle[2] / axis[2])
        if axis[2] < -0.05 * np.linalg.norm(axis)
        else foot + axis / np.linalg.norm(axis) * [1, 1, 0] * 20 * middle[2]
    )
    line = foot + np.linspace(0, 1, STEPS_OUT)[:, None] ** 2 * (at - foot)
    given = ground_light(light, line)
    if given.max() < least:
        return np.zeros((0, 3))
    best = line[given.argmax()]
    turn = np.linspace(0, 2 * np.pi, STEPS_ROUND)
    out = np.r_[0.0, np.geomspace(1e-3, FARTHEST, STEPS_OUT)] * middle[2]
    rays = best + out[None, :, None] * np.stack([np.cos(turn), np.sin(turn), 0 * turn], 1)[:, None]
    lit = ground_light(light, rays.reshape(-1, 3)).reshape(len(turn), -1) >= least
    return rays[np.arange(len(turn)), np.maximum(np.argmin(np.c_[lit, np.zeros(len(turn), bool)], axis=1) - 1, 0)]
