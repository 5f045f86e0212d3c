"""Ready surfaces: each sets what a surface is made of, which can then be changed like any other."""

from typing import Any

import msgspec

from ..basics.errors import UserError
from ..basics.keyed import Keyed, constant
from ..evaluate.objects import box_of
from ..shot.document import Shot
from ..shot.motion import with_things
from ..shot.objects import Extruded, Object, Solid, Surface
from .arrange import find, new_id

# Numbers are told as their keyed values; 'pattern' is the size of the pattern in heights of the thing, 'parts' what edges, sides and back
# have of their own. Colours of metals are those of their mirrored light straight on, as code values of sRGB (from memory: N. Hoffman's table of
# linear values: gold 1.00 0.77 0.34, copper 0.95 0.64 0.54, steel 0.56 0.57 0.58, aluminium 0.91 0.92 0.92); all else is common practice, no source.
READY: dict[str, dict[str, Any]] = {
    "Painted": {"colour": (0.82, 0.80, 0.75), "roughness": 0.5, "coat": 0.15},
    "Lacquer": {"colour": (0.55, 0.06, 0.07), "roughness": 0.6, "coat": 1.0},
    "Steel, polished": {"colour": (0.77, 0.78, 0.78), "metal": 1.0, "roughness": 0.12},
    "Steel, brushed": {
        "colour": (0.77, 0.78, 0.78),
        "metal": 1.0,
        "roughness": 0.34,
        "texture": "brushed",
        "second": (0.6, 0.61, 0.62),
        "pattern": 1.0,
        "relief": 0.004,
    },
    "Aluminium": {"colour": (0.96, 0.96, 0.97), "metal": 1.0, "roughness": 0.3},
    "Gold": {"colour": (1.0, 0.89, 0.62), "metal": 1.0, "roughness": 0.18},
    "Copper, aged": {
        "colour": (0.26, 0.45, 0.40),
        "metal": 0.2,
        "roughness": 0.7,
        "texture": "worn",
        "second": (0.62, 0.36, 0.22),
        "pattern": 0.6,
        "relief": 0.03,
    },
    "Iron, rusted": {
        "colour": (0.30, 0.29, 0.28),
        "metal": 0.5,
        "roughness": 0.75,
        "texture": "worn",
        "second": (0.43, 0.21, 0.10),
        "pattern": 0.45,
        "relief": 0.05,
    },
    "Concrete": {"colour": (0.62, 0.61, 0.58), "roughness": 1.0, "texture": "stone", "second": (0.50, 0.49, 0.46), "pattern": 0.5, "relief": 0.02},
    "Stone, rough": {
        "colour": (0.64, 0.59, 0.50),
        "roughness": 1.0,
        "texture": "stone",
        "second": (0.42, 0.39, 0.33),
        "pattern": 0.4,
        "relief": 0.06,
    },
    "Brick": {"colour": (0.56, 0.27, 0.19), "roughness": 0.95, "texture": "brick", "second": (0.70, 0.66, 0.60), "pattern": 0.6, "relief": 0.1},
    "Wood": {"colour": (0.62, 0.43, 0.26), "roughness": 0.7, "texture": "wood", "second": (0.32, 0.20, 0.11), "pattern": 0.9, "relief": 0.015},
    "Carbon weave": {
        "colour": (0.05, 0.05, 0.06),
        "roughness": 0.4,
        "coat": 1.0,
        "texture": "weave",
        "second": (0.16, 0.16, 0.18),
        "pattern": 0.3,
        "relief": 0.04,
    },
    "Glass": {"colour": (0.93, 0.97, 0.96), "roughness": 0.05, "clear": 1.0},
    "Glass, frosted": {"colour": (0.90, 0.95, 0.96), "roughness": 0.42, "clear": 0.9},
    "Rubber": {"colour": (0.09, 0.09, 0.10), "roughness": 0.85},
    "Chalk": {"colour": (0.95, 0.95, 0.93), "roughness": 1.0, "texture": "stone", "second": (0.82, 0.82, 0.80), "pattern": 0.15, "relief": 0.01},
    "Neon": {
        "colour": (1.0, 0.42, 0.30),
        "roughness": 0.4,
        "glow": 2.5,
        "parts": {"sides": {"colour": (0.06, 0.06, 0.07)}, "back": {"colour": (0.06, 0.06, 0.07)}},
    },
    "Gilded edge": {
        "colour": (0.10, 0.13, 0.20),
        "roughness": 0.5,
        "parts": {"edges": {"colour": (1.0, 0.89, 0.62), "metal": 1.0, "roughness": 0.2}},
    },
}
PICTURES_OF = ("texture_picture", "relief_map", "roughness_map")
NUMBERS = {"roughness": 0.45, "metal": 0.0, "coat": 0.0, "clear": 0.0, "glow": 0.0, "relief": 0.02}


