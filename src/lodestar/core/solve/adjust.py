"""Bundle adjustment: all cameras, points and the lens at once, by Levenberg-Marquardt with the Schur complement over points.

Frame of reference: x_cam = R (X - C) with C the camera's centre; one lens f, k1, k2 for the clip with a fixed centre.
Sources: B. Triggs et al., Bundle Adjustment - A Modern Synthesis, 1999; damping after K. Madsen et al., Methods for
Non-Linear Least Squares Problems, 2004, 3.2. Layout: six numbers a frame (turn, shift), then the lens as the last three.
"""

from typing import NamedTuple

import numpy as np
from scipy.linalg import solve_triangular

from ..basics.geometry import rotation_from_vector
from ..basics.jit import kernel
from ..basics.job import Job

BEHIND_COST = 1e8  # squared pixels of a point behind its camera
LONG_SPAN = 40  # frames; longer tracks are gathered apart so that the dense blocks of short ones stay small


class Scene(NamedTuple):
    """R (n, 3, 3), C (n, 3): cameras. X (m, 3): points. K (3,): f in px, k1, k2."""

    R: np.ndarray
    C: np.ndarray
    X: np.ndarray
    K: np.ndarray


class Seen(NamedTuple):
    """Observations sorted by point, then frame: frame (k,), point (k,) int64, xy (k, 2) px; first (m + 1,): rows of each point."""

    frame: np.ndarray
    point: np.ndarray
    xy: np.ndarray
    first: np.ndarray


def seen(frame: np.ndarray, point: np.ndarray, xy: np.ndarray, points: int) -> Seen:
    order = np.lexsort((frame, point))
    point = np.ascontiguousarray(point[order].astype(np.int64))
    return Seen(np.ascontiguousarray(frame[order].astype(np.int64)), point,
                np.ascontiguousarray(xy[order], np.float64), np.searchsorted(point, np.arange(points + 1)))  # fmt: skip


@kernel
def _robust(square, scale2):
    """Cauchy's cost and weight of a squared residual; plain squares for scale2 <= 0."""
    if scale2 <= 0:
        return square, 1.0
    return scale2 * np.log1p(square / scale2), 1.0 / (1.0 + square / scale2)


@kernel
def _total(R, C, X, K, frame, point, xy, cx, cy, scale2):
    total = 0.0
    for i in range(len(frame)):
        j, p = frame[i], point[i]
        d0, d1, d2 = X[p, 0] - C[j, 0], X[p, 1] - C[j, 1], X[p, 2] - C[j, 2]
        z = R[j, 2, 0] * d0 + R[j, 2, 1] * d1 + R[j, 2, 2] * d2
        if z < 1e-6:
            total += _robust(BEHIND_COST, scale2)[0]
            continue
        x = (R[j, 0, 0] * d0 + R[j, 0, 1] * d1 + R[j, 0, 2] * d2) / z
        y = (R[j, 1, 0] * d0 + R[j, 1, 1] * d1 + R[j, 1, 2] * d2) / z
        r2 = x * x + y * y
        g = 1 + r2 * (K[1] + K[2] * r2)
        e0, e1 = K[0] * g * x + cx - xy[i, 0], K[0] * g * y + cy - xy[i, 1]
        total += _robust(e0 * e0 + e1 * e1, scale2)[0]
    return 0.5 * total


