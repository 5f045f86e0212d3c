"""Uneven ground, as the points of the solve tell it: a smooth surface through those that lie on it."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from scipy.spatial import Delaunay, QhullError, cKDTree

from ..basics.geometry import F64
from ..shape.solids import looking_up, normals_of

MOST = 400  # points that the surface is laid through; its cost grows with their third power
LEAST = 12
NEAR_ABOVE, NEAR_BELOW = 0.008, 0.016  # of its distance to the camera: so far over the surface, or under it, a point lies on it
GROWTH = 0.15  # of its distance to the camera: so far beyond the points that are known to be ground the next ones are asked
ROUNDS = 8
SMOOTHINGS = (1e-5, 1e-4, 1e-3, 1e-2, 1e-1)
NEIGHBOURS = 14  # whose errors tell whether a surface foretells the ground better than the level plane, here
FELT = 0.0015  # of its distance to the camera: what leaves the level plane by less is a px or two, and stays on it
BETTER, SURELY = 0.95, 0.75  # its error over that of the plane: from the first on it has a say, from the second on all of it
BEYOND = 1.4  # times the known ground's size: there the surface has come down to the level plane
ENDLESS = 400.0


class Uneven(NamedTuple):
    """vertices (n, 3) with unit normals (n, 3), triangles (m, 3) that look up; known (m,) bool: triangles between points of the ground, not beyond them."""

    vertices: F64
    normals: F64
    triangles: np.ndarray
    known: np.ndarray
    net: Delaunay

    def heights(self, at: F64) -> F64:
        """(n,) the height at places (n, 2); 0 beyond all of it."""
        at = np.atleast_2d(np.asarray(at, float))
        which = self.net.find_simplex(at)
        inside = which >= 0
        way = self.net.transform[which]
        first = np.einsum("nij,nj->ni", way[:, :2], at - way[:, 2])
        share = np.c_[first, 1 - first.sum(1)]
        return np.where(inside, (share * self.vertices[self.net.simplices[which], 2]).sum(1), 0.0)

    def knows(self, at: F64) -> np.ndarray:
        """(n,) bool: whether places (n, 2) lie between points of the ground."""
        which = self.net.find_simplex(np.atleast_2d(np.asarray(at, float)))
        return (which >= 0) & self.known[which]

    def met(self, eye: F64, ray: F64, farthest: float = np.inf) -> np.ndarray | None:
        """(3,) where a ray (3,) from `eye` (3,) meets it first; None where it does not. Source: T. Möller and B. Trumbore, 1997."""
        a, b, c = (self.vertices[self.triangles[:, k]] for k in range(3))
        along, across = b - a, c - a
        p = np.cross(ray, across)
        size = (along * p).sum(1)
        size[np.abs(size) < 1e-15] = np.inf
        from_a = eye - a
        u = (from_a * p).sum(1) / size
        q = np.cross(from_a, along)
        v, t = q @ ray / size, (across * q).sum(1) / size
        t = np.where((u >= -1e-9) & (v >= -1e-9) & (u + v <= 1 + 1e-9) & (t > 0), t, np.inf)
        first = float(t.min()) if len(t) else np.inf
        return eye + first * ray if first < farthest else None


def uneven_ground(points: F64, seeds: np.ndarray, away: F64, gap: float) -> Uneven | None:
    """The ground through points (n, 3) of the scene, or None where the level plane z = 0 foretells them as well.

    seeds (n,) bool: those that are taken for ground from the start, near the level plane; away (n,): distances to the camera; gap: share of
    the distance over which nothing between points is known.
    From the seeds the ground grows over those points that go on from it, not above it (P. Axelsson, DEM Generation from Laser
    Scanner Data, 2000). The surface is a smoothing thin-plate spline (G. Wahba, Spline Models for Observational Data, 1990) whose
    smoothness foretells left-out points best; errors grow with the distance. Where it foretells them no better than the
    plane does, the plane stays.
    """
    if seeds.sum() < LEAST:
        return None
    unit = float(np.median(away[seeds]))
    on = _grown(points, seeds, away, unit)
    rows = np.flatnonzero(on)
    if len(rows) > MOST:
        rows = rows[np.argsort(away[rows])][np.linspace(0, len(rows) - 1, MOST).astype(int)]
    p, far = points[rows], away[rows] / unit
    some = slice(None, None, -(-len(p) // (MOST // 2)))  # half of them tell how smooth it is
    smoothing, foretold = _smoothness(p[some], far[some], unit)
    if smoothing is None:
        return None
    try:
        surface = _spline(p, far, unit, smoothing)
    except (np.linalg.LinAlgError, ValueError):  # points over one another that half of them did not have
        return None
    error, plane = np.abs(foretold - p[some, 2]) / far[some], np.abs(p[some, 2]) / far[some]
    tree = cKDTree(p[some, :2])
    near = tree.query(p[some, :2], min(NEIGHBOURS, len(error)))[1]
    ratio = np.median(error[near], 1) / np.maximum(np.median(plane[near], 1), 1e-12)
    say = np.clip((BETTER - ratio) / (BETTER - SURELY), 0, 1) * np.clip(np.median(plane[near], 1) / (FELT * unit) - 1, 0, 1)
    if not (say > 0).any():
        return None
    heights = say[near].mean(1)[tree.query(p[:, :2], 1)[1]] * surface(p[:, :2] / unit) * unit
    return _laid(p[:, :2], heights, away[rows], gap)


def _spline(p: F64, far: F64, unit: float, smoothing: float) -> Callable[[F64], F64]:
    """The smoothing thin-plate spline through points (n, 3): from places (m, 2), in units, to heights (m,), in units too."""
    at, n = p[:, :2] / unit, len(p)
    own = np.linalg.solve(_loaded(_system(at), smoothing, far), np.r_[p[:, 2] / unit, 0, 0, 0])
    return lambda places: _thin_plate(places, at) @ own[:n] + own[n] + places @ own[n + 1 :]


def _thin_plate(a: F64, b: F64) -> F64:
    """(n, m): r^2 log r between places (n, 2) and (m, 2)."""
    r2 = (a[:, None, 0] - b[:, 0]) ** 2 + (a[:, None, 1] - b[:, 1]) ** 2
    return 0.5 * r2 * np.log(np.maximum(r2, 1e-300))


def _system(at: F64) -> F64:
    """(n + 3, n + 3): the equations of the spline through places (n, 2), with a plane. Raises LinAlgError where they lie in a line."""
    n = len(at)
    whole = np.zeros((n + 3, n + 3))
    whole[:n, :n] = _thin_plate(at, at)
    whole[:n, n:] = plane = np.c_[np.ones(n), at]
    whole[n:, :n] = plane.T
    if np.linalg.matrix_rank(plane) < 3:
        raise np.linalg.LinAlgError("in a line")
    return whole


def _loaded(system: F64, smoothing: float, far: F64) -> F64:
    """With what a point may be off by: the error of a height grows with the square of the distance, its square with the fourth power."""
    loaded, rows = system.copy(), np.arange(len(far))
    loaded[rows, rows] += smoothing * far**4
    return loaded


def _smoothness(p: F64, far: F64, unit: float) -> tuple[float | None, F64]:
    """The smoothing that foretells left-out points best, and what it foretells of each, (n,) heights. Source: S. Rippa, 1999: what is foretold
    of a point without it follows from the inverse with it."""
    z, n = p[:, 2], len(p)
    try:
        whole = _system(p[:, :2] / unit)
    except np.linalg.LinAlgError:
        return None, np.zeros(n)
    best, found, least = None, np.zeros(n), np.inf
    for smoothing in SMOOTHINGS:
        try:
            inverse = np.linalg.inv(_loaded(whole, smoothing, far))[:n, :n]
        except np.linalg.LinAlgError:  # points over one another
            continue
        miss = inverse @ z / np.diagonal(inverse)
        error = float(np.mean(np.minimum(np.abs(miss) / far, 0.05 * unit)))
        if error < least:
            best, found, least = float(smoothing), z - miss, error
    return best, found


def _grown(points: F64, seeds: np.ndarray, away: F64, unit: float) -> np.ndarray:
    """(n,) bool: points of the ground."""
    on = seeds.copy()
    for _ in range(ROUNDS):
        rows = np.flatnonzero(on)
        some = rows[np.linspace(0, len(rows) - 1, min(len(rows), MOST // 2)).astype(int)]
        try:
            surface = _spline(points[some], away[some] / unit, unit, 1e-2)
        except (np.linalg.LinAlgError, ValueError):
            return on
        near = cKDTree(points[rows, :2]).query(points[:, :2], 1)[0] < GROWTH * away
        over = np.full(len(points), np.inf)
        over[near] = (points[near, 2] - unit * surface(points[near, :2] / unit)) / away[near]
        grown = (over < NEAR_ABOVE) & (over > -NEAR_BELOW)
        if (grown == on).all() or grown.sum() < LEAST:
            break
        on = grown
    return on


def _laid(at: F64, heights: F64, away: F64, gap: float) -> Uneven | None:
    """The surface as triangles, with what lies beyond the points: it comes down to the level plane, which goes on without end."""
    middle = np.median(at, 0)
    size = float(np.linalg.norm(at - middle, axis=1).max())
    round_ = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    ring = np.c_[np.cos(round_), np.sin(round_)]
    beyond = np.concatenate([middle + BEYOND * size * ring, middle + ENDLESS * size * ring])
    places = np.concatenate([at, beyond])
    try:
        net = Delaunay(places)
    except QhullError:
        return None
    vertices = np.c_[places, np.r_[heights, np.zeros(len(beyond))]]
    triangles = looking_up(vertices, net.simplices.astype(np.int32))
    a, b, c = (places[triangles[:, k]] for k in range(3))
    wide = np.max([np.linalg.norm(b - a, axis=1), np.linalg.norm(c - b, axis=1), np.linalg.norm(a - c, axis=1)], axis=0)
    ours = (triangles < len(at)).all(1)
    reach = np.r_[away, np.full(len(beyond), np.inf)][triangles].mean(1)
    return Uneven(vertices, normals_of(vertices, triangles), triangles, ours & (wide < gap * np.where(ours, reach, 0)), net)
