"""Plain solids: card, box, tube, and uneven ground through points."""

import functools

import numpy as np
from scipy.spatial import Delaunay, QhullError

from ..basics.errors import UserError
from .extrude import Mesh, extrude

ROUND = 32  # sides of a tube


def joined(solids: list[tuple[Mesh, np.ndarray]]) -> Mesh:
    """Meshes as one, each moved by its (4, 4)."""
    vertices, normals, triangles, count = [np.zeros((0, 3))], [np.zeros((0, 3))], [np.zeros((0, 3), np.int32)], 0
    for mesh, m in solids:
        turned = mesh.normals @ np.linalg.inv(m[:3, :3])
        vertices.append(mesh.vertices @ m[:3, :3].T + m[:3, 3])
        normals.append(turned / np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-12))
        triangles.append(mesh.triangles + count)
        count += len(mesh.vertices)
    flat = lambda rows, kind: np.ascontiguousarray(np.concatenate(rows), kind)
    return Mesh(flat(vertices, np.float32), flat(normals, np.float32), flat(triangles, np.int32), all(mesh.closed for mesh, _ in solids))


@functools.cache
def card_mesh() -> Mesh:
    """A flat square one unit wide and high that stands on z = 0, centred on x = 0, facing -y."""
    corners = np.array([[-0.5, 0, 0], [0.5, 0, 0], [0.5, 0, 1], [-0.5, 0, 1]], np.float32)
    return Mesh(corners, np.tile(np.array([0, -1, 0], np.float32), (4, 1)), np.array([[0, 1, 2], [0, 2, 3]], np.int32))


@functools.cache
def box_mesh() -> Mesh:
    """A cube of one unit that stands on z = 0, round the z axis."""
    return extrude([np.array([[-0.5, 0], [0.5, 0], [0.5, 1], [-0.5, 1]], float)], 1.0, 0.0)


@functools.cache
def tube_mesh() -> Mesh:
    """A round post one unit thick and high that stands on z = 0."""
    angle = np.linspace(0, 2 * np.pi, ROUND, endpoint=False)
    ring = np.stack([0.5 * np.cos(angle), 0.5 * np.sin(angle)], 1)
    flat = extrude([ring], 1.0, 0.0)
    # extruded along y round the origin; stood up along z
    turn = np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]], np.float32).T
    return Mesh(flat.vertices @ turn + np.array([0, 0, 0.5], np.float32), flat.normals @ turn, flat.triangles, flat.closed)


@functools.lru_cache(maxsize=16)
def ground_mesh(points: tuple[float, ...], edge: float, smooth: int, fill: bool) -> Mesh:
    """Uneven ground: points (x, y, z of each) joined from above by Delaunay's triangles.

    Triangles with a side longer than `edge` are left out, but for holes inside when `fill`. smooth: rounds of moving each
    point half-way to the mean of its neighbours, in height. Raises UserError for fewer than three points or points in a line.
    Source: B. Delaunay, 1934, by Qhull.
    """
    p = np.array(points, float).reshape(-1, 3)
    if len(p) < 3:
        raise UserError(f"Ground needs three points, there are {len(p)}.", "Choose more points on it.")
    try:
        net = Delaunay(p[:, :2])
    except QhullError as error:
        raise UserError("The points lie in one line, seen from above, so they make no ground.", "Add a point beside the line.") from error
    triangles = net.simplices
    p = _smoothed(p, triangles, smooth)
    sides = np.stack([np.linalg.norm(p[triangles[:, i], :2] - p[triangles[:, (i + 1) % 3], :2], axis=1) for i in range(3)], 1)
    keep = sides.max(1) <= edge
    if fill and keep.any():
        keep |= _inside_holes(net, keep)
    triangles = triangles[keep]
    triangles = looking_up(p, triangles)
    return Mesh(
        np.ascontiguousarray(p, np.float32), np.ascontiguousarray(normals_of(p, triangles), np.float32), np.ascontiguousarray(triangles, np.int32)
    )


def looking_up(p: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Triangles (m, 3) over points (n, 3), each with its corners in the order in which it looks up."""
    a, b, c = (p[triangles[:, k]] for k in range(3))
    down = np.cross(b - a, c - a)[:, 2] < 0
    return np.where(down[:, None], triangles[:, [0, 2, 1]], triangles)


def normals_of(p: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(n, 3) unit normals at points (n, 3): the mean of the triangles (m, 3) round each, by their areas."""
    a, b, c = (p[triangles[:, k]] for k in range(3))
    face, normal = np.cross(b - a, c - a), np.zeros_like(p)
    for k in range(3):
        np.add.at(normal, triangles[:, k], face)
    return normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)


def _smoothed(p: np.ndarray, triangles: np.ndarray, rounds: int) -> np.ndarray:
    p = p.copy()
    ends = np.unique(np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1), axis=0)
    count = np.maximum(np.bincount(ends.ravel(), minlength=len(p)), 1)
    for _ in range(rounds):
        total = np.bincount(ends[:, 0], p[ends[:, 1], 2], len(p)) + np.bincount(ends[:, 1], p[ends[:, 0], 2], len(p))
        p[:, 2] = 0.5 * p[:, 2] + 0.5 * total / count
    return p


def _inside_holes(net: Delaunay, keep: np.ndarray) -> np.ndarray:
    """Triangles that were left out and cannot be reached from outside through others that were."""
    outside = ~keep & (net.neighbors < 0).any(1)
    edge = np.flatnonzero(outside)
    while len(edge):
        near = np.unique(net.neighbors[edge])
        near = near[near >= 0]
        edge = near[~keep[near] & ~outside[near]]
        outside[edge] = True
    return ~keep & ~outside
