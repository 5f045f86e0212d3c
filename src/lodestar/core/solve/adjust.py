"""Bundle adjustment: all cameras, points and the lens at once, by Levenberg-Marquardt with the Schur complement over points.

Frame of reference: x_cam = R (X - C) with C the camera's centre; one lens f, k1, k2 for the clip with a fixed centre. A lens that
zooms has f times a factor of each frame's own, and bends by the same k1, k2 at the same angles.
Sources: B. Triggs et al., Bundle Adjustment - A Modern Synthesis, 1999; damping after K. Madsen et al., Methods for
Non-Linear Least Squares Problems, 2004, 3.2. Layout of a step: six numbers a frame (turn, shift; a seventh for the zoom where that
varies), then the lens as the last six; `System` leaves out those of a frame that are held. The reduced system is kept as a chain of blocks of frames, so that time and memory grow with the length of the clip.
"""

from typing import NamedTuple

import numpy as np
from scipy.linalg import solve_triangular

from ..basics.geometry import rotation_from_vector
from ..basics.job import Job
from ..projection.pinhole import brown
from . import known, normal
from .constants import SOLVER
from .known import Constraints

NO_EXTRA, NO_ZOOM = np.zeros(3), np.zeros(0)


class Scene(NamedTuple):
    """R (n, 3, 3), C (n, 3): cameras. X (m, 3): points. K (3,): f in px, k1, k2. extra (3,): how far the lens centre lies from
    where it was taken to be, px, and the readout of a rolling shutter, in frames. zoom (n,): by how many times f each focal length
    is; empty where the lens does not zoom."""

    R: np.ndarray
    C: np.ndarray
    X: np.ndarray
    K: np.ndarray
    extra: np.ndarray = NO_EXTRA
    zoom: np.ndarray = NO_ZOOM

    def moved(self, step: np.ndarray, shift: np.ndarray) -> "Scene":
        """By a step of cameras and lens, laid out as the module says, and shifts (m, 3) of the points."""
        turn, glass = step[: -normal.LENS].reshape(len(self.R), -1), step[-normal.LENS :]
        zoom = self.zoom * np.exp(turn[:, 6]) if turn.shape[1] > 6 else self.zoom
        return Scene(
            rotation_from_vector(turn[:, :3]) @ self.R, self.C + turn[:, 3:6], self.X + shift, self.K + glass[:3], self.extra + glass[3:], zoom
        )

    @property
    def zooms(self) -> np.ndarray:
        """(n,) the factors, ones for a lens that does not zoom."""
        return self.zoom if len(self.zoom) else np.ones(len(self.R))


class Seen(NamedTuple):
    """Observations sorted by point, then frame: frame (k,), point (k,) int64, xy (k, 2) px; first (m + 1,): rows of each point."""

    frame: np.ndarray
    point: np.ndarray
    xy: np.ndarray
    first: np.ndarray


def seen(frame: np.ndarray, point: np.ndarray, xy: np.ndarray, points: int) -> Seen:
    order = np.lexsort((frame, point))
    point = np.ascontiguousarray(point[order].astype(np.int64))
    return Seen(
        np.ascontiguousarray(frame[order].astype(np.int64)),
        point,
        np.ascontiguousarray(xy[order], np.float64),
        np.searchsorted(point, np.arange(points + 1)),
    )


