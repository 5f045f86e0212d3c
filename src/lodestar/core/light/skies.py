"""Three skies that are made here, as pictures of light: gradients, a sun and clouds."""

import functools
from collections.abc import Sequence

import cv2
import numpy as np

from ..basics.geometry import F64

KINDS = ("clear", "overcast", "dusk")
WIDE, HIGH = 3072, 864  # px: all round, from LOWEST to the zenith
LOWEST_DEG = -11.25  # WIDE px are 360 degrees, HIGH px 101.25
CLOUD_PX = 1024
# light on what faces the sun, of that of the sky on level ground: 100 and some 17 klx on a clear day, and what is left of it at dusk (common
# practice, no source); its picture shows a disc that is much too dark for it
SUN_LIGHT = {"clear": 6.0, "overcast": 0.0, "dusk": 0.8}
SUN_COLOURS = {"clear": (1.0, 0.95, 0.86), "overcast": (1.0, 1.0, 1.0), "dusk": (1.0, 0.42, 0.14)}
HIGH_DEG = 30.0  # up to here over the horizon it is told how bright a sky is: no usual lens shows more of it
LUMINANCE = {"clear": 0.44, "overcast": 0.65, "dusk": 0.13}  # the median of it up to HIGH_DEG, white 1
SUN_HEIGHTS = {"clear": 33.0, "overcast": 40.0, "dusk": 1.0}  # degrees; their sun stands at y


def directions_of(wide: int = WIDE, high: int = HIGH) -> np.ndarray:
    """(high, wide, 3) float32 unit directions of the px of a sky that is made here; the top row is the zenith."""
    azimuth = ((np.arange(wide) + 0.5) / wide - 0.5) * 2 * np.pi
    height = np.deg2rad(90 - (90 - LOWEST_DEG) * (np.arange(high) + 0.5) / high)[:, None]
    across = [np.cos(height) * np.sin(azimuth), np.cos(height) * np.cos(azimuth), np.sin(height) * np.ones_like(azimuth)]
    return np.stack([way.astype(np.float32) for way in across], -1)


@functools.lru_cache(maxsize=2)
def made(kind: str) -> np.ndarray:
    """(HIGH, WIDE, 3) float32 linear light, white 1: one of the skies that are made here. Its sun stands in the middle, at y.

    Invented: gradients from horizon to zenith, a glow round the sun, and clouds of noise whose spectrum falls as that of clouds does
    (about as the -5/3 power; S. Lovejoy, Science 216, 1982), on a level sheet.
    """
    d = directions_of()
    up = np.maximum(d[..., 2], 0)
    zenith, horizon, glow = {
        "clear": ((0.07, 0.17, 0.46), (0.52, 0.63, 0.74), 1.2),
        "overcast": ((0.52, 0.56, 0.60), (0.66, 0.68, 0.70), 0.12),
        "dusk": ((0.030, 0.055, 0.14), (0.30, 0.21, 0.19), 0.75),
    }[kind]
    sun_colour = SUN_COLOURS[kind]
    share = np.exp(-up * {"clear": 3.2, "overcast": 1.5, "dusk": 4.0}[kind])[..., None]
    light = _single(zenith) + (_single(horizon) - _single(zenith)) * share
    h = np.deg2rad(SUN_HEIGHTS[kind])
    # by the chord, since the cosine of a small angle is 1 in single precision
    away = 2 * np.arcsin(np.minimum(np.linalg.norm(d - _single((0, np.cos(h), np.sin(h))), axis=-1, keepdims=True) / 2, 1))
    spread = {"clear": 0.16, "overcast": 0.9, "dusk": 0.35}[kind]
    light = light + _single(glow * np.array(sun_colour)) * np.exp(-away / spread) * (share if kind == "dusk" else 1.0)
    light = light + _clouds(kind, d, light, away)
    if kind == "clear":
        light = light + _single(30.0 * np.array(sun_colour)) * np.clip((0.53 / 2 - np.rad2deg(away)) / 0.06 + 0.5, 0, 1)
    light.flags.writeable = False
    return light


def _single(values: Sequence[float] | F64) -> np.ndarray:
    """In single precision, as the whole picture is: half the time and memory."""
    return np.array(values, np.float32)


def _clouds(kind: str, d: np.ndarray, light: np.ndarray, away: np.ndarray) -> np.ndarray:
    """(h, w, 3) what clouds add to a clear sky's light; away (h, w, 1): radians from the sun."""
    scale, begins, wide, thick = {"clear": (0.16, 0.62, 0.5, 0.75), "overcast": (0.22, 0.0, 1.0, 0.42), "dusk": (0.20, 0.5, 0.6, 0.6)}[kind]
    sheet = _sheet()
    # a level sheet of clouds, bent a little as the air is, so that the horizon is not infinitely far
    flat = d[..., :2] / (np.maximum(d[..., 2:], 0) + 0.09)
    u, v = ((scale * flat + 0.5) * CLOUD_PX).transpose(2, 0, 1).astype(np.float32)
    density = np.clip((cv2.remap(sheet, u, v, cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP) - begins) / wide, 0, 1)[..., None]
    density = density * density * (3 - 2 * density) * np.clip(d[..., 2:] / 0.06, 0, 1)
    # thick parts are grey from below; near the sun edges are bright
    lit = {"clear": (0.80, 0.80, 0.82), "overcast": (0.78, 0.80, 0.82), "dusk": (0.32, 0.17, 0.15)}[kind]
    body = _single(lit) * (1 - {"clear": 0.35, "overcast": 0.55, "dusk": 0.6}[kind] * density) + 0.5 * np.exp(-away / 0.35) * _single(lit)
    return thick * density * (body - light)


@functools.lru_cache(maxsize=1)
def _sheet() -> np.ndarray:
    """(CLOUD_PX, CLOUD_PX) noise in 0..1 that goes on over its edges, evenly spread over its values."""
    across = np.fft.fftfreq(CLOUD_PX)
    size = np.hypot(across, across[:, None])
    size[0, 0] = np.inf
    white = np.random.default_rng(11).normal(size=(CLOUD_PX, CLOUD_PX))
    found = np.fft.ifft2(np.fft.fft2(white) * size ** (-(5 / 3 + 1) / 2)).real
    return (np.argsort(np.argsort(found, axis=None)).reshape(found.shape) / found.size).astype(np.float32)
