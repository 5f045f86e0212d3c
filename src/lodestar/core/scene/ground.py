"""The scene's frame of reference: z up, the ground at z = 0, in metres where a distance is known."""

import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import Similarity, fit_plane, identity, plane_by_votes
from ..solve.result import Solve

EYE_HEIGHT = 1.6  # metres over the ground that are taken for a camera that only turns (common practice, no source)


def reference(
    solve: Solve, on_ground: tuple[int, ...], origin: int | None, distance: tuple[int, int, float] | None, eye_height: float = EYE_HEIGHT
) -> Similarity:
    """From the solve's own frame of reference to the scene's.

    on_ground: three or more tracks on the ground, or none, when the largest level plane below the camera is taken. origin: a
    track for (0, 0, 0), or the ground below the middle of the points. distance: two tracks and the metres between them.
    eye_height: metres from the ground to a camera that only turns, which gives directions and no distances.
    Raises UserError when the points named have no place in the solve, or do not span a plane.
    """
    if solve.motion == "turning":
        return Similarity(1.0, np.eye(3), np.array([0, 0, eye_height]))
    place = {int(k): xyz for k, xyz in zip(solve.point_ids, solve.xyz)}
    known = np.array([place[k] for k in on_ground if k in place])
    if on_ground and len(known) < 3:
        raise UserError(
            f"Only {len(known)} of the chosen points have a place in the solve; a plane needs three.", "Choose more points on the ground."
        )
    if len(known):
        centre, normal = robust_plane(known)
    else:
        centre, normal = level_plane(solve)
    up = -solve.R[:, 1, :].mean(0)
    normal = normal if normal @ up > 0 else -normal
    ahead = solve.R[:, 2, :].mean(0)
    ahead = ahead - normal * (ahead @ normal)
    ahead /= max(float(np.linalg.norm(ahead)), 1e-9)
    Q = np.stack([np.cross(ahead, normal), ahead, normal])
    scale = 1.0
    if distance is not None and distance[0] in place and distance[1] in place:
        apart = float(np.linalg.norm(place[distance[0]] - place[distance[1]]))
        scale = distance[2] / apart if apart > 1e-9 else 1.0
    start = place[origin] if origin in place else _foot(solve, centre, normal)
    shift = -scale * Q @ start
    if origin is not None and origin in place:
        # the origin may lie on a post; the ground stays at the plane that was said
        shift[2] = -scale * (Q @ centre)[2] if len(known) else shift[2]
    return Similarity(scale, Q, shift)


def _foot(solve: Solve, centre: np.ndarray, normal: np.ndarray) -> np.ndarray:
    middle = np.median(solve.xyz, 0)
    return middle - normal * ((middle - centre) @ normal)


def robust_plane(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Centre and unit normal of the plane of (n, 3) points; shrugs off wrong ones. Raises UserError for points in one line."""
    centre, normal, rms = fit_plane(points)
    if len(points) > 4:
        inside = plane_by_votes(points, _spread(points) * 0.02, np.random.default_rng(0))[2]
        centre, normal, rms = fit_plane(points[inside])
        points = points[inside]
    size = np.linalg.svd(points - centre, compute_uv=False)
    if size[1] < 0.02 * size[0]:
        raise UserError("The chosen points lie in one line, which does not tell how the ground leans.", "Add a point beside the line.")
    return centre, normal


def _spread(points: np.ndarray) -> float:
    return float(np.median(np.linalg.norm(points - np.median(points, 0), axis=1)))


def level_plane(solve: Solve) -> tuple[np.ndarray, np.ndarray]:
    """The largest plane below the camera path within 35 degrees of level: (centre, normal)."""
    up = -solve.R[:, 1, :].mean(0)
    up /= np.linalg.norm(up)
    lowest = (solve.centres @ up).min()
    below = solve.xyz[(solve.xyz @ up) < lowest]
    if len(below) < 8:
        return np.median(solve.xyz, 0), up
    near = below[np.argsort(np.linalg.norm(below - solve.centres.mean(0), axis=1))[: max(40, len(below) * 3 // 4)]]
    found = plane_by_votes(near, 0.006 * _spread(near) + 1e-9, np.random.default_rng(0), lambda n: abs(n @ up) > np.cos(np.deg2rad(35)))
    centre, normal, _ = fit_plane(near[found[2]]) if found[2].sum() >= 3 else (*found[:2], 0.0)
    return centre, normal if normal @ up > 0 else -normal


def scene_of(
    solve: Solve | None, on_ground: tuple[int, ...], origin: int | None, distance: tuple[int, int, float] | None, eye_height: float = EYE_HEIGHT
) -> tuple[Similarity, str]:
    """As `reference`, but what cannot be is left out and told: the picture goes on while the user mends it."""
    if solve is None:
        return identity(), ""
    try:
        return reference(solve, on_ground, origin, distance, eye_height), ""
    except UserError as error:
        return reference(solve, (), origin, distance, eye_height), error.what
