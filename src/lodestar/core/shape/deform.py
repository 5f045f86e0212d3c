"""Deforming solids: each deformation takes every place of a title or logo to another one, and meshes are made finer where they bend.

Axes are those of the object, in heights of its letters: x right, y away, z up. Sources: A. Barr, Global and Local Deformations of Solid
Primitives, SIGGRAPH 1984 (twist and bend, and normals by the Jacobian); the falloff is the smoothstep polynomial.
"""

import functools
from typing import NamedTuple, Protocol

import numpy as np

from ..basics.geometry import F64
from ..basics.identity import Same
from .extrude import Mesh

FINEST = 0.01  # heights; no edge is made shorter
TURN_STEP = np.deg2rad(5)  # by which neighbouring corners may differ
RADIUS_STEPS, WAVE_STEPS = 10, 24  # pieces of a radius, and of a wave
WAY_STEPS = 4  # of a radius
FOLDS, MOST_STEPS = 2.0, 64  # steps for a way as long as a hold's fade: its steepest slope is 1.5
SOFTEST, MOST_PULL = 0.05, 0.98  # a share of the radius; more of it has no inside
MOST_ROUNDS, MOST_TRIANGLES = 7, 150_000  # in which edges are halved; of one solid
STEP, LEAST = 1e-3, 1e-6  # heights: over which differences are taken; nothing moves by less
KEPT = 256


class Deformation(Protocol):
    """A hashable tuple of numbers."""

    def __call__(self, p: F64) -> F64:
        """Places (n, 3) from places (n, 3)."""
        ...

    def bends(self, a: F64, b: F64) -> np.ndarray:
        """(n,) bool: whether edges from places (n, 3) to places (n, 3) are too long to stay straight."""
        ...

    def cut(self) -> "Deformation":
        """The same as far as `bends` asks, by which finer meshes are kept."""
        ...


class Smeared(NamedTuple):
    """What lies within `radius` of a point goes along with it, by so far (3,), and so does what it comes over on its way; `soft`: share of
    the radius over which its hold fades. In small steps, so that nothing folds over."""

    point: tuple[float, ...]
    by: tuple[float, ...]
    radius: float
    soft: float

    def __call__(self, p: F64) -> F64:
        way = np.array(self.by)
        count = min(int(np.ceil(FOLDS * np.linalg.norm(way) / (self.radius * max(self.soft, SOFTEST)))), MOST_STEPS)
        for k in range(count):
            p = p + _share(p, self.point + way * (k / count), self.radius, self.soft)[:, None] * way / count
        return p

    def bends(self, a: F64, b: F64) -> np.ndarray:
        return _near(a, b, self.point, self.by, self.radius)

    def cut(self) -> "Smeared":
        # in coarse steps of the way, and as much wider: while the end is dragged, finer meshes are made anew only now and then
        step = self.radius / WAY_STEPS
        way = tuple(round(round(v / step) * step, 6) for v in self.by)
        return self._replace(by=way, radius=self.radius + step, soft=0.0)


class Pulled(NamedTuple):
    """What lies within `radius` of a point goes a share of the way to it, or away from it where that is below 0; in small steps, too."""

    point: tuple[float, ...]
    amount: float
    radius: float
    soft: float

    def __call__(self, p: F64) -> F64:
        rate = -np.log(1 - min(self.amount, MOST_PULL))
        count = max(int(np.ceil(2 * FOLDS * abs(rate))), 1)
        for _ in range(count):
            share = _share(p, np.array(self.point), self.radius, self.soft)[:, None]
            p = p + (1 - np.exp(-rate / count * share)) * (np.array(self.point) - p)
        return p

    def bends(self, a: F64, b: F64) -> np.ndarray:
        return _near(a, b, self.point, (0.0, 0.0, 0.0), self.radius)

    def cut(self) -> "Smeared":
        return Smeared(self.point, (0.0, 0.0, 0.0), self.radius, 0.0)


class Waved(NamedTuple):
    """A wave that runs along x. swing: how far it goes to each side (3,); phase: in turns."""

    swing: tuple[float, ...]
    length: float
    phase: float

    def __call__(self, p: F64) -> F64:
        return p + np.sin(2 * np.pi * (p[:, :1] / self.length - self.phase)) * np.array(self.swing)

    def bends(self, a: F64, b: F64) -> np.ndarray:
        return np.abs(a - b)[:, 0] > max(self.length / WAVE_STEPS, FINEST)

    def cut(self) -> "Waved":
        return self._replace(swing=(), phase=0.0)


