"""Rotations, similarities and planes, as frozen values and plain functions."""

import functools

import msgspec
import numpy as np

F64 = np.ndarray


def summed(values: np.ndarray) -> np.ndarray:
    """(..., n) to (...): as `values.sum(-1)`, to the bit, where n is two, three or so: numpy goes along a short axis nine times slower (measured)."""
    return functools.reduce(np.add, np.moveaxis(values, -1, 0))


def largest(values: np.ndarray) -> np.ndarray:
    """(..., n) to (...): as `values.max(-1)`, under the same conditions."""
    return functools.reduce(np.maximum, np.moveaxis(values, -1, 0))


def length(values: np.ndarray) -> np.ndarray:
    """(..., n) to (...): as `np.linalg.norm(values, axis=-1)`, under the same conditions."""
    return np.sqrt(summed(values * values))


def vector(p: F64) -> tuple[float, float, float]:
    """A point (3,) as plain numbers, which a document holds."""
    return float(p[0]), float(p[1]), float(p[2])


class Similarity(msgspec.Struct, frozen=True, eq=False):
    """p -> scale * R p + t, with R (3, 3) a rotation and t (3,)."""

    scale: float
    R: np.ndarray
    t: np.ndarray

    def points(self, p: F64) -> F64:
        return self.scale * np.asarray(p) @ self.R.T + self.t

    def back(self, p: F64) -> F64:
        """The way back: points of the new world in the old one."""
        return (np.asarray(p) - self.t) @ self.R / self.scale

    def after(self, first: "Similarity") -> "Similarity":
        """The one that does `first`, then this."""
        return Similarity(self.scale * first.scale, self.R @ first.R, self.points(first.t))

    def inverse(self) -> "Similarity":
        return Similarity(1 / self.scale, self.R.T, self.back(np.zeros(3)))

    def camera(self, R: F64, t: F64) -> tuple[F64, F64]:
        """The world-to-camera pose (R, t) of the old world, for the new one; depths grow by `scale`."""
        turned = R @ self.R.T
        return turned, self.scale * t - turned @ self.t


def identity() -> Similarity:
    return Similarity(1.0, np.eye(3), np.zeros(3))


def rotation_from_vector(w: F64) -> F64:
    """(..., 3) rotation vectors (axis times radians) to (..., 3, 3). Source: Rodrigues' formula."""
    w = np.asarray(w, np.float64)
    angle = np.linalg.norm(w, axis=-1)[..., None, None]
    k = np.zeros((*w.shape[:-1], 3, 3))
    k[..., 0, 1], k[..., 0, 2], k[..., 1, 2] = -w[..., 2], w[..., 1], -w[..., 0]
    k[..., 1, 0], k[..., 2, 0], k[..., 2, 1] = w[..., 2], -w[..., 1], w[..., 0]
    small = angle < 1e-8
    a = np.where(small, 1.0, np.sin(angle) / np.where(small, 1, angle))
    b = np.where(small, 0.5, (1 - np.cos(angle)) / np.where(small, 1, angle) ** 2)
    return np.eye(3) + a * k + b * (k @ k)


def vector_from_rotation(R: F64) -> F64:
    """(3, 3) to its rotation vector (3,), angle up to pi."""
    from scipy.spatial.transform import Rotation

    return Rotation.from_matrix(R).as_rotvec()


def turn_matrix(turn_deg: tuple[float, float, float] | F64) -> F64:
    """(..., 3, 3) from (..., 3): heading about z, pitch about x and roll about y, in degrees; roll first, heading last."""
    turn = np.moveaxis(np.deg2rad(turn_deg), -1, 0)
    (cz, cx, cy), (sz, sx, sy) = np.cos(turn), np.sin(turn)
    if turn.ndim == 1:  # one alone is asked for some hundred times for each picture: as plain numbers it takes a third of the time
        cz, cx, cy, sz, sx, sy = map(float, (cz, cx, cy, sz, sx, sy))
    rows = [
        [cz * cy - sz * sx * sy, -sz * cx, cz * sy + sz * sx * cy],
        [sz * cy + cz * sx * sy, cz * cx, sz * sy - cz * sx * cy],
        [-cx * sy, sx, cx * cy],
    ]
    return np.array(rows) if turn.ndim == 1 else np.moveaxis(np.array(rows), (0, 1), (-2, -1))


