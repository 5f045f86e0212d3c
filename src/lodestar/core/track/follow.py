"""Following features through the clip, forward and backward."""

from collections import deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import cv2
import msgspec
import numpy as np
from scipy.spatial import cKDTree

from ..basics.errors import TrackError
from ..basics.job import Job
from .features import detect, noise_of
from .refine import HALF, QUIETED, SIDE, align, place_alone, return_error, take_patches
from .tracks import Tracks, make_tracks

LEAST_LIKENESS = 0.8
AGREE_PX = 0.8  # forward then backward flow must come back this close
AGREE_SHARE = 0.1  # of its way since the frame before, or this close: what moves fast is blurred, and lies less exactly along its blur
LEAST_FRAMES = 6
REPLENISH_EVERY = 5
LOOK_BACK = 20  # frames that are kept, through which new features are followed backward
FLOW_WIDTH = 1400  # wider pictures are reduced for the flow, which only has to come within a pixel or two


class FollowSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """count: tracks to keep in view; spacing_px: least distance between them, at 1280 pixels across. contrast, blur_px: what
    the tracker is shown, as in `preprocess.prepare`."""

    count: int = 320
    spacing_px: float = 14.0
    contrast: float = 0.0
    blur_px: float = 0.0


class Crowd:
    """The features that are being followed, as parallel arrays; `ids` number them through the whole clip."""

    NAMES = ("ids", "xy", "step", "shapes", "patches", "inverses", "spread")

    def __init__(self, picture: np.ndarray | None = None, points: np.ndarray | None = None, first_id: int = 0) -> None:
        """Features at points (n, 2) px of picture (h, w) uint8, each with its first appearance."""
        self.xy = np.zeros((0, 2)) if points is None else points.astype(np.float64)
        n = len(self.xy)
        self.ids, self.step = np.arange(first_id, first_id + n), np.zeros((n, 2))
        self.shapes = np.repeat(np.eye(2)[None], n, 0)
        self.patches, self.inverses, self.spread = np.zeros((n, 3, SIDE, SIDE), np.float32), np.zeros((n, 6, 6)), np.zeros(n)
        if picture is not None:
            take_patches(picture, self.xy, self.patches, self.inverses, self.spread)

    def keep(self, mask: np.ndarray) -> None:
        for name in self.NAMES:
            setattr(self, name, getattr(self, name)[mask])

    def join(self, other: "Crowd") -> None:
        for name in self.NAMES:
            setattr(self, name, np.concatenate([getattr(self, name), getattr(other, name)]))

    def settle(
        self,
        before: np.ndarray,
        now: np.ndarray,
        guess: np.ndarray,
        least: np.ndarray,
        agree_px: np.ndarray,
        ignore: np.ndarray | None,
        slack_px: float,
    ) -> np.ndarray:
        """Go on to the picture `now` from the guess (n, 2) of where each feature is there; drop those that are lost.

        least (n,): how alike a patch must be to its first appearance. agree_px (n,): how near the way back must end to where it
        began, at least. slack_px: how far from the guess it may be found.
        Returns the mask of those that were kept.
        """
        height, width = now.shape
        start, likeness, back = self.xy, np.zeros(len(self.ids)), np.zeros(len(self.ids))
        at, shapes = np.clip(guess, 0, [width - 1, height - 1]), self.shapes.copy()
        self.xy = at.copy()
        align(now, self.patches, self.inverses, self.shapes, self.xy, likeness, slack_px + 1.0)
        # motion blur wipes out along its way what tells a patch's shape: those it leads astray keep the shape that they had
        astray = np.flatnonzero(likeness < 0)
        if len(astray):
            again, kept_shapes, found = at[astray], shapes[astray], np.zeros(len(astray))
            align(now, self.patches[astray], place_alone(self.inverses[astray]), kept_shapes, again, found, slack_px + 1.0)
            self.xy[astray], self.shapes[astray], likeness[astray] = again, kept_shapes, found
        # blur and haste take likeness from all of them at once, which is no reason to let all of them go
        usual = float(np.median(likeness[likeness > 0])) if (likeness > 0).any() else 1.0
        good = (likeness > least * usual) & (np.linalg.norm(self.xy - guess, axis=1) < slack_px)
        good &= (self.xy > HALF + 2).all(1) & (self.xy < [width - HALF - 3, height - HALF - 3]).all(1)
        return_error(before, now, start, np.where(good[:, None], self.xy, 0.0), back)
        good &= back < np.maximum(agree_px, AGREE_SHARE * np.linalg.norm(self.xy - start, axis=1))
        size = np.abs(np.linalg.det(self.shapes)) if len(self.ids) else np.zeros(0)
        good &= (size > 0.25) & (size < 4)
        if ignore is not None and len(self.ids):
            column, row = np.clip(np.round(self.xy), 0, [width - 1, height - 1]).astype(int).T
            good &= ~ignore[row, column]
        self.step = self.xy - start
        self.keep(good)
        return good


