"""The pieces of a clip that tracks lead through: at a cut, or where nothing can be followed, hardly a track goes on."""

import numpy as np

from ..track.tracks import Tracks, spans
from .constants import SOLVER


def links(first: np.ndarray, last: np.ndarray, frames: int) -> np.ndarray:
    """(frames - 1,) how many tracks lead from each frame to the next. first, last (n,): frames of each track; last is -1 for an empty one."""
    crossing = np.zeros(frames + 1, int)
    there = last >= 0
    np.add.at(crossing, first[there], 1)
    np.add.at(crossing, last[there], -1)
    return np.cumsum(crossing)[: frames - 1]


def pieces(tracks: Tracks) -> list[tuple[int, int]]:
    """First and last frame of each piece of two frames or more, in order; one piece where nothing breaks. Rejected tracks do not count."""
    first, last = spans(tracks)
    kept = (last >= 0) & ~tracks.rejected
    if not kept.any():
        return []
    begin, end = int(first[kept].min()), int(last[kept].max())
    breaks = np.flatnonzero(links(first[kept] - begin, last[kept] - begin, end - begin + 1) < SOLVER.least_link)
    edges = np.r_[0, breaks + 1, end - begin + 1]
    return [(int(a) + begin, int(b) - 1 + begin) for a, b in zip(edges, edges[1:]) if b - a >= 2]
