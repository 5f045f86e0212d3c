"""The surface under the pointer: the plane that the points near it make, or the one that it is told to snap to."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64, fit_plane, meet_plane, plane_by_votes
from ..projection.camera import Camera

NEAR_PX = 110.0
MOST, LEAST_POINTS = 40, 4
SNAP_DEG = 8.0
LEAST_WALL_DEG = 30.0  # that the plane of a wall's points leans from lying flat
EDGE_ON_DEG = 2.0
NEAR_SHARE = 0.03  # of the points' spread: so near to a plane a point votes for it
FARTHEST = 8.0  # times the distance of the points: beyond, a plane is met by chance
UP = np.array([0.0, 0.0, 1.0])


class Patch(NamedTuple):
    """centre (3,): where the pointer's ray meets the surface; normal (3,) towards the camera; rows: points that made it;
    flatness: rms distance of the points from it, in scene units; slip_px: how far it is expected to slide in the picture.
    note: what is worth saying of it."""

    centre: np.ndarray
    normal: np.ndarray
    rows: np.ndarray
    flatness: float
    slip_px: float
    note: str = ""


def rows_under(camera: Camera, pixel: np.ndarray, points: np.ndarray, trusted: np.ndarray | None = None) -> np.ndarray:
    """Rows of the points (n, 3) that are seen near a pixel, nearest first; only those of `trusted` (n,) where there are enough."""
    xy, depth = camera.project(points)
    away = np.linalg.norm(xy - pixel, axis=1)
    near = np.flatnonzero((depth > 0) & (away < NEAR_PX * max(1.0, camera.lens.cx / 640)))
    near = near[np.argsort(away[near])]
    if trusted is not None and trusted[near].sum() >= LEAST_POINTS:
        near = near[trusted[near]]
    return near[:MOST]


def weighted_plane(points: np.ndarray, covariances: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray, float]:
    """Centre, unit normal and rms distance of the plane through points (n, 3), each weighted by how well it is known across it.

    covariances (n, 3, 3), or None for even weights. Two rounds, since the weight depends on the normal. The flatness of the
    surface itself is added to each variance, so that one sure point does not take all of the weight.
    """
    centre, normal, rms = fit_plane(points)
    if covariances is None:
        return centre, normal, rms
    for _ in range(2):
        across = np.einsum("i,nij,j->n", normal, covariances, normal)
        weight = 1 / (across + float(np.median(((points - centre) @ normal) ** 2)) + 1e-12)
        weight /= weight.sum()
        centre = weight @ points
        off = points - centre
        normal = np.linalg.eigh((off * weight[:, None]).T @ off)[1][:, 0]
        rms = float(np.sqrt(weight @ (off @ normal) ** 2))
    return centre, normal, rms


def sturdy_plane(points: np.ndarray, covariances: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray, np.ndarray, float]:
    """As `weighted_plane`, without the points that do not belong: (centre, normal, kept (n,) bool, rms).

    The plane that most points lie near is the start; two rounds then leave out what lies beyond 2.5 times the median distance.
    Raises UserError for fewer than three points or points in one line.
    """
    if len(points) < 3:
        raise UserError(f"A surface needs three points, there are {len(points)}.", "Add points that lie on it.")
    spread = np.linalg.svd(points - points.mean(0), compute_uv=False)
    if spread[1] < 0.02 * spread[0]:
        raise UserError("The points lie in one line, which does not tell how the surface leans.", "Add a point beside the line.")
    kept = np.ones(len(points), bool)
    if len(points) > 5:
        near = NEAR_SHARE * float(np.median(np.linalg.norm(points - np.median(points, 0), axis=1)))
        kept = plane_by_votes(points, near, np.random.default_rng(0))[2]
    for _ in range(2):
        centre, normal, rms = weighted_plane(points[kept], None if covariances is None else covariances[kept])
        distance = np.abs((points - centre) @ normal)
        better = distance <= max(2.5 * float(np.median(distance[kept])), 1e-9)
        if better.sum() < 4:
            break
        kept = better
    centre, normal, rms = weighted_plane(points[kept], None if covariances is None else covariances[kept])
    return centre, normal, kept, rms


def patch_under(
    camera: Camera,
    pixel: np.ndarray,
    points: np.ndarray,
    slip: Callable[[F64], F64],
    covariances: np.ndarray | None = None,
    rows: np.ndarray | None = None,
    snap: str = "surface",
    trusted: np.ndarray | None = None,
) -> Patch | None:
    """The patch under `pixel` (2,) from points (n, 3) with covariances (n, 3, 3); None where there is none.

    rows: the points that make it, by the user's own choice; else those near the pixel. snap: 'surface' is the plane of the
    points, which becomes level or upright where it is within 8 degrees; 'wall': the upright plane that suits them best, where they
    stand up at all.
    slip: px by which what stands at points (m, 3) slides. trusted (n,): points that count where there are enough of them.
    """
    chosen = rows is not None
    rows = rows_under(camera, pixel, points, trusted) if rows is None else rows
    if len(rows) < (3 if chosen else LEAST_POINTS):
        return None
    try:
        centre, normal, kept, rms = sturdy_plane(points[rows], None if covariances is None else covariances[rows])
    except UserError:
        return None
    rows = rows[kept]
    if snap == "wall":
        if abs(normal[2]) > np.cos(np.deg2rad(LEAST_WALL_DEG)):
            return None  # they lie flat: any upright plane through them would be as good as any other
        off = points[rows, :2] - centre[:2]
        normal = np.array([*np.linalg.svd(off, full_matrices=False)[2][1], 0.0])
        rms = float(np.sqrt(np.mean((off @ normal[:2]) ** 2)))
    else:
        normal = snapped(normal)
    if normal @ (camera.centre - centre) < 0:
        normal = -normal
    ray = camera.rays(np.asarray(pixel, float))
    if abs(ray @ normal) < np.sin(np.deg2rad(EDGE_ON_DEG)):
        return None  # seen edge-on, a px is metres
    distance = float(meet_plane(camera.centre, ray, centre, normal))
    if not np.isfinite(distance) or distance > FARTHEST * np.linalg.norm(centre - camera.centre):
        return None
    at = camera.centre + distance * ray
    return Patch(at, normal, rows, rms, float(slip(at[None])[0]))


def snapped(normal: np.ndarray) -> np.ndarray:
    """A normal that is level or upright where it nearly is, so that what is placed there stands as things stand."""
    if abs(normal[2]) > np.cos(np.deg2rad(SNAP_DEG)):
        return UP * np.sign(normal[2])
    if abs(normal[2]) < np.sin(np.deg2rad(SNAP_DEG)):
        flat = normal * [1, 1, 0]
        return flat / np.linalg.norm(flat)
    return normal


def on_ground(camera: Camera, pixel: np.ndarray, farthest: float = np.inf) -> np.ndarray | None:
    """(3,) where the ray of a pixel meets the level ground; None above the horizon and beyond `farthest`."""
    ray = camera.rays(np.asarray(pixel, float))
    distance = float(meet_plane(camera.centre, ray, np.zeros(3), UP))
    return camera.centre + distance * ray if np.isfinite(distance) and distance < farthest else None


def heading_towards(direction: np.ndarray) -> float:
    """Degrees by which something that faces -y is turned to face against `direction`: its reader looks along that."""
    return float(np.rad2deg(-np.arctan2(direction[0], direction[1])))
