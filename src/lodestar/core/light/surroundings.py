"""Light that comes from all around, as a picture of the full sphere: what it is, and the tables by which a renderer asks it.

Its middle column looks along y, its top row up. In the picture's own axes x is right, y the middle, z up.
"""

from typing import Annotated, Literal, NamedTuple

import cv2
import msgspec
import numpy as np

from ..basics.geometry import F64, turn_matrix
from ..basics.keyed import Keyed, constant
from ..basics.rows import MediaPath, Row
from .lamps import SunLight

KINDS = ("clear", "overcast", "dusk", "soft box", "sky", "picture")
BRIGHTNESS = np.array([0.2126, 0.7152, 0.0722], np.float32)  # ITU-R BT.709
WIDE, HIGH = 1024, 512  # px of what mirrors show
GUIDE_WIDE, GUIDE_HIGH = 128, 64  # cells by whose light directions are chosen
# (14, 3) normals for each of which they are chosen apart, by what it gets of each: sides and corners of a cube
_CORNERS = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) / np.sqrt(3)
NORMALS = np.concatenate([np.eye(3), -np.eye(3), _CORNERS])
# roughness of what each table is blurred for, and its height in px; the last one is the light on a matt surface
BLURS = ((0.0, HIGH), (0.1, 256), (0.2, 128), (0.35, 64), (0.5, 64), (0.7, 64), (1.0, 64))
MATT = len(BLURS)
SUN_CIRCLE_DEG, SUN_SHARE = 4.0, 0.12  # what lies so near the brightest place, with so much of all light, is a sun
SUN_WIDEST_DEG = 8.0
BOUNCE = 0.30  # of its light, that ground of soil and stone sends back up (common practice, no source)


class Surroundings(msgspec.Struct, frozen=True, kw_only=True):
    """kind: one of KINDS; 'sky' is the new sky of the shot, turned as it is; picture: path of a picture of the full sphere, for 'picture'.
    heading, tilt: degrees by which it is turned to the right and raised. strength: what white surfaces that face up and to all sides send
    back of all of it, on average, in the plate's linear light. sun: whether its own sun shines. floor: degrees by which what lies beneath the horizon is blurred."""

    on: bool = False
    kind: Literal["clear", "overcast", "dusk", "soft box", "sky", "picture"] = "overcast"
    picture: Annotated[str, MediaPath] = ""
    sun: bool = True
    heading: Annotated[Keyed, Row("Heading", "°", 0.5, 1, tip="Turns them to the right; or drag them in the picture")] = constant(0.0)
    tilt: Annotated[Keyed, Row("Tilt", "°", 0.2, 1, -90, 90, tip="Raises them")] = constant(0.0)
    strength: Annotated[Keyed, Row("Strength", "", 0.01, 2, 0, 50, tip="Light of all of it on white surfaces, on average")] = constant(1.2)
    floor: Annotated[Keyed, Row("Blurred floor", "°", 0.5, 0, 0, 90, tip="Blurs what lies beneath the horizon, which mirrors would show")] = constant(
        20.0
    )

    name = "Surroundings"


def turn_of(surroundings: Surroundings, frame: float) -> F64:
    """(3, 3) from directions of the scene to those of the picture."""
    return turn_matrix((-surroundings.heading.at(frame)[0], surroundings.tilt.at(frame)[0], 0.0)).T


class Around(NamedTuple):
    """Tables of a picture of the full sphere, linear light. texels (n, 3) float32 and levels (MATT + 1, 3) int64: for each of BLURS, and for
    what is matt, where its px begin, its width and height; a matt one holds what a white surface that faces there sends back. For
    each of NORMALS rows (14, GUIDE_HIGH) and columns (14, GUIDE_HIGH, GUIDE_WIDE): running shares of the light that it gets, of the rows and
    within each; density (14, GUIDE_HIGH, GUIDE_WIDE): of directions so chosen, per steradian. level (3,): what a level white surface sends back; mean
    (3,): those that face up and to all sides, on average. sun: what was taken out as one."""

    texels: np.ndarray
    levels: np.ndarray
    rows: np.ndarray
    columns: np.ndarray
    density: np.ndarray
    level: np.ndarray
    mean: np.ndarray
    sun: SunLight | None


