"""The solids of a picture as kernels see them: Embree's tree over all of them, and flat tables of corners, surfaces and pictures."""

import functools
import math
from collections.abc import Callable, Sequence
from typing import NamedTuple

import cv2
import numpy as np

from ..basics.colour import decode, encode
from ..basics.errors import RenderError
from ..basics.identity import Same
from ..shape.extrude import PARTS, Mesh
from . import embree
from .items import LEVEL, Finish, Item, bounds, box_corners
from .textures import PICTURED as PICTURED_OVER
from .textures import RIPPLES

# what a ray asks for, as bits of an instance's mask; OURS is asked of boxes alone
SEEN, OPAQUE, PICTURED, PLACE, MIRRORED, OURS = 1, 2, 4, 8, 16, 32
EVERY = 0xFFFFFFFF

# columns of `Things.number`
FIRST_TRIANGLE, FIRST_CORNER, DRAWN, RECEIVES, HIDES, FLAT, FIRST_STEP, STEPS, PICTURE, SHAPES, CORNERS, NUMBERS = range(12)
# columns of `Things.value`, of which each instance has a row for each part of its mesh; FADE is the distance from the eye within which a
# solid becomes thin air
BASE, ROUGHNESS, METAL, REFLECTS, FADE, OPACITY, COAT, GLOW = 0, 3, 4, 5, 6, 7, 8, 9
# of a pattern through it: its kind; from the mesh's axes to sizes of it (three rows of a 3 x 4); the other colour; how much of that; how high
TEXTURE, TO_PATTERN, SECOND, AMOUNT, RELIEF = 10, 11, 23, 26, 27
# of a picture that is laid over it, SECOND is the number of that picture, or -1; then those of its maps, and which of the two are there
MAPS, GIVES = SECOND + 1, SECOND + 2
TURNED, MOVED = 28, 30  # cosine and sine of its turn; where it begins, in its sizes
FADES = 32  # of a mirror: 1 over the distance by which what it shows halves
CLEAR = 33  # share that is glass
FRESNEL, VALUES = 34, 35  # of a mirror: how much of what it mirrors straight down is left out, as water does
# columns of the triangles of what glows: the sum of what it and those before it send, corner and two sides, colour of its light at most 1
SENT_SUM, SENT_CORNER, SENT_ACROSS, SENT_UP, SENT_COLOUR, SENT = 0, 1, 4, 7, 10, 13
# columns of `Things.levels`: where a level of a picture begins, and its px
BEGIN, WIDE, HIGH = range(3)
MOST_LEVELS = 14

NO_PATTERN = np.zeros(FADES - TEXTURE)
MOST_BOXES = 8  # that each ray is held against before the tree is asked

FADE_SHARE = 0.2  # of the middle one of a solid's three sides, so that only what all but touches the lens becomes thin
STEP_DEG = 4.0  # a turn is cut into steps of this, so that the arc between them is true to 0.06 %
USUAL_STEPS = 5  # of something that moves without turning: keyed paths bend
FORMS = 3  # of a mesh whose corners move, over an exposure; between them they go straight


class Things(NamedTuple):
    """scale, origin: rays are in axes whose point p is (world - origin) / scale, so that single precision holds at any size.

    scene: Embree's. corners, normals (n, 3) float32, triangles (m, 3) int32 and parts (m,) uint8 of all meshes in their own axes, of one whose
    corners move all CORNERS of them for each of its SHAPES; number
    (k, NUMBERS) int64 and value (k * PARTS, VALUES) of each instance; matrices (s, 3, 4) from its axes to those of the rays; boxes (b, 6) low and high
    corners round instances over the exposure, with their masks (b,) int64; levels (p, MOST_LEVELS, 3)
    int64 and texels (t, 4) uint8, straight alpha, code values of sRGB. levelled, level: whether level ground receives, and its height.
    cards: whether some have pictures; place: whether some of the place keep light off.
    """

    scene: int
    corners: np.ndarray
    normals: np.ndarray
    triangles: np.ndarray
    parts: np.ndarray
    number: np.ndarray
    value: np.ndarray
    matrices: np.ndarray
    boxes: np.ndarray
    masks: np.ndarray
    levels: np.ndarray
    texels: np.ndarray
    levelled: bool
    level: float
    cards: bool
    place: bool


