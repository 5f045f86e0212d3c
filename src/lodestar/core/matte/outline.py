"""Lines with smooth and sharp corners, closed or open, and the mattes that they make."""

import math
from typing import NamedTuple

import cv2
import numpy as np
from scipy.spatial import cKDTree

from ..basics.jit import inlined, kernel

STEPS = 12  # of each side as it is shown
CHORD_PX, MOST_STEPS = 0.01, 250  # how far a side of a matte may run beside its curve
NOISE = 1e-6  # of a px, that sums of parts may be off by


class Form(NamedTuple):
    """How corners become a matte. sharp: numbers of corners that are not smooth; closed: what the line surrounds, else the line itself, of
    `thick` px; outward, inward: px over which the edge fades; shares: of both at each corner, 1 beyond its end; handled: numbers of
    corners with handles, which follow the corners in a shape, in and out of each."""

    sharp: tuple[int, ...] = ()
    closed: bool = True
    thick: float = 0.0
    outward: float = 0.0
    inward: float = 0.0
    shares: tuple[float, ...] = ()
    handled: tuple[int, ...] = ()


SMOOTH = Form()


def parts_of(points: np.ndarray, handled: tuple[int, ...]) -> tuple[np.ndarray, np.ndarray]:
    """The corners (n, 2) and the handles (h, 2, 2), in and out, of a shape (n + 2 h, 2)."""
    count = len(points) - 2 * len(handled)
    return points[:count], points[count:].reshape(-1, 2, 2)


