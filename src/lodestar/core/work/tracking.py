"""Tracking as functions from a shot to a shot: all of it, more in one place, one by hand, what moves by itself."""

import contextlib
import uuid
from collections.abc import Callable

import cv2
import msgspec
import numpy as np

from ..basics.errors import PlateError, SolveError, TrackError
from ..basics.job import Job
from ..basics.keyed import Key, Keyed
from ..edits.settle import with_tracks
from ..matte.sources import Outline, View, ignored
from ..media.plates import open_plate
from ..shot.document import Shot, tracking_inputs
from ..solve.report import residuals, standing
from ..track.edit import added, joined, replaced, seen_twice
from ..track.follow import follow
from ..track.hand import follow_by_hand, more_here
from ..track.moving import CORNERS, EVERY, FLOW_GAP, grid, moving_places, moving_regions
from ..track.preprocess import prepare
from ..track.tracks import Tracks, make_tracks

SEARCH_PX = 12.0  # round where flow leads, for a track placed by hand
BLACK = 20  # code values; a clip that never gets brighter is black


def track_shot(shot: Shot, job: Job, ignore: Callable[[int], np.ndarray | None] | None = None) -> Shot:
    """The shot with new tracks over its range; tracks placed by hand are followed anew from their places.

    ignore: masks in place of the shot's own regions.
    """
    brightest = 0
    with _preprocessed(shot) as luma:

        def watched(index: int) -> np.ndarray:
            nonlocal brightest
            picture = luma(index)
            brightest = max(brightest, int(np.percentile(picture[::8, ::8], 99.5)))
            return picture

        try:
            tracks = follow(watched, shot.frames, shot.follow, ignore or _hidden(shot), job)
        except TrackError as error:
            if 0 < brightest <= BLACK:
                raise TrackError("The clip is black from end to end, so there is nothing to follow.", "Look whether it is the right clip.") from error
            raise
        if shot.tracks is not None:
            for number in np.unique(shot.tracks.keys[:, 0]):
                keys = shot.tracks.keys[shot.tracks.keys[:, 0] == number, 1:]
                tracks = _hand_added(tracks, luma, shot, keys[np.isin(keys[:, 0], shot.frames)], job)
    return with_tracks(shot, msgspec.structs.replace(tracks, source=tracking_inputs(shot)))


@contextlib.contextmanager
def _preprocessed(shot: Shot):
    """A reader of what the tracker sees: (h, w) uint8 by frame. Raises PlateError."""
    if shot.plate is None:
        raise PlateError("There is no clip to track.", "Open a clip first.")
    plate = open_plate(shot.plate)
    try:
        yield lambda index: prepare(plate.luma(index), shot.follow.contrast, shot.follow.blur_px)
    finally:
        plate.close()


def _hidden(shot: Shot) -> Callable[[int], np.ndarray | None]:
    plate = shot.plate
    assert plate is not None
    return lambda index: ignored(shot.regions, View(index, plate.width, plate.height))


def _hand_added(tracks: Tracks, luma: Callable[[int], np.ndarray], shot: Shot, keys: np.ndarray, job: Job) -> Tracks:
    if len(keys) == 0:
        return tracks
    frames, xy = follow_by_hand(luma, shot.frames, keys, SEARCH_PX, job)
    return added(tracks, [(int(f), np.zeros(1, int), p[None]) for f, p in zip(frames, xy)], keys=np.c_[np.zeros(len(keys)), keys])


def add_tracks(shot: Shot, frame: int, corners: np.ndarray, least_frames: int, job: Job) -> Shot:
    """The shot with every track more that begins in a place of one frame: corners (n, 2) px of a closed line."""
    tracks = _tracks_of(shot)
    _refuse_outside(shot, frame)
    place = coverage_of(corners, shot)
    with _preprocessed(shot) as luma:
        rows = more_here(luma, shot.frames, frame, place, tracks.xy[tracks.at(frame)], shot.follow, least_frames, _hidden(shot), job)
    return with_tracks(shot, added(tracks, rows, least_frames))


def place_track(shot: Shot, number: int | None, frame: int, xy: np.ndarray, search_px: float, job: Job) -> Shot:
    """The shot with one track more that is placed at xy (2,) px of a frame and followed; or, with a number, with that track
    corrected there and followed again from all of its places."""
    tracks = shot.tracks if shot.tracks is not None else make_tracks(np.zeros(0, int), np.zeros(0, int), np.zeros((0, 2)))
    key = np.array([[frame, *xy]], float)
    _refuse_outside(shot, frame)
    with _preprocessed(shot) as luma:
        if number is None:
            tracks = _hand_added(tracks, luma, shot, key, job)
        else:
            own = tracks.keys[tracks.keys[:, 0] == number, 1:]
            keys = np.concatenate([own[own[:, 0] != frame], key])
            frames, places = follow_by_hand(luma, shot.frames, keys, search_px, job)
            tracks = replaced(tracks, number, frames, places, keys)
    source = tracking_inputs(shot) if shot.tracks is None else tracks.source
    return with_tracks(shot, msgspec.structs.replace(tracks, source=source))


