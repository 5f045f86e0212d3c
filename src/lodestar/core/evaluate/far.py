"""What the solve says of a frame about what is near and what is infinitely far away."""

import functools

import cv2
import numpy as np
from scipy.spatial import cKDTree

from ..basics.geometry import F64
from ..basics.identity import Same
from ..matte.far import Around
from ..shot.document import Shot
from ..solve.result import Solve
from ..track.tracks import Tracks
from .cameras import camera_at, scene_frame

SHIFTED_PX = 12.0  # against what is infinitely far, over the life of its track: then a point is near for sure
MOST_ERROR = 2.0  # times the median: clouds that drift get points, too, but poor ones
GRID_PX = 8  # of the picture, over which the horizon is looked for
INFINITE, OUTSIDE_PX = 1e7, -1e5  # metres; px


def around_at(shot: Shot, frame: float, width: int, height: int, scale: float) -> Around | None:
    """What is near and what is below the height at which the plate's sky ends, in a picture of this size, with `scale` px for each of the plate's; None without a solve."""
    solve = shot.solve
    if solve is None or shot.plate is None:
        return None
    camera = camera_at(shot, frame)
    points = scene_frame(shot).points(solve.xyz[_near(Same(solve), Same(shot.tracks))])
    pixels, depths = camera.project(points) if len(points) else (np.zeros((0, 2)), np.zeros(0))
    before = depths > 0
    y, x = np.mgrid[0:height:GRID_PX, 0:width:GRID_PX]
    up = camera.rays((np.stack([x, y], -1) + 0.5) / scale - 0.5)[..., 2]
    whole = cv2.resize(np.asarray(up, np.float32), (up.shape[1] * GRID_PX, up.shape[0] * GRID_PX), interpolation=cv2.INTER_LINEAR)
    return Around(
        (pixels[before] + 0.5) * scale - 0.5,
        depths[before],
        whole[:height, :width] < np.sin(np.deg2rad(shot.backdrop.horizon.at(frame)[0])),
        scale=scale,
    )


def turned_to(shot: Shot, frame: float, other: float, width: int, height: int) -> np.ndarray:
    """(height, width, 2) float32: where in a picture of this size of another frame what is infinitely far away lies, for each px of one of this frame; far
    outside where it lies behind that camera."""
    assert shot.plate is not None
    camera, there = camera_at(shot, frame), camera_at(shot, other)
    shrink = shot.plate.width / width
    y, x = np.mgrid[0 : height + GRID_PX : GRID_PX, 0 : width + GRID_PX : GRID_PX]
    rays = camera.rays((np.stack([x, y], -1) + 0.5) * shrink - 0.5)
    pixels, depths = there.project(there.centre + INFINITE * rays.reshape(-1, 3))
    nodes = np.where(depths[:, None] > 0, (pixels + 0.5) / shrink - 0.5, OUTSIDE_PX).reshape(*x.shape, 2).astype(np.float32)
    at = np.mgrid[0:height, 0:width][::-1].astype(np.float32) / GRID_PX
    return np.asarray(cv2.remap(nodes, at[0], at[1], cv2.INTER_LINEAR))


def carried_to(shot: Shot, frame: float, other: float, width: int, height: int) -> np.ndarray:
    """As `turned_to`, of what is as near as the nearest of the near points; None of them: as if it were infinitely far."""
    solve, plate = shot.solve, shot.plate
    assert solve is not None and plate is not None
    where = turned_to(shot, frame, other, width, height)
    camera, there = camera_at(shot, frame), camera_at(shot, other)
    points = scene_frame(shot).points(solve.xyz[_near(Same(solve), Same(shot.tracks))])
    (now, depths), (then, _) = camera.project(points), there.project(points)
    far, _ = there.project(there.centre + INFINITE * (points - camera.centre))
    seen = (depths > 0) & (now >= 0).all(1) & (now < np.array([plate.width, plate.height])).all(1)
    if not seen.any():
        return where
    y, x = np.mgrid[0:height:GRID_PX, 0:width:GRID_PX]
    _, nearest = cKDTree(now[seen]).query((np.stack([x, y], -1) + 0.5) * plate.width / width - 0.5)
    off = ((then - far)[seen][nearest] * width / plate.width).astype(np.float32)
    return np.asarray(where + cv2.resize(off, (off.shape[1] * GRID_PX, off.shape[0] * GRID_PX), interpolation=cv2.INTER_NEAREST)[:height, :width])


@functools.lru_cache(maxsize=4)
def _near(solved: Same, tracked: Same) -> np.ndarray:
    """(m,) bool: which solved points are near for sure."""
    solve: Solve = solved.of
    sure = solve.point_error < MOST_ERROR * np.median(solve.point_error) if len(solve.xyz) else np.zeros(0, bool)
    return np.asarray(sure & (_shift_px(solve, tracked.of) > SHIFTED_PX))


def _shift_px(solve: Solve, tracks: Tracks | None) -> F64:
    """(m,) by how much each point shifted against what is infinitely far while it was seen, px; over the shot where its track is not known."""
    count = len(solve.frames)
    first, last = np.zeros(len(solve.xyz), int), np.full(len(solve.xyz), count - 1)
    if tracks is not None and (solve.point_ids < tracks.count).all():
        at = np.clip(np.searchsorted(solve.frames, tracks.frame), 0, count - 1)
        low, high = np.full(tracks.count, count - 1), np.zeros(tracks.count, int)
        np.minimum.at(low, tracks.track, at)
        np.maximum.at(high, tracks.track, at)
        first, last = low[solve.point_ids], np.maximum(high, low)[solve.point_ids]
    centres = solve.centres
    moved = np.linalg.norm(centres[last] - centres[first], axis=1)
    away = np.linalg.norm(solve.xyz - centres[(first + last) // 2], axis=1)
    return np.asarray(solve.lens.fx * moved / np.maximum(away, 1e-9))
