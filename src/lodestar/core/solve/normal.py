"""Kernels of the adjustment: residuals, derivatives, the normal equations with the points taken out, and points at their best.

Conventions as in `adjust`: x_cam = R (X - C), observations sorted by point. To an observation belong turn (3) and shift (3) of its
frame, its zoom (1) where that varies, and the lens (6): f, k1, k2, its centre's place (2), the readout; so A is 12 or 13 wide.
zoom (frames,): by how many times f each frame's focal length is. late (k, 2): px by which an observation is displaced for a
readout of 1. A SizedKernel takes the number of observations before all else.
"""

import numba as nb
import numpy as np

from ..basics.jit import SizedKernel, kernel, part
from ..projection.pinhole import brown

LENS = 6
BEHIND_COST = 1e8  # squared pixels of a point behind its camera


@part
def robust(square, scale2):
    """Cauchy's cost and weight of a squared residual; plain squares for scale2 <= 0."""
    if scale2 <= 0:
        return square, 1.0
    return scale2 * np.log1p(square / scale2), 1.0 / (1.0 + square / scale2)


@part
def _seen_from(R, C, j, x0, x1, x2):
    """A point in the axes of camera j."""
    d0, d1, d2 = x0 - C[j, 0], x1 - C[j, 1], x2 - C[j, 2]
    return (
        R[j, 0, 0] * d0 + R[j, 0, 1] * d1 + R[j, 0, 2] * d2,
        R[j, 1, 0] * d0 + R[j, 1, 1] * d1 + R[j, 1, 2] * d2,
        R[j, 2, 0] * d0 + R[j, 2, 1] * d1 + R[j, 2, 2] * d2,
    )


@part
def _distorted(K, f, x, y):
    """Lens at straight coordinates: the factor g, and the derivatives of f g x, f g y by x and y (symmetric)."""
    g, r2, h = brown(K[1], K[2], x, y)
    return g, r2, f * (g + h * x * x), f * h * x * y, f * (g + h * y * y)


@SizedKernel
def derive(R, C, X, K, extra, zoom, late, frame, point, xy, cx, cy, scale2, A, B, E):
    """A (k, 2, 12 or 13): by turn, shift, zoom and lens; B (k, 2, 3): by the point; E (k, 2): residuals; all times the root of the weight."""
    o = A.shape[2] - LENS
    for i in nb.prange(len(frame)):
        j, p = frame[i], point[i]
        f = K[0] * zoom[j]
        a, b, z = _seen_from(R, C, j, X[p, 0], X[p, 1], X[p, 2])
        if z < 1e-6:
            A[i] = 0
            B[i] = 0
            E[i] = 0
            continue
        x, y = a / z, b / z
        g, r2, ux, uy, vy = _distorted(K, f, x, y)
        e0 = f * g * x + cx + extra[0] + extra[2] * late[i, 0] - xy[i, 0]
        e1 = f * g * y + cy + extra[1] + extra[2] * late[i, 1] - xy[i, 1]
        w = np.sqrt(robust(e0 * e0 + e1 * e1, scale2)[1])
        for r in range(2):
            px = w * (ux if r == 0 else uy)
            py = w * (uy if r == 0 else vy)
            q0, q1, q2 = px / z, py / z, -(px * x + py * y) / z
            A[i, r, 0], A[i, r, 1], A[i, r, 2] = q2 * b - q1 * z, q0 * z - q2 * a, q1 * a - q0 * b
            for c in range(3):
                v = q0 * R[j, 0, c] + q1 * R[j, 1, c] + q2 * R[j, 2, c]
                B[i, r, c] = v
                A[i, r, 3 + c] = -v
        if o > 6:
            A[i, 0, 6], A[i, 1, 6] = f * g * x * w, f * g * y * w  # by the logarithm of the zoom
        A[i, 0, o], A[i, 1, o] = zoom[j] * g * x * w, zoom[j] * g * y * w
        A[i, 0, o + 1], A[i, 1, o + 1] = f * r2 * x * w, f * r2 * y * w
        A[i, 0, o + 2], A[i, 1, o + 2] = f * r2 * r2 * x * w, f * r2 * r2 * y * w
        A[i, 0, o + 3], A[i, 1, o + 3], A[i, 0, o + 4], A[i, 1, o + 4] = w, 0.0, 0.0, w
        A[i, 0, o + 5], A[i, 1, o + 5] = late[i, 0] * w, late[i, 1] * w
        E[i, 0], E[i, 1] = e0 * w, e1 * w


