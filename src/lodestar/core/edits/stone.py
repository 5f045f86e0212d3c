"""Surfaces from pictures: of the place itself, as a patch of the plate shows it, or of a file; and maps of how high and how rough they are."""

from pathlib import Path
from typing import Any, Literal, NamedTuple

import msgspec
import numpy as np

from ..basics.colour import decode
from ..basics.geometry import F64
from ..basics.keyed import constant
from ..evaluate.cameras import camera_at
from ..evaluate.lights import light_on, lights_at
from ..evaluate.pointing import Points, surface_under
from ..media.pictures import fine_codes, picture_frame
from ..media.plates import MOVIE_SUFFIXES
from ..media.tiles import BRIGHTNESS, endless, evenly_lit, heights_of_normals, normals_of, packed, packed_map, smaller, straightened
from ..shot.document import Shot
from ..shot.motion import with_things
from ..shot.objects import Solid
from .surfaces import solid_of, without_keyed

SIDE_PX = 150  # of the plate, that a patch is wide about
ROUGH = 0.9  # of stone, plaster and soil (common practice, no source)
RELIEF = 0.01  # of the patch's side: dark joints and grains lie a little deeper
MOST_RELIEF = 0.5  # of its size
LEAST_LIGHT = 0.02


MapKind = Literal["relief", "roughness"]


class Quad(NamedTuple):
    """A square on a surface of the place: its corners (4, 2) px, from the top left clockwise, its side in the scene's units, and its normal (3,)."""

    corners: F64
    side: float
    normal: F64


def quad_under(shot: Shot, frame: int, pixel: F64, points: Points) -> Quad | None:
    """The square about a pixel (2,); None where there is no surface, or the square would leave the picture."""
    plate = shot.plate
    if plate is None or shot.solve is None or frame not in shot.solve.frames:
        return None
    camera = camera_at(shot, frame)
    patch = surface_under(shot, camera, np.asarray(pixel, float), points)
    if patch is None:
        return None
    n = patch.normal if patch.normal @ (camera.centre - patch.centre) > 0 else -patch.normal
    # up along the surface; on level ground away from the eye
    up = np.array([0, 0, 1.0]) if abs(n[2]) < 0.9 else patch.centre - camera.centre
    up = up - (up @ n) * n
    up /= np.linalg.norm(up)
    across = np.cross(up, n)
    depth = float(camera.R[2] @ patch.centre + camera.t[2])
    side = SIDE_PX * depth / camera.lens.fx
    corners = patch.centre + side / 2 * np.array([up - across, up + across, -up + across, -up - across])
    xy, depths = camera.project(corners)
    inside = (xy > -0.5).all() and (xy < np.array([plate.width, plate.height]) - 0.5).all() and (depths > 0).all()
    return Quad(xy, side, n) if inside else None


def with_surface_of_place(shot: Shot, id_: str, light: np.ndarray, frame: int, quad: Quad) -> Shot:
    """The thing made of what a square of the plate shows. light: (h, w, 3) the plate in linear light of Rec.709.

    What the square sends back, over what a white surface there would by the lamps of the shot, is its colour; slow changes of light are taken out,
    and it is made endless. Values that have keys keep them. Raises UserError for a thing without surface.
    """
    item = solid_of(shot, id_)
    white = np.maximum(light_on(lights_at(shot, frame), quad.normal), LEAST_LIGHT)
    tile = endless(evenly_lit(straightened(np.ascontiguousarray(light, np.float32), quad.corners)) / white.astype(np.float32))
    fields = {
        "texture": "picture",
        "texture_picture": packed(tile),
        "texture_movie": "",
        "relief_map": b"",
        "roughness_map": b"",
        "texture_size": constant(round(quad.side, 4)),
        "texture_amount": constant(1.0),
        "relief": constant(RELIEF),
        "roughness": constant(ROUGH),
        "metal": constant(0.0),
        "coat": constant(0.0),
        "clear": constant(0.0),
    }
    return with_things(shot, {id_: msgspec.structs.replace(item, **without_keyed(item, fields))})


def with_picture(shot: Shot, id_: str, path: str) -> Shot:
    """The thing with a picture of a file laid over it, or a movie, of which the first picture is kept in the shot. Raises PlateError where it cannot be
    read, UserError for a thing without surface."""
    item = solid_of(shot, id_)
    codes = smaller(np.ascontiguousarray(picture_frame(path, 0)[..., :3]))
    data = packed(decode(codes / np.float32(255), "srgb"))
    movie = path if Path(path).suffix.lower() in MOVIE_SUFFIXES else ""
    return with_things(shot, {id_: msgspec.structs.replace(item, texture="picture", texture_picture=data, texture_movie=movie)})


def read_map(kind: MapKind, path: str) -> dict[str, Any]:
    """The fields of a surface by a map of a file: how high it is, black to white, or how rough. Of a normal map the heights are worked out, and how high
    they are is its relief. It takes up to a second. Raises PlateError where it cannot be read."""
    codes = smaller(fine_codes(path))
    fields: dict[str, Any] = {"texture": "picture"}
    normals = normals_of(codes) if kind == "relief" else None
    if normals is not None:
        heights = heights_of_normals(normals)
        low, high = float(heights.min()), float(heights.max())
        fields["relief"] = constant(round(min((high - low) / heights.shape[1], MOST_RELIEF), 4))
        fields["relief_map"] = packed_map((heights - low) / max(high - low, 1e-9))
        return fields
    return fields | {f"{kind}_map": packed_map(codes @ BRIGHTNESS)}


def with_map(shot: Shot, id_: str, fields: dict[str, Any]) -> Shot:
    """The thing with a map, as `read_map` gives it. Values that have keys keep them. Raises UserError for a thing without surface."""
    item = solid_of(shot, id_)
    return with_things(shot, {id_: msgspec.structs.replace(item, **without_keyed(item, fields))})


def without_map(shot: Shot, id_: str, kind: MapKind) -> Shot:
    """The thing without that map; where nothing is laid over it then, it has no pattern."""
    item = solid_of(shot, id_)
    bare = msgspec.structs.replace(item, **{f"{kind}_map": b""})
    assert isinstance(bare, Solid)
    if not (bare.texture_picture or bare.relief_map or bare.roughness_map):
        bare = msgspec.structs.replace(bare, texture="none")
    return with_things(shot, {id_: bare})
