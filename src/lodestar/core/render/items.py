"""What the renderer is given of a thing, and the boxes that are round it."""

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np

from ..shape.extrude import PARTS, Mesh

KEPT_BOXES = 512

# the endless level plane z = 0, as the mesh of an item
LEVEL = Mesh(np.zeros((0, 3), np.float32), np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32))

_boxes: dict[int, tuple[Mesh, np.ndarray]] = {}


class Texture(NamedTuple):
    """A pattern through a solid: kind of `textures.NAMES` by its number; size in the scene's units; second: the other colour, linear; amount: how
    much of it shows; relief: how high the pattern stands, in sizes of the pattern; shift: how far it lies off, in its sizes; turn: by which it is
    turned to the left on the face, radians; picture: (h, w, 4) uint8 of sRGB for textures.PICTURED, whose width is the size; maps: of the same size, (h, w, 2)
    uint16, how high it stands there, 0 to 1 of the relief, and how rough it is; gives: which of the two do."""

    kind: int
    size: float
    second: tuple[float, float, float]
    amount: float
    relief: float
    shift: tuple[float, float, float] = (0.0, 0.0, 0.0)
    picture: np.ndarray | None = None
    turn: float = 0.0
    maps: np.ndarray | None = None
    gives: tuple[bool, bool] = (False, False)


class Finish(NamedTuple):
    """How a part of a solid looks. base: linear light; coat: share of a clear coat over it; glow: times its base that it sends out; clear: share of
    it that is glass, tinted by its base."""

    base: tuple[float, float, float]
    roughness: float
    metal: float
    coat: float = 0.0
    glow: float = 0.0
    texture: Texture | None = None
    clear: float = 0.0


class Item(NamedTuple):
    """A solid: its mesh, where it is over the frame's time (model(share) -> (4, 4)), and its surface (base: linear light).

    picture: (h, w, 4) uint8 straight alpha on a card, or None. drawn: seen, and throws a shadow; else it stands in for something
    of the plate. receives, hides: shadows, and what lies behind. reflects: share of the drawn ones that it mirrors, as its
    surface turns it; rougher is more blurred. seen: by the eye, not only in mirrors. casts: it keeps light from what lies
    behind it, where it is drawn or hides. of: the thing that it is a part of, with others; thickness: the middle one of that one's
    sides, 0 for that of the item's own. opacity: of what is drawn. coat, glow, clear: as in Finish; parts: how its edges, sides and back look (in
    the order of the mesh's parts), where they differ. mirrored: seen in mirrors, where it is drawn. texture: of its face; scaled (4, 4): from the mesh's axes to the thing's own in the
    scene's units, in which textures lie. fades: distance from a mirror by which what it shows halves, 0 for none. later(share): the mesh at that
    share of the frame's time, with the same triangles, where its corners move. fresnel: of a mirror, how much less it shows where one looks straight at
    it, 1 as water does.
    """

    mesh: Mesh
    model: Callable[[float], np.ndarray]
    base: tuple[float, float, float]
    roughness: float
    metal: float
    picture: np.ndarray | None = None
    drawn: bool = True
    receives: bool = False
    hides: bool = False
    reflects: float = 0.0
    seen: bool = True
    casts: bool = True
    of: str = ""
    thickness: float = 0.0
    opacity: float = 1.0
    coat: float = 0.0
    glow: float = 0.0
    parts: tuple[Finish, ...] = ()
    mirrored: bool = True
    texture: Texture | None = None
    scaled: np.ndarray | None = None
    fades: float = 0.0
    clear: float = 0.0
    later: Callable[[float], Mesh] | None = None
    fresnel: float = 0.0

    @property
    def finishes(self) -> tuple[Finish, ...]:
        """How face, edges, sides and back look."""
        own = Finish(self.base, self.roughness, self.metal, self.coat, self.glow, self.texture, self.clear)
        return (own, *self.parts) if self.parts else (own,) * PARTS

    @property
    def looks(self) -> tuple["Item | Finish", ...]:
        """What says how a part of it looks: each once."""
        return (self, *self.parts)

    def only_hiding(self) -> "Item":
        """The same as something that is not seen itself."""
        return self._replace(drawn=False, hides=True, receives=False, reflects=0.0)


def upper_plane(mesh: Mesh, model: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """A point and the unit normal of the plane of a mesh's upper side: its faces that look up most, by their areas."""
    p = mesh.vertices.astype(float) @ model[:3, :3].T + model[:3, 3]
    a, b, c = (p[mesh.triangles[:, k]] for k in range(3))
    face = np.cross(b - a, c - a)
    area = np.linalg.norm(face, axis=1)
    unit = face / np.maximum(area, 1e-12)[:, None]
    top = unit[np.where(area > 1e-9 * area.max(), unit[:, 2], -2).argmax()]
    upper = unit @ top > 0.8
    normal = face[upper].sum(0)
    return np.average(((a + b + c) / 3)[upper], axis=0, weights=area[upper]), normal / np.linalg.norm(normal)


def bounds(items: list[Item], models: list[np.ndarray]) -> tuple[np.ndarray, float]:
    """A ball round all items: centre (3,) and radius."""
    corners = placed_boxes(items, models).reshape(-1, 3)
    low, high = corners.min(0), corners.max(0)
    centre = (low + high) / 2
    return centre, max(float(np.linalg.norm(corners - centre, axis=1).max()) * 1.02, 1e-6)


def placed_boxes(items: Sequence[Item], models: Sequence[np.ndarray]) -> np.ndarray:
    """(n, 8, 3) corners of the boxes of items where matrices (4, 4) take them; of all at once, since a title has hundreds of letters."""
    m = np.array(models)
    return np.array([box_corners(item.mesh) for item in items]) @ m[:, :3, :3].transpose(0, 2, 1) + m[:, None, :3, 3]


def box_corners(mesh: Mesh) -> np.ndarray:
    """(8, 3) corners of the mesh's own box; kept for the last meshes, since each picture asks many times."""
    kept = _boxes.get(id(mesh))
    if kept is not None and kept[0] is mesh:
        return kept[1]
    shapes = [step.vertices for step in mesh.steps] or [mesh.vertices]
    low = np.min([v.min(0) for v in shapes], axis=0) if len(mesh.vertices) else np.zeros(3)
    high = np.max([v.max(0) for v in shapes], axis=0) if len(mesh.vertices) else np.zeros(3)
    corners = np.array([[(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)], float)
    if len(_boxes) >= KEPT_BOXES:
        _boxes.clear()
    _boxes[id(mesh)] = (mesh, corners)
    return corners
