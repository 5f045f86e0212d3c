"""Lines with smooth and sharp corners, closed or open, and the mattes that they make."""

from typing import NamedTuple

import cv2
import numpy as np
from scipy.spatial import cKDTree

STEPS = 12
FINE = 4  # sub-pixels across and down
PLACES = 16  # in a sub-pixel, of which OpenCV's polygons are told


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


def coverage(points: np.ndarray, width: int, height: int, form: Form = SMOOTH) -> np.ndarray:
    """(height, width) float32 in 0..1: how much of each pixel the line of a shape (`parts_of`) covers, px."""
    result = np.zeros((height, width), np.float32)
    count = len(points) - 2 * len(form.handled)
    if count < (3 if form.closed else 2):
        return result
    line = smooth_line(points, sharp=form.sharp, closed=form.closed, handled=form.handled)
    past = 0 if form.closed else int(np.ceil(form.thick / 2))
    low = np.clip(np.floor(line.min(0)).astype(int) - 1 - past, 0, [width, height])
    high = np.clip(np.ceil(line.max(0)).astype(int) + 2 + past, 0, [width, height])
    if (high > low).all():
        # filled at four times the size: OpenCV's own antialiasing widens a polygon by two thirds of a pixel (measured)
        size = high - low
        fine = np.zeros((int(size[1]) * FINE, int(size[0]) * FINE), np.uint8)
        corners = np.round(((line - low + 0.5) * FINE - 0.5) * PLACES).astype(np.int32)
        if form.closed:
            cv2.fillPoly(fine, [corners.reshape(-1, 1, 2)], 255, cv2.LINE_8, 4)
        else:
            _fill_stroke(fine, corners, (form.thick * FINE - 1) * PLACES / 2)  # OpenCV fills half of a sub-pixel beyond
        part = cv2.resize(fine, (int(size[0]), int(size[1])), interpolation=cv2.INTER_AREA)
        result[low[1] : high[1], low[0] : high[0]] = part.astype(np.float32) / 255
    if max(form.outward, form.inward) > 0.25 and result.any():
        if any(share != 1 for share in form.shares) or form.inward > 0:
            return _faded(result, line, count, form)
        reach = int(np.ceil(form.outward)) + 1  # beyond it nothing fades
        low, high = np.maximum(low - reach, 0), np.minimum(high + reach, [width, height])
        part = result[low[1] : high[1], low[0] : high[0]]
        away = cv2.distanceTransform((part < 0.5).astype(np.uint8), cv2.DIST_L2, 5)
        fade = np.clip(1 - away / form.outward, 0, 1)
        np.maximum(part, fade * fade * (3 - 2 * fade), out=part)
    return result


def _fill_stroke(fine: np.ndarray, line: np.ndarray, radius: float) -> None:
    """A line of a width with round ends and joints, in place; all in parts of a sub-pixel."""
    for a, b in zip(line[:-1].astype(float), line[1:].astype(float), strict=True):
        along = b - a
        side = radius * np.array([-along[1], along[0]]) / max(float(np.hypot(*along)), 1e-9)
        cv2.fillConvexPoly(fine, np.round([a + side, b + side, b - side, a - side]).astype(np.int32), 255, cv2.LINE_8, 4)
    for x, y in line:
        cv2.circle(fine, (int(x), int(y)), max(int(round(radius)), 1), 255, -1, cv2.LINE_8, 4)


def shares_at(shares: tuple[float, ...], count: int, closed: bool, at: np.ndarray) -> np.ndarray:
    """(n,) share of the feather at places along a line of `count` corners, told in corners; 1 at corners beyond the end of `shares`."""
    own = np.array([*shares, *[1.0] * count][:count])
    return np.interp(at, np.arange(count + closed), np.append(own, own[0]) if closed else own)


def _faded(cover: np.ndarray, line: np.ndarray, count: int, form: Form) -> np.ndarray:
    """A matte (h, w) whose edge fades over as many px as the nearest place of its line says."""
    ends = np.concatenate([line, line[:1]]) if form.closed else line
    steps = np.linalg.norm(np.diff(ends, axis=0), axis=1)
    run = np.concatenate([[0], np.cumsum(steps)])
    at = np.linspace(0, run[-1], max(int(np.ceil(2 * run[-1])), 2))  # two places a px
    dense = np.stack([np.interp(at, run, ends[:, k]) for k in (0, 1)], 1)
    share = shares_at(form.shares, count, form.closed, np.interp(at, run, np.arange(len(ends)) / STEPS))
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
