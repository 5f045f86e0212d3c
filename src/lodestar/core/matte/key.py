"""A matte by colour or by brightness: what of the plate is like what was picked in it."""

from typing import Annotated, Literal

import cv2
import numba as nb
import numpy as np

from ..basics.geometry import length
from ..basics.jit import inlined, parallel_kernel
from ..basics.keyed import Keyed, constant
from ..basics.rows import Row
from .matte import Matte

# from linear Rec.709 to the cone responses of Oklab, and from their cube roots to it. Source: B. Ottosson, A perceptual color space for image
# processing, 2020
TO_CONES = np.array(
    [[0.4122214708, 0.5363325363, 0.0514459929], [0.2119034982, 0.6806995451, 0.1073969566], [0.0883024619, 0.2817188376, 0.6299787005]]
)
TO_LAB = np.array(
    [[0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099], [0.0259040371, 0.7827717662, -0.8086757660]]
)
MOST_SAMPLES = 24
LIGHTNESS_SHARE = 0.5  # of a difference in lightness, beside one in colour: a sky or a wall in part shade is still of one colour

Rgb = tuple[float, float, float]


class Keyer(Matte, frozen=True, kw_only=True, tag="key"):
    """by: 'colour': like one of `samples` (linear light, Rec.709), within `tolerance` of Oklab's distance, fading over `fade` more; 'brightness':
    of a lightness (Oklab's, white 1) from `dark` to `bright`, fading over `fade` on both sides; 'difference': unlike the clean plate by more than
    `tolerance`, fading in over `fade` more. specks: islands and holes that are smaller than so many px across are
    taken away; far: of a colour, only what is infinitely far away and over the horizon, as the solved camera tells (`far`)."""

    by: Literal["colour", "brightness", "difference"] = "colour"
    samples: tuple[Rgb, ...] = ()
    far: bool = False
    tolerance: Annotated[Keyed, Row("Tolerance", "%", 0.2, 1, 0, 100, 100, tip="How far a colour may be from what was picked")] = constant(0.03)
    dark: Annotated[Keyed, Row("From", "%", 0.5, 1, 0, 400, 100, tip="Lightness from which it holds")] = constant(0.7)
    bright: Annotated[Keyed, Row("To", "%", 0.5, 1, 0, 400, 100, tip="Lightness up to which it holds")] = constant(4.0)
    fade: Annotated[Keyed, Row("Fade", "%", 0.2, 1, 0, 100, 100, tip="Over how much more it fades out")] = constant(0.02)
    specks: Annotated[Keyed, Row("Specks", "px", 0.5, 0, 0, 200, tip="Islands and holes smaller than this are taken away")] = constant(0.0)


def oklab(light: np.ndarray) -> np.ndarray:
    """(..., 3) lightness and two colour axes of Oklab, of linear light in the primaries of Rec.709."""
    return np.cbrt(np.asarray(light, float) @ TO_CONES.T) @ TO_LAB.T


@inlined
def _root(x):
    return np.cbrt(x) if x > 0 else 0.0


@parallel_kernel
def _near(light, cones, lab, samples, share, out):
    """Of each pixel the distance to the nearest of the samples, in Oklab with `share` of the lightness; with no samples, the lightness."""
    for y in nb.prange(light.shape[0]):
        for x in range(light.shape[1]):
            r, g, b = light[y, x, 0], light[y, x, 1], light[y, x, 2]
            l = _root(cones[0, 0] * r + cones[0, 1] * g + cones[0, 2] * b)
            m = _root(cones[1, 0] * r + cones[1, 1] * g + cones[1, 2] * b)
            s = _root(cones[2, 0] * r + cones[2, 1] * g + cones[2, 2] * b)
            bright = lab[0, 0] * l + lab[0, 1] * m + lab[0, 2] * s
            if len(samples) == 0:
                out[y, x] = bright
                continue
            u, v = lab[1, 0] * l + lab[1, 1] * m + lab[1, 2] * s, lab[2, 0] * l + lab[2, 1] * m + lab[2, 2] * s
            least = 1e30
            for k in range(len(samples)):
                d0, d1, d2 = share * (bright - samples[k, 0]), u - samples[k, 1], v - samples[k, 2]
                least = min(least, d0 * d0 + d1 * d1 + d2 * d2)
            out[y, x] = np.sqrt(least)


