"""The renderer behind one small interface: things, lights, camera and quality to layers in filmed pixels."""

from collections.abc import Callable, Sequence
from typing import NamedTuple

import cv2
import numba as nb
import numpy as np

from ..basics.jit import parallel_kernel
from ..light.lamps import Light, SkyLight, SunLight
from ..projection.camera import Camera
from ..projection.pinhole import Lens
from ..shape.extrude import Mesh
from .gpu import Drawn, Lamp, Renderer, View
from .items import LEVEL, Item
from .region import fan, footprint, lit_ground

MOST_MAPS = 4
NO_SUN = SunLight(np.array([0, 0, 1.0]), np.zeros(3), 0.0)


class Quality(NamedTuple):
    """samples: sub-frames; shutter: share of a frame's time in which it is open; detail: px that are drawn for each px of the
    picture; sky: whether the wide shade of the sky is taken in."""

    samples: int
    shutter: float = 0.0
    detail: float = 1.0
    sky: bool = True


class Layers(NamedTuple):
    """What our things are over the part of the picture that they touch, which begins at (left, top).

    colour (h, w, 4): of our things, premultiplied linear light. light_with, light_without (h, w, 3): light on what receives it,
    with our things there and without them, linear sums; both 0 where nothing receives any.
    """

    colour: np.ndarray
    light_with: np.ndarray
    light_without: np.ndarray
    left: int
    top: int


