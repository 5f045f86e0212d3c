"""The objects of a shot at a time: where each stands, its solid, its box, and what the renderer is given of it."""

import numpy as np

from ..basics.colour import decode
from ..render.items import Item
from ..scene.poses import pose_matrix
from ..shape.extrude import Mesh
from ..shot.document import Shot
from ..shot.objects import Object, Solid, ancestors, is_there
from .kinds import kind_of


def pose_of(shot: Shot, item: Object, frame: float) -> np.ndarray:
    """(4, 4) from an object's own axes, in metres, to the scene, through all of its parents."""
    m = np.eye(4)
    for one in (item, *ancestors(shot.objects, item)):
        m = pose_matrix(one.position.at(frame), one.turn.at(frame), one.size.at(frame)[0], one.pivot) @ m
    return m


def model_of(shot: Shot, item: Object, frame: float) -> np.ndarray:
    """(4, 4) from the axes of the object's mesh (`mesh_of`) to the scene."""
    return pose_of(shot, item, frame) @ kind_of(item).stretch(item, frame)


def mesh_of(item: Object, frame: float) -> Mesh:
    """The object's solid, in the axes that `model_of` takes; empty where it has none."""
    return kind_of(item).mesh(item, frame)


def box_of(item: Object, frame: float) -> tuple[np.ndarray, np.ndarray]:
    """Low and high corner (3,) of the object in its own axes, in metres. Quick, for handles: no solid is made for it."""
    return kind_of(item).box(item, frame)


def problem_of(item: Object, frame: float) -> str:
    """What keeps the object from being drawn as it should be; empty when nothing does."""
    for name in ("size", *item.LENGTHS):
        value = getattr(item, name)
        # one that is keyed may well grow out of nothing
        if name != "bevel" and not value.keys and min(value.value) <= 0:
            return f"Its {name} is {min(value.value):g}, so there is nothing to see. Give it more than 0."
    return kind_of(item).problem(item, frame)


def objects_at(shot: Shot, frame: float) -> list[Object]:
    """Those that are there at a frame and have something to draw, to catch or to hide."""
    return [o for o in shot.objects if is_there(o, frame) and o.BODY and (o.drawn or o.receives or o.hides or o.reflects.at(frame)[0] > 0)]


def item_of(shot: Shot, thing: Object, index: int) -> Item:
    """What the renderer is given of an object that has a body."""
    assert isinstance(thing, Solid)
    picture = kind_of(thing).picture(thing, index) if thing.drawn else None
    base = np.ones(3) if picture is not None and picture.paints else decode(np.array(thing.colour), "srgb")
    return Item(
        mesh_of(thing, index),
        lambda share: model_of(shot, thing, index + share),
        (float(base[0]), float(base[1]), float(base[2])),
        float(np.clip(thing.roughness.at(index)[0], 0.03, 1)),
        float(np.clip(thing.metal.at(index)[0], 0, 1)),
        picture.pixels if picture is not None else None,
        thing.drawn,
        thing.receives,
        thing.hides,
        float(np.clip(thing.reflects.at(index)[0], 0, 1)),
    )
