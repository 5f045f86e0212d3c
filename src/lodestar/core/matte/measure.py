"""How soft the edge of a matte is, and how much it flickers from frame to frame."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from scipy.ndimage import gaussian_filter, map_coordinates

from ..basics.geometry import F64

MIDDLE = 0.5  # of the cover: where the edge is
SMOOTH_PX, REACH_PX, STEP_PX = 1.5, 10.0, 0.25  # of the way across the edge; how far along it is looked, and in which steps
INSIDE_PX = 4.0  # of the edge: there the picture moves as the subject does
MOST_POINTS = 4000
LOW, HIGH = 0.1, 0.9  # of the cover: between these the edge is soft


class Edge(NamedTuple):
    """width_px: how far it is across the soft edge from LOW to HIGH, the middle one of all places. flicker_px, flicker_p95_px: how far the edge jumps to and
    fro beside where the picture's own motion takes it, the middle and the 95 % one; nan where there was only one frame. points: places on
    the edge that were looked at."""

    width_px: float
    flicker_px: float
    flicker_p95_px: float
    points: int


def edge_points(cover: np.ndarray) -> tuple[F64, F64]:
    """(n, 2) x, y of places where a cover (h, w) passes its middle, to parts of a px, and (n, 2) the unit direction in which it falls."""
    over = cover >= MIDDLE
    found = []
    for axis in (0, 1):
        a, b = (cover[:, :-1], cover[:, 1:]) if axis == 1 else (cover[:-1], cover[1:])
        ys, xs = np.nonzero((over[:, :-1] != over[:, 1:]) if axis == 1 else (over[:-1] != over[1:]))
        share = (MIDDLE - a[ys, xs]) / (b[ys, xs] - a[ys, xs])
        found.append(np.stack([xs + share, ys], 1) if axis == 1 else np.stack([xs, ys + share], 1))
    points = np.concatenate(found)
    if len(points) > MOST_POINTS:
        points = points[np.linspace(0, len(points) - 1, MOST_POINTS).astype(int)]
    smooth = gaussian_filter(cover.astype(np.float32), SMOOTH_PX)
    down, right = np.gradient(smooth)
    way = -np.stack([_at(right, points), _at(down, points)], 1)
    size = np.linalg.norm(way, axis=1)
    inside = (size > 1e-3) & (points > REACH_PX).all(1) & (points < np.array(cover.shape[::-1]) - 1 - REACH_PX).all(1)
    return points[inside], way[inside] / size[inside, None]


def _at(picture: np.ndarray, points: F64, order: int = 3) -> np.ndarray:
    # by cubic splines: lines from px to px would widen a sharp edge by a quarter of a px
    return map_coordinates(picture, [points[:, 1], points[:, 0]], order=order, mode="nearest")


def _profiles(cover: np.ndarray, points: F64, way: F64) -> tuple[F64, np.ndarray]:
    """Steps (k,) px across the edge, and (n, k) the cover there."""
    steps = np.arange(-REACH_PX, REACH_PX + STEP_PX / 2, STEP_PX)
    places = points[:, None] + steps[None, :, None] * way[:, None]
    return steps, _at(cover.astype(np.float32), places.reshape(-1, 2)).reshape(len(points), -1)


def _crossing(steps: F64, profile: np.ndarray, level: float) -> F64:
    """(n,) px across the edge at which each profile (n, k) falls below a level, the one that is nearest to 0; nan where none does."""
    a, b = profile[:, :-1], profile[:, 1:]
    falls = (a >= level) & (b < level)
    share = np.where(falls, (a - level) / np.maximum(a - b, 1e-9), 0.0)
    at = np.where(falls, steps[:-1] + share * STEP_PX, np.inf)
    best = np.argmin(np.abs(at), axis=1)
    found = at[np.arange(len(at)), best]
    return np.where(np.isfinite(found), found, np.nan)


def _left(other: np.ndarray, points: F64, way: F64, steps: F64, flow: np.ndarray) -> F64:
    """(n,) px across the edge between where the picture's own motion takes it and where it lies in another frame. The motion is that of what is inside: at
    the edge itself it is as much that of what is behind."""
    inside = points - INSIDE_PX * way
    there = points + np.stack([_at(np.ascontiguousarray(flow[..., k]), inside, 1) for k in (0, 1)], 1)
    return _crossing(steps, _profiles(other, there, way)[1], MIDDLE)


def measured(covers: Sequence[np.ndarray], flows: Sequence[np.ndarray] = ()) -> Edge:
    """The edge of a matte in three frames that follow one another, (h, w) each, of the middle one; or in one alone.

    flows: (h, w, 2) px by which the picture of the middle frame goes to the one before and to the one after; it stands still where they are not given.
    """
    cover = covers[len(covers) // 2]
    points, way = edge_points(cover)
    if not len(points):
        return Edge(np.nan, np.nan, np.nan, 0)
    steps, profile = _profiles(cover, points, way)
    width = _crossing(steps, profile, LOW) - _crossing(steps, profile, HIGH)
    middle = float(np.nanmedian(width)) if np.isfinite(width).any() else np.nan
    if len(covers) < 3:
        return Edge(middle, np.nan, np.nan, len(points))
    none = np.zeros((*cover.shape, 2), np.float32)
    before, after = (_left(c, points, way, steps, flow) for c, flow in zip((covers[0], covers[-1]), flows or (none, none), strict=True))
    # what is off to one side before and to the other after was led astray by the motion, and did not jump
    jumps = np.abs(before + after) / 2
    jumps = jumps[np.isfinite(jumps)]
    if not len(jumps):
        return Edge(middle, np.nan, np.nan, len(points))
    return Edge(middle, float(np.median(jumps)), float(np.percentile(jumps, 95)), len(points))


def together(edges: list[Edge]) -> Edge:
    """Of several frames: the middle one of each figure, and all the places."""
    known = lambda name: [v for e in edges if np.isfinite(v := getattr(e, name))]
    middle = lambda name: float(np.median(found)) if (found := known(name)) else np.nan
    return Edge(middle("width_px"), middle("flicker_px"), middle("flicker_p95_px"), sum(e.points for e in edges))