class Stage(NamedTuple):
    """Things, with what keeps their tree alive, and the place and size of their axes in the world."""

    things: Things
    instances: embree.Instances
    origin: np.ndarray
    scale: float


def stage(items: Sequence[Item], span: float) -> Stage:
    """The items over an exposure of `span` frames' time round the middle. Raises RenderError."""
    solid = [i for i in items if len(i.mesh.triangles)]
    ours = [i for i in solid if i.drawn] or solid
    origin, scale = bounds(ours, [i.model(0.0) for i in ours])
    each = {id(i.mesh): k for k, i in reversed(list(enumerate(solid)))}  # letters of one shape share its arrays
    shapes = sorted(each.values())
    number_of = {id(solid[k].mesh): n for n, k in enumerate(shapes)}
    meshes, first_triangle, first_corner = _meshes(tuple(Same(solid[k].mesh) for k in shapes))
    into = np.eye(4)
    into[:3] = np.c_[np.eye(3), -origin] / scale
    matrices = _over_time(solid, span, into)
    pictures = list({id(i.picture): i.picture for i in solid if i.picture is not None and i.drawn}.values())
    textures = [look.texture for i in solid if i.drawn for look in i.looks if look.texture is not None]
    laid = [picture for texture in textures for picture in (texture.picture, texture.maps) if picture is not None]
    pictures += [p for p in {id(p): p for p in laid}.values() if all(p is not other for other in pictures)]
    number_of_picture = {id(p): n for n, p in enumerate(pictures)}
    levels, texels = _pictures(tuple(Same(p) for p in pictures))
    number, value = np.zeros((len(solid), NUMBERS), np.int64), np.zeros((len(solid) * PARTS, VALUES))
    first_step, masks = 0, []
    for k, item in enumerate(solid):
        pictured = item.drawn and item.picture is not None
        picture = next((n for n, p in enumerate(pictures) if pictured and p is item.picture), -1)
        flat, shape = not item.mesh.closed, number_of[id(item.mesh)]
        first, sort = (first_triangle[shape], first_corner[shape]), (item.drawn, item.receives, item.hides, flat)
        number[k] = *first, *sort, first_step, len(matrices[k]), picture, max(len(item.mesh.steps), 1), len(item.mesh.vertices)
        fade, reflects = _fade(item, matrices[k][0], scale), 0.0 if item.drawn else item.reflects
        for part, look in enumerate(item.looks):
            value[k * PARTS + part : (k + 1) * PARTS] = (  # one look for all parts fills the rows of the others, too
                *look.base,
                look.roughness,
                look.metal,
                reflects,
                fade,
                item.opacity,
                look.coat,
                look.glow if item.drawn else 0.0,
                *_pattern(look, item, number_of_picture),
                scale / item.fades if item.fades > 0 else 0.0,
                look.clear * (1.0 - look.metal),
                item.fresnel,
            )
        masks.append(mask_of(item))
        first_step += len(matrices[k])
    instances = embree.Instances(embree.solids_of([i.mesh for i in solid]), matrices, masks)
    levelled = any(i.mesh is LEVEL for i in items)
    steps = np.ascontiguousarray(np.concatenate(matrices)) if matrices else np.zeros((0, 3, 4))
    cards, place = any(m & PICTURED for m in masks), any(m & PLACE for m in masks)
    boxes = _boxes(solid, matrices, masks)
    return Stage(
        Things(instances.scene, *meshes, number, value, steps, *boxes, levels, texels, levelled, float(-origin[2] / scale), cards, place),
        instances,
        origin,
        scale,
    )


