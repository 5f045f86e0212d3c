"""The camera as kernels see it: a ray for each place in the picture and each moment, through whatever projection it has."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ..basics.jit import inlined
from ..projection.camera import Camera
from ..projection.pinhole import Lens
from .vectors import normalised

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
    angle: radians of a px. aperture: radius of the lens, 0 for a point; focus: distance along the view that is sharp; in the axes of the rays.
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
    aperture: float
    focus: float


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
    aperture: float = 0.0,
    focus: float = 1.0,
) -> Eye:
    """The camera over an exposure, for a part (left, top, right, bottom) of a picture of `size`, in the axes of a Stage; aperture, focus: in the
    scene's units."""
    here, span = camera(0.0), shutter + abs(readout)
    net, left, top = nets.of(here.lens, *area)
    poses = []
    for share in np.linspace(-0.5, 0.5, MOMENTS) * span if span > 0 else [0.0]:
        then = camera(share)
        poses.append([*then.R.ravel(), *((then.centre - origin) / scale), then.lens.fx / here.lens.fx])
    about = np.array([here.lens.cx, here.lens.cy])
    lens = (aperture / scale, focus / scale)
    return Eye(net, float(left), float(top), about, np.array(size, float), np.array(poses), shutter, readout, span, 1.0 / here.lens.fx, *lens)


@inlined
def ray_through(eye, x, y, u, lens_x, lens_y):
    """Origin, unit direction and time in 0..1 of the ray through place (x, y) px at moment u in 0..1 of the shutter and place (lens_x, lens_y) of
    the lens, whose rim is the unit circle. Source: a thin lens, R. Cook, T. Porter, L. Carpenter, Distributed Ray Tracing, SIGGRAPH 1984."""
    share = eye.shutter * (u - 0.5) + eye.readout * (y / max(eye.size[1] - 1.0, 1.0) - 0.5)
    at = min(max(share / eye.span + 0.5, 0.0), 1.0) if eye.span > 0 else 0.5
    last = eye.poses.shape[0] - 1
    k = min(int(at * last), max(last - 1, 0))
    b = at * last - k
    p, q = eye.poses[k], eye.poses[min(k + 1, last)]
    zoom = p[12] + b * (q[12] - p[12])
    i = (eye.about[1] + (y - eye.about[1]) / zoom - eye.top) / NET_PX
    j = (eye.about[0] + (x - eye.about[0]) / zoom - eye.left) / NET_PX
    r, c = min(max(int(i), 0), eye.net.shape[0] - 2), min(max(int(j), 0), eye.net.shape[1] - 2)
    i, j = i - r, j - c
    n = eye.net
    w00, w01, w10, w11 = (1 - i) * (1 - j), (1 - i) * j, i * (1 - j), i * j
    d0 = w00 * n[r, c, 0] + w01 * n[r, c + 1, 0] + w10 * n[r + 1, c, 0] + w11 * n[r + 1, c + 1, 0]
    d1 = w00 * n[r, c, 1] + w01 * n[r, c + 1, 1] + w10 * n[r + 1, c, 1] + w11 * n[r + 1, c + 1, 1]
    d2 = w00 * n[r, c, 2] + w01 * n[r, c + 1, 2] + w10 * n[r + 1, c, 2] + w11 * n[r + 1, c + 1, 2]
    a_x, a_y = eye.aperture * lens_x, eye.aperture * lens_y
    if eye.aperture > 0:  # all rays of a px meet where it is sharp
        k_far = eye.focus / max(d2, 1e-6)
        d0, d1, d2 = d0 * k_far - a_x, d1 * k_far - a_y, d2 * k_far
    m = (
        (p[0] + b * (q[0] - p[0])) * d0 + (p[3] + b * (q[3] - p[3])) * d1 + (p[6] + b * (q[6] - p[6])) * d2,
        (p[1] + b * (q[1] - p[1])) * d0 + (p[4] + b * (q[4] - p[4])) * d1 + (p[7] + b * (q[7] - p[7])) * d2,
        (p[2] + b * (q[2] - p[2])) * d0 + (p[5] + b * (q[5] - p[5])) * d1 + (p[8] + b * (q[8] - p[8])) * d2,
    )
    o = (
        p[9] + b * (q[9] - p[9]) + a_x * p[0] + a_y * p[3],
        p[10] + b * (q[10] - p[10]) + a_x * p[1] + a_y * p[4],
        p[11] + b * (q[11] - p[11]) + a_x * p[2] + a_y * p[5],
    )
    return o, normalised(m), at
