"""The objects of a shot at a time: where each stands, its solid, its box, and what the renderer is given of it."""

from pathlib import Path

import numpy as np

from ..basics.colour import decode
from ..basics.errors import UserError
from ..basics.geometry import turn_matrix
from ..media.pictures import picture_frame
from ..render.gpu import Item
from ..scene.poses import pose_matrix
from ..shape.drawings import drawing_outlines, logo_mesh
from ..shape.extrude import Mesh, title_mesh
from ..shape.fonts import SHIPPED, face_path
from ..shape.outlines import word_box
from ..shape.solids import box_mesh, card_mesh, ground_mesh, tube_mesh
from ..shot.document import Shot
from ..shot.objects import Anchor, Box, Card, GroundMesh, Logo, Object, Solid, Title, Tube, ancestors, is_there

EMPTY = Mesh(np.zeros((0, 3), np.float32), np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32))
LEAST = 1e-4  # metres; nothing is thinner
OVERSHOOT = 0.04  # cap heights (common practice, no source)
GRID_CELLS, GRID_PX = 8, 512


def pose_of(shot: Shot, item: Object, frame: float) -> np.ndarray:
    """(4, 4) from an object's own axes, in metres, to the scene, through all of its parents."""
    m = np.eye(4)
    for one in (item, *ancestors(shot.objects, item)):
        m = pose_matrix(one.position.at(frame), one.turn.at(frame), one.size.at(frame)[0], one.pivot) @ m
    return m


def model_of(shot: Shot, item: Object, frame: float) -> np.ndarray:
    """(4, 4) from the axes of the object's mesh (`mesh_of`) to the scene."""
    return pose_of(shot, item, frame) @ _stretch(item, frame)


def _stretch(item: Object, frame: float) -> np.ndarray:
    """From the axes of the mesh to the object's own, in metres."""
    m = np.eye(4)
    if isinstance(item, Title | Logo):
        m[:3, :3] *= max(item.height.at(frame)[0], LEAST)
    elif isinstance(item, Card):
        m[:3, :3] = turn_matrix((item.twist.at(frame)[0], 0, 0)) @ np.diag(
            [max(item.width.at(frame)[0], LEAST), 1, max(item.height.at(frame)[0], LEAST)]
        )
    elif isinstance(item, Box):
        m[:3, :3] = np.diag(np.maximum(item.extent.at(frame), LEAST))
    elif isinstance(item, Tube):
        wide = max(item.thickness.at(frame)[0], LEAST)
        m[:3, :3] = np.diag([wide, wide, max(item.length.at(frame)[0], LEAST)])
    return m


def _face_path(title: Title) -> Path:
    """The title's face, or the first shipped one where it is missing: never fatal."""
    try:
        return face_path(title.face)
    except UserError:
        return face_path(next(iter(SHIPPED)))


def _in_heights(item: Title | Logo, frame: float) -> tuple[float, float]:
    """Depth and bevel of a solid, in its heights."""
    height = max(item.height.at(frame)[0], LEAST)
    return round(max(item.depth.at(frame)[0], LEAST) / height, 5), round(max(item.bevel.at(frame)[0], 0.0) / height, 5)


def mesh_of(item: Object, frame: float) -> Mesh:
    """The object's solid, in the axes that `model_of` takes; empty where it has none."""
    try:
        match item:
            case Title():
                return title_mesh(_face_path(item), item.text, round(item.spacing.at(frame)[0], 4), *_in_heights(item, frame))
            case Logo():
                return logo_mesh(item.svg, *_in_heights(item, frame))
            case Card():
                return card_mesh()
            case Box():
                return box_mesh()
            case Tube():
                return tube_mesh()
            case GroundMesh():
                return ground_mesh(item.points, round(item.edge.at(frame)[0], 4), item.smooth, item.fill)
    except UserError:  # told by `problem_of`; the picture goes on without it
        return EMPTY
    return EMPTY