@kernel
def cameras(A, frame, U):
    """U (frames, 12 or 13, same), lower halves: the squares of each frame's turn, shift, zoom and lens."""
    U[:] = 0
    for i in range(len(frame)):
        own = U[frame[i]]
        for a in range(A.shape[2]):
            for b in range(a + 1):
                own[a, b] += A[i, 0, a] * A[i, 0, b] + A[i, 1, a] * A[i, 1, b]


@SizedKernel
def points(B, first, damping, half, inverse):
    """For each point the inverse of its damped block, inverse (m, 3, 3) = half half^T; zero for a point that is not seen."""
    for p in nb.prange(len(first) - 1):
        half[p] = 0
        inverse[p] = 0
        if first[p] == first[p + 1]:
            continue
        V = np.zeros((3, 3))
        for i in range(first[p], first[p + 1]):
            for a in range(3):
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
        for a in range(3):
            for b in range(3):
                inverse[p, a, b] = half[p, a, 0] * half[p, b, 0] + half[p, a, 1] * half[p, b, 1] + half[p, a, 2] * half[p, b, 2]


@SizedKernel
def pulls(B, E, first, pull):
    """pull (m, 3): the right side of each point."""
    for p in nb.prange(len(first) - 1):
        for a in range(3):
            v = 0.0
            for i in range(first[p], first[p + 1]):
                v -= B[i, 0, a] * E[i, 0] + B[i, 1, a] * E[i, 1]
            pull[p, a] = v


@kernel
def couple(A, B, frame, first, group, frame0, half, Z):
    """Z: the coupling of a group of points with its frames (six or seven rows each from frame0) and the lens (last six rows)."""
    Z[:] = 0
    m, wide = Z.shape[0], A.shape[2]
    per = wide - LENS
    for q in range(len(group)):
        p = group[q]
        for i in range(first[p], first[p + 1]):
            r = per * (frame[i] - frame0)
            for a in range(wide):
                w0 = A[i, 0, a] * B[i, 0, 0] + A[i, 1, a] * B[i, 1, 0]
                w1 = A[i, 0, a] * B[i, 0, 1] + A[i, 1, a] * B[i, 1, 1]
                w2 = A[i, 0, a] * B[i, 0, 2] + A[i, 1, a] * B[i, 1, 2]
                k = r + a if a < per else m - wide + a
                Z[k, 3 * q] += w0 * half[p, 0, 0]
                Z[k, 3 * q + 1] += w0 * half[p, 0, 1] + w1 * half[p, 1, 1]
                Z[k, 3 * q + 2] += w0 * half[p, 0, 2] + w1 * half[p, 1, 2] + w2 * half[p, 2, 2]


@kernel
def rights(A, B, E, frame, first, inverse, pull, g):
    """g (frames, 12 or 13): the right side of each frame's turn, shift, zoom and lens, less what the points take up: W V^-1 pull."""
    g[:] = 0
    for p in range(len(first) - 1):
        v0 = inverse[p, 0, 0] * pull[p, 0] + inverse[p, 0, 1] * pull[p, 1] + inverse[p, 0, 2] * pull[p, 2]
        v1 = inverse[p, 1, 0] * pull[p, 0] + inverse[p, 1, 1] * pull[p, 1] + inverse[p, 1, 2] * pull[p, 2]
        v2 = inverse[p, 2, 0] * pull[p, 0] + inverse[p, 2, 1] * pull[p, 1] + inverse[p, 2, 2] * pull[p, 2]
        for i in range(first[p], first[p + 1]):
            q0 = E[i, 0] + B[i, 0, 0] * v0 + B[i, 0, 1] * v1 + B[i, 0, 2] * v2
            q1 = E[i, 1] + B[i, 1, 0] * v0 + B[i, 1, 1] * v1 + B[i, 1, 2] * v2
            right = g[frame[i]]
            for a in range(A.shape[2]):
                right[a] -= A[i, 0, a] * q0 + A[i, 1, a] * q1


@SizedKernel
def points_back(A, B, frame, first, inverse, pull, step, shift):
    """shift (m, 3) of the points that belongs to a step (6 or 7 frames + 6,) of cameras and lens."""
    n, wide = len(step), A.shape[2]
    per = wide - LENS
    for p in nb.prange(len(first) - 1):
        v0, v1, v2 = pull[p, 0], pull[p, 1], pull[p, 2]
        for i in range(first[p], first[p + 1]):
            o = per * frame[i]
            q0, q1 = 0.0, 0.0
            for a in range(wide):
                d = step[o + a] if a < per else step[n - wide + a]
                q0 += A[i, 0, a] * d
                q1 += A[i, 1, a] * d
            v0 -= B[i, 0, 0] * q0 + B[i, 1, 0] * q1
            v1 -= B[i, 0, 1] * q0 + B[i, 1, 1] * q1
            v2 -= B[i, 0, 2] * q0 + B[i, 1, 2] * q1
        for a in range(3):
            shift[p, a] = inverse[p, a, 0] * v0 + inverse[p, a, 1] * v1 + inverse[p, a, 2] * v2


