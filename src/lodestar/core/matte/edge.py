"""The soft edge of a matte: in a narrow band round its border, how much of each pixel is subject, from the colours on both sides.

Alpha is wanted to be the place of a pixel's colour on the line from the background's to the subject's, in linear light, as far as the two
lie apart; the rest is closed-form matting. Source of the equation: T. Porter, T. Duff, Compositing Digital Images, SIGGRAPH 1984.
"""

from collections.abc import Callable

import cv2
import numpy as np

from ..basics.geometry import summed
from .background import Predicted, resampled
from .closed_form import matted

LINEAR = (np.linspace(0, 1, 256) ** 2.2 * 255).astype(np.float32)  # near enough to any clip's transfer for a ratio of colours
LEAST, LEAST_OF_HAIR = 0.05, 0.0002  # trust in the border of the mask, against that of a colour that tells all (1); and where hair was painted
TRUST = 0.3  # price of leaving what is wanted of a pixel whose colour tells all, against the energy of the matting
STRAY, STRAY_OF_HAIR = 5400.0, 30.0  # squared distance of a colour from the line between the two, in LINEAR's units, at which it tells a third
NEAR = 600.0  # squared distance of the two colours, in LINEAR's units, at which a colour tells half
# noise of a colour is cut at 0 and at 1, and so leaves some alpha where there is none, and takes some where there is all: what is fainter than
# so many times the noise between the two colours goes (measured against true mattes: overlap 0.938 with this, 0.936 without)
FAINT, MOST_FAINT = 3.0, 0.3
# where hair was painted: of the trust in colours, where the background is guessed from farther off (with less, a fog of alpha comes to lie between strands
# of a real clip); and trust in the border of the mask, where the two colours are the same
HAIR_GUESSED, HAIR_ALIKE = 0.025, 0.001
# how far a colour may stray from the line between the two, as a variance. In a narrow band about the noise of a compressed clip (4 code values): with
# less, alpha follows the noise, and its rim is ragged. Strands are finer than what that lets pass; of them it is told in code values, as noise is the
# same of dark and of bright ones there (measured on made strands before real pictures: mean error 0.060 and 0.070, the background known or not; 0.087
# and 0.112 with that of a narrow band; with less before a white sky alpha shows the blocks of a clip's coding)
EVEN, EVEN_OF_HAIR, LEAST_EVEN = 3e-4, 1e-6, 1e-8
APART = 0.08  # alpha of hair from which on it must hang together with the subject
AGAIN_PX, LEAST_RADIUS = 0.7, 2  # of the second look: softness of its mask; px of its band, at least
# where no hair is: alpha is the mean of what lies along its border, which noise leaves ragged: px to each side, by a normal law; softness of the alpha
# and of the tensor that tell which way the border runs (measured against true mattes: overlap 0.954 with this, 0.950 without; moving parts most)
ALONG_PX, ALONG_SOFT, ALONG_ROUND = 2.0, 1.0, 3.0
FLAT = 1e-6  # square of the slope of alpha, round a pixel, up to which no border is near


def soft_edge(
    rgb: np.ndarray, soft: np.ndarray, radius: int, behind: Callable[[np.ndarray], Predicted], hair: np.ndarray | None = None
) -> np.ndarray:
    """(h, w) float32 alpha. rgb: (h, w, 3) uint8; soft: (h, w) float32, a mask with its border at 0.5; radius: of the band, px; behind:
    the predicted background at places (n, 2) px; hair (h, w) bool: what is of the band, too, and where the mask tells next to nothing.

    Twice: the mask is of a smaller picture, so its border lies off by a px or so; that of what was found first lies nearer to the middle of the band.
    """
    light = LINEAR[rgb]
    hair = np.zeros(soft.shape, bool) if hair is None else hair
    found = _in_band(light, soft, radius, behind, hair)
    found = _in_band(light, cv2.GaussianBlur(found, (0, 0), AGAIN_PX), max(radius - 1, LEAST_RADIUS), behind, hair)
    return np.where(hair, found, _along_border(found))


def _in_band(light: np.ndarray, soft: np.ndarray, radius: int, behind: Callable[[np.ndarray], Predicted], hair: np.ndarray) -> np.ndarray:
    """The same once. light: (h, w, 3) in LINEAR's units. What is told of each pixel is worked out in the band alone: a subject is large, and its band narrow."""
    mask = (soft > 0.5).astype(np.uint8)
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))
    around = np.ones((3, 3), np.uint8)
    inside, reach = cv2.erode(mask, disc, borderValue=1), cv2.dilate(mask, disc)
    if (inside[~hair] > 0).any():  # where all of a subject was painted as hair, its middle is what tells its colours
        inside[hair] = 0
    reach[hair] = 1
    band = (reach > 0) & (inside == 0)
    alpha, trust = inside.astype(np.float32), np.zeros(soft.shape, np.float32)
    at = np.nonzero(band)
    if not len(at[0]):
        return alpha
    front = _filled(light, cv2.erode(inside, around, borderValue=1).astype(np.float32), at)
    back = _filled(light, (reach == 0).astype(np.float32), at)
    known = behind(np.stack(at[::-1], 1).astype(np.float32))
    told, painted = known.support >= 2, hair[at]
    back = np.where(told[:, None], (np.clip(known.colour, 0, 255) / 255) ** 2.2 * 255, back)
    off, way = light[at] - back, front - back
    square = summed(way * way)
    share = np.clip(summed(off * way) / (square + 1), 0, 1)
    rest = summed((off - share[:, None] * way) ** 2)
    share_of = np.where(painted & ~told, np.float32(HAIR_GUESSED), np.float32(1))
    stray = np.where(painted, np.float32(STRAY_OF_HAIR), np.float32(STRAY))
    sure = share_of * square / (square + NEAR) * np.exp(-rest / stray)
    least = np.where(painted, LEAST_OF_HAIR + HAIR_ALIKE * NEAR / (square + NEAR), LEAST).astype(np.float32)
    alpha[at] = (sure * share + least * soft[at]) / (sure + least)
    trust[at] = np.float32(TRUST) * (sure + least)
    alpha = matted(light / 255, alpha, trust, band, _even(light, hair, cv2.dilate(band.astype(np.uint8), around) > 0))
    rim = cv2.dilate(mask, disc[1:-1, 1:-1])[at] == 0
    noise = float(np.median(np.abs(off)[rim])) if rim.any() else 0.0
    faint, found = np.clip(FAINT * noise / np.sqrt(square + 1), 1e-3, MOST_FAINT), alpha[at]
    found = found * rising(found / faint)
    alpha[at] = 1 - (1 - found) * rising((1 - found) / faint)
    return _in_one_piece(alpha, inside, hair) if hair.any() and inside.any() else alpha


