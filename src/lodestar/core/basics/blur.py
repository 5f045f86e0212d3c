"""Wide blurs, quickly."""

import cv2
import numpy as np

STEP = 4  # of a sigma, one px of the smaller picture


def blurred(picture: np.ndarray, sigma: float) -> np.ndarray:
    """(h, w) or (h, w, 3) blurred by a Gaussian of so many px; a wide one on a smaller picture, where it is as good."""
    height, width = picture.shape[:2]
    less = max(int(sigma // STEP), 1)
    small = picture if less == 1 else cv2.resize(picture, (max(width // less, 1), max(height // less, 1)), interpolation=cv2.INTER_AREA)
    found = cv2.GaussianBlur(small, (0, 0), max(sigma / less, 0.3))
    return found if less == 1 else cv2.resize(found, (width, height), interpolation=cv2.INTER_LINEAR)
