"""An edge-aware filter for light that was sampled: it takes what noise is left out of soft light, and leaves edges where they are.

A pixel is blended with those within a block of the same plane whose light differs by no more than their noise explains: a sharp
edge of a shadow, which has next to no noise beside it, stays; a soft one becomes even. Source: the weights are those of F.
Rousselle and others, Adaptive Rendering with Non-Local Means Filtering, SIGGRAPH Asia 2012, for patches of one pixel.
"""

import math
from typing import NamedTuple

import numpy as np

from ..basics.jit import inlined, kernel
from .sampling import BLOCK

REACH = 2  # px on each side: those at its ends count half, so that each place of the block of light directions counts alike
ROWS = 16  # of a part that one thread takes at a time; a multiple of BLOCK
LIKE = 2.2  # times the noise of two pixels by which their light may differ
LEAST_NOISE = 1e-4  # rms; less is not worth a filter
OFF_PLANE = 0.01  # of the size of our things, that what is blended may lie off the plane of a pixel
TURNED = 0.06  # 1 less the cosine of the angle between their normals: 20 degrees
RED, GREEN, BLUE = 0.2126, 0.7152, 0.0722  # of brightness: ITU-R BT.709


class Hints(NamedTuple):
    """What the filter goes by, for each pixel: shade and matt light as they were sampled; noise (h, w, 2) over tiles: mean squared noise of
    matt light and of shade, since that of one pixel says too little; busy (h, w) uint8: 1 where the light on the place may need it, 2 where ours may, 3 both."""

    shade: np.ndarray
    soft: np.ndarray
    noise: np.ndarray
    busy: np.ndarray


