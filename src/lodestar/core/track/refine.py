"""Each track against its own first appearance, so that it does not drift.

Inverse compositional alignment of an affine patch with brightness and contrast normalised, Gaussian weighted.
Source: S. Baker and I. Matthews, Lucas-Kanade 20 Years On, IJCV 56(3), 2004.
"""

import numba as nb
import numpy as np

from ..basics.jit import parallel_kernel, part

HALF = 9
SIDE = 2 * HALF + 1
ROUNDS = 12
SETTLED_PX = 0.005  # the step after a step this small changes nothing that noise would not
_GAUSS = np.exp(-(np.arange(3) ** 2) / (2 * 0.8**2))
TAPS = tuple(_GAUSS / (_GAUSS[0] + 2 * _GAUSS[1:].sum()))
QUIETED = 0.35  # what the blur leaves of the deviation of white noise


@part
def _weight(i: int, j: int) -> float:
    return np.exp(-(i * i + j * j) / (2 * (0.55 * HALF) ** 2))


@part
def _sample(flat, m, x, y):
    """Between the pixels of a window (m, m) that is given as one row."""
    i, j = int(x), int(y)
    a, b = np.float32(x - i), np.float32(y - j)
    # an unsigned index spares the test for one that counts from the end
    k = np.uint64(j * m + i)
    p, q, r, s = flat[k], flat[k + np.uint64(1)], flat[k + np.uint64(m)], flat[k + np.uint64(m + 1)]
    top, low = p + a * (q - p), r + a * (s - r)
    return top + b * (low - top)


@part
def _window(picture, x, y, rows, window):
    """The blurred surroundings of a point: fills window (m, m) float32 round the nearest pixel of picture (h, w) uint8; returns
    its corner, or (-1, -1) where it leaves the picture. A blur of 0.8 px makes bilinear sampling unbiased to about 0.01 px,
    and quiets noise; blurred here, a frame costs only what its patches cover. rows (m + 4, m): scratch."""
    m = window.shape[0]
    x0, y0 = int(x + 0.5) - m // 2, int(y + 0.5) - m // 2
    if x0 < 2 or y0 < 2 or x0 + m + 2 > picture.shape[1] or y0 + m + 2 > picture.shape[0]:
        return -1, -1
    t0, t1, t2 = np.float32(TAPS[0]), np.float32(TAPS[1]), np.float32(TAPS[2])
    line = np.empty(m + 4, np.float32)
    for j in range(m + 4):
        a, out = picture[y0 + j - 2, x0 - 2 : x0 + m + 2], rows[j]
        for i in range(m + 4):
            line[i] = a[i]
        for i in range(m):
            out[i] = t0 * line[i + 2] + t1 * (line[i + 1] + line[i + 3]) + t2 * (line[i] + line[i + 4])
    for j in range(m):
        a, b, c, d, e, out = rows[j], rows[j + 1], rows[j + 2], rows[j + 3], rows[j + 4], window[j]
        for i in range(m):
            out[i] = t0 * c[i] + t1 * (b[i] + d[i]) + t2 * (a[i] + e[i])
    return x0, y0


@part
def _shifted(window, x, y, block):
    """block (n, n): the window from (x, y) px on, between pixels; returns its sum."""
    i, j = int(x), int(y)
    a, b, total = np.float32(x - i), np.float32(y - j), np.float32(0)
    n = block.shape[0]
    for v in range(n):
        top, low, out = window[j + v, i : i + n + 1], window[j + v + 1, i : i + n + 1], block[v]
        for u in range(n):
            p = top[u] + a * (top[u + 1] - top[u])
            q = low[u] + a * (low[u + 1] - low[u])
            out[u] = p + b * (q - p)
            total += out[u]
    return total


