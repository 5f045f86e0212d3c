"""Geometry of a few views: tracks as a table, triangulation, parallax, and one frame's pose from known points."""

import functools

import cv2
import numba as nb
import numpy as np

from ..basics.geometry import rotation_from_vector
from ..basics.jit import SizedKernel, kernel
from ..projection.pinhole import Lens, brown
from .adjust import Scene, project, smoothness_prior
from .known import Constraints, Span, constraints_of

LEAST_NOISE_PX = 0.1


class Table:
    """Observations of a clip by frame and track, frames numbered from 0."""

    def __init__(self, frame: np.ndarray, track: np.ndarray, xy: np.ndarray, width: int, height: int, spans: tuple[Span, ...] = ()) -> None:
        """spans: what is known of the place between some of the tracks; constraint_px: what one that is off by as much as is usual costs."""
        self.frame, self.track, self.xy = frame.astype(np.int64), track.astype(np.int64), np.ascontiguousarray(xy, np.float64)
        self.frames, self.tracks = int(frame.max()) + 1, int(track.max()) + 1
        self.width, self.height, self.spans, self.constraint_px = width, height, spans, 1.0
        self.centre = ((width - 1) / 2, (height - 1) / 2)
        order = np.lexsort((self.track, self.frame))
        self._rows = np.split(order, np.searchsorted(self.frame[order], np.arange(1, self.frames)))

    def only(self, tracks: np.ndarray) -> "Table":
        """The observations of some tracks (tracks,) bool."""
        rows = np.flatnonzero(tracks[self.track])
        return Table(self.frame[rows], self.track[rows], self.xy[rows], self.width, self.height, self.spans)

    @functools.cached_property
    def noise_px(self) -> float:
        """As `own_noise`, measured once."""
        return own_noise(self)

    def constraints(self, ids: np.ndarray) -> Constraints | None:
        """The spans between points that are numbered in the order of their tracks (ids)."""
        number = np.full(self.tracks, -1)
        number[ids] = np.arange(len(ids))
        return constraints_of(self.spans, number)

    def smoothness(self, frames: np.ndarray) -> np.ndarray:
        """What holds the zoom at some of the frames (n,), rising."""
        return smoothness_prior(np.asarray(frames, float), max(self.noise_px, LEAST_NOISE_PX))

    def rows(self, frame: int) -> np.ndarray:
        """Rows of the observations of a frame, by track."""
        return self._rows[frame]

    def shared(self, a: int, b: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Tracks seen in both frames, and their pixels in each."""
        p, q = self._rows[a], self._rows[b]
        tracks, i, j = np.intersect1d(self.track[p], self.track[q], assume_unique=True, return_indices=True)
        return tracks, self.xy[p[i]], self.xy[q[j]]

    def thinned(self, frames: np.ndarray, count: int, least: int) -> np.ndarray:
        """Rows of the observations in `frames` of those tracks that most of them see: enough that each frame that can has
        about `count` of them, none that fewer than `least` of the frames see."""
        rows = np.concatenate([self._rows[j] for j in frames])
        sees = np.zeros((len(frames), self.tracks), bool)
        sees[np.repeat(np.arange(len(frames)), [len(self._rows[j]) for j in frames]), self.track[rows]] = True
        often = sees.sum(0)
        have, chosen = np.zeros(len(frames), int), np.zeros(self.tracks, bool)
        for k in np.argsort(-often, kind="stable"):
            if often[k] < least:
                break
            # a track is worth its place where one of its frames is still short of them
            if (have[sees[:, k]] < count).mean() > 0.3:
                have += sees[:, k]
                chosen[k] = True
        return np.sort(rows[chosen[self.track[rows]]])

    def undistorted(self, xy: np.ndarray, K: np.ndarray, zoom: np.ndarray | float = 1.0) -> np.ndarray:
        """(n, 2) pixels to straight image-plane coordinates; zoom: by how many times f each one's focal length is, (n,) or one."""
        return Lens(K[0], K[0], *self.centre, K[1], K[2]).undistort(self.centre + (xy - self.centre) / np.reshape(zoom, (-1, 1)))

    def rays(self, xy: np.ndarray, K: np.ndarray, zoom: np.ndarray | float = 1.0) -> np.ndarray:
        """(n, 3) unit directions in camera axes; zoom as in `undistorted`."""
        d = np.c_[self.undistorted(xy, K, zoom), np.ones(len(xy))]
        return d / np.linalg.norm(d, axis=1, keepdims=True)


def triangulate(
    R: np.ndarray, C: np.ndarray, frame: np.ndarray, point: np.ndarray, xy: np.ndarray, points: int, loss: float, rounds: int = 5
) -> np.ndarray:
    """(points, 3) by robust linear least squares over many views; nan where the rays do not fix a point.

    xy (k, 2): straight image-plane coordinates; loss: scale of the robust weight in the same units.
    Source: Hartley & Zisserman, Multiple View Geometry, 2nd ed., 12.2, reweighted to image distance.
    """
    order = np.argsort(point, kind="stable")
    first = np.searchsorted(point[order], np.arange(points + 1))
    X = np.full((points, 3), np.nan)
    t = -np.einsum("kij,kj->ki", R, C)
    _triangulate(len(frame), np.ascontiguousarray(R), t, frame[order], np.ascontiguousarray(xy[order], np.float64), first, loss, rounds, X)
    return X


@SizedKernel
def _triangulate(R, t, frame, xy, first, loss, rounds, X):
    """Fills X (points, 3), which is nan, where the rays fix a point: frame (k,), xy (k, 2) sorted by point, first (points + 1,)."""
    for p in nb.prange(len(X)):
        x0, x1, x2 = 0.0, 0.0, 0.0
        fixed = first[p] < first[p + 1]  # a flag: what compiled code is free to assume of nan makes tests of it worthless
        for number in range(rounds if fixed else 0):
            m00, m01, m02, m11, m12, m22, v0, v1, v2 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
            for i in range(first[p], first[p + 1]):
                j, weight = frame[i], 1.0
                if number > 0:
                    z = R[j, 2, 0] * x0 + R[j, 2, 1] * x1 + R[j, 2, 2] * x2 + t[j, 2]
                    if abs(z) < 1e-12:
                        continue
                    e0 = (R[j, 0, 0] * x0 + R[j, 0, 1] * x1 + R[j, 0, 2] * x2 + t[j, 0]) / z - xy[i, 0]
                    e1 = (R[j, 1, 0] * x0 + R[j, 1, 1] * x1 + R[j, 1, 2] * x2 + t[j, 1]) / z - xy[i, 1]
                    weight = 1 / max(z * z, 1e-9) / (1 + (e0 * e0 + e1 * e1) / (loss * loss))
                for r in range(2):
                    s = xy[i, r]
                    a0, a1, a2 = s * R[j, 2, 0] - R[j, r, 0], s * R[j, 2, 1] - R[j, r, 1], s * R[j, 2, 2] - R[j, r, 2]
                    b = weight * (t[j, r] - s * t[j, 2])
                    m00 += weight * a0 * a0
                    m01 += weight * a0 * a1
                    m02 += weight * a0 * a2
                    m11 += weight * a1 * a1
                    m12 += weight * a1 * a2
                    m22 += weight * a2 * a2
                    v0 += a0 * b
                    v1 += a1 * b
                    v2 += a2 * b
            # Cholesky's; the product of its squares is the determinant
            l00 = m00
            if l00 <= 0:
                fixed = False
                break
            l10, l20 = m01 / l00, m02 / l00
            l11 = m11 - l10 * m01
            if l11 <= 0:
                fixed = False
                break
            l21 = (m12 - l20 * m01) / l11
            l22 = m22 - l20 * m02 - l21 * l21 * l11
            if l00 * l11 * l22 <= 1e-14 * max(m00 + m11 + m22, 1e-30) ** 3:
                fixed = False
                break
            y1 = v1 - l10 * v0
            y2 = v2 - l20 * v0 - l21 * y1
            x2 = y2 / l22
            x1 = y1 / l11 - l21 * x2
            x0 = v0 / l00 - l10 * x1 - l20 * x2
        if fixed:
            X[p, 0], X[p, 1], X[p, 2] = x0, x1, x2


def parallax(R: np.ndarray, frame: np.ndarray, point: np.ndarray, rays: np.ndarray, points: int) -> np.ndarray:
    """(points,) angle in radians by which the rays of each point spread: twice the largest from their mean."""
    d = np.einsum("kji,kj->ki", R[frame], rays)
    mean = np.zeros((points, 3))
    np.add.at(mean, point, d)
    mean /= np.maximum(np.linalg.norm(mean, axis=1), 1e-12)[:, None]
    # the chord keeps small angles exact, where the cosine loses them
    angle = np.zeros(points)
    np.maximum.at(angle, point, 2 * np.arcsin(np.clip(np.linalg.norm(d - mean[point], axis=1) / 2, 0, 1)))
    return 2 * angle


def directions(R: np.ndarray, frame: np.ndarray, point: np.ndarray, rays: np.ndarray, points: int) -> np.ndarray:
    """(points, 3) unit directions in which each point is seen on average; rays (k, 3) in camera axes. Zero for one not seen."""
    d = np.einsum("kji,kj->ki", R[frame], rays)
    X = np.stack([np.bincount(point, d[:, c], minlength=points) for c in range(3)], 1)
    return X / np.maximum(np.linalg.norm(X, axis=1, keepdims=True), 1e-12)


def fundamental(p: np.ndarray, q: np.ndarray, px: float, tries: int) -> tuple[np.ndarray, np.ndarray] | None:
    """The fundamental matrix that most of the pairs p, q (n, 2) px agree on to within px, and which do (n,) bool; None when none does."""
    try:
        F, mask = cv2.findFundamentalMat(p, q, cv2.USAC_MAGSAC, px, 0.999, tries)
    except cv2.error:  # OpenCV 5.0.0 raises where every sample is degenerate, as on one plane
        return None
    return None if F is None or F.shape != (3, 3) else (F, mask.ravel() > 0)


def start_pose(x: np.ndarray, y: np.ndarray, tolerance: float) -> tuple[np.ndarray, np.ndarray, int] | None:
    """Second camera (R, centre, inliers) against a first at the origin, from straight coordinates (n, 2); None if none fits."""
    E, mask = cv2.findEssentialMat(x, y, np.eye(3), method=cv2.USAC_MAGSAC, prob=0.9999, threshold=tolerance, maxIters=2000)
    if E is None or E.shape != (3, 3):
        return None
    count, R, t, _ = cv2.recoverPose(E, x, y, np.eye(3), mask=mask.copy())
    return R, (-R.T @ t).ravel(), count


@kernel
def _resect_step(R, C, X, xy, f, k1, k2, cx, cy, scale2, H, g):
    """Gauss-Newton sums for one pose; returns the robust cost."""
    H[:] = 0
    g[:] = 0
    total = 0.0
    J = np.zeros((2, 7))
    for i in range(len(X)):
        d0, d1, d2 = X[i, 0] - C[0], X[i, 1] - C[1], X[i, 2] - C[2]
        a = R[0, 0] * d0 + R[0, 1] * d1 + R[0, 2] * d2
        b = R[1, 0] * d0 + R[1, 1] * d1 + R[1, 2] * d2
        z = R[2, 0] * d0 + R[2, 1] * d1 + R[2, 2] * d2
        if z < 1e-6:
            total += scale2 * np.log1p(1e8 / scale2)
            continue
        x, y = a / z, b / z
        q, _, h = brown(k1, k2, x, y)
        e0, e1 = f * q * x + cx - xy[i, 0], f * q * y + cy - xy[i, 1]
        s = e0 * e0 + e1 * e1
        total += scale2 * np.log1p(s / scale2)
        w = 1 / (1 + s / scale2)
        ux, uy, vy = f * (q + h * x * x), f * h * x * y, f * (q + h * y * y)
        for r in range(2):
            px = ux if r == 0 else uy
            py = uy if r == 0 else vy
            q0, q1, q2 = px / z, py / z, -(px * x + py * y) / z
            J[r, 0], J[r, 1], J[r, 2] = q2 * b - q1 * z, q0 * z - q2 * a, q1 * a - q0 * b
            for c in range(3):
                J[r, 3 + c] = -(q0 * R[0, c] + q1 * R[1, c] + q2 * R[2, c])
        J[0, 6], J[1, 6] = f * q * x, f * q * y  # by the logarithm of the zoom
        for m in range(7):
            g[m] -= w * (J[0, m] * e0 + J[1, m] * e1)
            for n in range(7):
                H[m, n] += w * (J[0, m] * J[0, n] + J[1, m] * J[1, n])
    return 0.5 * total


def resect(
    R: np.ndarray, C: np.ndarray, X: np.ndarray, xy: np.ndarray, K: np.ndarray, centre: tuple[float, float], move: bool = True, zooms: bool = False
) -> tuple[np.ndarray, np.ndarray, np.ndarray, float]:
    """One camera from a near guess (R, C): known points X (n, 3) seen at xy (n, 2) px. Returns R, C, the errors (n,) in px, and by how
    many times its focal length is longer than K says (1.0 unless zooms).

    Robust Gauss-Newton, its scale drawn in from 16 to 2 px so that a frame with many wrong points still settles.
    """
    X, xy, f, zoom = np.ascontiguousarray(X), np.ascontiguousarray(xy), K[0], 1.0
    varies = np.flatnonzero([True] * 3 + [move] * 3 + [zooms])
    H, g = np.zeros((7, 7)), np.zeros(7)
    for scale in (16.0, 6.0, 2.0):
        damping = 1e-4
        cost = _resect_step(R, C, X, xy, f * zoom, K[1], K[2], *centre, scale**2, H, g)
        for _ in range(12):
            A = H[np.ix_(varies, varies)]
            A = A + damping * np.diag(np.maximum(np.diag(A), 1e-9))
            step = np.zeros(7)
            step[varies] = np.linalg.solve(A, g[varies])
            Rn, Cn, zoomed = rotation_from_vector(step[:3]) @ R, C + step[3:6], zoom * float(np.exp(np.clip(step[6], -1, 1)))
            now = _resect_step(Rn, Cn, X, xy, f * zoomed, K[1], K[2], *centre, scale**2, H2 := np.zeros((7, 7)), g2 := np.zeros(7))
            if now < cost:
                gain = cost - now
                R, C, zoom, H, g, cost, damping = Rn, Cn, zoomed, H2, g2, now, damping / 10
                if gain < 1e-6 * cost:
                    break
            else:
                damping *= 10
                if damping > 1e4:
                    break
    p, z = project(Scene(R[None], C[None], X, np.array([f * zoom, K[1], K[2]])), np.zeros(len(X), int), np.arange(len(X)), centre)
    return R, C, np.where(z > 0, np.linalg.norm(p - xy, axis=1), np.inf), zoom


def resect_from_nothing(
    X: np.ndarray, xy: np.ndarray, straight: np.ndarray, K: np.ndarray, centre: tuple[float, float], zooms: bool = False
) -> tuple[np.ndarray, np.ndarray, np.ndarray, float] | None:
    """As `resect`, without a guess (RANSAC); None when no pose explains enough points."""
    if len(X) < 8:
        return None
    ok, turn, shift, inliers = cv2.solvePnPRansac(
        X, straight, np.eye(3), None, reprojectionError=6 / K[0], iterationsCount=300, confidence=0.999, flags=cv2.SOLVEPNP_SQPNP
    )
    if not ok or inliers is None or len(inliers) < 8:
        return None
    R = cv2.Rodrigues(turn)[0]
    return resect(R, (-R.T @ shift).ravel(), X, xy, K, centre, zooms=zooms)


def own_noise(table: Table, gap: int = 3) -> float:
    """Noise of one axis of the tracks in px, measured without any camera; 0 when there is too little to measure.

    A track bends between three frames `gap` apart; of that, what a smooth function of the place in the picture and of the
    track's own speed (so of its depth) accounts for is the camera's motion, and the rest is noise. The gap lets errors that
    last a few frames count. Wrong matches are left out beyond four deviations.
    """
    found = []
    for j in np.unique(np.linspace(gap, table.frames - 1 - gap, 60).round().astype(int)) if table.frames > 2 * gap else []:
        rows = [table.rows(k) for k in (j - gap, j, j + gap)]
        both = np.intersect1d(np.intersect1d(table.track[rows[0]], table.track[rows[1]], True), table.track[rows[2]], True)
        if len(both) < 40:
            continue
        a, b, c = (table.xy[r[np.searchsorted(table.track[r], both)]] for r in rows)
        x, v = (b - table.centre) / table.width * 2, (c - a) / 20
        basis = np.c_[np.ones(len(x)), x, x * x, x[:, :1] * x[:, 1:], v, v * x, v * x[:, ::-1]]
        bend, weight = a - 2 * b + c, np.ones(len(x))
        for _ in range(6):
            q = np.linalg.lstsq(basis * weight[:, None], bend * weight[:, None], rcond=None)[0]
            left = bend - basis @ q
            scale = 1.4826 * float(np.median(np.abs(left))) + 1e-6
            weight = 1 / np.sqrt(1 + (left**2).sum(1) / (4 * scale**2))
        inside = left[(np.abs(left) < 4 * scale).all(1)]
        found.append((inside**2).mean() / 6 * len(x) / (len(x) - basis.shape[1]))
    return float(np.sqrt(np.median(found))) if found else 0.0
