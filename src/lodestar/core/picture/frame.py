"""`frame(shot, index, quality)`: the only way in which a picture is made, for viewer, command line, delivery and tests.

plate, with another sky -> things at this time -> lights -> layers (colour, light with, light without) -> mattes -> composite in linear light
      -> finish, entry by entry -> one encode
"""

from collections.abc import Callable
from typing import NamedTuple

import cv2
import numpy as np

from ..basics.colour import LINEAR_PICTURE, SRGB_PICTURE, Colour, in_working
from ..basics.errors import PlateError
from ..evaluate.cameras import lens_at
from ..finish.entries import finished
from ..matte.sources import View, ignored
from ..media.plates import PlateInfo
from ..render.engine import Quality
from ..shot.document import Shot
from ..track.preprocess import prepare
from .behind import has_sky, with_sky
from .clean import clean_codes
from .composite import codes_of, light_of, over_plate
from .edges import without_background
from .filmed import as_filmed
from .ours import Ours, light_pass, matte, matte_named, ours
from .plate import Size, plate_codes
from .workshop import Workshop, workshop

# a draft has fewer px than it is shown with: half as many are followed, and it is smoothed by being enlarged; a sketch, for what is under the hand, a quarter,
# and no more than two cores draw some 30 times a second (measured)
QUALITIES = {
    "sketch": Quality(0.25, 1, detail=0.5, spare=True, most_px=60_000),
    "draft": Quality(0.25, 1, detail=0.66, spare=True),
    "final": Quality(0.048, 64),
    "fine": Quality(0.015, 512),
}
DELIVERED = ("draft", "final", "fine")
OF_LIGHT = ("with", "without", "reflection", "depth")  # what goes into the picture, told apart
PASSES = (
    "picture",
    "layers",
    "shadow",
    "matte",
    "plate",
    "clean",
    "tracker",
    *OF_LIGHT,
)  # tracker: what the tracker is shown; clean: the place without who passes


class Picture(NamedTuple):
    """pixels: (h, w, 3) code values of the plate's kind for 'picture'; float32 (h, w, 4) premultiplied linear light for
    'layers' and 'reflection', (h, w, 3) for 'shadow', 'with' and 'without', (h, w) for 'matte' and 'depth'. colour: how the code values are read."""

    pixels: np.ndarray
    colour: Colour


def frame(
    shot: Shot,
    index: int,
    quality: str = "final",
    *,
    layer: str = "picture",
    scale: float = 1.0,
    samples: int | None = None,
    mattes: tuple[str, ...] | None = None,
    seed: int = 0,
    check: Callable[[], None] = lambda: None,
) -> Picture:
    """Frame `index` of the shot.

    quality: one of QUALITIES; `samples` gives each pixel so many, whatever its error. layer: one of PASSES. scale: under 1 for a
    smaller picture, as a viewer shows it. mattes: ids of those that the pass 'matte' shows, on or off, None for all that are on. seed: another one has other noise.
    check: called meanwhile; may raise to stop.
    Raises PlateError when the clip cannot be read, RenderError without Embree.
    """
    if layer not in PASSES:
        raise ValueError(f"layer must be one of {PASSES}, got {layer!r}")
    if shot.plate is None:
        raise PlateError("This shot has no clip yet.", "Open one with Shot, Open a clip.")
    width, height = round(shot.plate.width * scale), round(shot.plate.height * scale)
    here, size = workshop(), Size(width, height, width / shot.plate.width)
    if layer == "tracker":
        return Picture(_to_size(_tracker_view(shot, here, index), size), SRGB_PICTURE)
    if layer == "plate":
        return Picture(plate_codes(shot, here, index, size), shot.plate.colour)
    if layer == "clean":
        return Picture(clean_codes(shot, here, index, size)[0], shot.plate.colour)
    if layer == "matte":
        cover = matte(shot, here, index, size) if mattes is None else matte_named(shot, here, index, size, mattes)
        return Picture(cover, LINEAR_PICTURE)
    how = _quality(shot, index, quality, samples)._replace(seed=seed)
    if layer in OF_LIGHT:
        return Picture(light_pass(shot, here, index, size, how, layer, check), LINEAR_PICTURE)
    part = ours(shot, here, index, size, how, check)
    if part is not None and how.most > 1:  # a draft is soon made again
        part = as_filmed(shot, index, size, part, check)
    if layer == "layers":
        light = _our_light(part, size)
        light[..., :3] = in_working(light[..., :3], shot.plate.colour.primaries)
        return Picture(light, LINEAR_PICTURE)
    if layer == "shadow":
        return Picture(_our_shade(part, size), LINEAR_PICTURE)
    return Picture(_picture(shot, here, index, size, how, part), shot.plate.colour)


