"""A finished picture for a usual display."""

import numpy as np

from ..basics.colour import Colour, in_working
from .composite import codes_of, light_of

# what a display for Rec.709 or sRGB shows as it is meant, near enough to place letters by
SHOWN = ("rec709", "srgb")


def for_display(pixels: np.ndarray, colour: Colour) -> np.ndarray:
    """(h, w, 3) uint8 code values for a display, of code values in `colour`; light over white is cut there."""
    if colour.transfer in SHOWN and colour.primaries in ("bt709", "smpte170m", "bt470bg"):
        if pixels.dtype == np.uint16:
            return (pixels >> 8).astype(np.uint8)
        return pixels if pixels.dtype == np.uint8 else (np.clip(pixels, 0, 1) * 255 + 0.5).astype(np.uint8)
    light = in_working(light_of(pixels, colour.transfer), colour.primaries)
    return codes_of(np.ascontiguousarray(np.maximum(light, 0)), "srgb", np.dtype(np.uint8))