def keyed_cover(key: Keyer, light: np.ndarray, frame: float, scale: float = 1.0) -> np.ndarray:
    """(h, w) float32 in 0..1 of a picture (h, w, 3) of linear light, Rec.709, with `scale` px for each of the plate's; nothing where a colour is asked for and none was picked."""
    of_colour = key.by == "colour"
    if of_colour and not key.samples:
        return np.zeros(light.shape[:2], np.float32)
    samples = oklab(np.array(key.samples)) if of_colour else np.zeros((0, 3))
    away = np.empty(light.shape[:2], np.float32)
    _near(light, TO_CONES, TO_LAB, samples, LIGHTNESS_SHARE, away)
    fade = max(key.fade.at(frame)[0], 1e-4)
    if of_colour:
        past = (away - key.tolerance.at(frame)[0]) / fade
    else:
        past = np.maximum(key.dark.at(frame)[0] - away, away - key.bright.at(frame)[0]) / fade
    share = np.clip(1 - past, 0, 1).astype(np.float32)
    cover = share * share * (3 - 2 * share)
    return without_specks(cover, key.specks.at(frame)[0] * scale)


def differing_cover(key: Keyer, light: np.ndarray, clean: np.ndarray, known: np.ndarray, frame: float, scale: float = 1.0) -> np.ndarray:
    """(h, w) float32 in 0..1 of what a picture (h, w, 3) shows that a clean plate (h, w, 3) does not, both linear light, Rec.709; nothing where that
    is not `known` (h, w). What is off by a px, as edges of a place are, is no difference: each px is held against all of its neighbours."""
    lab, there = oklab(light).astype(np.float32), oklab(clean).astype(np.float32)
    share = np.array([LIGHTNESS_SHARE, 1, 1], np.float32)
    around = np.ones((3, 3), np.uint8)
    off = np.maximum(np.maximum(lab - cv2.dilate(there, around), cv2.erode(there, around) - lab), 0) * share
    away = cv2.GaussianBlur(length(off), (0, 0), max(0.7 * scale, 0.3))
    past = (away - key.tolerance.at(frame)[0]) / max(key.fade.at(frame)[0], 1e-4)
    part = np.where(known, np.clip(past, 0, 1), 0).astype(np.float32)
    return without_specks(part * part * (3 - 2 * part), key.specks.at(frame)[0] * scale)


def without_specks(cover: np.ndarray, across: float) -> np.ndarray:
    """(h, w) without islands and holes of less than `across` px squared."""
    if across < 1:
        return cover
    cover = cover.copy()
    for filled in (True, False):
        inside = (cover > 0.02) if filled else (cover < 0.98)
        count, names, facts, _ = cv2.connectedComponentsWithStats(inside.astype(np.uint8), connectivity=8)
        small = facts[:, cv2.CC_STAT_AREA] < across * across
        small[0] = False
        if count > 1 and small.any():
            cover[small[names]] = 0.0 if filled else 1.0
    return cover


def sample_at(light: np.ndarray, x: float, y: float, radius: int = 2) -> Rgb:
    """The mean colour round a place of a picture (h, w, 3), as a sample."""
    h, w = light.shape[:2]
    i, j = int(np.clip(round(y), 0, h - 1)), int(np.clip(round(x), 0, w - 1))
    part = light[max(i - radius, 0) : i + radius + 1, max(j - radius, 0) : j + radius + 1]
    r, g, b = (round(float(v), 5) for v in part.reshape(-1, 3).mean(0))
    return r, g, b
