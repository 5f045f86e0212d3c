"""A camera that moves: from tracks to cameras, points, focal length and lens, starting from nothing."""

from typing import NamedTuple

import cv2
import numpy as np

from ..basics.errors import SolveError
from ..basics.job import Job
from .adjust import Scene, adjust, project, seen
from .views import Table, parallax, resect, resect_from_nothing, start_pose, triangulate

FOCALS = np.geomspace(0.45, 2.6, 8)  # starts, in picture widths
UNEXPLAINED_PX = 20.0
LEAST_ANGLE = np.deg2rad(0.7)


class Part(NamedTuple):
    """A solve under way: the scene over all frames and tracks (points nan where unknown), and the frames that are in it."""

    scene: Scene
    frames: list[int]
    score: float


def best_pair(table: Table) -> tuple[int, int]:
    """The two frames that show most parallax over most shared tracks: what one homography leaves over, times the tracks.

    Raises SolveError when no two frames share enough tracks.
    """
    best: tuple[float, int, int] | None = None
    for a in range(0, max(1, table.frames - 4), max(1, table.frames // 12)):
        for gap in (6, 10, 16, 24, 32, 45, 60, 80):
            b = a + gap
            if b >= table.frames:
                break
            _, p, q = table.shared(a, b)
            if len(p) < 30:
                break
            H, _ = cv2.findHomography(p, q, cv2.USAC_MAGSAC, 3.0)
            if H is None:
                continue
            left = np.median(np.linalg.norm(cv2.perspectiveTransform(p[:, None], H)[:, 0] - q, axis=1))
            score = min(left, 0.06 * table.width) * min(len(p), 150)
            if best is None or score > best[0]:
                best = score, a, b
    if best is None:
        raise SolveError("Too few tracks live long enough: no two frames far apart share 30 of them.",
                         "Track with more features, uncover parts that were excluded, or shorten the range to the textured part.")  # fmt: skip
    return best[1], best[2]


class FreeSolver:
    """The steps of one solve, over one table of tracks."""

    def __init__(self, table: Table, focal_px: float | None, lens: tuple[bool, bool], job: Job) -> None:
        self.table, self.focal_px, self.lens, self.job = table, focal_px, lens, job
        self.good = np.ones(len(table.frame), bool)

    def rows(self, frames: list[int], X: np.ndarray | None = None) -> np.ndarray:
        on = np.zeros(self.table.frames, bool)
        on[frames] = True
        mask = on[self.table.frame] & self.good
        if X is not None:
            mask &= np.isfinite(X[self.table.track, 0])
        return np.flatnonzero(mask)

    def points(self, scene: Scene, frames: list[int], limit_px: float) -> Scene:
        """Triangulate every track over `frames`; tracks of which under 60 % of the observations fit are left unknown."""
        t = self.table
        rows = self.rows(frames)
        frame, track = t.frame[rows], t.track[rows]
        rays = t.rays(t.xy[rows], scene.K)
        X = triangulate(scene.R, scene.C, frame, track, rays[:, :2] / rays[:, 2:], t.tracks, 2.0 / scene.K[0])
        angle = parallax(scene.R, frame, track, rays, t.tracks)
        p, z = project(scene._replace(X=np.nan_to_num(X)), frame, track, t.centre)
        fits = (np.linalg.norm(p - t.xy[rows], axis=1) < limit_px) & (z > 1e-6)
        count, fit = np.bincount(track, minlength=t.tracks), np.bincount(track, fits, minlength=t.tracks)
        X[(fit < 2) | (fit < 0.6 * count) | (angle < LEAST_ANGLE)] = np.nan
        return scene._replace(X=X)

    def adjust(self, scene: Scene, frames: list[int], loss: float, lens: tuple[bool, bool, bool], prior=None, rounds=20, tolerance=1e-4) -> Scene:
        t = self.table
        rows = self.rows(frames, scene.X)
        ids, point = np.unique(t.track[rows], return_inverse=True)
        used, number = np.unique(t.frame[rows], return_inverse=True)
        part = Scene(scene.R[used], scene.C[used], scene.X[ids], scene.K)
        free = (lens[0] and self.focal_px is None, lens[1] and self.lens[0], lens[2] and self.lens[1])
        done, _ = adjust(part, seen(number, point, t.xy[rows], len(ids)), t.centre, loss_px=loss, lens=free, prior=prior,
                         rounds=rounds, tolerance=tolerance, job=self.job)  # fmt: skip
        R, C, X = scene.R.copy(), scene.C.copy(), scene.X.copy()
        R[used], C[used], X[ids] = done.R, done.C, done.X
        return Scene(R, C, X, done.K)

    def place(self, scene: Scene, frame: int, near: list[int]) -> Scene | None:
        """One more frame from the points known, with its neighbours as guess, or from nothing; None when it does not fit."""
        t = self.table
        k = np.flatnonzero((t.row[frame] >= 0) & np.isfinite(scene.X[:, 0]))
        if len(k) < 8:
            return None
        xy, X = t.xy[t.row[frame, k]], scene.X[k]
        guess = self._guess(scene, frame, near)
        found = resect(*guess, X, xy, scene.K, t.centre)
        if np.mean(found[2] < 5) < 0.5:
            again = resect_from_nothing(X, xy, t.straight(xy, scene.K), scene.K, t.centre)
            found = again if again and np.mean(again[2] < 5) > np.mean(found[2] < 5) else found
        if (found[2] < 5).sum() < max(8, 0.25 * len(k)):
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

    def score(self, scene: Scene, frames: list[int]) -> float:
        """Mean log(1 + e^2) over all observations of the frames; those not explained count as 20 px. Less is better."""
        t = self.table
        on = np.zeros(t.frames, bool)
        on[frames] = True
        rows = np.flatnonzero(on[t.frame])
        known = np.isfinite(scene.X[t.track[rows], 0])
        p, z = project(scene._replace(X=np.nan_to_num(scene.X)), t.frame[rows], t.track[rows], t.centre)
        error = np.where(known & (z > 0), np.linalg.norm(p - t.xy[rows], axis=1), UNEXPLAINED_PX)
        return float(np.log1p(np.minimum(error, UNEXPLAINED_PX) ** 2).mean())

    def prior(self, f: float) -> tuple[np.ndarray, np.ndarray]:
        return np.array([f, 0, 0]), np.array([1e6, 0.1, 0.1])

    def begin(self, a: int, b: int, f: float) -> Part | None:
        """A short solve between two frames for one starting focal length."""
        t, K = self.table, np.array([f, 0.0, 0.0])
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
        for k in range(3):
            scene = self.points(scene, frames, 10.0 if k == 0 else 8.0)
            if np.isfinite(scene.X[:, 0]).sum() < 20:
                return None
            scene = self.adjust(scene, frames, 2.0, (k > 0, True, False), self.prior(f), 10 if k == 0 else 30, 1e-5)
        if not 0.2 * t.width < scene.K[0] < 8 * t.width:
            return None
        return Part(scene, frames, self.score(scene, frames))

    def grow(self, part: Part, step: int) -> Part:
        """Outwards over key frames, two on each side at a time, adjusting on the way."""
        t = self.table
        scene, frames = part.scene, list(part.frames)
        todo = sorted((set(range(0, t.frames, step)) | {t.frames - 1}) - set(frames))
        prior = self.prior(scene.K[0])
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
            scene = self.adjust(self.points(scene, frames, 6.0), frames, 2.0, (True, True, False), prior, 10, 1e-3)
        for _ in range(2):
            scene = self.adjust(self.points(scene, frames, 6.0), frames, 1.5, (True, True, True), prior, 30, 1e-5)
        missing = 3.0 * len(todo) / max(len(todo) + len(frames), 1)
        return Part(scene, frames, self.score(scene, frames) + missing)

    def fill(self, scene: Scene, frames: list[int]) -> tuple[Scene, list[int]]:
        """Every frame that is not in yet, nearest to the known ones first."""
        todo = sorted(set(range(self.table.frames)) - set(frames), key=lambda j: min(abs(j - k) for k in frames))
        for j in todo:
            placed = self.place(scene, j, sorted(frames, key=lambda k: abs(k - j))[:2])
            if placed is not None:
                scene = placed
                frames = [*frames, j]
        return scene, frames

    def prune(self, scene: Scene, limit_px: float) -> None:
        t = self.table
        p, z = project(scene._replace(X=np.nan_to_num(scene.X)), t.frame, t.track, t.centre)
        error = np.linalg.norm(p - t.xy, axis=1)
        self.good = (error < limit_px) & (z > 1e-6) & np.isfinite(scene.X[t.track, 0])

    def solve(self) -> tuple[Scene, list[int], np.ndarray, str]:
        """The scene, its frames, which observations fit, and a warning (empty when there is none)."""
        t, job = self.table, self.job
        job.part(0.25, 0.35)
        a, b = best_pair(t)
        starts = [self.focal_px] if self.focal_px else list(FOCALS * t.width)
        begun = []
        for k, f in enumerate(starts):
            job.part(0.35 + 0.2 * k / len(starts), 0.35 + 0.2 * (k + 1) / len(starts))
            job.step(0, f"start {k + 1} of {len(starts)}")
            part = self.begin(a, b, f)
            if part is not None:
                begun.append(part)
        if not begun:
            raise SolveError(f"No camera move explains frames {a} and {b}, the two with the most parallax.",
                             "Cover what moves by itself (people, water, vehicles), or track another part of the clip.")  # fmt: skip
        different: list[Part] = []
        for part in sorted(begun, key=lambda x: x.score):
            if all(abs(np.log(part.scene.K[0] / other.scene.K[0])) > 0.12 for other in different):
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
        scene, frames = grown[0].scene, grown[0].frames
        job.part(0.7, 1.0)
        scene = self.points(scene, frames, 6.0)
        scene, frames = self.fill(scene, frames)
        for k, (limit, loss) in enumerate(((6.0, 1.5), (3.0, 1.0), (2.0, 1.0))):
            job.part(0.7 + 0.1 * k, 0.8 + 0.1 * k)
            job.step(0, "all frames")
            self.good = np.ones(len(t.frame), bool) if k == 0 else self.good
            scene = self.points(scene, frames, limit)
            self.prune(scene, limit)
            if len(frames) < t.frames:
                scene, frames = self.fill(scene, frames)
            scene = self.adjust(scene, frames, loss, (True, True, True), rounds=25, tolerance=1e-4 if k < 2 else 1e-6)
            self.good[:] = True
        self.prune(scene, 3.0)
        return scene, sorted(frames), self.good, warning
