"""Our things seen from outside, as in a view that orbits."""

from collections.abc import Sequence

import msgspec
import numpy as np

from ..evaluate.ground import ground_items
from ..evaluate.kinds import draft_of
from ..evaluate.lights import lights_at
from ..evaluate.objects import items_of, objects_at
from ..light.lamps import Light
from ..light.surroundings import AroundLight
from ..projection.camera import Camera
from ..render.items import Item
from ..shot.document import Shot
from .composite import over_nothing, shade_of
from .frame import QUALITIES
from .workshop import workshop

SHADOW = 0.6  # how dark a shadow is drawn over the scene's ground, which has no light of its own
NO_TINT = np.zeros(3, np.float32)


def scene_picture(shot: Shot, index: int, view: Camera, width: int, height: int, quality: str = "sketch") -> np.ndarray:
    """Frame `index` of the drawn objects with their shadow on the ground, seen from outside by a straight camera: (height, width,
    4) uint8 red, green, blue, alpha, premultiplied, code values of sRGB; transparent where there is nothing of ours.

    A sketch, for a view that turns, has solids without their bevels: these are nine in ten of all triangles.
    """
    result = np.zeros((height, width, 4), np.uint8)
    here = workshop()
    lights = lights_at(shot, index)
    items = here.last("seen from outside", (shot, index, quality), lambda: _items(shot, index, quality, lights))
    # the view's pixels begin at their edge, ours at the centre of the first one
    lens = msgspec.structs.replace(view.lens, cx=view.lens.cx - 0.5, cy=view.lens.cy - 0.5)
    camera = Camera(view.R, view.t, lens)
    layers = here.engine.render(items, lights, lambda share: camera, (width, height), QUALITIES[quality])
    if layers is not None:
        h, w = layers.colour.shape[:2]
        shade = shade_of(layers.light_with, layers.light_without, 1.0, NO_TINT)
        result[layers.top : layers.top + h, layers.left : layers.left + w] = over_nothing(layers.colour, shade, SHADOW)
    return result


def _items(shot: Shot, index: int, quality: str, lights: Sequence[Light | AroundLight]) -> list[Item]:
    """What is seen, and the ground that takes shadows; the same wherever it is looked at from."""
    things = [t for t in objects_at(shot, index) if t.drawn]
    items = [item for t in things for item in items_of(shot, t if quality == "final" else draft_of(t), index)]
    from_below = np.array([0.0, 0.0, -1.0])  # as which nothing is hidden
    return [*items, *ground_items(shot, things, items, from_below, lights)]
