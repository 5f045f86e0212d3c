"""Brushed mattes as functions from a shot to a shot: one frame by its strokes, or all frames from those that were painted."""

import contextlib
import hashlib
import threading
from collections import OrderedDict, deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor

import msgspec
import numpy as np

from ..basics.errors import PlateError, UserError
from ..basics.geometry import vector
from ..basics.job import Job
from ..edits.lights import sun_of
from ..evaluate.cameras import camera_at
from ..evaluate.still import StillScene
from ..light.sun import direction
from ..matte.background import Reader
from ..matte.follow import Follower, Light
from ..matte.shadow import Stands, Upright
from ..matte.strokes import INSIDE, OUTSIDE, Brushed, Found, with_found
from ..media.plates import open_plate
from ..shot.document import ShadowLine, Shot
from ..shot.motion import with_things
from .solving import eight_bit

FOOT = 0.05  # of a subject's height: it stands on what of it lies no higher
KEPT_BYTES = 600_000_000  # of decoded frames: at 720p those of a whole run's backgrounds, and many more


def brushed_inputs(shot: Shot, source: Brushed) -> str:
    """Digest of all that a brushed matte depends on; one with another `source` is stale. The solve counts by where its cameras are."""
    plate, solve = shot.plate, shot.solve
    clip = (plate.width, plate.height, plate.count) if plate else ()
    parts = [msgspec.json.encode((clip, shot.first, shot.last, source.strokes))]
    if solve is not None:
        parts += [np.ascontiguousarray(solve.R).tobytes(), np.ascontiguousarray(solve.t).tobytes()]
    return hashlib.sha1(b"|".join(parts)).hexdigest()[:16]


def is_due(shot: Shot, source: Brushed) -> bool:
    """Whether a brushed matte has to be followed: it has strokes, and frames are missing or were found from something else."""
    if not source.strokes or source.kept or shot.plate is None:
        return False
    return source.source != brushed_inputs(shot, source) or not set(shot.frames) <= {f.frame for f in source.found}


def due_mattes(shot: Shot) -> list[Brushed]:
    return [m for m in shot.mattes if isinstance(m, Brushed) and is_due(shot, m)]


def follow_due(shot: Shot, job: Job) -> Shot:
    """The shot with all its brushed mattes followed through its range, where that is due."""
    due = due_mattes(shot)
    for number, source in enumerate(due):
        job.part(number / len(due), (number + 1) / len(due))
        for found in followed(shot, source, job):
            source = with_found(source, found)
        source = msgspec.structs.replace(source, source=brushed_inputs(shot, source))
        shot = with_things(shot, {source.id: source})
    return shot


class Selector:
    """Finds a subject on the frame that is being painted, again and again: the clip stays open and the background known. One call at a time."""

    def __init__(self) -> None:
        self._of: tuple | None = None
        self._open = contextlib.ExitStack()
        self._follower: Follower | None = None

    def select(self, shot: Shot, source: Brushed, frame: int, job: Job, glimpsed: Callable[[Found], object] = lambda found: None) -> Found:
        """The subject on a painted frame. A frame to which it was followed is corrected: what was found there, with the strokes held against it.
        A first guess is given to `glimpsed` soon. At once where the shot is the one of before."""
        job.step(0.0, f"frame {frame}")
        follower = self._follower_of(shot)
        glimpsed(follower.glimpse(source, frame))
        job.step(0.1)
        found, first = source.at(frame), next((s.frame for s in source.strokes if s.means == INSIDE), frame)
        return follower.correct(source, found) if found is not None and frame != first else follower.select(source, frame)

    def look_ahead(self, shot: Shot, frame: int, job: Job) -> None:
        """Read what `select` will need of other frames; what was read stays when the job is cancelled."""
        self._follower_of(shot).look_ahead(frame, lambda: job.step(0.0, "other frames"))

    def _follower_of(self, shot: Shot) -> Follower:
        if self._of is None or self._of[0] is not shot.plate or self._of[1] is not shot.solve:
            self.close()
            self._follower = self._open.enter_context(_follower(shot))
            self._of = shot.plate, shot.solve
        assert self._follower is not None
        return self._follower

    def close(self) -> None:
        self._open.close()
        self._of = self._follower = None


def select_here(shot: Shot, source: Brushed, frame: int) -> Found:
    """The subject on one painted frame. Raises UserError where nothing is painted there."""
    if not any(s.frame == frame and s.means == INSIDE for s in source.strokes):
        raise UserError("Nothing on this frame is painted as inside.", "Paint over the subject first.")
    with _follower(shot) as follower:
        return follower.select(source, frame)


def followed(shot: Shot, source: Brushed, job: Job) -> Iterator[Found]:
    """The matte of each frame of the range, in the order in which they are found: first the frame that was painted first, then outwards
    from it, forward and backward; strokes on other frames are corrections, which hold there. Raises UserError where nothing is painted in
    the range."""
    first = next((s.frame for s in source.strokes if s.means == INSIDE and s.frame in shot.frames), None)
    if first is None:
        raise UserError(f"{source.name} is painted on no frame between in and out.", "Paint over the subject on one frame.")
    count = len(shot.frames)
    with _follower(shot) as follower:
        painted = follower.select(source, first)
        follower.find_sun(source, first)
        beside = first + 1 if first < shot.last else first - 1
        if beside in shot.frames:
            # the frame beside it, which shows the subject at another place, tells of it what the painted one alone does not: there and back
            follower.step(source, beside, first)
            painted = follower.step(source, first, beside)
        yield painted
        for way, last, before in ((1, shot.last, 0), (-1, shot.first, shot.last - first)):
            if way < 0:
                follower.begin_colours_again()
            begin = lambda frame, before=before: job.step((before + abs(frame - first)) / count, f"frame {frame}")
            yield from _edged_beside(follower, source, painted, range(first + way, last + way, way), begin)


