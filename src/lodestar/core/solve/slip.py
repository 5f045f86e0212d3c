"""How far a title will slide: what the noise of the tracks does to the solved cameras, and what that does to a place.

The solve is a function of the tracks; near its optimum a linear one. Noise like that of the tracks is sent through it many
times (a parametric bootstrap), which gives a sample of how the cameras may be wrong together, with their errors in one frame
constrained to those in the next. Of a place, only what no other place could explain counts: that is what is seen to slide.
Sources: B. Efron and R. Tibshirani, An Introduction to the Bootstrap, 1993, 6.5; P. Huber, Robust Statistics, 1981, 6.3.
"""

from typing import NamedTuple

import numpy as np

from ..basics.jit import kernel
from ..basics.job import Job
from ..projection.pinhole import brown
from . import normal
from .adjust import Constrained, Scene, Seen, System, held_by, in_pieces, pieces
from .constants import SOLVER
from .known import Constraints, residuals

LAGS = (0, 1, 2, 3, 4, 6, 9)
DECAYS = (0.0, 0.4, 0.6, 0.75, 0.85, 0.93, 0.97)  # from frame to frame


class Noise(NamedTuple):
    """Of one axis of a track: deviation px; a `share` of its variance fades by `decay` from frame to frame, the rest is new."""

    px: float
    share: float = 0.0
    decay: float = 0.0


class CovarianceSample(NamedTuple):
    """A sample of errors: cameras (q, frames, 6 or 7) turn in radians, shift in units of the solve and the logarithm of the zoom where
    it varies; lens (q, 5) of f, k1, k2 and the place of the lens centre."""

    cameras: np.ndarray
    lens: np.ndarray


def noise_of(system: System, error: np.ndarray, loss_px: float) -> Noise:
    """The noise of the tracks that would leave residuals like error (k, 2) px in this system.

    The solve takes up part of any noise, the more the slower it changes within a track. So noise of several kinds is sent
    through it, and the mixture of white and one fading kind is taken that leaves what is seen, lag by lag.
    """
    from scipy.optimize import nnls  # not at the start, which is to be quick

    rng, s = np.random.default_rng(11), system.s
    seen = _lags(s, error)
    left = [_lags(s, _residual(system, draw_noise(Noise(1.0, float(d > 0), d), s.frame, s.point, rng))) for d in DECAYS]
    best: tuple[float, Noise] | None = None
    for decay, faded in zip(DECAYS, left):
        parts, miss = nnls(np.stack([left[0], faded], 1), seen)
        total = float(parts.sum())
        if total > 0 and (best is None or miss < 0.98 * best[0]):  # the simpler kind, unless another fits better
            best = miss, Noise(float(np.sqrt(total)), float(parts[1] / total) if decay else 0.0, decay)
    noise = best[1] if best else Noise(float(np.sqrt((error * error).mean())))
    return noise._replace(px=noise.px * _loss_cost(error, loss_px))


def _lags(s: Seen, error: np.ndarray) -> np.ndarray:
    """Mean product of a track's errors so many frames apart."""
    return _products(s.frame, s.point, error, np.array(LAGS))


@kernel
def _products(frame, point, error, lags):
    total, count = np.zeros(len(lags)), np.zeros(len(lags))
    for i in range(len(frame)):
        for k in range(len(lags)):
            j = i + lags[k]
            if j < len(frame) and point[j] == point[i] and frame[j] == frame[i] + lags[k]:
                total[k] += error[i, 0] * error[j, 0] + error[i, 1] * error[j, 1]
                count[k] += 2
    return total / np.maximum(count, 1)


def _residual(system: System, error: np.ndarray) -> np.ndarray:
    """What is left of errors (k, 2) px after the adjustment has given way to them."""
    right, pull = system.right_side(error)
    step = system.solve(right[:, None])[:, 0]
    steps = np.concatenate([step[: -normal.LENS].reshape(-1, system.per)[system.s.frame], np.repeat(step[None, -normal.LENS :], len(error), 0)], 1)
    return error + np.einsum("kij,kj->ki", system.A, steps) + np.einsum("kij,kj->ki", system.B, system.points_back(step, pull)[system.s.point])


def _loss_cost(error: np.ndarray, loss_px: float) -> float:
    """By how much Cauchy's loss makes the noise count for more than in plain least squares (1.0 or a little above)."""
    square = (error * error).sum(1)
    w = 1 / (1 + square / loss_px**2)
    return float(np.sqrt((square * w * w).mean() / square.mean()) / (w - square / loss_px**2 * w * w).mean())


