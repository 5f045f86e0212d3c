"""From tracks to a solved camera: `solve`, its result, and how well it holds."""

import time

import msgspec
import numpy as np

from ..basics.errors import SolveError
from ..basics.geometry import Lens
from ..basics.job import Job
from ..track.tracks import Tracks, frozen
from .adjust import Scene, lens_deviation, project, seen
from .free import FreeSolver, Lensing
from .turning import finish_turning, keyframe_step, solve_turning, turning_votes
from .views import Table, parallax

LEAST_TRACKS = 24
STILL_PX = 1.0
# Common practice, no source: under 1 px is usable, 0.2 to 0.3 px excellent.
WORDS = ((0.35, "holds"), (0.6, "good"), (1.0, "usable"), (np.inf, "slides"))


class SolveSettings(msgspec.Struct, frozen=True):
    """focal_px: 0 when unknown. motion: 'auto', 'free' or 'turning'. k1, k2: whether they are solved."""

    focal_px: float = 0.0
    motion: str = "auto"
    k1: bool = True
    k2: bool = True


class Solve(msgspec.Struct, frozen=True, eq=False):
    """A solved camera, world to camera, in a frame of reference of its own: z roughly up, the camera path round the origin.

    frames (k,) int32 clip frames; R (k, 3, 3); t (k, 3); frame_error (k,) px; point_ids (m,) int32 tracks; xyz (m, 3);
    point_error (m,) px. lens_deviation: of f, k1, k2. why: what decided between free and turning.
    source: digest of what it was solved from, by which it is known to be stale.
    """

    motion: str
    lens: Lens
    width: int
    height: int
    frames: np.ndarray
    R: np.ndarray
    t: np.ndarray
    frame_error: np.ndarray
    point_ids: np.ndarray
    xyz: np.ndarray
    point_error: np.ndarray
    mean_px: float
    median_px: float
    p95_px: float
    rms_px: float
    inliers: float
    parallax_deg: float
    lens_deviation: tuple[float, float, float]
    tracks: int
    seconds: dict[str, float]
    why: str = ""
    warning: str = ""
    source: str = ""

    @property
    def centres(self) -> np.ndarray:
        """(k, 3) where the camera stood."""
        return -np.einsum("kji,kj->ki", self.R, self.t)

    @property
    def word(self) -> str:
        return next(word for limit, word in WORDS if self.mean_px < limit)


def solve(tracks: Tracks, width: int, height: int, settings: SolveSettings, job: Job) -> Solve:
    """Solve the camera of all frames that the kept tracks reach.

    Raises SolveError, with the reason, for too few tracks, a still camera, no parallax that is no turn either, or a move
    that no camera explains.
    """
    began = time.perf_counter()
    rows = np.flatnonzero(tracks.kept())
    count = len(np.unique(tracks.track[rows]))
    if count < LEAST_TRACKS:
        raise SolveError(f"{count} track{'s are' if count != 1 else ' is'} too few to solve a camera; it needs {LEAST_TRACKS} or more.",
                         "Track again with more features, or bring rejected tracks back.")  # fmt: skip
    first = int(tracks.frame[rows].min())
    table = Table(tracks.frame[rows] - first, tracks.track[rows], tracks.xy[rows], width, height)
    _refuse_still(table)
    lens_free, focal = (settings.k1, settings.k2), settings.focal_px or None
    seconds, warning = {}, ""
    job.part(0.0, 0.25)
    every = keyframe_step(table.frames)
    turned = solve_turning(table, focal, lens_free, every, job)
    share, left_px = turning_votes(table, turned, every)
    seconds["turning"] = time.perf_counter() - began
    turning = settings.motion == "turning" or (settings.motion == "auto" and share > 0.5)
    why = _why(settings.motion, turning, share, left_px)
    if turning:
        job.part(0.4, 1.0)
        scene, good = finish_turning(table, turned, focal, lens_free, job)
        frames = list(range(table.frames))
    else:
        solver = FreeSolver(table, Lensing(np.array([settings.focal_px, 0.0, 0.0]), (focal is None, *lens_free)), job)
        part, warning = solver.from_nothing(None)
        scene, frames, good = solver.finish(part)
        missing = table.frames - len(frames)
        if missing:
            warning = f"{missing} of {table.frames} frames could not be placed: too few points are known there. {warning}".strip()
    seconds["solve"] = time.perf_counter() - began
    return _result(tracks, table, scene, frames, good, first, "turning" if turning else "free", seconds, why, warning)


def _refuse_still(table: Table) -> None:
    low, high = np.full((table.tracks, 2), np.inf), np.full((table.tracks, 2), -np.inf)
    np.minimum.at(low, table.track, table.xy)
    np.maximum.at(high, table.track, table.xy)
    # whatever walks through a still picture moves too, so the middle of all tracks decides
    moved = float(np.median(np.linalg.norm(high - low, axis=1)))
    if moved < STILL_PX * max(1.0, table.width / 1280):
        raise SolveError(f"The camera stands still: half of the tracks move less than {moved:.1f} px over the whole range.",
                         "A still camera needs no solve; choose a part of the clip in which it moves.")  # fmt: skip


def _why(asked: str, turning: bool, share: float, left_px: float) -> str:
    if asked != "auto":
        return f"{asked}, as you asked"
    if turning:
        return f"turning alone explains {share:.0%} of the frame pairs, to {left_px:.2f} px"
    return f"turning alone leaves {left_px:.1f} px, and fits {share:.0%} of the frame pairs"