@parallel_kernel
def take_patches(picture, xy, patches, inverses, spread):
    """First appearances: picture (h, w) uint8, xy (n, 2) at least HALF + 5 px inside. Fills patches (n, 3, SIDE, SIDE): the value
    with zero mean and unit spread, slope x, slope y; inverses (n, 6, 6), of the Gauss-Newton matrix; spread (n,): code values."""
    m = SIDE + 6
    for k in nb.prange(len(xy)):
        window, rows = np.empty((m, m), np.float32), np.empty((m + 4, m), np.float32)
        x0, y0 = _window(picture, xy[k, 0], xy[k, 1], rows, window)
        if x0 < 0:
            continue
        cx, cy, flat = xy[k, 0] - x0, xy[k, 1] - y0, window.ravel()
        mean, square, total = 0.0, 0.0, 0.0
        for j in range(SIDE):
            for i in range(SIDE):
                v = _sample(flat, m, cx + i - HALF, cy + j - HALF)
                w = _weight(i - HALF, j - HALF)
                patches[k, 0, j, i] = v
                mean += w * v
                square += w * v * v
                total += w
        mean /= total
        spread[k] = np.sqrt(max(square / total - mean * mean, 1e-6))
        H = np.zeros((6, 6))
        g = np.zeros(6)
        for j in range(SIDE):
            for i in range(SIDE):
                x, y = i - HALF, j - HALF
                sx = (_sample(flat, m, cx + x + 0.5, cy + y) - _sample(flat, m, cx + x - 0.5, cy + y)) / spread[k]
                sy = (_sample(flat, m, cx + x, cy + y + 0.5) - _sample(flat, m, cx + x, cy + y - 0.5)) / spread[k]
                patches[k, 0, j, i] = (patches[k, 0, j, i] - mean) / spread[k]
                patches[k, 1, j, i] = sx
                patches[k, 2, j, i] = sy
                g[0], g[1], g[2], g[3], g[4], g[5] = sx * x, sx * y, sy * x, sy * y, sx, sy
                w = _weight(x, y)
                for a in range(6):
                    for b in range(6):
                        H[a, b] += w * g[a] * g[b]
        for a in range(6):
            # a patch of one direction only is held in shape, not let go
            H[a, a] += (1e-3 * (H[0, 0] + H[3, 3]) if a < 4 else 1e-6 * (H[4, 4] + H[5, 5])) + 1e-9
        inverses[k] = np.linalg.inv(H)


def place_alone(inverses: np.ndarray) -> np.ndarray:
    """(n, 6, 6): as the inverses (n, 6, 6) of `take_patches`, for an `align` that moves patches but leaves their shapes. All zero where they
    are: patches too near to the edge of their picture have none."""
    held = np.zeros_like(inverses)
    taken = inverses[:, 4, 4] > 0
    held[taken, 4:, 4:] = np.linalg.inv(np.linalg.inv(inverses[taken])[:, 4:, 4:])
    return held


@parallel_kernel
def align(picture, patches, inverses, shapes, xy, likeness, roam_px):
    """Move each patch to where `picture` (h, w) uint8 shows it: updates shapes (n, 2, 2) and xy (n, 2) in place and sets
    likeness (n,) to the weighted normalised cross-correlation, or -1 where the patch went further than roam_px, astray or out of
    the picture."""
    weights = np.empty((SIDE, SIDE), np.float32)
    for j in range(SIDE):
        for i in range(SIDE):
            weights[j, i] = _weight(i - HALF, j - HALF)
    for k in nb.prange(len(xy)):
        a00, a01, a10, a11 = shapes[k, 0, 0], shapes[k, 0, 1], shapes[k, 1, 0], shapes[k, 1, 1]
        # no more is blurred than the patch can need
        m = 2 * int(min(1.6 * HALF, HALF * max(abs(a00) + abs(a01), abs(a10) + abs(a11))) + roam_px + 2.0) + 1
        window, rows = np.empty((m, m), np.float32), np.empty((m + 4, m), np.float32)
        likeness[k] = -1.0
        x0, y0 = _window(picture, xy[k, 0], xy[k, 1], rows, window)
        if x0 < 0:
            continue
        cx, cy, flat = xy[k, 0] - x0, xy[k, 1] - y0, window.ravel()
        values = np.empty((SIDE, SIDE), np.float32)
        g = np.empty(6)
        for _ in range(ROUNDS):
            reach_x, reach_y = HALF * (abs(a00) + abs(a01)), HALF * (abs(a10) + abs(a11))
            if not (cx - reach_x >= 0 and cy - reach_y >= 0 and cx + reach_x < m - 1 and cy + reach_y < m - 1):
                likeness[k] = -1.0
                break
            mean, square, total = np.float32(0), np.float32(0), np.float32(0)
            for j in range(SIDE):
                x, y = cx - a00 * HALF + a01 * (j - HALF), cy - a10 * HALF + a11 * (j - HALF)
                for i in range(SIDE):
                    v = _sample(flat, m, x, y)
                    w = weights[j, i]
                    values[j, i] = v
                    mean += w * v
                    square += w * v * v
                    total += w
                    x += a00
                    y += a10
            mean /= total
            gain = np.float32(1 / max(square / total - mean * mean, np.float32(1e-6)) ** 0.5)
            g[:] = 0
            match = np.float32(0)
            for j in range(SIDE):
                along, across, along_x, across_x = np.float32(0), np.float32(0), np.float32(0), np.float32(0)
                looked, first, slope_x, slope_y, weight = values[j], patches[k, 0, j], patches[k, 1, j], patches[k, 2, j], weights[j]
                for i in range(SIDE):
                    v = weight[i] * (looked[i] - mean) * gain
                    match += v * first[i]
                    e = v - weight[i] * first[i]
                    sx, sy, x = slope_x[i] * e, slope_y[i] * e, np.float32(i - HALF)
                    along += sx
                    across += sy
                    along_x += sx * x
                    across_x += sy * x
                g[0] += along_x
                g[1] += along * (j - HALF)
                g[2] += across_x
                g[3] += across * (j - HALF)
                g[4] += along
                g[5] += across
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
            if abs(d[4]) + abs(d[5]) < SETTLED_PX:
                break
        shapes[k, 0, 0], shapes[k, 0, 1], shapes[k, 1, 0], shapes[k, 1, 1] = a00, a01, a10, a11
        xy[k, 0], xy[k, 1] = cx + x0, cy + y0


