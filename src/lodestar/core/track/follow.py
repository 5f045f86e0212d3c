"""Following features through the clip, forward and backward."""

from collections.abc import Callable

import cv2
import msgspec
import numpy as np

from ..basics.errors import TrackError
from ..basics.job import Job
from .features import detect
from .refine import HALF, SIDE, align, take_patches
from .tracks import Tracks, make_tracks

LEAST_LIKENESS = 0.80
AGREE_PX = 0.8  # forward then backward flow must come back this close
LEAST_FRAMES = 6
REPLENISH_EVERY = 5


class FollowSettings(msgspec.Struct, frozen=True):
    """count: tracks to keep in view; spacing_px: least distance between them, at 1280 pixels across."""

    count: int = 320
    spacing_px: float = 14.0


class _Crowd:
    """The features that are being followed, as parallel arrays; `ids` number them through the whole clip."""

    def __init__(self) -> None:
        self.ids = np.zeros(0, np.int64)
        self.xy = np.zeros((0, 2))
        self.step = np.zeros((0, 2))
        self.shapes = np.zeros((0, 2, 2))
        self.patches = np.zeros((0, SIDE, SIDE, 3), np.float32)
        self.inverses = np.zeros((0, 6, 6))

    def keep(self, mask: np.ndarray) -> None:
        for name in ("ids", "xy", "step", "shapes", "patches", "inverses"):
            setattr(self, name, getattr(self, name)[mask])

    def join(self, other: "_Crowd") -> None:
        for name in ("ids", "xy", "step", "shapes", "patches", "inverses"):
            setattr(self, name, np.concatenate([getattr(self, name), getattr(other, name)]))

    def born(self, picture: np.ndarray, points: np.ndarray, first_id: int) -> "_Crowd":
        new = _Crowd()
        n = len(points)
        new.ids = np.arange(first_id, first_id + n)
        new.xy, new.step = points.astype(np.float64), np.zeros((n, 2))
        new.shapes = np.repeat(np.eye(2)[None], n, 0)
        new.patches, new.inverses = np.zeros((n, SIDE, SIDE, 3), np.float32), np.zeros((n, 6, 6))
        take_patches(picture, new.xy, new.patches, new.inverses)
        return new


def _seen(luma: np.ndarray) -> np.ndarray:
    # a light blur makes bilinear sampling unbiased to about 0.01 px, and quiets noise
    return cv2.GaussianBlur(luma, (0, 0), 0.8).astype(np.float32)


def _flow(a: np.ndarray, b: np.ndarray, start: np.ndarray, guess: np.ndarray, levels: int) -> tuple[np.ndarray, np.ndarray]:
    found, ok, _ = cv2.calcOpticalFlowPyrLK(
        a, b, start.astype(np.float32).reshape(-1, 1, 2), guess.astype(np.float32).reshape(-1, 1, 2).copy(),
        winSize=(17, 17), maxLevel=levels, criteria=(cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 20, 0.02),
        flags=cv2.OPTFLOW_USE_INITIAL_FLOW, minEigThreshold=1e-5)  # fmt: skip
    return found.reshape(-1, 2).astype(np.float64), ok.ravel() > 0


def _advance(crowd: _Crowd, before: np.ndarray, now: np.ndarray, seen: np.ndarray, ignore: np.ndarray | None) -> None:
    """Carry the crowd from the frame `before` to `now` (uint8) and drop those that are lost."""
    if len(crowd.ids) == 0:
        return
    height, width = now.shape
    levels = 3 if width <= 1400 else 4
    found, ok = _flow(before, now, crowd.xy, crowd.xy + crowd.step, levels)
    back, ok_back = _flow(now, before, found, crowd.xy, 0)
    ok &= ok_back & (np.linalg.norm(back - crowd.xy, axis=1) < AGREE_PX)
    inside = (found > HALF + 2).all(1) & (found < [width - HALF - 3, height - HALF - 3]).all(1)
    old = crowd.xy
    crowd.xy = found.copy()
    crowd.keep(ok & inside)
    flow, old = found[ok & inside], old[ok & inside]
    likeness = np.zeros(len(crowd.ids))
    align(seen, crowd.patches, crowd.inverses, crowd.shapes, crowd.xy, likeness)
    size = np.abs(np.linalg.det(crowd.shapes)) if len(crowd.ids) else np.zeros(0)
    good = (likeness > LEAST_LIKENESS) & (np.linalg.norm(crowd.xy - flow, axis=1) < 1.5) & (size > 0.25) & (size < 4)
    if ignore is not None and len(crowd.ids):
        column = np.clip(np.round(crowd.xy[:, 0]), 0, width - 1).astype(int)
        row = np.clip(np.round(crowd.xy[:, 1]), 0, height - 1).astype(int)
        good &= ~ignore[row, column]
    crowd.step = crowd.xy - old
    crowd.keep(good)