class Engine:
    """A renderer and what it keeps from frame to frame; it belongs to one thread, and whoever opened it closes it."""

    def __init__(self) -> None:
        self._renderer: Renderer | None = None
        self._maps: dict = {}
        self._ground: tuple[bytes, Mesh] = (b"", LEVEL)

    def close(self) -> None:
        if self._renderer is not None:
            self._renderer.close()
        self.__init__()  # type: ignore[misc]

    def render(
        self,
        items: Sequence[Item],
        lights: Sequence[Light],
        camera: Callable[[float], Camera],
        size: tuple[int, int],
        quality: Quality,
        check: Callable[[], None] = lambda: None,
    ) -> Layers | None:
        """Our layers in the filmed pixels of a picture of `size` (width, height); None where they touch none of it.

        camera(share of a frame's time from the middle of the exposure) is the camera then. check is called between sub-frames
        and may raise. Raises RenderError where the machine cannot render.
        """
        solid = [i for i in items if len(i.mesh.vertices)]
        if not any(i.drawn for i in solid):
            return None
        lamps = _pairs(lights)
        here = camera(0.0)
        areas = [a for lamp in lamps if (a := self._area(solid, lamp, here, size, quality)) is not None]
        if not areas:
            return None
        low, high = np.min([a[:2] for a in areas], axis=0), np.max([a[2:] for a in areas], axis=0)
        area = int(low[0]), int(low[1]), int(high[0]), int(high[1])
        parts = [self._one_sun([*solid, *self._level(items, solid, lamp, here, quality)], lamp, camera, area, quality, check) for lamp in lamps]
        colour, light = _summed(parts, lamps)
        if self._is_straight(here.lens, quality):
            return _layers(colour, light, lamps, area[0], area[1])
        return self._filmed(colour, light, lamps, here.lens, area, size, quality)

    def _is_straight(self, lens: Lens, quality: Quality) -> bool:
        return quality.detail == 1 and lens.k1 == lens.k2 == 0

    def _area(self, solid: list[Item], lamp: Lamp, here: Camera, size: tuple[int, int], quality: Quality) -> tuple[int, int, int, int] | None:
        width, height = size
        if self._is_straight(here.lens, quality):
            low, high = np.zeros(2), np.array([width - 1.0, height - 1.0])
        else:
            _, low, high = self._map(here.lens, width, height)
        area = footprint(solid, lamp, here, low, high, quality.sky)
        if area is None or not self._is_straight(here.lens, quality):
            return area
        left, top, right, bottom = max(area[0], 0), max(area[1], 0), min(area[2], width), min(area[3], height)
        return (left, top, right, bottom) if right > left and bottom > top else None

    def _level(self, items: Sequence[Item], solid: list[Item], lamp: Lamp, here: Camera, quality: Quality) -> list[Item]:
        """The level ground, where there is one, as far as it matters."""
        found = [i for i in items if i.mesh is LEVEL]
        if not found:
            return []
        hull = lit_ground(solid, lamp, here.centre, quality.sky)
        if hull.tobytes() != self._ground[0]:
            self._ground = hull.tobytes(), fan(hull)
        return [i._replace(mesh=self._ground[1]) for i in found]

    def _one_sun(
        self, items: list[Item], lamp: Lamp, camera: Callable[[float], Camera], area: tuple[int, int, int, int], quality: Quality, check
    ) -> Drawn:
        here, fine, (left, top, right, bottom) = camera(0.0), quality.detail, area
        poses: dict[float, tuple] = {0.0: (here.R, here.t, 1.0)}

        def pose(share: float) -> tuple[np.ndarray, np.ndarray, float]:
            if share not in poses:
                between = camera(share)
                poses[share] = (between.R, between.t, between.lens.fx / here.lens.fx)
            return poses[share]

        if self._is_straight(here.lens, quality):
            view = View(pose, here.lens.fx, here.lens.cx, here.lens.cy, left, top, right - left, bottom - top)
        else:
            x, y = int(np.floor(left * fine)), int(np.floor(top * fine))
            size = int(np.ceil((right - left) * fine)) + 1, int(np.ceil((bottom - top) * fine)) + 1
            view = View(pose, here.lens.fx * fine, _coarse(here.lens.cx, fine), _coarse(here.lens.cy, fine), x, y, *size)
        if self._renderer is None:
            self._renderer = Renderer()
        return self._renderer.render(items, view, lamp, quality.samples, quality.shutter if quality.samples > 1 else 0.0, check)

    def _map(self, lens: Lens, width: int, height: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """(height, width, 2) float32: for each filmed pixel, its place in the straight picture, with its low and high corner (2,);
        kept for the last few lenses."""
        key = (lens, width, height)
        if key not in self._maps:
            while len(self._maps) >= MOST_MAPS:
                self._maps.pop(next(iter(self._maps)))
            y, x = np.mgrid[0:height, 0:width].astype(np.float64)
            xy = lens.undistort(np.stack([x, y], -1))
            place = (xy * [lens.fx, lens.fy] + [lens.cx, lens.cy]).astype(np.float32)
            self._maps[key] = place, place.reshape(-1, 2).min(0), place.reshape(-1, 2).max(0)
        return self._maps[key]

    def _filmed(
        self,
        colour: np.ndarray,
        light: list[np.ndarray],
        lamps: list[Lamp],
        lens: Lens,
        area: tuple[int, int, int, int],
        size: tuple[int, int],
        quality: Quality,
    ) -> Layers | None:
        """Straight layers with the lens's distortion, over the part of the filmed picture whose straight places were drawn."""
        place, fine, (left, top, right, bottom) = self._map(lens, *size)[0], quality.detail, area
        inside = (place[..., 0] > left) & (place[..., 0] < right - 1) & (place[..., 1] > top) & (place[..., 1] < bottom - 1)
        rows, columns = np.flatnonzero(inside.any(1)), np.flatnonzero(inside.any(0))
        if len(rows) == 0 or len(columns) == 0:
            return None
        y0, y1, x0, x1 = int(rows[0]), int(rows[-1]) + 1, int(columns[0]), int(columns[-1]) + 1
        starts = int(np.floor(left * fine)), int(np.floor(top * fine))
        # two maps: OpenCV 5.0.0 goes wrong by whole pixels with one map of two channels (measured)
        across, down = (_coarse(place[y0:y1, x0:x1, k], fine) - np.float32(start) for k, start in enumerate(starts))
        bent = [cv2.remap(one, across, down, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(0, 0, 0, 0)) for one in (colour, *light)]
        return _layers(bent[0], bent[1:], lamps, x0, y0)


def _coarse(v, fine: float):
    """A coordinate in a picture that is drawn with `fine` times the pixels; the centre of the top-left pixel is 0 in both."""
    return (v + 0.5) * fine - 0.5


def _pairs(lights: Sequence[Light]) -> list[Lamp]:
    """One lamp for each sun; the light of all skies goes with the first."""
    sky = sum((light.colour for light in lights if isinstance(light, SkyLight)), np.zeros(3))
    suns = [light for light in lights if isinstance(light, SunLight)] or [NO_SUN]
    return [Lamp(s.direction, s.colour, sky if k == 0 else np.zeros(3), s.width_deg) for k, s in enumerate(suns)]


def _summed(parts: list[Drawn], lamps: list[Lamp]) -> tuple[np.ndarray, list[np.ndarray]]:
    """The colour in the light of all lamps, and the shares of each lamp's light: light adds up."""
    colour = parts[0].colour
    for part in parts[1:]:
        colour = np.concatenate([colour[..., :3] + part.colour[..., :3], colour[..., 3:]], -1)
    return colour, [part.light for part in parts]


def _layers(colour: np.ndarray, light: list[np.ndarray], lamps: list[Lamp], left: int, top: int) -> Layers:
    light_with, light_without = np.zeros((2, *colour.shape[:2], 3), np.float32)
    for one, lamp in zip(light, lamps):
        add_light(one, lamp.sun.astype("f4"), lamp.sky.astype("f4"), light_with, light_without)
    return Layers(colour, light_with, light_without, left, top)


@parallel_kernel
def add_light(light, sun, sky, light_with, light_without):
    """Add the light of a lamp, from the shares (h, w, 4) that were drawn, to the sums (h, w, 3) with our things and without them."""
    for y in nb.prange(light.shape[0]):
        for x in range(light.shape[1]):
            for c in range(3):
                light_with[y, x, c] += light[y, x, 0] * sun[c] + light[y, x, 2] * sky[c]
                light_without[y, x, c] += light[y, x, 1] * sun[c] + light[y, x, 3] * sky[c]
