"""A lens that zooms: how fast, told from the epipolar geometry of pairs of frames before anything is solved.

By the lens of each frame a fundamental matrix becomes an essential one, whose first two singular values are equal; so a pair
tells one thing of the two focal lengths, and many pairs tell how they change. A solve with one focal length cannot be asked:
it bends to a zoom, explains the tracks to half a pixel and is wrong by a factor of four (measured on seeded shots).
Source: Hartley & Zisserman, Multiple View Geometry, 2nd ed., 9.6; used as in S. Bougnoux, From projective to Euclidean space
under any practical situation, ICCV 1998.
"""

import numpy as np

from .constants import SOLVER
from .views import Table, fundamental

SPEEDS = np.linspace(-0.03, 0.03, 121)  # share by which the focal length grows in a frame
FOCALS = np.array([0.45, 0.6, 0.8, 1.0, 1.3, 1.6, 2.0, 2.6])  # in picture widths
GAPS = (8, 14, 22)
# water that drifts over half of the frame passes for a zoom


def zoom_speeds(table: Table, a: int, b: int, focals: list[float]) -> list[float]:
    """For each focal length (px, in frame a) the speed of the zoom that suits the frames from a to b best, as a share a frame.
    Right to 0.0005 at the true focal length, on seeded shots."""
    return [float(v) for v in SPEEDS[_unlike_essential(table, a, b, np.array(focals)).argmin(1)]]


def _unlike_essential(table: Table, a: int, b: int, focals: np.ndarray) -> np.ndarray:
    """(focals, SPEEDS) how unlike the two singular values are on average, 0 to 1; all zero where no pair tells."""
    off, count = np.zeros((len(focals), len(SPEEDS))), 0
    for gap in GAPS:
        for i in range(a, min(b, a + SOLVER.zoom_window) - gap + 1, 5):
            _, p, q = table.shared(i, i + gap)
            found = fundamental(p - table.centre, q - table.centre, SOLVER.zoom_near_px * table.width / 1280, 2000) if len(p) >= 25 else None
            if found is None:
                continue
            first, second = (np.multiply.outer(focals, np.exp(SPEEDS * (j - a))) for j in (i, i + gap))
            E = np.broadcast_to(found[0], (*first.shape, 3, 3)).copy()
            E[..., :2, :] *= second[..., None, None]
            E[..., :, :2] *= first[..., None, None]
            # of rank two, so that the sum and the product of the squares tell both
            M = E @ E.swapaxes(-1, -2)
            total = np.trace(M, axis1=-2, axis2=-1)
            root = np.sqrt(np.maximum(2 * (M * M).sum((-2, -1)) - total**2, 0))
            off += 1 - np.sqrt(np.maximum(total - root, 0) / np.maximum(total + root, 1e-30))
            count += 1
    return off / max(count, 1)


def looks_zooming(table: Table) -> bool:
    """Whether no constant focal length accounts for the frames as well as one that changes does."""
    last = table.frames - 1
    starts = np.unique(np.linspace(0, max(last - SOLVER.zoom_window, 0), SOLVER.zoom_windows).round().astype(int))
    off = np.array([_unlike_essential(table, k, min(k + SOLVER.zoom_window, last), FOCALS * table.width) for k in starts])
    still = off[:, :, len(SPEEDS) // 2].mean(0)
    free = off.min(2).mean(0)
    speeds = np.abs(SPEEDS[off[:, free.argmin()].argmin(1)])
    return bool(speeds.max() >= SOLVER.zooms_from and still.min() > SOLVER.zoom_worse * free.min())