def sent_light(items: Sequence[Item], origin: np.ndarray, scale: float) -> list[np.ndarray]:
    """For each thing that glows its triangles (k, SENT), in the axes of a stage, from which it sends light."""
    found: dict[str, list[tuple[Item, np.ndarray]]] = {}
    for k, item in enumerate(items):
        if item.drawn and item.opacity > 0 and len(item.mesh.triangles) and any(look.glow > 0 for look in item.looks):
            found.setdefault(item.of or f"#{k}", []).append((item, item.model(0.0)))
    return [rows for parts in found.values() if len(rows := _sent(parts, origin, scale))]


def sent_middles(triangles: np.ndarray) -> np.ndarray:
    """(k, 3) middles of triangles of what glows."""
    corner, across, up = (triangles[:, k : k + 3] for k in (SENT_CORNER, SENT_ACROSS, SENT_UP))
    return corner + (across + up) / 3


def _sent(parts: list[tuple[Item, np.ndarray]], origin: np.ndarray, scale: float) -> np.ndarray:
    corners, power = [], []
    for item, m in parts:
        p = (item.mesh.vertices @ m[:3, :3].T + m[:3, 3] - origin) / scale
        corners.append(p[item.mesh.triangles])
        part = item.mesh.parts if len(item.mesh.parts) else np.zeros(len(item.mesh.triangles), int)
        sends = np.array([np.array(look.base) * look.glow * item.opacity for look in item.finishes])
        power.append(sends[part])
    p, light = np.concatenate(corners), np.concatenate(power)
    across, up = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    weight = np.linalg.norm(np.cross(across, up), axis=1) / 2 * light.max(1)
    rows = weight > 0
    colour = light[rows] / light[rows].max(1, keepdims=True)
    return np.ascontiguousarray(np.c_[np.cumsum(weight[rows]), p[rows, 0], across[rows], up[rows], colour])


def _boxes(solid: list[Item], matrices: list[np.ndarray], masks: list[int]) -> tuple[np.ndarray, np.ndarray]:
    """(b, 6) boxes round the things over the exposure, a hair larger, and their masks (b,); where they are many, one round all of ours and one round
    all of the place."""
    found: dict[str, list[np.ndarray]] = {}
    bits: dict[str, int] = {}
    own = np.repeat(np.array([box_corners(i.mesh) for i in solid]).reshape(-1, 8, 3), [len(steps) for steps in matrices], 0)
    m = np.concatenate(matrices) if matrices else np.zeros((0, 3, 4))
    placed = iter(own @ m[:, :, :3].transpose(0, 2, 1) + m[:, None, :, 3])
    for k, (item, steps, mask) in enumerate(zip(solid, matrices, masks)):
        name = item.of or f"#{k}"
        found.setdefault(name, []).extend(next(placed) for _ in steps)
        bits[name] = bits.get(name, 0) | mask
    boxes = np.zeros((len(found), 6))
    for k, rows in enumerate(found.values()):
        corners = np.concatenate(rows)
        low, high = corners.min(0), corners.max(0)
        room = 1e-5 * (1 + np.abs(corners).max())
        boxes[k] = *(low - room), *(high + room)
    together = np.array(list(bits.values()), np.int64)
    if len(boxes) > MOST_BOXES:
        kinds = [rows for rows in (together & OURS > 0, together & OURS == 0) if rows.any()]
        boxes = np.array([[*boxes[rows, :3].min(0), *boxes[rows, 3:].max(0)] for rows in kinds])
        together = np.array([np.bitwise_or.reduce(together[rows]) for rows in kinds], np.int64)
    return np.ascontiguousarray(boxes), together


def check_solids(items: Sequence[Item]) -> None:
    """Raises RenderError where one has corners or a place that are no numbers."""
    if len(items) and not np.isfinite(np.array([item.model(0.0) for item in items])).all():
        raise RenderError("An object of this shot stands nowhere: its place is no number.", "Undo the last change; the rest of the shot is kept.")
    embree.solids_of([i.mesh for i in items if len(i.mesh.triangles)])