class AroundLight(NamedTuple):
    """Light from all around; turn (3, 3): from directions of the scene to those of the picture; gain: times its light."""

    around: Around
    turn: F64
    gain: float

    @property
    def colour(self) -> F64:
        """(3,) linear, as a level white surface sends it back."""
        return self.gain * self.around.level

    @property
    def floor(self) -> F64:
        """(3,) the light that comes from beneath, as a white surface that faces down sends it back."""
        begin, wide, high = self.around.levels[MATT]
        return self.gain * self.around.texels[begin + wide * (high - 1) : begin + wide * high].mean(0).astype(float)


def light_around(around: Around, surroundings: Surroundings, turn: F64, frame: float) -> list[AroundLight | SunLight]:
    """What surroundings give at a frame: light from all around, and their sun where it shines."""
    sun = around.sun if surroundings.sun else None
    # the mean cosine of a direction to all normals of the upper half is (1 + its height) / 4
    whole = around.mean if sun is None else around.mean + sun.colour * (1 + float(sun.direction[2])) / 4
    gain = surroundings.strength.at(frame)[0] / max(float(whole @ BRIGHTNESS), 1e-9)
    found: list[AroundLight | SunLight] = [AroundLight(around, turn, gain)]
    if sun is not None:
        found.append(SunLight(turn.T @ sun.direction, gain * sun.colour, sun.width_deg, False))
    return found


def directions(high: int) -> F64:
    """(high, 2 high, 3) unit directions of the px of a picture of the full sphere, in its own axes."""
    across = ((np.arange(2 * high) + 0.5) / (2 * high) - 0.5) * 2 * np.pi
    height = (np.pi / 2 - np.pi * (np.arange(high) + 0.5) / high)[:, None]
    return np.stack([np.cos(height) * np.sin(across), np.cos(height) * np.cos(across), np.sin(height) * np.ones_like(across)], -1)


def solid_angles(high: int) -> F64:
    """(high, 1) steradians of a px of each row."""
    edge = np.sin(np.pi / 2 - np.pi * np.arange(high + 1) / high)
    return ((edge[:-1] - edge[1:]) * np.pi / high)[:, None]


def prepared(picture: np.ndarray, floor_deg: float = 0.0, sun: SunLight | None = None) -> Around:
    """Tables of a picture (HIGH, WIDE, 3) float32 of linear light, not below 0. sun: one that is known not to be in it; else it is looked for."""
    light = np.asarray(picture, np.float32)
    if sun is None:
        light, sun = _without_sun(light)
    light = _with_blurred_floor(light, floor_deg)
    tables = [light, *(_small(light, high) if k == 0 else _glossy(light, roughness, high) for k, (roughness, high) in enumerate(BLURS[1:]))]
    matt = _matt(light)
    tables.append(matt)
    levels, begin = [], 0
    for table in tables:
        levels.append((begin, table.shape[1], table.shape[0]))
        begin += table.shape[0] * table.shape[1]
    texels = np.ascontiguousarray(np.concatenate([t.reshape(-1, 3) for t in tables]), np.float32)
    upper = (matt[:32] * solid_angles(64)[:32, :, None]).reshape(-1, 3).sum(0) / (2 * np.pi)
    return Around(texels, np.array(levels, np.int64), *_guide(light), matt[0].mean(0).astype(float), upper.astype(float), sun)


def _small(light: np.ndarray, high: int) -> np.ndarray:
    return np.asarray(cv2.resize(light, (2 * high, high), interpolation=cv2.INTER_AREA), np.float32)


