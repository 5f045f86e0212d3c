"""The objects of a shot. Lengths in metres of the scene (or units, while no distance is known), angles in degrees.

An object's own axes: x right, y away from the reader, z up; a title's base line is z = 0. `pivot` is a point of these axes,
and `position` is where it lies in the scene, or in the parent's own axes.
"""

from typing import ClassVar

import msgspec

from .keyed import Keyed, constant

Colour = tuple[float, float, float]
Vector = tuple[float, float, float]


class Thing(msgspec.Struct, frozen=True, kw_only=True):
    """What every object has. turn: heading, pitch, roll; size: factor. tracks: those that it stands on, by which a new solve
    carries it. span: first and last frame in which it is there, or None for the whole shot. lane: colour of its lane.

    drawn: seen in the picture, and throws a shadow. receives: shadows of drawn things fall on it. hides: what lies behind it
    is not seen, nor is it itself. reflects: share of drawn things that it mirrors. A thing that is not drawn stands in for
    something of the plate.
    """

    LENGTHS: ClassVar[tuple[str, ...]] = ()
    NOUN: ClassVar[str] = "Object"

    id: str
    label: str = ""
    position: Keyed = constant(0.0, 0.0, 0.0)
    turn: Keyed = constant(0.0, 0.0, 0.0)
    size: Keyed = constant(1.0)
    pivot: Vector = (0.0, 0.0, 0.0)
    parent: str = ""
    tracks: tuple[int, ...] = ()
    span: tuple[int, int] | None = None
    visible: bool = True
    locked: bool = False
    lane: Colour = (0.337, 0.357, 0.376)
    drawn: bool = True
    receives: bool = False
    hides: bool = False
    reflects: Keyed = constant(0.0)

    @property
    def name(self) -> str:
        return self.label or self.NOUN


class Solid(Thing, frozen=True, kw_only=True):
    """A thing with a surface. colour: code values 0..1, sRGB."""

    colour: Colour = (0.89, 0.87, 0.82)
    roughness: Keyed = constant(0.45)
    metal: Keyed = constant(0.0)


class Title(Solid, frozen=True, kw_only=True, tag="title"):
    """Solid letters, centred on x = 0. height is that of the capitals."""

    LENGTHS = ("height", "depth", "bevel")
    NOUN = "Title"

    text: str = "OPEN SKY"
    face: str = "Inter Display Black"
    height: Keyed = constant(1.0)
    depth: Keyed = constant(0.3)
    bevel: Keyed = constant(0.02)
    spacing: Keyed = constant(0.0)

    @property
    def name(self) -> str:
        return self.label or " ".join(self.text.split()) or self.NOUN


class Logo(Solid, frozen=True, kw_only=True, tag="logo"):
    """A solid of a drawing. svg: its source, kept in the shot; height: of the whole drawing, which stands on z = 0."""

    LENGTHS = ("height", "depth", "bevel")
    NOUN = "Logo"

    svg: str
    height: Keyed = constant(1.0)
    depth: Keyed = constant(0.1)
    bevel: Keyed = constant(0.01)


class Card(Solid, frozen=True, kw_only=True, tag="card"):
    """A flat card that stands on z = 0, seen from both sides. pattern: 'plain', 'grid' or 'picture'.

    picture: path to a picture, a movie or one picture of a numbered sequence, which plays from the card's first frame on.
    twist: turn about its own z axis, as on a post that leans.
    """

    LENGTHS = ("width", "height")
    NOUN = "Card"

    width: Keyed = constant(1.0)
    height: Keyed = constant(1.0)
    pattern: str = "plain"
    picture: str = ""
    twist: Keyed = constant(0.0)


class Anchor(Thing, frozen=True, kw_only=True, tag="anchor"):
    """A place in the scene that carries others."""

    NOUN = "Anchor"


class Box(Solid, frozen=True, kw_only=True, tag="box"):
    """A box that stands on z = 0, round the z axis. extent: across, away, up."""

    LENGTHS = ("extent",)
    NOUN = "Box"

    extent: Keyed = constant(1.0, 1.0, 1.0)


class Tube(Solid, frozen=True, kw_only=True, tag="tube"):
    """A round post along z from 0 to length."""

    LENGTHS = ("length", "thickness")
    NOUN = "Tube"

    length: Keyed = constant(1.0)
    thickness: Keyed = constant(0.1)


class GroundMesh(Solid, frozen=True, kw_only=True, tag="ground-mesh"):
    """Uneven ground through points: x, y, z of each in own axes, one for each of `tracks`, joined by triangles from above.

    edge: no triangle has a longer side; smooth: rounds in which each point moves towards the mean of its neighbours; fill:
    whether holes inside are closed all the same.
    """

    NOUN = "Ground mesh"

    points: tuple[float, ...] = ()
    edge: Keyed = constant(2.0)
    smooth: int = 0
    fill: bool = True
    LENGTHS = ("edge",)


Object = Title | Logo | Card | Anchor | Box | Tube | GroundMesh


def keyed_parts(item: msgspec.Struct) -> dict[str, Keyed]:
    """The values of an object or outline that can be keyed, by the names of their fields."""
    return {name: value for name in item.__struct_fields__ if isinstance(value := getattr(item, name), Keyed)}


def is_there(item: Thing, frame: float) -> bool:
    return item.visible and (item.span is None or item.span[0] <= frame <= item.span[1])


def ancestors(objects: tuple[Object, ...], item: Thing) -> list[Object]:
    """The parents of an object, nearest first; a ring of parents ends where it would begin anew."""
    by_id = {o.id: o for o in objects}
    found: list[Object] = []
    while item.parent in by_id and by_id[item.parent] not in found and len(found) < len(by_id):
        item = by_id[item.parent]
        found.append(item)
    return found
