"""Faces to set titles in: the shipped ones and the system's."""

import functools
import os
import struct
from pathlib import Path

from fontTools.ttLib import TTFont, TTLibError

from ..basics.errors import UserError

SHIPPED_FOLDER = Path(__file__).parents[2] / "fonts"
SHIPPED = {"Inter Display Black": "InterDisplay-Black.otf", "Zilla Slab Bold": "ZillaSlab-Bold.ttf"}
# what broken tables make their reader raise: it asserts and unpacks as it goes
FONT_ERRORS = (
    TTLibError,
    OSError,
    KeyError,
    AttributeError,
    AssertionError,
    ValueError,
    IndexError,
    TypeError,
    NotImplementedError,
    MemoryError,
    OverflowError,
    RecursionError,
    struct.error,
    EOFError,
)
_unreadable: list[Path] = []
FOLDERS = ("/usr/share/fonts", "/usr/local/share/fonts", "~/.fonts", "~/.local/share/fonts")


def face_path(face: str) -> Path:
    """The file of a face by its name, or a path to a font file. Raises UserError when there is no such face here."""
    if face in SHIPPED:
        return SHIPPED_FOLDER / SHIPPED[face]
    if face in (system := system_faces()):
        return system[face]
    if os.sep in face and Path(face).exists():
        return Path(face)
    raise UserError(f"The face {face} is not on this machine.", f"Choose another; {next(iter(SHIPPED))} stands in for it.")


@functools.cache
def system_faces() -> dict[str, Path]:
    """Full names of the faces in the system's font folders, and their files."""
    found: dict[str, Path] = {}
    for folder in FOLDERS:
        for path in sorted(Path(folder).expanduser().rglob("*")):
            if path.suffix.lower() in (".ttf", ".otf") and path.is_file():
                name = _full_name(path)
                if name:
                    found.setdefault(name, path)
    return found


def faces_are_known() -> bool:
    """Whether the system's faces were read already; hundreds of fonts take seconds, so the window has it done elsewhere."""
    return system_faces.cache_info().currsize > 0


def _full_name(path: Path) -> str:
    try:
        with open(path, "rb") as file, TTFont(file, lazy=True) as font:
            outlines = "glyf" in font or "CFF " in font or "CFF2" in font
            return (font["name"].getDebugName(4) or "") if outlines else ""
    except FONT_ERRORS:  # a broken font is not offered
        _unreadable.append(path)
        return ""


def all_faces() -> list[str]:
    return [*SHIPPED, *sorted(set(system_faces()) - set(SHIPPED))]


def unreadable_faces() -> list[Path]:
    """Files in the font folders that hold no face that can be read; they are left out."""
    system_faces()
    return list(_unreadable)
