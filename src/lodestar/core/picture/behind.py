"""The plate with another sky: what of the old one is seen at each edge is taken out, and its grain stays."""

from collections.abc import Callable

import cv2
import numpy as np

from ..basics.colour import in_primaries
from ..basics.geometry import length, summed
from ..evaluate.cameras import camera_at, seconds_at
from ..evaluate.lights import sky_picture
from ..finish.backdrop import turn_of
from ..matte.background import resampled
from ..matte.edge import rising
from ..render.engine import Quality
from ..render.eye import Nets, eye_of
from ..render.sky import sky_seen
from ..shot.document import Shot
from .composite import codes_of
from .edges import FAR_PX, box, disc, smooth
from .ours import matte_named
from .plate import Size, plate_light
from .workshop import Workshop

SURE = 0.98  # of a px: from here on it shows the old sky and nothing else
EDGE_PX = 2.0  # that an edge may be broader than it was keyed, on each side
SPILL_PX = 4.0  # from the edge, as far as a clip's coarser colour may carry that of the old sky over what stands before it
APART = 0.03  # distance of two colours, linear light, at which their line tells as much as the key
NO_LIGHT = 1e-4
TINTS_APART = 0.08  # of two colours by themselves, each over its brightness, at which half of what one has of the other is taken out
# the old sky ends in haze where light goes over in no step: there the new one comes out of it. Px of the plate, and by how much light changes over so many, as
# a share of it: up to which that is haze for sure, and from which on it is none (measured: 0.01 to 0.06 in haze of two real clips; 0.065 to 0.2 at the
# least clear hundredth of other edges, as of white domes before white clouds, but nowhere over a stretch). And how far it comes out, of the picture's width
STEP_PX, HAZE, NO_HAZE, OUT_OF_HAZE = 4.0, 0.06, 0.11, 0.025
PLACES = 2  # across and down a px, of a final picture

_nets = Nets()


def has_sky(shot: Shot) -> bool:
    return shot.backdrop.on and bool(shot.backdrop.mattes)


def with_sky(shot: Shot, workshop: Workshop, index: int, size: Size, quality: Quality, codes: np.ndarray) -> np.ndarray:
    """(h, w, 3) code values of a plate (h, w, 3) with the shot's own sky behind it. What no matte of the sky covers is not touched.

    In linear light, plate + share * (new - old): the old sky at an edge is that of the sure sky around, so that no fringe of it
    stays, and what is finer than it is smoothed by stays as the plate's grain.
    Raises PlateError when the picture of the sky cannot be read.
    """
    plate, backdrop = shot.plate, shot.backdrop
    assert plate is not None
    cover = matte_named(shot, workshop, index, size, backdrop.mattes)
    if not cover.any():
        return codes
    area = box(cover, int(np.ceil(3 * FAR_PX * size.scale)))
    left, top, right, bottom = area
    part = slice(top, bottom), slice(left, right)
    cover = np.ascontiguousarray(cover[part])
    new = sky_of(shot, index, size, quality, area, cover)
    share = cover * new[..., 3]
    light = plate_light(shot, workshop, index, size)[part]
    seen = in_primaries(new[..., :3], plate.colour.primaries)
    touched = share > 0
    if quality.most > 1:
        found = _mixed(light, seen, share, size.scale, np.float32(backdrop.grain.at(index)[0]))
        touched = cv2.dilate(touched.astype(np.uint8), disc(SPILL_PX * size.scale)) > 0
    else:  # a draft, which is soon made again
        found = light + share[..., None] * (seen - light)
    if (haze := _out_of_haze(light, share, size)) is not None:
        found = light + haze[..., None] * (found - light)
    changed = codes_of(np.ascontiguousarray(found, np.float32), plate.transfer, codes.dtype)
    out = codes.copy()
    out[part] = np.where(touched[..., None], changed, codes[part])
    return out


def _out_of_haze(light: np.ndarray, share: np.ndarray, size: Size) -> np.ndarray | None:
    """(h, w) float32, 0 to 1: how far the new sky has come out of the haze in which the old one ends, by light (h, w, 3) and the share (h, w) of the old sky;
    None where it ends in an edge everywhere."""
    even, soft = cv2.GaussianBlur(light, (0, 0), 0.3 * STEP_PX * size.scale), cv2.GaussianBlur(share, (0, 0), 0.5 * STEP_PX * size.scale)
    sky = (soft > 0.5).astype(np.uint8)
    border = (sky > 0) & (cv2.erode(sky, np.ones((3, 3), np.uint8), borderValue=1) == 0)
    ys, xs = np.nonzero(border)
    if not len(ys):
        return None
    up = np.stack([cv2.Sobel(soft, cv2.CV_32F, *way)[ys, xs] for way in ((1, 0), (0, 1))], 1)
    up *= STEP_PX / 2 * size.scale / np.maximum(length(up)[:, None], 1e-9)
    at = lambda k: resampled(even, (np.stack([xs, ys], 1) + k * up).astype(np.float32))
    # the steepest step near the border counts, as a key may end a little beside an edge
    across = [at(k) for k in np.arange(-3.5, 4)]
    step = np.max([summed(np.abs(b - a)) / np.maximum(summed(a + b) / 2, NO_LIGHT) for a, b in zip(across, across[2:])], axis=0)
    hazy = rising((NO_HAZE - step) / (NO_HAZE - HAZE))
    if not hazy.any():
        return None
    wide = OUT_OF_HAZE * size.width
    of_border = np.zeros(share.shape, np.float32)
    of_border[ys, xs] = hazy
    weigh = lambda of, width: cv2.GaussianBlur(of, (0, 0), width)
    # a few px of an edge are by chance as bright as what is behind them: haze is wide
    along = rising(2 * weigh(of_border, wide / 2)[ys, xs] / weigh(border.astype(np.float32), wide / 2)[ys, xs] - 1)
    if not along.any():
        return None
    away, nearest = cv2.distanceTransformWithLabels((~border).astype(np.uint8), cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL)
    of_place = np.zeros(int(nearest.max()) + 1, np.float32)
    of_place[nearest[ys, xs]] = along
    return 1 - weigh(of_place[nearest] * rising(1 - np.where(sky > 0, away, 0) / wide), wide / 4)