class Twisted(NamedTuple):
    """Turned about an axis (0 x, 1 y, 2 z) through `middle`, by so many degrees more from one end of `extent` along it to the other."""

    axis: int
    degrees: float
    middle: tuple[float, ...]
    extent: float

    def __call__(self, p: F64) -> F64:
        a, b = (self.axis + 1) % 3, (self.axis + 2) % 3
        off = p - self.middle
        angle = np.deg2rad(self.degrees) * off[:, self.axis] / self.extent
        c, s = np.cos(angle), np.sin(angle)
        found = p.copy()
        found[:, a] = self.middle[a] + c * off[:, a] - s * off[:, b]
        found[:, b] = self.middle[b] + s * off[:, a] + c * off[:, b]
        return found

    def bends(self, a: F64, b: F64) -> np.ndarray:
        return np.abs(a - b)[:, self.axis] > _of_turn(self.extent, self.degrees)

    def cut(self) -> "Twisted":
        return self


class Bent(NamedTuple):
    """Laid on a cylinder: what runs along x, or along z, becomes an arc of so many degrees over `extent`, towards y, or towards -z."""

    along: int
    towards: int
    degrees: float
    middle: tuple[float, ...]
    extent: float

    def __call__(self, p: F64) -> F64:
        sign = -1.0 if self.towards == 2 else 1.0
        radius = self.extent / np.deg2rad(self.degrees)
        angle = (p[:, self.along] - self.middle[self.along]) / radius
        away = radius - sign * p[:, self.towards]
        found = p.copy()
        found[:, self.along] = self.middle[self.along] + away * np.sin(angle)
        found[:, self.towards] = sign * (radius - away * np.cos(angle))
        return found

    def bends(self, a: F64, b: F64) -> np.ndarray:
        return np.abs(a - b)[:, self.along] > _of_turn(self.extent, self.degrees)

    def cut(self) -> "Bent":
        return self


def _share(p: F64, point: F64, radius: float, soft: float) -> F64:
    t = np.clip((1 - np.linalg.norm(p - point, axis=1) / radius) / max(soft, SOFTEST), 0, 1)
    return t * t * (3 - 2 * t)


def _near(a: F64, b: F64, point: tuple[float, ...], way: tuple[float, ...], radius: float) -> np.ndarray:
    """Long edges near the way from a point on."""
    length, along = np.linalg.norm(a - b, axis=1), np.array(way)
    off = (a + b) / 2 - point
    share = np.clip(off @ along / max(along @ along, 1e-12), 0, 1)
    away = np.linalg.norm(off - share[:, None] * along, axis=1) - radius
    # an edge that only touches the ball is halved until its pieces lie within or without
    return length > np.maximum(max(radius / RADIUS_STEPS, FINEST), 2 * away)


def _of_turn(extent: float, degrees: float) -> float:
    return max(TURN_STEP * extent / max(abs(np.deg2rad(degrees)), 1e-6), FINEST)


def deformed(mesh: Mesh, place: F64, by: tuple[Deformation, ...]) -> Mesh:
    """A mesh that stands at `place` (4, 4) in the object's axes, deformed there, in its own axes again. Kept by its identity."""
    return _deformed(Same(mesh), np.ascontiguousarray(place).tobytes(), by)


def deformed_then(mesh: Mesh, place: F64, by: tuple[Deformation, ...], place_then: F64, by_then: tuple[Deformation, ...]) -> Mesh:
    """The mesh that stands at `place` and is deformed so, at another time within the exposure: with the triangles that it has now."""
    finest = _finer(Same(mesh), np.ascontiguousarray(place).tobytes(), tuple(one.cut() for one in by))
    return _moved(finest, place_then, by_then)


@functools.lru_cache(maxsize=KEPT)
def _deformed(same: Same, place: bytes, by: tuple[Deformation, ...]) -> Mesh:
    mesh = _finer(same, place, tuple(one.cut() for one in by))
    moved = _moved(mesh, np.frombuffer(place).reshape(4, 4), by)
    # a letter that nothing reaches stays the one it was, for all that is kept by its identity
    return same.of if moved is mesh else moved


