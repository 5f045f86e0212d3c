"""Each track against its own first appearance, so that it does not drift.

Inverse compositional alignment of an affine patch with brightness and contrast normalised, Gaussian weighted.
Source: S. Baker and I. Matthews, Lucas-Kanade 20 Years On, IJCV 56(3), 2004.
"""

import numba as nb
import numpy as np

from ..basics.jit import kernel, parallel_kernel

HALF = 9
SIDE = 2 * HALF + 1
ROUNDS = 12


@kernel
def _weight(i: int, j: int) -> float:
    return np.exp(-(i * i + j * j) / (2 * (0.55 * HALF) ** 2))


@kernel
def _sample(picture, x, y):
    i, j = int(x), int(y)
    a, b = x - i, y - j
    return (1 - b) * ((1 - a) * picture[j, i] + a * picture[j, i + 1]) + b * ((1 - a) * picture[j + 1, i] + a * picture[j + 1, i + 1])


@parallel_kernel
def take_patches(picture, xy, patches, inverses):
    """First appearances: picture (h, w) float32, xy (n, 2). Fills patches (n, SIDE, SIDE, 3): value, slope x, slope y, the
    value with zero mean and unit spread; and inverses (n, 6, 6), of the Gauss-Newton matrix."""
    for k in nb.prange(len(xy)):
        mean, square, total = 0.0, 0.0, 0.0
        for j in range(SIDE):
            for i in range(SIDE):
                v = _sample(picture, xy[k, 0] + i - HALF, xy[k, 1] + j - HALF)
                w = _weight(i - HALF, j - HALF)
                patches[k, j, i, 0] = v
                mean += w * v
                square += w * v * v
                total += w
        mean /= total
        spread = np.sqrt(max(square / total - mean * mean, 1e-6))
        H = np.zeros((6, 6))
        g = np.zeros(6)
        for j in range(SIDE):
            for i in range(SIDE):
                x, y = i - HALF, j - HALF
                sx = (_sample(picture, xy[k, 0] + x + 0.5, xy[k, 1] + y) - _sample(picture, xy[k, 0] + x - 0.5, xy[k, 1] + y)) / spread
                sy = (_sample(picture, xy[k, 0] + x, xy[k, 1] + y + 0.5) - _sample(picture, xy[k, 0] + x, xy[k, 1] + y - 0.5)) / spread
                patches[k, j, i, 0] = (patches[k, j, i, 0] - mean) / spread
                patches[k, j, i, 1] = sx
                patches[k, j, i, 2] = sy
                g[0], g[1], g[2], g[3], g[4], g[5] = sx * x, sx * y, sy * x, sy * y, sx, sy
                w = _weight(x, y)
                for a in range(6):
                    for b in range(6):
                        H[a, b] += w * g[a] * g[b]
        for a in range(6):
            # a patch of one direction only is held in shape, not let go
            H[a, a] += (1e-3 * (H[0, 0] + H[3, 3]) if a < 4 else 1e-6 * (H[4, 4] + H[5, 5])) + 1e-9
        inverses[k] = np.linalg.inv(H)


@parallel_kernel
def align(picture, patches, inverses, shapes, xy, likeness):
    """Move each patch to where `picture` (h, w) float32 shows it: updates shapes (n, 2, 2) and xy (n, 2) in place and sets
    likeness (n,) to the weighted normalised cross-correlation, or -1 where the patch left the picture."""
    height, width = picture.shape
    for k in nb.prange(len(xy)):
        a00, a01, a10, a11 = shapes[k, 0, 0], shapes[k, 0, 1], shapes[k, 1, 0], shapes[k, 1, 1]
        cx, cy = xy[k, 0], xy[k, 1]
        values = np.empty((SIDE, SIDE))
        g = np.empty(6)
        likeness[k] = -1.0
        for _ in range(ROUNDS):
            reach_x, reach_y = HALF * (abs(a00) + abs(a01)) + 1.5, HALF * (abs(a10) + abs(a11)) + 1.5
            if not (cx - reach_x >= 0 and cy - reach_y >= 0 and cx + reach_x < width - 1 and cy + reach_y < height - 1):
                likeness[k] = -1.0
                break
            mean, square, total = 0.0, 0.0, 0.0
            for j in range(SIDE):
                for i in range(SIDE):
                    x, y = i - HALF, j - HALF
                    v = _sample(picture, cx + a00 * x + a01 * y, cy + a10 * x + a11 * y)
                    w = _weight(x, y)
                    values[j, i] = v
                    mean += w * v
                    square += w * v * v
                    total += w
            mean /= total
            spread = np.sqrt(max(square / total - mean * mean, 1e-6))
            g[:] = 0
            match = 0.0
            for j in range(SIDE):
                for i in range(SIDE):
                    x, y = i - HALF, j - HALF
                    w = _weight(x, y)
                    v = (values[j, i] - mean) / spread
                    match += w * v * patches[k, j, i, 0]
                    e = w * (v - patches[k, j, i, 0])
                    sx, sy = patches[k, j, i, 1] * e, patches[k, j, i, 2] * e
                    g[0] += sx * x
                    g[1] += sx * y
                    g[2] += sy * x
                    g[3] += sy * y
                    g[4] += sx
                    g[5] += sy
            likeness[k] = match / total
            d = inverses[k] @ g
            # W <- W o dW^-1
            m00, m01, m10, m11 = 1 + d[0], d[1], d[2], 1 + d[3]
            det = m00 * m11 - m01 * m10
            if abs(det) < 0.2:
                likeness[k] = -1.0
                break
            i00, i01, i10, i11 = m11 / det, -m01 / det, -m10 / det, m00 / det
            a00, a01, a10, a11 = a00 * i00 + a01 * i10, a00 * i01 + a01 * i11, a10 * i00 + a11 * i10, a10 * i01 + a11 * i11
            cx -= a00 * d[4] + a01 * d[5]
            cy -= a10 * d[4] + a11 * d[5]
            if abs(d[4]) + abs(d[5]) < 3e-3:
                break
        shapes[k, 0, 0], shapes[k, 0, 1], shapes[k, 1, 0], shapes[k, 1, 1] = a00, a01, a10, a11
        xy[k, 0], xy[k, 1] = cx, cy
