"""What follows from the tracks and the solve of a shot, worked out once for each pair of them, since every view asks for it.

What takes long on a long clip (`Worked`) is worked out beside the interface there: until it is known, views do without it, and
those in `waiting` are told when they can be drawn again.
"""

import contextlib
import logging
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple

import numpy as np

from lodestar.core.basics.identity import Same
from lodestar.core.edits.arrange import place_of
from lodestar.core.evaluate.cameras import scene_frame, slip_at
from lodestar.core.evaluate.ground import borne_ground, hidden_share, is_known, uneven_of
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Object, ancestors
from lodestar.core.solve.pieces import pieces
from lodestar.core.solve.report import Report, report, residuals
from lodestar.core.solve.spread import point_covariances

log = logging.getLogger(__name__)
MOST_KEPT = 3  # pairs of tracks and solve: undo and redo go between some
MOST_SHARES = 2000  # of objects that the ground hides, by frame
QUICK = 15_000  # observations: up to so many take less than a twentieth of a second, on a slow machine too


class Worked(NamedTuple):
    """errors (n,) px of the observations; the report; covariances (m, 3, 3) of the solved points in the solve's own axes, None for a
    camera that only turns."""

    errors: np.ndarray
    report: Report
    covariances: np.ndarray | None


waiting: list[Callable[[], object]] = []  # called on the worker's thread: what takes long is known now
_known: list[dict[str, Any]] = []  # the latest first
_worker = ThreadPoolExecutor(1, "derived")


def _kept_of(shot: Shot) -> dict[str, Any]:
    """What is known so far of the tracks and solve of a shot."""
    for kept in _known:
        if kept["tracks"] is shot.tracks and kept["solve"] is shot.solve:
            if kept is not _known[0]:
                _known.remove(kept)
                _known.insert(0, kept)
            return kept
    _known.insert(0, {"tracks": shot.tracks, "solve": shot.solve})
    del _known[MOST_KEPT:]
    return _known[0]


def _once(shot: Shot, what: str, make: Callable[[], Any]) -> Any:
    kept = _kept_of(shot)
    if what not in kept:
        kept[what] = make()
    return kept[what]


def work_out(shot: Shot) -> Worked:
    """What takes long, of a solved shot; on any thread. Its ground is found with it, which is kept where it is asked for."""
    tracks, solve = shot.tracks, shot.solve
    assert tracks is not None and solve is not None
    borne_ground(shot)
    uneven_of(shot)
    errors = residuals(solve, tracks)
    return Worked(errors, report(solve, tracks, errors), point_covariances(solve, tracks) if solve.motion == "free" else None)


def keep(shot: Shot, worked: Worked) -> None:
    """What a job worked out for this shot is known from here on."""
    _kept_of(shot)["worked"] = worked


def _worked(shot: Shot) -> Worked | None:
    """What takes long, None while it is being worked out; a shot that is quickly done is never waited for."""
    tracks, kept = shot.tracks, _kept_of(shot)
    assert tracks is not None
    if "worked" not in kept:
        if len(tracks.frame) <= QUICK:
            kept["worked"] = work_out(shot)
        else:
            kept["worked"] = None

            def work() -> None:
                kept["worked"] = work_out(shot)
                kept.pop("means", None)

            _beside(work)
    return kept["worked"]


def _beside(work: Callable[[], object]) -> None:
    """Work something out beside the interface; those in `waiting` are told after it."""

    def run() -> None:
        try:
            work()
        except Exception:
            log.exception("what follows from a solve could not be worked out")
            return
        for tell in tuple(waiting):
            with contextlib.suppress(RuntimeError):  # of a window that is gone meanwhile
                tell()

    _worker.submit(run)


# of the last solve and ground, by objects with their parents and frame
_hidden: tuple[Shot | None, dict[tuple, float]] = (None, {})


def hidden_of(shot: Shot, item: Object, frame: float) -> float:
    """Which share of an object of the shot the ground hides (`hidden_share`); 0 while the ground is being worked out. Kept, since each frame that is
    played asks, and letters that move are laid out anew for it; and while one object is dragged the others stay as they are."""
    global _hidden
    if is_known(shot):
        of, known = _hidden
        if of is None or any(getattr(of, part) is not getattr(shot, part) for part in ("plate", "solve", "ground")) or len(known) > MOST_SHARES:
            known = {}
            _hidden = shot, known
        key = (*map(Same, (item, *ancestors(shot.objects, item))), frame)
        if key not in known:
            known[key] = hidden_share(shot, item, frame)
        return known[key]
    begun = _kept_of(shot).setdefault("grounds", [])
    if shot.ground not in begun:

        def work() -> None:
            borne_ground(shot)
            uneven_of(shot)
            begun.remove(shot.ground)  # the core keeps a few grounds only; one that it let go of is worked out again

        begun.append(shot.ground)
        _beside(work)
    return 0.0


def errors_of(shot: Shot) -> np.ndarray:
    """Error in px of each observation of the tracks, nan without a solve or while they are being worked out."""
    assert shot.tracks is not None
    worked = _worked(shot) if shot.solve is not None else None
    return worked.errors if worked is not None else np.full(len(shot.tracks.frame), np.nan)


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


def report_of(shot: Shot) -> Report | None:
    """The report on the solve of the present tracks, both of which have to be there; None while it is being worked out."""
    worked = _worked(shot)
    return worked.report if worked is not None else None


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
    """(m, 3, 3) how unsure each of `points_of` is, in scene units squared; None where it is not known (yet)."""
    worked = _worked(shot) if shot.solve is not None and shot.tracks is not None else None
    if worked is None or worked.covariances is None:
        return None
    own, place = worked.covariances, scene_frame(shot)
    return _in_scene(shot, "scene covariances", lambda: place.scale**2 * place.R @ own @ place.R.T)


def _in_scene(shot: Shot, what: str, make: Callable[[], Any]) -> Any:
    """As `_once`, and made anew when the ground is said anew."""
    ground, value = _once(shot, what, lambda: (shot.ground, make()))
    kept = _kept_of(shot)
    if ground is not shot.ground and ground != shot.ground:
        kept[what] = (shot.ground, make())
    return kept[what][1]


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