class Follower:
    """One walk through the clip. Frames are asked for one after the other; the last few are kept to look back."""

    def __init__(self, settings: FollowSettings, ignore: Callable[[int], np.ndarray | None]) -> None:
        self.settings, self.ignore = settings, ignore
        self.crowd, self.born, self.taken, self.noise = Crowd(), 0, 0, 1.0
        self.kept: deque[tuple[int, np.ndarray, np.ndarray | None]] = deque(maxlen=LOOK_BACK)
        self.small: np.ndarray | None = None
        self.rows: list[tuple[int, np.ndarray, np.ndarray]] = []
        self.at: dict[int, tuple[np.ndarray, np.ndarray]] = {}  # frame -> (ids, xy) of the crowd, for those kept

    def least(self, crowd: Crowd) -> np.ndarray:
        """(n,) likeness that is asked of each: noise alone lowers it, the more the weaker the patch."""
        share = (QUIETED * self.noise / np.maximum(crowd.spread, 1e-3)) ** 2
        return LEAST_LIKENESS * np.clip(1 - share, 0.55, 1.0)

    def agree_px(self, crowd: Crowd) -> np.ndarray:
        """(n,) how near the way back must end: noise alone lets it miss, by what the patch's slopes are worth."""
        place = np.trace(crowd.inverses[:, 4:, 4:], axis1=1, axis2=2)  # px^2 for a noise as large as the patch's own spread
        return np.clip(8.0 * self.noise / np.maximum(crowd.spread, 1e-3) * np.sqrt(place), AGREE_PX, 2.5)

    def take(self, index: int, now: np.ndarray) -> None:
        """The next frame, (h, w) uint8."""
        if self.kept and now.shape != self.kept[-1][1].shape:
            raise TrackError(f"The picture changes its size at frame {index}.", "Cut the clip there and bring in one part.")
        hidden, small = self.ignore(index), reduced(now)
        if self.small is not None and len(self.crowd.ids):
            scale = now.shape[1] / small.shape[1]
            guess, found = flow(self.small, small, self.crowd, scale)
            self.crowd.keep(found)
            self.crowd.settle(self.kept[-1][1], now, guess[found], self.least(self.crowd), self.agree_px(self.crowd), hidden, 2.0 * scale)
        self.kept.append((index, now, hidden))
        self.small = small
        self.at[index] = (self.crowd.ids, self.crowd.xy)
        self.at.pop(index - LOOK_BACK, None)
        self.taken += 1
        if self.taken % REPLENISH_EVERY == 1 or len(self.crowd.ids) < self.settings.count // 2:
            self.replenish(index, now, hidden)
        self.rows.append((index, self.crowd.ids, self.crowd.xy))

    def replenish(self, index: int, now: np.ndarray, hidden: np.ndarray | None) -> None:
        self.noise = min(noise_of(now), 12.0)
        points = detect(now, hidden, self.crowd.xy, self.settings.count, self.settings.spacing_px * max(now.shape) / 1280)
        new = Crowd(now, points, self.born)
        self.born += len(points)
        if len(self.kept) > 1 and len(points):
            self.look_back(new)
        self.crowd.join(new)

    def look_back(self, new: Crowd) -> None:
        """New features, through the frames that are kept, to where each was first seen. The crowd's own motion is the guess."""
        crowd = Crowd()
        crowd.join(new)
        frames = list(self.kept)
        ids, xy = self.crowd.ids, self.crowd.xy
        near: _Near | None = None
        for (_, now, _), (index, before, hidden) in zip(frames[::-1], frames[-2::-1]):
            old_ids, old_xy = self.at.get(index, (ids[:0], xy[:0]))
            both, a, b = np.intersect1d(ids, old_ids, return_indices=True)
            if len(both) < 4 or len(crowd.ids) == 0:
                break
            if near is None or len(near.where) != len(crowd.ids) or not near.serves(both):
                near = _Near(both, xy[a], crowd.xy)
            guess = crowd.xy + near.motion(both, old_xy[b] - xy[a])
            kept = crowd.settle(now, before, guess, self.least(crowd), self.agree_px(crowd), hidden, 2.5)
            if not kept.all():
                near = near.less(kept)
            self.rows.append((index, crowd.ids, crowd.xy))
            ids, xy = old_ids, old_xy