def tangents(
    points: np.ndarray, sharp: tuple[int, ...] = (), closed: bool = True, handled: tuple[int, ...] = ()
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Of each side of a shape, (n, 2) each: where it begins, how its curve leaves, where it ends, and how it comes in, as a cubic Hermite over 0..1.

    Source: E. Catmull and R. Rom, 1974, centripetal form; beside a sharp corner the curve ends without curvature, as a natural spline does; a third of a
    tangent is the handle of a Bezier curve.
    """
    p, handles = parts_of(np.asarray(points, float), handled)
    p0, p1, p2, p3 = np.roll(p, 1, 0), p, np.roll(p, -1, 0), np.roll(p, -2, 0)
    gap = [np.sqrt(np.maximum(np.linalg.norm(b - a, axis=1, keepdims=True), 1e-6)) for a, b in ((p0, p1), (p1, p2), (p2, p3))]
    m1 = gap[1] * ((p1 - p0) / gap[0] - (p2 - p0) / (gap[0] + gap[1]) + (p2 - p1) / gap[1])
    m2 = gap[1] * ((p2 - p1) / gap[1] - (p3 - p1) / (gap[1] + gap[2]) + (p3 - p2) / gap[2])
    for corner, (comes, leaves) in zip(handled, handles, strict=True):
        m1[corner], m2[corner - 1] = 3 * (leaves - p[corner]), 3 * (p[corner] - comes)
    hard = np.isin(np.arange(len(p)), sharp)
    if not closed:
        hard[[0, -1]] = True
    hard[list(handled)] = False
    begins, ends = hard[:, None], np.roll(hard, -1)[:, None]
    way = p2 - p1
    m1, m2 = np.where(begins, np.where(ends, way, (3 * way - m2) / 2), m1), np.where(ends, np.where(begins, way, (3 * way - m1) / 2), m2)
    return p1, m1, p2, m2


def smooth_line(
    points: np.ndarray, steps: int = STEPS, sharp: tuple[int, ...] = (), closed: bool = True, handled: tuple[int, ...] = ()
) -> np.ndarray:
    """(n * steps, 2): a closed curve through the corners of a shape (`parts_of`), as `tangents` say; an open one has ((n - 1) * steps + 1, 2) and is
    straight at its ends."""
    p, _ = parts_of(np.asarray(points, float), handled)
    if len(p) < (3 if closed else 2):
        return p
    u = np.arange(steps) / steps
    h = np.stack([2 * u**3 - 3 * u**2 + 1, u**3 - 2 * u**2 + u, -2 * u**3 + 3 * u**2, u**3 - u**2])
    first, leaves, last, comes = tangents(points, sharp, closed, handled)
    line = np.einsum("ks,knc->nsc", h, np.stack([first, leaves, last, comes])).reshape(-1, 2)
    return line if closed else np.concatenate([line[: (len(p) - 1) * steps], p[-1:]])


def _steps_of(points: np.ndarray, form: Form) -> int:
    """Steps of each side from which on no chord is farther from the curve than CHORD_PX: an eighth of the second difference, at most."""
    first, leaves, last, comes = tangents(points, form.sharp, form.closed, form.handled)
    way = 6 * (last - first)
    bent = max(np.abs(way - 4 * leaves - 2 * comes).max(), np.abs(way - 2 * leaves - 4 * comes).max())
    return int(np.clip(np.ceil(np.sqrt(bent / (8 * CHORD_PX))), 1, MOST_STEPS))


def coverage(points: np.ndarray, width: int, height: int, form: Form = SMOOTH) -> np.ndarray:
    """(height, width) float32 in 0..1: how much of each pixel the line of a shape (`parts_of`) covers, px."""
    result = np.zeros((height, width), np.float32)
    count = len(points) - 2 * len(form.handled)
    if count < (3 if form.closed else 2):
        return result
    steps = _steps_of(np.asarray(points, float), form)
    line = smooth_line(points, steps, form.sharp, form.closed, form.handled)
    past = 0 if form.closed else int(np.ceil(form.thick / 2))
    low = np.clip(np.floor(line.min(0)).astype(int) - 1 - past, 0, [width, height])
    high = np.clip(np.ceil(line.max(0)).astype(int) + 2 + past, 0, [width, height])
    if (high > low).all():
        part = result[low[1] : high[1], low[0] : high[0]]
        if form.closed:
            _fill(line - low + 0.5, part)
        else:
            _stroke(line - low, form.thick / 2, part)
    if max(form.outward, form.inward) > 0.25 and result.any():
        if any(share != 1 for share in form.shares) or form.inward > 0:
            return _faded(result, line, steps, form)
        reach = int(np.ceil(form.outward)) + 1  # beyond it nothing fades
        low, high = np.maximum(low - reach, 0), np.minimum(high + reach, [width, height])
        part = result[low[1] : high[1], low[0] : high[0]]
        away = cv2.distanceTransform((part < 0.5).astype(np.uint8), cv2.DIST_L2, 5)
        fade = np.clip(1 - away / form.outward, 0, 1)
        np.maximum(part, fade * fade * (3 - 2 * fade), out=part)
    return result


@inlined
def _add_side(sums, x0, y0, x1, y1):
    """Add the side from (x0, y0) to (x1, y1), px from the picture's corner, to sums (h, w + 1): for each px what of it lies to the right of the side, less the
    same for the px on its left, counted down as more and up as less."""
    down = 1.0 if y1 > y0 else -1.0
    if y1 < y0:
        x0, y0, x1, y1 = x1, y1, x0, y0
    slope = (x1 - x0) / (y1 - y0) if y1 > y0 else 0.0
    last = sums.shape[1] - 1
    for y in range(max(int(math.floor(y0)), 0), min(int(math.ceil(y1)), sums.shape[0])):
        top, bottom = max(y0, float(y)), min(y1, y + 1.0)
        if bottom <= top:
            continue
        a, b = x0 + slope * (top - y0), x0 + slope * (bottom - y0)
        a, b = min(a, b), max(a, b)
        high = down * (bottom - top)
        first = min(max(int(math.floor(a)), 0), last)
        covered = 0.0  # of the row's height, by the side over the columns so far: what lies left of it, as an integral
        for x in range(first, last + 1):
            # how much of this column's width lies to the right of the side, as a mean over the side's height
            l, r = a - x, b - x
            if r <= 0.0:
                now = 1.0
            elif l >= 1.0:
                now = 0.0
            elif b - a < 1e-12:
                now = 1.0 - l
            else:
                # mean of clip(1 - s, 0, 1) for s from l to r
                low, up = max(l, 0.0), min(r, 1.0)
                now = (max(-l, 0.0) + (up - low) * (1.0 - 0.5 * (low + up))) / (r - l)
            sums[y, x] += high * (now - covered)
            covered = now
            if now >= 1.0:
                break


@kernel
def _fill(line, out):
    """Write to out (h, w) float32 how much of each px a polygon (n, 2) covers, px from the corner of the picture; where it crosses itself, by the even-odd
    rule. Exact but for px that a crossing lies in: the sum of the signed areas between each side and the right border."""
    height, width = out.shape
    sums = np.zeros((height, width + 1))
    for i in range(len(line)):
        j = i + 1 if i + 1 < len(line) else 0
        _add_side(sums, line[i, 0], line[i, 1], line[j, 0], line[j, 1])
    for y in range(height):
        run = 0.0
        for x in range(width):
            run += sums[y, x]
            odd = abs(run) % 2.0
            cover = 1.0 - abs(1.0 - odd)
            out[y, x] = 0.0 if cover < NOISE else 1.0 if cover > 1.0 - NOISE else cover


@kernel
def _stroke(line, radius, out):
    """Write to out (h, w) float32 how much of each px a line (n, 2) of a width with round ends and joints covers, px from the centre of the first: as much as
    of a px's width lies within the line, along the shortest way to its middle."""
    height, width = out.shape
    away = np.full((height, width), np.inf)
    reach = radius + 1.0
    for i in range(max(len(line) - 1, 1)):
        x0, y0 = line[i, 0], line[i, 1]
        along_x, along_y = (line[i + 1, 0] - x0, line[i + 1, 1] - y0) if i + 1 < len(line) else (0.0, 0.0)
        length = along_x * along_x + along_y * along_y
        top, bottom = min(y0, y0 + along_y) - reach, max(y0, y0 + along_y) + reach
        left, right = min(x0, x0 + along_x) - reach, max(x0, x0 + along_x) + reach
        for y in range(max(int(math.floor(top)), 0), min(int(math.ceil(bottom)) + 1, height)):
            for x in range(max(int(math.floor(left)), 0), min(int(math.ceil(right)) + 1, width)):
                at = min(max(((x - x0) * along_x + (y - y0) * along_y) / length, 0.0), 1.0) if length > 0 else 0.0
                off_x, off_y = x - x0 - at * along_x, y - y0 - at * along_y
                away[y, x] = min(away[y, x], off_x * off_x + off_y * off_y)
    for y in range(height):
        for x in range(width):
            off = math.sqrt(away[y, x])
            out[y, x] = min(max(min(off + 0.5, radius) - max(off - 0.5, -radius), 0.0), 1.0)


def shares_at(shares: tuple[float, ...], count: int, closed: bool, at: np.ndarray) -> np.ndarray:
    """(n,) share of the feather at places along a line of `count` corners, told in corners; 1 at corners beyond the end of `shares`."""
    own = np.array([*shares, *[1.0] * count][:count])
    return np.interp(at, np.arange(count + closed), np.append(own, own[0]) if closed else own)


def _faded(cover: np.ndarray, line: np.ndarray, steps: int, form: Form) -> np.ndarray:
    """A matte (h, w) whose edge fades over as many px as the nearest place of its line says."""
    ends = np.concatenate([line, line[:1]]) if form.closed else line
    count = len(line) // steps if form.closed else (len(line) - 1) // steps + 1
    run = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(ends, axis=0), axis=1))])
    at = np.linspace(0, run[-1], max(int(np.ceil(2 * run[-1])), 2))  # two places a px
    dense = np.stack([np.interp(at, run, ends[:, k]) for k in (0, 1)], 1)
    share = shares_at(form.shares, count, form.closed, np.interp(at, run, np.arange(len(ends)) / steps))
    inside = cover >= 0.5
    to = lambda mask: cv2.distanceTransform(mask.astype(np.uint8), cv2.DIST_L2, 5)
    away = np.where(inside, -to(inside), to(~inside))  # near enough to tell which px may lie in the band
    most = 2 + np.array([form.inward, form.outward]) * max(float(share.max()), 1e-6)
    ys, xs = np.nonzero((away > -most[0]) & (away < most[1]))
    off, nearest = cKDTree(dense).query(np.stack([xs, ys], 1))
    if not form.closed:
        off = np.abs(off - form.thick / 2)
    signed, there = np.where(inside[ys, xs], -off, off), share[nearest]
    outward, inward = form.outward * there, form.inward * there
    fade = np.clip((outward - signed) / np.maximum(outward + inward, 1e-6), 0, 1)
    found = cover.copy()
    soft = fade * fade * (3 - 2 * fade)
    plain = outward + inward <= 0.5
    found[ys, xs] = np.where(plain, cover[ys, xs], np.where(inward > 0.25, soft, np.maximum(soft, cover[ys, xs])))
    return found
