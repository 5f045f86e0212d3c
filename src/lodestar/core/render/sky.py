"""A sky infinitely far away, seen through the camera over its exposure: it turns with it, and never shifts."""

import math

import numba as nb
import numpy as np

from ..basics.jit import inlined, parallel_kernel
from .eye import ray_through

ABOVE = math.sin(math.radians(0.25))  # over and under the horizon, between which a sky begins


@inlined
def _blended(picture, u, v, round_, out):
    """Add the value of a picture at place (u, v) px to `out` (3,); all round it goes on over its left and right edges."""
    h, w = picture.shape[0], picture.shape[1]
    v = min(max(v, 0.0), h - 1.0)
    i = min(int(v), max(h - 2, 0))
    a = v - i
    j = math.floor(u)
    b = u - j
    j0, j1 = int(j), int(j) + 1
    if round_:
        j0, j1 = j0 % w, j1 % w
    else:
        j0, j1 = min(max(j0, 0), w - 1), min(max(j1, 0), w - 1)
    k = min(i + 1, h - 1)
    for c in range(3):
        out[c] += (1 - a) * ((1 - b) * picture[i, j0, c] + b * picture[i, j1, c]) + a * ((1 - b) * picture[k, j0, c] + b * picture[k, j1, c])


@parallel_kernel
def sky_seen(eye, turn, picture, top, span, horizon, haze, haze_height, haze_colour, count, cover, left, upper, out):
    """Fill out (h, w, 4) where cover (h, w) is above 0: light, and how much of a px lies over the horizon. The part begins at (left, upper) px.

    picture (a, b, 3): linear light, over `span` radians of the horizon about y and from `top` radians of height downward, as many a px as
    across; turn (3, 3): from the scene to it. horizon: radians; under it nothing lies over the horizon, and what is seen is what the sky has just
    at its own, at 0; -pi / 2 where nobody knows it: then all is seen as it is. haze: share there, which halves with each haze_height radians. count: places over the px and moments of the
    exposure (squared where it is over 1).
    """
    height, width = out.shape[0], out.shape[1]
    px = picture.shape[1] / span
    round_ = span > 6.28
    side = max(count, 1)
    ends = math.sin(horizon)
    for y in nb.prange(height):
        own = np.zeros(3)
        for x in range(width):
            if cover[y, x] <= 0:
                continue
            total0, total1, total2, over = 0.0, 0.0, 0.0, 0.0
            for s in range(side * side):
                i, j = s // side, s % side
                u = (((s * 7) % (side * side)) + 0.5) / (side * side)
                _, d, _ = ray_through(eye, left + x + (j + 0.5) / side - 0.5, upper + y + (i + 0.5) / side - 0.5, u, 0.0, 0.0)
                over += min(max((d[2] - ends + ABOVE) / (2 * ABOVE), 0.0), 1.0)
                if d[2] < -ABOVE and ends > -1.0:  # down there a sky has nothing of its own
                    flat = math.sqrt((1 - ABOVE * ABOVE) / max(d[0] * d[0] + d[1] * d[1], 1e-12))
                    d = (d[0] * flat, d[1] * flat, -ABOVE)
                e0 = turn[0, 0] * d[0] + turn[0, 1] * d[1] + turn[0, 2] * d[2]
                e1 = turn[1, 0] * d[0] + turn[1, 1] * d[1] + turn[1, 2] * d[2]
                e2 = turn[2, 0] * d[0] + turn[2, 1] * d[1] + turn[2, 2] * d[2]
                own[:] = 0.0
                across = math.atan2(e0, e1) * px + 0.5 * picture.shape[1] - 0.5
                down = (top - math.asin(min(max(e2, -1.0), 1.0))) * px - 0.5
                _blended(picture, across, down, round_, own)
                share = haze * 2.0 ** (-math.asin(min(max(d[2], 0.0), 1.0)) / haze_height) if haze > 0 else 0.0
                total0 += own[0] + share * (haze_colour[0] - own[0])
                total1 += own[1] + share * (haze_colour[1] - own[1])
                total2 += own[2] + share * (haze_colour[2] - own[2])
            k = 1.0 / (side * side)
            out[y, x, 0], out[y, x, 1], out[y, x, 2], out[y, x, 3] = total0 * k, total1 * k, total2 * k, over * k
