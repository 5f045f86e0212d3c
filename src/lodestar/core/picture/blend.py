"""Our layers over the plate, pixel by pixel. Where there is nothing of ours, the plate's code values pass untouched."""

import numba as nb
import numpy as np

from ..basics.jit import kernel, parallel_kernel

REC709, SRGB, LINEAR = range(3)
CURVES = {"rec709": REC709, "srgb": SRGB, "linear": LINEAR}


@kernel
def _to_light(x, curve):
    if curve == REC709:
        return x / 4.5 if x < 0.081 else ((x + 0.099) / 1.099) ** (1 / 0.45)
    if curve == SRGB:
        return x / 12.92 if x <= 0.04045 else ((x + 0.055) / 1.055) ** 2.4
    return x


@kernel
def _to_code(x, curve):
    x = max(x, 0.0)
    if curve == REC709:
        return 4.5 * x if x < 0.018 else 1.099 * x**0.45 - 0.099
    if curve == SRGB:
        return 12.92 * x if x <= 0.0031308 else 1.055 * x ** (1 / 2.4) - 0.055
    return x


@parallel_kernel
def _over(plate, full, curve, colour, shade, matte, top, left, out):
    for row in nb.prange(colour.shape[0]):
        for column in range(colour.shape[1]):
            y, x = row + top, column + left
            seen = 1.0 - matte[row, column]
            alpha = colour[row, column, 3] * seen
            s0, s1, s2 = shade[row, column, 0], shade[row, column, 1], shade[row, column, 2]
            if alpha < 1e-5 and min(s0, min(s1, s2)) > 0.9995:
                continue
            for c in range(3):
                s = 1.0 - (1.0 - shade[row, column, c]) * seen
                light = _to_light(plate[y, x, c] / full, curve) * s * (1.0 - alpha) + colour[row, column, c] * seen
                value = _to_code(light, curve) * full
                # values over full scale are clipped only where the file's kind has an end
                out[y, x, c] = min(value + 0.5, full) if curve != LINEAR and full > 1.0 else value


def over_plate(plate: np.ndarray, transfer: str, colour: np.ndarray, shade: np.ndarray, matte: np.ndarray, top: int, left: int) -> np.ndarray:
    """The plate (h, w, 3) with layers over the part that begins at (top, left); same kind of numbers as the plate.

    colour (a, b, 4): premultiplied linear light; shade (a, b, 3): factor on the plate's light; matte (a, b): what passes in front.
    """
    out = plate.copy()
    full = {np.dtype(np.uint8): 255.0, np.dtype(np.uint16): 65535.0}.get(plate.dtype, 1.0)
    _over(plate, full, CURVES[transfer], colour, shade, matte, top, left, out)
    return out


@parallel_kernel
def over_nothing(colour: np.ndarray, shade: np.ndarray, shadow: float) -> np.ndarray:
    """(h, w, 4) uint8 red, green, blue, alpha, premultiplied, code values of sRGB: our layers where there is no plate.

    colour (h, w, 4): premultiplied linear light; shade (h, w, 3): factor on the light of the ground, seen as black that covers
    `shadow` of it at most.
    """
    out = np.zeros((colour.shape[0], colour.shape[1], 4), np.uint8)
    for y in nb.prange(colour.shape[0]):
        for x in range(colour.shape[1]):
            alpha = colour[y, x, 3]
            dark = 1.0 - min(shade[y, x, 0], min(shade[y, x, 1], shade[y, x, 2]))
            if alpha < 1e-5 and dark < 1e-4:
                continue
            cover = alpha + shadow * dark * (1.0 - alpha)
            for c in range(3):
                out[y, x, c] = np.uint8(min(_to_code(colour[y, x, c], SRGB), cover) * 255.0 + 0.5)
            out[y, x, 3] = np.uint8(min(cover, 1.0) * 255.0 + 0.5)
    return out
