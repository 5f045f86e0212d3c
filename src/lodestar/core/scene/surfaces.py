"""The surface under the pointer: the plane that the points near it make."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ..basics.geometry import F64, Camera, fit_plane, meet_plane

NEAR_PX = 110.0
MOST = 40


class Patch(NamedTuple):
    """centre (3,): where the pointer's ray meets the surface; normal (3,) towards the camera; rows: points that made it;
    flatness: rms distance of the points from it, in scene units; slip_px: how far it is expected to slide in the picture."""

    centre: np.ndarray
    normal: np.ndarray
    rows: np.ndarray
    flatness: float
    slip_px: float


def patch_under(camera: Camera, pixel: np.ndarray, points: np.ndarray, slip: Callable[[F64], F64], snap_up: bool = True) -> Patch | None:
    """The patch under `pixel` (2,) from points (n, 3); None where fewer than four lie near. slip: px by which what stands at
    points (m, 3) slides.

    Wrong points are left out by three rounds at 2.5 times their median distance. A patch within 8 degrees of level snaps to
    level when `snap_up`, so that what is placed stands upright.
    """
    xy, depth = camera.project(points)
    away = np.linalg.norm(xy - pixel, axis=1)
    near = np.flatnonzero((depth > 0) & (away < NEAR_PX * max(1.0, camera.lens.cx / 640)))
    rows = near[np.argsort(away[near])][:MOST]
    if len(rows) < 4:
        return None
    kept = rows
    for _ in range(3):
        centre, normal, rms = fit_plane(points[kept])
        distance = np.abs((points[rows] - centre) @ normal)
        better = rows[distance <= max(2.5 * float(np.median(distance)), 1e-9)]
        if len(better) < 4:
            break
        kept = better
    centre, normal, rms = fit_plane(points[kept])
    if snap_up and abs(normal[2]) > np.cos(np.deg2rad(8)):
        normal = np.array([0.0, 0.0, 1.0])
    if normal @ (camera.centre - centre) < 0:
        normal = -normal
    ray = camera.rays(np.asarray(pixel, float))
    distance = float(meet_plane(camera.centre, ray, centre, normal))
    if not np.isfinite(distance) or distance > 8 * np.linalg.norm(centre - camera.centre):
        return None
    at = camera.centre + distance * ray
    return Patch(at, normal, kept, rms, float(slip(at[None])[0]))
