"""Where things stand: a pose as a matrix, and back."""

import numpy as np

from ..basics.geometry import turn_matrix

LEAST_SIZE = 1e-6  # a size of zero or less has no place to draw


def pose_matrix(position: tuple[float, ...], turn: tuple[float, ...], size: float, pivot: tuple[float, ...]) -> np.ndarray:
    """(4, 4) from an object's own axes to its parent's: turned (heading, pitch, roll in degrees) and sized round `pivot`, which
    comes to lie at `position`."""
    m = np.eye(4)
    m[:3, :3] = turn_matrix(turn) * max(size, LEAST_SIZE)  # type: ignore[arg-type]
    m[:3, 3] = np.asarray(position) - m[:3, :3] @ np.asarray(pivot)
    return m


def moved(m: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Points (..., 3) through a (4, 4) of turn, size and place."""
    return np.asarray(points) @ m[:3, :3].T + m[:3, 3]


def size_of(m: np.ndarray) -> float:
    """The factor of a (4, 4) of turn, even size and place."""
    return float(np.linalg.norm(m[:3, 0]))
