"""Mattes to be judged: over the plate, alone, their edges, or what they take of the plate over something plain."""

import numpy as np

from ..basics.colour import decode, encode
from ..shot.document import Shot
from .display import for_display
from .frame import frame

VIEWS = ("tint", "matte", "edge", "over grey", "over black", "over white", "over checker")
TINT = np.array([0.95, 0.55, 0.18], np.float32)
TINTED, DIMMED = 0.55, 0.35
CHECK_PX = 24


def matte_view(shot: Shot, index: int, view: str, names: tuple[str, ...] | None = None, scale: float = 1.0) -> np.ndarray:
    """(h, w, 3) uint8, code values of sRGB: the mattes with these ids, or all that are on, as one of VIEWS. Raises PlateError."""
    cover = frame(shot, index, layer="matte", mattes=names, scale=scale).pixels[..., None]
    if view == "matte":
        return np.repeat(np.round(255 * cover).astype(np.uint8), 3, 2)
    plate = frame(shot, index, layer="plate", scale=scale)
    shown = for_display(plate.pixels, plate.colour)
    light = decode(shown.astype(np.float32) / 255, "srgb").astype(np.float32)
    if view == "tint":
        light = light + TINTED * cover * (decode(TINT, "srgb").astype(np.float32) - light)
    elif view == "edge":
        part = 4 * cover * (1 - cover)
        light = DIMMED * light * (1 - part) + part
    else:
        light = light * cover + behind(view.removeprefix("over "), *cover.shape[:2]) * (1 - cover)
    return np.round(255 * np.clip(encode(light, "srgb"), 0, 1)).astype(np.uint8)


def behind(name: str, height: int, width: int) -> np.ndarray:
    """(h, w, 1) linear light of a plain background."""
    if name == "checker":
        y, x = np.mgrid[:height, :width] // CHECK_PX
        return np.where((y + x) % 2, 0.10, 0.35).astype(np.float32)[..., None]
    return np.full((height, width, 1), {"grey": 0.18, "black": 0.0, "white": 1.0}[name], np.float32)
