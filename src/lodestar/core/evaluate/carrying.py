"""Outlines that the solved camera carries: they lie on a plane of the scene, and only what truly changes is keyed."""

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

FAR = 1e5  # where everything lies for a camera that only turns
LEAST_POINTS = 4
REACH_PX = 60.0  # round an outline in which no points lie: from so near they are taken
LEAST_FACING = 0.12  # a plane that is seen more edge-on carries nothing
MOST_POINTS = 80

_planes: dict = {}
_shapes: dict = {}


def outline_at(shot: Shot, outline: Outline, frame: float) -> F64:
    """(n, 2) corners in plate px at a frame: by its keys, and carried by the camera between and beyond them where it is said so."""
    plain = np.array(outline.shape.at(frame)).reshape(-1, 2)
    plane = plane_of(shot, outline)
    if plane is None or shot.solve is None or not (shot.solve.frames[0] <= frame <= shot.solve.frames[-1]):
        return plain
    shape = _on_plane(shot, outline, plane)
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
    if solve.motion == "turning":
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


def _on_plane(shot: Shot, outline: Outline, plane: tuple[F64, F64]) -> Keyed | None:
    """The outline's keys as points of the scene (x, y, z of each corner), with the easing that they have; None where one cannot be laid there."""
    assert shot.solve is not None
    name = (id(shot.solve), shot.ground, outline.carried, id(outline.shape))
    hit = _shapes.get(name)
    if hit is None or hit[0] is not outline.shape or hit[1] is not shot.solve:
        if len(_shapes) > 64:
            _shapes.clear()
        hit = _shapes[name] = (outline.shape, shot.solve, _laid(shot, outline, plane))
    return hit[2]


def _laid(shot: Shot, outline: Outline, plane: tuple[F64, F64]) -> Keyed | None:
    assert shot.solve is not None
    first, last = float(shot.solve.frames[0]), float(shot.solve.frames[-1])
    keys = []
    for key in outline.shape.keys or (Key(first, outline.shape.value),):
        points = laid_on(camera_at(shot, min(max(key.frame, first), last)), np.array(key.value).reshape(-1, 2), plane)
        if points is None:
            return None
        keys.append(msgspec.structs.replace(key, value=tuple(float(v) for v in points.ravel())))
    return Keyed(keys[0].value, tuple(keys))


def laid_on(camera: Camera, corners: F64, plane: tuple[F64, F64]) -> F64 | None:
    """(n, 3) where the rays of corners (n, 2) px meet a plane; far off for one without a normal; None where one does not meet it before the camera."""
    rays, (centre, normal) = camera.rays(corners), plane
    if not normal.any():
        return camera.centre + FAR * rays
    away = np.array([float(meet_plane(camera.centre, ray, centre, normal)) for ray in rays])
    return camera.centre + away[:, None] * rays if np.isfinite(away).all() and (away > 0).all() else None


def tracks_under(shot: Shot, outline: Outline, frame: int) -> tuple[int, ...]:
    """The tracks that an outline lies over at a frame, as what is to carry it: those inside it, else those near it.

    Raises UserError without a solved camera there, where no point lies near, or where their plane is seen edge-on.
    """
    solve = shot.solve
    if solve is None or frame not in solve.frames:
        raise UserError("This frame has no solved camera, so nothing can carry the outline.", "Solve the camera first, or go to a frame that it has.")
    camera, corners = camera_at(shot, frame), np.array(outline.shape.at(frame)).reshape(-1, 2)
    if solve.motion == "turning":
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
    tracks = tuple(int(i) for i in solve.point_ids[rows[np.argsort(-away[rows])][:MOST_POINTS]])
    centre, normal = _plane(shot, tracks) or (np.zeros(3), np.zeros(3))
    to = centre - camera.centre
    if abs(to @ normal) < LEAST_FACING * np.linalg.norm(to) or laid_on(camera, corners, (centre, normal)) is None:
        raise UserError("The points under this outline make a plane that is seen from its edge.", "Draw it over points that face the camera more.")
    return tracks
