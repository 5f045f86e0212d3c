"""The camera as kernels see it: a ray for each place in the picture and each moment, through whatever projection it has."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ..projection.camera import Camera
from ..projection.pinhole import Lens

# px between the directions that are worked out; between them they are blended: 0.002 px off at most with a strong lens (measured)
NET_PX = 4
NET_MARGIN = 3  # nodes of the net beyond the part that is drawn, for places in a pixel and a zoom within the exposure
MOST_NETS = 4
MOMENTS = 9  # poses over an exposure, between which they are blended


class Eye(NamedTuple):
    """net (rows, columns, 3) float32: directions in the camera's axes for places (left + NET_PX column, top + NET_PX row) px; about:
    the centre (2,) px from which a zoom spreads; size (2,) px.

    poses (moments, 13) over `span` frames: R (9 by rows), the centre in the axes of the rays (3), how many times the focal
    length. shutter, readout: frames; a place is seen at shutter * u + readout * (row / (rows - 1) - 1/2), u in -1/2 to 1/2.
    angle: radians of a px.
    """

    net: np.ndarray
    left: float
    top: float
    about: np.ndarray
    size: np.ndarray
    poses: np.ndarray
    shutter: float
    readout: float
    span: float
    angle: float


class Nets:
    """The nets of the last few lenses."""

    def __init__(self) -> None:
        self._kept: dict = {}

    def of(self, lens: Lens, left: int, top: int, right: int, bottom: int) -> tuple[np.ndarray, int, int]:
        """The net over a part of the picture, with the place of its first node."""
        x0, y0 = (side // NET_PX - NET_MARGIN for side in (left, top))
        x1, y1 = (-(-side // NET_PX) + NET_MARGIN for side in (right, bottom))
        key = (lens, x0, y0, x1, y1)
        if key not in self._kept:
            while len(self._kept) >= MOST_NETS:
                self._kept.pop(next(iter(self._kept)))
            y, x = np.mgrid[y0 : y1 + 1, x0 : x1 + 1] * float(NET_PX)
            self._kept[key] = np.ascontiguousarray(lens.directions(np.stack([x, y], -1)), np.float32)
        return self._kept[key], x0 * NET_PX, y0 * NET_PX


def eye_of(
    nets: Nets,
    camera: Callable[[float], Camera],
    area: tuple[int, int, int, int],
    size: tuple[int, int],
    shutter: float,
    readout: float,
    origin: np.ndarray,
    scale: float,
) -> Eye:
    """The camera over an exposure, for a part (left, top, right, bottom) of a picture of `size`, in the axes of a Stage."""
    here, span = camera(0.0), shutter + abs(readout)
    net, left, top = nets.of(here.lens, *area)
    poses = []
    for share in np.linspace(-0.5, 0.5, MOMENTS) * span if span > 0 else [0.0]:
        then = camera(share)
        poses.append([*then.R.ravel(), *((then.centre - origin) / scale), then.lens.fx / here.lens.fx])
    about = np.array([here.lens.cx, here.lens.cy])
    return Eye(net, float(left), float(top), about, np.array(size, float), np.array(poses), shutter, readout, span, 1.0 / here.lens.fx)
