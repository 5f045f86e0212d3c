"""How large a picture says it is, by its header alone: a file of a few hundred bytes can ask for any amount of memory."""

import warnings
from pathlib import Path

from PIL import Image, UnidentifiedImageError

from ..basics.errors import PlateError

MOST_SIDE, MOST_PX = 32_768, 8192 * 8192  # 64 million px are 0.4 GB at 16 bits; the largest cameras have 36 million a frame
Image.MAX_IMAGE_PIXELS = None  # only headers are read by it, and the limit is our own


def check_size(path: Path, width: int, height: int, most_side: int = MOST_SIDE) -> None:
    """Raises PlateError for a picture that is larger than can be worked with."""
    if not (0 < width <= most_side and 0 < height <= most_side and width * height <= MOST_PX):
        raise PlateError(
            f"{path.name} says that it has {width:,} × {height:,} pixels; {most_side:,} a side and {MOST_PX / 1e6:.0f} million in all are the most.",
            "Make it smaller and choose it again.",
        )


def size_in_header(path: Path) -> tuple[int, int]:
    """Width and height of a PNG, JPEG, TIFF or EXR picture, without reading its pixels. Raises PlateError."""
    damaged = PlateError(f"{path.name} cannot be read as a picture.", "It may be damaged; save it again.")
    try:
        if path.suffix.lower() == ".exr":
            import OpenEXR

            with OpenEXR.File(str(path), header_only=True) as file:
                low, high = file.header()["dataWindow"]
                return int(high[0]) - int(low[0]) + 1, int(high[1]) - int(low[1]) + 1
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # on what stands beside the pixels
            with Image.open(path) as picture:
                return picture.size
    except (
        UnidentifiedImageError,
        OSError,
        RuntimeError,
        ValueError,
        TypeError,
        KeyError,
        IndexError,
        SyntaxError,
        EOFError,
        OverflowError,
    ) as error:
        raise damaged from error
