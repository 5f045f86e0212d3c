"""Changes to tracks, each a function from tracks to tracks. A track keeps its number for ever, since the solve and the ground
speak of it by number: what is deleted keeps an empty place."""

import msgspec
import numpy as np
from scipy.spatial import cKDTree

from .tracks import Tracks, frozen, spans

NEIGHBOUR_PX = 70.0
SAME_PX = 2.0


def _rebuilt(tracks: Tracks, frame: np.ndarray, track: np.ndarray, xy: np.ndarray, rejected: np.ndarray, keys: np.ndarray) -> Tracks:
    order = np.lexsort((frame, track))
    return msgspec.structs.replace(
        tracks,
        frame=frozen(frame[order].astype(np.int32)),
        track=frozen(track[order].astype(np.int32)),
        xy=frozen(xy[order].astype(np.float64).reshape(-1, 2)),
        rejected=frozen(rejected),
        keys=frozen(keys),
    )


def added(tracks: Tracks, rows: list[tuple[int, np.ndarray, np.ndarray]], least_frames: int = 1, keys: np.ndarray | None = None) -> Tracks:
    """With new tracks. rows: (frame, ids (n,), xy (n, 2)) with ids of their own; tracks under least_frames are left out.

    keys (c, 4): places set by hand (id, frame, x, y), which make these tracks hand-placed.
    """
    frame = np.concatenate([np.full(len(ids), f) for f, ids, _ in rows]) if rows else np.zeros(0, int)
    ids = np.concatenate([i for _, i, _ in rows]) if rows else np.zeros(0, int)
    xy = np.concatenate([p for _, _, p in rows]) if rows else np.zeros((0, 2))
    names, number, count = np.unique(ids, return_inverse=True, return_counts=True)
    keep = count >= least_frames
    new = np.cumsum(keep) - 1 + tracks.count
    mask = keep[number]
    own = np.zeros((0, 4)) if keys is None else keys[np.isin(keys[:, 0], names[keep])].astype(float).copy()
    own[:, 0] = new[np.searchsorted(names, own[:, 0])] if len(own) else own[:, 0]
    return _rebuilt(
        tracks,
        np.r_[tracks.frame, frame[mask]],
        np.r_[tracks.track, new[number][mask]],
        np.concatenate([tracks.xy, xy[mask]]),
        np.r_[tracks.rejected, np.zeros(keep.sum(), bool)],
        np.concatenate([tracks.keys, own]),
    )


def replaced(tracks: Tracks, number: int, frame: np.ndarray, xy: np.ndarray, keys: np.ndarray) -> Tracks:
    """With other observations for one hand-placed track: frame (n,), xy (n, 2), keys (c, 3): frame, x, y."""
    other, own = tracks.track != number, tracks.keys[:, 0] != number
    named = np.c_[np.full(len(keys), float(number)), keys]
    return _rebuilt(
        tracks,
        np.r_[tracks.frame[other], frame],
        np.r_[tracks.track[other], np.full(len(frame), number)],
        np.concatenate([tracks.xy[other], xy]),
        tracks.rejected.copy(),
        np.concatenate([tracks.keys[own], named]),
    )


def deleted(tracks: Tracks, numbers: np.ndarray) -> Tracks:
    """Without the observations of these tracks; their numbers stay empty."""
    keep = ~np.isin(tracks.track, numbers)
    rejected = tracks.rejected.copy()
    rejected[numbers] = True
    return _rebuilt(tracks, tracks.frame[keep], tracks.track[keep], tracks.xy[keep], rejected, tracks.keys[~np.isin(tracks.keys[:, 0], numbers)])


def joined(tracks: Tracks, numbers: np.ndarray) -> Tracks:
    """These tracks as one, under the lowest of their numbers; where two have the same frame, their mean counts.

    Raises ValueError for fewer than two.
    """
    if len(numbers) < 2:
        raise ValueError(f"joining needs two tracks, got {len(numbers)}")
    first = int(np.min(numbers))
    mine = np.isin(tracks.track, numbers)
    frame, place = np.unique(tracks.frame[mine], return_inverse=True)
    count = np.bincount(place)
    xy = np.stack([np.bincount(place, tracks.xy[mine, c]) / count for c in (0, 1)], 1)
    rejected = tracks.rejected.copy()
    rejected[numbers] = True
    rejected[first] = False
    keys = tracks.keys.copy()
    keys[np.isin(keys[:, 0], numbers), 0] = first
    return _rebuilt(
        tracks,
        np.r_[tracks.frame[~mine], frame],
        np.r_[tracks.track[~mine], np.full(len(frame), first)],
        np.concatenate([tracks.xy[~mine], xy]),
        rejected,
        keys,
    )


