"""Delivering a shot: its frames into a movie or pictures."""

import functools
from fractions import Fraction
from pathlib import Path

import numpy as np

from ..basics.colour import decode, encode
from ..basics.errors import PlateError
from ..basics.job import Job
from ..media.deliveries import open_delivery
from ..picture.frame import frame
from ..picture.workshop import own_workshop
from ..shot.document import Shot


def deliver(shot: Shot, path: str | Path, job: Job, *, quality: str = "final", samples: int | None = None, layer: str = "picture",
            frames: range | None = None, sound: bool = True) -> int:  # fmt: skip
    """Write the range to a movie or to pictures; returns the number of frames. A cancel or an error leaves nothing behind."""
    if shot.plate is None:
        raise PlateError("There is no clip to deliver.", "Open a clip first.")
    info, frames = shot.plate, frames or shot.frames
    rate = Fraction(*info.rate)
    heard = (info.path, float(frames[0] / rate), float((frames[-1] + 1) / rate)) if sound and info.has_sound and layer == "picture" else None
    path = Path(path)
    delivery = open_delivery(path, rate, info.width, info.height, info.transfer, heard)
    linear = path.suffix.lower() == ".exr"
    try:
        with own_workshop():
            for number, index in enumerate(frames):
                job.step(number / len(frames), f"frame {index}")
                share = number / len(frames)
                picture = frame(shot, index, quality, layer=layer, samples=samples, check=functools.partial(job.step, share))
                delivery.add(index, _for_file(picture.pixels, picture.transfer, layer, linear))
        job.step(1.0, "closing the file")
        delivery.finish()
    except BaseException:
        delivery.abandon()
        raise
    return len(frames)


def _for_file(pixels: np.ndarray, transfer: str, layer: str, linear: bool) -> np.ndarray:
    """What a file of this kind holds: EXR linear light; else 8 bit (16 for deep pictures), straight alpha for our layers."""
    if linear:
        if layer != "picture":
            return pixels
        full = {np.dtype(np.uint8): 255.0, np.dtype(np.uint16): 65535.0}.get(pixels.dtype, 1.0)
        return decode(pixels.astype(np.float32) / full, transfer)
    if layer == "layers":
        alpha = pixels[..., 3:]
        straight = np.where(alpha > 1e-4, pixels[..., :3] / np.maximum(alpha, 1e-4), 0)
        return _bytes(np.concatenate([encode(straight, "srgb"), alpha], -1))
    if layer in ("shadow", "matte"):
        grey = _bytes(pixels)
        return grey if grey.ndim == 3 else np.repeat(grey[..., None], 3, -1)
    if pixels.dtype == np.float32:
        return _bytes(encode(pixels, "srgb"))
    return pixels


def _bytes(x: np.ndarray) -> np.ndarray:
    return (np.clip(x, 0, 1) * 255 + 0.5).astype(np.uint8)