def _mixed(light: np.ndarray, seen: np.ndarray, share: np.ndarray, scale: float, grain: np.float32) -> np.ndarray:
    """(h, w, 3) light of the plate (h, w, 3) with the new sky seen in it, by the share (h, w) of the old one that was keyed."""
    inside = cv2.erode((share >= SURE).astype(np.uint8), disc(EDGE_PX * scale)) > 0
    clear = (share <= 1 - SURE).astype(np.uint8)
    outside = cv2.erode(clear, disc(EDGE_PX * scale)) > 0
    old, known = smooth(light, inside, scale)
    front, told = smooth(light, cv2.erode(clear, disc(SPILL_PX * scale)) > 0, scale)
    share = np.where(inside | outside | ~told, share, _edge(light, old, front, share)).astype(np.float32)
    # what stands before the sky, by itself: times its own share of the px
    away = np.where(told, cv2.distanceTransform(clear, cv2.DIST_L2, 3) / (SPILL_PX * scale), 1)
    own = _without_tint(np.maximum(light - share[..., None] * old, 0), share, old, front, away)
    # as light falls on a sensor in grains, there is less noise where there is less of it
    noise = grain * np.sqrt(np.maximum(seen, 0) / np.maximum(old, NO_LIGHT)) * (light - old)
    clean = np.where(inside[..., None], seen + noise, own + share[..., None] * seen)
    # where nothing near is sure to be sky, a mix is all that can be done
    return np.where(known[..., None], np.maximum(clean, 0), light + share[..., None] * (seen - light))


def _without_tint(own: np.ndarray, share: np.ndarray, old: np.ndarray, front: np.ndarray, away: np.ndarray) -> np.ndarray:
    """(h, w, 3) light of what stands before the sky, as bright as it is, without what its colour has of the old sky's next to the edge, or lacks of it where
    some of the sky was taken out by its share (h, w). away (h, w): from 0 at the edge to 1 from where on nothing is changed. Clips are coded with
    colour at half the size, so that it is carried over edges that brightness shows."""
    tint = lambda a: a / np.maximum(a.sum(-1, keepdims=True), NO_LIGHT)
    way = tint(old) - tint(front)
    square = summed(way * way)
    has = np.clip(summed((tint(own) - tint(front)) * way) / np.maximum(square, 1e-9), np.where(share > 1 - SURE, -1, 0), 1)
    taken = has * np.clip(1 - away, 0, 1) * square / (square + TINTS_APART * TINTS_APART)
    return np.maximum(own - taken[..., None] * way * own.sum(-1, keepdims=True), 0)


def _edge(light: np.ndarray, old: np.ndarray, front: np.ndarray, share: np.ndarray) -> np.ndarray:
    """(h, w) the share of the old sky in px of an edge: their place on the line from the colour of what stands before it to that of the sky,
    as far as the two differ; else as it was keyed. Source: T. Porter, T. Duff, Compositing Digital Images, SIGGRAPH 1984."""
    way = old - front
    square = summed(way * way)
    told = np.clip(summed((light - front) * way) / np.maximum(square, 1e-9), 0, 1)
    trust = square / (square + APART * APART)
    return trust * told + (1 - trust) * share


def sky_of(shot: Shot, index: int, size: Size, quality: Quality, area: tuple[int, int, int, int], cover: np.ndarray) -> np.ndarray:
    """(h, w, 4) the shot's sky over the part (left, top, right, bottom) of the picture of a frame, where `cover` (h, w) is above 0 and as far
    round it as an edge may reach: linear light of Rec.709, and how much of a px lies over the horizon. Raises PlateError when its picture
    cannot be read."""
    backdrop, plate = shot.backdrop, shot.plate
    assert plate is not None
    picture, top, span = sky_picture(backdrop, index)
    camera: Callable = lambda share: camera_at(shot, index + share).scaled(size.scale)
    eye = eye_of(_nets, camera, area, size[:2], quality.shutter, quality.readout, np.zeros(3), 1.0)
    soft = backdrop.soft.at(index)[0] * size.scale
    # what is blurred in comes from beyond the cover, and an edge may be broader than it
    cover = cv2.dilate((cover > 0).astype(np.float32), disc(SPILL_PX * size.scale + 3 * soft + 1))
    out = np.zeros((*cover.shape, 4), np.float32)
    haze = (backdrop.haze.at(index)[0], np.deg2rad(backdrop.haze_height.at(index)[0]), np.array(backdrop.haze_colour))
    sky_seen(
        eye,
        turn_of(backdrop, index, seconds_at(shot, index)),
        picture,
        top,
        span,
        np.deg2rad(backdrop.horizon.at(index)[0] if shot.solve is not None else -90.0),
        *haze,
        PLACES if quality.most > 1 else 1,
        cover,
        area[0],
        area[1],
        out,
    )
    if soft > 0.1:
        out[..., :3] = cv2.GaussianBlur(np.ascontiguousarray(out[..., :3]), (0, 0), soft)
    out[..., :3] *= np.float32(2.0 ** backdrop.exposure.at(index)[0])
    return out