def lengths(tracks: Tracks) -> np.ndarray:
    """(count,) observations of each track."""
    return np.bincount(tracks.track, minlength=tracks.count)


def lonely(tracks: Tracks, least: int, within_px: float = NEIGHBOUR_PX) -> np.ndarray:
    """Numbers of the tracks that have, on average over their frames, fewer than `least` others within so many px."""
    total = np.zeros(tracks.count)
    for frame in np.unique(tracks.frame):
        rows = tracks.at(frame)
        near = cKDTree(tracks.xy[rows]).query_ball_point(tracks.xy[rows], within_px, return_length=True)
        total[tracks.track[rows]] += near - 1
    count = lengths(tracks)
    return np.flatnonzero((count > 0) & (total < least * count))


def inside(tracks: Tracks, hidden: dict[int, np.ndarray]) -> np.ndarray:
    """Numbers of the tracks of which half of the observations or more lie where hidden[frame] (h, w) bool is set."""
    hit = np.zeros(tracks.count)
    for frame, mask in hidden.items():
        rows = tracks.at(frame)
        x, y = np.clip(np.round(tracks.xy[rows]).astype(int), 0, [mask.shape[1] - 1, mask.shape[0] - 1]).T
        hit += np.bincount(tracks.track[rows], mask[y, x], minlength=tracks.count)
    count = np.zeros(tracks.count)
    count += np.bincount(tracks.track[np.isin(tracks.frame, list(hidden))], minlength=tracks.count)
    return np.flatnonzero((count > 0) & (hit >= 0.5 * count))


def seen_twice(tracks: Tracks, predicted: np.ndarray, error_px: np.ndarray) -> list[tuple[int, int]]:
    """Pairs of tracks that are one point, lost and found again.

    predicted (count, frames of the clip, 2): where the solved point of each track should be seen, nan where unknown;
    error_px (count,): how well it is known. Two tracks are one point where the point of each passes through the other, within
    2 px or three times their errors, while they are never seen together.
    """
    first, last = spans(tracks)
    known = np.flatnonzero(np.isfinite(predicted[:, :, 0]).any(1) & ~tracks.rejected & (last >= 0))
    pairs = []
    for a in known:
        later = known[first[known] > last[a]]
        if len(later) == 0:
            continue
        start = first[later]
        begins = tracks.xy[tracks.starts[later]]
        away = np.linalg.norm(predicted[a, start] - begins, axis=1)
        limit = np.maximum(SAME_PX, 3 * (error_px[a] + error_px[later]))
        for b in later[np.flatnonzero(away < limit)]:
            mine, its = slice(*tracks.starts[a : a + 2]), slice(*tracks.starts[b : b + 2])
            forward = np.median(np.linalg.norm(predicted[a, tracks.frame[its]] - tracks.xy[its], axis=1))
            back = np.median(np.linalg.norm(predicted[b, tracks.frame[mine]] - tracks.xy[mine], axis=1))
            if max(forward, back) < max(SAME_PX, 3 * (error_px[a] + error_px[b])):
                pairs.append((float(forward + back), int(a), int(b)))
    return _one_each(sorted(pairs))


def _one_each(pairs: list[tuple[float, int, int]]) -> list[tuple[int, int]]:
    """Each track goes on in one other at most."""
    after: set[int] = set()
    before: set[int] = set()
    chosen = []
    for _, a, b in pairs:
        if a not in after and b not in before:
            after.add(a)
            before.add(b)
            chosen.append((a, b))
    return chosen


def renumbering(old: Tracks, new: Tracks) -> np.ndarray:
    """(old.count,) the number in `new` of each track of `old`, -1 where none lies on it: the one within SAME_PX in most frames.

    Tracks that were only added to, rejected or joined keep their numbers, so for them this is the identity.
    """
    pairs = []
    for frame in np.intersect1d(old.frame, new.frame):
        a, b = old.at(int(frame)), new.at(int(frame))
        away, near = cKDTree(new.xy[b]).query(old.xy[a], distance_upper_bound=SAME_PX)
        hit = np.isfinite(away)
        pairs.append(np.stack([old.track[a[hit]], new.track[b[near[hit]]]], 1))
    result = np.full(old.count, -1)
    if pairs:
        both, votes = np.unique(np.concatenate(pairs).astype(np.int64), axis=0, return_counts=True)
        order = np.lexsort((both[:, 0] == both[:, 1], votes))  # the last one wins: most frames, then the same number
        result[both[order, 0]] = both[order, 1]
    return result