def _without_sun(light: np.ndarray) -> tuple[np.ndarray, SunLight | None]:
    """The picture without its sun, which is filled by what is round it; and that sun. Nothing else is sampled as sharply as a sun is."""
    high = light.shape[0]
    d, each = directions(high), solid_angles(high)
    bright = light @ BRIGHTNESS
    # the brightest place of all, by what a few degrees hold
    smooth = cv2.GaussianBlur(np.minimum(bright, np.float32(1e6)), (0, 0), high / 180)
    y, x = np.unravel_index(int(smooth.argmax()), smooth.shape)
    near = d @ d[y, x] > np.cos(np.deg2rad(SUN_CIRCLE_DEG))
    ring = ~near & (d @ d[y, x] > np.cos(np.deg2rad(2 * SUN_CIRCLE_DEG)))
    if not ring.any():
        return light, None
    around = np.median(light[ring], axis=0)
    over = np.maximum(light - around, 0) * near[..., None] * each[..., None]
    # of a sun that is half over the horizon, or behind a tree, a part is left
    sent = over.reshape(-1, 3).sum(0).astype(float)
    whole = float((bright * each).sum())
    if sent @ BRIGHTNESS < SUN_SHARE * whole or d[y, x, 2] < -0.02:
        return light, None
    weight = over @ BRIGHTNESS
    middle = (d * weight[..., None]).reshape(-1, 3).sum(0)
    middle /= np.linalg.norm(middle)
    away = 2 * np.arcsin(np.clip(np.linalg.norm(d - middle, axis=-1) / 2, 0, 1))
    # an even disc of radius r has a mean square distance of r squared / 2
    radius = float(np.sqrt(2 * (away**2 * weight).sum() / weight.sum()))
    found = np.where(near[..., None], np.minimum(light, around), light).astype(np.float32)
    return found, SunLight(middle, sent / np.pi, min(max(float(np.rad2deg(2 * radius)), 0.53), SUN_WIDEST_DEG))


def _with_blurred_floor(light: np.ndarray, floor_deg: float) -> np.ndarray:
    if floor_deg <= 0:
        return light
    high = light.shape[0]
    half = high // 2
    # what lies over the horizon must not run into the floor
    floor = np.concatenate([light[half:][::-1], light[half:]])
    small = _small(floor, 64)
    wide = np.concatenate([small[:, 64:], small, small[:, :64]], 1)
    sigma = max(floor_deg / 180 * 64, 0.3)
    even = cv2.resize(cv2.GaussianBlur(wide, (0, 0), sigma)[:, 64:-64], (light.shape[1], high), interpolation=cv2.INTER_LINEAR)
    return np.concatenate([light[:half], even[half:]]).astype(np.float32)


def _turned_sum(light: np.ndarray, weights) -> np.ndarray:
    """(h, 2 h, 3) sums of a picture's light times weights(cosines) of the angle to each px, over their sum; a product of spectra along each row,
    since what two rows are to each other depends on how far apart their px are alone."""
    high, wide = light.shape[:2]
    d, each = directions(high), solid_angles(high)
    spectrum = np.fft.rfft(light * each[..., None], axis=1)
    ones = np.fft.rfft(np.ones((high, wide)) * each, axis=1)[:, 0].real
    found, total = np.zeros_like(spectrum), np.zeros(high)
    for row in range(high):
        cosines = np.einsum("k,ijk->ij", d[row, 0], d)  # (rows, px across from the first)
        kernel = np.fft.rfft(weights(cosines), axis=1)
        found[row] = np.einsum("jf,jfc->fc", kernel, spectrum)
        total[row] = kernel[:, 0].real @ ones / wide
    return np.asarray(np.fft.irfft(found, wide, axis=1) / total[:, None, None], np.float32)


def _glossy(light: np.ndarray, roughness: float, high: int) -> np.ndarray:
    """(high, 2 high, 3) the light as a rough mirror sees it that is looked at along its normal.

    Source: B. Karis, Real Shading in Unreal Engine 4, SIGGRAPH course 2013: GGX's lobe by its half vector, weighted by the cosine.
    """
    a2 = max(roughness * roughness, 0.002) ** 2

    def lobe(cosines: np.ndarray) -> np.ndarray:
        c = np.clip(cosines, -1, 1)
        half2 = (1 + c) / 2  # squared cosine of half the angle
        k = half2 * (a2 - 1) + 1
        return np.where(c > 0, a2 / (k * k) * c, 0.0)

    return np.maximum(_turned_sum(_small(light, high), lobe), 0)


