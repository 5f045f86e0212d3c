"""The sky that is put in place of the plate's, infinitely far away: what it is, and three that are made here."""

import functools
from typing import Annotated, Literal

import msgspec
import numpy as np

from ..basics.geometry import F64, turn_matrix
from ..basics.keyed import Keyed, constant
from ..basics.rows import MediaPath, Row

KINDS = ("clear", "overcast", "dusk", "picture")
WIDE, HIGH = 3072, 864  # px of the skies that are made here: all round, from LOWEST to the zenith
LOWEST_DEG = -11.25  # WIDE px are 360 degrees, HIGH px 101.25
CLOUD_PX = 1024
SUN_HEIGHTS = {"clear": 33.0, "overcast": 40.0, "dusk": 1.0}  # degrees, of the skies that are made here; their sun stands at y

Rgb = tuple[float, float, float]


class Backdrop(msgspec.Struct, frozen=True, kw_only=True):
    """mattes: ids of those inside which it is seen, on or off; it is seen nowhere without one. kind: one of KINDS; picture: path of a still, a
    sequence or a movie, for 'picture'. heading, tilt, roll: degrees by which it is turned to the right, up and about the view;
    width: how many degrees of the horizon a picture covers, 360 for a full sphere. drift: degrees a second to the right. exposure: stops.
    haze: how much of it is lost in haze at the horizon, which halves with each `haze_height` degrees; haze_colour: linear light.
    grain: how much of the plate's own grain it has; soft: px of blur."""

    on: bool = False
    mattes: tuple[str, ...] = ()
    kind: Literal["clear", "overcast", "dusk", "picture"] = "clear"
    picture: Annotated[str, MediaPath] = ""
    heading: Annotated[Keyed, Row("Heading", "°", 0.5, 1, tip="Turns it to the right; or drag it in the picture")] = constant(0.0)
    tilt: Annotated[Keyed, Row("Tilt", "°", 0.2, 1, -90, 90, tip="Raises it")] = constant(0.0)
    roll: Annotated[Keyed, Row("Roll", "°", 0.2, 1, tip="Turns it about the middle of its view")] = constant(0.0)
    width: Annotated[Keyed, Row("Covers", "°", 1, 1, 5, 360, tip="How much of the horizon a picture covers; 360 is a full sphere")] = constant(360.0)
    drift: Annotated[Keyed, Row("Drift", "°/s", 0.01, 2, -30, 30, tip="How fast it drifts to the right, as clouds do")] = constant(0.0)
    exposure: Annotated[Keyed, Row("Exposure", "stops", 0.02, 2, -10, 10, tip="A stop more is twice the light")] = constant(0.0)
    haze: Annotated[Keyed, Row("Haze", "%", 0.5, 0, 0, 100, 100, tip="How much of it is lost in haze at the horizon")] = constant(0.0)
    haze_height: Annotated[Keyed, Row("Haze height", "°", 0.1, 1, 0.1, 90, tip="The haze halves with each of these")] = constant(4.0)
    haze_colour: Rgb = (0.55, 0.60, 0.66)
    grain: Annotated[Keyed, Row("Grain", "%", 1, 0, 0, 200, 100, tip="How much of the plate's own grain it has")] = constant(1.0)
    soft: Annotated[Keyed, Row("Softness", "px", 0.05, 2, 0, 30, tip="Blur, to be as soft as the plate")] = constant(0.6)

    name = "New sky"


def turn_of(backdrop: Backdrop, frame: float, seconds: float) -> F64:
    """(3, 3) from directions of the scene to those of the sky, in which y is the middle of the picture and z is up."""
    heading = backdrop.heading.at(frame)[0] + backdrop.drift.at(frame)[0] * seconds
    # to the right is clockwise from above
    return turn_matrix((-heading, backdrop.tilt.at(frame)[0], backdrop.roll.at(frame)[0])).T


def directions_of(wide: int = WIDE, high: int = HIGH) -> F64:
    """(high, wide, 3) unit directions of the px of a sky that is made here; the top row is the zenith."""
    azimuth = ((np.arange(wide) + 0.5) / wide - 0.5) * 2 * np.pi
    height = np.deg2rad(90 - (90 - LOWEST_DEG) * (np.arange(high) + 0.5) / high)[:, None]
    return np.stack([np.cos(height) * np.sin(azimuth), np.cos(height) * np.cos(azimuth), np.sin(height) * np.ones_like(azimuth)], -1)


