"""Outlines that the solved camera carries: they lie on a plane of the scene, and only what truly changes is keyed."""

import functools
from collections.abc import Callable

import cv2
import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64, meet_plane
from ..basics.keyed import Key, Keyed
from ..matte.sources import Outline, line_of
from ..projection.camera import Camera
from ..scene.surfaces import sturdy_plane
from ..shot.document import Shot
from .cameras import camera_at, scene_frame
from .ground import trusted_points

PlaneAt = Callable[[Camera, F64], tuple[F64, F64]]  # centre and normal of the plane on which corners lie that a camera sees
FARTHEST = 200.0  # heights of the camera over the ground: what stands farther off is as good as far away
FAR = 1e5  # where everything lies for a camera that stands on one spot
LEAST_POINTS = 4
REACH_PX = 60.0  # round an outline in which no points lie: from so near they are taken
LEAST_FACING = 0.12  # a plane that is seen more edge-on carries nothing
MOST_POINTS = 80
DEPTH_GAP, FAIR_SHARE = 1.08, 0.2
MOST_ERROR = 0.01  # of the distance; 1 px at a corner once the camera has gone sideways by a tenth of it

_planes: dict = {}
_shapes: dict = {}


def outline_at(shot: Shot, outline: Outline, frame: float) -> F64:
    """(n + 2 h, 2) corners and handles in plate px at a frame: by its keys, and carried by the camera between and beyond them where it is said so."""
    plain = np.array(outline.shape.at(frame)).reshape(-1, 2)
    plane = plane_of(shot, outline)
    steady = outline.steady and not outline.carried
    if (plane is None and not steady) or shot.solve is None or not (shot.solve.frames[0] <= frame <= shot.solve.frames[-1]):
        return plain
    shape = _in_scene(shot, outline, (lambda camera, corners: plane) if plane is not None else functools.partial(_standing, shot.solve.height))
    if shape is None:
        return plain
    points = np.array(shape.at(frame)).reshape(-1, 3)
    xy, depth = camera_at(shot, frame).project(points)
    return xy if (depth > 0).all() else plain


def plane_of(shot: Shot, outline: Outline) -> tuple[F64, F64] | None:
    """Centre and unit normal (3,) of the plane in the scene that carries an outline; None where none does, or its tracks have no place."""
    solve = shot.solve
    if not outline.carried or solve is None:
        return None
    if solve.motion != "free":
        return np.zeros(3), np.zeros(3)
    name = (id(solve), shot.ground, outline.carried)
    hit = _planes.get(name)
    if hit is None or hit[0] is not solve:
        if len(_planes) > 64:
            _planes.clear()
        hit = _planes[name] = (solve, _plane(shot, outline.carried))
    return hit[1]


def _plane(shot: Shot, tracks: tuple[int, ...]) -> tuple[F64, F64] | None:
    assert shot.solve is not None
    points = scene_frame(shot).points(shot.solve.xyz)[np.isin(shot.solve.point_ids, tracks)]
    if not len(points):
        return None
    if len(points) >= LEAST_POINTS:
        try:
            centre, normal, _, _ = sturdy_plane(points)
            return centre, normal
        except UserError:
            pass
    # too few for a plane: one that stands upright and faces the camera
    to = scene_frame(shot).points(shot.solve.centres).mean(0) - points.mean(0)
    flat = to * [1, 1, 0]
    return np.median(points, 0), flat / max(float(np.linalg.norm(flat)), 1e-9)


def _standing(height: int, camera: Camera, corners: F64) -> tuple[F64, F64]:
    """In a picture of `height` px the upright plane that faces the camera at what stands on the ground where the lowest of corners (n, 2) px is; far away where that is not seen:
    the camera's turns are known there all the same, which make most of a hand's shake."""
    foot = corners[np.argmax(corners[:, 1])]
    far = np.zeros(3), np.zeros(3)
    if not 0 <= foot[1] < height:  # beyond the picture: what is seen of it is no foot
        return far
    ray = camera.rays(foot)
    away = float(meet_plane(camera.centre, ray, np.zeros(3), np.array([0.0, 0.0, 1.0])))
    if not np.isfinite(away) or not 0 < away < FARTHEST * max(abs(float(camera.centre[2])), 1e-6):
        return far
    place = camera.centre + away * ray
    normal = (camera.centre - place) * [1, 1, 0]
    size = float(np.linalg.norm(normal))
    return (place, normal / size) if size > 1e-9 else far


def _in_scene(shot: Shot, outline: Outline, plane: PlaneAt) -> Keyed | None:
    """The outline's keys as points of the scene (x, y, z of each corner), with the easing that they have; None where one cannot be laid there."""
    assert shot.solve is not None
    name = (id(shot.solve), shot.ground, outline.carried, id(outline.shape))
    hit = _shapes.get(name)
    if hit is None or hit[0] is not outline.shape or hit[1] is not shot.solve:
        if len(_shapes) > 64:
            _shapes.clear()
        hit = _shapes[name] = (outline.shape, shot.solve, _laid(shot, outline, plane))
    return hit[2]


