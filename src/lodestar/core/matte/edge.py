"""The soft edge of a matte: in a narrow band round its border, how much of each pixel is subject, from the colours on both sides.

Alpha is the place of a pixel's colour on the line from the background's to the subject's, in linear light, trusted where the two are far
apart, and smoothed where they are not. Source of the equation: T. Porter, T. Duff, Compositing Digital Images, SIGGRAPH 1984.
"""

from collections.abc import Callable

import cv2
import numpy as np

from ..basics.jit import kernel
from .background import Predicted
from .cut import signed_distance

LINEAR = (np.linspace(0, 1, 256) ** 2.2 * 255).astype(np.float32)  # near enough to any clip's transfer for a ratio of colours
LEAST = 0.05  # trust in the border of the mask, against that of a colour that tells all (1)
EVEN = 0.5  # price of a step of alpha between pixels of one colour
NEAR = 600.0  # squared distance of the two colours, in LINEAR's units, at which a colour tells half
# noise of a colour is cut at 0 and at 1, and so leaves some alpha where there is none, and takes some where there is all; the background, which is
# predicted, is noisier (measured against true mattes: overlap 0.960 with these, 0.954 without)
FAINT, NEARLY = 0.25, 0.1
ALONG = 0.15  # share of the mean along the border in the result


def soft_edge(rgb: np.ndarray, soft: np.ndarray, radius: int, behind: Callable[[np.ndarray], Predicted]) -> np.ndarray:
    """(h, w) float32 alpha. rgb: (h, w, 3) uint8; soft: (h, w) float32, a mask with its border at 0.5; radius: of the band, px; behind:
    the predicted background at places (n, 2) px."""
    mask = (soft > 0.5).astype(np.uint8)
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))
    around = np.ones((3, 3), np.uint8)
    inside, reach = cv2.erode(mask, disc, borderValue=1), cv2.dilate(mask, disc)
    band = (reach > 0) & (inside == 0)
    light = LINEAR[rgb]
    front = _filled(light, cv2.erode(inside, around, borderValue=1).astype(np.float32))
    back = _filled(light, (reach == 0).astype(np.float32))
    ys, xs = np.nonzero(band)
    if len(ys):
        known = behind(np.stack([xs, ys], 1).astype(np.float32))
        back[ys, xs] = np.where(known.support[:, None] >= 2, (np.clip(known.colour, 0, 255) / 255) ** 2.2 * 255, back[ys, xs])
    way = front - back
    length = (way * way).sum(-1)
    share = np.clip(((light - back) * way).sum(-1) / (length + 1), 0, 1)
    rest = ((light - back - share[..., None] * way) ** 2).sum(-1)
    sure = length / (length + NEAR) * np.exp(-rest / 5400)
    wanted = np.where(band, (sure * share + LEAST * soft) / (sure + LEAST), inside).astype(np.float32)
    inner = band.copy()
    inner[[0, -1]] = inner[:, [0, -1]] = False
    alpha = np.where(band, _evened(rgb.astype(np.float32), wanted, (sure + LEAST).astype(np.float32), inner, EVEN, 8), inside).astype(np.float32)
    found = _along_border(alpha, band, sure, radius)
    found = found * _rising(found / FAINT)
    return 1 - (1 - found) * _rising((1 - found) / NEARLY)


def _rising(share: np.ndarray) -> np.ndarray:
    share = np.clip(share, 0, 1)
    return share * share * (3 - 2 * share)


def _along_border(alpha: np.ndarray, band: np.ndarray, sure: np.ndarray, radius: int) -> np.ndarray:
    """A blurred edge has one profile across it: a mean along the border, over 31 px, among pixels that are as far from it."""
    away = signed_distance(cv2.GaussianBlur(alpha, (0, 0), 3) > 0.5)
    total, weight = np.full_like(alpha, 1e-6), np.full_like(alpha, 1e-6)
    for distance in range(-radius - 2, radius + 3, 2):
        near = (np.maximum(0, 1 - np.abs(away - distance) / 2) * band).astype(np.float32)
        trusted = (near * (sure + 0.05)).astype(np.float32)
        total += near * cv2.blur(trusted * alpha, (31, 31)) / (cv2.blur(trusted, (31, 31)) + 1e-6)
        weight += near
    return np.where(band & (weight > 0.1), (1 - ALONG) * alpha + ALONG * total / weight, alpha).astype(np.float32)


def _filled(picture: np.ndarray, known: np.ndarray, levels: int = 5) -> np.ndarray:
    """A picture with means of what is known round about where `known` is 0, from a pyramid."""
    if levels == 0 or min(known.shape) < 4:
        mean = (picture * known[..., None]).sum((0, 1)) / max(float(known.sum()), 1e-4)
        return (picture * known[..., None] + mean * (1 - known[..., None])).astype(np.float32)
    high, wide = known.shape
    size = ((wide + 1) // 2, (high + 1) // 2)
    part = cv2.resize(known, size, interpolation=cv2.INTER_AREA)
    low = cv2.resize(picture * known[..., None], size, interpolation=cv2.INTER_AREA) / np.maximum(part, 1e-4)[..., None]
    low = _filled(low, (np.minimum(4 * part, 1) * (part > 1e-3)).astype(np.float32), levels - 1)
    return picture * known[..., None] + cv2.resize(low, (wide, high)) * (1 - known[..., None])


@kernel
def _evened(rgb: np.ndarray, wanted: np.ndarray, trust: np.ndarray, band: np.ndarray, smooth: float, rounds: int) -> np.ndarray:
    """The minimum of sum trust (x - wanted)^2 + smooth c (x - neighbour)^2 in the band, by red-black Gauss-Seidel; c falls with the step in
    colour."""
    x = wanted.copy()
    for turn in range(2 * rounds):
        for i in range(1, x.shape[0] - 1):
            for j in range(1 + (i + turn) % 2, x.shape[1] - 1, 2):
                if band[i, j]:
                    total, weight = trust[i, j] * wanted[i, j], trust[i, j]
                    for k in range(4):
                        p, q = i + (k == 0) - (k == 1), j + (k == 2) - (k == 3)
                        step = abs(rgb[i, j, 0] - rgb[p, q, 0]) + abs(rgb[i, j, 1] - rgb[p, q, 1]) + abs(rgb[i, j, 2] - rgb[p, q, 2])
                        even = smooth * 20 / (20 + step)
                        total, weight = total + even * x[p, q], weight + even
                    x[i, j] = total / max(weight, 1e-6)
    return x
