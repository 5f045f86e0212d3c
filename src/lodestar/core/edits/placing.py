"""New objects where they are placed: how they stand on a surface or hang on a wall, and a size that suits the picture.

Heights and depths of what is new are common practice, no source: a title that is a sixth of the picture high fills a fair part of it, and can be read.
"""

from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from ..basics.geometry import F64
from ..basics.keyed import constant
from ..evaluate.ground import uneven_of
from ..media.pictures import picture_size
from ..projection.camera import Camera
from ..scene.surfaces import UP, Patch, heading_towards
from ..shot.document import Shot
from ..shot.objects import Anchor, Card, Logo, Title
from .arrange import new_id

ANCHORED = 40  # tracks that an object remembers
OF_PICTURE = 1 / 6  # a new title's height, of what is seen at its distance across the shorter side of the picture
UPRIGHT = 0.5  # a normal that looks up less than this is a wall's
LEVEL, ON_GROUND = 0.99, 0.03  # a normal that looks up more, so near to the ground for its distance: it stands on the ground
STEEP = 0.9  # cosine between the view and a surface's normal: on what is looked down on so steeply things lie


class Spot(NamedTuple):
    """Where something new is placed: a patch of surface, seen by the camera of a frame; hangs: whether upright patches are walls to hang on."""

    shot: Shot
    camera: Camera
    patch: Patch
    frame: int
    hangs: bool = True

    @property
    def on_wall(self) -> bool:
        return self.hangs and abs(float(self.patch.normal[2])) < UPRIGHT

    @property
    def lies(self) -> bool:
        """Whether it is looked down on so steeply that of what stood there only the top would be seen."""
        normal, towards = self.patch.normal, self.camera.centre - self.patch.centre
        return self.hangs and not self.on_wall and float(normal @ towards) > STEEP * self.distance

    @property
    def distance(self) -> float:
        """From the camera, in the scene's units."""
        return float(np.linalg.norm(self.patch.centre - self.camera.centre))

    @property
    def height(self) -> float:
        """A height that suits the picture, whatever the lens."""
        plate = self.shot.plate
        assert plate is not None
        middle, half = np.array([plate.width, plate.height]) / 2, min(plate.width, plate.height) / 2
        across = np.array([0.0, half] if plate.height <= plate.width else [half, 0.0])
        a, b = self.camera.rays(np.array([middle - across, middle + across]))
        return float(f"{2 * np.tan(np.arccos(np.clip(a @ b, -1, 1)) / 2) * self.distance * OF_PICTURE:.2g}")


def _fields(spot: Spot, depth: float = 0.0) -> dict[str, Any]:
    """Id, place, turn and tracks of what stands upright on a patch, or hangs flat on a wall with its back, `depth` behind its front, on it, or lies flat
    on what is seen from above."""
    patch, shot = spot.patch, spot.shot
    at: F64 = patch.centre
    uneven = uneven_of(shot)
    if not spot.on_wall and uneven is None and abs(patch.normal[2]) > LEVEL and abs(at[2]) < ON_GROUND * spot.distance:
        at = np.array([at[0], at[1], 0.0])
    at = np.round(at, 4)
    if spot.on_wall or spot.lies:
        at = np.round(at + (patch.normal if spot.on_wall else UP) * depth / 2, 4)
    # what lies is read as the picture stands
    towards = -patch.normal if spot.on_wall else -spot.camera.R[1] if spot.lies else patch.centre - spot.camera.centre
    ids = shot.solve.point_ids[patch.rows][:ANCHORED] if shot.solve is not None and len(patch.rows) else []
    return {
        "id": new_id(),
        "position": constant(*at),
        "turn": constant(round(heading_towards(towards), 1), -90.0 if spot.lies else 0, 0),
        "tracks": tuple(int(i) for i in ids),
        "placed": spot.frame if shot.solve is None else None,
    }


def title_at(spot: Spot, text: str = "TITLE") -> Title:
    height = spot.height
    depth = round(height * 0.3, 3)
    return Title(text=text, height=constant(height), depth=constant(depth), bevel=constant(round(height * 0.02, 4)), **_fields(spot, depth))


def logo_at(spot: Spot, svg: str, label: str) -> Logo:
    height = 1.6 * spot.height
    depth = round(height * 0.12, 3)
    return Logo(
        svg=svg,
        lines=True,
        label=label,
        height=constant(height),
        depth=constant(depth),
        bevel=constant(round(height * 0.008, 4)),
        **_fields(spot, depth),
    )


def card_at(spot: Spot) -> Card:
    height = 1.5 * spot.height
    return Card(width=constant(round(height * 1.4, 3)), height=constant(height), **_fields(spot))


def picture_at(spot: Spot, path: str) -> Card:
    """A card with a picture, as wide as it is. Raises PlateError where the picture cannot be read."""
    wide, high = picture_size(path)
    height = 1.5 * spot.height
    width = constant(round(height * wide / high, 4))
    return Card(pattern="picture", picture=path, label=Path(path).stem, width=width, height=constant(height), **_fields(spot))


def check_pattern_at(spot: Spot) -> Card:
    """A grid that lies on the surface, or hangs on a wall round the spot."""
    fields, side, normal = _fields(spot), 2 * spot.height, spot.patch.normal
    turn = (fields["turn"].value[0], 0.0 if abs(normal[2]) < UPRIGHT else -90.0, 0.0)
    at = np.array(fields["position"].value) + 0.002 * side * normal  # a hair over the surface, so that the ground does not cut it
    return Card(
        pattern="grid",
        label="Check pattern",
        width=constant(side),
        height=constant(side),
        roughness=constant(1.0),
        pivot=(0.0, 0.0, side / 2),
        **fields | {"position": constant(*at), "turn": constant(*turn)},
    )


def anchor_at(spot: Spot) -> Anchor:
    return Anchor(**_fields(spot))
