"""A camera that stands still: one pose for all frames, or one that trembles by less than a few px."""

import numpy as np

from ..basics.job import Job
from .adjust import Scene, adjust, project, seen
from .constants import SOLVER
from .lensing import Lensing
from .turning import fitting_turning, noise_limit
from .views import Table

LASTS = 60  # frames that a track has to be seen to tell that it stands still, in a clip that is long enough; half of a long one
PARTS = 8, 5  # of the picture, across and down


def turn_px(scene: Scene, frames: list[int]) -> float:
    """By how many px the picture moves at most, from the middle of a camera's poses, where all that it does is turn."""
    R = scene.R[frames]
    u, _, v = np.linalg.svd(R.sum(0))
    return float(scene.K[0] * np.linalg.norm(R - (u @ v), axis=(1, 2)).max() / np.sqrt(2))


def way_px(table: Table) -> float:
    """The middle over all tracks of how far each moves in the picture: whatever walks through a still one moves, too."""
    low, high = np.full((table.tracks, 2), np.inf), np.full((table.tracks, 2), -np.inf)
    np.minimum.at(low, table.track, table.xy)
    np.maximum.at(high, table.track, table.xy)
    here = np.isfinite(low[:, 0])
    return float(np.median(np.linalg.norm(high[here] - low[here], axis=1)))


def still_parts(table: Table) -> float:
    """Share of the parts of the picture in which something that lasts stands still, of those in which something lasts; 0 where they lie in fewer than three
    quarters of it: what goes with a camera, as a bonnet, is at one side."""
    count, middle = np.bincount(table.track, minlength=table.tracks), np.stack([_medians(table, axis) for axis in range(2)], 1)
    square = np.bincount(table.track, ((table.xy - middle[table.track]) ** 2).sum(1), table.tracks)
    lasts = count >= min(table.frames, max(LASTS, table.frames / 2))
    still = lasts & (square <= count * (SOLVER.still_off_px * max(1.0, table.width / 1280)) ** 2)
    of = lambda which, across, down: np.unique((middle[which] * [across, down] / [table.width, table.height]).astype(int), axis=0)
    return len(of(still, *PARTS)) / len(of(lasts, *PARTS)) if len(of(still, 2, 2)) > 2 else 0.0


def of_still_camera(lens: Lensing, width: int) -> Lensing:
    """What is known of the lens, and the usual one for what is not: a camera that stands still does not show it."""
    return Lensing(np.where(lens.K != 0, lens.K, [SOLVER.usual_focal * width, 0, 0]), (False, False, False))


def finish_standing(table: Table, lens: Lensing, job: Job) -> tuple[Scene, list[int], np.ndarray, float]:
    """All frames of a still camera, as of `turning.finish_turning`. lens: as of `of_still_camera`.

    That it trembles is believed where the left and the right half of the picture tell the same of it: what moves by itself, and noise, they do not share.
    """
    job.step(0.0, "still camera")
    still = np.repeat(np.eye(3)[None], table.frames, 0)
    middle = np.stack([_medians(table, axis) for axis in range(2)], 1)
    scene = Scene(still, np.zeros((table.frames, 3)), np.full((table.tracks, 3), np.nan), lens.K)
    here = np.isfinite(middle[:, 0])
    scene.X[here] = table.rays(middle[here], lens.K)
    limit = noise_limit(table, scene, 1.0)
    good = fitting_turning(table, scene, limit, SOLVER.spread)
    # what moves by itself, may it be most of the picture, has no say in the end
    least = float(np.clip(SOLVER.off_noises * table.noise_px, 1.0, limit))
    for k in range(2):
        job.step((1 + k) / 3, "whether the camera trembles")
        if not _trembles(table, scene._replace(R=still), good):
            R = still
            break
        s = seen(table.frame[good], table.track[good], table.xy[good], table.tracks)
        scene, _ = adjust(scene, s, table.centre, loss_px=limit / 3, move=False, lens=lens.vary, rounds=25, job=job)
        R, limit = scene.R, least
        good = fitting_turning(table, scene, limit, SOLVER.spread)
    scene = scene._replace(R=R)
    good = fitting_turning(table, scene, least, SOLVER.spread)
    scene.X[np.bincount(table.track, good, table.tracks) == 0] = np.nan
    return scene, list(range(table.frames)), good, least


def _medians(table: Table, axis: int) -> np.ndarray:
    """(tracks,) px along an axis where each track is most of the time, nan for those that are not seen."""
    order = np.lexsort((table.xy[:, axis], table.track))
    count = np.bincount(table.track, minlength=table.tracks)
    found = np.full(table.tracks, np.nan)
    first = np.cumsum(count) - count
    found[count > 0] = table.xy[order[(first + count // 2)[count > 0]], axis]
    return found


def _trembles(table: Table, scene: Scene, good: np.ndarray) -> bool:
    """Whether both halves of the picture move alike against a still camera, by more than they differ."""
    long = np.bincount(table.track, minlength=table.tracks) >= min(SOLVER.still_frames, table.frames // 2)
    rows = np.flatnonzero(good & long[table.track])
    miss = table.xy[rows] - project(scene, table.frame[rows], table.track[rows], table.centre)[0]
    halves = np.full((2, table.frames, 2), np.nan)
    left = scene.X[table.track[rows], 0] < 0
    for half, side in enumerate((left, ~left)):
        order = np.argsort(table.frame[rows[side]], kind="stable")
        parts = np.split(miss[side][order], np.searchsorted(table.frame[rows[side]][order], np.arange(1, table.frames)))
        for j, part in enumerate(parts):
            if len(part) >= SOLVER.still_tracks:
                halves[half, j] = np.median(part, 0)
    both = halves[:, np.isfinite(halves).all((0, 2))]
    if both.shape[1] < SOLVER.still_frames // 2:
        return False
    both -= both.mean(1, keepdims=True)
    shared, apart = float((both[0] * both[1]).mean()), float(((both[0] - both[1]) ** 2).mean())
    return shared > max(apart / 2, SOLVER.tremble_px**2 / 2)