@SizedKernel
def refine_points(R, C, X, K, extra, zoom, late, frame, first, xy, cx, cy, scale2, rounds, far):
    """Each point (m, 3) to where the cameras as they are see it best, by damped Gauss-Newton, in place; returns the total cost.

    rounds (m,): how many for each point; one with none stays, and only its cost counts.

    far: only the directions of the points count (cameras at one place); their lengths are kept. With the points always at
    their best, the adjustment moves over cameras and lens alone, which spares it the narrow curved valley along which focal
    length and depths trade. Source: A. Ruhe and P. Wedin, Algorithms for separable nonlinear least squares, SIAM Review 22(3), 1980.
    """
    cost = np.zeros(len(X))
    for p in nb.prange(len(X)):
        x0, x1, x2 = X[p, 0], X[p, 1], X[p, 2]
        t0, t1, t2, best, damping = x0, x1, x2, np.inf, 1e-4
        v00, v01, v02, v11, v12, v22, h0, h1, h2 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for _ in range(rounds[p] + 1):
            now = 0.0
            a00, a01, a02, a11, a12, a22, b0, b1, b2 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
            for i in range(first[p], first[p + 1]):
                j = frame[i]
                f = K[0] * zoom[j]
                a, b, z = _seen_from(R, C, j, t0, t1, t2)
                if z < 1e-6:
                    now += robust(BEHIND_COST, scale2)[0]
                    continue
                x, y = a / z, b / z
                g, _, ux, uy, vy = _distorted(K, f, x, y)
                e0 = f * g * x + cx + extra[0] + extra[2] * late[i, 0] - xy[i, 0]
                e1 = f * g * y + cy + extra[1] + extra[2] * late[i, 1] - xy[i, 1]
                loss, w = robust(e0 * e0 + e1 * e1, scale2)
                now += loss
                for r in range(2):
                    px = ux if r == 0 else uy
                    py = uy if r == 0 else vy
                    e = w * (e0 if r == 0 else e1)
                    q0, q1, q2 = px / z, py / z, -(px * x + py * y) / z
                    c0 = q0 * R[j, 0, 0] + q1 * R[j, 1, 0] + q2 * R[j, 2, 0]
                    c1 = q0 * R[j, 0, 1] + q1 * R[j, 1, 1] + q2 * R[j, 2, 1]
                    c2 = q0 * R[j, 0, 2] + q1 * R[j, 1, 2] + q2 * R[j, 2, 2]
                    a00 += w * c0 * c0
                    a01 += w * c0 * c1
                    a02 += w * c0 * c2
                    a11 += w * c1 * c1
                    a12 += w * c1 * c2
                    a22 += w * c2 * c2
                    b0 -= c0 * e
                    b1 -= c1 * e
                    b2 -= c2 * e
            if now < best:
                converged = best - now < 1e-4 * now
                best, damping = now, damping / 10
                x0, x1, x2 = t0, t1, t2
                v00, v01, v02, v11, v12, v22, h0, h1, h2 = a00, a01, a02, a11, a12, a22, b0, b1, b2
                if converged:
                    break
            else:
                damping *= 100
            m00, m01, m02, m11, m12, m22 = v00 * (1 + damping) + 1e-12, v01, v02, v11 * (1 + damping) + 1e-12, v12, v22 * (1 + damping) + 1e-12
            if far:  # no step along the ray
                hold = (v00 + v11 + v22) / (x0 * x0 + x1 * x1 + x2 * x2)
                m00, m01, m02 = m00 + hold * x0 * x0, m01 + hold * x0 * x1, m02 + hold * x0 * x2
                m11, m12, m22 = m11 + hold * x1 * x1, m12 + hold * x1 * x2, m22 + hold * x2 * x2
            i00, i01, i02 = m11 * m22 - m12 * m12, m02 * m12 - m01 * m22, m01 * m12 - m02 * m11
            det = m00 * i00 + m01 * i01 + m02 * i02
            if not det > 1e-30:
                break
            i11, i12, i22 = m00 * m22 - m02 * m02, m01 * m02 - m00 * m12, m00 * m11 - m01 * m01
            t0 = x0 + (i00 * h0 + i01 * h1 + i02 * h2) / det
            t1 = x1 + (i01 * h0 + i11 * h1 + i12 * h2) / det
            t2 = x2 + (i02 * h0 + i12 * h1 + i22 * h2) / det
        X[p, 0], X[p, 1], X[p, 2] = x0, x1, x2
        cost[p] = best
    return 0.5 * cost.sum()
