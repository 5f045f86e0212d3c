"""Delivering a shot: its frames into a movie or pictures."""

import functools
from fractions import Fraction
from pathlib import Path

import msgspec
import numpy as np

from ..basics.colour import SRGB_PICTURE, Colour, encode, in_working
from ..basics.errors import OutputError, PlateError
from ..basics.job import Job
from ..basics.paths import refuse_sources
from ..media.deliveries import PICTURES, open_delivery, outputs_of
from ..media.plates import PlateInfo, sequence_files
from ..media.stills import SEQUENCE_SUFFIXES
from ..picture.composite import codes_of, light_of
from ..picture.frame import OF_LIGHT, frame
from ..picture.workshop import own_workshop
from ..shot.document import Shot
from ..shot.files import media_of

WHITE_LIGHT, DEEPEST = 4.0, 65.535  # what the highest value of 16 bits stands for, of light and of depth
OF_CODES = ("picture", "clean")  # layers of code values of the clip's own kind


def deliver(
    shot: Shot,
    path: str | Path,
    job: Job,
    *,
    quality: str = "final",
    samples: int | None = None,
    layer: str = "picture",
    frames: range | None = None,
    mattes: tuple[str, ...] | None = None,
    seed: int = 0,
    sound: bool = True,
) -> int:
    """Write the range to a movie or to pictures; returns the number of frames. A cancel or an error leaves nothing behind.

    A movie has the colours and the depth of its clip; its frames are shown when those of the clip are.
    """
    if shot.plate is None:
        raise PlateError("There is no clip to deliver.", "Open a clip first.")
    info, frames = shot.plate, frames or shot.frames
    path = Path(path)
    refuse_sources(outputs_of(path, frames), sources_of(shot))
    linear = path.suffix.lower() == ".exr"
    if layer in OF_LIGHT and path.suffix.lower() not in PICTURES:
        raise OutputError(f"The pass '{layer}' holds light, which a movie cannot.", "Write it as pictures: name.%04d.exr, or .png with 16 bits.")
    with own_workshop() as workshop:
        plate, rate = workshop.plate(info), Fraction(*info.rate)
        start = plate.time_s(frames[0])
        length = len(frames) / rate if not info.rate_varies else plate.time_s(frames[-1]) - start + 1 / rate
        heard = (info.path, start, start + float(length)) if sound and info.has_sound and layer == "picture" else None
        delivery = open_delivery(
            path, rate, info.width, info.height, _colour(info, layer), heard, layer == "depth" or (info.depth > 8 and layer == "picture")
        )
        try:
            for number, index in enumerate(frames):
                share = number / len(frames)
                job.step(share, f"frame {index}")
                picture = frame(
                    shot, index, quality, layer=layer, samples=samples, mattes=mattes, seed=seed, check=functools.partial(job.step, share)
                )
                at = plate.time_s(index) - start if info.rate_varies else None
                planes = plate.planes(index) if layer == "picture" and picture.colour == info.colour else None
                kept = (workshop.frame(info, index), planes) if planes is not None else None
                delivery.add(index, _for_file(picture.pixels, info, layer, linear), at, kept)
            job.step(1.0, "closing the file")
            delivery.finish()
        except BaseException:
            delivery.abandon()
            raise
    return len(frames)


def sources_of(shot: Shot) -> list[Path]:
    """Every file that a shot uses: its clip, all of it, and the media of its objects."""
    paths = [Path(p) for p in media_of(shot)]
    sequences = [one for p in paths if p.suffix.lower() in SEQUENCE_SUFFIXES and p.parent.is_dir() for one in sequence_files(p)]
    return [*paths, *sequences]


def _colour(info: PlateInfo, layer: str) -> Colour:
    """How the pictures that are written are to be read: as the clip's, or as sRGB where it is no picture of code values."""
    if layer in OF_CODES and info.transfer != "linear":
        return info.colour
    return msgspec.structs.replace(SRGB_PICTURE, primaries=info.colour.primaries if layer in OF_CODES else "bt709")


def _for_file(pixels: np.ndarray, info: PlateInfo, layer: str, linear: bool) -> np.ndarray:
    """What a file of this kind holds: EXR linear light in the primaries of Rec.709; else code values, straight alpha for our layers."""
    if linear:
        return pixels if layer not in OF_CODES else in_working(light_of(pixels, info.transfer), info.colour.primaries)
    if layer in ("with", "without"):
        return _words(pixels / WHITE_LIGHT)
    if layer == "depth":
        return _words(pixels / DEEPEST)
    if layer in ("layers", "reflection"):
        alpha = pixels[..., 3:]
        straight = np.where(alpha > 1e-4, pixels[..., :3] / np.maximum(alpha, 1e-4), 0)
        return _bytes(np.concatenate([encode(straight, "srgb"), alpha], -1))
    if layer in ("shadow", "matte"):
        grey = _bytes(pixels)
        return grey if grey.ndim == 3 else np.repeat(grey[..., None], 3, -1)
    if info.transfer == "linear":
        return codes_of(light_of(pixels, "linear"), "srgb", np.dtype(np.uint16 if info.depth > 8 else np.uint8))
    return pixels


def _words(x: np.ndarray) -> np.ndarray:
    grey = (np.clip(x, 0, 1) * 65535 + 0.5).astype(np.uint16)
    return grey if grey.ndim == 3 else np.repeat(grey[..., None], 3, -1)


def _bytes(x: np.ndarray) -> np.ndarray:
    return (np.clip(x, 0, 1) * 255 + 0.5).astype(np.uint8)
