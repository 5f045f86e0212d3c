"""The ground under a shot's things: level, or as the points say where they leave the level plane; what it hides, never without a word."""

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64
from ..light.lamps import Light, SunLight
from ..light.surroundings import AroundLight
from ..render.items import LEVEL, Item, box_corners, placed_boxes, upper_plane
from ..scene.poses import moved
from ..scene.uneven import Uneven, uneven_ground
from ..shape.extrude import Mesh
from ..shape.solids import ground_mesh
from ..shot.document import Shot
from ..shot.objects import Object
from .cameras import camera_at, scene_frame
from .kinds import EMPTY
from .objects import at_rest, mesh_of, model_of

NEAR_SHARE = 0.02  # of its distance to the cameras: a point so near to the level ground lies on it
GAP_SHARE = 0.25  # of the distance to the cameras: over wider gaps between points nothing bears the ground out
OF_ONE_FOOT = 0.05  # of its height: parts of a thing whose feet differ by less stand on one line
TOLD_BY = 400  # corners of an object
TOLD_SHARE = 0.03  # of an object that the ground hides: from here on it is told; round letters always reach a hair below it
UNEVEN_SHARE = 0.02  # of the size of a thing: ground that leaves the level plane by less, round it and its shadow, is level
FLUSH = 1e-4  # of its size: a mirror that lies nearer to the level ground is part of that
REACH = 8.0  # times its height: so far its shadow is asked for
TRUSTED = 2.0  # times the usual error: a point with a larger one moves, or is not one point

_kept: dict = {}
_parts: dict = {}


def trusted_points(shot: Shot) -> np.ndarray:
    """(m,) bool: points of the solve whose error is no sign that they move by themselves."""
    solve = shot.solve
    if solve is None or not len(solve.point_error):
        return np.zeros(0, bool)
    return solve.point_error <= TRUSTED * max(float(np.median(solve.point_error)), 1e-9)


class _Points(NamedTuple):
    """Trusted points (n, 3) of a solve in the scene: which lie on the level ground, how far each is from the middle of the cameras'
    path, and that middle (3,)."""

    at: F64
    on: np.ndarray
    away: F64
    middle: F64


def borne_ground(shot: Shot) -> Mesh:
    """The level ground where points of the solve lie on it, joined over gaps that are not much wider than usual; may be empty."""
    return _once(shot, "level", lambda p: _borne(p.at[p.on], p.middle)) or EMPTY


def uneven_of(shot: Shot) -> Uneven | None:
    """The ground where points tell that it is not level; None where they do not, and where it is not asked for."""
    return _once(shot, "uneven", lambda p: uneven_ground(p.at, p.on, p.away, GAP_SHARE)) if shot.ground.uneven else None


def is_known(shot: Shot) -> bool:
    """Whether both were asked for already, or cannot be there; else they take 50 to 100 ms."""
    wanted = ("level", "uneven") if shot.ground.uneven else ("level",)
    return not _has_points(shot) or all(_hit(shot, what) is not None for what in wanted)


def _has_points(shot: Shot) -> bool:
    return shot.solve is not None and shot.solve.motion == "free" and len(shot.solve.xyz) >= 3


def _hit(shot: Shot, what: str) -> tuple | None:
    hit = _kept.get((id(shot.solve), shot.ground, what))
    return hit if hit is not None and hit[0] is shot.solve else None


def _once(shot: Shot, what: str, make: Callable[[_Points], Any]) -> Any:
    """Kept by the solve's identity and what was said of its ground; None for a camera that does not move."""
    solve, said = shot.solve, shot.ground
    if not _has_points(shot):
        return None
    hit = _hit(shot, what)
    if hit is None:
        if len(_kept) > 16:
            _kept.clear()
        hit = _kept[(id(solve), said, what)] = (solve, make(_points(shot)))
    return hit[1]