@kernel
def _derive(R, C, X, K, frame, point, xy, cx, cy, scale2, A, B, E):
    """A (k, 2, 9): by turn, shift and lens; B (k, 2, 3): by the point; E (k, 2): residuals; all times the root of the weight."""
    f, k1, k2 = K[0], K[1], K[2]
    for i in range(len(frame)):
        j, p = frame[i], point[i]
        d0, d1, d2 = X[p, 0] - C[j, 0], X[p, 1] - C[j, 1], X[p, 2] - C[j, 2]
        a = R[j, 0, 0] * d0 + R[j, 0, 1] * d1 + R[j, 0, 2] * d2
        b = R[j, 1, 0] * d0 + R[j, 1, 1] * d1 + R[j, 1, 2] * d2
        z = R[j, 2, 0] * d0 + R[j, 2, 1] * d1 + R[j, 2, 2] * d2
        if z < 1e-6:
            A[i] = 0
            B[i] = 0
            E[i] = 0
            continue
        x, y = a / z, b / z
        r2 = x * x + y * y
        g = 1 + r2 * (k1 + k2 * r2)
        h = 2 * (k1 + 2 * k2 * r2)
        e0, e1 = f * g * x + cx - xy[i, 0], f * g * y + cy - xy[i, 1]
        w = np.sqrt(_robust(e0 * e0 + e1 * e1, scale2)[1])
        ux, uy, vy = f * (g + h * x * x) * w, f * h * x * y * w, f * (g + h * y * y) * w
        for r in range(2):
            px = ux if r == 0 else uy
            py = uy if r == 0 else vy
            q0, q1, q2 = px / z, py / z, -(px * x + py * y) / z
            A[i, r, 0], A[i, r, 1], A[i, r, 2] = q2 * b - q1 * z, q0 * z - q2 * a, q1 * a - q0 * b
            for c in range(3):
                v = q0 * R[j, 0, c] + q1 * R[j, 1, c] + q2 * R[j, 2, c]
                B[i, r, c] = v
                A[i, r, 3 + c] = -v
        A[i, 0, 6], A[i, 1, 6] = g * x * w, g * y * w
        A[i, 0, 7], A[i, 1, 7] = f * r2 * x * w, f * r2 * y * w
        A[i, 0, 8], A[i, 1, 8] = f * r2 * r2 * x * w, f * r2 * r2 * y * w
        E[i, 0], E[i, 1] = e0 * w, e1 * w


@kernel
def _blocks(A, B, E, frame, first, frames, damping, S, g, half, inverse, pull):
    """The camera part of the normal equations into the lower S and g, and for each point the inverse of its damped block:
    inverse (m, 3, 3) = half half^T, with its right side pull (m, 3)."""
    n = 6 * frames + 3
    S[:] = 0
    g[:] = 0
    for i in range(len(frame)):
        o = 6 * frame[i]
        for a in range(9):
            ra = o + a if a < 6 else n - 9 + a
            g[ra] -= A[i, 0, a] * E[i, 0] + A[i, 1, a] * E[i, 1]
            for b in range(a + 1):
                rb = o + b if b < 6 else n - 9 + b
                S[ra, rb] += A[i, 0, a] * A[i, 0, b] + A[i, 1, a] * A[i, 1, b]
    for a in range(n):
        S[a, a] += damping * max(S[a, a], 1e-8)
    V = np.zeros((3, 3))
    for p in range(len(first) - 1):
        half[p] = 0
        inverse[p] = 0
        pull[p] = 0
        if first[p] == first[p + 1]:
            continue
        V[:] = 0
        for i in range(first[p], first[p + 1]):
            for a in range(3):
                pull[p, a] -= B[i, 0, a] * E[i, 0] + B[i, 1, a] * E[i, 1]
                for b in range(3):
                    V[a, b] += B[i, 0, a] * B[i, 0, b] + B[i, 1, a] * B[i, 1, b]
        for a in range(3):
            V[a, a] += damping * V[a, a] + 1e-9
        l00 = np.sqrt(V[0, 0])
        l10, l20 = V[1, 0] / l00, V[2, 0] / l00
        l11 = np.sqrt(max(V[1, 1] - l10 * l10, 1e-14 * V[1, 1]))
        l21 = (V[2, 1] - l20 * l10) / l11
        l22 = np.sqrt(max(V[2, 2] - l20 * l20 - l21 * l21, 1e-14 * V[2, 2]))
        half[p, 0, 0], half[p, 1, 1], half[p, 2, 2] = 1 / l00, 1 / l11, 1 / l22
        half[p, 0, 1] = -l10 / (l00 * l11)
        half[p, 1, 2] = -l21 / (l11 * l22)
        half[p, 0, 2] = (l10 * l21 - l11 * l20) / (l00 * l11 * l22)
        inverse[p] = half[p] @ half[p].T


@kernel
def _couple(A, B, frame, first, points, frame0, half, Z):
    """Z: the coupling of a group of points with its frames (six rows each from frame0) and the lens (last three rows)."""
    Z[:] = 0
    m = Z.shape[0]
    for q in range(len(points)):
        p = points[q]
        for i in range(first[p], first[p + 1]):
            r = 6 * (frame[i] - frame0)
            for a in range(9):
                w0 = A[i, 0, a] * B[i, 0, 0] + A[i, 1, a] * B[i, 1, 0]
                w1 = A[i, 0, a] * B[i, 0, 1] + A[i, 1, a] * B[i, 1, 1]
                w2 = A[i, 0, a] * B[i, 0, 2] + A[i, 1, a] * B[i, 1, 2]
                k = r + a if a < 6 else m - 9 + a
                Z[k, 3 * q] += w0 * half[p, 0, 0]
                Z[k, 3 * q + 1] += w0 * half[p, 0, 1] + w1 * half[p, 1, 1]
                Z[k, 3 * q + 2] += w0 * half[p, 0, 2] + w1 * half[p, 1, 2] + w2 * half[p, 2, 2]


