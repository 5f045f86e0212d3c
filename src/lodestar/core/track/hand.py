"""Tracks that the user asks for: more of them in one place, and one placed by hand and corrected."""

from collections.abc import Callable

import numpy as np

from ..basics.errors import TrackError
from ..basics.job import Job
from .features import EDGE_PX, detect, noise_of
from .follow import Crowd, Follower, FollowSettings, flow, reduced

AHEAD = 24  # frames that are read at once, so that going backward costs no more than going forward
Luma = Callable[[int], np.ndarray]
Rows = list[tuple[int, np.ndarray, np.ndarray]]
CLOSER = 0.5  # of the usual spacing


class Reel:
    """Frames in any order from a reader that likes them one after the other."""

    def __init__(self, luma: Luma, frames: range) -> None:
        self.luma, self.frames = luma, frames
        self.kept: dict[int, np.ndarray] = {}

    def __call__(self, index: int) -> np.ndarray:
        if index not in self.kept:
            low = max(index - AHEAD + 1, self.frames[0]) if index + 1 in self.kept else index
            fresh = {i: self.luma(i) for i in range(low, index + 1)}
            self.kept = {**{i: p for i, p in self.kept.items() if abs(i - index) <= 1}, **fresh}
        return self.kept[index]


def carry(
    reel: Reel, crowd: Crowd, order: range, ignore: Callable[[int], np.ndarray | None], slack_px: float, job: Job, part: tuple[float, float]
) -> Rows:
    """Follow a crowd from the first frame of `order` along it until nothing is left of it; rows of all frames but the first."""
    rows: Rows = []
    judge = Follower(FollowSettings(), ignore)
    judge.noise = min(noise_of(reel(order[0])), 12.0)
    for done, (a, b) in enumerate(zip(order, order[1:])):
        job.step(part[0] + (part[1] - part[0]) * done / len(order), f"frame {b}")
        before, now = reel(a), reel(b)
        small = reduced(before)
        guess, found = flow(small, reduced(now), crowd, before.shape[1] / small.shape[1])
        crowd.keep(found)
        crowd.settle(before, now, guess[found], judge.least(crowd), judge.agree_px(crowd), ignore(b), slack_px)
        if len(crowd.ids) == 0:
            break
        rows.append((b, crowd.ids, crowd.xy))
    return rows


def more_here(
    luma: Luma,
    frames: range,
    frame: int,
    place: np.ndarray,
    taken: np.ndarray,
    settings: FollowSettings,
    least_frames: int,
    ignore: Callable[[int], np.ndarray | None],
    job: Job,
) -> Rows:
    """Every feature of frame `frame` inside the place (h, w) bool, followed both ways; those under least_frames are left out.

    taken (m, 2): px of the tracks that are there already. Raises TrackError when none is found, or none lives that long.
    """
    reel = Reel(luma, frames)
    picture = reel(frame)
    spacing = max(settings.spacing_px * CLOSER * max(picture.shape) / 1280, 4.0)
    points = detect(picture, ~place, taken, 4000, spacing)
    if len(points) == 0:
        raise TrackError(
            "There is nothing more to follow in that place: it is too plain, or full of tracks already.",
            "Draw round a corner, a post or a rough patch, or choose another frame.",
        )
    rows: Rows = [(frame, np.arange(len(points)), points.astype(np.float64))]
    rows += carry(reel, Crowd(picture, points), range(frame, frames[-1] + 1), ignore, 2.0 * picture.shape[1] / 1280, job, (0.0, 0.5))
    rows += carry(reel, Crowd(picture, points), range(frame, frames[0] - 1, -1), ignore, 2.0 * picture.shape[1] / 1280, job, (0.5, 1.0))
    lived = np.bincount(np.concatenate([ids for _, ids, _ in rows]), minlength=len(points))
    if (lived < least_frames).all():
        raise TrackError(
            f"{len(points)} features were tried there, but none could be followed for {least_frames} frames (the longest for {lived.max()}).",
            "Ask for fewer frames, or draw at a frame in which the place is seen sharply.",
        )
    return [(f, ids[lived[ids] >= least_frames], xy[lived[ids] >= least_frames]) for f, ids, xy in rows]


def follow_by_hand(luma: Luma, frames: range, keys: np.ndarray, search_px: float, job: Job) -> tuple[np.ndarray, np.ndarray]:
    """One track through the places set by hand. keys (c, 3): frame, x, y. Returns its frames (n,) and px (n, 2).

    From each key it is followed both ways; between two keys both ways are blended, so that it passes through either. search_px:
    how far from where flow leads it may be found.
    Raises TrackError for a key at the very edge of the picture.
    """
    keys = keys[np.argsort(keys[:, 0])]
    reel = Reel(luma, frames)
    place: dict[int, tuple[np.ndarray, float]] = {}
    for k, (at, x, y) in enumerate(keys):
        frame = int(at)
        picture = reel(frame)
        if not (EDGE_PX < x < picture.shape[1] - EDGE_PX and EDGE_PX < y < picture.shape[0] - EDGE_PX):
            raise TrackError(f"That place is within {EDGE_PX} px of the picture's edge, too near to be followed.", "Choose a place further in.")
        place[frame] = np.array([x, y]), 1.0
        before = int(keys[k - 1, 0]) if k else frames[0] - 1
        after = int(keys[k + 1, 0]) if k + 1 < len(keys) else frames[-1] + 1
        share = k / len(keys), (k + 1) / len(keys)
        for stop, order in ((after, range(frame, after)), (before, range(frame, before, -1))):
            if len(order) < 2:
                continue
            for index, _, xy in carry(reel, Crowd(picture, np.array([[x, y]])), order, lambda i: None, search_px, job, share):
                weight = 1.0 - abs(index - frame) / abs(stop - frame)
                old, have = place.get(index, (np.zeros(2), 0.0))
                place[index] = (old * have + xy[0] * weight) / max(have + weight, 1e-9), have + weight
    numbers = np.array(sorted(place))
    return numbers, np.array([place[i][0] for i in numbers])
