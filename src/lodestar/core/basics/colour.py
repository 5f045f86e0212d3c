"""Transfer curves between code values and linear light, both 0..1 nominal, elementwise on arrays of any shape.

Sources: ITU-R BT.709-6, item 1.2 (opto-electronic transfer); IEC 61966-2-1:1999 (sRGB), with the exact junction constants
0.04045 and 0.0031308. Rec.709 is inverted here as defined (scene light), not through a display gamma, so that plate and
letters meet in the same light in which the camera saw them.
"""

import numpy as np

TRANSFERS = ("rec709", "srgb", "linear")


def decode(code: np.ndarray, transfer: str) -> np.ndarray:
    """Code values to linear light. Raises ValueError for an unknown transfer."""
    x = np.asarray(code, np.float32)
    if transfer == "rec709":
        return np.where(x < 0.081, x / 4.5, np.power((np.maximum(x, 0.081) + 0.099) / 1.099, 1 / 0.45))
    if transfer == "srgb":
        return np.where(x <= 0.04045, x / 12.92, np.power((np.maximum(x, 0.04045) + 0.055) / 1.055, 2.4))
    if transfer == "linear":
        return x
    raise ValueError(f"transfer must be one of {TRANSFERS}, got {transfer!r}")


def encode(linear: np.ndarray, transfer: str) -> np.ndarray:
    """Linear light to code values. Raises ValueError for an unknown transfer."""
    x = np.asarray(linear, np.float32)
    if transfer == "rec709":
        return np.where(x < 0.018, 4.5 * x, 1.099 * np.power(np.maximum(x, 0.018), 0.45) - 0.099)
    if transfer == "srgb":
        return np.where(x <= 0.0031308, 12.92 * x, 1.055 * np.power(np.maximum(x, 0.0031308), 1 / 2.4) - 0.055)
    if transfer == "linear":
        return x
    raise ValueError(f"transfer must be one of {TRANSFERS}, got {transfer!r}")
