"""The rolling shutter: rows that are read one after the other while the camera moves.

It is taken as a correction of the tracks: what the camera's motion, carried on from frame to frame, displaces a row by. So
the adjustment itself knows nothing of it, and one number, the readout, stands for the clip.
"""

from typing import NamedTuple

import numpy as np
from scipy.spatial.transform import Rotation

from ..basics.geometry import rotation_from_vector
from . import normal
from .adjust import Scene, Seen, project

HINT = 0.06  # share of the squared error that a readout must explain before it is spoken of


class Readout(NamedTuple):
    """share of a frame's time from the first row to the last; its deviation; gain: share of the squared error explained."""

    share: float
    deviation: float
    gain: float


def displacement(scene: Scene, s: Seen, centre: tuple[float, float], height: int, moves: bool) -> np.ndarray:
    """(k, 2) px by which each observation is displaced for a readout of one whole frame, to first order.

    Poses hold for the middle row. The motion at a frame is that between its neighbours.
    """
    n = len(scene.R)
    before, after = np.maximum(np.arange(n) - 1, 0), np.minimum(np.arange(n) + 1, n - 1)
    apart = np.maximum(after - before, 1)[:, None]
    turn = Rotation.from_matrix(scene.R[after] @ scene.R[before].transpose(0, 2, 1)).as_rotvec() / apart
    shift = (scene.C[after] - scene.C[before]) / apart * moves
    late = s.xy[:, 1] / (height - 1) - 0.5
    step = 0.05
    ahead = scene._replace(R=rotation_from_vector(step * turn) @ scene.R, C=scene.C + step * shift)
    behind = scene._replace(R=rotation_from_vector(-step * turn) @ scene.R, C=scene.C - step * shift)
    return (project(ahead, s.frame, s.point, centre)[0] - project(behind, s.frame, s.point, centre)[0]) / (2 * step) * late[:, None]


def estimate(scene: Scene, s: Seen, centre: tuple[float, float], height: int, moves: bool, loss_px: float) -> Readout:
    """The readout that explains most of the residuals, each frame's pose being free to give way to it.

    s: the tracks as filmed. Robust by the weights of Cauchy's loss.
    """
    k = len(s.frame)
    A, B, E = np.zeros((k, 2, 9)), np.zeros((k, 2, 3)), np.zeros((k, 2))
    normal.derive(k, scene.R, scene.C, scene.X, scene.K, s.frame, s.point, s.xy, *centre, loss_px**2, A, B, E)
    error, _ = project(scene, s.frame, s.point, centre)
    square = ((error - s.xy) ** 2).sum(1)
    weight = np.sqrt(1 / (1 + square / loss_px**2))[:, None]
    G = displacement(scene, s, centre, height, moves) * weight
    columns = 6 if moves else 3
    order = np.argsort(s.frame, kind="stable")
    upper = lower = before = 0.0
    for rows in np.split(order, np.flatnonzero(np.diff(s.frame[order])) + 1):
        if len(rows) < columns:
            continue
        basis = np.linalg.qr(A[rows, :, :columns].reshape(-1, columns))[0]
        g, e = G[rows].ravel(), E[rows].ravel()
        g, e = g - basis @ (basis.T @ g), e - basis @ (basis.T @ e)
        upper, lower, before = upper - float(g @ e), lower + float(g @ g), before + float(e @ e)
    if lower < 1e-12:
        return Readout(0.0, np.inf, 0.0)
    share = upper / lower
    left = before - share * share * lower
    return Readout(share, float(np.sqrt(left / max(2 * k, 1) / lower)), float(1 - left / max(before, 1e-12)))
