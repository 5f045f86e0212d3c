"""Faces to set titles in: the shipped ones, the system's, and those of files."""

import functools
import os
import struct
from pathlib import Path
from typing import NamedTuple

from fontTools.ttLib import TTFont, TTLibError

from ..basics.errors import UserError
from .fontconfig import Found, known_faces

SHIPPED_FOLDER = Path(__file__).parents[2] / "fonts"
SHIPPED = {
    "Inter Display Black": "InterDisplay-Black.otf",
    "Zilla Slab Bold": "ZillaSlab-Bold.ttf",
    "Bebas Neue Bold": "BebasNeue-Bold.otf",
    "Allerta Stencil": "Allerta-Stencil.otf",
    "Kaushan Script": "KaushanScript-Regular.otf",
}
ENDINGS = (".ttf", ".otf", ".ttc", ".otc")  # of files that the shaper reads
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


class Face(NamedTuple):
    """A face as it is set: file, which face of it, and the places of a variable face on its axes, by their tags."""

    path: Path
    number: int = 0
    axes: tuple[tuple[str, float], ...] = ()


_of_shots: dict[str, Face] = {}  # that are kept in shots, by the names that titles have for them


def face_of(name: str, axes: tuple[tuple[str, float], ...] = ()) -> Face:
    """A face by its name, or by the path of a font file ('/path/collection.ttc#1' for the second of a collection). Raises UserError when
    there is no such face here."""
    if name in SHIPPED:
        return Face(SHIPPED_FOLDER / SHIPPED[name], 0, axes)
    if name in _of_shots:
        return _of_shots[name]._replace(axes=axes)
    if os.sep in name:
        path, _, number = name.partition("#")
        if Path(path).is_file():
            return Face(Path(path), int(number) if number.isdigit() else 0, axes)
    elif name in (system := system_faces()):
        return Face(system[name].path, system[name].number, axes)
    raise UserError(f"The face {name} is not on this machine.", f"Choose another; {next(iter(SHIPPED))} stands in for it.")


def register(name: str, face: Face) -> None:
    """A face that a shot keeps can be asked for by this name."""
    _of_shots[name] = face


@functools.cache
def system_faces() -> dict[str, Found]:
    """The faces of this machine by their full names: as fontconfig knows them, or else of the usual folders."""
    found: dict[str, Found] = {}
    for face in known_faces() or _in_folders():
        if face.path.suffix.lower() in ENDINGS:
            found.setdefault(face.name, face)
    return found


def _in_folders() -> list[Found]:
    found = []
    for folder in FOLDERS:
        for path in sorted(Path(folder).expanduser().rglob("*")):
            if path.suffix.lower() in (".ttf", ".otf") and path.is_file() and (name := _full_name(path)):
                found.append(Found(name, name, "", path, 0, 400, 100, False, False, frozenset({"Latin"})))
    return found


@functools.lru_cache(maxsize=128)
def faces_with(characters: str) -> tuple[Face, ...]:
    """Faces that together have as many of these characters as faces here do, each one with the most of those that are left."""
    found: list[Face] = []
    left = characters
    while left:
        faces = next((faces for some in (left, left[0]) if (faces := [f for f in known_faces(some) or [] if f.path.suffix.lower() in ENDINGS])), [])
        if not faces:
            left = left[1:]
            continue
        # of upright ones nearest to a bold weight, which titles mostly have
        best = min(faces, key=lambda f: ("Italic" in f.style or "Oblique" in f.style, f.fixed, abs(f.weight - 700), f.name))
        found.append(Face(best.path, best.number))
        left = "".join(c for c in left if not _has(best, c))
    return tuple(found)


@functools.lru_cache(maxsize=512)
def _has(face: Found, character: str) -> bool:
    return any((f.path, f.number) == (face.path, face.number) for f in known_faces(character) or [])


def faces_are_known() -> bool:
    """Whether the system's faces were read already; hundreds of fonts may take seconds, so the window has it done elsewhere."""
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
    """Files in the font folders that hold no face that can be read; they are left out. Fontconfig leaves them out without a word."""
    system_faces()
    return list(_unreadable)