def hints_for(height: int, width: int) -> Hints:
    blank = lambda: np.zeros((height, width), np.float32)
    tiles = np.zeros((-(-height // BLOCK), -(-width // BLOCK), 2), np.float32)
    return Hints(blank(), blank(), tiles, np.zeros((height, width), np.uint8))


@inlined
def _bright(v):
    return RED * v[0] + GREEN * v[1] + BLUE * v[2]


@inlined
def _mean(p):
    """A sum of normals and places becomes a unit normal and the mean place."""
    if p[6] > 0:
        k = 1.0 / max(math.sqrt(p[0] * p[0] + p[1] * p[1] + p[2] * p[2]), 1e-12)
        p[0], p[1], p[2] = p[0] * k, p[1] * k, p[2] * k
        p[3], p[4], p[5] = p[3] / p[6], p[4] / p[6], p[5] / p[6]


@kernel
def look_over(film, first, last, hints):
    """Fill the hints of rows first to last, and make film.ours and film.place unit normals and mean places."""
    h, w = film.lit.shape[:2]
    for ty in range(first // BLOCK, (last - 1) // BLOCK + 1):
        for tx in range((w - 1) // BLOCK + 1):
            y0, x0 = ty * BLOCK, tx * BLOCK
            y1, x1 = min(y0 + BLOCK, h), min(x0 + BLOCK, w)
            a, b = 0.0, 0.0
            for y in range(y0, y1):
                for x in range(x0, x1):
                    a += film.noise[y, x, 0]
                    b += film.noise[y, x, 1]
                    bare, alpha = _bright(film.bare[y, x]), film.colour[y, x, 3]
                    hints.shade[y, x] = _bright(film.lit[y, x]) / bare if bare > 0 else 1.0
                    hints.soft[y, x] = _bright(film.soft[y, x]) / alpha if alpha > 0 else 0.0
                    _mean(film.place[y, x])
                    _mean(film.ours[y, x])
            count = (y1 - y0) * (x1 - x0)
            hints.noise[ty, tx, 0], hints.noise[ty, tx, 1] = a / count, b / count
            least = LEAST_NOISE * LEAST_NOISE * count
            for y in range(y0, y1):
                for x in range(x0, x1):
                    hints.busy[y, x] = (1 if b > least and film.bare[y, x, 1] > 0 else 0) + (2 if a > least and film.colour[y, x, 3] > 0 else 0)


@inlined
def _same(p, q):
    """How far q goes on from the surface at p: 0 to 1."""
    apart = abs(p[0] * (q[3] - p[3]) + p[1] * (q[4] - p[4]) + p[2] * (q[5] - p[5]))
    turned = 1.0 - (p[0] * q[0] + p[1] * q[1] + p[2] * q[2])
    return max(0.0, 1.0 - apart / OFF_PLANE) * max(0.0, 1.0 - turned / TURNED)


@inlined
def _share(off):
    return 1.0 if abs(off) < REACH else 0.5


@inlined
def _like(apart, noise):
    """1 where a difference is explained by the noise of both, falling to 0 beyond."""
    over = apart * apart - noise
    return 1.0 if over <= 0 else math.exp(-over / (LIKE * LIKE * noise + 1e-12))


@kernel
def smooth(film, hints, first, last, lit, bare, soft):
    """Rows first to last of the light on what receives it, and of our matt light, filtered into lit, bare and soft (h, w, 3)."""
    h, w = film.lit.shape[:2]
    for y in range(first, last):
        for x in range(w):
            for c in range(3):
                lit[y, x, c], bare[y, x, c], soft[y, x, c] = film.lit[y, x, c], film.bare[y, x, c], film.soft[y, x, c]
            busy, guessed = hints.busy[y, x], film.taken[y, x] == 1
            if busy & 1:
                p, shade, noise = film.place[y, x], hints.shade[y, x], hints.noise[y // BLOCK, x // BLOCK, 1]
                l0, l1, l2, b0, b1, b2 = lit[y, x, 0], lit[y, x, 1], lit[y, x, 2], bare[y, x, 0], bare[y, x, 1], bare[y, x, 2]
                for i in range(max(y - REACH, 0), min(y + REACH + 1, h)):
                    for j in range(max(x - REACH, 0), min(x + REACH + 1, w)):
                        if (i == y and j == x) or film.bare[i, j, 1] <= 0:
                            continue
                        weight = _same(p, film.place[i, j]) * _share(i - y) * _share(j - x)
                        if weight > 0 and not guessed:
                            weight *= _like(shade - hints.shade[i, j], noise + hints.noise[i // BLOCK, j // BLOCK, 1])
                        l0 += weight * film.lit[i, j, 0]
                        l1 += weight * film.lit[i, j, 1]
                        l2 += weight * film.lit[i, j, 2]
                        b0 += weight * film.bare[i, j, 0]
                        b1 += weight * film.bare[i, j, 1]
                        b2 += weight * film.bare[i, j, 2]
                # as much light as before, in the smoothed ratio
                k = _bright(film.bare[y, x]) / max(RED * b0 + GREEN * b1 + BLUE * b2, 1e-12)
                lit[y, x, 0], lit[y, x, 1], lit[y, x, 2] = k * l0, k * l1, k * l2
                bare[y, x, 0], bare[y, x, 1], bare[y, x, 2] = k * b0, k * b1, k * b2
            if busy & 2:
                p, own, noise, alpha = film.ours[y, x], hints.soft[y, x], hints.noise[y // BLOCK, x // BLOCK, 0], film.colour[y, x, 3]
                s0, s1, s2, total = soft[y, x, 0], soft[y, x, 1], soft[y, x, 2], alpha
                for i in range(max(y - REACH, 0), min(y + REACH + 1, h)):
                    for j in range(max(x - REACH, 0), min(x + REACH + 1, w)):
                        other = film.colour[i, j, 3]
                        if (i == y and j == x) or other <= 0:
                            continue
                        weight = _same(p, film.ours[i, j]) * _share(i - y) * _share(j - x)
                        if weight > 0 and not guessed:
                            weight *= _like(own - hints.soft[i, j], noise + hints.noise[i // BLOCK, j // BLOCK, 0])
                        s0 += weight * film.soft[i, j, 0]
                        s1 += weight * film.soft[i, j, 1]
                        s2 += weight * film.soft[i, j, 2]
                        total += weight * other
                k = alpha / total
                soft[y, x, 0], soft[y, x, 1], soft[y, x, 2] = k * s0, k * s1, k * s2