def _along_border(alpha: np.ndarray) -> np.ndarray:
    """Alpha (h, w) float32, each pixel as the mean of those along the border that it lies by: farther where it runs straight, not at all where it has
    no one way. Sources: J. Bigün, G. Granlund, Optimal Orientation Detection of Linear Symmetry, ICCV 1987 (the tensor); B. Cabral, L. Leedom, Imaging
    Vector Fields Using Line Integral Convolution, SIGGRAPH 1993.
    """
    soft = cv2.GaussianBlur(alpha, (0, 0), ALONG_SOFT)
    down, across = (cv2.Sobel(soft, cv2.CV_32F, *way) for way in ((0, 1), (1, 0)))
    xx, yy, xy = (cv2.GaussianBlur(of, (0, 0), ALONG_ROUND) for of in (across * across, down * down, across * down))
    ys, xs = np.nonzero(xx + yy > FLAT)
    xx, yy, xy = (of[ys, xs] for of in (xx, yy, xy))
    steep = 0.5 * np.arctan2(2 * xy, xx - yy)
    one_way = np.hypot(xx - yy, 2 * xy) / (xx + yy)  # squared, it leaves a corner as it is
    step = (0.5 * ALONG_PX * one_way**2)[:, None] * np.stack([-np.sin(steep), np.cos(steep)], 1)
    at, steps = np.stack([xs, ys], 1), np.arange(-4, 5)
    weights = np.exp(-0.5 * (steps / 2) ** 2)
    result = alpha.copy()
    result[ys, xs] = sum(w * resampled(alpha, (at + k * step).astype(np.float32)) for k, w in zip(steps, weights / weights.sum(), strict=True))
    return result


def _even(light: np.ndarray, hair: np.ndarray, band: np.ndarray) -> np.ndarray:
    """(h, w) float32: what is added to the variance of linear light in the window round each pixel of the band. light: (h, w, 3) in LINEAR's units; hair,
    band: (h, w) bool."""
    found = np.full(hair.shape, EVEN, np.float32)
    at = np.nonzero(hair & band)
    if len(at[0]):
        steep = 2.2 * (cv2.blur(light.mean(-1), (3, 3))[at] / 255) ** (1.2 / 2.2)  # of light over codes
        found[at] = np.maximum(EVEN_OF_HAIR * steep * steep, LEAST_EVEN)
    return found


def _in_one_piece(alpha: np.ndarray, inside: np.ndarray, hair: np.ndarray) -> np.ndarray:
    """Alpha (h, w) without what of hair does not hang together with what is surely inside: leaves and stones behind it that have its colours."""
    _, names = cv2.connectedComponents((alpha > APART).astype(np.uint8), connectivity=8)
    return np.where(hair & ~np.isin(names, np.unique(names[inside > 0])), 0, alpha).astype(np.float32)


def rising(share: np.ndarray) -> np.ndarray:
    """0 to 1 as `share` goes from 0 to 1, without a corner at either end."""
    share = np.clip(share, 0, 1)
    return share * share * (3 - 2 * share)


def _filled(picture: np.ndarray, known: np.ndarray, at: tuple | None = None, levels: int = 5) -> np.ndarray:
    """A picture (h, w, 3) with means of what is known round about where `known` (h, w) is 0, from a pyramid; at: of these pixels alone, (n, 3)."""
    kept = picture * cv2.merge([known, known, known])
    if levels == 0 or min(known.shape) < 4:
        low = np.broadcast_to((kept.sum((0, 1)) / max(float(known.sum()), 1e-4)).astype(np.float32), kept.shape)
    else:
        high, wide = known.shape
        size = ((wide + 1) // 2, (high + 1) // 2)
        part = cv2.resize(known, size, interpolation=cv2.INTER_AREA)
        low = cv2.resize(kept, size, interpolation=cv2.INTER_AREA) / np.maximum(part, 1e-4)[..., None]
        low = cv2.resize(_filled(low, (np.minimum(4 * part, 1) * (part > 1e-3)).astype(np.float32), levels=levels - 1), (wide, high))
    at = (...,) if at is None else at
    return kept[at] + low[at] * (1 - known[at])[..., None]
