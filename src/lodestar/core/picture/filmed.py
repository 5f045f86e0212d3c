"""Our things as the plate was filmed: no sharper than its edges are, and with its grain. Rays know neither lens nor sensor."""

import contextlib
import functools

import cv2
import numpy as np

from ..basics.errors import PlateError
from ..finish.grain import TILE_PX, Grain, grain_tile, measured_grain
from ..finish.softness import softness_px
from ..media.plates import PlateInfo, open_plate
from ..media.tiles import BRIGHTNESS
from ..shot.document import Shot
from .composite import light_of
from .ours import Ours
from .plate import Size

LOOKED_AT = 4  # frames of a clip
OWN_PX = 0.29  # sigma of a px, over which rays are taken evenly
MOST_PX = 3.0  # of blur: what says more was no edge
LEAST_PX = 0.1
COVERED = 1e-3


def as_filmed(shot: Shot, index: int, size: Size, part: Ours) -> Ours:
    """Our things in the picture of a frame, as soft as the plate and with as much grain as the shot asks for. The same bytes for the same shot and frame."""
    share, grainy = shot.exposure.softness.at(index)[0], shot.exposure.grain.at(index)[0]
    if shot.plate is None or (share <= 0 and grainy <= 0):
        return part
    soft, grain = _of_clip(shot.plate)
    colour = part.colour
    if share > 0 and soft is not None:
        colour = _softened(colour, share * float(np.sqrt(max(min(soft, MOST_PX) ** 2 - OWN_PX**2, 0))) * size.scale)
    if grainy > 0 and grain is not None:
        colour = _with_grain(colour, grain, grainy, (part.top, part.left), size.scale, index)
    return part._replace(colour=colour)


def _softened(colour: np.ndarray, sigma: float) -> np.ndarray:
    return np.asarray(cv2.GaussianBlur(colour, (0, 0), sigma, borderType=cv2.BORDER_REPLICATE)) if sigma >= LEAST_PX else colour


def _with_grain(colour: np.ndarray, grain: Grain, share: float, corner: tuple[int, int], scale: float, index: int) -> np.ndarray:
    """The layer (h, w, 4) with grain on what is there of it, as strong as that of a plate that is as bright."""
    tile = grain_tile(grain, (index,))
    if scale < 1:  # in a smaller picture grain is finer, and its mean over a px weaker
        tile = cv2.resize(tile, (max(round(TILE_PX * scale), 1),) * 2, interpolation=cv2.INTER_AREA)
    h, w = colour.shape[:2]
    rows, columns = ((np.arange(n) + at) % tile.shape[0] for n, at in zip((h, w), corner))
    alpha = colour[..., 3:]
    light = np.maximum(colour[..., :3], 0) / np.maximum(alpha, COVERED)
    size = np.sqrt(grain.base.astype(np.float32) + grain.by_light.astype(np.float32) * light)
    out = colour.copy()
    out[..., :3] = np.maximum(out[..., :3] + np.float32(share) * np.where(alpha > COVERED, alpha, 0) * size * tile[rows[:, None], columns], 0)
    return out


@functools.lru_cache(maxsize=4)
def _of_clip(info: PlateInfo) -> tuple[float | None, Grain | None]:
    """Softness in px of a clip's edges, and its grain, by a few frames from all over it; None of what cannot be told. The clip is opened once more for
    it: whoever goes through it frame by frame goes on where it is."""
    pictures = []
    with contextlib.suppress(PlateError):  # told where a frame is asked for itself
        clip = open_plate(info)
        try:
            for k in range(LOOKED_AT):
                pictures.append(light_of(clip.frame(int((k + 0.5) * info.count / LOOKED_AT)), info.transfer))
        finally:
            clip.close()
    return softness_px([picture @ BRIGHTNESS for picture in pictures]), measured_grain(pictures)