@functools.lru_cache(maxsize=2)
def made(kind: str) -> np.ndarray:
    """(HIGH, WIDE, 3) float32 linear light, white 1: one of the skies that are made here. Its sun stands in the middle, at y.

    Invented: gradients from horizon to zenith, a glow round the sun, and clouds of noise whose spectrum falls as that of clouds does
    (about as the -5/3 power; S. Lovejoy, Science 216, 1982), on a level sheet.
    """
    d = directions_of()
    up = np.maximum(d[..., 2], 0)
    zenith, horizon, sun_colour, glow = {
        "clear": ((0.07, 0.17, 0.46), (0.52, 0.63, 0.74), (1.0, 0.95, 0.86), 1.2),
        "overcast": ((0.52, 0.56, 0.60), (0.66, 0.68, 0.70), (1.0, 1.0, 1.0), 0.12),
        "dusk": ((0.030, 0.055, 0.14), (0.30, 0.21, 0.19), (1.0, 0.42, 0.14), 0.75),
    }[kind]
    share = np.exp(-up * {"clear": 3.2, "overcast": 1.5, "dusk": 4.0}[kind])[..., None]
    light = np.array(zenith) + (np.array(horizon) - zenith) * share
    h = np.deg2rad(SUN_HEIGHTS[kind])
    near = np.clip(d @ np.array([0, np.cos(h), np.sin(h)]), -1, 1)
    away = np.arccos(near)[..., None]
    spread = {"clear": 0.16, "overcast": 0.9, "dusk": 0.35}[kind]
    light = light + glow * np.array(sun_colour) * np.exp(-away / spread) * (share if kind == "dusk" else 1.0)
    light = light + clouds(kind, d, light, away)
    if kind == "clear":
        light = light + 30.0 * np.array(sun_colour) * np.clip((0.53 / 2 - np.rad2deg(away)) / 0.06 + 0.5, 0, 1)
    light = light.astype(np.float32)
    light.flags.writeable = False
    return light


def clouds(kind: str, d: F64, light: F64, away: F64) -> F64:
    """(h, w, 3) what clouds add to a clear sky's light; away (h, w, 1): radians from the sun."""
    scale, begins, wide, thick = {"clear": (0.16, 0.62, 0.5, 0.75), "overcast": (0.22, 0.0, 1.0, 0.42), "dusk": (0.20, 0.5, 0.6, 0.6)}[kind]
    sheet = _sheet()
    # a level sheet of clouds, bent a little as the air is, so that the horizon is not infinitely far
    flat = d[..., :2] / (np.maximum(d[..., 2:], 0) + 0.09)
    u, v = ((scale * flat + 0.5) * CLOUD_PX).transpose(2, 0, 1)
    density = np.clip((_wrapped(sheet, u, v) - begins) / wide, 0, 1)[..., None]
    density = density * density * (3 - 2 * density) * np.clip(d[..., 2:] / 0.06, 0, 1)
    # thick parts are grey from below; near the sun edges are bright
    lit = {"clear": (0.80, 0.80, 0.82), "overcast": (0.78, 0.80, 0.82), "dusk": (0.32, 0.17, 0.15)}[kind]
    body = np.array(lit) * (1 - {"clear": 0.35, "overcast": 0.55, "dusk": 0.6}[kind] * density) + 0.5 * np.exp(-away / 0.35) * np.array(lit)
    return thick * density * (body - light)


@functools.lru_cache(maxsize=1)
def _sheet() -> F64:
    """(CLOUD_PX, CLOUD_PX) noise in 0..1 that goes on over its edges, evenly spread over its values."""
    across = np.fft.fftfreq(CLOUD_PX)
    size = np.hypot(across, across[:, None])
    size[0, 0] = np.inf
    white = np.random.default_rng(11).normal(size=(CLOUD_PX, CLOUD_PX))
    found = np.fft.ifft2(np.fft.fft2(white) * size ** (-(5 / 3 + 1) / 2)).real
    return np.argsort(np.argsort(found, axis=None)).reshape(found.shape) / found.size


def _wrapped(sheet: F64, u: F64, v: F64) -> F64:
    """Values of a sheet that goes on over its edges, blended between its px."""
    i, j = np.floor(v).astype(int), np.floor(u).astype(int)
    a, b = v - i, u - j
    at = lambda y, x: sheet[y % CLOUD_PX, x % CLOUD_PX]
    return (1 - a) * ((1 - b) * at(i, j) + b * at(i, j + 1)) + a * ((1 - b) * at(i + 1, j) + b * at(i + 1, j + 1))