@kernel
def _points_back(A, B, frame, first, frames, inverse, pull, step, shift):
    n = 6 * frames + 3
    v = np.zeros(3)
    for p in range(len(first) - 1):
        v[:] = pull[p]
        for i in range(first[p], first[p + 1]):
            o = 6 * frame[i]
            q0, q1 = 0.0, 0.0
            for a in range(9):
                d = step[o + a] if a < 6 else step[n - 9 + a]
                q0 += A[i, 0, a] * d
                q1 += A[i, 1, a] * d
            for b in range(3):
                v[b] -= B[i, 0, b] * q0 + B[i, 1, b] * q1
        shift[p] = inverse[p] @ v


class System:
    """The reduced normal equations of one set of observations; the buffers are kept from round to round."""

    def __init__(self, s: Seen, frames: int) -> None:
        k, m, n = len(s.frame), len(s.first) - 1, 6 * frames + 3
        self.s, self.frames, self.n = s, frames, n
        self.A, self.B, self.E = np.zeros((k, 2, 9)), np.zeros((k, 2, 3)), np.zeros((k, 2))
        self.S, self.g = np.zeros((n, n)), np.zeros(n)
        self.half, self.inverse, self.pull = np.zeros((m, 3, 3)), np.zeros((m, 3, 3)), np.zeros((m, 3))
        self.groups = self._groups()

    def _groups(self, size: int = 96) -> list[tuple[np.ndarray, int, int]]:
        """Points that share frames, so that each group couples only a short run of frames."""
        s = self.s
        some = np.flatnonzero(s.first[1:] > s.first[:-1])
        low, high = s.frame[s.first[some]], s.frame[s.first[some + 1] - 1]
        order = np.lexsort((low + high, high - low > LONG_SPAN))
        parts = [order[k : k + size] for k in range(0, len(order), size)]
        return [(some[q], int(low[q].min()), int(high[q].max()) + 1) for q in parts]

    def derive(self, scene: Scene, centre: tuple[float, float], scale2: float) -> None:
        _derive(scene.R, scene.C, scene.X, scene.K, self.s.frame, self.s.point, self.s.xy, *centre, scale2, self.A, self.B, self.E)

    def reduce(self, damping: float) -> None:
        """S (lower half) and g after the points are taken out."""
        S, g, n = self.S, self.g, self.n
        _blocks(self.A, self.B, self.E, self.s.frame, self.s.first, self.frames, damping, S, g, self.half, self.inverse, self.pull)
        for points, f0, f1 in self.groups:
            m, a = 6 * (f1 - f0), 6 * f0
            Z = np.empty((m + 3, 3 * len(points)))
            _couple(self.A, self.B, self.s.frame, self.s.first, points, f0, self.half, Z)
            Q = Z @ Z.T
            q = Z @ (self.half[points].transpose(0, 2, 1) @ self.pull[points][:, :, None]).ravel()
            S[a : a + m, a : a + m] -= Q[:m, :m]
            S[n - 3 :, a : a + m] -= Q[m:, :m]
            S[n - 3 :, n - 3 :] -= Q[m:, m:]
            g[a : a + m] -= q[:m]
            g[n - 3 :] -= q[m:]

    def points_back(self, step: np.ndarray) -> np.ndarray:
        shift = np.zeros((len(self.s.first) - 1, 3))
        _points_back(self.A, self.B, self.s.frame, self.s.first, self.frames, self.inverse, self.pull, step, shift)
        return shift


def _solve_lower(S: np.ndarray, g: np.ndarray) -> np.ndarray:
    """S^-1 g for a positive definite S of which only the lower half is read. Raises LinAlgError when it is not.

    NumPy's factorisation lets go of the interpreter lock; SciPy's holds it, which kept the window waiting 110 ms (measured).
    """
    L = np.linalg.cholesky(S)
    y = solve_triangular(L, g, lower=True, check_finite=False)
    return solve_triangular(L, y, lower=True, trans="T", check_finite=False)


