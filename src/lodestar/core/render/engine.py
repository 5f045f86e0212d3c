"""The renderer behind one small interface: things, lights, camera and quality to layers in filmed pixels."""

import functools
import math
from collections import OrderedDict
from collections.abc import Callable, Sequence
from typing import NamedTuple

import cv2
import numpy as np

from ..basics.identity import Same
from ..light.lamps import Light, SkyLight, SunLight
from ..light.surroundings import BOUNCE, AroundLight
from ..projection.camera import Camera
from . import denoise, incoming, pool, rays
from .eye import Nets, eye_of
from .geometry import Stage, check_solids, over_exposure, sent_light, stage
from .items import Item
from .meeting import THIN
from .near import NearLamps, near_of
from .region import footprint
from .sampling import samples
from .seen import WIDE as MIRRORED_WIDE
from .seen import Seen, seen_of
from .sphere import sphere_of
from .vectors import bright

GLASS_WIDE = 4096  # px of the plate at most that are kept for what is seen through glass
MOST_ROOM = 24_000_000  # numbers: of a draft in a window of 1500 x 850 px
EDGE = 0.1  # by which shares of px that lie side by side differ where something of ours ends
FAINT = 0.05  # of a px: what shows less of ours tells no colour of it
LEAST_DETAIL = 0.25  # with less, words cannot be read
KEPT_STAGES = 2  # one for the picture, one for the scene beside it


class Quality(NamedTuple):
    """error: rms that a tile of the picture may be off by in linear light, and half of what it may in shade, before the filter, which lowers it by
    `rays.FILTERED` in squares; what no filter may touch, as what is seen through glass, by as much less. 0 takes `most` samples everywhere.
    most: samples of a pixel at most. detail: px that are drawn for each px of the picture, across and down; fewer, down to LEAST_DETAIL, where these would
    be more than most_px in all (0: any number), so that a large window follows the hand as a small one does. seed: another one has other noise.
    shutter: share of a frame's time in which it is open; readout: frames from the first row to the last. spare: whether a core is left alone
    where there are three or more. aperture: radius of the lens in the scene's units; focus: distance along the view that is sharp."""

    error: float
    most: int
    detail: float = 1.0
    shutter: float = 0.0
    readout: float = 0.0
    spare: bool = False
    seed: int = 0
    aperture: float = 0.0
    focus: float = 1.0
    most_px: int = 0

    def detail_of(self, size: tuple[int, int]) -> float:
        """Px that are drawn for each px of a picture of `size`, across and down."""
        if not self.most_px:
            return self.detail
        return min(self.detail, max(math.sqrt(self.most_px / (size[0] * size[1])), LEAST_DETAIL))


class Layers(NamedTuple):
    """What our things are over the part of the picture that they touch, which begins at (left, top).

    colour (h, w, 4): of our things, premultiplied linear light. light_with, light_without (h, w, 3): light on what receives it,
    with our things there and without them, linear sums; both 0 where nothing receives any. depth() gives (h, w): of what is seen of ours,
    along the view, in the scene's units; infinite where nothing is. It is to be asked before the next picture is drawn.
    """

    colour: np.ndarray
    light_with: np.ndarray
    light_without: np.ndarray
    depth: Callable[[], np.ndarray]
    left: int
    top: int


