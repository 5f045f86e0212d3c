"""The light of a shot at a time: its lamps, and what surrounds it."""

import functools
from collections.abc import Sequence
from pathlib import Path

import cv2
import numpy as np

from ..basics.colour import decode
from ..basics.geometry import F64
from ..basics.identity import Same
from ..finish import backdrop as backdrops
from ..finish.backdrop import Backdrop
from ..light import skies, surroundings
from ..light.lamps import Area, Light, Sky, SkyLight, Spot, Sun, SunLight, lights_of
from ..light.sun import direction
from ..light.surroundings import Around, AroundLight, Surroundings, light_around, on_ground, prepared
from ..media.panorama import panorama
from ..media.pictures import picture_frame
from ..shot.document import Shot
from ..shot.objects import Card, Solid, is_there
from .cameras import seconds_at
from .kinds import kind_of


def lights_at(shot: Shot, frame: float) -> list[Light | AroundLight]:
    """What the shot's lamps give that are on, and its surroundings. Raises PlateError where a picture of these cannot be read."""
    found: list[Light | AroundLight] = list(lights_of(shot.lamps, frame, lambda id_: signal_of(shot, id_, frame)))
    around = shot.surroundings
    if around.on and (around.kind != "picture" or around.picture):
        found += light_around(_around(shot, around, frame), around, turn_at(shot, frame), frame)
    return found


def signal_of(shot: Shot, id_: str, frame: float) -> F64:
    """(3,) how bright an object or lamp is at a frame: of a card with a picture or movie its mean light, else its glow or strength against the most
    that it ever has; 1 where there is no such thing, or nothing of it can be told."""
    thing = next((one for one in (*shot.objects, *shot.lamps) if one.id == id_), None)
    if isinstance(thing, Card) and not thing.glow.keys and (shown := kind_of(thing).picture(thing, frame)) is not None and shown.paints:
        return _mean_light(Same(shown.pixels)) * (is_there(thing, frame) * float(thing.opacity.at(frame)[0]))
    if thing is None or not isinstance(thing, Solid | Area | Spot | Sun | Sky):
        return np.ones(3)
    value = thing.glow if isinstance(thing, Solid) else thing.strength
    most = max((abs(key.value[0]) for key in value.keys), default=abs(value.value[0]))
    there = is_there(thing, frame) if isinstance(thing, Solid) else thing.on
    return np.full(3, there * value.at(frame)[0] / most if most > 0 else 1.0)