def pieces(s: Seen, frames: int) -> tuple[Seen, np.ndarray]:
    """Tracks that reach over more frames than a block are cut into points of their own; owner (m',): the point each was cut from."""
    points = len(s.first) - 1
    if frames <= SOLVER.whole:
        return s, np.arange(points)
    start = s.frame[s.first[s.point]]
    part = (s.frame - start) // SOLVER.block
    key, point = np.unique(s.point * (frames // SOLVER.block + 1) + part, return_inverse=True)
    owner = key // (frames // SOLVER.block + 1)
    return Seen(s.frame, point.astype(np.int64), s.xy, np.searchsorted(point, np.arange(len(key) + 1))), owner


def in_pieces(constraints: Constraints, owner: np.ndarray) -> Constraints:
    """Constraints over points that were cut (`pieces`): between the first piece of each, and of all pieces with the first."""
    _, first = np.unique(owner, return_index=True)
    others = np.flatnonzero(np.isin(owner, constraints.points) & (first[owner] != np.arange(len(owner))))
    return constraints._replace(a=first[constraints.a], b=first[constraints.b], same=np.stack([first[owner[others]], others], 1))


class System:
    """The reduced normal equations of one set of observations; the buffers are kept from round to round."""

    late: np.ndarray

    def __init__(
        self, s: Seen, frames: int, held: np.ndarray | None = None, fixed: np.ndarray | None = None, smoothness: np.ndarray | None = None
    ) -> None:
        """held (12,) bool: which of turn (3), shift (3) and lens (6) do not vary; per: how many numbers are left of a frame; fixed (frames,) bool: frames that do not.
        smoothness (r, frames): what the logarithms of the zoom are held by, where it varies: see `smoothness_prior`."""
        k, m = len(s.frame), len(s.first) - 1
        all_of_frame, self.smoothness = 6 if smoothness is None else 7, smoothness
        held = np.zeros(6 + normal.LENS, bool) if held is None else held
        # what is held of each frame is left out: a camera that only turns has blocks of half the width, which take an eighth of the time
        self.of_frame = np.concatenate([np.flatnonzero(~held[:6]), np.arange(6, all_of_frame)])
        self.s, self.frames, self.per, self.held_lens = s, frames, len(self.of_frame), held[6:]
        self.derived, self.B, self.E = np.zeros((k, 2, all_of_frame + normal.LENS)), np.zeros((k, 2, 3)), np.zeros((k, 2))
        self.A = self.derived
        self.late = np.zeros((k, 2))
        self.fixed = None if fixed is None else np.flatnonzero(fixed[s.frame])
        self.half, self.inverse = np.zeros((m, 3, 3)), np.zeros((m, 3, 3))
        size = frames if frames <= SOLVER.whole else SOLVER.block
        self.edges = [*range(0, frames, size), frames]
        self.groups = self._groups()

    def _groups(self, size: int = 96) -> list[tuple[np.ndarray, int, int]]:
        """Points that share frames, so that each group couples only a short run of frames (two blocks at most)."""
        s = self.s
        some = np.flatnonzero(s.first[1:] > s.first[:-1])
        low, high = s.frame[s.first[some]], s.frame[s.first[some + 1] - 1]
        block = np.searchsorted(self.edges, low, side="right") - 1
        order = np.lexsort((low + high, high - low > SOLVER.long_span, block))
        groups = []
        for part in np.split(order, np.flatnonzero(np.diff(block[order])) + 1):
            for k in range(0, len(part), size):
                q = part[k : k + size]
                groups.append((some[q], int(low[q].min()), int(high[q].max()) + 1))
        return groups

    def derive(self, scene: Scene, centre: tuple[float, float], scale2: float) -> None:
        s = self.s
        normal.derive(
            len(s.frame),
            scene.R,
            scene.C,
            scene.X,
            scene.K,
            scene.extra,
            scene.zooms,
            self.late,
            s.frame,
            s.point,
            s.xy,
            *centre,
            scale2,
            self.derived,
            self.B,
            self.E,
        )
        wide = self.derived.shape[2] - normal.LENS
        if self.held_lens.any():
            self.derived[:, :, wide:][:, :, self.held_lens] = 0
        if self.per < wide:
            self.A = np.ascontiguousarray(self.derived[:, :, np.append(self.of_frame, np.arange(wide, wide + normal.LENS))])
        if self.fixed is not None:
            self.A[self.fixed, :, : self.per] = 0

    def reduce(self, damping: float, lens_weight: np.ndarray) -> None:
        """Take out the points and factorise. Raises LinAlgError when the system is not positive definite."""
        s, edges, L, per = self.s, self.edges, normal.LENS, self.per
        U = np.zeros((self.frames, per + L, per + L))
        normal.cameras(self.A, s.frame, U)
        normal.points(len(s.frame), self.B, s.first, damping, self.half, self.inverse)
        own, corner = U[:, :per, :per], U[:, per:, per:].sum(0)
        own = own + np.tril(own, -1).transpose(0, 2, 1)
        corner = corner + np.tril(corner, -1).T
        for stack in (own, corner):
            diagonal = np.einsum("...ii->...i", stack)
            diagonal += np.where(diagonal > 0, damping * diagonal, 1.0)
        corner += np.diag(lens_weight)
        border = np.ascontiguousarray(U[:, per:, :per].transpose(0, 2, 1)).reshape(-1, L)
        D = [np.zeros((per * (b - a),) * 2) for a, b in zip(edges, edges[1:])]
        below = [np.zeros((per * (c - b), per * (b - a))) for a, b, c in zip(edges, edges[1:], edges[2:])]
        for block, a, b in zip(D, edges, edges[1:]):
            grid = block.reshape(b - a, per, b - a, per)
            grid[np.arange(b - a), :, np.arange(b - a), :] = own[a:b]
        if self.smoothness is not None:
            self._add_smoothness(self.smoothness.T @ self.smoothness, D, below)
        for group, f0, f1 in self.groups:
            Z = np.empty((per * (f1 - f0) + L, 3 * len(group)))
            normal.couple(self.A, self.B, s.frame, s.first, group, f0, self.half, Z)
            Q = Z @ Z.T
            self._subtract(Q, f0, f1, D, below)
            border[per * f0 : per * f1] -= Q[:-L, -L:]
            corner -= Q[-L:, -L:]
        self._factorise(D, below, border, corner)

    def _add_smoothness(self, information: np.ndarray, D: list, below: list) -> None:
        """Add what holds each frame's zoom to those near it."""
        zooms, edges = slice(self.per - 1, None, self.per), self.edges
        for k, (a, b) in enumerate(zip(edges, edges[1:])):
            D[k][zooms, zooms] += information[a:b, a:b]
            if k < len(below):
                below[k][zooms, zooms] += information[b : edges[k + 2], a:b]

    def _subtract(self, Q: np.ndarray, f0: int, f1: int, D: list, below: list) -> None:
        k = int(np.searchsorted(self.edges, f0, side="right")) - 1
        start, edge = self.edges[k], self.edges[k + 1]
        a, n = self.per * (f0 - start), self.per * (min(f1, edge) - f0)
        D[k][a : a + n, a : a + n] -= Q[:n, :n]
        if f1 > edge:
            m = self.per * (f1 - edge)
            D[k + 1][:m, :m] -= Q[n : n + m, n : n + m]
            below[k][:m, a : a + n] -= Q[n : n + m, :n]

    def _factorise(self, D: list, below: list, border: np.ndarray, corner: np.ndarray) -> None:
        """Cholesky of the chain. NumPy's lets go of the interpreter lock; SciPy's holds it, which kept the window waiting."""
        self.L: list[np.ndarray] = []
        self.M: list[np.ndarray] = []
        self.Y: list[np.ndarray] = []
        for k, block in enumerate(D):
            rows = slice(self.per * self.edges[k], self.per * self.edges[k + 1])
            right = border[rows]
            if k:
                block = block - self.M[-1] @ self.M[-1].T
                right = right - self.M[-1] @ self.Y[-1]
            self.L.append(np.linalg.cholesky(block))
            self.Y.append(solve_triangular(self.L[-1], right, lower=True, check_finite=False))
            corner = corner - self.Y[-1].T @ self.Y[-1]
            if k < len(below):
                # in slices, since the triangular solve holds the interpreter lock
                parts = [solve_triangular(self.L[-1], below[k][j : j + 96].T, lower=True, check_finite=False).T for j in range(0, len(below[k]), 96)]
                self.M.append(np.concatenate(parts))
        self.corner = np.linalg.cholesky(corner)

    def right_side(self, E: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """What residuals E (k, 2), weighted as `derive` weights them, pull at: cameras and lens (per frames + 6,), points (m, 3)."""
        pull = np.zeros((len(self.s.first) - 1, 3))
        normal.pulls(len(self.s.frame), self.B, E, self.s.first, pull)
        return self.taken_up(E, pull), pull

    def taken_up(self, E: np.ndarray, pull: np.ndarray) -> np.ndarray:
        """(per frames + 6,) the right side of cameras and lens, less what points (m, 3) that are pulled at so take up."""
        g = np.zeros((self.frames, self.per + normal.LENS))
        normal.rights(self.A, self.B, E, self.s.frame, self.s.first, self.inverse, pull, g)
        return np.concatenate([g[:, : self.per].ravel(), g[:, self.per :].sum(0)])

    def solve(self, right: np.ndarray) -> np.ndarray:
        """(per frames + 6, q) steps of cameras and lens for right sides of that shape, by the factors of `reduce`."""
        e = self.edges
        forward: list[np.ndarray] = []
        low = right[-normal.LENS :]
        for k, L in enumerate(self.L):
            part = right[self.per * e[k] : self.per * e[k + 1]]
            if k:
                part = part - self.M[k - 1] @ forward[-1]
            forward.append(solve_triangular(L, part, lower=True, check_finite=False))
            low = low - self.Y[k].T @ forward[-1]
        lens = np.linalg.solve(self.corner @ self.corner.T, low)
        step, after = [lens], None
        for k in reversed(range(len(self.L))):
            part = forward[k] - self.Y[k] @ lens
            if after is not None:
                part = part - self.M[k].T @ after
            after = solve_triangular(self.L[k], part, lower=True, trans="T", check_finite=False)
            step.insert(0, after)
        return np.concatenate(step)

    def points_back(self, step: np.ndarray, pull: np.ndarray) -> np.ndarray:
        shift = np.zeros_like(pull)
        normal.points_back(len(self.s.frame), self.A, self.B, self.s.frame, self.s.first, self.inverse, pull, step, shift)
        return shift

    def step(self, right: np.ndarray, pull: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Of cameras and lens (per frames + 6,), and of the points (m, 3)."""
        step = self.solve(right[:, None])[:, 0]
        return step, self.points_back(step, pull)

    def whole(self, steps: np.ndarray) -> np.ndarray:
        """(..., 6 or 7 frames + 6) steps of cameras and lens (..., per frames + 6), with zeros for what is held."""
        frames = steps[..., : -normal.LENS].reshape(*steps.shape[:-1], self.frames, self.per)
        out = np.zeros((*frames.shape[:-1], self.derived.shape[2] - normal.LENS))
        out[..., self.of_frame] = frames
        return np.concatenate([out.reshape(*steps.shape[:-1], -1), steps[..., -normal.LENS :]], -1)


class Constrained:
    """A reduced system with constraints between a few of its points: its steps, and the correction that each constraint makes to them."""

    def __init__(self, system: System, points: np.ndarray, J: np.ndarray) -> None:
        """points (q,); J (k, q, 3): the derivative of k constraints, each in px of the residuals."""
        self.system, self.points, self.J = system, points, J
        m, none = len(system.s.first) - 1, np.zeros((len(system.s.frame), 2))
        steps = []
        for row in J:
            pull = np.zeros((m, 3))
            pull[points] = row
            steps.append(system.step(system.taken_up(none, pull), pull))
        self.steps, self.shifts = (np.stack(x) for x in zip(*steps, strict=True))
        self.middle = np.eye(len(J)) + self.of(self.shifts)

    def of(self, shifts: np.ndarray) -> np.ndarray:
        """(..., k) by how much shifts (..., m, 3) of the points change the constraints."""
        return np.einsum("kqi,...qi->...k", self.J, shifts[..., self.points, :])

    def correct(self, step: np.ndarray, shift: np.ndarray, c: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """A step of the system alone, made to suit constraints that are now off by c (k,)."""
        back = np.linalg.solve(self.middle.T, c + self.of(shift))
        return step - back @ self.steps, shift - np.einsum("k,kmi->mi", back, self.shifts)


def smoothness_prior(times: np.ndarray, px: float) -> np.ndarray:
    """(n - 2, n) rows that multiply the logarithms of the zoom at `times` (n,), in frames, rising: a hand or a motor keeps its
    speed, and one that changes as much as is usual costs as an error of so many px."""
    gap = np.maximum(np.diff(times), 1e-9)
    k = np.arange(max(len(times) - 2, 0))
    rows = np.zeros((len(k), len(times)))
    rows[k, k], rows[k, k + 2] = 1 / gap[:-1], 1 / gap[1:]
    rows[k, k + 1] = -(rows[k, k] + rows[k, k + 2])
    return rows * px / (SOLVER.zoom_change * np.sqrt((gap[:-1] + gap[1:]) / 2))[:, None]


def held_by(move: bool, lens: tuple[bool, ...], more: tuple[bool, bool] = (False, False)) -> np.ndarray:
    """(12,) for `System`: move: whether camera centres vary; lens: f, k1, k2; more: the lens centre, the readout."""
    return ~np.array([True] * 3 + [move] * 3 + [*lens] + [more[0], more[0], more[1]])


class _Beside(NamedTuple):
    """What holds a scene besides the pictures: what is known of the lens (mean and weight (6,)), of its zoom, of the place."""

    mean: np.ndarray
    weight: np.ndarray
    smoothness: np.ndarray | None
    constraints: Constraints | None
    constraint_px: float

    def cost(self, x: Scene) -> float:
        total = float((self._off(x) ** 2 * self.weight).sum())
        if self.smoothness is not None:
            total += float(((self.smoothness @ np.log(x.zoom)) ** 2).sum())
        if self.constraints is not None:
            total += self.constraint_px**2 * float((known.residuals(self.constraints, x.X)[0] ** 2).sum())
        return 0.5 * total

    def _off(self, x: Scene) -> np.ndarray:
        return np.concatenate([x.K, x.extra]) - self.mean

    def step(self, system: System, x: Scene) -> tuple[np.ndarray, np.ndarray]:
        """The step of cameras and lens, and that of the points (m, 3), by which pictures and all this are suited best."""
        right, pull = system.right_side(system.E)
        right[-normal.LENS :] -= self.weight * self._off(x)
        if self.smoothness is not None:
            right[system.per - 1 : -normal.LENS : system.per] -= self.smoothness.T @ (self.smoothness @ np.log(x.zoom))
        step, shift = system.step(right, pull)
        if self.constraints is None:
            return step, shift
        c, J = known.residuals(self.constraints, x.X)
        return Constrained(system, self.constraints.points, self.constraint_px * J).correct(step, shift, self.constraint_px * c)


def adjust(
    scene: Scene,
    s: Seen,
    centre: tuple[float, float],
    *,
    loss_px: float,
    lens: tuple[bool, bool, bool] = (True, True, True),
    move: bool = True,
    prior: tuple[np.ndarray, np.ndarray] | None = None,
    rounds: int = 30,
    tolerance: float = 1e-6,
    fixed: np.ndarray | None = None,
    centre_px: float = 0.0,
    late: np.ndarray | None = None,
    constraints: Constraints | None = None,
    constraint_px: float = 1.0,
    smoothness: np.ndarray | None = None,
    job: Job | None = None,
) -> tuple[Scene, float]:
    """Adjust the scene to what was seen; returns it with its final cost (half the sum of robust squared px).

    centre: the lens centre in px. loss_px: scale of Cauchy's loss, 0 for plain squares. lens: which of f, k1, k2 vary.
    move: False holds the camera centres (a camera that only turns; points are directions). prior: mean (3,) and deviation
    (3,) of f, k1, k2. fixed (n,) bool: frames that stay where they are. Frames without observations are held. centre_px: by
    what deviation the lens centre may vary too, 0 not at all. late (k, 2): px by which each observation is displaced for a
    readout of one frame; with it, the readout varies. constraints: what is known of points' distances and directions; one that is off
    by as much as is usual costs as much as an observation that is off by constraint_px. smoothness: of a lens that zooms, see `smoothness_prior`.
    """
    frames = len(scene.R)
    whole, (s, owner), given = s, pieces(s, frames), scene.X
    scene = Scene(*(np.array(a, np.float64, order="C") for a in (scene.R, scene.C, scene.X[owner], scene.K, scene.extra, scene.zoom)))
    more = (centre_px > 0, late is not None)
    if smoothness is not None:
        scene = scene._replace(zoom=scene.zooms)
    system = System(s, frames, held_by(move, lens, more), fixed, smoothness)
    if late is not None:
        system.late = np.ascontiguousarray(late, np.float64)
    scale2 = loss_px * loss_px
    mean, weight = np.zeros(normal.LENS), np.zeros(normal.LENS)
    if prior is not None:
        mean[:3], weight[:3] = prior[0], 1 / np.asarray(prior[1], float) ** 2
    if centre_px > 0:
        weight[3:5] = 1 / centre_px**2
    beside = _Beside(mean, weight * ~system.held_lens, smoothness, None if constraints is None else in_pieces(constraints, owner), constraint_px)
    inner = np.full(len(scene.X), SOLVER.inner_rounds)
    if beside.constraints is not None:
        inner[beside.constraints.points] = 0  # they are not free to go where the pictures alone would have them

    def refine_points(x: Scene) -> float:
        fit = normal.refine_points(len(s.frame), *x[:5], x.zooms, system.late, s.frame, s.first, s.xy, *centre, scale2, inner, not move)
        return fit + beside.cost(x)

    cost, damping, growth, moved = refine_points(scene), 1e-4, 2.0, True
    for number in range(rounds):
        if job is not None:
            job.step(number / rounds)
        if moved:
            system.derive(scene, centre, scale2)
        try:
            system.reduce(damping, beside.weight)
        except np.linalg.LinAlgError:
            damping, growth, moved = damping * growth, growth * 2, False
            continue
        step, shift = beside.step(system, scene)
        trial = scene.moved(system.whole(step), shift)
        now = refine_points(trial) if trial.K[0] > 0 else np.inf
        if now < cost:
            done = cost - now < tolerance * cost
            scene, cost, damping, growth, moved = trial, now, max(damping / 5, SOLVER.least_damping), 2.0, True
            if done:
                break
        else:
            damping, growth, moved = damping * growth, growth * 2, False
            if damping > 1e8:
                break
    if whole is not s:  # a track that was cut takes the place that most of it agrees on
        X, inner = np.array(given, np.float64, order="C"), np.full(len(whole.first) - 1, 4 * SOLVER.inner_rounds)
        X[owner[::-1]] = scene.X[::-1]
        if constraints is not None:
            inner[constraints.points] = 0
        scene = scene._replace(X=X)
        cost = normal.refine_points(
            len(s.frame), *scene[:5], scene.zooms, system.late, whole.frame, whole.first, whole.xy, *centre, scale2, inner, not move
        )
    return scene, cost


def project(scene: Scene, frame: np.ndarray, point: np.ndarray, centre: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
    """Pixels (k, 2) and depth (k,) of `point[i]` in `frame[i]`."""
    inside = np.einsum("kij,kj->ki", scene.R[frame], scene.X[point] - scene.C[frame])
    z = inside[:, 2]
    xy = inside[:, :2] / np.where(np.abs(z) < 1e-9, 1e-9, z)[:, None]
    f = scene.K[0] * scene.zooms[frame][:, None]
    return f * xy * brown.py_func(scene.K[1], scene.K[2], xy[:, :1], xy[:, 1:])[0] + centre + scene.extra[:2], z