def _laid(shot: Shot, outline: Outline, plane: PlaneAt) -> Keyed | None:
    assert shot.solve is not None
    first, last = float(shot.solve.frames[0]), float(shot.solve.frames[-1])
    keys = []
    for key in outline.shape.keys or (Key(first, outline.shape.value),):
        camera, corners = camera_at(shot, min(max(key.frame, first), last)), np.array(outline.shape.at(key.frame)).reshape(-1, 2)
        points = laid_on(camera, corners, plane(camera, corners[: outline.count]))
        if points is None:
            return None
        only = tuple(3 * (number // 2) + axis for number in key.only[::2] for axis in range(3))
        keys.append(msgspec.structs.replace(key, value=tuple(float(v) for v in points.ravel()), only=only))
    return Keyed(keys[0].value, tuple(keys))


def laid_on(camera: Camera, corners: F64, plane: tuple[F64, F64]) -> F64 | None:
    """(n, 3) where the rays of corners (n, 2) px meet a plane; far off for one without a normal; None where one does not meet it before the camera."""
    rays, (centre, normal) = camera.rays(corners), plane
    if not normal.any():
        return camera.centre + FAR * rays
    away = meet_plane(camera.centre, rays, centre, normal)
    return camera.centre + away[:, None] * rays if np.isfinite(away).all() else None


def tracks_under(shot: Shot, outline: Outline, frame: int) -> tuple[int, ...]:
    """The tracks that an outline lies over at a frame, as what is to carry it: those inside it, else those near it.

    Raises UserError without a solved camera there, where no point lies near, or where their plane is seen edge-on.
    """
    solve = shot.solve
    if solve is None or frame not in solve.frames:
        raise UserError("This frame has no solved camera, so nothing can carry the outline.", "Solve the camera first, or go to a frame that it has.")
    camera, corners = camera_at(shot, frame), np.array(outline.shape.at(frame)).reshape(-1, 2)
    if solve.motion != "free":
        return tuple(int(i) for i in solve.point_ids[:1])
    xy, depth = camera.project(scene_frame(shot).points(solve.xyz))
    line = line_of(outline, corners).astype(np.float32)
    away = np.array([cv2.pointPolygonTest(line, (float(x), float(y)), True) for x, y in xy])
    seen = (depth > 0) & trusted_points(shot)
    rows = np.flatnonzero(seen & (away >= 0))
    if len(rows) < LEAST_POINTS:
        rows = np.flatnonzero(seen & (away > -REACH_PX))
    if not len(rows):
        raise UserError(
            "No solved point lies under this outline or near it, so nothing can carry it.", "Draw it nearer to tracks, or key it by hand."
        )
    rows = rows[np.argsort(-away[rows])]
    observed = np.isin(solve.point_ids[rows], shot.tracks.track[shot.tracks.at(frame)]) if shot.tracks is not None else np.ones(len(rows), bool)
    rows = rows[_in_front(depth[rows], observed)][:MOST_POINTS]
    points = scene_frame(shot).points(solve.xyz[rows])
    if not _tells_how_it_lies(camera, corners, points):
        # they tell how far it is all the same: those in their middle stand for an upright one, see `_plane`
        middle = np.argsort(np.linalg.norm(points - np.median(points, 0), axis=1))
        rows = rows[middle[: LEAST_POINTS - 1]]
    tracks = tuple(int(i) for i in solve.point_ids[rows])
    centre, normal = _plane(shot, tracks) or (np.zeros(3), np.zeros(3))
    to = centre - camera.centre
    if abs(to @ normal) < LEAST_FACING * np.linalg.norm(to) or laid_on(camera, corners, (centre, normal)) is None:
        raise UserError("The points under this outline make a plane that is seen from its edge.", "Draw it over points that face the camera more.")
    return tracks


def _in_front(depth: F64, observed: np.ndarray) -> np.ndarray:
    """(n,) bool: of points that an outline lies over, those of the nearest thing there.

    What is outlined stands before something, and points of that are under the outline too, though the camera does not see them in this
    frame. Sorted by depth the points fall apart where the next one is DEPTH_GAP farther; the nearest group that has a fair share of
    them is kept, one that was observed in this frame where there is one.
    """
    order = np.argsort(depth)
    group = np.zeros(len(depth), int)
    group[order[1:]] = np.cumsum(depth[order[1:]] > DEPTH_GAP * depth[order[:-1]])
    size = np.bincount(group)
    fair = size >= min(max(LEAST_POINTS, FAIR_SHARE * len(depth)), size.max())
    if (fair & (np.bincount(group, observed, len(size)) > 0)).any():
        fair &= np.bincount(group, observed, len(size)) > 0
    return group == np.argmax(fair)


def _tells_how_it_lies(camera: Camera, corners: F64, points: F64) -> bool:
    """Whether points are spread enough under corners (n, 2) px to lay them on the points' plane: by the standard error of the plane at
    its worst corner, as of any line fitted to points (the leverage of a place beyond them)."""
    try:
        centre, normal, kept, rms = sturdy_plane(points)
    except UserError:
        return False
    to = centre - camera.centre
    laid = laid_on(camera, corners, (centre, normal))
    # a plane through the smaller part of them, or one that is seen from its edge, is that of no surface under the outline
    if laid is None or kept.sum() < max(LEAST_POINTS, 0.5 * len(points)) or abs(to @ normal) < LEAST_FACING * np.linalg.norm(to):
        return False
    flat = np.linalg.svd(points[kept] - centre, full_matrices=False)[2][:2].T
    u, at = (points[kept] - centre) @ flat, (laid - centre) @ flat
    leverage = 1 / len(u) + np.einsum("ni,ij,nj->n", at, np.linalg.inv(u.T @ u + 1e-12 * np.eye(2)), at)
    return bool(rms * np.sqrt(leverage.max()) < MOST_ERROR * np.linalg.norm(to))
