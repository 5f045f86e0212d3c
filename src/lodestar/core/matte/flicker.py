"""Taking the flicker out of a matte: of each pixel the middle one of three frames, along the flow of the picture.

A median moves no edge that moves evenly, and takes what is in one frame alone. Source of the flow: T. Kroeger, R. Timofte, D. Dai, L. Van Gool, Fast Optical Flow
using Dense Inverse Search, ECCV 2016.
"""

from typing import NamedTuple

import cv2
import numpy as np

from ..basics.geometry import length

OFF_PX = 1.0  # of the picture that the flow is found in: by how much there and back may disagree for a flow to be believed


class Beside(NamedTuple):
    """A frame beside another. grey: (h, w) uint8, in which the flow is found; alpha: (k h, k w) float32 of the same part."""

    grey: np.ndarray
    alpha: np.ndarray


def calmed(here: Beside, before: Beside, after: Beside) -> np.ndarray:
    """(k h, k w) float32: the alpha of a frame less what flickers. Where the flow is not to be believed it stays as it was."""
    a, b = _brought(before, here), _brought(after, here)
    return np.maximum(np.minimum(a, b), np.minimum(np.maximum(a, b), here.alpha))


def _brought(other: Beside, here: Beside) -> np.ndarray:
    """The alpha of another frame where its px lie in this one; this one's own where nobody knows."""
    search = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    forth, back = search.calc(here.grey, other.grey, None), search.calc(other.grey, here.grey, None)  # type: ignore[call-overload]
    ys, xs = np.mgrid[0 : here.grey.shape[0], 0 : here.grey.shape[1]].astype(np.float32)
    off = length(cv2.remap(back, np.dstack([xs, ys]) + forth, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE) + forth)  # type: ignore[call-overload]
    high, wide = here.alpha.shape
    full = lambda picture: cv2.resize(picture, (wide, high))
    ys, xs = np.mgrid[0:high, 0:wide].astype(np.float32)
    places = np.dstack([xs, ys]) + full(forth) * np.float32(wide / here.grey.shape[1])
    # by cubic pieces: lines from px to px would blur the edge
    brought = cv2.remap(other.alpha, places, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)  # type: ignore[call-overload]
    outside = ((places < -0.5) | (places > np.array([wide, high], np.float32) - 0.5)).any(-1)
    return np.where(outside | (full(off.astype(np.float32)) > OFF_PX), here.alpha, np.clip(brought, 0, 1))
