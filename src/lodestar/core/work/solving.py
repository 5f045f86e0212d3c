"""Solving as a function from a shot to a shot."""

from collections.abc import Iterator

import msgspec
import numpy as np

from ..basics.colour import encode
from ..basics.errors import SolveError
from ..basics.job import Job
from ..edits.settle import with_solve
from ..media.plates import PlateInfo, open_plate
from ..scene.ground import level_plane, level_points
from ..shot.document import Shot, solving_inputs
from ..solve.camera import solve
from ..solve.result import Solve
from ..solve.uprights import find_uprights, held_up, lines_in
from ..track.tracks import frozen

LOOKED_AT = 10


def solve_shot(shot: Shot, job: Job) -> Shot:
    """The shot with its camera solved from its tracks."""
    if shot.tracks is None or shot.plate is None:
        raise SolveError("There are no tracks to solve from.", "Track the clip first.")
    found = solve(shot.tracks, shot.plate.width, shot.plate.height, shot.solving, job, shot.solve, shot.ground.spans if shot.solving.hold else ())
    found = _looked_over(shot, msgspec.structs.replace(found, source=solving_inputs(shot)), job)
    return with_solve(shot, found)


def _looked_over(shot: Shot, solve: Solve, job: Job) -> Solve:
    """The solve with what a few frames of the plate, spread over it, tell: the colour of each point, and what is upright."""
    assert shot.tracks is not None and shot.plate is not None
    tracks, plate = shot.tracks, shot.plate
    row_of = np.full(max(tracks.count, int(solve.point_ids.max(initial=0)) + 1), -1)
    row_of[solve.point_ids] = np.arange(len(solve.point_ids))
    colours, known = np.full((len(solve.point_ids), 3), 128, np.uint8), np.zeros(len(solve.point_ids), bool)
    lines = {}
    looked_at = [int(solve.frames[i]) for i in np.unique(np.linspace(0, len(solve.frames) - 1, LOOKED_AT).round().astype(int))]
    for index, picture in _pictures(plate, looked_at):
        job.step(1.0, "looking for what is upright")
        lines[index] = lines_in(picture)
        rows = tracks.at(index)
        point = row_of[tracks.track[rows]]
        fresh = (point >= 0) & ~known[np.maximum(point, 0)]
        x, y = np.clip(np.round(tracks.xy[rows[fresh]]).astype(int), 0, [plate.width - 1, plate.height - 1]).T
        colours[point[fresh]], known[point[fresh]] = picture[y, x], True
    ground = level_plane(solve)[1] if len(level_points(solve)) else None
    level = ground if solve.motion == "free" else held_up(solve.R)
    return msgspec.structs.replace(solve, colours=frozen(colours), uprights=frozen(find_uprights(solve, lines, level)))


def _pictures(info: PlateInfo, indices: list[int]) -> Iterator[tuple[int, np.ndarray]]:
    """Frames of a clip as 8-bit code values. Raises PlateError."""
    plate = open_plate(info)
    try:
        for index in indices:
            yield index, eight_bit(plate.frame(index))
    finally:
        plate.close()


def eight_bit(picture: np.ndarray) -> np.ndarray:
    """Any frame of a plate as 8-bit code values."""
    if picture.dtype == np.uint8:
        return picture
    return np.clip(picture / 257.0 if picture.dtype == np.uint16 else encode(picture, "srgb") * 255, 0, 255).astype(np.uint8)
