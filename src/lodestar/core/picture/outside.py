"""Our things seen from outside, as in a view that orbits."""

import msgspec
import numpy as np

from ..evaluate.ground import ground_items
from ..evaluate.kinds import draft_of
from ..evaluate.lights import lights_at
from ..evaluate.objects import items_of, objects_at
from ..projection.camera import Camera
from ..shot.document import Shot
from .composite import over_nothing, shade_of
from .frame import QUALITIES
from .workshop import workshop

TURNING_DETAIL = 0.5  # px drawn for each px of a view that turns: solids are told by their edges, and it is drawn anew when it rests
SHADOW = 0.6  # how dark a shadow is drawn over the scene's ground, which has no light of its own
NO_TINT = np.zeros(3, np.float32)


def scene_picture(shot: Shot, index: int, view: Camera, width: int, height: int, quality: str = "draft") -> np.ndarray:
    """Frame `index` of the drawn objects with their shadow on the ground, seen from outside by a straight camera: (height, width,
    4) uint8 red, green, blue, alpha, premultiplied, code values of sRGB; transparent where there is nothing of ours.

    A draft, for a view that turns, has solids without their bevels: these are nine in ten of all triangles.
    """
    result = np.zeros((height, width, 4), np.uint8)
    final = quality == "final"
    things = [t for t in objects_at(shot, index) if t.drawn]
    items = [item for t in things for item in items_of(shot, t if final else draft_of(t), index)]
    # the view's pixels begin at their edge, ours at the centre of the first one
    lens = msgspec.structs.replace(view.lens, cx=view.lens.cx - 0.5, cy=view.lens.cy - 0.5)
    camera = Camera(view.R, view.t, lens)
    how = QUALITIES[quality] if final else QUALITIES[quality]._replace(detail=TURNING_DETAIL)
    lights = lights_at(shot, index)
    ground = [item._replace(hides=False) for item in ground_items(shot, things, items, camera.centre, lights)]
    layers = workshop().engine.render([*items, *ground], lights, lambda share: camera, (width, height), how)
    if layers is not None:
        h, w = layers.colour.shape[:2]
        shade = shade_of(layers.light_with, layers.light_without, 1.0, NO_TINT)
        result[layers.top : layers.top + h, layers.left : layers.left + w] = over_nothing(layers.colour, shade, SHADOW)
    return result
