"""Repairs of the edge of a matte, in linear light: what is in front takes on the colour and the light of what is behind it now.

Sources: the turn of hues is the matrix 'hueRotate' of W3C, Filter Effects Module Level 1; luminance weights of ITU-R BT.709-6, item 3.2.
"""

from typing import NamedTuple

import numpy as np

from ..basics.blur import blurred

LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)
ROOM = 8  # times the width or the reach, round a matte: from farther nothing comes
LEAST = 1e-4


def band_of(cover: np.ndarray, width: float) -> np.ndarray:
    """(h, w) 1 at the edge of a matte (h, w), falling to 0 over some `width` px on both sides."""
    soft = blurred(cover, width / 2)
    return 4 * soft * (1 - soft)


def hue_turned(picture: np.ndarray, degrees: float) -> np.ndarray:
    """(h, w, 3) with hues turned about grey, luminance kept."""
    if degrees == 0:
        return picture
    c, s = np.cos(np.deg2rad(degrees)), np.sin(np.deg2rad(degrees))
    grey = np.tile([0.213, 0.715, 0.072], (3, 1))
    turn = np.array([[-0.213, -0.715, 0.928], [0.143, 0.140, -0.283], [-0.787, 0.715, 0.072]])
    return np.maximum(picture @ (grey + c * (np.eye(3) - grey) + s * turn).T.astype(np.float32), 0)


def behind(picture: np.ndarray, cover: np.ndarray, reach: float) -> np.ndarray:
    """(h, w, 3) the smooth mean of what lies around a matte, and not in it."""
    found, known = np.zeros(picture.shape), np.zeros(cover.shape)
    for sigma in (reach, 4 * reach):  # from farther only where nothing is near
        weight = blurred(1 - cover, sigma)
        mean = blurred(picture * (1 - cover)[..., None], sigma) / np.maximum(weight, LEAST)[..., None]
        share = (1 - known) * np.clip(weight / 0.02, 0, 1)
        found += share[..., None] * mean
        known += share
    return np.where(known[..., None] > 0.5, found, picture).astype(np.float32)


class Trims(NamedTuple):
    """Of an edge: width and reach in px of the picture; exposure in stops; saturation as a factor; hue in degrees; spill: how far the band takes on
    the colour of what is behind, its luminance kept; wrap: how much of the light behind it spreads over it, as far in as `reach`."""

    width: float
    exposure: float
    saturation: float
    hue: float
    spill: float
    wrap: float
    reach: float


def repaired(picture: np.ndarray, cover: np.ndarray, by: Trims) -> np.ndarray:
    """The picture (h, w, 3) with the edge of a matte (h, w) repaired."""
    if not cover.any():
        return picture
    rows, columns = np.flatnonzero(cover.any(1)), np.flatnonzero(cover.any(0))
    room = int(np.ceil(ROOM * max(by.width, by.reach))) + 2
    part = slice(max(rows[0] - room, 0), rows[-1] + room + 1), slice(max(columns[0] - room, 0), columns[-1] + room + 1)
    light, mask = picture[part], np.clip(cover[part], 0, 1).astype(np.float32)
    band = band_of(mask, by.width)[..., None]
    changed: np.ndarray = hue_turned(light, by.hue) * np.float32(2.0**by.exposure)
    if by.saturation != 1:
        grey = (changed @ LUMINANCE)[..., None]
        changed = np.maximum(grey + (changed - grey) * np.float32(by.saturation), 0)
    if by.spill > 0:
        back = behind(light, mask, max(by.width, by.reach / 2))
        toward = back * ((changed @ LUMINANCE) / np.maximum(back @ LUMINANCE, LEAST))[..., None]
        changed = changed + np.float32(by.spill) * (toward - changed)
    out = light + band * (changed - light)
    if by.wrap > 0:
        # what is not of the matte, seen from within it: half at its edge, nothing beyond the reach
        over = 2 * mask * (1 - blurred(mask, by.reach / 2))
        spread = np.float32(by.wrap) * np.clip(over, 0, 1)[..., None] * behind(light, mask, max(by.reach, by.width))
        out = out + spread * (1 - np.clip(out, 0, 1))  # added, as light is, and never over white
    result = picture.copy()
    result[part] = np.maximum(out, 0)
    return result