@kernel
def _fade(slow, track, decay):
    for i in range(1, len(slow)):
        if track[i] == track[i - 1]:
            for c in range(2):
                slow[i, c] = decay * slow[i - 1, c] + np.sqrt(1 - decay * decay) * slow[i, c]


def draw_noise(noise: Noise, frame: np.ndarray, track: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """(n, 2) px of noise for observations sorted by track, then frame."""
    fresh = rng.standard_normal((len(frame), 2))
    if noise.share == 0:
        return noise.px * fresh
    slow = rng.standard_normal((len(frame), 2))
    _fade(slow, track, noise.decay)
    return noise.px * (np.sqrt(noise.share) * slow + np.sqrt(1 - noise.share) * fresh)


def covariance_sample(
    scene: Scene,
    s: Seen,
    centre: tuple[float, float],
    error: np.ndarray,
    loss_px: float,
    move: bool,
    lens: tuple[bool, bool, bool],
    more: tuple[bool, bool] = (False, False),
    late: np.ndarray | None = None,
    constraints: Constraints | None = None,
    constraint_px: float = 1.0,
    smoothness: np.ndarray | None = None,
    job: Job | None = None,
) -> tuple[CovarianceSample, Noise]:
    """A sample of errors of the adjusted scene, and the noise that was taken for it. The same tracks give the same sample.

    error (k, 2): residuals of s in px; loss_px: scale of the loss it was adjusted with; move, lens, late: as in `adjust`;
    more: whether the lens centre and the readout were solved; constraints, constraint_px, smoothness: what it was held to, as in
    `adjust`, each off by as much as is usual.
    """
    rng, frames = np.random.default_rng(7), len(scene.R)
    s, owner = pieces(s, frames)
    system = System(s, frames, held_by(move, lens, more), smoothness=smoothness)
    if late is not None:
        system.late = late
    system.derive(scene._replace(X=scene.X[owner]), centre, 0.0)
    system.reduce(1e-8, np.zeros(normal.LENS))
    noise, steps, pulls = _sample(system, error, loss_px, rng, job)
    if constraints is not None:
        pieced = in_pieces(constraints, owner)
        J = residuals(pieced, scene.X[owner])[1]
        constrained = Constrained(system, pieced.points, constraint_px * J)
        off = constraint_px * rng.standard_normal((SOLVER.samples, len(J)))
        steps = np.stack([constrained.correct(step, system.points_back(step, pull), c)[0] for step, pull, c in zip(steps, pulls, off, strict=True)])
    steps = system.whole(steps)
    return CovarianceSample(steps[:, : -normal.LENS].reshape(SOLVER.samples, frames, -1), steps[:, -normal.LENS : -1]), noise


def _sample(
    system: System, error: np.ndarray, loss_px: float, rng: np.random.Generator, job: Job | None
) -> tuple[Noise, np.ndarray, list[np.ndarray]]:
    """The noise that residuals error (k, 2) px tell of; and for each draw of it the step (q, 6 frames + 6) that the system
    takes, and how the points are pulled at."""
    s, noise = system.s, noise_of(system, error, loss_px)
    rights, pulls = [], []
    for k in range(SOLVER.samples):
        if job is not None:
            job.step(k / SOLVER.samples, "how sure it is")
        right, pull = system.right_side(draw_noise(noise, s.frame, s.point, rng))
        rights.append(right)
        pulls.append(pull)
    return noise, system.solve(np.stack(rights, 1)).T, pulls


def misfit(
    scene: Scene,
    s: Seen,
    centre: tuple[float, float],
    error: np.ndarray,
    loss_px: float,
    lens: tuple[bool, bool, bool],
    constraints: Constraints,
    smoothness: np.ndarray | None = None,
    job: Job | None = None,
) -> tuple[np.ndarray, float]:
    """Of a scene that was adjusted without the constraints: by how many deviations each row of `known.residuals` is off (what the
    tracks leave unsure and what is usual for such a measurement, together); and `constraint_px`, by which `adjust` is to weigh them.

    A track is off in the same way for many frames, so its observations together say less than as many independent ones would.
    Weighed by the noise of a single one, what is known would be outvoted by errors that only look like agreement.
    """
    s, owner = pieces(s, len(scene.R))
    system = System(s, len(scene.R), held_by(True, lens), smoothness=smoothness)
    scene = scene._replace(X=scene.X[owner])
    system.derive(scene, centre, 0.0)
    system.reduce(1e-8, np.zeros(normal.LENS))
    constrained = in_pieces(constraints, owner)
    c, J = residuals(constrained, scene.X)
    rows = Constrained(system, constrained.points, J)
    _, steps, pulls = _sample(system, error, loss_px, np.random.default_rng(5), job)
    unsure = np.stack([rows.of(system.points_back(step, pull)) for step, pull in zip(steps, pulls, strict=True)]).var(0)
    by_one = np.diag(rows.middle) - 1
    some = len(constraints.rows)
    return (c / np.sqrt(1 + unsure))[:some], float(np.sqrt(unsure[:some].sum() / by_one[:some].sum()))


def slide(
    R: np.ndarray,
    C: np.ndarray,
    K: np.ndarray,
    zoom: np.ndarray,
    centre: tuple[float, float],
    size: tuple[int, int],
    covariance_sample: CovarianceSample,
    points: np.ndarray,
) -> np.ndarray:
    """(m,) px that 95 % of the image errors stay under, over the frames that see each point (m, 3), relative to the plate.

    R (n, 3, 3), C (n, 3), K (3,), zoom (n,): the solved cameras and lens; size: width, height px. nan where no frame sees the point.
    """
    result = np.full(len(points), np.nan)
    for k in range(0, len(points), SOLVER.slip_at_once):
        result[k : k + SOLVER.slip_at_once] = _slide(R, C, K, zoom, centre, size, covariance_sample, points[k : k + SOLVER.slip_at_once])
    return result


def _slide(R, C, K, zoom, centre, size, covariance_sample: CovarianceSample, points) -> np.ndarray:
    inside = np.einsum("nij,mnj->mni", R, points[:, None] - C)
    z = np.maximum(inside[..., 2], 1e-9)
    x, y = inside[..., 0] / z, inside[..., 1] / z
    g, r2, h = brown.py_func(K[1], K[2], x, y)
    f = K[0] * zoom
    px, py = f * g * x + centre[0], f * g * y + centre[1]
    seen = (inside[..., 2] > 1e-6) & (px > -0.5) & (py > -0.5) & (px < size[0] - 0.5) & (py < size[1] - 0.5)
    J = np.zeros((*x.shape, 2, 3))
    J[..., 0, 0], J[..., 0, 1], J[..., 1, 1] = f * (g + h * x * x) / z, f * h * x * y / z, f * (g + h * y * y) / z
    J[..., 1, 0] = J[..., 0, 1]
    J[..., :, 2] = -(J[..., :, 0] * x[..., None] + J[..., :, 1] * y[..., None])
    J *= seen[..., None, None]
    B = J @ R
    one, none = np.ones_like(x), np.zeros_like(x)
    by_zoom = np.stack([f * g * x, f * g * y], -1)[..., None]
    by_lens = np.stack([zoom * g * x, f * r2 * x, f * r2 * r2 * x, one, none, zoom * g * y, f * r2 * y, f * r2 * r2 * y, none, one], -1)
    by_lens = by_lens.reshape(*x.shape, 2, 5)
    # how much each number of a sample moves each point in each frame; the sums over them are matrix products, frame by frame
    by_camera = [np.cross(inside[..., None, :], J), -B, by_zoom * seen[..., None, None]][: covariance_sample.cameras.shape[-1] - 4]
    moves = np.concatenate([*by_camera, by_lens * seen[..., None, None]], -1)
    (m, n), q = x.shape, len(covariance_sample.lens)
    sample = np.concatenate([covariance_sample.cameras, np.repeat(covariance_sample.lens[:, None], n, 1)], -1, dtype=np.float64)
    error = moves.transpose(1, 0, 2, 3).reshape(n, 2 * m, -1) @ sample.transpose(1, 2, 0)
    error = error.reshape(n, m, 2, q).transpose(1, 0, 2, 3).reshape(m, 2 * n, q)
    # the place that explains most of it (for cameras that only turn, in its two directions across the ray)
    B = B.reshape(m, 2 * n, 3)
    normal = B.transpose(0, 2, 1) @ B
    normal += 1e-9 * np.trace(normal, axis1=1, axis2=2)[:, None, None] * np.eye(3) + 1e-30 * np.eye(3)
    error -= B @ np.linalg.solve(normal, B.transpose(0, 2, 1) @ error)
    left = np.hypot(error[:, 0::2], error[:, 1::2])
    return np.array([np.quantile(of[at], SOLVER.slip_share) if at.any() else np.nan for of, at in zip(left, seen, strict=True)])
