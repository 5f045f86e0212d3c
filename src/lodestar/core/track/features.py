"""Where to follow: corners spread evenly over the picture."""

import cv2
import numpy as np

CELLS = (12, 8)  # across, down, at 16:9
BLOCK_PX = 7
# the lowest texture that can be followed, as the smaller eigenvalue for 8-bit pictures: about three times what noise of
# 2.5 code values makes (measured on flat grey with that noise)
FLOOR = 4e-4


def detect(luma: np.ndarray, ignore: np.ndarray | None, taken: np.ndarray, count: int, spacing_px: float) -> np.ndarray:
    """(n, 2) float32 pixels of new corners so that, with those `taken` (m, 2), about `count` lie evenly over the picture.

    luma (h, w) uint8; ignore (h, w) bool or None: where not to look. Each cell of a grid has its quota, so weakly textured
    ground gets its share. Source: J. Shi and C. Tomasi, Good features to track, CVPR 1994.
    """
    height, width = luma.shape
    across, down = CELLS if width >= height else CELLS[::-1]
    quality = cv2.cornerMinEigenVal(cv2.GaussianBlur(luma, (0, 0), 0.8), BLOCK_PX, ksize=3)
    peak = quality >= cv2.dilate(quality, np.ones((2 * int(spacing_px / 2) + 1,) * 2, np.uint8))
    free = np.ones(luma.shape, np.uint8)
    for x, y in taken:
        cv2.circle(free, (int(round(x)), int(round(y))), int(spacing_px), 0, -1)
    edge = 12
    free[:edge], free[-edge:], free[:, :edge], free[:, -edge:] = 0, 0, 0, 0
    if ignore is not None:
        free[ignore] = 0
    ys, xs = np.nonzero(peak & (free > 0) & (quality > FLOOR))
    if len(xs) == 0:
        return np.zeros((0, 2), np.float32)
    strength = quality[ys, xs]
    cell = (ys * down // height) * across + xs * across // width
    have = np.zeros(across * down, int)
    if len(taken):
        tx, ty = np.clip(taken[:, 0], 0, width - 1).astype(int), np.clip(taken[:, 1], 0, height - 1).astype(int)
        have = np.bincount(ty * down // height * across + tx * across // width, minlength=across * down)
    quota = max(1, int(np.ceil(count / (across * down))))
    chosen = []
    for row in np.lexsort((-strength, cell)):
        if have[cell[row]] < quota:
            have[cell[row]] += 1
            chosen.append(row)
    points = np.stack([xs[chosen], ys[chosen]], 1).astype(np.float32).reshape(-1, 2)
    return _thin(points, strength[chosen], spacing_px)


def _thin(points: np.ndarray, strength: np.ndarray, spacing_px: float) -> np.ndarray:
    """Drop the weaker of any two that lie closer than the spacing."""
    kept: dict[tuple[int, int], list[np.ndarray]] = {}
    result = []
    for row in np.argsort(-strength, kind="stable"):
        p = points[row]
        key = (int(p[0] // spacing_px), int(p[1] // spacing_px))
        near = [q for i in (-1, 0, 1) for j in (-1, 0, 1) for q in kept.get((key[0] + i, key[1] + j), ())]
        if all((p[0] - q[0]) ** 2 + (p[1] - q[1]) ** 2 >= spacing_px**2 for q in near):
            kept.setdefault(key, []).append(p)
            result.append(p)
    return np.array(result, np.float32).reshape(-1, 2)
