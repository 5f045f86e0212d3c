"""Single pictures, as they lie in their files. They are read in a child process; it needs little else, so that it has begun soon."""

import functools
from pathlib import Path

import av
import cv2
import numpy as np

from ..basics.errors import PlateError
from .guard import Reader
from .sizes import MOST_SIDE, check_size, size_in_header

SEQUENCE_SUFFIXES = {".png", ".jpg", ".jpeg", ".tif", ".tiff", ".exr"}
PICTURES = "lodestar.core.media.stills:Pictures"  # what a child process reads them by
PLAIN = "plain"  # form of a picture as it lies in its file


def file_url(path: str | Path) -> str:
    """A file as the decoder is to open it: 'take:1.mp4' alone would be a protocol named 'take'."""
    return f"file:{path}"


def read_picture(path: Path) -> np.ndarray:
    """(h, w, 3) red, green, blue: uint8, uint16, or float32 linear for EXR and Radiance. Raises PlateError."""
    return read_as(path, PLAIN)


def read_as(path: Path, form: str, most_side: int = MOST_SIDE) -> np.ndarray:
    """The same in a form of pixels, as FFmpeg names them. most_side: px, above which it is refused."""
    with Reader(PICTURES) as reader:
        return read_by(reader, path, form, most_side)


def read_by(reader: Reader, path: Path, form: str = PLAIN, most_side: int = MOST_SIDE) -> np.ndarray:
    """The same by a reader of PICTURES that is kept."""
    return reader.ask(path, f"The file {path.name}", "read", path=str(path), form=form, most_side=most_side)["pixels"]


def size_of(path: Path) -> tuple[int, int]:
    """Width and height of a picture, by its head alone; kept while the file stays as it is. Raises PlateError."""
    return _size_of(path, path.stat().st_mtime_ns)


@functools.lru_cache(maxsize=16)
def _size_of(path: Path, changed: int) -> tuple[int, int]:
    with Reader(PICTURES) as reader:
        width, height = reader.ask(path, f"The file {path.name}", "size", path=str(path))["size"]
    return width, height


class Pictures:
    """Reads pictures, in a child process. data: nothing."""

    def __init__(self, data: bytes = b"") -> None:
        pass

    def size(self, path: str) -> dict[str, tuple[int, int]]:
        """size: width and height."""
        return {"size": size_in_header(Path(path))}

    def read(self, path: str, form: str, most_side: int) -> dict[str, np.ndarray]:
        """pixels: as `read_as`."""
        file = Path(path)
        if file.suffix.lower() != ".hdr":
            check_size(file, *size_in_header(file), most_side)
        return {"pixels": _plain(file) if form == PLAIN else _decoded(file, form)}


def _plain(path: Path) -> np.ndarray:
    if path.suffix.lower() == ".hdr":
        return _radiance(path)
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


def _radiance(path: Path) -> np.ndarray:
    try:
        picture = cv2.imdecode(np.fromfile(path, np.uint8), cv2.IMREAD_UNCHANGED)
    except (cv2.error, OSError, MemoryError):
        picture = None
    if picture is None or picture.dtype != np.float32 or picture.ndim != 3:
        raise damaged_radiance(path)
    return np.ascontiguousarray(picture[..., 2::-1])


def damaged_radiance(path: Path) -> PlateError:
    return PlateError(f"{path.name} cannot be read as a Radiance picture.", "It may be damaged; save it again as .hdr or .exr.")


def _decoded(path: Path, form: str) -> np.ndarray:
    try:
        # a % in the name of a single picture is a letter
        with av.open(options={"pattern_type": "none"}, file=file_url(path)) as container:
            return next(container.decode(container.streams.video[0])).to_ndarray(format=form)
    except (av.FFmpegError, StopIteration, IndexError, ValueError, MemoryError, OSError) as error:
        raise PlateError(f"{path.name} cannot be read as a picture.", "It is damaged. Save it again as PNG or JPEG.") from error
