"""The line that letters stand on: straight, bent to a circle, or along a path; a title's own axes, in cap heights."""

import functools
from typing import NamedTuple

import numpy as np

from ..basics.geometry import F64
from ..basics.identity import Same
from ..shape.setting import Piece
from ..shot.objects import Title

SAMPLES = 24  # of a path between two of its points
LEAST = 1e-4  # metres
STEEP = 0.05  # a path that runs nearer along the normal of its surface has no side of its own


class Line(NamedTuple):
    """degrees: of a circle; ends: first and last x of the straight line; path: its points (x, y, z of each, in metres), none for a straight line or a
    circle; normal: of the surface that it runs on; lying: on that, not standing; height: of the letters, in metres; along: how far the words lie
    from the middle of the path, in its lengths; lift: of what lies."""

    degrees: float
    ends: tuple[float, float]
    path: tuple[float, ...]
    normal: tuple[float, ...]
    lying: bool
    height: float
    along: float
    lift: float

    def places(self, x: F64, y: F64) -> F64:
        """(n, 4, 4) from axes with their origin at x (n,), y (n,) of the straight line, to where that stands on this one."""
        if len(self.path) >= 6 and len(x):
            return self._on_path(x, y)
        places = np.tile(np.eye(4), (len(x), 1, 1))
        if abs(self.degrees) < 1e-3 or not len(x):
            places[:, 0, 3], places[:, 2, 3] = x, y
            return places
        radius = max(self.ends[1] - self.ends[0], 1e-6) / np.deg2rad(self.degrees)
        c, s = np.cos(x / radius), np.sin(x / radius)
        places[:, 0, 0], places[:, 0, 2], places[:, 2, 0], places[:, 2, 2] = c, s, -s, c
        # on the circle, whose top is where the base line was
        places[:, 0, 3], places[:, 2, 3] = s * (radius + y), c * (radius + y) - radius
        return places

    def _on_path(self, x: F64, y: F64) -> F64:
        """The words lie about the middle of the path, or farther along it; beyond its ends they go straight on."""
        points, long = path_line(self.path)
        at = (x - sum(self.ends) / 2) * self.height + long[-1] * (0.5 + self.along)
        # beyond an end along its last piece
        k = np.clip(np.searchsorted(long, at, "right") - 1, 0, len(long) - 2)
        piece, begin = points[k + 1] - points[k], points[k]
        size = np.maximum(long[k + 1] - long[k], 1e-12)[:, None]
        foot = (begin + piece * ((at - long[k])[:, None] / size)) / self.height
        way = _ways(points, long, at)
        up = np.broadcast_to(np.array(self.normal, float), way.shape)
        up = up - (up * way).sum(1, keepdims=True) * way
        flat = np.linalg.norm(up, axis=1) < STEEP
        up[flat] = np.cross(way[flat], [0.0, 1.0, 0.0]) + 1e-9
        up /= np.linalg.norm(up, axis=1, keepdims=True)
        aside = np.cross(up, way)
        away, high = (-up, aside) if self.lying else (aside, up)
        places = np.tile(np.eye(4), (len(x), 1, 1))
        places[:, :3, 0], places[:, :3, 1], places[:, :3, 2] = way, away, high
        places[:, :3, 3] = foot + high * y[:, None] - away * self.lift
        return places


def line_of(title: Title, pieces: tuple[Piece, ...], frame: float) -> Line:
    """That of a title with these pieces at a frame."""
    height = max(title.height.at(frame)[0], LEAST)
    if len(title.path) < 6:
        return Line(title.bend.at(frame)[0], _ends(Same(pieces)), (), (), False, 1.0, 0.0, 0.0)
    lift = title.depth.at(frame)[0] / 2 / height if title.lying else 0.0
    return Line(0.0, _ends(Same(pieces)), title.path, title.path_normal, title.lying, height, title.along.at(frame)[0], lift)


@functools.lru_cache(maxsize=64)
def _ends(of: Same) -> tuple[float, float]:
    pieces: tuple[Piece, ...] = of.of
    return min((p.x for p in pieces), default=0.0), max((p.letters[-1].x + p.letters[-1].advance for p in pieces), default=1.0)


def _ways(points: F64, long: F64, at: F64) -> F64:
    """(n, 3) unit directions of a path at lengths (n,) along it, smooth from piece to piece."""
    pieces = np.diff(points, axis=0) / np.maximum(np.diff(long), 1e-12)[:, None]
    middle = (long[1:] + long[:-1]) / 2
    way = np.stack([np.interp(at, middle, pieces[:, c]) for c in range(3)], 1)
    return way / np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)


@functools.lru_cache(maxsize=64)
def path_line(path: tuple[float, ...]) -> tuple[F64, F64]:
    """(n, 3) a smooth line through the points of a path (x, y, z of each, in metres), and how far along it each of them is (n,).

    A cubic spline through them by the square root of their distances, which overshoots little between near points. Source:
    E. Lee, Choosing nodes in parametric curve interpolation, Computer-Aided Design 21, 1989 (centripetal).
    """
    corners = np.array(path, float).reshape(-1, 3)
    apart = np.r_[True, np.linalg.norm(np.diff(corners, axis=0), axis=1) > LEAST]
    corners = corners[apart]
    if len(corners) < 2:  # of no length: a short one to the right
        corners = np.array([corners[0], corners[0] + [LEAST, 0.0, 0.0]])
    when = np.r_[0.0, np.cumsum(np.sqrt(np.linalg.norm(np.diff(corners, axis=0), axis=1)))]
    if len(corners) > 2:
        from scipy.interpolate import CubicSpline  # not at the start, which is to be quick

        fine = np.unique(np.concatenate([np.linspace(a, b, SAMPLES + 1) for a, b in zip(when, when[1:])]))
        corners = CubicSpline(when, corners)(fine)
    return corners, np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(corners, axis=0), axis=1))]
