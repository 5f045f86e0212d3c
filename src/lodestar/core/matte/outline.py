"""Closed lines with smooth corners, and the mattes that they make."""

import cv2
import numpy as np

STEPS = 12
FINE = 4  # sub-pixels across and down


def smooth_line(points: np.ndarray, steps: int = STEPS) -> np.ndarray:
    """(n * steps, 2): a closed curve through (n, 2) points. Source: E. Catmull and R. Rom, 1974, centripetal form."""
    p = np.asarray(points, float)
    if len(p) < 3:
        return p
    p0, p1, p2, p3 = np.roll(p, 1, 0), p, np.roll(p, -1, 0), np.roll(p, -2, 0)
    gap = [np.sqrt(np.maximum(np.linalg.norm(b - a, axis=1, keepdims=True), 1e-6)) for a, b in ((p0, p1), (p1, p2), (p2, p3))]
    # tangents of the centripetal form, as a cubic Hermite over 0..1
    m1 = gap[1] * ((p1 - p0) / gap[0] - (p2 - p0) / (gap[0] + gap[1]) + (p2 - p1) / gap[1])
    m2 = gap[1] * ((p2 - p1) / gap[1] - (p3 - p1) / (gap[1] + gap[2]) + (p3 - p2) / gap[2])
    u = np.arange(steps) / steps
    h = np.stack([2 * u**3 - 3 * u**2 + 1, u**3 - 2 * u**2 + u, -2 * u**3 + 3 * u**2, u**3 - u**2])
    return np.einsum("ks,knc->nsc", h, np.stack([p1, m1, p2, m2])).reshape(-1, 2)


def coverage(points: np.ndarray, width: int, height: int, feather_px: float = 0.0) -> np.ndarray:
    """(height, width) float32 in 0..1: how much of each pixel the smooth closed line covers, fading outward over feather_px."""
    result = np.zeros((height, width), np.float32)
    if len(points) < 3:
        return result
    line = smooth_line(points)
    low = np.clip(np.floor(line.min(0)).astype(int) - 1, 0, [width, height])
    high = np.clip(np.ceil(line.max(0)).astype(int) + 2, 0, [width, height])
    if (high <= low).any():
        return result
    # filled at four times the size: OpenCV's own antialiasing widens a polygon by two thirds of a pixel (measured)
    size = high - low
    fine = np.zeros((int(size[1]) * FINE, int(size[0]) * FINE), np.uint8)
    corners = np.round(((line - low + 0.5) * FINE - 0.5) * 16).astype(np.int32)
    cv2.fillPoly(fine, [corners.reshape(-1, 1, 2)], 255, cv2.LINE_8, 4)
    part = cv2.resize(fine, (int(size[0]), int(size[1])), interpolation=cv2.INTER_AREA)
    result[low[1] : high[1], low[0] : high[0]] = part.astype(np.float32) / 255
    if feather_px > 0.25:
        away = cv2.distanceTransform((result < 0.5).astype(np.uint8), cv2.DIST_L2, 5)
        fade = np.clip(1 - away / feather_px, 0, 1)
        result = np.maximum(result, fade * fade * (3 - 2 * fade))
    return result
