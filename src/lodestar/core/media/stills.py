"""Single pictures of a sequence, as they lie in their files. It needs little else, so that a child process that tries one has begun soon."""

from pathlib import Path

import cv2
import numpy as np

from ..basics.errors import PlateError
from .sizes import check_size, size_in_header

SEQUENCE_SUFFIXES = {".png", ".jpg", ".jpeg", ".tif", ".tiff", ".exr"}


def file_url(path: str | Path) -> str:
    """A file as the decoder is to open it: 'take:1.mp4' alone would be a protocol named 'take'."""
    return f"file:{path}"


def read_picture(path: Path) -> np.ndarray:
    """(h, w, 3) red, green, blue: uint8, uint16, or float32 linear for EXR."""
    check_size(path, *size_in_header(path))
    if path.suffix.lower() == ".exr":
        import OpenEXR

        try:
            with OpenEXR.File(str(path)) as file:
                channels = file.channels()
                pixels = channels["RGB"].pixels if "RGB" in channels else channels["RGBA"].pixels[..., :3]
                return np.ascontiguousarray(pixels, np.float32)
        except (RuntimeError, KeyError, TypeError, ValueError, MemoryError, IndexError) as error:
            raise PlateError(f"{path.name} cannot be read as an EXR picture.", "It needs channels R, G and B.") from error
    try:
        # from memory: a name may hold what the library's own reader cannot open
        picture = cv2.imdecode(np.fromfile(path, np.uint8), cv2.IMREAD_COLOR | cv2.IMREAD_ANYDEPTH)
    except (cv2.error, OSError, MemoryError):
        picture = None
    if picture is None or picture.dtype not in (np.uint8, np.uint16):
        raise PlateError(f"{path.name} cannot be read as a picture of 8 or 16 bits.", "It may be damaged; save it again.")
    return cv2.cvtColor(picture, cv2.COLOR_BGR2RGB)