def _result(tracks: Tracks, table: Table, scene: Scene, frames: list[int], good: np.ndarray, first: int, motion: str,
            seconds: dict, why: str, warning: str) -> Solve:  # fmt: skip
    known = np.zeros(table.frames, bool)
    known[frames] = True
    fit = good & known[table.frame] & np.isfinite(scene.X[table.track, 0])
    if fit.sum() < 100:
        raise SolveError("No camera move explains the tracks.",
                         "Cover what moves by itself (people, water, vehicles), or look whether the clip holds a cut.")  # fmt: skip
    scene = _own_frame(scene, frames, motion)
    p, _ = project(scene._replace(X=np.nan_to_num(scene.X)), table.frame, table.track, table.centre)
    error = np.linalg.norm(p - table.xy, axis=1)
    inside = error[fit]
    ids = np.flatnonzero(np.bincount(table.track, fit, minlength=table.tracks) >= 2)
    spread = parallax(scene.R, table.frame[fit], table.track[fit], table.rays(table.xy[fit], scene.K), table.tracks)[ids]
    number = np.full(table.tracks, -1)
    number[ids] = np.arange(len(ids))
    rows = fit & (number[table.track] >= 0)
    s = seen(table.frame[rows], number[table.track[rows]], table.xy[rows], len(ids))
    noise = float(np.median(inside)) / 1.177  # of one axis: the median of a Rayleigh distribution is 1.177 sigma
    deviation = lens_deviation(scene._replace(X=scene.X[ids]), s, table.centre, noise, motion == "free")
    used = np.array(frames)
    t = -np.einsum("kij,kj->ki", scene.R[used], scene.C[used])
    return Solve(
        motion, Lens(float(scene.K[0]), float(scene.K[0]), *table.centre, float(scene.K[1]), float(scene.K[2])),
        table.width, table.height, frozen((used + first).astype(np.int32)), frozen(scene.R[used]), frozen(t),
        frozen(_mean_by(table.frame[fit], inside, table.frames)[used]), frozen(ids.astype(np.int32)), frozen(scene.X[ids]),
        frozen(_mean_by(table.track[fit], inside, table.tracks)[ids]),
        float(inside.mean()), float(np.median(inside)), float(np.percentile(inside, 95)), float(np.sqrt((inside**2).mean())),
        float(fit.sum() / max(known[table.frame].sum(), 1)), float(np.rad2deg(np.median(spread))), (float(deviation[0]), float(deviation[1]), float(deviation[2])),
        len(ids), {k: round(v, 3) for k, v in seconds.items()}, why, warning,
    )  # fmt: skip


def _mean_by(key: np.ndarray, value: np.ndarray, count: int) -> np.ndarray:
    return np.bincount(key, value, minlength=count) / np.maximum(np.bincount(key, minlength=count), 1)


def _own_frame(scene: Scene, frames: list[int], motion: str) -> Scene:
    """Turn, move and size the scene into the frame of reference that `Solve` promises: the middle depth is 10 units."""
    up = -scene.R[frames, 1, :].mean(0)
    up /= np.linalg.norm(up)
    ahead = scene.R[frames, 2, :].mean(0)
    ahead -= up * (ahead @ up)
    ahead = ahead / max(float(np.linalg.norm(ahead)), 1e-9)
    Q = np.stack([np.cross(ahead, up), ahead, up])
    if motion == "turning":
        return Scene(scene.R @ Q.T, scene.C @ Q.T, 10 * scene.X @ Q.T, scene.K)
    middle = scene.C[frames].mean(0)
    depth = np.nanmedian(np.linalg.norm(scene.X - middle, axis=1))
    return Scene(scene.R @ Q.T, (scene.C - middle) @ Q.T * (10 / depth), (scene.X - middle) @ Q.T * (10 / depth), scene.K)


def residuals(solve: Solve, tracks: Tracks) -> np.ndarray:
    """(n,) px by which each observation misses its solved point; nan where there is no point or camera."""
    frame_at = np.full(int(tracks.frame.max(initial=0)) + 1, -1)
    inside = solve.frames < len(frame_at)
    frame_at[solve.frames[inside]] = np.flatnonzero(inside)
    point_at = np.full(tracks.count, -1)
    point_at[solve.point_ids[solve.point_ids < tracks.count]] = np.flatnonzero(solve.point_ids < tracks.count)
    f, p = frame_at[tracks.frame], point_at[tracks.track]
    rows = np.flatnonzero((f >= 0) & (p >= 0))
    inside_camera = np.einsum("kij,kj->ki", solve.R[f[rows]], solve.xyz[p[rows]]) + solve.t[f[rows]]
    pixels = solve.lens.distort(inside_camera[:, :2] / np.maximum(inside_camera[:, 2:], 1e-9))
    result = np.full(len(tracks.frame), np.nan)
    result[rows] = np.linalg.norm(pixels - tracks.xy[rows], axis=1)
    return result


def region_map(solve: Solve, tracks: Tracks, error: np.ndarray, across: int = 8, down: int = 5) -> tuple[np.ndarray, np.ndarray]:
    """Mean error in px and number of observations, each (down, across), by where in the picture they lie.

    error (n,): the residuals of the tracks in px.
    """
    rows = np.flatnonzero(np.isfinite(error) & (error < 3.0))
    column = np.clip(tracks.xy[rows, 0] * across / solve.width, 0, across - 1).astype(int)
    row = np.clip(tracks.xy[rows, 1] * down / solve.height, 0, down - 1).astype(int)
    cell = row * across + column
    count = np.bincount(cell, minlength=across * down)
    return _mean_by(cell, error[rows], across * down).reshape(down, across), count.reshape(down, across)
