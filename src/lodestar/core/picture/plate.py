"""The plate at the size of a picture."""

from typing import NamedTuple

import cv2
import numpy as np

from ..shot.document import Shot
from .composite import light_of
from .workshop import Workshop


class Size(NamedTuple):
    """Of the picture that is made: px, and px of it for each of the plate's."""

    width: int
    height: int
    scale: float


def plate_codes(shot: Shot, workshop: Workshop, index: int, size: Size) -> np.ndarray:
    """(height, width, 3) code values of the plate at the size of a picture. Raises PlateError."""
    plate = shot.plate
    assert plate is not None
    small = lambda codes: codes if codes.shape[1::-1] == size[:2] else cv2.resize(codes, size[:2], interpolation=cv2.INTER_AREA)
    return workshop.last("plate", (plate, index, size), lambda: small(workshop.frame(plate, index)))


def plate_light(shot: Shot, workshop: Workshop, index: int, size: Size) -> np.ndarray:
    """The same as linear light of its own primaries; keys and the sky ask for it again and again."""
    plate = shot.plate
    assert plate is not None
    return workshop.last("light", (plate, index, size), lambda: light_of(plate_codes(shot, workshop, index, size), plate.transfer))
