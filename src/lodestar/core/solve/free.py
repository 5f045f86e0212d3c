"""A camera that moves: from tracks to cameras, points, focal length and lens, starting from nothing or from an earlier solve."""

from collections.abc import Iterable
from typing import NamedTuple

import numpy as np
from scipy.spatial import cKDTree

from ..basics.errors import SolveError
from ..basics.geometry import plane_by_votes
from ..basics.job import Job
from .adjust import NO_ZOOM, Scene, adjust, project, seen
from .constants import SOLVER
from .lensing import Lensing
from .starts import moving_alike, start_pairs
from .views import Table, directions, parallax, resect, resect_from_nothing, start_pose, triangulate
from .zoom import zoom_speeds


class Part(NamedTuple):
    """A solve under way: the scene over all frames and tracks (points nan where unknown), and the frames that are in it.

    noise_px: of one axis, as the better tracks show it. explained: share of the observations of tracks that three of the
    frames or more see, which a known point accounts for.
    """

    scene: Scene
    frames: list[int]
    noise_px: float
    explained: float

    @property
    def focal(self) -> float:
        """Focal length in px, half-way through a zoom (in proportion)."""
        return float(self.scene.K[0] * np.exp(np.log(self.scene.zooms[self.frames]).mean()))


class FreeSolver:
    """The steps of one solve, over one table of tracks."""

    def __init__(self, table: Table, lens: Lensing, job: Job, zooms: bool = False, if_sure: bool = False) -> None:
        """zooms: whether each frame has a focal length of its own; if_sure: give up where no start is sure."""
        self.table, self.lens, self.job, self.zooms, self.if_sure = table, lens, job, zooms, if_sure
        self.good = np.ones(len(table.frame), bool)
        self.parallax_px = max(SOLVER.least_parallax_px, SOLVER.parallax_noises * table.noise_px)
        self.length = np.bincount(table.track, minlength=table.tracks)
        self.rivals: list[float] = []  # focal lengths in px of what explained the tracks about as well as what was last chosen

    def rows(self, frames: Iterable[int], X: np.ndarray | None = None) -> np.ndarray:
        on = np.zeros(self.table.frames, bool)
        on[list(frames)] = True
        mask = on[self.table.frame] & self.good
        if X is not None:
            mask &= np.isfinite(X[self.table.track, 0])
        return np.flatnonzero(mask)

    def points(self, scene: Scene, frames: list[int], limit_px: float, only: np.ndarray | None = None, spread: float = 1.0) -> Scene:
        """Triangulate every track over `frames`; tracks of which under 60 % of the observations fit are left unknown, and those whose
        errors (rms) go into limit_px fewer than `spread` times (1.0 leaves none out), unless something is known of them.

        only (tracks,) bool: the others stay as they are.
        """
        t = self.table
        rows = self.rows(frames)
        if only is not None:
            rows = rows[only[t.track[rows]]]
        frame, track = t.frame[rows], t.track[rows]
        rays = t.rays(t.xy[rows], scene.K, scene.zooms[frame])
        X = triangulate(scene.R, scene.C, frame, track, rays[:, :2] / rays[:, 2:], t.tracks, 2.0 / scene.K[0])
        angle = parallax(scene.R, frame, track, rays, t.tracks)
        p, z = project(scene._replace(X=np.nan_to_num(X)), frame, track, t.centre)
        error = np.linalg.norm(p - t.xy[rows], axis=1)
        fits = (error < limit_px) & (z > 1e-6)
        count, fit = np.bincount(track, minlength=t.tracks), np.bincount(track, fits, minlength=t.tracks)
        loose = np.bincount(track, fits * error**2, minlength=t.tracks) > fit * (limit_px / spread) ** 2
        loose[[track for span in t.spans for track in (span.a, span.b) if track < t.tracks]] = False
        X[(fit < 2) | (fit < 0.6 * count) | loose | (angle * scene.K[0] < self.parallax_px)] = np.nan
        return scene._replace(X=X if only is None else np.where(only[:, None], X, scene.X))

    def adjust(
        self,
        scene: Scene,
        frames: Iterable[int],
        loss: float,
        *,
        vary_lens: tuple[bool, bool, bool] = (True, True, True),
        prior: tuple[np.ndarray, np.ndarray] | None = None,
        rounds: int = 20,
        tolerance: float = 1e-4,
        vary: Iterable[int] | None = None,
    ) -> Scene:
        """vary_lens: which of f, k1, k2 this stage may vary; vary: the frames that may move (all of them, when None)."""
        t = self.table
        rows = self.rows(frames, scene.X)
        if len(rows) < SOLVER.least_rows:
            return scene
        ids, point = np.unique(t.track[rows], return_inverse=True)
        used, number = np.unique(t.frame[rows], return_inverse=True)
        part = Scene(scene.R[used], scene.C[used], scene.X[ids], scene.K, zoom=scene.zoom[used] if self.zooms else scene.zoom)
        lens = (vary_lens[0] and self.lens.vary[0], vary_lens[1] and self.lens.vary[1], vary_lens[2] and self.lens.vary[2])
        fixed = None if vary is None else ~np.isin(used, list(vary))
        done, _ = adjust(
            part,
            seen(number, point, t.xy[rows], len(ids)),
            t.centre,
            loss_px=loss,
            lens=lens,
            prior=prior,
            rounds=rounds,
            tolerance=tolerance,
            fixed=fixed,
            smoothness=t.smoothness(used) if self.zooms else None,
            job=self.job,
        )
        R, C, X, zoom = scene.R.copy(), scene.C.copy(), scene.X.copy(), scene.zoom.copy()
        R[used], C[used], X[ids] = done.R, done.C, done.X
        if self.zooms:
            zoom[used] = done.zoom
        return Scene(R, C, X, done.K, zoom=zoom)

    def place(self, scene: Scene, frame: int, near: list[int]) -> Scene | None:
        """One more frame from the points known, with its neighbours as guess, or from nothing; None when it does not fit."""
        t = self.table
        rows = t.rows(frame)
        rows = rows[np.isfinite(scene.X[t.track[rows], 0])]
        if len(rows) < 8:
            return None
        xy, X = t.xy[rows], scene.X[t.track[rows]]
        R, C, zoom = self._guess(scene, frame, near)
        K = scene.K * [zoom, 1, 1]
        found = resect(R, C, X, xy, K, t.centre, zooms=self.zooms)
        if np.mean(found[2] < 5) < 0.5:
            again = resect_from_nothing(X, xy, t.undistorted(xy, K), K, t.centre, self.zooms)
            found = again if again and np.mean(again[2] < 5) > np.mean(found[2] < 5) else found
        if (found[2] < 5).sum() < max(8, 0.25 * len(rows)):
            return None
        R, C, zooms = scene.R.copy(), scene.C.copy(), scene.zoom.copy()
        R[frame], C[frame] = found[0], found[1]
        if self.zooms:
            zooms[frame] = zoom * found[3]
        return scene._replace(R=R, C=C, zoom=zooms)

    @staticmethod
    def _guess(scene: Scene, frame: int, near: list[int]) -> tuple[np.ndarray, np.ndarray, float]:
        """Turn, place and zoom as the nearest frames lead to expect them."""
        order, zooms = sorted(near, key=lambda j: abs(j - frame)), scene.zooms
        a = order[0]
        if len(order) < 2:
            return scene.R[a], scene.C[a], float(zooms[a])
        b = order[1]
        share = float(np.clip((frame - a) / (b - a), -1, 1))
        return scene.R[a], scene.C[a] + share * (scene.C[b] - scene.C[a]), float(zooms[a] * (zooms[b] / zooms[a]) ** share)

    def part(self, scene: Scene, frames: list[int], group: np.ndarray | None = None) -> Part:
        """group (tracks,) bool: of which tracks the share that is explained counts (all, when None)."""
        rows, often, error = self._errors(scene, frames)
        often = often if group is None else often & group[self.table.track[rows]]
        known = error[error < 6]
        # the lower quarter belongs to what stands still, whatever else moves; of a Rayleigh distribution it lies at 0.759 sigma
        noise = max(float(np.percentile(known, 25)) / 0.759, SOLVER.least_noise_px) if len(known) else 1.0
        return Part(scene, frames, noise, float((error < max(1.0, 5 * noise))[often].sum() / max(often.sum(), 1)))

    def _errors(self, scene: Scene, frames: list[int]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Rows in the frames, whether three of them see the track, and their errors in px: to its point, or to a place infinitely
        far where it has none; 20 where neither explains it."""
        t = self.table
        rows = np.concatenate([t.rows(j) for j in frames])
        frame, track = t.frame[rows], t.track[rows]
        p, z = project(scene._replace(X=np.nan_to_num(scene.X)), frame, track, t.centre)
        error = np.where(np.isfinite(scene.X[track, 0]) & (z > 0), np.linalg.norm(p - t.xy[rows], axis=1), np.inf)
        lost = np.flatnonzero(np.isinf(error))
        far = directions(scene.R, frame[lost], track[lost], t.rays(t.xy[rows[lost]], scene.K, scene.zooms[frame[lost]]), t.tracks)
        p, z = project(scene._replace(C=0 * scene.C, X=far), frame[lost], track[lost], t.centre)
        error[lost] = np.where((z > 0) & np.isnan(scene.X[track[lost], 0]), np.linalg.norm(p - t.xy[rows[lost]], axis=1), SOLVER.unexplained_px)
        error = np.minimum(error, SOLVER.unexplained_px)
        return rows, np.bincount(t.track[rows], minlength=t.tracks)[t.track[rows]] >= 3, error

    def cost(self, part: Part, noise_px: float, missing: int) -> float:
        """Share of what the frames see (0 to 1, less is better) that the part does not explain over a track's whole life as closely as
        noise allows; what lives longer counts more, since what stands still does. More for a flat scene, and for key frames that could
        not be placed (missing).

        By whole tracks: a camera that bends to two motions at once explains nearly every observation to a few times the noise, which
        no mean of single errors holds against it, but hardly a track closely.
        """
        rows, often, error = self._errors(part.scene, part.frames)
        t, weight = self.table, often * np.minimum(self.length[self.table.track[rows]], SOLVER.long_life)
        square = np.minimum(error / noise_px, 6.0) ** 2 / 2
        # a point has three coordinates to bend to what is seen of it
        mean = np.bincount(t.track[rows], often * square, t.tracks) / np.maximum(np.bincount(t.track[rows], often, t.tracks) - 1.5, 1)
        left = np.minimum(mean / SOLVER.closely_noises**2, 1.0)
        # drifting water is flat, and that tells it from a place
        flat = SOLVER.flat_cost if self._in_plane(part.scene.X).sum() > 0.9 * np.isfinite(part.scene.X[:, 0]).sum() else 0.0
        lost = SOLVER.missing_cost * max(missing / (missing + len(part.frames)) - SOLVER.forgiven, 0.0)
        return float((weight * left[t.track[rows]]).sum() / max(weight.sum(), 1e-9)) + lost + flat

    @staticmethod
    def _in_plane(X: np.ndarray) -> np.ndarray:
        """(tracks,) bool: which of the points (nan where unknown) lie in the plane that holds most of them."""
        on, known = np.zeros(len(X), bool), np.flatnonzero(np.isfinite(X[:, 0]))
        if len(known) >= 4:
            near = 0.02 * float(np.median(np.linalg.norm(X[known] - np.median(X[known], 0), axis=1)))
            on[known] = plane_by_votes(X[known], near, np.random.default_rng(0), tries=60)[2]
        return on

    def prior(self, f: float) -> tuple[np.ndarray, np.ndarray]:
        """Weak: it keeps k1 and k2 from running away while the frames do not yet fix them."""
        return np.array([f, *self.lens.K[1:]]), np.array([1e6, 0.1, 0.1])

    def begin(self, a: int, b: int, f: float, group: np.ndarray, speed: float = 0.0) -> Part | None:
        """A short solve between two frames for one starting focal length, from the tracks of a group (tracks,) bool; the others
        come in where they fit it. speed: of the zoom, by which share it grows in a frame."""
        t, K = self.table, np.array([f, *self.lens.K[1:]])
        tracks, p, q = t.shared(a, b)
        p, q = p[group[tracks]], q[group[tracks]]
        zoom = np.exp(speed * (np.clip(np.arange(t.frames), a, b) - a)) if self.zooms else NO_ZOOM
        pose = start_pose(t.undistorted(p, K), t.undistorted(q, K, zoom[b] if self.zooms else 1.0), 3 / f)
        if pose is None:
            return None
        R, C = np.repeat(np.eye(3)[None], t.frames, 0), np.zeros((t.frames, 3))
        R[b], C[b] = pose[:2]
        scene, frames = self.points(Scene(R, C, np.full((t.tracks, 3), np.nan), K, zoom=zoom), [a, b], 10.0, group), [a, b]
        for j in sorted({int(x) for x in np.linspace(a, b, 7)} - {a, b}):
            if np.isfinite(scene.X[:, 0]).sum() < 20:
                return None
            placed = self.place(scene, j, frames)
            if placed is not None:
                scene, frames = placed, [*frames, j]
        prior, everyone = self.prior(f), np.ones(t.tracks, bool)
        for limit, loss, vary_lens, rounds, only in (
            (12.0, 6.0, (False, False, False), 4, group),
            (12.0, 6.0, (True, True, False), 15, group),
            (3.0, 1.5, (True, True, False), 15, group),
            (2.0, 1.0, (True, True, False), 10, everyone),
        ):
            scene = self.points(scene, frames, limit, only)
            if np.isfinite(scene.X[:, 0]).sum() < 20:
                return None
            scene = self.adjust(scene, frames, loss, vary_lens=vary_lens, prior=prior, rounds=rounds, tolerance=1e-3)
        if not 0.2 * t.width < scene.K[0] < 8 * t.width:
            return None
        return self.part(scene, frames)

    def grow(self, part: Part, step: int) -> Part:
        """Outwards over key frames, two on each side at a time. Mostly the newest ones are adjusted, all of them whenever
        their number has grown by half, so that the work grows with the length of the clip."""
        t = self.table
        scene, frames = part.scene, list(part.frames)
        todo = sorted((set(range(0, t.frames, step)) | {t.frames - 1}) - set(frames))
        prior, whole = self.prior(scene.K[0]), 0
        limit = float(np.clip(10 * part.noise_px, 2.0, 6.0))
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
                scene = self.adjust(
                    self.points(scene, frames, limit), frames, limit / 3, vary_lens=(True, True, False), prior=prior, rounds=8, tolerance=1e-3
                )
                whole = len(frames)
            else:
                scene = self._adjust_newest(scene, frames, limit)
        for _ in range(2):
            scene = self.adjust(self.points(scene, frames, limit), frames, limit / 4, prior=prior, rounds=12, tolerance=1e-3)
        return self.part(scene, frames)

    def _adjust_newest(self, scene: Scene, frames: list[int], limit: float) -> Scene:
        """The newest key frames and what they see, held by the frames round them."""
        t, newest = self.table, frames[-SOLVER.window :]
        touched = np.zeros(t.tracks, bool)
        touched[t.track[np.concatenate([t.rows(j) for j in frames[-4:]])]] = True
        scene = self.points(scene, frames, limit, touched)
        mine = np.zeros(t.tracks, bool)
        mine[t.track[np.concatenate([t.rows(j) for j in newest])]] = True
        part = self.adjust(
            scene._replace(X=np.where(mine[:, None], scene.X, np.nan)),
            frames,
            limit / 3,
            vary_lens=(False, False, False),
            rounds=4,
            tolerance=1e-3,
            vary=newest,
        )
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

    def readmitted(self, scene: Scene, frames: list[int], limit_px: float) -> tuple[Scene, np.ndarray]:
        """The scene with a place for all tracks that nearly fit, though they had no say in it, and which observations fit."""
        more = self.points(scene, frames, limit_px, spread=SOLVER.loose_spread)
        scene = scene._replace(X=np.where(np.isfinite(scene.X), scene.X, more.X))
        return scene, self.fitting(scene, limit_px)

    def fitting(self, scene: Scene, limit_px: float) -> np.ndarray:
        """(k,) bool: observations within the limit of a known point."""
        t = self.table
        p, z = project(scene._replace(X=np.nan_to_num(scene.X)), t.frame, t.track, t.centre)
        error = np.linalg.norm(p - t.xy, axis=1)
        return (error < limit_px) & (z > 1e-6) & np.isfinite(scene.X[t.track, 0])

    def from_nothing(self, reference: int | None) -> Part:
        """Key frames over the clip, from the best of several starts."""
        t, job = self.table, self.job
        job.part(0.25, 0.35)
        pairs = start_pairs(t, reference)
        starts = [self.lens.K[0]] if self.lens.K[0] else [f * t.width for f in SOLVER.focals]
        step = max(2, min(10, t.frames // 12))
        begun: list[Part] = []
        for k, (a, b) in enumerate(pairs):
            for group in moving_alike(t, a, b):
                begun += self._begin_over(a, b, group, starts, k / len(pairs))
            if any(self.sure(part) for part in begun):
                break
        if not begun:
            raise SolveError(
                f"No camera move explains frames {pairs[0][0]} and {pairs[0][1]}, the two with the most parallax.",
                "Cover what moves by itself (people, water, vehicles), or track another part of the clip.",
            )
        grown = [self.grow(part, step) for part in self._different(begun)]
        if not any(self.sure(part) for part in grown):
            if self.if_sure:
                raise SolveError("No start explains the tracks as well as it should.", "Solve without a zoom.")
            # what moves by itself seldom lives long, and what lives long is seldom misled: once more with that alone
            patient = self.length >= np.median(self.length[t.track])
            self.good = patient[t.track]
            for a, b in start_pairs(t, reference, patient):
                begun = self._begin_over(a, b, patient, starts, 1.0, every=True)
                grown += [self.grow(part, step) for part in self._different(begun)[:2]]
            self.good = np.ones(len(t.frame), bool)
            grown = [self.part(self.points(part.scene, part.frames, 2.0), part.frames) for part in grown]
        grown = [part for part in grown if np.isfinite(part.scene.X[:, 0]).sum() >= SOLVER.least_points]
        if not grown:
            raise SolveError(
                f"There is too little parallax: fewer than {SOLVER.least_points} tracks shift by {self.parallax_px:.0f} px or more against what is far away.",
                "The camera hardly moves for the distance of what it sees. Solve it as one that only turns, or choose a part in which it moves.",
            )
        (cost, best), *others = self._ranked([*grown, *(part for part in map(self._inside_out, grown) if part is not None)])
        self.rivals = [part.focal for rival, part in others if rival < cost + SOLVER.start_cost]
        return best

    def _inside_out(self, part: Part) -> Part | None:
        """The part with near and far exchanged, and adjusted; None where the camera moves so far that one of the two alone fits.

        While it moves little for the distance of what it sees, a turn makes up for most of what such a place shifts the wrong way, and
        a solve may end in either. Source: R. Szeliski and S. B. Kang, Shape ambiguities in structure from motion, PAMI 19(5), 1997.
        """
        scene, frames = part.scene, part.frames
        middle = sorted(frames)[len(frames) // 2]
        R, C = scene.R[middle], scene.C[middle]
        inside = (scene.X - C) @ R.T
        known = np.flatnonzero(inside[:, 2] > 1e-6)
        near = 1 / inside[known, 2]
        if len(known) < SOLVER.least_points or np.linalg.norm(scene.C[frames] - C, axis=1).max() * np.median(near) > SOLVER.reversal_way:
            return None
        nearest, X = np.percentile(near, 95), np.full_like(scene.X, np.nan)
        X[known] = inside[known] * (near / np.maximum(nearest - near, 0.02 * nearest))[:, None] @ R + C
        scene = scene._replace(C=2 * C - scene.C, X=X)
        for j in frames:
            scene = self.place(scene, j, [j]) or scene
        limit, prior = float(np.clip(10 * part.noise_px, 2.0, 6.0)), self.prior(scene.K[0])
        for wide, vary_lens in ((2.0, (False, False, False)), (2.0, (True, True, False)), (1.0, (True, True, True))):
            scene = self.adjust(scene, frames, limit / 3, vary_lens=vary_lens, prior=prior, rounds=12, tolerance=1e-3)
            scene = self.points(scene, frames, wide * limit)
        return self.part(scene, frames)

    @staticmethod
    def say_px(noise_px: float) -> float:
        """Error (rms) up to which tracks that have been led apart count."""
        return float(np.sqrt(2) * SOLVER.suits_noises * noise_px)

    def _ranked(self, parts: list[Part]) -> list[tuple[float, Part]]:
        """The parts with what each costs, the best first."""
        noise = max(self.table.noise_px, min(part.noise_px for part in parts))
        keys = max(len(part.frames) for part in parts)
        return sorted(((self.cost(part, noise, keys - len(part.frames)), part) for part in parts), key=lambda pair: pair[0])

    def apart(self, part: Part, scene: Scene) -> Part | None:
        """The part led from a scene by some of its tracks alone, each time by others, and then by all that suit it: the best of these,
        where it explains clearly more than the scene.

        Water that drifts evenly is a place of its own to a camera that moves evenly, and each start then bends to both. A share of the
        tracks in which one of them outweighs the other by far leads from there to that one; nearly all of a plane, of what is low in the
        picture or of what is short-lived can be water.
        """
        t = self.table
        before = self.part(scene, part.frames)
        rows = np.concatenate([t.rows(j) for j in part.frames])
        count = np.maximum(np.bincount(t.track[rows], minlength=t.tracks), 1)
        low = np.bincount(t.track[rows], t.xy[rows, 1], t.tracks) / count > t.centre[1]
        shares = [self._in_plane(scene.X), low, self.length >= np.median(self.length[t.track])]
        found, everyone = [before], self.good
        for share in [s for each in shares for s in (each, ~each)]:
            led, noise = scene, max(t.noise_px, SOLVER.least_noise_px)
            self.good = everyone & share[t.track]
            for limit in (42 * noise, 18 * noise, 9 * noise):
                led = self.adjust(self.points(led, part.frames, limit, spread=SOLVER.spread), part.frames, limit / 3, rounds=12, tolerance=1e-3)
            self.good = everyone
            # noise that lasts is more than a track's bends show
            noise = max(noise, self.part(self.points(led, part.frames, SOLVER.off_noises * noise), part.frames).noise_px)
            suiting = SOLVER.off_noises * noise
            for _ in range(4):
                led = self.adjust(
                    self.points(led, part.frames, suiting, spread=suiting / self.say_px(noise)), part.frames, suiting / 3, rounds=12, tolerance=1e-3
                )
            self.good = everyone
            if np.isfinite(led.X[:, 0]).sum() >= SOLVER.least_points:
                found.append(self.part(self.points(led, part.frames, suiting, spread=SOLVER.spread), part.frames))
        ranked = self._ranked(found)
        self.rivals = [part.focal for cost, part in ranked if cost < ranked[0][0] + SOLVER.rival_cost]
        was = next(cost for cost, part in ranked if part is before)
        return ranked[0][1] if ranked[0][0] < was - SOLVER.apart_gain else None

    def sure(self, part: Part) -> bool:
        """Whether nearly all is explained, as well as the tracks' own noise lets it be: a wrong camera that bends to what moves
        explains much, but never that well."""
        return part.explained > SOLVER.sure and part.noise_px < 1.1 * max(self.table.noise_px, SOLVER.least_noise_px)

    def _begin_over(self, a: int, b: int, group: np.ndarray, starts: list[float], done: float, every: bool = False) -> list[Part]:
        """Short solves from each starting focal length, until one accounts for the group (or from every one)."""
        begun: list[Part] = []
        if self.zooms:
            b = min(b, a + SOLVER.zoom_window)
        speeds = zoom_speeds(self.table, a, b, starts) if self.zooms else [0.0] * len(starts)
        for k, (f, speed) in enumerate(zip(starts, speeds, strict=True)):
            self.job.part(0.35 + 0.2 * done, 0.55)
            self.job.step(0, f"start {k + 1}")
            part = self.begin(a, b, f, group, speed)
            if part is not None:
                begun.append(part)
                if not every and self.part(part.scene, part.frames, group).explained > SOLVER.sure:
                    break  # another focal length would lead to the same place
        return begun

    def _different(self, begun: list[Part], most: int = 3) -> list[Part]:
        """The best of them that are not nearly the same."""
        if not begun:
            return []
        noise = min(part.noise_px for part in begun)
        chosen: list[Part] = []
        for part in sorted(begun, key=lambda x: self.cost(x, noise, 0)):
            if all(abs(np.log(part.scene.K[0] / o.scene.K[0])) > 0.12 or not set(part.frames) & set(o.frames) for o in chosen):
                chosen.append(part)
        return chosen[:most]

    def finish(self, part: Part) -> tuple[Scene, list[int], np.ndarray, float]:
        """All frames, as `_finish`; what then does not suit the tracks' own noise is taken apart and finished again."""
        done = self._finish(part)
        for _ in range(SOLVER.most_apart):
            if not self._bent(done[0], done[2]):
                break
            self.job.step(1.0, "what moves by itself")
            better = self.apart(part, done[0])
            if better is None:
                break
            again = self._finish(better, self.say_px(max(self.table.noise_px, better.noise_px)))
            if self._miss_px(again[0], again[2]) > (1 - SOLVER.apart_gain) * self._miss_px(done[0], done[2]):
                break  # it went back to where it was
            part, done = better, again
        return done

    def explains(self, scene: Scene, good: np.ndarray) -> bool:
        """Whether a finished scene accounts for most of what was followed, as well as the tracks' own noise lets it."""
        return bool(good.mean() > SOLVER.mostly and self._miss_px(scene, good) < SOLVER.apart_noises * self.table.noise_px)

    def _bent(self, scene: Scene, good: np.ndarray) -> bool:
        """Whether more is left than the tracks' own noise, and neighbours have it in common."""
        noise = self.table.noise_px
        return noise > 0 and self._miss_px(scene, good) > SOLVER.apart_noises * noise and self._in_common(scene, good) > SOLVER.in_common

    def explains_more(self, moving: Scene, turning: Scene) -> bool:
        """Whether a scene over all frames explains clearly more than one of a camera that only turns (its points are directions): it should,
        with a place for each frame and a depth for each point.

        What counts is as close as the better one explains half of the tracks: blur and compression lead tracks further astray than
        their noise shows, and by that alone neither would explain anything.
        """
        everyone = list(range(self.table.frames))
        parts = [self.part(scene, everyone) for scene in (moving, turning)]
        noise = max(self.table.noise_px, min(self._typical_px(part) for part in parts))
        costs = [self.cost(part, noise, 0) for part in parts]
        return costs[0] < costs[1] - SOLVER.move_gain

    def _typical_px(self, part: Part) -> float:
        """Error (rms, of one axis) of the track in the middle of all."""
        rows, often, error = self._errors(part.scene, part.frames)
        track = self.table.track[rows[often]]
        count, square = np.bincount(track), np.bincount(track, error[often] ** 2 / 2)
        return float(np.sqrt(np.median((square / np.maximum(count - 1.5, 1))[count > 0])))

    def _miss_px(self, scene: Scene, good: np.ndarray) -> float:
        """Error of one axis (rms) of the observations that fit, as it would be if cameras and points had not been bent to them."""
        t = self.table
        miss = project(scene, t.frame[good], t.track[good], t.centre)[0] - t.xy[good]
        free = 1 - (3 * len(np.unique(t.track[good])) + 6 * t.frames) / max(2 * len(miss), 1)
        return float(np.sqrt((miss**2).mean() / max(free, 0.1))) if len(miss) else 0.0

    def _in_common(self, scene: Scene, good: np.ndarray) -> float:
        """Share of the squared error that tracks have in common with their neighbours in the picture (-1 to 1). Noise is each track's own,
        also where it lasts; two motions bent to one leave whole neighbourhoods off alike."""
        t, shared, whole = self.table, 0.0, 0.0
        for j in np.unique(np.linspace(0, t.frames - 1, SOLVER.compared).astype(int)):
            rows = t.rows(j)[good[t.rows(j)]]
            if len(rows) > 3 * SOLVER.neighbours:
                miss = project(scene, t.frame[rows], t.track[rows], t.centre)[0] - t.xy[rows]
                near = cKDTree(t.xy[rows]).query(t.xy[rows], SOLVER.neighbours + 1)[1][:, 1:]
                shared, whole = shared + float((miss[:, None] * miss[near]).sum()) / SOLVER.neighbours, whole + float((miss * miss).sum())
        return shared / max(whole, 1e-12)

    def _finish(self, part: Part, say_px: float = np.inf) -> tuple[Scene, list[int], np.ndarray, float]:
        """All frames: fill in what is missing, prune ever closer and adjust. Returns which observations fit, and the limit in px too.

        say_px: error (rms) beyond which a track has no say in it, however wide the limit.
        """
        job, (scene, frames, noise, _) = self.job, part
        job.part(0.7, 0.92)
        noise = max(noise, self.table.noise_px)
        limits = [k * noise for k in (10.0, 7.0, SOLVER.off_noises)]
        scene = self.points(scene, frames, limits[0], spread=max(SOLVER.spread, limits[0] / say_px))
        scene, frames = self.fill(scene, frames)
        for k, limit in enumerate(limits):
            job.part(0.7 + 0.07 * k, 0.77 + 0.07 * k)
            job.step(0, "all frames")
            scene = self.points(scene, frames, limit, spread=max(SOLVER.spread, limit / say_px))
            if len(frames) < self.table.frames:
                scene, frames = self.fill(scene, frames)
            self.good = self.fitting(scene, limit)
            scene = self.adjust(scene, frames, limit / 3, rounds=25, tolerance=1e-4 if k < 2 else 1e-6)
            self.good = np.ones(len(self.table.frame), bool)
        return scene, sorted(frames), self.fitting(scene, limits[-1]), limits[-1]
