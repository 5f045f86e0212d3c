"""The rolling shutter: rows that are read one after the other while the camera moves.

One number, the readout, stands for the clip: it varies in the adjustment beside the lens. What it displaces a row by follows
from the camera's motion between the neighbouring frames, which is taken anew from round to round.
"""

import numpy as np
from scipy.spatial.transform import Rotation

from ..basics.geometry import rotation_from_vector
from .adjust import Scene, Seen, project


def motion_of(scene: Scene, moves: bool) -> tuple[np.ndarray, np.ndarray]:
    """(n, 3) turn in radians and (n, 3) shift of each frame in one frame's time: that between its neighbours."""
    n = len(scene.R)
    before, after = np.maximum(np.arange(n) - 1, 0), np.minimum(np.arange(n) + 1, n - 1)
    apart = np.maximum(after - before, 1)[:, None]
    turn = Rotation.from_matrix(scene.R[after] @ scene.R[before].transpose(0, 2, 1)).as_rotvec() / apart
    return turn, (scene.C[after] - scene.C[before]) / apart * moves


def displacement(scene: Scene, s: Seen, motion: tuple[np.ndarray, np.ndarray], centre: tuple[float, float], height: int) -> np.ndarray:
    """(k, 2) px by which each observation is displaced for a readout of one whole frame, to first order.

    Poses hold for the middle row. motion: of each frame of the scene.
    """
    late = s.xy[:, 1] / (height - 1) - 0.5
    step = 0.05
    turn, shift = motion
    ahead = scene._replace(R=rotation_from_vector(step * turn) @ scene.R, C=scene.C + step * shift)
    behind = scene._replace(R=rotation_from_vector(-step * turn) @ scene.R, C=scene.C - step * shift)
    return (project(ahead, s.frame, s.point, centre)[0] - project(behind, s.frame, s.point, centre)[0]) / (2 * step) * late[:, None]
