"""Pictures of the full sphere as light: Radiance .hdr, OpenEXR, and usual pictures."""

import functools
from pathlib import Path

import cv2
import numpy as np

from ..basics.colour import decode
from ..basics.errors import PlateError
from .sizes import check_size
from .stills import damaged_radiance, read_picture, size_of

WIDE, HIGH = 1024, 512  # px that are kept: a third of a degree each
MOST_LIGHT = 1e5  # of what one px may have, white 1: the sun itself is some 60,000 times as bright as white in its light
SUFFIXES = (".hdr", ".exr", ".png", ".jpg", ".jpeg", ".tif", ".tiff")
MOST_LINES, MOST_HEAD = 100, 65_536  # lines and bytes of text before the size in a Radiance picture


def check_panorama(path: str) -> None:
    """Raises PlateError where a picture of the full sphere is missing, too large or of another shape: by its head alone, which is quick."""
    file = Path(path)
    if not file.exists():
        raise PlateError(f"{file.name} is not in {file.parent} any more.", "Put it back, or choose the surroundings again.")
    width, height = _radiance_size(file) if file.suffix.lower() == ".hdr" else size_of(file)
    check_size(file, width, height)
    if abs(width - 2 * height) > 0.02 * width:
        raise PlateError(
            f"{file.name} has {width} × {height} pixels. A picture of the full sphere is twice as wide as high.",
            "Choose one in equirectangular form.",
        )


def panorama(path: str) -> np.ndarray:
    """(HIGH, WIDE, 3) float32 linear light, white 1: a picture of the full sphere, twice as wide as high, up at the top.

    What is no number, or below 0, counts as dark; more light than MOST_LIGHT as that. Raises PlateError where it is missing, cannot be
    read, is too large or has another shape.
    """
    check_panorama(path)
    return _read(Path(path), Path(path).stat().st_mtime)


@functools.lru_cache(maxsize=2)
def _read(file: Path, changed: float) -> np.ndarray:
    light = read_picture(file)
    if light.dtype != np.float32:
        light = decode(light.astype(np.float32) / np.iinfo(light.dtype).max, "srgb")
    light = np.clip(np.nan_to_num(light, nan=0.0, posinf=MOST_LIGHT, neginf=0.0), 0, MOST_LIGHT).astype(np.float32)
    # a mean over px loses no light, where a sample would lose the sun
    way = cv2.INTER_AREA if light.shape[1] >= WIDE else cv2.INTER_LINEAR
    light = np.maximum(cv2.resize(light, (WIDE, HIGH), interpolation=way), 0)
    light.flags.writeable = False
    return light


def _radiance_size(file: Path) -> tuple[int, int]:
    """Width and height. Source of the form of the head: G. Ward, Real Pixels, Graphics Gems II, 1991 (from memory)."""
    try:
        with file.open("rb") as opened:
            data = opened.read(MOST_HEAD)
        size = next(line.split() for line in data.split(b"\n")[:MOST_LINES] if line.startswith((b"-Y ", b"+Y ")))
        if data[:2] == b"#?":
            return int(size[3]), int(size[1])
    except (OSError, StopIteration, ValueError, IndexError):
        pass
    raise damaged_radiance(file)