def _fields(made_of: dict[str, Any], height: float) -> dict[str, Any]:
    """The fields of a surface that is made so, on a thing of that height."""
    found: dict[str, Any] = {name: constant(made_of.get(name, usual)) for name, usual in NUMBERS.items()}
    found["texture"] = made_of.get("texture", "none")
    found["texture_size"] = constant(round(max(made_of.get("pattern", 0.3) * height, 1e-3), 4))
    found["texture_amount"] = constant(made_of.get("amount", 1.0))
    found["texture_turn"] = constant(made_of.get("turned", 0.0))
    found["texture_offset"] = constant(0.0, 0.0)
    return found | {name: made_of[name] for name in ("colour", "second") if name in made_of}


def solid_of(shot: Shot, id_: str) -> Object:
    """The thing with this id. Raises UserError where it has no surface."""
    item = find(shot, id_)
    if not isinstance(item, Solid):
        raise UserError(f"{item.name} has no surface.", "Choose a title, a logo or a solid.")
    return item


def without_keyed(item: Object, fields: dict[str, Any]) -> dict[str, Any]:
    """Those of the fields that an object holds still: values that have keys keep them."""
    return {name: value for name, value in fields.items() if not (isinstance(old := getattr(item, name), Keyed) and old.keys)}


GRADIENTS = {"gradient up": 2, "gradient along": 0}  # along which axis of the box each runs


def with_pattern(shot: Shot, id_: str, texture: str, frame: float) -> Shot:
    """The thing with another pattern; a gradient goes over all of it, from its colour to the second one."""
    item = solid_of(shot, id_)
    fields: dict[str, Any] = {"texture": texture}
    if texture in GRADIENTS:
        low, high = box_of(item, frame)
        axis = GRADIENTS[texture]
        fields["texture_size"] = constant(round(max(float(high[axis] - low[axis]), 1e-3), 4))
    return with_things(shot, {id_: msgspec.structs.replace(item, **without_keyed(item, fields))})


def with_ready(shot: Shot, id_: str, name: str, frame: float) -> Shot:
    """The thing with one of the READY surfaces."""
    return with_made_of(shot, id_, READY[name], frame)


def with_made_of(shot: Shot, id_: str, made_of: dict[str, Any], frame: float) -> Shot:
    """The thing made of something, told as in READY. Values that have keys keep them: only what holds still is set."""
    item = solid_of(shot, id_)
    low, high = box_of(item, frame)
    height = float(high[2] - low[2])
    fields = without_keyed(item, _fields(made_of, height))
    pictures = {name: made_of.get(name, b"") for name in PICTURES_OF}
    if any(pictures.values()):
        fields |= {**pictures, "texture_movie": ""}
    if isinstance(item, Extruded):
        parts = made_of.get("parts", {})
        fields["surfaces"] = tuple(Surface(id=new_id(), part=part, **_fields(own, height)) for part, own in parts.items())
    return with_things(shot, {id_: msgspec.structs.replace(item, **fields)})
