"""Flat outlines to solid letters with a rounded bevel."""

import functools
from pathlib import Path
from typing import NamedTuple

import manifold3d as m3
import numpy as np

from .outlines import Setting, word_outlines

BEVEL_STEPS = 5
CREASE = np.cos(np.deg2rad(30))
SIMPLIFY = 2e-4


class Mesh(NamedTuple):
    """vertices (n, 3) and normals (n, 3) float32, triangles (m, 3) int32, counter-clockwise from outside.

    closed: it has an inside, so that of its triangles only those that face the eye are ever seen.
    """

    vertices: np.ndarray
    normals: np.ndarray
    triangles: np.ndarray
    closed: bool = False


def _corner_normals(p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Outward normals of the edge after and the edge before each corner of a polygon whose inside lies left."""
    edge = np.roll(p, -1, 0) - p
    after = np.stack([edge[:, 1], -edge[:, 0]], 1)
    after /= np.maximum(np.linalg.norm(after, axis=1, keepdims=True), 1e-12)
    return after, np.roll(after, 1, 0)


def _smooth(p: np.ndarray) -> np.ndarray:
    after, before = _corner_normals(p)
    n = after + before
    return n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-9)


class _Builder:
    def __init__(self) -> None:
        self.parts: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []
        self.count = 0

    def add(self, positions: np.ndarray, normals: np.ndarray, triangles: np.ndarray) -> None:
        self.parts.append((positions, normals, triangles + self.count))
        self.count += len(positions)

    def mesh(self) -> Mesh:
        if not self.parts:
            return Mesh(np.zeros((0, 3), np.float32), np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32))
        v, n, t = (np.concatenate(x) for x in zip(*self.parts, strict=True))
        return Mesh(np.ascontiguousarray(v, np.float32), np.ascontiguousarray(n, np.float32), np.ascontiguousarray(t, np.int32), True)


def extrude(contours: list[np.ndarray], depth: float, bevel: float) -> Mesh:
    """A solid of `depth` along -y behind the front (x right, z up, front at y = -depth / 2) with edges rounded by `bevel`.

    contours: closed polygons (n, 2) by the non-zero rule. The bevel is a height field over nested insets, so that it never
    crosses itself, also where a stroke vanishes. bevel is held under 0.45 of the depth.
    """
    bevel = min(bevel, 0.45 * depth)
    section = m3.CrossSection([np.asarray(c) for c in contours], m3.FillRule.NonZero).simplify(SIMPLIFY)
    angles = np.linspace(0, np.pi / 2, BEVEL_STEPS + 1) if bevel > 1e-6 else np.zeros(1)
    inset, rise = bevel * (1 - np.cos(angles)), bevel * np.sin(angles)
    layers = [section] + [section.offset(-d, m3.JoinType.Round, 2.0, 32).simplify(SIMPLIFY) for d in inset[1:]]
    rings = [[np.asarray(p, float) for p in layer.to_polygons()] for layer in layers]
    build = _Builder()
    for side in (1.0, -1.0):
        for k in range(len(rings) - 1):
            _band(build, rings[k], rings[k + 1], depth / 2 - bevel + rise[k], depth / 2 - bevel + rise[k + 1], angles[k], angles[k + 1], side)
        _cap(build, rings[-1], depth / 2 - bevel + rise[-1], side)
    for ring in rings[0]:
        _wall(build, ring, depth / 2 - bevel)
    mesh = build.mesh()
    # from outline axes (x right, y up, z towards the reader) to object axes (x right, y away, z up)
    turn = np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]], np.float32)
    return Mesh(mesh.vertices @ turn.T, mesh.normals @ turn.T, mesh.triangles, mesh.closed)


def _band(build: _Builder, outer: list, inner: list, z0: float, z1: float, a0: float, a1: float, side: float) -> None:
    polygons = outer + [p[::-1] for p in inner]
    if not outer:
        return
    triangles = np.asarray(m3.triangulate(polygons), int)
    xy = np.concatenate(polygons)
    count = sum(map(len, outer))
    z, angle = np.full(len(xy), z1), np.full(len(xy), a1)
    z[:count], angle[:count] = z0, a0
    flat = np.concatenate([_smooth(p) for p in outer] + [_smooth(p)[::-1] for p in inner])
    normal = np.c_[flat * np.cos(angle)[:, None], side * np.sin(angle)]
    build.add(np.c_[xy, side * z], normal, triangles if side > 0 else triangles[:, ::-1])


def _cap(build: _Builder, polygons: list, z: float, side: float) -> None:
    if not polygons:
        return
    triangles = np.asarray(m3.triangulate(polygons), int)
    xy = np.concatenate(polygons)
    build.add(np.c_[xy, np.full(len(xy), side * z)], np.tile([0, 0, side], (len(xy), 1)), triangles if side > 0 else triangles[:, ::-1])


def _wall(build: _Builder, p: np.ndarray, z: float) -> None:
    """The side of one contour; corners sharper than 30 degrees stay sharp."""
    if z <= 0:
        return
    after, before = _corner_normals(p)
    round_ = ((after * before).sum(1) > CREASE)[:, None]
    mean = _smooth(p)
    start = np.where(round_, mean, after)
    end = np.roll(np.where(round_, mean, before), -1, 0)
    q, m = np.roll(p, -1, 0), len(p)
    heights = np.repeat([z, z, -z, -z], m)
    normal = np.c_[np.concatenate([start, end, end, start]), np.zeros(4 * m)]
    i = np.arange(m)
    triangles = np.concatenate([np.c_[i, i + 3 * m, i + 2 * m], np.c_[i, i + 2 * m, i + m]])
    build.add(np.c_[np.concatenate([p, q, q, p]), heights], normal, triangles)


@functools.lru_cache(maxsize=64)
def title_mesh(path: Path, text: str, setting: Setting, depth: float, bevel: float) -> Mesh:
    """The solid of a title, its capitals one unit high: last base line on z = 0, centred on x = 0. depth, bevel in cap heights."""
    return extrude(word_outlines(path, text, setting)[0], depth, bevel)