def _refuse_outside(shot: Shot, frame: int) -> None:
    if frame not in shot.frames:
        raise TrackError(f"Frame {frame} lies outside in and out, {shot.first} to {shot.last}.", "Go to a frame between them, or move in or out.")


def _tracks_of(shot: Shot) -> Tracks:
    if shot.tracks is None:
        raise TrackError("There are no tracks yet.", "Track the clip first.")
    return shot.tracks


def coverage_of(corners: np.ndarray, shot: Shot) -> np.ndarray:
    """(h, w) bool inside a drawn closed line."""
    assert shot.plate is not None
    mask = np.zeros((shot.plate.height, shot.plate.width), np.uint8)
    cv2.fillPoly(mask, [np.round(corners).astype(np.int32).reshape(-1, 1, 2)], 1)
    return mask > 0


def suggest_regions(shot: Shot, job: Job) -> tuple[Outline, ...]:
    """Regions round what moves by itself, as outlines that are switched off: to be taken, changed or dropped; none where nothing
    large moves.

    Raises SolveError without a solve, and PlateError.
    """
    if shot.tracks is None or shot.solve is None or shot.plate is None:
        raise SolveError("What moves by itself is known only after a solve.", "Track and solve first; then ask again.")
    width, height = shot.plate.width, shot.plate.height
    places = _moving_places(shot, job)
    found = moving_regions(shot.tracks, residuals(shot.solve, shot.tracks), width, height, places)
    outlines = []
    away = tuple(float(v) for v in (np.array([[-2.0 * width, -2.0 * height]]) + np.array([[i % 4, i // 4] for i in range(CORNERS)])).ravel())
    for k, region in enumerate(found[:6]):
        frames = sorted(region)
        # before and after, the outline waits outside the picture
        keys = [Key(float(f), tuple(round(float(v), 1) for v in region[f].ravel()), "linear") for f in frames[:-1]]
        keys.append(Key(float(frames[-1]), tuple(round(float(v), 1) for v in region[frames[-1]].ravel()), "hold"))
        if frames[0] - EVERY >= shot.first:
            keys.insert(0, Key(float(frames[0] - EVERY), away, "hold"))
        if frames[-1] + EVERY <= shot.last:
            keys.append(Key(float(frames[-1] + EVERY), away, "hold"))
        outlines.append(
            Outline(id=f"moves-{uuid.uuid4().hex[:6]}", name=f"Moves by itself {k + 1}", shape=Keyed(keys[0].value, tuple(keys)), on=False)
        )
    return tuple(outlines)


def _moving_places(shot: Shot, job: Job) -> dict[int, np.ndarray]:
    """(m, 2) px by frame, of those frames that `moving_regions` looks at: what the picture's flow shows to move by itself."""
    tracks, solve, plate = shot.tracks, shot.solve, shot.plate
    assert tracks is not None and solve is not None and plate is not None
    found: dict[int, np.ndarray] = {}
    number = {int(f): k for k, f in enumerate(solve.frames)}
    xy = grid(plate.width, plate.height)
    with _preprocessed(shot) as luma:
        frames = [int(f) for f in np.unique(tracks.frame)[::EVERY]]
        for k, frame in enumerate(frames):
            job.step(k / len(frames), f"frame {frame}")
            after = frame + FLOW_GAP if frame + FLOW_GAP in number else frame - FLOW_GAP
            if frame in number and after in number:
                line = standing(solve, number[frame], number[after], xy)
                found[frame] = moving_places(luma(frame), luma(after), line)
    return found


def join_same(shot: Shot) -> tuple[Shot, int]:
    """The shot with tracks joined that are one point seen twice, and how many pairs. Raises SolveError without a solve."""
    if shot.tracks is None or shot.solve is None:
        raise SolveError("Which tracks are one point is known only after a solve.", "Solve first, or choose two tracks and join them.")
    tracks, solve = shot.tracks, shot.solve
    # in and out may have been moved since the solve
    predicted = np.full((tracks.count, max(shot.last, int(solve.frames.max()), int(tracks.frame.max(initial=0))) + 1, 2), np.nan)
    there = solve.point_ids < tracks.count
    known, xyz = solve.point_ids[there], solve.xyz[there]
    for k, index in enumerate(solve.frames):
        xy, depth = solve.camera(k).project(xyz)
        predicted[known, index] = np.where(depth[:, None] > 0, xy, np.nan)
    error = np.zeros(tracks.count)
    error[known] = solve.point_error[there]
    pairs = seen_twice(tracks, predicted, error)
    chains: dict[int, list[int]] = {}
    for a, b in sorted(pairs):
        chain = chains.pop(a, [a])
        chains[b] = [*chain, b]
    for chain in chains.values():
        tracks = joined(tracks, np.array(chain))
    return with_tracks(shot, tracks), len(pairs)
