"""Our things as the plate was filmed: no sharper than its edges are, and with its grain. Rays know neither lens nor sensor."""

import contextlib
import threading
from collections.abc import Callable

import cv2
import numpy as np

from ..basics.errors import PlateError
from ..finish.grain import TILE_PX, Grain, blocks_of, grain_tile, measured_grain
from ..finish.softness import softness_px
from ..media.plates import PlateInfo, open_plate
from ..media.tiles import BRIGHTNESS
from ..shot.document import Shot
from .composite import light_of
from .edges import box
from .ours import Ours
from .plate import Size

LOOKED_AT, KEPT = 3, 4  # frames of a clip; clips of which it is known
OWN_PX = 0.29  # sigma of a px, over which rays are taken evenly
MOST_PX = 3.0  # of blur: what says more was no edge
LEAST_PX = 0.1
LEAST_SHADE, LEAST_SEEN = 1e-3, 1e-3  # of the plate's light, and of a px: what is less is nothing


def as_filmed(shot: Shot, index: int, size: Size, part: Ours, check: Callable[[], None]) -> Ours:
    """Our things in the picture of a frame, as soft as the plate and with as much grain as the shot asks for. The same bytes for the same shot and frame.
    check: called meanwhile; may raise to stop. Raises PlateError."""
    share, grainy = shot.exposure.softness.at(index)[0], shot.exposure.grain.at(index)[0]
    if shot.plate is None or (share <= 0 and grainy <= 0):
        return part
    soft, grain = _of_clip(shot.plate, check)
    sigma = share * float(np.sqrt(max(min(soft or 0.0, MOST_PX) ** 2 - OWN_PX**2, 0))) * size.scale
    if sigma >= LEAST_PX:
        part = _soft(part, sigma)
    if grainy > 0 and grain is not None and part.colour[..., 3].any():
        x0, y0, x1, y1 = box(part.colour[..., 3], 1)
        colour = part.colour.copy()
        there = colour[y0:y1, x0:x1]
        colour[y0:y1, x0:x1] = _with_grain(there, grain, np.float32(grainy), (part.top + y0, part.left + x0), size.scale, index)
        part = part._replace(colour=colour)
    return part


def _soft(part: Ours, sigma: float) -> Ours:
    """Our things and their shadows, blurred by `sigma` px. Under our things no shadow is known, so that theirs is the mean of what is beside them."""
    blur = lambda a: cv2.GaussianBlur(a, (0, 0), sigma, borderType=cv2.BORDER_REPLICATE)
    margin = int(np.ceil(4 * sigma)) + 1
    colour, cover, shade = part.colour.copy(), part.cover.copy(), part.shade.copy()
    shaded = (np.abs(shade - 1) > LEAST_SHADE).any(-1)
    if shaded.any():
        x0, y0, x1, y1 = box(shaded, margin)
        here = slice(y0, y1), slice(x0, x1)
        seen = np.maximum(1 - colour[here][..., 3:], 0)
        around = blur(seen)[..., None]
        mean = blur(shade[here] * seen) / np.maximum(around, LEAST_SEEN)
        shade[here] = np.where(around > LEAST_SEEN, mean, shade[here])
    if colour[..., 3].any():
        x0, y0, x1, y1 = box(colour[..., 3], margin)
        for layer in (colour, cover):
            layer[y0:y1, x0:x1] = blur(layer[y0:y1, x0:x1])
    return part._replace(colour=colour, cover=cover, shade=shade)


def _with_grain(colour: np.ndarray, grain: Grain, share: np.float32, corner: tuple[int, int], scale: float, index: int) -> np.ndarray:
    """The layer (h, w, 4) with grain on what is there of it, as strong as that of a plate that is as bright."""
    tile = grain_tile(grain, (index,))
    if scale < 1:  # in a smaller picture grain is finer, and its mean over a px weaker
        tile = cv2.resize(tile, (max(round(TILE_PX * scale), 1),) * 2, interpolation=cv2.INTER_AREA)
    (top, left), (h, w), side = corner, colour.shape[:2], tile.shape[0]
    tile = np.roll(tile, (-top, -left), (0, 1))
    whole = np.tile(tile, (-(-h // side), -(-w // side), 1))[:h, :w]
    alpha = np.maximum(colour[..., 3], 0)
    out = colour.copy()
    for c in range(3):  # one by one, as numpy is slow along short axes
        light = np.maximum(colour[..., c], 0)
        # alpha * sqrt(base + by_light * light / alpha), as what is premultiplied has it
        size = np.sqrt(alpha * (np.float32(grain.base[c]) * alpha + np.float32(grain.by_light[c]) * light))
        out[..., c] = np.maximum(colour[..., c] + share * size * whole[..., c], 0)
    return out


_known: dict[PlateInfo, tuple[float | None, Grain | None]] = {}
_writing = threading.Lock()  # pictures are made on several threads


def _of_clip(info: PlateInfo, check: Callable[[], None]) -> tuple[float | None, Grain | None]:
    """Softness in px of a clip's edges, and its grain, by a few frames from all over it; None of what cannot be told. The clip is opened once more for
    it: whoever goes through it frame by frame goes on where it is. Raises PlateError."""
    found = _known.get(info)
    if found is None:
        soft, squares = [], []
        clip = open_plate(info)
        try:
            for k in range(LOOKED_AT):
                check()
                with contextlib.suppress(PlateError):  # of a damaged clip the rest tells
                    light = light_of(clip.frame(k * info.count // LOOKED_AT), info.transfer)
                    soft.append(softness_px(light @ BRIGHTNESS))
                    squares.append(blocks_of(light))
        finally:
            clip.close()
        check()
        # the sharpest of them: others are blurred by their motion
        found = min((px for px in soft if px is not None), default=None), measured_grain(squares)
        with _writing:
            while len(_known) >= KEPT:
                del _known[next(iter(_known))]
            _known[info] = found
    return found