@functools.lru_cache(maxsize=4)
def _mean_light(same: Same) -> F64:
    """(3,) linear light of a picture (h, w, 4) uint8, where it covers."""
    small = cv2.resize(same.of, (64, 64), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    return (decode(small[..., :3], "srgb") * small[..., 3:]).mean((0, 1)).astype(float)


def light_on(lights: Sequence[Light | AroundLight], normal: F64) -> F64:
    """(3,) what a white matt surface that faces along a normal (3,) sends back of suns, sky and surroundings, with nothing before it."""
    suns = [light for light in lights if isinstance(light, SunLight)]
    sky = sum((light.colour for light in lights if isinstance(light, SkyLight)), np.zeros(3))
    bounce = surroundings.BOUNCE * (sky + sum((s.colour * max(float(s.direction[2]), 0.0) for s in suns if s.bounces), np.zeros(3)))
    up = 0.5 + 0.5 * float(normal[2])
    found = up * sky + (1 - up) * bounce + sum((s.colour * max(float(s.direction @ normal), 0.0) for s in suns), np.zeros(3))
    for light in lights:
        if isinstance(light, AroundLight):
            begin, wide, high = light.around.levels[surroundings.MATT]
            facing = surroundings.directions(int(high)).reshape(-1, 3) @ (light.turn @ normal)
            found = found + light.gain * light.around.texels[begin + int(facing.argmax())]
    return found


def turn_at(shot: Shot, frame: float) -> F64:
    """(3, 3) from directions of the scene to those of the surroundings."""
    if shot.surroundings.kind != "sky":
        return surroundings.turn_of(shot.surroundings, frame)
    return backdrops.turn_of(shot.backdrop, frame, seconds_at(shot, frame))


def _around(shot: Shot, around: Surroundings, frame: float) -> Around:
    floor = float(round(around.floor.at(frame)[0]))  # each makes tables anew, so that a drag makes a few dozen at most
    if around.kind == "sky":
        backdrop = shot.backdrop
        if backdrop.kind != "picture":
            return _made(backdrop.kind, floor)
        width = round(backdrop.width.at(frame)[0], 2)
        return _of_sky(backdrop.picture, _stamp(backdrop.picture), width, floor)
    if around.kind == "picture":
        return _of_file(around.picture, _stamp(around.picture), floor)
    return _made(around.kind, floor)


def _stamp(path: str) -> float:
    """Of a file that may be gone, which is told when it is read."""
    try:
        return Path(path).stat().st_mtime
    except OSError:
        return 0.0


@functools.lru_cache(maxsize=4)
def _made(kind: str, floor: float) -> Around:
    if kind == "soft box":
        return prepared(surroundings.soft_box(), floor)
    rows = round(skies.HIGH * 90 / (90 - skies.LOWEST_DEG))
    sky = skies.made(kind)[:rows]
    shine = skies.SUN_LIGHT[kind]
    sun = None
    if shine > 0:
        level = surroundings.level_light(on_ground(sky, None)[: surroundings.HIGH // 2])
        colour = shine * float(level @ surroundings.BRIGHTNESS) * np.array(skies.SUN_COLOURS[kind])
        sun = SunLight(direction(0.0, skies.SUN_HEIGHTS[kind]), colour, 0.53)
    return prepared(on_ground(sky, sun), floor, sun)


@functools.lru_cache(maxsize=2)
def _of_file(path: str, stamp: float, floor: float) -> Around:
    return prepared(panorama(path), floor)


@functools.lru_cache(maxsize=2)
def _of_sky(path: str, stamp: float, width_deg: float, floor: float) -> Around:
    """A picture that is put behind the place, over the whole sphere: it ends at the horizon where it shows no ground, and its sides go on."""
    light = _light_of_file(path, 0)
    if width_deg >= 359.5 and abs(light.shape[1] - 2 * light.shape[0]) <= 0.02 * light.shape[1]:
        whole = cv2.resize(light, (surroundings.WIDE, surroundings.HIGH), interpolation=cv2.INTER_AREA)
        return prepared(np.maximum(whole, 0), floor)
    px = light.shape[1] / np.deg2rad(width_deg)
    top = np.deg2rad(width_deg) * light.shape[0] / light.shape[1] / 2
    d = surroundings.directions(surroundings.HIGH)[: surroundings.HIGH // 2]
    x = np.arctan2(d[..., 0], d[..., 1]) * px + 0.5 * light.shape[1] - 0.5
    y = (top - np.arcsin(np.clip(d[..., 2], -1, 1))) * px - 0.5
    sky = cv2.remap(light, x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return prepared(on_ground(np.maximum(sky, 0), None), floor)


# the picture of a sky -----------------------------------------------------------------------------------------------------------------


def sky_picture(backdrop: Backdrop, index: int) -> tuple[np.ndarray, float, float]:
    """Linear light (h, w, 3) float32 of a new sky, the height of its upper edge and how much of the horizon it covers, radians.

    Raises PlateError when its picture cannot be read.
    """
    if backdrop.kind != "picture":
        return skies.made(backdrop.kind), np.pi / 2, 2 * np.pi
    light = _light_of_file(backdrop.picture, index)
    span = float(np.deg2rad(backdrop.width.at(index)[0]))
    return light, span * light.shape[0] / light.shape[1] / 2, span


_read: dict[str, tuple[np.ndarray, np.ndarray]] = {}


def _light_of_file(path: str, index: int) -> np.ndarray:
    codes = picture_frame(path, index)
    kept = _read.get(path)
    if kept is None or kept[0] is not codes:
        light = decode(codes[..., :3].astype(np.float32) / 255, "srgb").astype(np.float32)
        _read.clear()
        kept = _read[path] = (codes, light)
    return kept[1]
