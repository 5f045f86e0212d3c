"""A subject's own shadow on the level ground: where it falls by the sun, and the sun by where it falls."""

from collections.abc import Callable
from typing import NamedTuple

import cv2
import numpy as np

CELL_PX = 3  # of the small picture: the sun is looked for on cells of it
BEARINGS_DEG, HEIGHTS_DEG = np.arange(0, 360, 10.0), np.arange(12, 80, 6.0)
FINER_DEG = 5.0, 3.0  # of bearing and height, on both sides of the best of these
FITS, LEAST_SHARE = 0.5, 0.1  # overlap from which on a dark patch is the shadow of a subject; of the subject's cells, which it has at least


class Upright(NamedTuple):
    """Pixels of a subject as places in the scene, (n, 3) m, z up, the ground at 0; project: (m, 3) places -> (m, 2) px of the plate and (m,) depths."""

    at: np.ndarray
    project: Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]

    def shadow(self, light: np.ndarray) -> np.ndarray:
        """(m, 2) px of the plate to which the shadow falls; light: (3,) towards the sun, which is over the horizon."""
        xy, depth = self.project(self.at - self.at[:, 2:] / light[2] * light)
        return xy[(depth > 0) & np.isfinite(xy).all(1)]


# (frame, places (n, 2) px of the plate that are of a subject) -> how it stands there; None where nobody knows
Stands = Callable[[int, np.ndarray], Upright | None]


def light_by_shadow(upright: Upright, subject: np.ndarray, dark: np.ndarray, to_small: Callable[[np.ndarray], np.ndarray]) -> np.ndarray | None:
    """(3,) towards the sun by which the shadow of a subject lies where the ground is darker than it was; None where no patch fits. subject, dark: (h, w)
    bool of the small picture; to_small: px of the plate -> px of that."""
    cells = lambda mask: cv2.resize(mask.astype(np.float32), (mask.shape[1] // CELL_PX, mask.shape[0] // CELL_PX), interpolation=cv2.INTER_AREA)
    own = cv2.dilate((cells(subject) > 0.2).astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
    there = (cells(dark) > 0.5) & ~own
    high, wide = own.shape

    def sun(bearing: float, height: float) -> np.ndarray:
        b, h = np.deg2rad([bearing, height])
        return np.array([np.sin(b), np.cos(b), np.tan(h)]) * np.cos(h)

    def fit(bearing: float, height: float) -> float:
        at = np.floor((to_small(upright.shadow(sun(bearing, height))) + 0.5) / CELL_PX)
        x, y = at[((at >= 0) & (at < [wide, high])).all(1)].astype(int).T
        hit = np.zeros((high, wide), np.uint8)
        hit[y, x] = 1
        falls = (cv2.morphologyEx(hit, cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8)) > 0) & ~own
        both = float((falls & there).sum())
        return 0.0 if both < LEAST_SHARE * own.sum() else 2 * both / float(falls.sum() + near.sum())

    # dark patches far from the subject are no shadow of it
    count, label = cv2.connectedComponents(there.astype(np.uint8))
    beside = np.unique(label[cv2.dilate(own.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0])
    near = np.isin(label, beside[beside > 0])
    best = max((fit(b, h), b, h) for b in BEARINGS_DEG for h in HEIGHTS_DEG)
    best = max(
        (fit(best[1] + b, best[2] + h), best[1] + b, best[2] + h) for b in (-FINER_DEG[0], 0, FINER_DEG[0]) for h in (-FINER_DEG[1], 0, FINER_DEG[1])
    )
    return sun(*best[1:]) if best[0] > FITS else None
