"""Our layers over the plate, and linear light to and from the plate's code values. Where there is nothing of ours, the plate's
code values pass untouched."""

import functools
import math
from typing import NamedTuple

import cv2
import numba as nb
import numpy as np

from ..basics.colour import TRANSFERS, to_code, to_light
from ..basics.jit import inlined, parallel_kernel

FULL = {np.dtype(np.uint8): 255.0, np.dtype(np.uint16): 65535.0}  # what stands for 1; in floats it is 1 itself
UNCHANGED = 0.0005  # a shade that differs less from 1 is not worth a pixel
LEAST_LIGHT = 1e-6
GUESSES = 1024  # of code values, evenly by the root of light: each is right or one less


class Table(NamedTuple):
    """Of 8 bits, for which curves are not worked out at each px. light (256,): of each code value; guess (GUESSES + 1,): the code value of light at the
    square of each step; least (257,): light from which on it rounds to each code value. All empty for other kinds of numbers."""

    light: np.ndarray
    guess: np.ndarray
    least: np.ndarray


@functools.lru_cache(maxsize=32)
def _table(transfer: str, eight_bits: bool) -> Table:
    if not eight_bits:
        return Table(np.zeros(0, np.float32), np.zeros(0, np.uint8), np.zeros(0))
    known = _worked_out(np.arange(256, dtype=np.uint8)[:, None, None], transfer).ravel()
    least = np.array([-np.inf, *(to_light(k / 255, TRANSFERS[transfer]) for k in np.arange(0.5, 255)), np.inf])
    guess = np.searchsorted(least, (np.arange(GUESSES + 1) / GUESSES) ** 2, side="right") - 1
    return Table(known, np.minimum(guess, 255).astype(np.uint8), least)


@inlined
def _eight_bits(light, table):
    """The code value of light, as `to_code` rounded."""
    # what is no number has a code value all the same, and none beyond the table
    step = min(max(int(math.sqrt(min(max(light, 0.0), 1.0)) * GUESSES), 0), GUESSES)
    code = int(table.guess[step])
    while code < 255 and light >= table.least[code + 1]:
        code += 1
    return code


@parallel_kernel
def shade_of(light_with: np.ndarray, light_without: np.ndarray, density: float, tint: np.ndarray) -> np.ndarray:
    """(h, w, 3) what our things leave of the plate's light: the ratio of the sums of light, with them and without them; over 1
    where they add light. density: share of a shadow that shows; tint (3,): light that is left in a full shadow."""
    out = np.ones((light_with.shape[0], light_with.shape[1], 3), np.float32)
    for y in nb.prange(light_with.shape[0]):
        for x in range(light_with.shape[1]):
            for c in range(3):
                without = light_without[y, x, c]
                if without > LEAST_LIGHT:
                    shade = light_with[y, x, c] / without
                    out[y, x, c] = shade if shade >= 1.0 else 1.0 - density * (1.0 - shade) * (1.0 - tint[c])
    return out


@parallel_kernel
def _over(plate, full, curve, whole, table, colour, shade, before_things, before_shadow, top, left, out):
    for row in nb.prange(colour.shape[0]):
        for column in range(colour.shape[1]):
            y, x = row + top, column + left
            seen, shown = 1.0 - before_things[row, column], 1.0 - before_shadow[row, column]
            alpha = colour[row, column, 3] * seen
            s0, s1, s2 = shade[row, column, 0], shade[row, column, 1], shade[row, column, 2]
            changed = max(abs(1.0 - s0), max(abs(1.0 - s1), abs(1.0 - s2)))
            glow = max(colour[row, column, 0], max(colour[row, column, 1], colour[row, column, 2]))
            if alpha < 1e-5 and glow < 1e-5 and changed < UNCHANGED:
                continue
            for c in range(3):
                s = 1.0 - (1.0 - shade[row, column, c]) * shown
                eight = len(table.light) > 0
                behind = table.light[int(plate[y, x, c])] if eight else to_light(plate[y, x, c] / full, curve)
                light = behind * s * (1.0 - alpha) + colour[row, column, c] * seen
                if eight:
                    out[y, x, c] = _eight_bits(light, table)
                    continue
                value = to_code(light, curve) * full
                out[y, x, c] = min(value + 0.5, full) if whole else value