def box_of(item: Object, frame: float) -> tuple[np.ndarray, np.ndarray]:
    """Low and high corner (3,) of the object in its own axes, in metres. Quick, for handles: no solid is made for it."""
    match item:
        case Title():
            low, high = word_box(_face_path(item), item.text, round(item.spacing.at(frame)[0], 4))
            height, half = max(item.height.at(frame)[0], LEAST), max(item.depth.at(frame)[0], LEAST) / 2
            # round letters reach a hair below the base line on which all stand
            foot = 0.0 if -OVERSHOOT < low[1] < 0 else low[1]
            return np.array([low[0] * height, -half, foot * height]), np.array([high[0] * height, half, high[1] * height])
        case Logo():
            try:
                wide = drawing_outlines(item.svg)[1]
            except UserError:
                wide = 1.0
            height, half = max(item.height.at(frame)[0], LEAST), max(item.depth.at(frame)[0], LEAST) / 2
            return np.array([-wide / 2 * height, -half, 0]), np.array([wide / 2 * height, half, height])
        case GroundMesh():
            points = np.array(item.points or (0.0, 0.0, 0.0)).reshape(-1, 3)
            return points.min(0), points.max(0)
        case Anchor():
            return np.zeros(3), np.zeros(3)
    stretch = _stretch(item, frame)[:3, :3]
    across, away = np.abs(stretch[:2, :2]) @ [0.5, 0.0 if isinstance(item, Card) else 0.5]
    return np.array([-across, -away, 0.0]), np.array([across, away, stretch[2, 2]])


def problem_of(item: Object, frame: float) -> str:
    """What keeps the object from being drawn as it should be; empty when nothing does."""
    for name in ("size", *item.LENGTHS):
        value = getattr(item, name)
        # one that is keyed may well grow out of nothing
        if name != "bevel" and not value.keys and min(value.value) <= 0:
            return f"Its {name} is {min(value.value):g}, so there is nothing to see. Give it more than 0."
    try:
        if isinstance(item, Title):
            face_path(item.face)
        if isinstance(item, Card) and item.pattern == "picture":
            picture_frame(item.picture, 0)
        if isinstance(item, Logo):
            drawing_outlines(item.svg)
        if isinstance(item, GroundMesh):
            ground_mesh(item.points, round(item.edge.at(frame)[0], 4), item.smooth, item.fill)
    except UserError as error:
        return error.what
    return ""


def objects_at(shot: Shot, frame: float) -> list[Object]:
    """Those that are there at a frame and have something to draw, to catch or to hide."""
    return [
        o
        for o in shot.objects
        if is_there(o, frame) and not isinstance(o, Anchor) and (o.drawn or o.receives or o.hides or o.reflects.at(frame)[0] > 0)
    ]


def _grid() -> np.ndarray:
    """A grid card: cells that change, with lines between, so that the least slide against the plate is seen."""
    at = (np.arange(GRID_PX) + 0.5) / GRID_PX * GRID_CELLS
    odd = (np.floor(at)[:, None] + np.floor(at)[None]) % 2
    line = np.minimum(at % 1, 1 - at % 1) < 0.03
    grey = np.where(line[:, None] | line[None], 30, np.where(odd > 0, 205, 120)).astype(np.uint8)
    return np.dstack([grey, grey, grey, np.full_like(grey, 255)])


_GRID = _grid()


def _picture(card: Card, frame: float) -> np.ndarray | None:
    """(h, w, 4) uint8 straight alpha that is on the card at a frame; None when it is plain."""
    if card.pattern == "grid":
        return _GRID
    if card.pattern != "picture" or not card.picture:
        return None
    try:
        return picture_frame(card.picture, int(frame) - (card.span[0] if card.span else 0))
    except UserError:  # told by `problem_of`
        return None


def item_of(shot: Shot, thing: Object, index: int) -> Item:
    """What the renderer is given of an object."""
    assert isinstance(thing, Solid)
    base = decode(np.array(thing.colour), "srgb")
    picture = _picture(thing, index) if isinstance(thing, Card) and thing.drawn else None
    if picture is not None and thing.pattern == "picture":  # type: ignore[union-attr]
        base = np.ones(3)
    return Item(mesh_of(thing, index), lambda share: model_of(shot, thing, index + share), (float(base[0]), float(base[1]), float(base[2])),
                float(np.clip(thing.roughness.at(index)[0], 0.03, 1)), float(np.clip(thing.metal.at(index)[0], 0, 1)), picture, thing.drawn,
                thing.receives, thing.hides, float(np.clip(thing.reflects.at(index)[0], 0, 1)))  # fmt: skip
