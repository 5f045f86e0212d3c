"""The smoothness of a matte by closed-form matting: in each window of 3 x 3 px, alpha is taken for a linear function of the colours.

Source: A. Levin, D. Lischinski, Y. Weiss, A Closed-Form Solution to Natural Image Matting, IEEE TPAMI 30, 2008 (equation 12), with a price
for leaving what is wanted of each pixel, as in J. Wang, M. Cohen, Optimized Color Sampling for Robust Matting, CVPR 2007. Only the pixels
of the band are unknown, and only their rows of the Laplacian are made: at most 25 numbers for each.
"""

import numpy as np

from ..basics.jit import kernel

MOST_ROUNDS, CLOSE = 120, 1e-4  # of conjugate gradients; what is left of the first residual at the end
REACH, SIDE = 2, 5  # px from a pixel to the farthest that shares a window with it; side of the square of all those
OWN = SIDE * REACH + REACH  # the pixel itself in that square


def matted(light: np.ndarray, wanted: np.ndarray, trust: np.ndarray, band: np.ndarray, even: np.ndarray) -> np.ndarray:
    """(h, w) float32 alpha in 0..1: in the band (h, w) bool, the minimum of Levin's energy plus trust (alpha - wanted)^2; outside, `wanted`.

    light: (h, w, 3) linear, 0..1; wanted, trust: (h, w); even (h, w): added to the variance of the colours in the window round each pixel, that
    is how far a colour may stray from the line and still count.
    """
    number = np.full(band.shape, -1, np.int32)
    inner = band.copy()
    inner[[0, -1]] = inner[:, [0, -1]] = False  # no window lies round these
    ys, xs = np.nonzero(inner)
    number[ys, xs] = np.arange(len(ys))
    matrix, near = _laplacian(light.astype(np.float32), number, len(ys), even.astype(np.float32))
    right = (trust[ys, xs] * wanted[ys, xs]).astype(float)
    high, wide = band.shape
    for at in range(SIDE * SIDE):  # what is known goes to the right
        to = np.clip(ys + at // SIDE - REACH, 0, high - 1), np.clip(xs + at % SIDE - REACH, 0, wide - 1)
        right -= np.where(number[to] < 0, matrix[:, at] * wanted[to], 0)
    matrix[:, OWN] += trust[ys, xs]
    alpha = wanted.astype(np.float32)
    alpha[ys, xs] = np.clip(_minimum(matrix, near, right, wanted[ys, xs].astype(float), MOST_ROUNDS, CLOSE), 0, 1)
    return alpha


@kernel
def _laplacian(light: np.ndarray, number: np.ndarray, count: int, evens: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The rows of the `count` numbered pixels, (count, 25) over the square round each; and which numbered pixel each of these is, or -1."""
    high, wide = number.shape
    found, near = np.zeros((count, SIDE * SIDE)), np.full((count, SIDE * SIDE), -1, np.int32)
    mean, spread = np.zeros(3), np.zeros((3, 3))
    for i in range(1, high - 1):
        for j in range(1, wide - 1):
            touched = False
            for p in range(i - 1, i + 2):
                for q in range(j - 1, j + 2):
                    touched |= number[p, q] >= 0
            if not touched:
                continue
            mean[:], spread[:], even = 0, 0, evens[i, j]
            for p in range(i - 1, i + 2):
                for q in range(j - 1, j + 2):
                    for c in range(3):
                        mean[c] += light[p, q, c] / 9
            for p in range(i - 1, i + 2):
                for q in range(j - 1, j + 2):
                    for c in range(3):
                        for d in range(c, 3):
                            spread[c, d] += (light[p, q, c] - mean[c]) * (light[p, q, d] - mean[d]) / 9
            # the inverse of the covariance, by its cofactors
            rr, rg, rb = spread[0, 0] + even / 9, spread[0, 1], spread[0, 2]
            gg, gb, bb = spread[1, 1] + even / 9, spread[1, 2], spread[2, 2] + even / 9
            a, b, c0 = gg * bb - gb * gb, rb * gb - rg * bb, rg * gb - rb * gg
            d0, e, f = rr * bb - rb * rb, rg * rb - rr * gb, rr * gg - rg * rg
            whole = rr * a + rg * b + rb * c0
            for p in range(i - 1, i + 2):
                for q in range(j - 1, j + 2):
                    k = number[p, q]
                    if k < 0:
                        continue
                    x, y, z = light[p, q, 0] - mean[0], light[p, q, 1] - mean[1], light[p, q, 2] - mean[2]
                    u, v, w = (a * x + b * y + c0 * z) / whole, (b * x + d0 * y + e * z) / whole, (c0 * x + e * y + f * z) / whole
                    for r in range(i - 1, i + 2):
                        for s in range(j - 1, j + 2):
                            at = SIDE * (r - p + REACH) + s - q + REACH
                            along = u * (light[r, s, 0] - mean[0]) + v * (light[r, s, 1] - mean[1]) + w * (light[r, s, 2] - mean[2])
                            found[k, at] -= (1 + along) / 9
                            near[k, at] = number[r, s]
                    found[k, OWN] += 1
    return found, near


@kernel
def _minimum(matrix: np.ndarray, near: np.ndarray, right: np.ndarray, x: np.ndarray, most: int, close: float) -> np.ndarray:
    """x with matrix x = right, from a start, which is changed: conjugate gradients, preconditioned by the diagonal."""
    n = len(x)
    rest, way, image = right.copy(), x.copy(), np.zeros(n)
    first, old = 0.0, 0.0
    for turn in range(most + 1):
        along = 0.0
        for k in range(n):
            total = 0.0
            for m in range(matrix.shape[1]):
                if near[k, m] >= 0:
                    total += matrix[k, m] * way[near[k, m]]
            image[k] = total
            along += total * way[k]
        # in the first turn the way is x itself, and what it leaves of the right side is the first residual
        step = 1.0 if turn == 0 else old / max(along, 1e-30)
        new = 0.0
        for k in range(n):
            x[k] += 0.0 if turn == 0 else step * way[k]
            rest[k] -= step * image[k]
            new += rest[k] * rest[k] / max(matrix[k, OWN], 1e-12)
        if turn == 0:
            first = new
        if new <= close * close * first:
            break
        for k in range(n):
            way[k] = rest[k] / max(matrix[k, OWN], 1e-12) + (0.0 if turn == 0 else new / old * way[k])
        old = new
    return x
