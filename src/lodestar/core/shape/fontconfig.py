"""The faces that fontconfig knows, by its C library: names, files, weight, width, and for which characters they have glyphs.

Interface: the fontconfig developers' reference, www.freedesktop.org/software/fontconfig. The library is one of the desktop's own; where
it is missing, `fonts` looks through the usual folders.
"""

import ctypes
import ctypes.util
import functools
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

# a character of each script by which a face is known to have it
SCRIPTS = {
    "Latin": "Ag",
    "Greek": "Ωλ",
    "Cyrillic": "Жд",
    "Arabic": "بع",
    "Hebrew": "שא",
    "Devanagari": "कम",
    "Thai": "กน",
    "Han": "漢字",
    "Kana": "あア",
    "Hangul": "한글",
}
MATCHES, MONO, PROPORTIONAL = 0, 100, 0  # FcResultMatch, FC_MONO, FC_PROPORTIONAL


class Found(NamedTuple):
    """A face: full name, family, style; file and which face of it; weight as OpenType counts (400 is regular), width in percent of normal;
    fixed: all letters equally wide; variable: it has axes; scripts: names of SCRIPTS that it has."""

    name: str
    family: str
    style: str
    path: Path
    number: int
    weight: int
    width: int
    fixed: bool
    variable: bool
    scripts: frozenset[str]


@functools.cache
def _library() -> Any:
    """The library with its functions declared; None where there is none."""
    name = ctypes.util.find_library("fontconfig") or "libfontconfig.so.1"
    try:
        lib = ctypes.CDLL(name)
        P, I, S = ctypes.c_void_p, ctypes.c_int, ctypes.c_char_p
        for function, result, arguments in (
            ("FcInitLoadConfigAndFonts", P, []),
            ("FcPatternCreate", P, []),
            ("FcPatternDestroy", None, [P]),
            ("FcPatternAddBool", I, [P, S, I]),
            ("FcPatternAddCharSet", I, [P, S, P]),
            ("FcPatternGetString", I, [P, S, I, ctypes.POINTER(S)]),
            ("FcPatternGetInteger", I, [P, S, I, ctypes.POINTER(I)]),
            ("FcPatternGetDouble", I, [P, S, I, ctypes.POINTER(ctypes.c_double)]),
            ("FcPatternGetBool", I, [P, S, I, ctypes.POINTER(I)]),
            ("FcPatternGetCharSet", I, [P, S, I, ctypes.POINTER(P)]),
            ("FcCharSetCreate", P, []),
            ("FcCharSetAddChar", I, [P, ctypes.c_uint32]),
            ("FcCharSetHasChar", I, [P, ctypes.c_uint32]),
            ("FcCharSetDestroy", None, [P]),
            ("FcObjectSetCreate", P, []),
            ("FcObjectSetAdd", I, [P, S]),
            ("FcObjectSetDestroy", None, [P]),
            ("FcFontList", P, [P, P, P]),
            ("FcFontSetDestroy", None, [P]),
            ("FcConfigDestroy", None, [P]),
            ("FcWeightToOpenTypeDouble", ctypes.c_double, [ctypes.c_double]),
        ):
            f = getattr(lib, function)
            f.restype, f.argtypes = result, arguments
    except (OSError, AttributeError):
        return None
    return lib


class _FontSet(ctypes.Structure):
    _fields_ = (("count", ctypes.c_int), ("room", ctypes.c_int), ("fonts", ctypes.POINTER(ctypes.c_void_p)))


def known_faces(characters: str = "") -> list[Found] | None:
    """All faces with outlines that have these characters, by name; None where there is no fontconfig.

    The configuration is read anew each time, so that faces which were installed meanwhile are found.
    """
    lib = _library()
    config = lib and lib.FcInitLoadConfigAndFonts()
    if not config:
        return None
    pattern, objects = lib.FcPatternCreate(), lib.FcObjectSetCreate()
    lib.FcPatternAddBool(pattern, b"outline", 1)
    wanted = lib.FcCharSetCreate() if characters else None
    try:
        if wanted:
            for c in characters:
                lib.FcCharSetAddChar(wanted, ord(c))
            lib.FcPatternAddCharSet(pattern, b"charset", wanted)
        for name in (b"fullname", b"family", b"style", b"file", b"index", b"weight", b"width", b"spacing", b"variable", b"charset"):
            lib.FcObjectSetAdd(objects, name)
        listed = lib.FcFontList(config, pattern, objects)
        try:
            here = ctypes.cast(listed, ctypes.POINTER(_FontSet)).contents
            return sorted(_each(lib, [here.fonts[k] for k in range(here.count)]))
        finally:
            lib.FcFontSetDestroy(listed)
    finally:
        if wanted:
            lib.FcCharSetDestroy(wanted)
        lib.FcPatternDestroy(pattern)
        lib.FcObjectSetDestroy(objects)
        lib.FcConfigDestroy(config)


def _each(lib: Any, fonts: list[Any]) -> Iterator[Found]:
    for font in fonts:
        text, number, real, flag = ctypes.c_char_p(), ctypes.c_int(), ctypes.c_double(), ctypes.c_int()
        letters = ctypes.c_void_p()

        def string(name: bytes, font=font, text=text) -> str:
            return (text.value or b"").decode("utf-8", "replace") if lib.FcPatternGetString(font, name, 0, ctypes.byref(text)) == MATCHES else ""

        def value(name: bytes, otherwise: float, font=font, number=number, real=real) -> float:
            if lib.FcPatternGetDouble(font, name, 0, ctypes.byref(real)) == MATCHES:
                return real.value
            return number.value if lib.FcPatternGetInteger(font, name, 0, ctypes.byref(number)) == MATCHES else otherwise

        family, style, path = string(b"family"), string(b"style"), string(b"file")
        index = int(value(b"index", 0))
        if not path or index >= 1 << 16:  # named places on the axes of a variable face; the face itself is listed too
            continue
        if lib.FcPatternGetCharSet(font, b"charset", 0, ctypes.byref(letters)) != MATCHES:
            continue
        has = frozenset(name for name, sample in SCRIPTS.items() if all(lib.FcCharSetHasChar(letters, ord(c)) for c in sample))
        variable = lib.FcPatternGetBool(font, b"variable", 0, ctypes.byref(flag)) == MATCHES and bool(flag.value)
        weight = round(lib.FcWeightToOpenTypeDouble(value(b"weight", 80.0)))
        fixed = value(b"spacing", PROPORTIONAL) >= MONO
        name = string(b"fullname") or f"{family} {style}".strip()
        yield Found(name, family, style, Path(path), index, weight, round(value(b"width", 100.0)), fixed, variable, has)