def _points(shot: Shot) -> _Points:
    assert shot.solve is not None
    place = scene_frame(shot)
    points, centres = place.points(shot.solve.xyz), place.points(shot.solve.centres)
    middle = centres[len(centres) // 2]
    away = np.linalg.norm(points - middle, axis=1)
    on = (np.abs(points[:, 2]) < NEAR_SHARE * away) & trusted_points(shot)
    on |= np.isin(shot.solve.point_ids, shot.ground.on_ground) & (np.abs(points[:, 2]) < 3 * NEAR_SHARE * away)
    trusted = trusted_points(shot) | on
    return _Points(points[trusted], on[trusted], away[trusted], middle)


def _borne(points: F64, middle: F64) -> Mesh:
    flat = points * [1, 1, 0]
    if len(flat) < 3:
        return EMPTY
    try:
        whole = ground_mesh(tuple(flat.ravel()), np.inf, 0, False)
    except UserError:  # in a line: it bears nothing out
        return EMPTY
    corners = flat[whole.triangles]
    wide = np.max([np.linalg.norm(corners[:, i] - corners[:, (i + 1) % 3], axis=1) for i in range(3)], axis=0)
    near = np.linalg.norm(corners.mean(1) - middle, axis=1)
    return Mesh(whole.vertices, whole.normals, np.ascontiguousarray(whole.triangles[wide < GAP_SHARE * near]))


def ground_items(shot: Shot, things: list[Object], items: list[Item], eye: F64, lights: Sequence[Light | AroundLight]) -> list[Item]:
    """The ground as the renderer takes it, seen from `eye` (3,): what shadows fall on, and what may hide something of `items`.

    It is level where the points do not tell otherwise round our things and their shadows; uneven ground of the user's own, that takes
    shadows, stands for all of it.
    """
    level = level_ground(things)
    if not level:
        return []
    uneven = uneven_of(shot)
    if uneven is None or not _is_felt(uneven, items, lights):
        return [*hiding_ground(shot, things, items, eye), *level]
    # from below, as through a ground that is said wrongly, nothing is hidden
    hides = shot.ground.hides and bool(eye[2] > uneven.heights(eye[None, :2])[0])
    return [
        Item(_solid_of(uneven, known), lambda share: np.eye(4), (0, 0, 0), 1.0, 0.0, drawn=False, receives=True, hides=known and hides)
        for known in (True, False)
    ]


def _is_felt(uneven: Uneven, items: list[Item], lights: Sequence[Light | AroundLight]) -> bool:
    """Whether the ground leaves the level plane round what is drawn, and where its shadows fall."""
    suns = [light.direction for light in lights if isinstance(light, SunLight)]
    for corners in _corners_of(items):
        size = float(np.linalg.norm(np.ptp(corners, axis=0)))
        far = [corners - np.clip(corners[:, 2:] / max(float(d[2]), 1e-3), 0, REACH * size) * d for d in suns]
        reach = np.concatenate([corners, *far])[:, :2]
        low, high = reach.min(0) - 0.3 * size, reach.max(0) + 0.3 * size
        net = np.stack(np.meshgrid(*np.linspace(low, high, 9).T), -1).reshape(-1, 2)
        if np.abs(uneven.heights(net)).max() > UNEVEN_SHARE * size:
            return True
    return False


def _solid_of(uneven: Uneven, known: bool) -> Mesh:
    """What is known of uneven ground as a solid, or what goes on round it; the same for the same, since the renderer keeps what it makes of it."""
    name = (id(uneven), known)
    hit = _parts.get(name)
    if hit is None or hit[0] is not uneven:
        if len(_parts) > 16:
            _parts.clear()
        triangles = np.ascontiguousarray(uneven.triangles[uneven.known == known])
        hit = _parts[name] = (uneven, Mesh(uneven.vertices.astype(np.float32), uneven.normals.astype(np.float32), triangles))
    return hit[1]


def hiding_ground(shot: Shot, things: list[Object], items: list[Item], eye: F64) -> list[Item]:
    """That part of the level ground which may hide something: where what is sunk into it is seen through it from `eye` (3,)."""
    if not shot.ground.hides or eye[2] <= 1e-6 or not level_ground(things):
        return []
    # of a thing as a whole: a round letter reaches a hair under the ground, on which all of its word stands
    sunk = [_lowest(own) for own in _corners_of(items)]
    below = np.concatenate(sunk) if sunk else np.zeros((0, 3))
    mesh = borne_ground(shot) if len(below) else EMPTY
    if not len(mesh.triangles):
        return []
    through = eye + (below - eye) * (eye[2] / (eye[2] - below[:, 2:]))
    reach = np.concatenate([through, below])[:, :2]
    # in steps as wide as what is sunk: what the renderer makes of a part is kept, and a thing that is dragged would make it anew with each step
    step = 2.0 ** np.ceil(np.log2(max(float(np.ptp(reach, axis=0).max()), 1e-6)))
    low, high = np.floor(reach.min(0) / step) * step, np.ceil(reach.max(0) / step) * step
    corners = mesh.vertices[mesh.triangles][..., :2]
    near = ((corners.max(1) >= low) & (corners.min(1) <= high)).all(1)
    if not near.any():
        return []
    return [Item(_part(mesh, near), lambda share: np.eye(4), (0, 0, 0), 1.0, 0.0, drawn=False, receives=True, hides=True)]


def _corners_of(items: list[Item]) -> list[F64]:
    """Of each thing that is drawn, (n, 3) the corners of the boxes round its solids, in the scene."""
    found: dict[str, list[Item]] = {}
    for k, item in enumerate(items):
        if item.drawn and len(item.mesh.vertices):
            found.setdefault(item.of or f"#{k}", []).append(item)
    return [placed_boxes(own, [item.model(0.0) for item in own]).reshape(-1, 3) for own in found.values()]


def _lowest(corners: F64) -> F64:
    """(m, 3) what of the boxes of a thing, corners (n, 3), lies under the level ground: none where nothing does, else also the feet of
    those of its parts that touch it."""
    low = float(corners[:, 2].min())
    return corners[corners[:, 2] <= max(0.0, low + OF_ONE_FOOT * float(np.ptp(corners[:, 2])))] if low < 0 else np.zeros((0, 3))


def _part(mesh: Mesh, rows: np.ndarray) -> Mesh:
    """Some triangles of a mesh; the same mesh for the same ones, since the renderer keeps what it makes of each."""
    name = (id(mesh), rows.tobytes())
    hit = _parts.get(name)
    if hit is None or hit[0] is not mesh:
        if len(_parts) > 16:
            _parts.clear()
        hit = _parts[name] = (mesh, Mesh(mesh.vertices, mesh.normals, np.ascontiguousarray(mesh.triangles[rows])))
    return hit[1]


def level_ground(things: list[Object]) -> list[Item]:
    """The level ground, which takes shadows; uneven ground that does takes its place."""
    if any(t.UNEVEN and t.receives for t in things):
        return []
    return [Item(LEVEL, lambda share: np.eye(4), (0, 0, 0), 1.0, 0.0, drawn=False, receives=True)]


def on_ground(items: list[Item]) -> list[Item]:
    """The items, of which what mirrors and lies flush with the level ground takes shadows as that does: both are one surface there, and which of the
    two a ray meets first is chance."""
    return [item._replace(receives=True) if _is_flush(item) else item for item in items]


def _is_flush(item: Item) -> bool:
    if item.drawn or item.receives or item.reflects <= 0 or not len(item.mesh.triangles):
        return False
    place, normal = upper_plane(item.mesh, item.model(0.0))
    return bool(abs(normal[2]) > 1 - FLUSH and abs(place[2]) < FLUSH * max(float(np.linalg.norm(item.model(0.0)[:3, :3])), 1.0))


def hidden_share(shot: Shot, item: Object, frame: float) -> float:
    """How much of a drawn object, by its surface's corners, the ground hides at a frame: 0 to 1."""
    item = at_rest(item)  # letters that come out of the ground are meant to
    ground, uneven, mesh = borne_ground(shot), uneven_of(shot), mesh_of(item, frame)
    eye = camera_at(shot, frame).centre if shot.plate is not None else np.zeros(3)
    if not (shot.ground.hides and item.drawn and len(mesh.vertices) and (uneven or len(ground.triangles))) or eye[2] <= 1e-6:
        return 0.0
    model = model_of(shot, item, frame)
    heights = moved(model, box_corners(mesh))[:, 2]
    if uneven is None and heights.min() > -TOLD_SHARE * np.ptp(heights):
        return 0.0
    # a few hundred of its corners tell the share to a few parts in a hundred; a long line of letters has tens of thousands
    points = moved(model, mesh.vertices[:: max(1, len(mesh.vertices) // TOLD_BY)].astype(float))
    if uneven is not None:
        # as seen from above: where the ground is known, what is lower than it is out of sight
        deep = uneven.heights(points[:, :2]) - points[:, 2]
        told = deep.max() > TOLD_SHARE * np.ptp(points[:, 2])
        return float(((deep > 0) & uneven.knows(points[:, :2])).sum() / len(points)) if told else 0.0
    low = points[points[:, 2] < 0]
    if not len(low):
        return 0.0
    through = eye + (low - eye) * (eye[2] / (eye[2] - low[:, 2:]))
    return float(covered(ground, through[:, :2]).sum() / len(points))


def covered(mesh: Mesh, places: np.ndarray) -> np.ndarray:
    """(n,) bool: which places (n, 2) lie on the triangles of a level mesh, seen from above."""
    corners = mesh.vertices[mesh.triangles][..., :2].astype(float)
    low, high = corners.min(1), corners.max(1)
    inside = np.zeros(len(places), bool)
    # few places at a time, which lie side by side: few of the triangles reach them
    for rows in np.array_split(np.argsort(places[:, 0]), -(-len(places) // 256)) if len(places) else ():
        p = places[rows]
        near = ((low <= p.max(0)) & (high >= p.min(0))).all(1)
        a, b, c = (corners[near, k] for k in range(3))
        side = lambda u, v, p=p[:, None]: (v[:, 0] - u[:, 0]) * (p[..., 1] - u[:, 1]) - (v[:, 1] - u[:, 1]) * (p[..., 0] - u[:, 0])
        s = np.stack([side(a, b), side(b, c), side(c, a)])
        inside[rows] = (np.all(s >= 0, axis=0) | np.all(s <= 0, axis=0)).any(1)
    return inside
