"""Hair, leaves and the like along the border of a subject: how far from the border a pixel may hold some of both."""

import cv2
import numpy as np

ALONG = np.ones((7, 7), np.uint8)  # px of the border over which the widest counts: a stroke along it is of one piece


def hair_widths(mask: np.ndarray, painted: np.ndarray) -> np.ndarray:
    """(h, w) float32, px: how far from the border of a mask (h, w) bool what is painted (h, w) bool reaches, as each pixel's nearest place on the border has
    it; 0 where nothing is. Kept by the border, it goes along with the subject rather than with what is behind its hair."""
    border, away, nearest = _border(mask)
    if not (painted.any() and border.any()):
        return np.zeros(mask.shape, np.float32)
    width = np.zeros(int(nearest.max()) + 1, np.float32)
    np.maximum.at(width, nearest[painted], away[painted])
    along = np.where(border, width[nearest], 0).astype(np.float32)
    width[nearest[border]] = cv2.dilate(along, ALONG)[border]
    return width[nearest]


def hair_band(mask: np.ndarray, widths: np.ndarray) -> np.ndarray:
    """(h, w) bool: what lies so near to the border of a mask (h, w) bool as the widths (h, w) say there."""
    border, away, nearest = _border(mask)
    if not (widths[border] > 0).any():
        return np.zeros(mask.shape, bool)
    width = np.zeros(int(nearest.max()) + 1, np.float32)
    width[nearest[border]] = widths[border]
    return (away <= width[nearest]) & (width[nearest] > 0)


def _border(mask: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The rim of a mask, (h, w) bool; how far each pixel is from it, px; and the number of the nearest pixel of it."""
    border = mask & (cv2.erode(mask.astype(np.uint8), np.ones((3, 3), np.uint8), borderValue=1) == 0)
    away, nearest = cv2.distanceTransformWithLabels((~border).astype(np.uint8), cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL)
    return border, away, nearest