def over_plate(
    plate: np.ndarray, transfer: str, colour: np.ndarray, shade: np.ndarray, before_things: np.ndarray, before_shadow: np.ndarray, top: int, left: int
) -> np.ndarray:
    """The plate (h, w, 3) with layers over the part that begins at (top, left); same kind of numbers as the plate.

    colour (a, b, 4): premultiplied linear light; shade (a, b, 3): factor on the plate's light; before_things, before_shadow (a, b):
    what passes in front of the one and of the other.
    """
    out = plate.copy()
    curve, full = TRANSFERS[transfer], FULL.get(plate.dtype, 1.0)
    table = _table(transfer, plate.dtype == np.uint8)
    _over(plate, full, curve, plate.dtype in FULL, table, colour, shade, before_things, before_shadow, top, left, out)
    return out


@parallel_kernel
def _light(codes, full, curve, out):
    for y in nb.prange(codes.shape[0]):
        for x in range(codes.shape[1]):
            for c in range(3):
                out[y, x, c] = to_light(codes[y, x, c] / full, curve)


def light_of(codes: np.ndarray, transfer: str) -> np.ndarray:
    """(h, w, 3) float32 linear light of code values."""
    if codes.dtype == np.uint8 and codes.size:
        return np.asarray(cv2.LUT(codes, _table(transfer, True).light)).reshape(codes.shape)
    return _worked_out(codes, transfer)


def _worked_out(codes: np.ndarray, transfer: str) -> np.ndarray:
    out = np.empty(codes.shape, np.float32)
    _light(codes, FULL.get(codes.dtype, 1.0), TRANSFERS[transfer], out)
    return out


@parallel_kernel
def _codes(light, full, curve, whole, out):
    for y in nb.prange(light.shape[0]):
        for x in range(light.shape[1]):
            for c in range(3):
                value = to_code(light[y, x, c], curve) * full
                out[y, x, c] = min(value + 0.5, full) if whole else value


@parallel_kernel
def _eight(light, table, out):
    for y in nb.prange(light.shape[0]):
        for x in range(light.shape[1]):
            for c in range(3):
                out[y, x, c] = _eight_bits(light[y, x, c], table)


def codes_of(light: np.ndarray, transfer: str, dtype: np.dtype) -> np.ndarray:
    """(h, w, 3) code values of linear light, of the kind `dtype`."""
    out = np.empty(light.shape, dtype)
    if out.dtype == np.uint8:
        _eight(light, _table(transfer, True), out)
        return out
    _codes(light, FULL.get(np.dtype(dtype), 1.0), TRANSFERS[transfer], np.dtype(dtype) in FULL, out)
    return out


def over_nothing(colour: np.ndarray, shade: np.ndarray, shadow: float) -> np.ndarray:
    """(h, w, 4) uint8 red, green, blue, alpha, premultiplied, code values of sRGB: our layers where there is no plate.

    colour (h, w, 4): premultiplied linear light; shade (h, w, 3): factor on the light of the ground, seen as black that covers
    `shadow` of it at most.
    """
    return _over_nothing(colour, shade, shadow, _table("srgb", True))


@parallel_kernel
def _over_nothing(colour, shade, shadow, table):
    out = np.zeros((colour.shape[0], colour.shape[1], 4), np.uint8)
    for y in nb.prange(colour.shape[0]):
        for x in range(colour.shape[1]):
            alpha = colour[y, x, 3]
            dark = 1.0 - min(shade[y, x, 0], min(shade[y, x, 1], shade[y, x, 2]))
            if alpha < 1e-5 and dark < 1e-4:
                continue
            dark = max(dark, 0.0)
            cover = alpha + shadow * dark * (1.0 - alpha)
            for c in range(3):
                out[y, x, c] = min(_eight_bits(colour[y, x, c], table), int(cover * 255.0 + 0.5))
            out[y, x, 3] = np.uint8(min(cover, 1.0) * 255.0 + 0.5)
    return out
