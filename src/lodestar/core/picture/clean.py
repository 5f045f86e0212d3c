"""The clean plate of a frame: the place without whoever passes, as other frames show it through the solved camera."""

import cv2
import numpy as np

from ..basics.colour import in_working
from ..basics.errors import PlateError
from ..evaluate.still import StillScene
from ..matte.background import EVERY, Background
from ..matte.strokes import Brushed, laid_out
from ..shot.document import Shot
from .composite import FULL, light_of
from .plate import Size, plate_codes
from .workshop import Workshop

GROWN_PX = 5  # round a subject that is known, which is left out too: its edge, and its shadow's
LEAST_SUPPORT = 2  # frames that must show a place
MOST_SPREAD, AROUND_PX = 0.05, 6  # of the whole range: by how much the middle half of them may differ, over so many px round a place


def clean_codes(shot: Shot, workshop: Workshop, index: int, size: Size) -> tuple[np.ndarray, np.ndarray]:
    """(height, width, 3) code values of the place as the nearest other frames show it (the middle of them), and (height, width) bool where
    they do; elsewhere the plate itself. Brushed subjects that were followed are left out. Raises PlateError without a solve."""
    plate, solve = shot.plate, shot.solve
    assert plate is not None
    if solve is None or index not in solve.frames:
        raise PlateError("The clean plate is made through the solved camera, and this frame has none.", "Solve the shot first, at Solve.")
    subjects = [m for m in shot.mattes if isinstance(m, Brushed)]
    key = (plate, solve, shot.tracks, tuple(m.found for m in subjects), index, size)
    return workshop.last("clean plate", key, lambda: _made(shot, workshop, index, size, subjects))


def _still(shot: Shot, subjects: list[Brushed]) -> StillScene:
    """The still scene without the points that are on a subject."""
    scene, plate = StillScene(shot), shot.plate
    assert plate is not None
    for frame in sorted({found.frame for subject in subjects for found in subject.found[::EVERY]}):
        scene.leave_out(frame, np.max([laid_out(subject.at(frame), plate.width, plate.height) for subject in subjects], axis=0) > 0.5)
    return scene


def _made(shot: Shot, workshop: Workshop, index: int, size: Size, subjects: list[Brushed]) -> tuple[np.ndarray, np.ndarray]:
    plate = shot.plate
    assert plate is not None
    scene = workshop.last("still scene", (plate, shot.solve, shot.tracks, tuple(m.found for m in subjects)), lambda: _still(shot, subjects))
    background = Background(lambda frame: workshop.frame(plate, frame), scene.warp, range(plate.count), (plate.height, plate.width))
    kernel = np.ones((2 * GROWN_PX + 1,) * 2, np.uint8)

    def passes(frame: int) -> np.ndarray:
        hidden = np.zeros((plate.height, plate.width), np.uint8)
        for subject in subjects:
            hidden = np.maximum(hidden, (laid_out(subject.at(frame), plate.width, plate.height) > 0.02).astype(np.uint8))
        return cv2.dilate(hidden, kernel)

    background.hidden = {frame: hidden for frame in background.sources_of(index) if (hidden := passes(frame)).any()}
    y, x = np.mgrid[0 : size.height, 0 : size.width]
    # the centre of the first px is (0, 0) at every scale
    xy = ((np.stack([x, y], -1).reshape(-1, 2) + 0.5) / size.scale - 0.5).astype(np.float32)
    predicted = background.at(index, xy)
    seen = plate_codes(shot, workshop, index, size)
    # beside near things the depth between points is a guess, and frames disagree about what is there
    across = 2 * round(AROUND_PX * size.scale) + 1
    spread = cv2.blur(predicted.spread.reshape(size.height, size.width), (across, across)) / FULL.get(seen.dtype, 1.0)
    support, subject = predicted.support.reshape(size.height, size.width), cv2.resize(passes(index), size[:2], interpolation=cv2.INTER_NEAREST)
    known = (support >= LEAST_SUPPORT) & (spread <= MOST_SPREAD) | (support > 0) & (subject > 0)
    found = predicted.colour.reshape(seen.shape)
    if seen.dtype in FULL:
        found = np.clip(np.rint(found), 0, FULL[seen.dtype])
    return np.where(known[..., None], found.astype(seen.dtype), seen), known


def clean_light(shot: Shot, workshop: Workshop, index: int, size: Size) -> tuple[np.ndarray, np.ndarray]:
    """The same as linear light of Rec.709, as keys take it."""
    plate = shot.plate
    assert plate is not None
    codes, known = clean_codes(shot, workshop, index, size)
    return in_working(light_of(codes, plate.transfer), plate.colour.primaries), known
