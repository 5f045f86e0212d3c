"""Faces that are opened from files: TrueType, OpenType, collections, WOFF and WOFF2; and those that a shot holds.

Sources: OpenType specification 1.9, table OS/2, fsType (which licences let a face be kept in a document that is edited); W3C, WOFF File Format 2.0.
A file from outside is read in a child process, which gives back plain OpenType.
"""

import atexit
import functools
import hashlib
import io
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import msgspec
import numpy as np
from fontTools.ttLib import TTCollection, TTFont

from ..basics.apart import apart, checked
from ..basics.errors import UserError
from ..basics.paths import bytes_of
from .fonts import Face, register

FACE_FILES = "Faces (*.ttf *.otf *.ttc *.otc *.woff *.woff2)"
ENDINGS = (".ttf", ".otf", ".ttc", ".otc", ".woff", ".woff2")
MOST_FILE, MOST_KEPT = 60_000_000, 6_000_000  # bytes of a file, and of a face that is kept in a shot
INSTALLABLE, EDITABLE, USAGE, BITMAPS = 0, 8, 0x000F, 0x0200  # of fsType


class StoredFace(msgspec.Struct, frozen=True, kw_only=True):
    """A face that is kept in the shot. name: by which titles speak of it; number: which face of a collection; data: OpenType."""

    name: str
    number: int = 0
    data: bytes = b""


class OpenedFace(NamedTuple):
    """A face of a file: its full name, which face of the file it is, whether its licence lets it be kept in a shot, and the file as OpenType."""

    name: str
    number: int
    free: bool
    data: bytes


def opened(path: Path, check: Callable[[], object] = lambda: None) -> tuple[OpenedFace, ...]:
    """The faces of a file. Raises UserError where it cannot be read, or holds no outlines."""
    with checked(check):
        arrays = apart("lodestar.core.shape.face_files:read_apart", bytes_of(path, MOST_FILE), f"The face {path.name}")
    data = arrays["data"].tobytes()
    return tuple(OpenedFace(str(name), number, bool(free), data) for number, (name, free) in enumerate(zip(arrays["names"], arrays["free"])))


def read_apart(data: bytes) -> dict[str, np.ndarray]:
    """`opened`, for a child process."""
    try:
        if data[:4] == b"ttcf":
            fonts = TTCollection(io.BytesIO(data), lazy=True).fonts
        else:
            fonts = [TTFont(io.BytesIO(data), lazy=True)]
        if any("glyf" not in font and "CFF " not in font and "CFF2" not in font for font in fonts):
            raise UserError("It has no outlines, only pictures of letters.", "Choose another face.")
        names = [font["name"].getDebugName(4) or font["name"].getDebugName(1) or "Face" for font in fonts]
        free = [_is_free(font["OS/2"].fsType if "OS/2" in font else INSTALLABLE) for font in fonts]
        if fonts[0].flavor is not None:  # packed for the web
            plain = io.BytesIO()
            fonts[0].flavor = None
            fonts[0].save(plain)
            data = plain.getvalue()
    except UserError:
        raise
    except Exception as error:  # whatever its unpackers raise: this is a child process, which does nothing else
        raise UserError("It cannot be read as a face.", "Choose another file.") from error
    return {"data": np.frombuffer(data, np.uint8), "names": np.array(names, "U120"), "free": np.array(free)}


def _is_free(licence: int) -> bool:
    """Whether a face may be kept in a document that is edited: installable and editable embedding."""
    return licence & USAGE in (INSTALLABLE, EDITABLE) and not licence & BITMAPS


def stored(face: OpenedFace) -> StoredFace | None:
    """The face as a shot keeps it; None where its licence does not let it, or where it is very large. Its name tells it from others of that name."""
    if not face.free or len(face.data) > MOST_KEPT:
        return None
    mark = hashlib.sha1(face.data + bytes([face.number % 256])).hexdigest()[:4]
    return StoredFace(name=f"{face.name.replace('/', ' ')} ({mark})", number=face.number, data=face.data)


def known_here(faces: tuple[StoredFace, ...]) -> None:
    """From now on titles can be set in the faces of a shot. What cannot be written is told where a title asks for it."""
    for face in faces:
        try:
            path = _folder() / f"{hashlib.sha1(face.data).hexdigest()}.otf"
            if not path.exists():
                path.write_bytes(face.data)
        except OSError:
            continue
        register(face.name, Face(path, face.number))


@functools.cache
def _folder() -> Path:
    """Of this process, and gone with it."""
    folder = Path(tempfile.mkdtemp(prefix="lodestar-faces-"))
    atexit.register(shutil.rmtree, folder, True)
    return folder