class Engine:
    """A renderer and what it keeps from frame to frame; it belongs to one thread."""

    def __init__(self) -> None:
        self._nets, self._room = Nets(), Room()
        self._stages: OrderedDict[tuple, Stage] = OrderedDict()

    def render(
        self,
        items: Sequence[Item],
        lights: Sequence[Light | AroundLight],
        camera: Callable[[float], Camera],
        size: tuple[int, int],
        quality: Quality,
        check: Callable[[], None] = lambda: None,
        plate: Callable[[], np.ndarray] | None = None,
    ) -> Layers | None:
        """Our layers in the filmed pixels of a picture of `size` (width, height); None where they touch none of it.

        camera(share of a frame's time from the middle of the exposure) is the camera then. check is called meanwhile, some 50
        times a second, and may raise. plate() gives the frame, (h, w, 3) linear light of Rec.709, for what mirrors the ground and for what is
        seen through glass; it is called only if something does. Raises RenderError where the machine cannot render.
        """
        if not any(i.drawn and len(i.mesh.triangles) for i in items):
            return None
        check_solids(items)
        if (detail := quality.detail_of(size)) != 1:
            coarse = (max(round(size[0] * detail), 1), max(round(size[1] * detail), 1))
            scale = coarse[0] / size[0]
            layers = self._render(items, lights, lambda share: camera(share).scaled(scale), coarse, quality, check, plate)
            return layers and _enlarged(layers, scale, size, quality.spare, check)
        return self._render(items, lights, camera, size, quality, check, plate)

    def _stage(self, items: Sequence[Item], span: float) -> Stage:
        """The items as kernels see them; kept for the same items, as in a view that turns."""
        key = (span, *(Same(item) for item in items))
        found = self._stages.pop(key, None) or stage(items, span)
        self._stages[key] = found
        while len(self._stages) > KEPT_STAGES:
            self._stages.popitem(last=False)
        return found

    def _render(
        self,
        items: Sequence[Item],
        lights: Sequence[Light | AroundLight],
        camera: Callable[[float], Camera],
        size: tuple[int, int],
        quality: Quality,
        check: Callable[[], None],
        plate: Callable[[], np.ndarray] | None,
    ) -> Layers | None:
        span = quality.shutter + abs(quality.readout)
        items = over_exposure(items, span)
        area = footprint(items, lights, camera, size, span, quality.error, quality.aperture, quality.focus)
        if area is None:
            return None
        left, top, right, bottom = area
        here = self._stage(items, span)
        eye = eye_of(self._nets, camera, area, size, quality.shutter, quality.readout, here.origin, here.scale, quality.aperture, quality.focus)
        # what is drawn smaller is enlarged into arrays of its own, so that its film may be drawn over by the next one
        room: Callable[[tuple[int, ...], type], np.ndarray] = self._room.taken() if quality.detail != 1 else np.empty
        film = _film(bottom - top, right - left, room)
        near = near_of(lights, sent_light(items, here.origin, here.scale), here.origin, here.scale)
        glass = any(look.clear > 0 for i in items if i.drawn for look in i.looks)
        wide = GLASS_WIDE if glass else MIRRORED_WIDE
        seen = seen_of(plate() if plate is not None and (glass or _mirrors(items)) else None, camera(0.0), size, here.origin, here.scale, wide)
        table, lit = samples(quality.most), _lights(lights, near, seen)
        seed = np.uint32(quality.seed * 0x9E3779B1 & 0xFFFFFFFF)

        def shoot(count: int, places: np.ndarray) -> np.ndarray:
            cover = np.zeros(len(places), np.float32)
            draw = lambda next_: rays.tiles(
                here.things, eye, lit, table, quality.error, quality.most, left, top, next_, count, film, seed, places, cover
            )
            pool.spread(draw, count, quality.spare, check)
            return cover

        shoot(-(-(right - left) // rays.TILE) * -(-(bottom - top) // rays.TILE), np.zeros((0, 2), np.int32))
        if quality.error > 0 and quality.most > 1 and len(edges := _edges(film.colour[..., 3], any(i.reflects > 0 for i in items))):
            _cover(film, edges, shoot(len(edges), edges))
        shade, even = denoise.smoothed(film, quality.spare, check, room)
        rays.join(film, shade, even)
        depth = functools.partial(_depth, film.ours, camera(0.0), here.origin, here.scale)
        return Layers(film.colour, film.lit, film.bare, depth, left, top)


def _edges(alpha: np.ndarray, mirrored: bool) -> np.ndarray:
    """(n, 2) row and column of the px (h, w) next to which something of ours ends, and of those that are not all of ours or of others, as where it is
    blurred by its motion; mirrored: but not what a wet or polished place shows of ours, which is so all over."""
    around = np.ones((3, 3), np.uint8)
    edges = cv2.dilate(alpha, around) - cv2.erode(alpha, around) > EDGE
    # in rows, as the kernel was compiled for
    return np.ascontiguousarray(np.argwhere(edges if mirrored else edges | ((alpha > THIN) & (alpha < 1 - THIN))), np.int32)


def _cover(film: rays.Film, places: np.ndarray, cover: np.ndarray) -> None:
    """Let px (n, 2) of a film show as much of ours as `cover` (n,) says, in the colour that they have; what showed next to none of it has that of
    the px beside it that shows most."""
    alpha = np.pad(film.colour[..., 3], 1)
    y, x = places.T
    ways = np.array([(0, 0), *((v, u) for v in (-1, 0, 1) for u in (-1, 0, 1) if v or u)])
    around = np.stack([alpha[y + 1 + v, x + 1 + u] for v, u in ways])
    best = np.where(around[0] >= FAINT, 0, around.argmax(0))
    from_ = (y + ways[best, 0], x + ways[best, 1])
    share = cover / np.maximum(np.take_along_axis(around, best[None], 0)[0], 1e-6)
    for sheet in (film.colour, film.soft):
        sheet[y, x] = sheet[from_] * share[:, None]
    film.ours[y, x] = film.ours[from_]
    film.colour[y, x, 3] = cover


def _enlarged(layers: Layers, scale: float, size: tuple[int, int], spare: bool, check: Callable[[], None]) -> Layers | None:
    """Layers of a smaller picture, with `scale` px for each px of one of `size`."""
    h, w = layers.colour.shape[:2]
    left, top = (int(np.floor(side / scale)) for side in (layers.left, layers.top))
    right, bottom = min(int(np.ceil((layers.left + w) / scale)), size[0]), min(int(np.ceil((layers.top + h) / scale)), size[1])
    if right <= left or bottom <= top:
        return None
    # the centre of the first px is 0 in both
    across, down = ((begin + 0.5) * scale - 0.5 - off for begin, off in ((left, layers.left), (top, layers.top)))
    turn = np.array([[scale, 0, across], [0, scale, down]])
    flags, border = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP, cv2.BORDER_REPLICATE
    found: dict[str, np.ndarray] = {}

    def enlarge(name: str) -> None:
        found[name] = cv2.warpAffine(getattr(layers, name), turn, (right - left, bottom - top), flags=flags, borderMode=border)

    pool.each(enlarge, ("colour", "light_with", "light_without"), spare, check)
    nearest = cv2.INTER_NEAREST | cv2.WARP_INVERSE_MAP
    deep = lambda: cv2.warpAffine(layers.depth(), turn, (right - left, bottom - top), flags=nearest, borderMode=border)
    return Layers(**found, depth=deep, left=left, top=top)


def _depth(ours: np.ndarray, camera: Camera, origin: np.ndarray, scale: float) -> np.ndarray:
    """(h, w) along the view of the mean place that was seen of ours; ours: as in rays.Film."""
    weight = ours[..., 6]
    place = ours[..., 3:6] @ (scale * camera.R[2]).astype(np.float32) / np.maximum(weight, 1e-12)
    return np.where(weight > 0, place + np.float32(camera.R[2] @ origin + camera.t[2]), np.float32(np.inf))


def _mirrors(items: Sequence[Item]) -> bool:
    """Whether something of ours shows what stands before it: as `lighting.shaded` tells."""
    return any(look.metal > 0 or look.coat > 0 or look.roughness < incoming.SHINY for i in items if i.drawn for look in i.looks)


class Room:
    """Memory for the film of a small picture, kept for the next one: to get it from the system each time takes as long as a third of a draft
    (measured)."""

    def __init__(self) -> None:
        self._kept = np.zeros(0, np.float32)

    def taken(self) -> Callable[[tuple[int, ...], type], np.ndarray]:
        """A function of shape and kind of 32-bit numbers that gives arrays one after another, of any content; those of the last time are gone."""
        used = 0

        def take(shape: tuple[int, ...], kind: type) -> np.ndarray:
            nonlocal used
            count = math.prod(shape)
            if used + count > MOST_ROOM:
                return np.empty(shape, kind)
            if used + count > len(self._kept):
                # what is in use stays in the old one
                self._kept, used = np.empty(min(2 * (used + count), MOST_ROOM), np.float32), 0
            part = self._kept[used : used + count]
            used += count
            return part.view(kind).reshape(shape)

        return take


def _film(height: int, width: int, room: Callable[[tuple[int, ...], type], np.ndarray]) -> rays.Film:
    """Of any content: each tile is made blank when it is drawn."""
    plane = lambda *deep: room((height, width, *deep), np.float32)
    return rays.Film(plane(4), plane(3), plane(5), plane(3), plane(3), plane(7), plane(7), plane(3), room((height, width), np.int32), plane(12))


def _lights(lights: Sequence[Light | AroundLight], near: NearLamps, seen: Seen) -> incoming.Lights:
    """As kernels take them. What the place sends back is lit by all suns and the sky."""
    suns = [light for light in lights if isinstance(light, SunLight)]
    sky = sum((light.colour for light in lights if isinstance(light, SkyLight)), np.zeros(3))
    rows = np.array([[*s.direction, *s.colour, np.cos(np.deg2rad(s.width_deg / 2))] for s in suns], float).reshape(-1, 7)
    bounce = BOUNCE * (sky + sum((s.colour * max(float(s.direction[2]), 0.0) for s in suns if s.bounces), np.zeros(3)))
    # one picture of the full sphere is asked: a shot has no more
    around = next((light for light in lights if isinstance(light, AroundLight)), None)
    level = sky if around is None else sky + around.colour
    # ground that stands for the place looks in a mirror as what lies beneath does
    place = bounce if around is None else bounce + around.floor
    kept = (place.astype(float), float(bright.py_func(level)), sphere_of(around), seen)
    return incoming.Lights(rows, sky.astype(float), bounce.astype(float), near.table, near.tree, near.sent, *kept)