def adjust(
    scene: Scene, s: Seen, centre: tuple[float, float], *, loss_px: float, lens: tuple[bool, bool, bool] = (True, True, True),
    move: bool = True, prior: tuple[np.ndarray, np.ndarray] | None = None, rounds: int = 30, tolerance: float = 1e-6, job: Job | None = None,
) -> tuple[Scene, float]:  # fmt: skip
    """Adjust the scene to what was seen; returns it with its final cost (half the sum of robust squared px).

    centre: the lens centre in px. loss_px: scale of Cauchy's loss, 0 for plain squares. lens: which of f, k1, k2 vary.
    move: False holds the camera centres (a camera that only turns). prior: mean (3,) and deviation (3,) of f, k1, k2.
    Frames without observations are held.
    """
    frames = len(scene.R)
    scene = Scene(*(np.array(a, np.float64, order="C") for a in scene))
    system = System(s, frames)
    n, scale2 = system.n, loss_px * loss_px
    mean, weight = (np.asarray(prior[0], float), 1 / np.asarray(prior[1], float) ** 2) if prior else (np.zeros(3), np.zeros(3))

    held = np.zeros(n, bool)
    held[-3:] = ~np.array(lens, bool)
    held[:-3] = np.repeat(np.bincount(s.frame, minlength=frames) == 0, 6)
    if not move:
        held[:-3].reshape(frames, 6)[:, 3:] = True
    free = np.flatnonzero(~held)

    def total(x: Scene) -> float:
        return _total(*x, s.frame, s.point, s.xy, *centre, scale2) + 0.5 * float(((x.K - mean) ** 2 * weight).sum())

    cost, damping, growth, moved = total(scene), 1e-4, 2.0, True
    for number in range(rounds):
        if job is not None:
            job.step(number / rounds)
        if moved:
            system.derive(scene, centre, scale2)
        system.reduce(damping)
        system.S[[-3, -2, -1], [-3, -2, -1]] += weight
        system.g[-3:] -= weight * (scene.K - mean)
        step = np.zeros(n)
        try:
            matrix = system.S if len(free) == n else system.S[np.ix_(free, free)]
            step[free] = _solve_lower(matrix, system.g[free])
        except np.linalg.LinAlgError:
            damping, growth, moved = damping * growth, growth * 2, False
            continue
        turn = step[:-3].reshape(frames, 6)
        trial = Scene(rotation_from_vector(turn[:, :3]) @ scene.R, scene.C + turn[:, 3:], scene.X + system.points_back(step), scene.K + step[-3:])
        now = total(trial)
        if now < cost:
            done = cost - now < tolerance * cost
            scene, cost, damping, growth, moved = trial, now, max(damping / 5, 1e-9), 2.0, True
            if done:
                break
        else:
            damping, growth, moved = damping * growth, growth * 2, False
            if damping > 1e8:
                break
    return scene, cost


def project(scene: Scene, frame: np.ndarray, point: np.ndarray, centre: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
    """Pixels (k, 2) and depth (k,) of `point[i]` in `frame[i]`."""
    inside = np.einsum("kij,kj->ki", scene.R[frame], scene.X[point] - scene.C[frame])
    z = inside[:, 2]
    xy = inside[:, :2] / np.where(np.abs(z) < 1e-9, 1e-9, z)[:, None]
    r2 = (xy * xy).sum(1, keepdims=True)
    return scene.K[0] * xy * (1 + r2 * (scene.K[1] + scene.K[2] * r2)) + centre, z


def lens_deviation(scene: Scene, s: Seen, centre: tuple[float, float], noise_px: float, move: bool = True) -> np.ndarray:
    """(3,) standard deviations of f, k1, k2 for tracks with `noise_px` (one axis), from the inverse of the reduced system.

    The seven freedoms of the scene's frame of reference are left to a tiny damping, which does not touch the lens.
    """
    system = System(s, len(scene.R))
    system.derive(scene, centre, 0.0)
    system.reduce(1e-9)
    S = np.tril(system.S) + np.tril(system.S, -1).T
    used = np.repeat(np.bincount(s.frame, minlength=len(scene.R)) > 0, 6)
    if not move:
        used.reshape(-1, 6)[:, 3:] = False
    used = np.concatenate([used, [True] * 3])
    S = S[np.ix_(used, used)]
    scale = 1 / np.sqrt(np.maximum(np.diag(S), 1e-30))
    S = S * scale * scale[:, None] + 1e-9 * np.eye(len(S))
    unit = np.zeros((len(S), 3))
    unit[[-3, -2, -1], [0, 1, 2]] = scale[-3:]
    covariance = unit.T @ _solve_lower(S, unit)
    return noise_px * np.sqrt(np.maximum(np.diag(covariance), 0))
