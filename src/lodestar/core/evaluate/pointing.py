"""Pointing into a shot: the surface under a pixel, and the object under it."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ..basics.geometry import F64, meet_plane
from ..projection.camera import Camera
from ..scene.poses import moved
from ..scene.surfaces import UP, Patch, on_ground, patch_under, rows_under
from ..shot.document import Shot
from ..shot.objects import Object
from .cameras import slip_at
from .ground import TOLD_SHARE, borne_ground, covered, trusted_points
from .objects import mesh_of, model_of, pose_of

FARTHEST = 200.0  # metres; ground beyond is too far to stand something on by a click
SUNK_SHARE = 0.01  # of its distance: a surface so far under the ground is hidden by it
HIDDEN = "the surface under it lies below the ground, which hides it"


class Points(NamedTuple):
    """Points of the solve in the scene: places (n, 3), and covariances (n, 3, 3) or None."""

    places: np.ndarray
    covariances: np.ndarray | None


def surface_under(
    shot: Shot, camera: Camera, pixel: F64, points: Points, snap: str = "surface", far: float = 50.0, chosen: np.ndarray | None = None
) -> Patch | None:
    """The surface that something placed at a pixel (2,) would stand on; None where there is none.

    snap: 'surface' that the points make, level 'ground', upright 'wall', the nearest 'point', or 'far': so far away along the
    view. chosen: rows of the points that make it. A surface under the ground that hides is never taken: the ground is, and its
    note says so. Nor is anything else taken for a wall.
    """
    places, none = points.places, np.zeros(0, int)
    if snap == "far":
        ray = camera.rays(pixel)
        return Patch(camera.centre + far * ray, -ray, none, 0.0, np.nan)
    if snap == "point" and len(places):
        rows = rows_under(camera, pixel, places)[:1]
        if len(rows):
            to = camera.centre - places[rows[0]]
            return Patch(places[rows[0]], to / np.linalg.norm(to), rows, 0.0, float(slip_at(shot, places[rows])[0]))
    if snap in ("surface", "wall") and len(places):
        slip = lambda at: slip_at(shot, at)
        found = patch_under(camera, pixel, places, slip, points.covariances, chosen, snap, trusted_points(shot))
        if found is not None and not _is_hidden(shot, camera, found):
            return found
        if found is None and (chosen is not None or snap == "wall"):
            return None
        if found is not None:
            ground = ground_under(shot, camera, pixel, places, snap)
            return ground._replace(note=HIDDEN) if ground is not None else found
    return ground_under(shot, camera, pixel, places, snap)


def ground_under(shot: Shot, camera: Camera, pixel: F64, places: np.ndarray, snap: str = "ground") -> Patch | None:
    """The level ground under a pixel; None above the horizon and far away."""
    at = on_ground(camera, pixel, FARTHEST)
    if at is None:
        return None
    rows = rows_under(camera, pixel, places, trusted_points(shot)) if len(places) and snap == "ground" else np.zeros(0, int)
    return Patch(at, UP, rows, 0.0, float(slip_at(shot, at[None])[0]) if len(places) else np.nan)


def _is_hidden(shot: Shot, camera: Camera, patch: Patch) -> bool:
    """Whether the ground lies before a surface, where points bear it out."""
    at, eye = patch.centre, camera.centre
    if not shot.ground.hides or eye[2] <= 0 or at[2] > -SUNK_SHARE * float(np.linalg.norm(at - eye)):
        return False
    through = eye + (at - eye) * (eye[2] / (eye[2] - at[2]))
    ground = borne_ground(shot)
    return bool(len(ground.triangles) and covered(ground, through[None, :2])[0])


def hit(shot: Shot, item: Object, frame: float, camera: Camera, pixel: F64) -> tuple[float, np.ndarray] | None:
    """Depth, and the place (3,) in the object's own axes, of its surface under a pixel (2,); None beside it."""
    mesh, m = mesh_of(item, frame), model_of(shot, item, frame)
    if len(mesh.vertices) == 0:
        return None
    xy, depth = camera.project(moved(m, mesh.vertices))
    corners, depths = xy[mesh.triangles], depth[mesh.triangles]
    near = np.flatnonzero((corners.min(1) <= pixel).all(1) & (corners.max(1) >= pixel).all(1) & (depths.min(1) > 0))
    a, b, c = (corners[near][:, k] for k in range(3))
    side = lambda p, q: (q[:, 0] - p[:, 0]) * (pixel[1] - p[:, 1]) - (q[:, 1] - p[:, 1]) * (pixel[0] - p[:, 0])
    s = np.stack([side(a, b), side(b, c), side(c, a)])
    found = near[(s >= 0).all(0) | (s <= 0).all(0)]
    if len(found) == 0:
        return None
    nearest = found[depths[found].min(1).argmin()]
    p = moved(m, mesh.vertices[mesh.triangles[nearest]])
    ray = camera.rays(pixel)
    away = float(meet_plane(camera.centre, ray, p[0], np.cross(p[1] - p[0], p[2] - p[0])))
    place = camera.centre + away * ray if np.isfinite(away) else p[0]
    return float(depths[nearest].min()), moved(np.linalg.inv(pose_of(shot, item, frame)), place)


def placed_whole(
    shot: Shot, make: Callable[[Patch], Object], patch: Patch, ground: Patch | None, share: Callable[[Object], float]
) -> tuple[Object, Patch]:
    """What is made on a patch, or on the ground where that would hide part of it; with the patch that was taken.

    share: how much of an object the ground hides.
    """
    item = make(patch)
    if ground is None or share(item) <= TOLD_SHARE:
        return item, patch
    higher = make(ground)
    return (higher, ground._replace(note=HIDDEN)) if share(higher) < share(item) else (item, patch)