def turn_from_matrix(R: F64) -> tuple[float, float, float]:
    """Heading, pitch and roll in degrees of a rotation, as `turn_matrix` takes them; pitch within 90 degrees of level.

    Looking straight up or down heading and roll are one turn: roll is then 0.
    """
    pitch = float(np.arcsin(np.clip(R[2, 1], -1, 1)))
    if abs(R[2, 1]) > 1 - 1e-9:
        heading, roll = float(np.arctan2(R[1, 0], R[0, 0])), 0.0
    else:
        heading, roll = float(np.arctan2(-R[0, 1], R[1, 1])), float(np.arctan2(-R[2, 0], R[2, 2]))
    h, p, r = np.rad2deg([heading, pitch, roll])
    return float(h), float(p), float(r)


def near_turn(turn_deg: tuple[float, ...], to: tuple[float, ...]) -> tuple[float, float, float]:
    """The same rotation as `turn_deg`, written with the heading, pitch and roll that lie nearest to `to`, whole turns counted.

    Each rotation is written in two ways, (h, p, r) and (h + 180, 180 - p, r + 180), and in each with whole turns more or less.
    Looking straight up or down only heading and roll together are known, so the roll of `to` is kept.
    """
    h, p, r = turn_deg
    if abs(abs(p) - 90) < 1e-4:
        h, r = h + (r - to[2]) * (1.0 if p > 0 else -1.0), to[2]
    ways = []
    for way in ((h, p, r), (h + 180, 180 - p, r + 180)):
        ways.append(tuple(float(v + 360 * round((t - v) / 360)) for v, t in zip(way, to)))
    return min(ways, key=lambda way: sum(abs(v - t) for v, t in zip(way, to)))  # type: ignore[return-value]


def blend_rotation(a: F64, b: F64, share: float) -> F64:
    """From rotation a (share 0) to b (share 1) along the shortest way."""
    return a @ rotation_from_vector(share * vector_from_rotation(a.T @ b))


def fit_similarity(a: F64, b: F64) -> Similarity:
    """The similarity that takes points a (n, 3) to b (n, 3) with least squares. Needs three points off one line.

    Source: S. Umeyama, Least-squares estimation of transformation parameters, PAMI 13(4), 1991.
    """
    ca, cb = a.mean(0), b.mean(0)
    u, s, v = np.linalg.svd((b - cb).T @ (a - ca) / len(a))
    flip = np.diag([1, 1, np.sign(np.linalg.det(u @ v))])
    R = u @ flip @ v
    scale = float((s * np.diag(flip)).sum() / max(((a - ca) ** 2).sum(1).mean(), 1e-30))
    return Similarity(scale, R, cb - scale * R @ ca)


def fit_plane(points: F64) -> tuple[F64, F64, float]:
    """Least-squares plane through (n, 3): its centre, unit normal, and rms distance. Raises ValueError under 3 points."""
    if len(points) < 3:
        raise ValueError(f"a plane needs 3 points, got {len(points)}")
    centre = points.mean(0)
    _, s, v = np.linalg.svd(points - centre, full_matrices=False)
    return centre, v[2], float(s[2] / np.sqrt(len(points)))


def plane_by_votes(
    points: np.ndarray, tolerance: float, rng: np.random.Generator, against=lambda normals: 0.0, tries: int = 400
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Point, normal and inliers (bool) of the plane that most points (n, 3) agree on.

    against: by how many points a plane is put back for its normal, of normals (t, 3); infinite where it is not allowed.

    Source: Fischler & Bolles, RANSAC, 1981.
    """
    a, b, c = points[rng.integers(0, len(points), (3, tries))]
    normal = np.cross(b - a, c - a)
    length = np.linalg.norm(normal, axis=1)
    sound = length > 1e-12
    normal = normal / np.where(sound, length, 1.0)[:, None]
    inside = np.abs(points @ normal.T - np.einsum("ti,ti->t", a, normal)) < tolerance
    votes = np.where(sound, inside.sum(0) - against(normal), -np.inf)
    best = int(votes.argmax())
    if not np.isfinite(votes[best]):
        return points.mean(0), np.array([0, 0, 1.0]), np.ones(len(points), bool)
    return a[best], normal[best], inside[:, best]


def meet_plane(origin: F64, directions: F64, point: F64, normal: F64) -> F64:
    """Distance (...) along rays from `origin` (3,) in `directions` (..., 3) to a plane; inf where it is behind or parallel."""
    slope = directions @ normal
    with np.errstate(divide="ignore", invalid="ignore"):
        distance = ((point - origin) @ normal) / slope
    return np.where((np.abs(slope) > 1e-9) & (distance > 0), distance, np.inf)