def plate_frame(info: PlateInfo, index: int) -> np.ndarray:
    """(h, w, 3) code values of the clip. Raises PlateError."""
    return workshop().frame(info, index)


def light_frame(info: PlateInfo, index: int) -> np.ndarray:
    """(h, w, 3) the same as linear light of Rec.709. Raises PlateError."""
    return in_working(light_of(plate_frame(info, index), info.transfer), info.colour.primaries)


def _quality(shot: Shot, index: int, name: str, samples: int | None) -> Quality:
    """The quality of that name for a frame: a draft has no motion blur and all of it is sharp, but rows of a rolling shutter lie where they do."""
    quality = QUALITIES[name] if samples is None else Quality(0.0, samples)
    readout = shot.solve.readout if shot.solve is not None else 0.0
    quality = quality._replace(readout=readout)
    if quality.most == 1:
        return quality
    aperture, distance = lens_at(shot, index)
    return quality._replace(shutter=shot.exposure.shutter.at(index)[0], aperture=aperture, focus=distance)


def _picture(shot: Shot, here: Workshop, index: int, size: Size, quality: Quality, part: Ours | None) -> np.ndarray:
    """The composite with the finish done to it, in code values of the plate's kind."""
    info = shot.plate
    assert info is not None
    plate = plate_codes(shot, here, index, size)
    if has_sky(shot):
        behind = (shot.backdrop, shot.mattes, shot.solve, shot.ground, quality.most > 1, quality.shutter)
        plate = here.last("plate and sky", (info, index, size, *behind), lambda: with_sky(shot, here, index, size, quality, plate))
    if not any(entry.on for entry in shot.finish):
        # what is not ours passes untouched, and is not even looked at
        return plate if part is None else _composite(plate, info.transfer, part, size, quality)
    light = light_of(plate, info.transfer)
    if part is not None:
        light = _composite(light, "linear", part, size, quality)
    light = finished(shot.finish, light, index, lambda names: matte(shot, here, index, size, names), size.scale)
    return codes_of(light, info.transfer, plate.dtype)


def _composite(plate: np.ndarray, transfer: str, part: Ours, size: Size, quality: Quality) -> np.ndarray:
    if quality.most > 1:
        plate = without_background(plate, transfer, part.cover, part.front, part.top, part.left, size.scale)
    return over_plate(plate, transfer, part.colour, part.shade, part.before_things, part.before_shadow, part.top, part.left)


def _our_light(part: Ours | None, size: Size) -> np.ndarray:
    """(h, w, 4) our things alone at the size of the picture, without what passes in front of them."""
    result = np.zeros((size.height, size.width, 4), np.float32)
    if part is not None:
        h, w = part.shade.shape[:2]
        result[part.top : part.top + h, part.left : part.left + w] = part.colour * (1 - part.before_things[..., None])
    return result


def _our_shade(part: Ours | None, size: Size) -> np.ndarray:
    """(h, w, 3) factor on the plate's light at the size of the picture."""
    result = np.ones((size.height, size.width, 3), np.float32)
    if part is not None:
        h, w = part.shade.shape[:2]
        result[part.top : part.top + h, part.left : part.left + w] = 1 - (1 - part.shade) * (1 - part.before_shadow[..., None])
    return result


def _to_size(picture: np.ndarray, size: Size) -> np.ndarray:
    return picture if picture.shape[1::-1] == size[:2] else cv2.resize(picture, size[:2], interpolation=cv2.INTER_AREA)


def _tracker_view(shot: Shot, here: Workshop, index: int) -> np.ndarray:
    """(h, w, 3) uint8: prepared as for the tracker; what is hidden from it is dark."""
    assert shot.plate is not None
    seen = prepare(here.plate(shot.plate).luma(index), shot.follow.contrast, shot.follow.blur_px)
    hidden = ignored(shot.regions, View(index, shot.plate.width, shot.plate.height))
    if hidden is not None:
        seen = np.where(hidden, seen // 6, seen)
    return np.repeat(seen[..., None], 3, 2)