def mask_of(item: Item) -> int:
    """Which rays meet the item: the eye's, mirrored ones, and those that ask for light."""
    if item.drawn:
        thin = item.picture is not None or item.opacity < 1 or any(look.clear > 0 for look in item.looks)
        casts = 0 if not item.casts else PICTURED if thin else OPAQUE
        return OURS | casts | (MIRRORED if item.mirrored else 0) | (SEEN if item.seen else 0)
    solid = item.hides or item.reflects > 0
    return (SEEN if solid or item.receives else 0) | (PLACE if item.hides and item.casts else 0) | (MIRRORED if item.hides else 0)


def _over_time(solid: Sequence[Item], span: float, into: np.ndarray) -> list[np.ndarray]:
    """For each item (steps, 3, 4) its places over the exposure, in the axes that `into` (4, 4) leads to."""
    if span <= 0:
        return list((into @ np.array([item.model(0.0) for item in solid]))[:, None, :3]) if solid else []
    return [(into @ np.array(over_time(item, span)))[:, :3] for item in solid]


def over_time(item: Item, span: float) -> list[np.ndarray]:
    """(4, 4) of the item at even times over the exposure; one where it stands still."""
    if span <= 0:
        return [item.model(0.0)]
    ends = [item.model(span * share) for share in (-0.5, 0.0, 0.5)]
    if np.array_equal(ends[0], ends[1]) and np.array_equal(ends[1], ends[2]):
        return [ends[1]]
    turned = _turned_deg(ends[0], ends[1]) + _turned_deg(ends[1], ends[2])
    steps = int(np.clip(np.ceil(turned / STEP_DEG) + 1, USUAL_STEPS, embree.MOST_STEPS))
    return [item.model(span * share) for share in np.linspace(-0.5, 0.5, steps)]


def over_exposure(items: Sequence[Item], span: float) -> list[Item]:
    """The items with the forms that their meshes have over an exposure of `span` frames' time, where these change."""
    return [item if item.later is None or span <= 0 else _with_forms(item, item.later, span) for item in items]


def _with_forms(item: Item, later: Callable[[float], Mesh], span: float) -> Item:
    forms = tuple(later(span * share) for share in np.linspace(-0.5, 0.5, FORMS))
    middle = forms[FORMS // 2]
    if all(np.array_equal(form.vertices, middle.vertices) for form in forms):
        return item
    return item._replace(mesh=middle._replace(steps=forms))


def _turned_deg(a: np.ndarray, b: np.ndarray) -> float:
    """By how much the axes of b are turned against those of a, at most."""
    units = [m[:3, :3] / np.maximum(np.linalg.norm(m[:3, :3], axis=0), 1e-300) for m in (a, b)]
    return float(np.rad2deg(np.arccos(np.clip((units[0] * units[1]).sum(0), -1, 1)).max()))


def _pattern(look: Item | Finish, item: Item, pictures: dict[int, int]) -> np.ndarray:
    """Columns of `Things.value` from TEXTURE on. pictures: their numbers by their identity; one that is laid over stands for the other colour."""
    if look.texture is None or not (item.drawn or item.reflects > 0):
        return NO_PATTERN
    row = np.zeros(FADES - TEXTURE)
    to = (np.eye(4) if item.scaled is None else item.scaled)[:3] / max(look.texture.size, 1e-6)
    if look.texture.kind == RIPPLES:
        to[2] = 0  # on a plane, so that the third way is time
    cos, sin = math.cos(look.texture.turn), math.sin(look.texture.turn)
    shift = np.array(look.texture.shift)
    if look.texture.kind == PICTURED_OVER:
        # each of the three sides turns it in its own plane
        row[TURNED - TEXTURE : FADES - TEXTURE] = cos, sin, shift[0], shift[2]
    else:
        to[:, 3] += shift
        to = np.array([[cos, 0, sin], [0, 1, 0], [-sin, 0, cos]]) @ to
    row[0] = look.texture.kind
    row[TO_PATTERN - TEXTURE : SECOND - TEXTURE] = to.ravel()
    row[SECOND - TEXTURE : AMOUNT - TEXTURE] = look.texture.second
    if look.texture.kind == PICTURED_OVER:
        numbers = [-1 if one is None else pictures[id(one)] for one in (look.texture.picture, look.texture.maps)]
        row[SECOND - TEXTURE : AMOUNT - TEXTURE] = *numbers, look.texture.gives[0] + 2 * look.texture.gives[1]
    row[AMOUNT - TEXTURE], row[RELIEF - TEXTURE] = look.texture.amount, look.texture.relief
    return row


def _fade(item: Item, matrix: np.ndarray, scale: float) -> float:
    if item.thickness > 0:
        return FADE_SHARE * item.thickness / scale
    corners = box_corners(item.mesh)
    sides = np.linalg.norm(matrix[:, :3], axis=0) * (corners[-1] - corners[0])
    return FADE_SHARE * float(np.sort(sides)[1])


@functools.lru_cache(maxsize=4)
def _meshes(meshes: tuple[Same, ...]) -> tuple[tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray], list[int], list[int]]:
    """Corners, normals, triangles and their parts of all; and where those of each begin."""
    of: list[Mesh] = [m.of for m in meshes]
    join = lambda parts, kind: np.ascontiguousarray(np.concatenate([*parts, np.zeros((0, 3))]), kind)
    begins = lambda sizes: [0, *np.cumsum(sizes)[:-1].tolist()]
    forms = [form for m in of for form in (m.steps or (m,))]
    joined = join([m.vertices for m in forms], np.float32), join([m.normals for m in forms], np.float32), join([m.triangles for m in of], np.int32)
    parts = [m.parts if len(m.parts) else np.zeros(len(m.triangles), np.uint8) for m in of]
    whole = (*joined, np.ascontiguousarray(np.concatenate([*parts, np.zeros(0, np.uint8)]), np.uint8))
    return whole, begins([len(m.triangles) for m in of]), begins([len(m.vertices) * max(len(m.steps), 1) for m in of])


