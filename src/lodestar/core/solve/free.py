"""A camera that moves: from tracks to cameras, points, focal length and lens, starting from nothing or from an earlier solve."""

from collections.abc import Iterable
from typing import NamedTuple

import cv2
import numpy as np

from ..basics.errors import SolveError
from ..basics.job import Job
from .adjust import Scene, adjust, project, seen
from .views import Table, parallax, resect, resect_from_nothing, start_pose, triangulate

FOCALS = (0.9, 0.5, 1.6)  # starts, in picture widths; the adjustment finds its way over a factor of two
PAIRS = 3
UNEXPLAINED_PX = 20.0
LEAST_ANGLE = np.deg2rad(0.7)
WINDOW = 16  # key frames that vary while the solve grows
SURE = 0.85  # share of explained observations at which no other start is tried


class Lensing(NamedTuple):
    """What is known of the lens: K (3,) the values to begin with (f 0 when unknown), vary: which of f, k1, k2 are solved."""

    K: np.ndarray
    vary: tuple[bool, bool, bool]


class Part(NamedTuple):
    """A solve under way: the scene over all frames and tracks (points nan where unknown), and the frames that are in it."""

    scene: Scene
    frames: list[int]
    score: float
    explained: float


def start_pairs(table: Table, reference: int | None = None) -> list[tuple[int, int]]:
    """Pairs of frames, the best first, that show most parallax over most shared tracks: what one homography leaves over,
    times the tracks. The later ones lie elsewhere in the clip. reference: a frame that every pair has to begin at.

    Raises SolveError when no two frames share enough tracks.
    """
    found = []
    for a in [reference] if reference is not None else range(0, max(1, table.frames - 4), max(1, table.frames // 12)):
        for gap in (6, 10, 16, 24, 32, 45, 60, 80):
            b = a + gap if reference is None or a + gap < table.frames else a - gap
            if not 0 <= b < table.frames:
                break
            _, p, q = table.shared(a, b)
            if len(p) < 30:
                break
            H, _ = cv2.findHomography(p, q, cv2.USAC_MAGSAC, 3.0)
            if H is None:
                continue
            left = np.median(np.linalg.norm(cv2.perspectiveTransform(p[:, None], H)[:, 0] - q, axis=1))
            found.append((min(left, 0.06 * table.width) * min(len(p), 150), min(a, b), max(a, b)))
    if not found:
        raise SolveError("Too few tracks live long enough: no two frames far apart share 30 of them.",
                         "Track with more features, uncover parts that were excluded, or shorten the range to the textured part.")  # fmt: skip
    chosen: list[tuple[int, int]] = []
    for _, a, b in sorted(found, reverse=True):
        if all(abs(a + b - c - d) > 0.3 * table.frames for c, d in chosen):
            chosen.append((a, b))
    return chosen[:PAIRS]


class FreeSolver:
    """The steps of one solve, over one table of tracks."""

    def __init__(self, table: Table, lens: Lensing, job: Job) -> None:
        self.table, self.lens, self.job = table, lens, job
        self.good = np.ones(len(table.frame), bool)

    def rows(self, frames: Iterable[int], X: np.ndarray | None = None) -> np.ndarray:
        on = np.zeros(self.table.frames, bool)
        on[list(frames)] = True
        mask = on[self.table.frame] & self.good
        if X is not None:
            mask &= np.isfinite(X[self.table.track, 0])
        return np.flatnonzero(mask)

    def points(self, scene: Scene, frames: list[int], limit_px: float, only: np.ndarray | None = None) -> Scene:
        """Triangulate every track over `frames`; tracks of which under 60 % of the observations fit are left unknown.

        only (tracks,) bool: the others stay as they are.
        """
        t = self.table
        rows = self.rows(frames)
        if only is not None:
            rows = rows[only[t.track[rows]]]
        frame, track = t.frame[rows], t.track[rows]
        rays = t.rays(t.xy[rows], scene.K)
        X = triangulate(scene.R, scene.C, frame, track, rays[:, :2] / rays[:, 2:], t.tracks, 2.0 / scene.K[0])
        angle = parallax(scene.R, frame, track, rays, t.tracks)
        p, z = project(scene._replace(X=np.nan_to_num(X)), frame, track, t.centre)
        fits = (np.linalg.norm(p - t.xy[rows], axis=1) < limit_px) & (z > 1e-6)
        count, fit = np.bincount(track, minlength=t.tracks), np.bincount(track, fits, minlength=t.tracks)
        X[(fit < 2) | (fit < 0.6 * count) | (angle < LEAST_ANGLE)] = np.nan
        return scene._replace(X=X if only is None else np.where(only[:, None], X, scene.X))

    def adjust(self, scene: Scene, frames: Iterable[int], loss: float, *, bends: tuple[bool, bool, bool] = (True, True, True),
               prior: tuple[np.ndarray, np.ndarray] | None = None, rounds: int = 20, tolerance: float = 1e-4,
               vary: Iterable[int] | None = None) -> Scene:  # fmt: skip
        """bends: which of f, k1, k2 this stage may vary; vary: the frames that may move (all of them, when None)."""
        t = self.table
        rows = self.rows(frames, scene.X)
        ids, point = np.unique(t.track[rows], return_inverse=True)
        used, number = np.unique(t.frame[rows], return_inverse=True)
        part = Scene(scene.R[used], scene.C[used], scene.X[ids], scene.K)
        lens = (bends[0] and self.lens.vary[0], bends[1] and self.lens.vary[1], bends[2] and self.lens.vary[2])
        fixed = None if vary is None else ~np.isin(used, list(vary))
        done, _ = adjust(part, seen(number, point, t.xy[rows], len(ids)), t.centre, loss_px=loss, lens=lens, prior=prior,
                         rounds=rounds, tolerance=tolerance, fixed=fixed, job=self.job)  # fmt: skip
        R, C, X = scene.R.copy(), scene.C.copy(), scene.X.copy()
        R[used], C[used], X[ids] = done.R, done.C, done.X
        return Scene(R, C, X, done.K)

    def place(self, scene: Scene, frame: int, near: list[int]) -> Scene | None:
        """One more frame from the points known, with its neighbours as guess, or from nothing; None when it does not fit."""
        t = self.table
        rows = t.rows(frame)
        rows = rows[np.isfinite(scene.X[t.track[rows], 0])]
        if len(rows) < 8:
            return None
        xy, X = t.xy[rows], scene.X[t.track[rows]]
        guess = self._guess(scene, frame, near)
        found = resect(*guess, X, xy, scene.K, t.centre)
        if np.mean(found[2] < 5) < 0.5:
            again = resect_from_nothing(X, xy, t.straight(xy, scene.K), scene.K, t.centre)
            found = again if again and np.mean(again[2] < 5) > np.mean(found[2] < 5) else found
        if (found[2] < 5).sum() < max(8, 0.25 * len(rows)):
            return None
        R, C = scene.R.copy(), scene.C.copy()
        R[frame], C[frame] = found[0], found[1]
        return scene._replace(R=R, C=C)

    @staticmethod
    def _guess(scene: Scene, frame: int, near: list[int]) -> tuple[np.ndarray, np.ndarray]:
        order = sorted(near, key=lambda j: abs(j - frame))
        a = order[0]
        if len(order) < 2:
            return scene.R[a], scene.C[a]
        b = order[1]
        share = float(np.clip((frame - a) / (b - a), -1, 1))
        return scene.R[a], scene.C[a] + share * (scene.C[b] - scene.C[a])

    def score(self, scene: Scene, frames: list[int]) -> tuple[float, float]:
        """Mean log(1 + e^2) over all observations of the frames, those not explained counting as 20 px (less is better), and
        the share within 3 px of the observations of tracks that three of the frames or more see."""
        t = self.table
        rows = np.concatenate([t.rows(j) for j in frames])
        known = np.isfinite(scene.X[t.track[rows], 0])
        p, z = project(scene._replace(X=np.nan_to_num(scene.X)), t.frame[rows], t.track[rows], t.centre)
        error = np.where(known & (z > 0), np.linalg.norm(p - t.xy[rows], axis=1), UNEXPLAINED_PX)
        often = np.bincount(t.track[rows], minlength=t.tracks)[t.track[rows]] >= 3
        return float(np.log1p(np.minimum(error, UNEXPLAINED_PX) ** 2).mean()), float((error < 3)[often].sum() / max(often.sum(), 1))

    def prior(self, f: float) -> tuple[np.ndarray, np.ndarray]:
        """Weak: it keeps k1 and k2 from running away while the frames do not yet fix them."""
        return np.array([f, *self.lens.K[1:]]), np.array([1e6, 0.1, 0.1])

    def begin(self, a: int, b: int, f: float) -> Part | None:
        """A short solve between two frames for one starting focal length."""
        t, K = self.table, np.array([f, *self.lens.K[1:]])
        _, p, q = t.shared(a, b)
        pose = start_pose(t.straight(p, K), t.straight(q, K), 3 / f)
        if pose is None:
            return None
        R, C = np.repeat(np.eye(3)[None], t.frames, 0), np.zeros((t.frames, 3))
        R[b], C[b] = pose[:2]
        scene, frames = self.points(Scene(R, C, np.zeros((t.tracks, 3)), K), [a, b], 10.0), [a, b]
        for j in sorted({int(x) for x in np.linspace(a, b, 7)} - {a, b}):
            if np.isfinite(scene.X[:, 0]).sum() < 20:
                return None
            placed = self.place(scene, j, frames)
            if placed is not None:
                scene, frames = placed, [*frames, j]
        prior = self.prior(f)
        for limit, loss, bends, rounds in (
            (12.0, 6.0, (False, False, False), 4),
            (12.0, 6.0, (True, True, False), 15),
            (6.0, 1.5, (True, True, False), 15),
        ):
            scene = self.points(scene, frames, limit)
            if np.isfinite(scene.X[:, 0]).sum() < 20:
                return None
            scene = self.adjust(scene, frames, loss, bends=bends, prior=prior, rounds=rounds, tolerance=1e-3)
        if not 0.2 * t.width < scene.K[0] < 8 * t.width:
            return None
        return Part(scene, frames, *self.score(scene, frames))

    def grow(self, part: Part, step: int) -> Part:
        """Outwards over key frames, two on each side at a time. Mostly the newest ones are adjusted, all of them whenever
        their number has grown by half, so that the work grows with the length of the clip."""
        t = self.table
        scene, frames = part.scene, list(part.frames)
        todo = sorted((set(range(0, t.frames, step)) | {t.frames - 1}) - set(frames))
        prior, whole = self.prior(scene.K[0]), 0
        while todo:
            low, high = min(frames), max(frames)
            batch = [j for j in todo if low < j < high] + [j for j in todo if j > high][:2] + [j for j in todo if j < low][::-1][:2]
            before = len(frames)
            for j in batch:
                placed = self.place(scene, j, frames)
                if placed is not None:
                    scene = placed
                    frames.append(j)
            todo = [j for j in todo if j not in frames]
            if len(frames) == before:
                break
            if len(frames) > 1.5 * whole:
                scene = self.adjust(self.points(scene, frames, 6.0), frames, 2.0, bends=(True, True, False), prior=prior, rounds=8, tolerance=1e-3)
                whole = len(frames)
            else:
                scene = self._adjust_newest(scene, frames)
        for _ in range(2):
            scene = self.adjust(self.points(scene, frames, 6.0), frames, 1.5, prior=prior, rounds=12, tolerance=1e-3)
        score, explained = self.score(scene, frames)
        return Part(scene, frames, score + 3.0 * len(todo) / max(len(todo) + len(frames), 1), explained)

    def _adjust_newest(self, scene: Scene, frames: list[int]) -> Scene:
        """The newest key frames and what they see, held by the frames round them."""
        t, newest = self.table, frames[-WINDOW:]
        touched = np.zeros(t.tracks, bool)
        touched[t.track[np.concatenate([t.rows(j) for j in frames[-4:]])]] = True
        scene = self.points(scene, frames, 6.0, touched)
        mine = np.zeros(t.tracks, bool)
        mine[t.track[np.concatenate([t.rows(j) for j in newest])]] = True
        part = self.adjust(scene._replace(X=np.where(mine[:, None], scene.X, np.nan)), frames, 2.0, bends=(False, False, False),
                           rounds=4, tolerance=1e-3, vary=newest)  # fmt: skip
        return part._replace(X=np.where(mine[:, None], part.X, scene.X))

    def fill(self, scene: Scene, frames: list[int]) -> tuple[Scene, list[int]]:
        """Every frame that is not in yet, nearest to the known ones first."""
        known = np.array(sorted(frames))
        todo = sorted(set(range(self.table.frames)) - set(frames), key=lambda j: np.abs(known - j).min())
        for k, j in enumerate(todo):
            if k % 8 == 0:
                self.job.step(0.0)
            near = sorted(frames, key=lambda k: abs(k - j))[:2]
            placed = self.place(scene, j, near)
            if placed is not None:
                scene = placed
                frames = [*frames, j]
        return scene, frames

    def fitting(self, scene: Scene, limit_px: float) -> np.ndarray:
        """(k,) bool: observations within the limit of a known point."""
        t = self.table
        p, z = project(scene._replace(X=np.nan_to_num(scene.X)), t.frame, t.track, t.centre)
        error = np.linalg.norm(p - t.xy, axis=1)
        return (error < limit_px) & (z > 1e-6) & np.isfinite(scene.X[t.track, 0])

    def from_nothing(self, reference: int | None) -> tuple[Part, str]:
        """Key frames over the clip, from the best of several starts; and a warning when another explains as much."""
        t, job = self.table, self.job
        job.part(0.25, 0.35)
        pairs = start_pairs(t, reference)
        starts = [self.lens.K[0]] if self.lens.K[0] else [f * t.width for f in FOCALS]
        begun: list[Part] = []
        for k, (a, b) in enumerate(pairs):
            for i, f in enumerate(starts):
                done = (k + i / len(starts)) / len(pairs)
                job.part(0.35 + 0.2 * done, 0.35 + 0.2 * (done + 1 / len(pairs) / len(starts)))
                job.step(0, f"start {k * len(starts) + i + 1}")
                part = self.begin(a, b, f)
                if part is not None:
                    begun.append(part)
                if part is not None and part.explained > SURE:
                    break
            if any(part.explained > SURE for part in begun):
                break
        if not begun:
            raise SolveError(f"No camera move explains frames {pairs[0][0]} and {pairs[0][1]}, the two with the most parallax.",
                             "Cover what moves by itself (people, water, vehicles), or track another part of the clip.")  # fmt: skip
        different: list[Part] = []
        for part in sorted(begun, key=lambda x: x.score):
            if all(abs(np.log(part.scene.K[0] / o.scene.K[0])) > 0.12 or not set(part.frames) & set(o.frames) for o in different):
                different.append(part)
        grown = []
        for k, part in enumerate(different[:3]):
            job.part(0.55 + 0.05 * k, 0.6 + 0.05 * k)
            job.step(0, "growing over the clip")
            grown.append(self.grow(part, max(4, min(10, t.frames // 12))))
        grown.sort(key=lambda x: x.score)
        warning = ""
        if len(grown) > 1 and grown[1].score < 1.02 * grown[0].score and abs(np.log(grown[1].scene.K[0] / grown[0].scene.K[0])) > 0.05:
            warning = f"A focal length of {grown[1].scene.K[0]:.0f} px explains the tracks almost as well; enter the focal length if you know it."
        return grown[0], warning

    def finish(self, scene: Scene, frames: list[int]) -> tuple[Scene, list[int], np.ndarray]:
        """All frames: fill in what is missing, prune at 6, 3 and 2 px and adjust. Returns which observations fit, too."""
        job = self.job
        job.part(0.7, 1.0)
        scene = self.points(scene, frames, 6.0)
        scene, frames = self.fill(scene, frames)
        for k, (limit, loss) in enumerate(((6.0, 1.5), (3.0, 1.0), (2.0, 1.0))):
            job.part(0.7 + 0.1 * k, 0.8 + 0.1 * k)
            job.step(0, "all frames")
            scene = self.points(scene, frames, limit)
            if len(frames) < self.table.frames:
                scene, frames = self.fill(scene, frames)
            self.good = self.fitting(scene, limit)
            scene = self.adjust(scene, frames, loss, rounds=25, tolerance=1e-4 if k < 2 else 1e-6)
            self.good = np.ones(len(self.table.frame), bool)
        return scene, sorted(frames), self.fitting(scene, 3.0)
