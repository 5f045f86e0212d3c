"""The long steps of a shot, as functions from a shot to a shot: track, solve, deliver. The window and the command line call these."""

import functools
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import msgspec
import numpy as np

from ..basics.errors import PlateError, SolveError
from ..basics.job import Job
from ..media.deliveries import open_delivery
from ..media.plates import open_plate
from ..shot.document import Shot, solving_inputs, tracking_inputs
from ..solve.camera import solve
from ..track.follow import follow
from .frame import frame, ignored_at

BLACK = 20  # code values; a clip that never gets brighter is black


def track_shot(shot: Shot, job: Job, ignore: Callable[[int], np.ndarray | None] | None = None) -> Shot:
    """The shot with new tracks over its range. ignore: masks in place of the shot's own regions."""
    if shot.plate is None:
        raise PlateError("There is no clip to track.", "Open a clip first.")
    info = shot.plate
    brightest = 0
    plate = open_plate(info)

    def luma(index: int) -> np.ndarray:
        nonlocal brightest
        picture = plate.luma(index)
        brightest = max(brightest, int(np.percentile(picture[::8, ::8], 99.5)))
        return picture

    own = ignore or (lambda i: ignored_at(shot.regions, i, info.width, info.height))
    from ..basics.errors import TrackError

    try:
        tracks = follow(luma, shot.frames, shot.follow, own, job)
    except TrackError as error:
        if 0 < brightest <= BLACK:
            raise TrackError("The clip is black from end to end, so there is nothing to follow.", "Look whether it is the right clip.") from error
        raise
    finally:
        plate.close()
    return msgspec.structs.replace(shot, tracks=msgspec.structs.replace(tracks, source=tracking_inputs(shot)))


def solve_shot(shot: Shot, job: Job) -> Shot:
    """The shot with its camera solved from its tracks."""
    if shot.tracks is None or shot.plate is None:
        raise SolveError("There are no tracks to solve from.", "Track the clip first.")
    found = solve(shot.tracks, shot.plate.width, shot.plate.height, shot.solving, job, shot.solve)
    return msgspec.structs.replace(shot, solve=msgspec.structs.replace(found, source=solving_inputs(shot)))


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
    from ..basics.colour import decode, encode

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