def _moved(mesh: Mesh, m: F64, by: tuple[Deformation, ...]) -> Mesh:
    """The corners of a mesh that stands at m where deformations take them; itself where they take none."""
    there = mesh.vertices.astype(float) @ m[:3, :3].T + m[:3, 3]

    def whole(p: F64) -> F64:
        for one in by:
            p = one(p)
        return p

    moved = whole(there)
    rows = np.flatnonzero((np.abs(moved - there) > LEAST).any(1))
    if not len(rows):
        return mesh
    inverse = np.linalg.inv(m[:3, :3])
    # columns of the Jacobian, in the object's axes
    jacobian = np.stack([whole(there[rows] + step) - whole(there[rows] - step) for step in STEP * np.eye(3)], 2) / (2 * STEP)
    a, b, c = np.moveaxis(inverse @ jacobian @ m[:3, :3], 2, 0)
    # the cofactor matrix takes normals along, also where the solid is squeezed flat
    cofactors = np.stack([np.cross(b, c), np.cross(c, a), np.cross(a, b)], 2)
    turned = (cofactors @ mesh.normals[rows].astype(float)[..., None])[..., 0]
    length = np.linalg.norm(turned, axis=1, keepdims=True)
    vertices, normals = mesh.vertices.copy(), mesh.normals.copy()
    vertices[rows] = (moved[rows] - m[:3, 3]) @ inverse.T
    normals[rows] = np.where(length > 1e-9, turned / np.maximum(length, 1e-9), mesh.normals[rows])
    return mesh._replace(vertices=vertices, normals=normals)


@functools.lru_cache(maxsize=KEPT)
def _finer(same: Same, place: bytes, by: tuple[Deformation, ...]) -> Mesh:
    return finer(same.of, np.frombuffer(place).reshape(4, 4), by)


def finer(mesh: Mesh, place: F64, by: tuple[Deformation, ...]) -> Mesh:
    """A mesh with edges halved until none is too long to stay straight. Whether an edge is halved depends on where its ends are
    alone, so that what is closed stays closed."""
    vertices, normals, triangles, parts = mesh.vertices, mesh.normals, mesh.triangles, mesh.parts
    for _ in range(MOST_ROUNDS):
        edges = np.stack([triangles, np.roll(triangles, -1, 1)], 2)  # (m, 3, 2) of corners
        low, high = edges.min(2), edges.max(2)
        names, which = np.unique((low.astype(np.int64) * len(vertices) + high).ravel(), return_inverse=True)
        ends = np.stack(np.divmod(names, len(vertices)), 1)
        there = [vertices[ends[:, k]].astype(float) @ place[:3, :3].T + place[:3, 3] for k in (0, 1)]
        long = np.any([one.bends(*there) for one in by], axis=0)
        if not long.any() or len(triangles) > MOST_TRIANGLES:
            break
        at = np.full(len(names), -1)
        at[long] = len(vertices) + np.arange(long.sum())
        ends = ends[long]
        vertices = np.concatenate([vertices, 0.5 * (vertices[ends[:, 0]] + vertices[ends[:, 1]])])
        mean = normals[ends[:, 0]] + normals[ends[:, 1]]
        normals = np.concatenate([normals, mean / np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-9)])
        triangles, of = _split(triangles, at[which.reshape(-1, 3)], vertices)
        parts = parts[of] if len(parts) else parts
    return mesh._replace(vertices=vertices, normals=normals, triangles=np.ascontiguousarray(triangles, np.int32), parts=parts)


def _split(triangles: np.ndarray, middle: np.ndarray, vertices: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Triangles (k, 3) from those (m, 3) whose edges have middles (m, 3), -1 where an edge is left; and from which each is (k,).

    Edge k runs from corner k to the next.
    """
    count = (middle >= 0).sum(1)
    found, of, rows = [triangles[count == 0]], [np.flatnonzero(count == 0)], np.arange(len(triangles))
    # turned so that the one edge that is halved, or the one that is left, comes first
    first = np.where(count == 1, (middle >= 0).argmax(1), np.where(count == 2, (middle < 0).argmax(1), 0))
    turn = (first[:, None] + np.arange(3)) % 3
    t, e = np.take_along_axis(triangles, turn, 1), np.take_along_axis(middle, turn, 1)

    def add(where: np.ndarray, *corners: tuple[np.ndarray, np.ndarray, np.ndarray]) -> None:
        for three in corners:
            found.append(np.stack([c[where] for c in three], 1))
            of.append(rows[where])

    a, b, c = t.T
    ab, bc, ca = e.T
    add(count == 1, (a, ab, c), (ab, b, c))
    add(count == 3, (a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))
    # two halved edges leave a square, which is cut along its shorter diagonal
    two = count == 2
    short = two & (_length(vertices, a, bc) <= _length(vertices, b, ca))
    add(two, (ca, bc, c))
    add(short, (a, b, bc), (a, bc, ca))
    add(two & ~short, (a, b, ca), (b, bc, ca))
    return np.concatenate(found), np.concatenate(of)


def _length(vertices: np.ndarray, a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Between corners; 0 where there is none."""
    there = (a >= 0) & (b >= 0)
    return np.where(there, np.linalg.norm(vertices[np.maximum(a, 0)] - vertices[np.maximum(b, 0)], axis=1), 0.0)
