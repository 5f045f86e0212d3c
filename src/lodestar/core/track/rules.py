"""Which tracks a rule means: far off, short, alone, in a region, or rejected."""

from collections.abc import Callable

import numpy as np

from .edit import inside, lengths, lonely
from .tracks import Tracks

EVERY = 3  # frames; a track that runs through a region is in it in one of so many


def meant_by(rule: str, tracks: Tracks, limit: float, error_px: np.ndarray, hidden: Callable[[int], np.ndarray | None]) -> np.ndarray:
    """Numbers of the tracks that a rule means, among those that are kept (but for the rule 'rejected').

    rule: 'error' (mean error over `limit` px), 'short' (under `limit` frames), 'lonely' (fewer than `limit` others near), 'inside'
    (half of it or more where hidden(frame) (h, w) is set) or 'rejected'. error_px (count,): mean error of each, nan where unknown.
    """
    if rule == "rejected":
        return np.flatnonzero(tracks.rejected & (lengths(tracks) > 0))
    if rule == "error":
        found = np.flatnonzero(np.nan_to_num(error_px) > limit)
    elif rule == "short":
        found = np.flatnonzero((lengths(tracks) < limit) & (lengths(tracks) > 0))
    elif rule == "lonely":
        found = lonely(tracks, round(limit))
    else:
        masks = {int(f): hidden(int(f)) for f in np.unique(tracks.frame)[::EVERY]}
        found = inside(tracks, {f: m for f, m in masks.items() if m is not None})
    return found[~tracks.rejected[found]]