@parallel_kernel
def return_error(before, now, start, found, error):
    """Follow each patch of `now` at found (n, 2) back to `before` (both (h, w) uint8), beginning at start (n, 2): error (n,) is how
    far in px it comes back from where it started; infinite where it leaves the picture. Translation only."""
    h, m = 7, 25
    n = 2 * h + 1
    for k in nb.prange(len(start)):
        window, rows = np.empty((m, m), np.float32), np.empty((m + 4, m), np.float32)
        patch, sx, sy, block = (
            np.empty((n + 2, n + 2), np.float32),
            np.empty((n, n), np.float32),
            np.empty((n, n), np.float32),
            np.empty((n, n), np.float32),
        )
        error[k] = np.inf
        x0, y0 = _window(now, found[k, 0], found[k, 1], rows, window)
        if x0 < 0:
            continue
        _shifted(window, found[k, 0] - x0 - h - 1, found[k, 1] - y0 - h - 1, patch)
        xx, xy, yy, mean = 0.0, 0.0, 0.0, 0.0
        for j in range(n):
            for i in range(n):
                a, b = 0.5 * (patch[j + 1, i + 2] - patch[j + 1, i]), 0.5 * (patch[j + 2, i + 1] - patch[j, i + 1])
                sx[j, i], sy[j, i] = a, b
                xx += a * a
                xy += a * b
                yy += b * b
                mean += patch[j + 1, i + 1]
        det = xx * yy - xy * xy
        x0, y0 = _window(before, start[k, 0], start[k, 1], rows, window)
        if x0 < 0 or det <= 1e-6 * (xx + yy) ** 2:
            continue
        px, py = start[k, 0] - x0, start[k, 1] - y0
        for _ in range(3):
            if not (h < px < m - h - 2 and h < py < m - h - 2):
                break
            lift = (_shifted(window, px - h, py - h, block) - mean) / (n * n)
            gx, gy = 0.0, 0.0
            for j in range(n):
                for i in range(n):
                    e = block[j, i] - patch[j + 1, i + 1] - lift
                    gx += e * sx[j, i]
                    gy += e * sy[j, i]
            dx, dy = (yy * gx - xy * gy) / det, (xx * gy - xy * gx) / det
            px -= dx
            py -= dy
            if abs(dx) + abs(dy) < 0.05:  # the way back only has to be told from a wrong one
                break
        error[k] = np.sqrt((px + x0 - start[k, 0]) ** 2 + (py + y0 - start[k, 1]) ** 2)