def _edged_beside(follower: Follower, source: Brushed, painted: Found, frames: range, begin: Callable[[int], object]) -> Iterator[Found]:
    """The mattes of frames from the painted one on. Soft edges are made, and what flickers is calmed, on another thread, while the next frame is looked at.
    begin: called with each frame; may raise."""
    with ThreadPoolExecutor(1, "edges") as beside:
        # each frame is told when the next one is known, which tells what of it flickers
        edged, calmed = deque([beside.submit(lambda: painted)]), deque[Future[Found]]()
        for frame in frames:
            begin(frame)
            edged.append(beside.submit(follower.edged, follower.rough(source, frame, frame - frames.step)))
            if len(edged) == 3:
                calmed.append(beside.submit(lambda three: follower.calmed(*(one.result() for one in three)), tuple(edged)))
                edged.popleft()
            if follower.background.may_show(frame):
                edged[-1].result()
            while calmed and (len(calmed) == 2 or calmed[0].done()):
                yield calmed.popleft().result()
        for one in (*calmed, *list(edged)[1:]):
            yield one.result()


def shadow_of_subject(shot: Shot, source: Brushed, job: Job) -> ShadowLine:
    """The shadow of a painted subject on the level ground, as if it had been drawn: from where the subject stands to the tip, by what became darker there.
    Raises UserError where none is found."""
    painted = next((s.frame for s in source.strokes if s.means == INSIDE), None)
    if painted is None or not any(s.means == OUTSIDE for s in source.strokes if s.frame == painted):
        raise UserError(
            f"{source.name} is not told from its shadow yet.", "Paint some of the ground beside it as outside, on the frame of the first stroke."
        )
    if shot.solve is None or shot.solve.motion != "free":
        raise UserError("Without a camera that moves nobody knows where the ground is.", "Solve the shot first, or set the sun by hand.")
    unread = msgspec.structs.replace(shot, shadow=msgspec.structs.replace(shot.shadow, lines=()))
    with _follower(unread) as follower:
        job.step(0.1, "looking for the subject")
        follower.select(source, painted)
        job.step(0.6, "looking for its shadow")
        sun, upright = follower.find_sun(source, painted), follower.standing(painted)
    if sun is None or upright is None:
        raise UserError(
            f"No shadow of {source.name} was found on the ground.", "Drag along one in the picture instead, from the foot of something to the tip."
        )
    high = upright.at[:, 2]
    height, foot = float(high.max()), upright.at[high <= max(FOOT * high.max(), high.min())].mean(0) * [1, 1, 0]
    return ShadowLine(foot=vector(foot), tip=vector(foot - height / sun[2] * sun * [1, 1, 0]), height=height)


@contextlib.contextmanager
def _follower(shot: Shot) -> Iterator[Follower]:
    if shot.plate is None:
        raise PlateError("There is no clip to find a subject in.", "Open a clip first.")
    with reader_of(shot) as reader:
        scene, frames = StillScene(shot), range(shot.plate.count)
        yield Follower(
            reader, scene.warp, frames, shot.plate.width, shot.plate.height, standing(shot), light_of(shot), scene.heights, scene.leave_out
        )


@contextlib.contextmanager
def reader_of(shot: Shot) -> Iterator[Reader]:
    """Frames of the clip as 8-bit code values; those that were read last are kept."""
    assert shot.plate is not None
    plate, kept, lock = open_plate(shot.plate), OrderedDict[int, np.ndarray](), threading.Lock()

    def read(index: int) -> np.ndarray:
        with lock:
            if index not in kept:
                kept[index] = np.ascontiguousarray(eight_bit(plate.frame(index)))
                while sum(picture.nbytes for picture in kept.values()) > KEPT_BYTES and len(kept) > 2:
                    kept.popitem(last=False)
            kept.move_to_end(index)
            return kept[index]

    try:
        yield read
    finally:
        plate.close()


def light_of(shot: Shot) -> Light:
    """Where the sun stands, if it was read from shadows of the place."""
    sun = sun_of(shot) if shot.shadow.lines else None
    return lambda frame: None if sun is None else direction(sun.bearing.at(frame)[0], sun.height.at(frame)[0])


def standing(shot: Shot) -> Stands:
    """How an upright subject stands on the level ground: it is taken for flat, facing the camera, and standing where its lowest px meet the
    ground."""
    if shot.solve is None or shot.solve.motion != "free":
        return lambda frame, at: None
    known = set(int(f) for f in shot.solve.frames)

    def stands(frame: int, at: np.ndarray) -> Upright | None:
        if frame not in known:
            return None
        camera = camera_at(shot, frame)
        low = at[at[:, 1] >= np.percentile(at[:, 1], 99)].mean(0)
        ray = camera.rays(low)
        if ray[2] > -1e-3:
            return None
        foot = camera.centre - camera.centre[2] / ray[2] * ray
        facing = (camera.centre - foot) * [1, 1, 0]
        facing /= np.linalg.norm(facing)
        rays = camera.rays(at)
        places = camera.centre + ((foot - camera.centre) @ facing / (rays @ facing))[:, None] * rays
        return Upright(np.maximum(places, [-np.inf, -np.inf, 0]), camera.project)

    return stands