def follow(
    luma: Callable[[int], np.ndarray], frames: range, settings: FollowSettings, ignore: Callable[[int], np.ndarray | None], job: Job
) -> Tracks:
    """Tracks over `frames`. luma(i): (h, w) uint8; ignore(i): (h, w) bool, True where not to look, or None.

    Forward through the clip with new features where they are thin, then backward for those that were born on the way.
    Frames are asked for one after the other and not held. Raises TrackError when there is too little to follow.
    """
    if len(frames) < 3:
        raise TrackError(
            f"The range holds {len(frames)} frame{'s' * (len(frames) != 1)}; a camera move needs at least 3.",
            "Bring in a longer clip, or widen in and out.",
        )
    crowd, next_id, late = _Crowd(), 0, {}
    rows: list[tuple[int, np.ndarray, np.ndarray]] = []
    before = None
    scale = 1.0
    job.part(0.0, 0.55)
    for number, index in enumerate(frames):
        now = luma(index)
        if before is not None and now.shape != before.shape:
            raise TrackError(f"The picture changes its size at frame {index}.", "Cut the clip there and bring in one part.")
        scale = max(now.shape) / 1280
        seen, hidden = _seen(now), ignore(index)
        if before is not None:
            _advance(crowd, before, now, seen, hidden)
        if number % REPLENISH_EVERY == 0 or len(crowd.ids) < settings.count // 2:
            points = detect(now, hidden, crowd.xy, settings.count, settings.spacing_px * scale)
            new = crowd.born(seen, points, next_id)
            next_id += len(points)
            crowd.join(new)
            if number and len(points):
                late[index] = new
        rows.append((index, crowd.ids.copy(), crowd.xy.copy()))
        before = now
        job.step((number + 1) / len(frames), f"forward, frame {index}")
    job.part(0.55, 1.0)
    _follow_backward(luma, frames, ignore, late, rows, job)
    return _gather(rows)


def _follow_backward(luma, frames: range, ignore, late: dict[int, _Crowd], rows: list, job: Job) -> None:
    """From where each late feature was born, back to where it was first seen."""
    crowd, before = _Crowd(), None
    for number, index in enumerate(reversed(frames)):
        now = luma(index)
        if before is not None and len(crowd.ids):
            _advance(crowd, before, now, _seen(now), ignore(index))
            rows.append((index, crowd.ids.copy(), crowd.xy.copy()))
        if index in late:
            crowd.join(late.pop(index))
        before = now
        job.step((number + 1) / len(frames), f"backward, frame {index}")


def _gather(rows: list) -> Tracks:
    frame = np.concatenate([np.full(len(ids), index) for index, ids, _ in rows])
    ids = np.concatenate([ids for _, ids, _ in rows])
    xy = np.concatenate([xy for _, _, xy in rows])
    long = np.bincount(ids, minlength=1)[ids] >= LEAST_FRAMES if len(ids) else np.zeros(0, bool)
    if not long.any():
        raise TrackError("Nothing in the picture could be followed: it has no texture that stays for six frames.",
                         "A plain or black picture, heavy blur or a cut in every second does this; choose another part of the clip.")  # fmt: skip
    return make_tracks(frame[long], ids[long], xy[long])
