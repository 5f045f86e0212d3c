"""What is near and what is infinitely far away in a frame, by the solve and by what other frames show."""

import contextlib

import cv2
import numpy as np

from ..basics.errors import PlateError
from ..evaluate.far import around_at, carried_to, turned_to
from ..matte.far import Around, unsteady
from ..shot.document import Shot
from .composite import light_of
from .plate import Size
from .workshop import Workshop

APART_S, LEAST_APART_S = 0.8, 0.25  # seconds to the frames before and after: in less a camera in a hand shifts little


def around_frame(shot: Shot, workshop: Workshop, index: int, size: Size) -> Around | None:
    """As `around_at`, with what is seen to be near by other frames; None without a solve."""
    around = around_at(shot, index, size.width, size.height, size.scale)
    if around is None:
        return None
    with contextlib.suppress(PlateError):  # a frame that cannot be read is told where it is asked for itself
        return around._replace(moved=_moved(shot, workshop, index))
    return around


def _moved(shot: Shot, workshop: Workshop, index: int) -> np.ndarray | None:
    """(h, w) bool, of a small picture; None where there are no frames both before and after. At the ends of a shot what the nearest such frame tells is
    carried along, with the solved points that are near to it. Raises PlateError."""
    plate, solve = shot.plate, shot.solve
    assert plate is not None and solve is not None
    apart, least = (max(round(seconds * plate.fps), 1) for seconds in (APART_S, LEAST_APART_S))
    first, last = int(solve.frames[0]), int(solve.frames[-1])
    middle = min(max(index, first + least), last - least)
    before, after = max(middle - apart, first), min(middle + apart, last)
    if min(middle - before, after - middle) < least or not {before, middle, after} <= set(solve.frames.tolist()):
        return None

    def seen(codes: np.ndarray) -> np.ndarray:
        if codes.dtype == np.uint8:
            return codes
        light = light_of(codes, plate.transfer)
        return (np.sqrt(np.clip(light, 0, 1)) * 255).astype(np.uint8)

    earlier, now, later = (seen(codes) for codes in workshop.smalls(plate, before, middle, after))
    high, wide = now.shape[:2]
    found = unsteady(now, *((there, turned_to(shot, middle, other, wide, high)) for there, other in ((earlier, before), (later, after))))
    if middle == index:
        return found
    there = carried_to(shot, index, middle, wide, high)
    return cv2.remap(found.astype(np.uint8), there[..., 0], there[..., 1], cv2.INTER_NEAREST, borderMode=cv2.BORDER_CONSTANT) > 0