@functools.lru_cache(maxsize=4)
def _pictures(pictures: tuple[Same, ...]) -> tuple[np.ndarray, np.ndarray]:
    """The levels of all pictures: each has half as many px a side as the one before."""
    levels, texels, begin = np.zeros((len(pictures), MOST_LEVELS, 3), np.int64), [np.zeros((0, 4), np.uint8)], 0
    for k, picture in enumerate(pictures):
        for n, one in enumerate(halvings(picture.of)):
            levels[k, n] = begin, one.shape[1], one.shape[0]
            texels.append(one.reshape(-1, 4))
            begin += one.shape[0] * one.shape[1]
    return levels, np.ascontiguousarray(np.concatenate(texels))


def halvings(picture: np.ndarray) -> list[np.ndarray]:
    """The picture (h, w, 4) and its halvings down to one px, averaged in linear light by alpha; of maps (h, w, 2) uint16 the means, their numbers as
    two bytes each."""
    found = [np.ascontiguousarray(picture)]
    if picture.dtype == np.uint16:
        while max(found[-1].shape[:2]) > 1 and len(found) < MOST_LEVELS:
            h, w = (max(side // 2, 1) for side in found[-1].shape[:2])
            found.append(np.asarray(cv2.resize(found[-1][: 2 * h, : 2 * w], (w, h), interpolation=cv2.INTER_AREA), np.uint16))
        return [one.view(np.uint8) for one in found]
    light = np.concatenate([decode(picture[..., :3] / np.float32(255), "srgb"), picture[..., 3:] / np.float32(255)], -1).astype(np.float32)
    light[..., :3] *= light[..., 3:]
    while max(light.shape[:2]) > 1 and len(found) < MOST_LEVELS:
        h, w = (max(side // 2, 1) for side in light.shape[:2])
        light = np.asarray(cv2.resize(light[: 2 * h, : 2 * w], (w, h), interpolation=cv2.INTER_AREA), np.float32)
        straight = light[..., :3] / np.maximum(light[..., 3:], 1e-6)
        found.append(np.concatenate([_codes(straight), np.rint(light[..., 3:] * 255).astype(np.uint8)], -1))
    return found


def _codes(light: np.ndarray) -> np.ndarray:
    return np.rint(np.clip(encode(np.ascontiguousarray(light), "srgb"), 0, 1) * 255).astype(np.uint8)
