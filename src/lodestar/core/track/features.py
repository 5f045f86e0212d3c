"""Where to follow: corners spread evenly over the picture."""

import cv2
import numpy as np

CELLS = (12, 8)  # across, down, at 16:9
BLOCK_PX = 7
# the lowest texture that can be followed, as the smaller eigenvalue for 8-bit pictures: a multiple of what the calmest tenth
# of the picture has (noise, measured on flat grey: its peaks reach four times that), within bounds
FLOOR, FLOOR_RANGE = 4.5, (1.5e-5, 4e-4)
EDGE_PX = 15


def noise_of(luma: np.ndarray) -> float:
    """Standard deviation of the picture's noise in code values, at least 0.5.

    Source: J. Immerkaer, Fast noise variance estimation, CVIU 64(2), 1996; by the median, so that texture does not count.
    """
    rows = luma[: luma.shape[0] // 6 * 6].reshape(-1, 6, luma.shape[1])[:, :3].astype(np.int16)
    d = rows[:, 0] - 2 * rows[:, 1] + rows[:, 2]
    e = np.abs(d[:, :-2] - 2 * d[:, 1:-1] + d[:, 2:])[:, ::2].ravel()
    # noise is what the calm parts show; 36 is the operator's gain for variance
    parts = np.median(e[: len(e) // 64 * 64].reshape(-1, 64), axis=1)
    return max(0.5, float(np.percentile(parts, 25)) / 0.6745 / 6.0) if len(parts) else 0.5


def detect(luma: np.ndarray, ignore: np.ndarray | None, taken: np.ndarray, count: int, spacing_px: float) -> np.ndarray:
    """(n, 2) float32 pixels of new corners so that, with those `taken` (m, 2), about `count` lie evenly over the picture.

    Pictures wider than 1400 px are searched at half of their size, or less: where a corner is to the pixel does not matter.
    """
    reduce = int(np.ceil(max(luma.shape) / 1400))
    if reduce > 1:
        h, w = luma.shape[0] // reduce * reduce, luma.shape[1] // reduce * reduce
        small = cv2.resize(luma[:h, :w], (w // reduce, h // reduce), interpolation=cv2.INTER_AREA)
        hidden = None if ignore is None else ignore[:h:reduce, :w:reduce]
        return detect(small, hidden, (taken - (reduce - 1) / 2) / reduce, count, spacing_px / reduce) * reduce + (reduce - 1) / 2
    return _detect(luma, ignore, taken, count, spacing_px)


def _detect(luma: np.ndarray, ignore: np.ndarray | None, taken: np.ndarray, count: int, spacing_px: float) -> np.ndarray:
    """As `detect`, at this size.

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
    edge = EDGE_PX
    free[:edge], free[-edge:], free[:, :edge], free[:, -edge:] = 0, 0, 0, 0
    if ignore is not None:
        free[ignore] = 0
    floor = np.clip(FLOOR * np.percentile(quality[::4, ::4], 10), *FLOOR_RANGE)
    ys, xs = np.nonzero(peak & (free > 0) & (quality > floor))
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
