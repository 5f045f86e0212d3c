"""How soft the edges of a picture are: the blur of lens, sensor and coding together."""

import cv2
import numpy as np

AGAIN_PX = 1.0  # by which a picture is blurred once more, to be held against itself
STRONG = 0.02  # of all px: those with the steepest light
BESIDE_PX, FLAT = 3.0, 0.25  # so far to both sides of a step, light is no steeper than by this share of it: in a texture it is, and tells nothing
SHARPEST = 0.6  # of them: what is blurred by its own motion, or lies out of focus, is softer; a step between two px looks sharper than it is
LEAST_EDGES = 100
DIFFERENCE = 1 / 3  # px²: the variance of the two px over which the steepness itself is taken


def softness_px(light: np.ndarray) -> float | None:
    """Sigma in px of the Gaussian blur that the sharper edges of a picture (h, w) of linear light have, that of a px itself included; None without edges.

    By how much the steepest change of light at an edge falls where the picture is blurred once more. Source: S. Zhuo, T. Sim, Defocus map
    estimation from a single image, Pattern Recognition 2011.
    """
    light = np.ascontiguousarray(light, np.float32)
    x, y, steep = _slopes(light)
    crest = (steep >= cv2.dilate(steep, np.ones((3, 3), np.uint8))) & (steep > np.quantile(steep, 1 - STRONG))
    rows, columns = np.nonzero(crest)
    way = np.stack([x[crest], y[crest]]) / steep[crest] * BESIDE_PX
    for side in (-1, 1):
        c, r = (np.round(at + side * w).astype(int) for at, w in zip((columns, rows), way))
        beside = steep[np.clip(r, 0, steep.shape[0] - 1), np.clip(c, 0, steep.shape[1] - 1)]
        kept = beside < FLAT * steep[rows, columns]
        rows, columns, way = rows[kept], columns[kept], way[:, kept]
    if len(rows) < LEAST_EDGES:
        return None
    again = _slopes(cv2.GaussianBlur(light, (0, 0), AGAIN_PX))[2][rows, columns]
    ratio = np.maximum(steep[rows, columns] / np.maximum(again, 1e-9), 1 + 1e-6)
    seen = AGAIN_PX * AGAIN_PX / (ratio * ratio - 1)
    return float(np.sqrt(max(np.quantile(seen, SHARPEST) - DIFFERENCE, 0)))


def _slopes(light: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(h, w) how light changes across, down, and along its steepest way."""
    x, y = cv2.filter2D(light, -1, np.array([[-0.5, 0, 0.5]])), cv2.filter2D(light, -1, np.array([[-0.5], [0], [0.5]]))
    return x, y, cv2.magnitude(x, y)
