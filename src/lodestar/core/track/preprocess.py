"""What the tracker is shown in place of the picture: more contrast, a light blur. The picture itself is never touched."""

import cv2
import numpy as np

TILES = 8  # across and down, within which contrast is evened out
MOST_GAIN = 6.0


def prepare(luma: np.ndarray, contrast: float, blur_px: float) -> np.ndarray:
    """(h, w) uint8 for the tracker. contrast: 0 as filmed, 1 most; blur_px: deviation of a Gaussian blur, against grain.

    Source of the contrast: K. Zuiderveld, Contrast limited adaptive histogram equalization, Graphics Gems IV, 1994.
    """
    if blur_px > 0:
        luma = cv2.GaussianBlur(luma, (0, 0), blur_px)
    if contrast > 0:
        evened = cv2.createCLAHE(1.0 + MOST_GAIN * contrast, (TILES, TILES)).apply(luma)
        luma = cv2.addWeighted(luma, 1 - contrast, evened, contrast, 0)
    return luma
