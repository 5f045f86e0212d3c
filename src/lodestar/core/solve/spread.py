"""How unsure the place of each solved point is, as a covariance: long and thin along the view where parallax is small."""

import numpy as np

from ..track.tracks import Tracks
from .result import Solve

LEAST_NOISE_PX = 0.05


def point_covariances(solve: Solve, tracks: Tracks) -> np.ndarray:
    """(m, 3, 3) covariance of each solved point in the solve's own frame of reference, squared units; the cameras are taken as known.

    Each observation tells the point across its ray to noise * depth / focal length; what the observations tell adds up.
    Source: Hartley & Zisserman, Multiple View Geometry, 2nd ed., 5.2 (information of a linearised least-squares fit).
    """
    count = len(solve.point_ids)
    row_of = np.full(max(tracks.count, int(solve.point_ids.max(initial=-1)) + 1), -1)
    row_of[solve.point_ids] = np.arange(count)
    frame_at = np.full(max(int(tracks.frame.max(initial=0)), int(solve.frames.max(initial=0))) + 1, -1)
    frame_at[solve.frames] = np.arange(len(solve.frames))
    point, camera = row_of[tracks.track], frame_at[tracks.frame]
    known = (point >= 0) & (camera >= 0)
    point, camera = point[known], camera[known]
    ray = solve.xyz[point] - solve.centres[camera]
    depth2 = np.maximum((ray * ray).sum(1), 1e-12)
    ray /= np.sqrt(depth2)[:, None]
    weight = (solve.lens.fx * solve.zooms[camera]) ** 2 / (depth2 * max(solve.noise_px, LEAST_NOISE_PX) ** 2)
    told = np.zeros((count, 3, 3))
    for i in range(3):
        for j in range(i, 3):
            told[:, i, j] = told[:, j, i] = np.bincount(point, weight * ((i == j) - ray[:, i] * ray[:, j]), count)
    # a point without observations is told nothing: a weak hint of its own size keeps the inverse finite
    size2 = np.maximum((solve.xyz**2).sum(1), 1e-6)
    return np.linalg.inv(told + np.eye(3) / (100 * size2)[:, None, None])
