"""A camera that only turns: its solve, and the decision whether the shot is one."""

import numpy as np

from ..basics.job import Job
from .adjust import NO_ZOOM, Scene, adjust, project, seen
from .constants import SOLVER
from .lensing import Lensing
from .views import Table, directions, fundamental


def solve_turning(table: Table, lens: Lensing, every: int, job: Job, zooms: bool = False) -> Scene:
    """Rotations and lens with the camera held at the origin; points become unit directions, nan for tracks that took no part.

    Chained rotations of rays between neighbours give the start, for several focal lengths; the cheapest after a short
    adjustment is finished. `every`: only each such frame takes part (the others are left as their neighbour), with the
    tracks that most of these frames see.
    Source of the rotation fit: W. Kabsch, Acta Cryst. A32, 1976.
    """
    frames = np.arange(0, table.frames, every)
    rows = table.thinned(frames, SOLVER.turning_tracks, 2)
    number = np.searchsorted(frames, table.frame[rows])
    ids, point = np.unique(table.track[rows], return_inverse=True)
    sight = seen(number, point, table.xy[rows], len(ids))

    smoothness = table.smoothness(frames) if zooms else None

    def adjusted(scene: Scene, loss: float, vary_lens: bool, rounds: int) -> tuple[float, Scene]:
        prior = (np.array([scene.K[0], *lens.K[1:]]), np.array([1e6, 0.2, 0.2]))
        scene, cost = adjust(
            scene,
            sight,
            table.centre,
            loss_px=loss,
            move=False,
            prior=prior,
            rounds=rounds,
            tolerance=1e-4,
            smoothness=smoothness,
            lens=(lens.vary[0], vary_lens and lens.vary[1], vary_lens and lens.vary[2]),
        )
        return cost, scene

    begun = []
    starts = [lens.K[0]] if lens.K[0] else [s * table.width for s in SOLVER.turning_focals]
    for k, f in enumerate(starts):
        job.step(k / len(starts), "turning camera")
        K = np.array([f, *lens.K[1:]])
        R, zoom = _chain(table, frames, K, zooms)
        X = directions(R, number, point, table.rays(table.xy[rows], K, zoom[number]), len(ids))
        begun.append(adjusted(Scene(R, np.zeros((len(frames), 3)), X, K, zoom=zoom if zooms else NO_ZOOM), 3.0, False, 6))
    scene = min((b for b in begun if b[1].K[0] > 0.2 * table.width), key=lambda b: b[0], default=begun[0])[1]
    for loss in (1.5, 1.0):
        scene = adjusted(scene, loss, True, 8)[1]
    everywhere = np.minimum(np.arange(table.frames) // every, len(frames) - 1)
    X = np.full((table.tracks, 3), np.nan)
    X[ids] = scene.X / np.linalg.norm(scene.X, axis=1, keepdims=True)
    if zooms:  # between key frames at its usual speed
        zoom = np.exp(np.interp(np.arange(table.frames), frames, np.log(scene.zoom)))
    return Scene(scene.R[everywhere], np.zeros((table.frames, 3)), X, scene.K, zoom=zoom if zooms else NO_ZOOM)


def _chain(table: Table, frames: np.ndarray, K: np.ndarray, zooms: bool) -> tuple[np.ndarray, np.ndarray]:
    """Turns (n, 3, 3) and zooms (n,) of frames, each from the one before."""
    R, zoom = np.repeat(np.eye(3)[None], len(frames), 0), np.ones(len(frames))
    for j in range(1, len(frames)):
        _, p, q = table.shared(frames[j - 1], frames[j])
        R[j], zoom[j] = R[j - 1], zoom[j - 1]
        if len(p) < 3:
            continue
        a, grown = table.rays(p, K, zoom[j]), 1.0
        for _ in range(5 if zooms else 1):
            turn = _turn_between(a, table.rays(q, K, zoom[j]), K[0])
            if zooms:
                x, y = a @ turn.T, table.undistorted(q, K, zoom[j])
                x = x[:, :2] / x[:, 2:]
                weight = 1 / (1 + (K[0] / 3 * np.linalg.norm(x - y, axis=1)) ** 2)
                grown = float((weight[:, None] * x * y).sum() / (weight[:, None] * x * x).sum())
                zoom[j] *= grown
        R[j] = turn @ R[j - 1]
    return R, zoom


def _turn_between(a: np.ndarray, b: np.ndarray, f: float) -> np.ndarray:
    weight = np.ones(len(a))
    for _ in range(6):
        u, _, v = np.linalg.svd((b * weight[:, None]).T @ a)
        r = u @ np.diag([1, 1, np.linalg.det(u @ v)]) @ v
        weight = 1 / (1 + (f * np.linalg.norm(a @ r.T - b, axis=1)) ** 2)
    return r


def keyframe_step(frames: int) -> int:
    return max(1, frames // SOLVER.turning_keyframes)


GAPS = (15, 30, 45)  # frames between the two of a pair


def turning_votes(table: Table, scene: Scene, every: int) -> tuple[float, float]:
    """Whether pairs of frames need a moving camera: (share of pairs for which turning alone is the better account, the
    median over pairs of what turning leaves unexplained in px).

    Compares the turn of the turning solve with a fundamental matrix on straightened points, by a criterion that pays for
    every freedom. Testing the turn itself, not any homography, keeps flat scenes from passing as a turn. Where no track lives long
    enough for pairs far apart, closer ones have no vote, since a move shows too little between them; what turning leaves there is taken to
    grow with their distance.
    Source: P. Torr, Bayesian Model Estimation and Selection (GRIC), IJCV 50(1), 2002.
    """
    votes, left = _pairs_compared(table, scene, every, GAPS)
    if votes:
        return float(np.mean(votes)), float(np.median(left))
    for gap in (8, 4):
        if left := _pairs_compared(table, scene, 1, (gap,))[1]:
            return 0.0, float(np.median(left)) * GAPS[0] / gap
    return 0.0, np.inf


def _pairs_compared(table: Table, scene: Scene, every: int, gaps: tuple[int, ...]) -> tuple[list[bool], list[float]]:
    """Of pairs so many frames apart that share enough: whether turning alone is the better account, and what it leaves, px."""
    votes: list[bool] = []
    left: list[float] = []
    f = scene.K[0]
    for gap in gaps:
        for a in range(0, table.frames - gap, max(5, every)):
            a, b = a - a % every, a + gap - (a + gap) % every
            _, p, q = table.shared(a, b)
            if b <= a or len(p) < 25:
                continue
            x, y = table.undistorted(p, scene.K, scene.zooms[a]) * f, table.undistorted(q, scene.K, scene.zooms[b]) * f
            found = fundamental(x, y, 1.5, 3000)
            if found is None:
                continue
            turned = np.c_[x / f, np.ones(len(x))] @ (scene.R[b] @ scene.R[a].T).T
            turn2 = ((turned[:, :2] / turned[:, 2:] * f - y) ** 2).sum(1) / 2
            line2 = _sampson2(found[0], x, y)
            noise2 = max(0.25, float(np.median(line2)) / 0.455) * max(1.0, table.width / 1920) ** 2
            votes.append(_gric(turn2, noise2, 2, 3) < _gric(line2, noise2, 3, 7))
            left.append(float(np.sqrt(np.median(turn2))))
    return votes, left


def _sampson2(F: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(n,) squared distances to epipolar geometry, first order. Source: Hartley & Zisserman, 2nd ed., 11.4.3."""
    a, b = np.c_[x, np.ones(len(x))], np.c_[y, np.ones(len(y))]
    l, m = a @ F.T, b @ F
    return (b * l).sum(1) ** 2 / (l[:, 0] ** 2 + l[:, 1] ** 2 + m[:, 0] ** 2 + m[:, 1] ** 2)


def _gric(error2: np.ndarray, noise2: float, dimension: int, freedoms: int) -> float:
    n = len(error2)
    return float(np.minimum(error2 / noise2, 2 * (4 - dimension)).sum() + np.log(4) * dimension * n + np.log(4 * n) * freedoms)


def _errors(table: Table, scene: Scene) -> np.ndarray:
    p, z = project(scene, table.frame, table.track, table.centre)
    return np.where(z > 0, np.linalg.norm(p - table.xy, axis=1), 1e6)


def noise_limit(table: Table, scene: Scene, least: float) -> float:
    """px up to which an observation may be off, `least` to 6: six deviations along an axis, by the quarter of them that fits best."""
    return float(np.clip(6 * np.percentile(_errors(table, scene), 25) / 0.759, least, 6.0))


def fitting_turning(table: Table, scene: Scene, limit_px: float, spread: float) -> np.ndarray:
    """(k,) bool: observations within the limit, of tracks whose errors (rms) go into it `spread` times: what drifts along evenly is within
    the limit more often than not, but not closely."""
    error = _errors(table, scene)
    good = error < limit_px
    square, count = np.bincount(table.track, good * error**2, table.tracks), np.bincount(table.track, good, table.tracks)
    return good & (square <= count * (limit_px / spread) ** 2)[table.track]


def finish_turning(table: Table, scene: Scene, lens: Lensing, job: Job, least: float = 0.0) -> tuple[Scene, list[int], np.ndarray, float]:
    """All frames of a turning shot: prune ever closer and adjust. Returns the scene, its frames, which observations fit, and
    the limit in px that said so. least: share of the observations; where fewer fit even at a wide limit, it is left as it is then."""
    K, limit, zooms = scene.K, 6.0, len(scene.zoom) > 0
    R, zoom = _chain(table, np.arange(table.frames), K, zooms)
    R, zoom = R @ (R[0].T @ scene.R[0]), zoom * scene.zooms[0]
    smoothness = table.smoothness(np.arange(table.frames)) if zooms else None
    X = directions(R, table.frame, table.track, table.rays(table.xy, K, zoom[table.frame]), table.tracks)
    scene, good = Scene(R, np.zeros((table.frames, 3)), X, K, zoom=zoom if zooms else NO_ZOOM), np.ones(len(table.frame), bool)
    for k, floor in enumerate((6.0, 1.2, 1.0, 1.0)):
        if not good.any():
            break  # hardly a turn
        job.step(k / 4, "all frames")
        s = seen(table.frame[good], table.track[good], table.xy[good], table.tracks)
        scene, _ = adjust(
            scene,
            s,
            table.centre,
            loss_px=max(limit / 3, 3.0 if k == 0 else 0.0),
            move=False,
            rounds=25,
            tolerance=1e-6,
            lens=lens.vary,
            smoothness=smoothness,
            prior=(K, np.array([1e6, 0.2, 0.2])),
        )
        limit = noise_limit(table, scene, floor)
        good = fitting_turning(table, scene, limit, SOLVER.spread)
        if k and good.mean() < least:
            break
    X = scene.X / np.maximum(np.linalg.norm(scene.X, axis=1, keepdims=True), 1e-12)
    X[np.bincount(table.track, minlength=table.tracks) == 0] = np.nan
    return scene._replace(X=X), list(range(table.frames)), good, limit
