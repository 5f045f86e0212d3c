"""Pointing into a shot: the surface under a pixel, and the object under it."""

from collections.abc import Callable
from typing import NamedTuple

import msgspec
import numpy as np

from ..basics.geometry import F64, meet_plane
from ..basics.keyed import constant
from ..projection.camera import Camera
from ..scene.poses import moved
from ..scene.surfaces import UP, Patch, on_ground, patch_under, rows_under
from ..shot.document import Shot
from ..shot.objects import Object
from .cameras import camera_at, slip_at
from .ground import TOLD_SHARE, borne_ground, covered, trusted_points, uneven_of
from .objects import box_of, mesh_of, model_of, pose_of

FARTHEST = 200.0  # metres; ground beyond is too far to stand something on by a click
SUNK_SHARE = 0.01  # of its distance: a surface so far under the ground is hidden by it
LEAST_UP = 0.8  # a normal that looks up more may be the ground's
SAME_SHARE = 0.06  # of its distance: so far from uneven ground, along the view, a surface is a part of it
STEPS = 7  # halvings of how far something new is moved: to 1 %
ROUNDS = 8  # in which what is placed near a side of the picture is moved, as perspective changes its size on the way
MOST_ALONG = (0.7, 1.3)  # of its width and its height, px, by which it is moved at most
EDGE_SHARE = 0.02  # of the width of a picture, that is left beside what is placed near its side
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
            return _on_uneven(shot, camera, pixel, found)
        if found is None and (chosen is not None or snap == "wall"):
            return None
        if found is not None:
            ground = ground_under(shot, camera, pixel, places, snap)
            return ground._replace(note=HIDDEN) if ground is not None else found
    return ground_under(shot, camera, pixel, places, snap)


def ground_under(shot: Shot, camera: Camera, pixel: F64, places: np.ndarray, snap: str = "ground") -> Patch | None:
    """The ground under a pixel; None above the horizon and far away."""
    uneven = uneven_of(shot)
    at = on_ground(camera, pixel, FARTHEST) if uneven is None else uneven.met(camera.centre, camera.rays(pixel), FARTHEST)
    if at is None:
        return None
    rows = rows_under(camera, pixel, places, trusted_points(shot)) if len(places) and snap == "ground" else np.zeros(0, int)
    return Patch(at, UP, rows, 0.0, float(slip_at(shot, at[None])[0]) if len(places) else np.nan)


def _on_uneven(shot: Shot, camera: Camera, pixel: F64, patch: Patch) -> Patch:
    """The patch, on uneven ground where it is a part of that: a few points near the pixel tell of it less than all of them."""
    uneven = uneven_of(shot)
    at = uneven.met(camera.centre, camera.rays(pixel), FARTHEST) if uneven is not None and patch.normal[2] > LEAST_UP else None
    if at is None or np.linalg.norm(at - patch.centre) > SAME_SHARE * np.linalg.norm(at - camera.centre):
        return patch
    return patch._replace(centre=at, slip_px=float(slip_at(shot, at[None])[0]))


def _is_hidden(shot: Shot, camera: Camera, patch: Patch) -> bool:
    """Whether the ground lies before a surface, where points bear it out."""
    at, eye, uneven = patch.centre, camera.centre, uneven_of(shot)
    if uneven is not None:
        deep = uneven.heights(at[None, :2])[0] - at[2]
        return shot.ground.hides and bool(deep > SUNK_SHARE * np.linalg.norm(at - eye) and uneven.knows(at[None, :2])[0])
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
    shot: Shot, make: Callable[[Patch], Object], patch: Patch, ground: Patch | None, share: Callable[[Object], float], frame: float
) -> tuple[Object, Patch]:
    """What is made on a patch that is seen in a frame, so that all of it is seen: along the patch as far as it would lie beyond the picture, and on the
    ground, where that would hide part of it, up to where it is seen. With the patch that was taken.

    share: how much of an object the ground hides.
    """
    item, patch = _in_picture(shot, make, patch, frame)
    if share(item) <= TOLD_SHARE:
        return item, patch
    if ground is not None:
        higher, there = _in_picture(shot, make, ground, frame)
        if share(higher) < share(item):
            item, patch = higher, there._replace(note=HIDDEN)
    return _lifted(item, share), patch


def _in_picture(shot: Shot, make: Callable[[Patch], Object], patch: Patch, frame: float) -> tuple[Object, Patch]:
    """What is made on a patch that is moved along itself so far that no side of it lies beyond the picture, and that patch. Only as far as it
    still stands next to where it was put: else it is moved to the right or left alone, or not at all, as what was put on a point is."""
    item = make(patch)
    if shot.plate is None or not item.drawn or len(patch.rows) == 1:
        return item, patch
    camera, size, margin = camera_at(shot, frame), np.array([shot.plate.width, shot.plate.height]), EDGE_SHARE * shot.plate.width
    foot, normal = camera.project(patch.centre)[0], patch.normal
    if normal[2] < -LEAST_UP:  # under a ceiling, on which nothing stands, it is moved across the view
        normal = camera.centre - patch.centre
    for ways in ([1.0, 1.0], [1.0, 0.0]):
        at, there, shift = item, patch, np.zeros(2)
        for _ in range(ROUNDS):
            box = np.stack(np.meshgrid(*np.stack(box_of(at, frame), -1)), -1).reshape(-1, 3)  # as large as the picture wants it there
            xy, depth = camera.project(moved(pose_of(shot, at, frame), box))
            low, high = margin - xy.min(0), xy.max(0) + margin - size
            beyond = np.where((low > 0) & (high > 0), 0.0, np.maximum(low, 0) - np.maximum(high, 0))  # larger than the picture: left as it is
            if depth.min() > 0 and (np.abs(ways * beyond) < 0.5).all():
                return at, there
            shift += ways * beyond
            ray = camera.rays(foot + shift)
            away = float(meet_plane(camera.centre, ray, patch.centre, normal))
            if depth.min() <= 0 or (np.abs(shift) > MOST_ALONG * np.ptp(xy, axis=0)).any() or not 0 < away < np.inf:
                break
            there = patch._replace(centre=camera.centre + away * ray)
            at = make(there)
    return item, patch


def _lifted(item: Object, share: Callable[[Object], float]) -> Object:
    """As far up as the ground, where it slopes, would hide more of it than the little that is not seen."""
    x, y, z = item.position.value
    at = lambda up: msgspec.structs.replace(item, position=constant(x, y, round(z + up, 4)))
    high = float(np.ptp(np.stack(box_of(item, 0))[:, 2]))
    enough = lambda up: share(at(up)) <= TOLD_SHARE
    return at(_least(enough, high)) if enough(high) else item


def _least(enough: Callable[[float], bool], most: float) -> float:
    """The least from 0 to `most` that is enough; `most` where even that is not."""
    low, high = 0.0, most
    for _ in range(STEPS):
        middle = (low + high) / 2
        low, high = (low, middle) if enough(middle) else (middle, high)
    return high
