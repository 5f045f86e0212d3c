"""Surfaces of the user's own: taken from a thing, kept in a file with their texture, and given to others like the ready ones."""

from pathlib import Path
from typing import Any

import msgspec

from ..basics.errors import UserError
from ..basics.paths import bytes_of, replacing
from ..evaluate.objects import box_of
from ..shot.document import Shot
from ..shot.objects import SURFACED, TEXTURES, Extruded, Rgb, Solid, Surface
from .surfaces import PICTURES_OF, solid_of

ENDING, VERSION = ".lodesurface", 1
MOST_BYTES, MOST_NAME = 12_000_000, 60
NUMBERS = ("roughness", "metal", "coat", "clear", "glow", "relief")


class Look(msgspec.Struct, frozen=True, kw_only=True):
    """How a surface looks; pattern: size of its pattern in heights of the thing; amount: how much of the second colour shows; turned:
    by which the pattern is, degrees."""

    colour: Rgb
    roughness: float = 0.45
    metal: float = 0.0
    coat: float = 0.0
    clear: float = 0.0
    glow: float = 0.0
    relief: float = 0.02
    texture: str = "none"
    second: Rgb = (0.25, 0.24, 0.22)
    pattern: float = 0.3
    amount: float = 1.0
    turned: float = 0.0


class OwnSurface(msgspec.Struct, frozen=True, kw_only=True):
    """What a file holds: the look of the face, of parts that look otherwise, and the picture and maps that are laid over it, JPEG or PNG."""

    version: int = VERSION
    name: str
    face: Look
    parts: dict[str, Look] = {}
    texture_picture: bytes = b""
    relief_map: bytes = b""
    roughness_map: bytes = b""

    @property
    def made_of(self) -> dict[str, Any]:
        """As the ready ones are told."""
        parts = {part: msgspec.structs.asdict(look) for part, look in self.parts.items()}
        return {**msgspec.structs.asdict(self.face), "parts": parts, **{name: getattr(self, name) for name in PICTURES_OF}}


def own_of(shot: Shot, id_: str, name: str, frame: float) -> OwnSurface:
    """The surface of a thing as it is at a frame. Raises UserError where it has none."""
    item = solid_of(shot, id_)
    assert isinstance(item, Solid)
    low, high = box_of(item, frame)
    height = max(float(high[2] - low[2]), 1e-6)

    def look(of: Solid | Surface) -> Look:
        numbers = {name: round(getattr(of, name).at(frame)[0], 4) for name in NUMBERS}
        size, amount = of.texture_size.at(frame)[0] / height, of.texture_amount.at(frame)[0]
        more = {"pattern": round(size, 5), "amount": round(amount, 4), "turned": round(of.texture_turn.at(frame)[0], 3)}
        return Look(colour=of.colour, texture=of.texture, second=of.second, **more, **numbers)

    parts = {s.part: look(s) for s in item.surfaces if s.on} if isinstance(item, Extruded) else {}
    laid = "picture" in (item.texture, *(p.texture for p in parts.values()))
    pictures = {name: getattr(item, name) for name in PICTURES_OF} if laid else {}
    return OwnSurface(name=name.strip()[:MOST_NAME] or "Surface", face=look(item), parts=parts, **pictures)


def write_own(own: OwnSurface, path: Path) -> None:
    """Raises OutputError where the file cannot be written."""
    with replacing(path) as part:
        part.write_bytes(msgspec.json.format(msgspec.json.encode(own), indent=1))


def read_own(path: Path) -> OwnSurface:
    """Raises UserError where it is no surface that can be used."""
    data = bytes_of(path, MOST_BYTES)
    try:
        own = msgspec.json.decode(data, type=OwnSurface)
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError) as error:
        raise UserError(f"{path.name} holds no surface ({str(error)[:80]}).", f"Choose a file that was kept as a surface ({ENDING}).") from error
    if own.version > VERSION:
        raise UserError(f"{path.name} was kept by a newer Bright Lodestar.", "Update the program to open it.")
    looks = (own.face, *own.parts.values())
    fine = all(look.texture in TEXTURES and 0 < look.pattern < 1e6 for look in looks) and set(own.parts) <= set(SURFACED)
    if not fine or not all(abs(getattr(look, name)) < 1e6 for look in looks for name in (*NUMBERS, "turned")):
        raise UserError(f"{path.name} says something of a surface that there is not.", "It was left as it is; keep the surface anew.")
    return own


def own_files(folder: Path) -> list[Path]:
    """The surfaces that are kept in a folder, by name."""
    return sorted((p for p in folder.glob(f"*{ENDING}") if p.is_file()), key=lambda p: p.stem.casefold())