def _matt(light: np.ndarray) -> np.ndarray:
    """(64, 128, 3) what a white matt surface sends back that faces each way: the mean light by the cosine (Lambert)."""
    return np.maximum(_turned_sum(_small(light, 64), lambda cosines: np.maximum(cosines, 0)), 0)


def _guide(light: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """rows, columns and density of `Around`. Source: importance sampling of a picture, M. Pharr, W. Jakob, G. Humphreys, Physically Based
    Rendering, 3rd ed., 14.2.4."""
    each = solid_angles(GUIDE_HIGH)
    bright = np.asarray(_small(light, GUIDE_HIGH) @ BRIGHTNESS, float) + 1e-9
    share = bright * each * np.maximum(np.einsum("ijk,nk->nij", directions(GUIDE_HIGH), NORMALS), 0)
    share /= share.sum((1, 2), keepdims=True)
    row = share.sum(2)
    columns = np.cumsum(share / np.maximum(row, 1e-300)[..., None], axis=2)
    columns[..., -1] = 1.0
    rows = np.cumsum(row, axis=1)
    rows[:, -1] = 1.0
    return np.ascontiguousarray(rows), np.ascontiguousarray(columns), np.ascontiguousarray(share / each)


def soft_box() -> np.ndarray:
    """(HIGH, WIDE, 3) a dark room with a broad soft light above on the left, a narrow one on the right and a lit floor."""
    d = directions(HIGH)
    away, up = np.rad2deg(np.arctan2(d[..., 0], d[..., 1])), np.rad2deg(np.arcsin(np.clip(d[..., 2], -1, 1)))
    # lamps stand behind the reader, at 180 degrees, or beside
    panel = lambda bearing, height, wide, high, soft: (
        _step((wide / 2 - np.abs((away - bearing + 180) % 360 - 180)) / soft) * _step((high / 2 - np.abs(up - height)) / soft)
    )
    light = np.full((HIGH, WIDE, 3), 0.10)
    light += 7.0 * panel(-140, 48, 62, 40, 5.0)[..., None] * np.array([1.0, 0.97, 0.92])
    light += 3.2 * panel(105, 30, 14, 66, 4.0)[..., None] * np.array([0.86, 0.93, 1.0])
    light += 0.25 * _step((-up) / 12)[..., None]
    return light.astype(np.float32)


def _step(x: np.ndarray) -> np.ndarray:
    return np.clip(x + 0.5, 0, 1)


def level_light(upper: np.ndarray) -> F64:
    """(3,) what a level white surface sends back of the upper half (HIGH / 2, WIDE, 3) of a picture."""
    heights = np.sin(np.pi / 2 - np.pi * (np.arange(HIGH // 2) + 0.5) / HIGH)[:, None, None]
    return (upper * heights * solid_angles(HIGH)[: HIGH // 2, :, None]).reshape(-1, 3).sum(0).astype(float) / np.pi


def on_ground(sky: np.ndarray, sun: SunLight | None) -> np.ndarray:
    """(HIGH, WIDE, 3) a sky of light (h, w, 3), rows from the zenith to the horizon, with even ground under it, which sends back a part of what
    it gets of sky and sun."""
    upper = np.asarray(cv2.resize(np.asarray(sky, np.float32), (WIDE, HIGH // 2), interpolation=cv2.INTER_AREA), np.float32)
    got = level_light(upper)
    if sun is not None:
        got = got + sun.colour * max(float(sun.direction[2]), 0.0)
    return np.concatenate([upper, np.broadcast_to((BOUNCE * got).astype(np.float32), upper.shape)])
