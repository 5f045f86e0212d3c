"""Where in the picture something moves by itself, told by the tracks that no standing point explains."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import ConvexHull, cKDTree

from .edit import lengths
from .tracks import Tracks

CORNERS = 12
EVERY = 4  # frames between two drawn ones
LEAST_TRACKS, LEAST_FRAMES = 4, 8
STANDS_PX = 1.0  # at 1280 pixels across
TOUCH_PX, MARGIN_PX = 90.0, 26.0


def moving_tracks(tracks: Tracks, error: np.ndarray, width: int) -> np.ndarray:
    """(count,) bool: tracks that do not stand. error (n,): px by which each observation misses where its track stands; nan unknown."""
    known = np.isfinite(error)
    square = np.bincount(tracks.track[known], error[known] ** 2, minlength=tracks.count)
    count = np.bincount(tracks.track[known], minlength=tracks.count)
    return (lengths(tracks) >= LEAST_FRAMES) & ~tracks.rejected & (square > (STANDS_PX * width / 1280) ** 2 * np.maximum(count, 1))


def moving_regions(tracks: Tracks, error: np.ndarray, width: int, height: int) -> list[dict[int, np.ndarray]]:
    """Regions round what moves by itself, the longest first: for each, frame -> corners (12, 2) px, which belong together over time.

    error: as in `moving_tracks`. Tracks that move and lie near one another are one region; so are those of the frame before that
    share tracks or overlap.
    """
    scale = width / 1280
    moves = moving_tracks(tracks, error, width)
    open_: list[tuple[dict[int, np.ndarray], set[int], np.ndarray]] = []
    done: list[dict[int, np.ndarray]] = []
    for frame in np.unique(tracks.frame)[::EVERY]:
        rows = tracks.at(frame)
        rows = rows[moves[tracks.track[rows]]]
        found = []
        for group in _groups(tracks.xy[rows], TOUCH_PX * scale):
            if len(group) >= LEAST_TRACKS:
                found.append((set(tracks.track[rows[group]].tolist()), _outline(tracks.xy[rows[group]], MARGIN_PX * scale, width, height)))
        still = []
        for region, names, middle in open_:
            match = next(
                (k for k, (own, line) in enumerate(found) if own & names or np.linalg.norm(line.mean(0) - middle) < 1.5 * TOUCH_PX * scale), None
            )
            if match is None:
                done.append(region)
                continue
            own, line = found.pop(match)
            region[int(frame)] = line
            still.append((region, own, line.mean(0)))
        open_ = still + [({int(frame): line}, own, line.mean(0)) for own, line in found]
    done += [region for region, _, _ in open_]
    return sorted((r for r in done if len(r) >= 3), key=len, reverse=True)


def _groups(xy: np.ndarray, touch: float) -> list[np.ndarray]:
    if len(xy) == 0:
        return []
    pairs = cKDTree(xy).query_pairs(touch, output_type="ndarray")
    links = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), (len(xy),) * 2)
    count, label = connected_components(links, directed=False)
    return [np.flatnonzero(label == k) for k in range(count)]


def _outline(xy: np.ndarray, margin: float, width: int, height: int) -> np.ndarray:
    """(12, 2) corners of the convex line round points, and a margin: on rays from the middle of what they span, at angles that are even
    where that is made square, so that a corner stays on the same part of what moves and the four outermost are kept."""
    low, high = xy.min(0) - margin, xy.max(0) + margin
    middle, half = (low + high) / 2, (high - low) / 2
    angle = 2 * np.pi * (np.arange(CORNERS) + 0.5) / CORNERS
    way = np.stack([np.cos(angle), np.sin(angle)], 1)
    # a square of the margin's size round each point, so that few or one of them make a shape too
    square = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * margin
    round_all = (xy[:, None] + square).reshape(-1, 2)
    sides = ConvexHull((round_all - middle) / half).equations  # outward normal and minus its distance, of each side
    reach = np.min(-sides[:, 2] / np.maximum(way @ sides[:, :2].T, 1e-9), axis=1)
    return np.clip(middle + reach[:, None] * way * half, [-margin, -margin], [width + margin, height + margin])