def reduced(luma: np.ndarray, most: int = FLOW_WIDTH) -> np.ndarray:
    """The picture, by a whole number smaller: no side is longer than `most` pixels."""
    reduce = int(np.ceil(max(luma.shape) / most))
    return luma if reduce == 1 else cv2.resize(luma, (luma.shape[1] // reduce, luma.shape[0] // reduce), interpolation=cv2.INTER_AREA)


def flow(before: np.ndarray, now: np.ndarray, crowd: Crowd, scale: float) -> tuple[np.ndarray, np.ndarray]:
    """Where flow carries each feature, (n, 2) px of the full picture, and whether it found it. `scale`: the pictures are reduced by."""
    start = ((crowd.xy + 0.5) / scale - 0.5).astype(np.float32).reshape(-1, 1, 2)
    guess = start + (crowd.step / scale).astype(np.float32).reshape(-1, 1, 2)
    found, ok, _ = cv2.calcOpticalFlowPyrLK(
        before,
        now,
        start,
        guess,
        winSize=(15, 15),
        maxLevel=3,
        criteria=(cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 10, 0.05),
        flags=cv2.OPTFLOW_USE_INITIAL_FLOW,
        minEigThreshold=1e-5,
    )
    return (found.reshape(-1, 2).astype(np.float64) + 0.5) * scale - 0.5, ok.ravel() > 0


class _Near:
    """Which of the known features lie nearest to each new one; found once and used while enough of them are still known."""

    def __init__(self, ids: np.ndarray, at: np.ndarray, where: np.ndarray, count: int = 6) -> None:
        """ids (m,) sorted, at (m, 2): the known; where (n, 2): the new."""
        self.where = where
        self.ids = ids[cKDTree(at).query(where, min(count, len(ids)))[1].reshape(len(where), -1)]

    def serves(self, ids: np.ndarray) -> bool:
        return bool(np.isin(self.ids, ids).sum(1).min() >= min(3, self.ids.shape[1]))

    def less(self, kept: np.ndarray) -> "_Near":
        self.where, self.ids = self.where[kept], self.ids[kept]
        return self

    def motion(self, ids: np.ndarray, motion: np.ndarray) -> np.ndarray:
        """(n, 2): the median over the nearest, of those that are known now: ids (m,) sorted, motion (m, 2)."""
        place = np.minimum(np.searchsorted(ids, self.ids), len(ids) - 1)
        known = ids[place] == self.ids
        return np.nanmedian(np.where(known[..., None], motion[place], np.nan), axis=1)


def follow(
    luma: Callable[[int], np.ndarray], frames: range, settings: FollowSettings, ignore: Callable[[int], np.ndarray | None], job: Job
) -> Tracks:
    """Tracks over `frames`. luma(i): (h, w) uint8; ignore(i): (h, w) bool, True where not to look, or None.

    Once through the clip, with new features where they are thin; each new one is at once followed backward too, through
    the last frames. Each position is found by the feature's first appearance (so it does not drift), and only kept when the
    way back from it ends where it began. Raises TrackError when there is too little to follow.
    """
    if len(frames) < 3:
        raise TrackError(
            f"The range holds {len(frames)} frame{'s' * (len(frames) != 1)}; a camera move needs at least 3.",
            "Bring in a longer clip, or widen in and out.",
        )
    follower = Follower(settings, ignore)
    with ThreadPoolExecutor(1, thread_name_prefix="reader") as reader:  # the next frame is read while this one is followed
        coming = reader.submit(luma, frames[0])
        for number, index in enumerate(frames):
            now = coming.result()
            if number + 1 < len(frames):
                coming = reader.submit(luma, frames[number + 1])
            follower.take(index, now)
            job.step((number + 1) / len(frames), f"frame {index}")
    return _gather(follower.rows)


def _gather(rows: list) -> Tracks:
    frame = np.concatenate([np.full(len(ids), index) for index, ids, _ in rows])
    ids = np.concatenate([ids for _, ids, _ in rows])
    xy = np.concatenate([xy for _, _, xy in rows])
    long = np.bincount(ids, minlength=1)[ids] >= LEAST_FRAMES if len(ids) else np.zeros(0, bool)
    if not long.any():
        raise TrackError(
            "Nothing in the picture could be followed: it has no texture that stays for six frames.",
            "A plain or black picture, heavy blur or a cut in every second does this; choose another part of the clip.",
        )
    return make_tracks(frame[long], ids[long], xy[long])
