"""What follows from the tracks and the solve of a shot, worked out once for each pair of them, since every view asks for it."""

from collections.abc import Callable
from typing import Any

import numpy as np

from lodestar.core.shot.document import Shot
from lodestar.core.solve.report import Report, report, residuals

_kept: dict[str, Any] = {}


def _once(shot: Shot, what: str, make: Callable[[], Any]) -> Any:
    if _kept.get("tracks") is not shot.tracks or _kept.get("solve") is not shot.solve:
        _kept.clear()
        _kept.update(tracks=shot.tracks, solve=shot.solve)
    if what not in _kept:
        _kept[what] = make()
    return _kept[what]


def errors_of(shot: Shot) -> np.ndarray:
    """Error in px of each observation of the tracks, nan without a solve."""
    tracks, solve = shot.tracks, shot.solve
    assert tracks is not None
    return _once(shot, "errors", lambda: residuals(solve, tracks) if solve is not None else np.full(len(tracks.frame), np.nan))


def mean_errors(shot: Shot) -> np.ndarray:
    """(count,) px: the mean error of each track over all of its frames, also those that the solve left out; nan when unknown."""

    def mean() -> np.ndarray:
        error, tracks = errors_of(shot), shot.tracks
        assert tracks is not None
        known = np.isfinite(error)
        count = np.bincount(tracks.track[known], minlength=tracks.count)
        return np.where(count > 0, np.bincount(tracks.track[known], error[known], minlength=tracks.count) / np.maximum(count, 1), np.nan)

    return _once(shot, "means", mean)


def report_of(shot: Shot) -> Report:
    """The report on the solve of the present tracks; both have to be there."""
    tracks, solve = shot.tracks, shot.solve
    assert tracks is not None and solve is not None
    return _once(shot, "report", lambda: report(solve, tracks, errors_of(shot)))
