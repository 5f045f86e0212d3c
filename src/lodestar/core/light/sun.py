"""Where the sun stands, and how to read it from a shadow."""

import numpy as np

from ..basics.errors import UserError


def direction(bearing_deg: float, height_deg: float) -> np.ndarray:
    """(3,) unit vector towards the sun. bearing: clockwise from the scene's y axis, seen from above; height over the horizon."""
    b, h = np.deg2rad([bearing_deg, height_deg])
    return np.array([np.sin(b) * np.cos(h), np.cos(b) * np.cos(h), np.sin(h)])


def bearing_and_height(d: np.ndarray) -> tuple[float, float]:
    """Degrees of a direction (3,); bearing 0..360."""
    return float(np.rad2deg(np.arctan2(d[0], d[1])) % 360), float(np.rad2deg(np.arcsin(np.clip(d[2] / np.linalg.norm(d), -1, 1))))


def from_shadow(foot: np.ndarray, tip: np.ndarray, height: float) -> np.ndarray:
    """(3,) direction of the sun from where something stands (foot), where its shadow ends (tip), and how high it is.

    Raises UserError for a shadow without length or a thing without height.
    """
    along = np.asarray(foot, float) - np.asarray(tip, float)
    if np.linalg.norm(along[:2]) < 1e-6 or height <= 0:
        raise UserError("This shadow has no length.", "Drag from the foot of what throws the shadow to the shadow's tip.")
    d = along + [0, 0, height]
    return d / np.linalg.norm(d)


def from_shadows(feet: np.ndarray, tips: np.ndarray, heights: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The direction (3,) that agrees best with several shadows (n, 3), (n, 3), (n,), and by how many degrees each is off."""
    each = np.array([from_shadow(f, t, h) for f, t, h in zip(feet, tips, heights)])
    mean = each.mean(0)
    mean /= np.linalg.norm(mean)
    return mean, np.rad2deg(np.arccos(np.clip(each @ mean, -1, 1)))
