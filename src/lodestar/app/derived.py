"""What follows from the tracks and the solve of a shot, worked out once for each pair of them, since every view asks for it."""

from collections.abc import Callable
from typing import Any

import numpy as np

from lodestar.core.edits.arrange import place_of
from lodestar.core.evaluate.cameras import scene_frame, slip_at
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Object
from lodestar.core.solve.pieces import pieces
from lodestar.core.solve.report import Report, report, residuals
from lodestar.core.solve.spread import point_covariances

_kept: dict[str, Any] = {}


def _once(shot: Shot, what: str, make: Callable[[], Any]) -> Any:
    if _kept.get("tracks") is not shot.tracks or _kept.get("solve") is not shot.solve:
        _kept.clear()
        _kept.update(tracks=shot.tracks, solve=shot.solve)
    if what not in _kept:
        _kept[what] = make()
    return _kept[what]


def with_errors(shot: Shot) -> tuple[Shot, np.ndarray]:
    """A solved shot and the errors of its observations: worked out by the job that solved it, since a long clip takes a while."""
    assert shot.solve is not None and shot.tracks is not None
    return shot, residuals(shot.solve, shot.tracks)


def keep_errors(shot: Shot, errors: np.ndarray) -> None:
    """What `with_errors` worked out is known from here on."""
    _kept.clear()
    _kept.update(tracks=shot.tracks, solve=shot.solve, errors=errors)


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


def pieces_of(shot: Shot) -> list[tuple[int, int]]:
    """First and last frame of each piece of the clip that tracks lead through; none without tracks."""
    tracks = shot.tracks
    return _once(shot, "pieces", lambda: pieces(tracks)) if tracks is not None else []


def report_of(shot: Shot) -> Report:
    """The report on the solve of the present tracks; both have to be there."""
    tracks, solve = shot.tracks, shot.solve
    assert tracks is not None and solve is not None
    return _once(shot, "report", lambda: report(solve, tracks, errors_of(shot)))


def points_of(shot: Shot) -> np.ndarray:
    """(m, 3) the solved points in the scene; none without a camera that moves, whose points are mere directions otherwise."""
    solve = shot.solve
    if solve is None or solve.motion != "free":
        return np.zeros((0, 3))
    return _in_scene(shot, "points", lambda: scene_frame(shot).points(solve.xyz))


def path_of(shot: Shot) -> np.ndarray:
    """(k, 3) where the solved camera stood, in the scene."""
    solve = shot.solve
    return _in_scene(shot, "path", lambda: scene_frame(shot).points(solve.centres)) if solve is not None else np.zeros((0, 3))


def reach_of(shot: Shot) -> tuple[np.ndarray, float]:
    """How far each of `points_of` is from the middle of the camera's path, and a size for 'far': of the path or half the points."""

    def reach() -> tuple[np.ndarray, float]:
        points, centres = points_of(shot), path_of(shot)
        away = np.linalg.norm(points - centres.mean(0), axis=1)
        return away, max(float(np.linalg.norm(np.ptp(centres, axis=0))), 1e-9, float(np.median(away)) if len(away) else 0.0)

    return _in_scene(shot, "reach", reach)


def covariances_of(shot: Shot) -> np.ndarray | None:
    """(m, 3, 3) how unsure each of `points_of` is, in scene units squared; None where it is not known."""
    solve, tracks = shot.solve, shot.tracks
    if solve is None or tracks is None or solve.motion != "free":
        return None
    own = _once(shot, "covariances", lambda: point_covariances(solve, tracks))
    place = scene_frame(shot)
    return _in_scene(shot, "scene covariances", lambda: place.scale**2 * place.R @ own @ place.R.T)


def _in_scene(shot: Shot, what: str, make: Callable[[], Any]) -> Any:
    """As `_once`, and made anew when the ground is said anew."""
    ground, value = _once(shot, what, lambda: (shot.ground, make()))
    if ground is not shot.ground and ground != shot.ground:
        _kept[what] = (shot.ground, make())
    return _kept[what][1]


_slips: dict[tuple, tuple] = {}


def slip_of(shot: Shot, item: Object, frame: int) -> float:
    """px by which an object is expected to slide where it stands; nan when unknown. Kept, since each repaint asks."""
    place = place_of(shot, item, frame)
    # it changes slowly with the place: one figure does for all within some hundredths of the distance to the origin
    key = tuple(np.round(place / max(0.03 * float(np.linalg.norm(place)), 1e-3)))
    hit = _slips.get(key)
    if hit is None or hit[0] is not shot.solve or hit[1] != shot.ground:
        if len(_slips) > 200:
            _slips.clear()
        hit = _slips[key] = (shot.solve, shot.ground, float(slip_at(shot, place[None])[0]))
    return hit[2]
