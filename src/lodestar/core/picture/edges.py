"""What a px of an edge holds of either side: the mean of what is sure around it, and the plate without what of the old background is in it."""

import cv2
import numpy as np

from ..basics.blur import blurred
from .composite import codes_of, light_of

NEAR_PX, FAR_PX = 2.5, 30.0  # over which the sure part is smoothed, and from how far it is guessed; px of the plate
LEAST = 1e-3
SURE = 0.98  # of a px
BEYOND_PX = 1.5  # from an edge, from where on a px shows one side alone


def without_background(plate: np.ndarray, transfer: str, cover: np.ndarray, before: np.ndarray, top: int, left: int, scale: float) -> np.ndarray:
    """(h, w, 3) code values of a plate where the old background is taken out of px through which our things are seen.

    before (a, b): how much of a px is of what passes in front; cover (a, b): how much of the rest our things cover; over the part that begins at
    (top, left). A px holds before * front + (1 - before) * background, of which cover * (1 - before) must go; the background there
    is that of the sure px around. What comes back is what is left, over its own share, so that laying our things over it gives front and
    things alone. Source: T. Porter, T. Duff, Compositing Digital Images, SIGGRAPH 1984.
    """
    taken = cover * (1 - before)
    partly = (before > 1 - SURE) & (before < SURE) & (taken > 1 - SURE)
    if not partly.any():
        return plate
    x0, y0, x1, y1 = box(partly, int(np.ceil(3 * NEAR_PX * scale)) + 2)
    here = slice(y0, y1), slice(x0, x1)
    there = slice(top + y0, top + y1), slice(left + x0, left + x1)
    light = light_of(np.ascontiguousarray(plate[there]), transfer)
    outside = cv2.erode((before[here] <= 1 - SURE).astype(np.uint8), disc(BEYOND_PX * scale)) > 0
    old, known = smooth(light, outside, scale)
    share = taken[here][..., None]
    # what is left of a px that is nearly all background is a guess: it is no brighter than what is seen around
    left_over = np.minimum(np.maximum(light - share * old, 0) / np.maximum(1 - share, 1 - SURE), cv2.dilate(light, disc(2 * scale)))
    changed = codes_of(np.ascontiguousarray(left_over, np.float32), transfer, plate.dtype)
    out = plate.copy()
    out[there] = np.where((partly[here] & known)[..., None], changed, plate[there])
    return out


def smooth(light: np.ndarray, where: np.ndarray, scale: float) -> tuple[np.ndarray, np.ndarray]:
    """(h, w, 3) the mean of what lies `where` (h, w) bool around each px, the nearest where there is some; and (h, w) bool where it is known."""
    sure = where.astype(np.float32)
    found, known = np.zeros_like(light), np.zeros(sure.shape, bool)
    for sigma in (NEAR_PX * scale, FAR_PX * scale):
        weight = blurred(sure, sigma)
        here = (weight > LEAST) & ~known
        mean = blurred(light * sure[..., None], sigma) / np.maximum(weight, LEAST)[..., None]
        found[here] = mean[here]
        known |= here
    return found, known


def box(cover: np.ndarray, margin: int) -> tuple[int, int, int, int]:
    """Left, top, right and bottom of what is covered, and so many px more."""
    rows, columns = np.flatnonzero(cover.any(1)), np.flatnonzero(cover.any(0))
    height, width = cover.shape
    return (
        max(int(columns[0]) - margin, 0),
        max(int(rows[0]) - margin, 0),
        min(int(columns[-1]) + margin + 1, width),
        min(int(rows[-1]) + margin + 1, height),
    )


def disc(radius: float) -> np.ndarray:
    size = 2 * max(round(radius), 1) + 1
    return cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
